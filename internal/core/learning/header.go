package learning

import (
	"strings"
	"unicode"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
)

// guess is where a header may stand.
type guess struct {
	row, rows int // of the first rows
	score     float64
}

// mostHeader is how many rows a header is looked for in.
const mostHeader = 3

// findHeader finds the rows that most look like a header: texts, each once, above
// as many columns as the rows below have, which hold something else than text
// where they can.
func findHeader(head []row, first bool) (best guess) {
	if first && len(head) > 0 {
		return guess{0, 1, 1}
	}
	for i := range head {
		if i == 50 {
			break
		}
		for n := 1; n <= mostHeader && i+n <= len(head); n++ {
			if n > 1 && !spans(head[i+n-2].cells, head[i+n-1].cells) {
				break
			}
			if !wordy(head[i+n-1].cells) {
				break
			}
			score := rate(joined(head[i:i+n]), head[i+n:]) - float64(i)*0.05 - float64(n-1)*0.5
			if score > best.score {
				best = guess{i, n, score}
			}
		}
	}
	return best
}

// spans reports whether two rows may be parts of one header: the upper one has a
// cell above several of the lower one's, or the lower one has blanks below it.
func spans(upper, lower []reading.Cell) bool {
	if filled(upper) < 2 && filled(lower) > 2 {
		return false // a title
	}
	blanks := 0
	for i := range max(len(upper), len(lower)) {
		up := i < len(upper) && len(upper[i].Text) > 0
		low := i < len(lower) && len(lower[i].Text) > 0
		if up != low {
			blanks++
		}
	}
	return blanks > 0
}

// wordy reports whether every cell that is not blank is a text that is no value.
func wordy(cells []reading.Cell) bool {
	for _, c := range cells {
		if len(c.Text) > 0 && (c.Kind != reading.Plain || !isWord(string(c.Text))) {
			return false
		}
	}
	return filled(cells) > 0
}

// isWord reports whether a text is more a name than a value: it has letters rather
// than digits, or is a sign.
func isWord(text string) bool {
	letters, digits := 0, 0
	for _, r := range text {
		switch {
		case unicode.IsLetter(r):
			letters++
		case unicode.IsDigit(r):
			digits++
		}
	}
	return letters*2 > digits || digits == 0
}

// rate says how well a header fits the rows below it.
func rate(header []string, below []row) float64 {
	seen := map[string]bool{}
	named, doubled := 0, 0
	for _, h := range header {
		if h == "" {
			continue
		}
		named++
		if plain := definition.Plain(h); seen[plain] {
			doubled++
		} else {
			seen[plain] = true
		}
	}
	if named == 0 || len(below) == 0 {
		return 0
	}
	values, nameless, typed, rows := 0, 0, map[int]bool{}, 0
	for _, r := range below {
		if rows == 30 {
			break
		}
		rows++
		for i, c := range r.cells {
			switch {
			case len(c.Text) == 0:
			case i >= len(header) || header[i] == "":
				nameless++
			default:
				values++
				if c.Kind != reading.Plain || !isWord(string(c.Text)) {
					typed[i] = true
				}
			}
		}
	}
	cover := float64(values) / float64(rows) // columns that have a value, on average
	return cover*2 + float64(len(typed)) - float64(nameless)/float64(rows)*2 - float64(doubled)*3
}

// joined makes one header of several rows, as reading them does.
func joined(rows []row) []string {
	width := 0
	for _, r := range rows {
		width = max(width, len(r.cells))
	}
	header := make([]string, width)
	for i, r := range rows {
		before := ""
		for at := range width {
			text := ""
			if at < len(r.cells) {
				text = string(r.cells[at].Text)
			}
			if i < len(rows)-1 {
				if text == "" {
					text = before
				}
				before = text
			}
			header[at] = strings.TrimSpace(header[at] + " " + text)
		}
	}
	// A blank cell behind the last of the lower row is no column of its own.
	last := rows[len(rows)-1].cells
	for at := len(header) - 1; at >= 0 && len(rows) > 1; at-- {
		if at < len(last) && len(last[at].Text) > 0 || at < len(rows[0].cells) && len(rows[0].cells[at].Text) > 0 {
			return header[:at+1]
		}
	}
	return header
}
