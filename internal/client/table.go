package client

import (
	"encoding/csv"
	"fmt"
	"io"
	"jorvex/internal/core/totals"
	"strings"
	"time"
	"unicode/utf8"
)

// table is what a listing prints: aligned for people, or comma-separated.
type table struct {
	header []string
	right  []bool // columns of numbers
	rows   [][]string
	indent string
}

// columns returns a table with a header; names that begin with > are columns of
// numbers.
func columns(names ...string) *table {
	t := &table{}
	for _, name := range names {
		plain, number := strings.CutPrefix(name, ">")
		t.header = append(t.header, plain)
		t.right = append(t.right, number)
	}
	return t
}

func (t *table) row(cells ...string) { t.rows = append(t.rows, cells) }

func (t *table) print(w io.Writer) {
	rows := t.rows
	if t.header != nil {
		rows = append([][]string{t.header}, rows...)
	}
	widths := []int{}
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, row := range rows {
		line := t.indent
		for i, cell := range row {
			space := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if i > 0 {
				line += "  "
			}
			if i < len(t.right) && t.right[i] {
				line += space + cell
			} else {
				line += cell + space
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

func (t *table) printCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	for i, name := range t.header {
		t.header[i] = strings.ReplaceAll(name, " ", "_")
	}
	_ = out.Write(t.header)
	_ = out.WriteAll(t.rows)
	return out.Error()
}

// show prints a listing the way that was asked for. whole is the document that
// -json prints.
func (c *Call) show(t *table, whole any) error {
	switch {
	case c.json:
		return c.printJSON(whole)
	case c.csv:
		return t.printCSV(c.Stdout)
	}
	t.print(c.Stdout)
	return nil
}

// number groups digits by threes, unless a program reads it.
func (c *Call) number(n int64) string {
	if c.csv {
		return fmt.Sprint(n)
	}
	return totals.Grouped(fmt.Sprint(n))
}

// bytes shows a size in units of 1000, unless a program reads it.
func (c *Call) bytes(n int64) string {
	if c.csv {
		return fmt.Sprint(n)
	}
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	value, unit := float64(n), 0
	for value >= 999.5 && unit < 4 {
		value /= 1000
		unit++
	}
	digits := 1
	if value >= 99.95 {
		digits = 0
	}
	return fmt.Sprintf("%.*f %s", digits, value, []string{"B", "KB", "MB", "GB", "TB"}[unit])
}

// moment shows a time in the local zone, unless a program reads it.
func (c *Call) moment(t time.Time) string {
	switch {
	case t.IsZero() && c.csv:
		return ""
	case t.IsZero():
		return "-"
	case c.csv:
		return t.UTC().Format(time.RFC3339Nano)
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

// word turns a code of the contract into words.
func word(code string) string {
	if code == "" {
		return "-"
	}
	return strings.ReplaceAll(code, "_", " ")
}
