package learning

import (
	"fmt"
	"slices"
	"strings"

	xencoding "golang.org/x/text/encoding"

	"jorvex/internal/core/definition"
)

type encoding = xencoding.Encoding

// concludeLayout chooses what holds for all columns: the marks in numbers, the
// forms of dates, the words.
func (l *learner) concludeLayout() {
	if l.judged != "" {
		l.key("encoding", l.judged)
		l.unsure("the text is not UTF-8; by its letters it is %s", l.judged)
	}
	l.chooseMarks()
	l.chooseForms()
	l.chooseWords()
}

// chooseMarks takes the marks that read most numbers, in the columns of numbers.
func (l *learner) chooseMarks() {
	best, most := 0, -1
	grouped, other := 0, 0
	for i := range allMarks {
		n := 0
		for _, c := range l.columns {
			if c.numeric() {
				n += c.numbers[i].ok
			}
		}
		if n > most {
			best, most = i, n
		}
	}
	for _, c := range l.columns {
		c.marks = allMarks[best]
		if c.numeric() {
			grouped += c.grouped
			other += c.fractions - c.grouped
		}
	}
	m := allMarks[best]
	if m.decimal != "point" {
		l.key("decimal", m.decimal)
	}
	if m.thousands != "" {
		l.key("thousands", m.thousands)
	}
	if grouped > 0 && other == 0 {
		l.unsure("numbers such as 1%s234 may be thousands or fractions; the mark is taken for that of decimals", map[string]string{"point": ".", "comma": ","}[m.decimal])
	}
}

// chooseForms takes, for the columns of dates, the form that reads most values
// that ISO 8601 does not.
func (l *learner) chooseForms() {
	var forms []int
	iso := len(dateForms)
	for _, c := range l.columns {
		if !c.dated() || c.dates[iso].ok == c.filled {
			continue
		}
		best, twins := -1, []int{}
		for i := range dateForms {
			switch {
			case c.dates[i].ok <= c.dates[iso].ok || i == 10 && c.numeric() && c.rising:
			case best < 0 || c.dates[i].ok > c.dates[best].ok:
				best, twins = i, twins[:0]
			case c.dates[i].ok == c.dates[best].ok:
				twins = append(twins, i)
			}
		}
		if best < 0 {
			continue
		}
		for _, twin := range twins {
			if strings.HasPrefix(dateForms[best], "d") && strings.HasPrefix(dateForms[twin], "M") && !strings.Contains(dateForms[best], "MMM") {
				l.unsure("%s: the dates can be read day first or month first; day first is taken (%s)", c.header, dateForms[best])
			}
		}
		if !slices.Contains(forms, best) {
			forms = append(forms, best)
		}
	}
	var written []string
	for _, i := range forms {
		form := dateForms[i]
		if l.padded(i) {
			form = strings.NewReplacer("d.M.", "dd.MM.", "d/M/", "dd/MM/", "M/d/", "MM/dd/", "d-M-", "dd-MM-", "M-d-", "MM-dd-", "yyyy/M/d", "yyyy/MM/dd", "yyyy.M.d", "yyyy.MM.dd").Replace(form)
		}
		written = append(written, quoteForm(form))
	}
	for _, c := range l.columns {
		c.forms = forms
	}
	if len(written) > 0 {
		value := "[" + strings.Join(written, ", ") + "]"
		if len(written) == 1 {
			value = written[0]
		}
		l.key("dates", value)
	}
}

// quoteForm writes a form as YAML; in a list a comma needs quotes.
func quoteForm(form string) string {
	if strings.Contains(form, ",") {
		return quote(form)
	}
	return form
}

// padded reports whether all dates of a form have two digits for day and month.
func (l *learner) padded(form int) bool {
	want := len("dd.MM.yyyy")
	if strings.Contains(dateForms[form], "yy") && !strings.Contains(dateForms[form], "yyyy") {
		want = len("dd.MM.yy")
	}
	for _, c := range l.columns {
		if c.dates[form].ok <= c.dates[len(dateForms)].ok || !c.share(c.dates[form].ok) {
			continue
		}
		for value := range c.distinct {
			day, _, _ := strings.Cut(value, " ")
			if _, ok := c.dates[form].converter.Convert(definition.Date, []byte(day), 0); ok && len(day) != want {
				return false
			}
		}
	}
	return true
}

// chooseWords proposes words for blanks, and for yes and no.
func (l *learner) chooseWords() {
	var nulls, yes, no []string
	for _, c := range l.columns {
		if pair, is := c.pair(); is {
			if pair[0] != "yes" && pair[0] != "true" && pair[0] != "y" && !slices.Contains(yes, quote(pair[0])) {
				yes, no = append(yes, quote(pair[0])), append(no, quote(pair[1]))
			}
			continue
		}
		if c.kind() == definition.Text {
			continue
		}
		for _, word := range c.nulls {
			if !slices.Contains(nulls, quote(word)) {
				nulls = append(nulls, quote(word))
			}
		}
	}
	for _, k := range []struct {
		name  string
		words []string
	}{{"null_words", nulls}, {"yes_words", yes}, {"no_words", no}} {
		if len(k.words) > 0 {
			l.key(k.name, "["+strings.Join(k.words, ", ")+"]")
		}
	}
}

// concludeNames proposes what names columns: rows that are left out, cells that
// are carried down; and what stands below the table.
func (l *learner) concludeNames() {
	name := func(header string) string {
		for _, c := range l.p.Columns {
			if c.Header == header {
				return c.Name
			}
		}
		return ""
	}
	var rules []string
	for at, n := range l.skipped {
		header, word, _ := strings.Cut(at, "\x00")
		if column := name(header); column != "" {
			rules = append(rules, "'"+column+` starts with "`+word+"\"'")
			l.unsure("%d rows whose %s begins with %q are taken for sums, and left out", n, column, word)
		}
	}
	slices.Sort(rules)
	if len(rules) == 1 {
		l.key("leave_out", rules[0])
	} else if len(rules) > 1 {
		l.key("leave_out", "["+strings.Join(rules, ", ")+"]")
	}
	var carried []string
	for _, c := range l.columns {
		if column := name(c.header); column != "" && l.carries(c) {
			carried = append(carried, column)
			l.unsure("%d blank cells of %s are filled with the value above", c.blank, column)
		}
	}
	if len(carried) > 0 {
		l.key("carry_down", "["+strings.Join(carried, ", ")+"]")
	}
	notes := 0
	for i := len(l.lately) - 1; i >= 0 && l.lately[i] == 1 && len(l.columns) > 2; i-- {
		notes++
	}
	if notes > 0 && notes < len(l.lately) {
		l.key("skip_bottom", fmt.Sprint(notes))
		l.unsure("%d rows at the end have a single cell, and are taken for notes", notes)
	}
}
