package watch

import (
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/core/calendar"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/pathpattern"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/records"
)

// claim holds a file's name against the kind of its content.
func claim(name string, kind reading.Kind) (finding.Finding, bool) {
	claimed, borneOut := reading.Claim(name, kind)
	if borneOut {
		return finding.Finding{}, false
	}
	code := finding.WrongContent
	if workbook := claimed != reading.Zip && strings.HasSuffix(string(claimed), "workbook"); kind.Table() && claimed.Table() && !(workbook && kind == reading.Zip) {
		code = finding.OtherFormat
	}
	return finding.New(code, "it is %s, and %s says %s", kind, path.Ext(name), claimed), true
}

// notable tells of picked files what no reading of one alone can: what their
// names claim, what other files hold, and what the time is.
type notable struct {
	e       *entering
	checked map[string]records.Known
	own     map[string][]string // digests of earlier versions by path
	now     time.Time
	list    map[int][]finding.Finding // by index in the set
}

func (n *notable) add(i int, f finding.Finding) { n.list[i] = append(n.list[i], f) }

// clockSkew is how far clocks may be apart without a word.
const clockSkew = 5 * time.Minute

func (n *notable) find() map[int][]finding.Finding {
	n.list = map[int][]finding.Finding{}
	first := map[string]int{}
	delimiters, orders := peers{}, peers{}
	orderOf := map[*[]string]string{}
	made := shaping.MadeOfName(n.e.view.Definition)
	for _, i := range n.e.result.Picked {
		f := &n.e.set.files[i]
		check := n.checked[f.Digest]
		if found, is := claim(f.Path, reading.Kind(check.Kind)); is && !check.Broken {
			n.add(i, found)
		}
		if f.Modified > n.now.Add(clockSkew).UnixNano() {
			n.add(i, finding.New(finding.FutureTime, "at %s", time.Unix(0, f.Modified).UTC().Format(time.RFC3339)))
		}
		if made {
			for _, found := range shaping.OfName(n.e.view.Definition, OriginOf(n.e.view.Definition, f.Path, f.Modified, n.e.result.Decisions[i].Captures)) {
				n.add(i, found)
			}
		}
		if before, inBase := n.e.base[f.Path]; inBase && f.Digest != "" && before.Digest != f.Digest && f.Modified < before.Modified-int64(freshFor) {
			n.add(i, finding.New(finding.OlderThanBefore, "it is of %s, the one before of %s",
				time.Unix(0, f.Modified).UTC().Format(time.RFC3339), time.Unix(0, before.Modified).UTC().Format(time.RFC3339)))
		}
		if f.Digest != "" && f.Size > 0 && !f.NoRows {
			if before, again := first[f.Digest]; again {
				n.add(i, finding.New(finding.SameContent, "%s", filename.Show(n.e.set.files[before].Path)))
			} else {
				first[f.Digest] = i
			}
		}
		delimiters.add(check.Delimiter, i)
		if h := check.Headers; h != nil && !check.Broken {
			if _, known := orderOf[h]; !known {
				orderOf[h] = shaping.OrderOf(n.e.view.Definition, *h)
			}
			orders.add(orderOf[h], i)
		}
	}
	delimiters.strangers(func(i int, its, usual string, with, of int) {
		n.add(i, finding.New(finding.OtherDelimiter, "%s, and %d of %d files have %s", delimiterName(its), with, of, delimiterName(usual)))
	})
	orders.strangers(func(i int, its, usual string, with, of int) {
		if sorted(its) == sorted(usual) { // a column that is absent is told by itself
			n.add(i, finding.New(finding.OtherOrder, "%s, and %d of %d files have %s", its, with, of, usual))
		}
	})
	n.amounts()
	return n.list
}

// peers are files by something that most of them should have alike.
type peers map[string][]int

func (p peers) add(what string, file int) {
	if what != "" {
		p[what] = append(p[what], file)
	}
}

// strangers calls each with the files that are not as most are, if most are alike.
func (p peers) strangers(each func(file int, its, usual string, with, of int)) {
	of, usual := 0, ""
	for what, files := range p {
		if of += len(files); len(files) > len(p[usual]) {
			usual = what
		}
	}
	if of < 5 || len(p) == 1 || len(p[usual])*5 < of*4 {
		return
	}
	for its, files := range p {
		for _, file := range files {
			if its != usual {
				each(file, its, usual, len(p[usual]), of)
			}
		}
	}
}

func sorted(list string) string {
	parts := strings.Split(list, ", ")
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

func delimiterName(d string) string {
	if d == "\t" {
		return "tab"
	}
	return fmt.Sprintf("%q", d)
}

// amount is what is compared of a file: rows or bytes, then control totals.
type amount struct {
	index  int
	group  string
	values []float64
}

// mostCompared is how many files are compared each with all others; of more,
// one is not missed among the others.
const mostCompared = 100

// amounts holds the files that are not as the last delivery had them against
// their own earlier versions, or else the others of their group, or else all.
func (n *notable) amounts() {
	def := n.e.view.Definition
	measures := measuresOf(def)
	var all []amount
	groups := map[string][]amount{}
	for _, i := range n.e.result.Picked {
		f := &n.e.set.files[i]
		check, known := n.checked[f.Digest]
		if f.Digest == "" || !known || f.Broken || len(def.Columns) > 0 && check.Rows == 0 {
			continue
		}
		a := amount{i, group(n.e.result.Decisions[i].Captures), values(def, check, f.Size)}
		all = append(all, a)
		groups[a.group] = append(groups[a.group], a)
	}
	if len(all) <= totals.Fewest && len(n.own) == 0 {
		return
	}
	cache := map[string][]totals.Usual{}
	for _, a := range all {
		f := &n.e.set.files[a.index]
		if before, inBase := n.e.base[f.Path]; inBase && before.Digest == f.Digest {
			continue
		}
		var parts []string
		for m := range measures {
			usual, who := n.usual(cache, a, all, groups[a.group], m)
			if who == "" || usual.Holds(a.values[m]) {
				continue
			}
			parts = append(parts, fmt.Sprintf("%s, and %s %s %s to %s (usual is %s to %s)", measures[m].say(a.values[m]), who, have(usual.Files),
				figure(usual.Least), figure(usual.Most), figure(math.Ceil(usual.Low)), figure(math.Floor(usual.High))))
		}
		if len(parts) > 0 {
			n.add(a.index, finding.New(finding.UnusualAmount, "%s", strings.Join(parts, "; ")))
		}
	}
}

func have(n int) string {
	if n == 1 {
		return "has"
	}
	return "have"
}

// usual tells the range that a measure of a file is held against, and whose it
// is.
func (n *notable) usual(cache map[string][]totals.Usual, a amount, all, group []amount, m int) (totals.Usual, string) {
	def := n.e.view.Definition
	f := &n.e.set.files[a.index]
	var own []float64
	for _, digest := range n.own[f.Path] {
		if check, known := n.checked[digest]; known && !check.Broken && digest != f.Digest && len(def.Columns) > 0 {
			own = append(own, values(def, check, 0)[m])
		}
	}
	if u, ok := totals.UsualOf(own); ok {
		return u, fmt.Sprintf("its %d earlier versions", u.Files)
	}
	for _, peers := range []struct {
		of   []amount
		key  string
		name string
	}{{group, a.group, "of " + a.group}, {all, "\x00", "picked"}} {
		if len(peers.of) <= totals.Fewest || peers.key == "" {
			continue
		}
		if len(peers.of) > mostCompared {
			key := fmt.Sprint(peers.key, "\x00", m)
			if cache[key] == nil {
				u, _ := totals.UsualOf(column(peers.of, m, -1))
				cache[key] = []totals.Usual{u}
			}
			u := cache[key][0]
			return u, fmt.Sprintf("the %d files %s", u.Files, peers.name)
		}
		if u, ok := totals.UsualOf(column(peers.of, m, a.index)); ok {
			return u, fmt.Sprintf("the %d other files %s", u.Files, peers.name)
		}
	}
	return totals.Usual{}, ""
}

// column lists one measure of some files, without one of them.
func column(of []amount, m, without int) []float64 {
	list := make([]float64, 0, len(of))
	for _, a := range of {
		if a.index != without {
			list = append(list, a.values[m])
		}
	}
	return list
}

// measure is something that files have more or less of.
type measure struct{ unit, total string }

func (m measure) say(v float64) string {
	if m.total != "" {
		return "total " + m.total + " " + figure(v)
	}
	if v == 1 {
		return "1 " + strings.TrimSuffix(m.unit, "s")
	}
	return figure(v) + " " + m.unit
}

func measuresOf(def *definition.Definition) []measure {
	if len(def.Columns) == 0 {
		return []measure{{unit: "bytes"}}
	}
	list := []measure{{unit: "rows"}}
	for _, c := range def.Columns {
		if c.Total {
			list = append(list, measure{total: c.Name})
		}
	}
	return list
}

func values(def *definition.Definition, check records.Known, size int64) []float64 {
	if len(def.Columns) == 0 {
		return []float64{float64(size)}
	}
	list := []float64{float64(check.Rows)}
	for _, c := range def.Columns {
		if c.Total {
			v, _ := strconv.ParseFloat(check.Totals[c.Name], 64)
			list = append(list, v)
		}
	}
	return list
}

// figure writes a number with as many digits as a look needs.
func figure(v float64) string {
	if math.Abs(v) >= 1000 || v == math.Trunc(v) {
		return strconv.FormatFloat(math.Round(v), 'f', 0, 64)
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// group names the files that a file is one of: those with the same captures but
// for dates.
func group(captures []pathpattern.Capture) string {
	var parts []string
	for _, c := range captures {
		if c.Date.Unit == calendar.NoUnit {
			parts = append(parts, c.Value())
		}
	}
	return strings.Join(parts, ", ")
}

// unchangedLong tells that no picked file is as new as one should be, and when
// it may have to be told.
func unchangedLong(def *definition.Definition, r *selection.Result, files []selection.File, now time.Time) (list []finding.Finding, due time.Time) {
	if def.ChangedWithin.N == 0 || len(r.Picked) == 0 {
		return nil, time.Time{}
	}
	newest := r.Picked[0]
	for _, i := range r.Picked {
		if files[i].Modified > files[newest].Modified {
			newest = i
		}
	}
	modified := time.Unix(0, files[newest].Modified)
	if since := def.ChangedWithin.Before(now); modified.Before(since) {
		return []finding.Finding{finding.New(finding.UnchangedLong, "the newest file, %s, is of %s; something is expected every %s",
			filename.Show(files[newest].Path), modified.In(def.Zone).Format("2 January 2006"), def.ChangedWithin)}, time.Time{}
	}
	return nil, now.Add(modified.Sub(def.ChangedWithin.Before(now))).Add(time.Second)
}
