package reading

import (
	"io"
	"slices"
	"strconv"
	"strings"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
)

// Area is a rectangle of cells, counted from 1. An end of 0 is open.
type Area struct {
	Top, Left, Bottom, Right int64
}

// ParseArea reads an area as workbooks write it: B4:H200, $B$4:$H$200, B:H, 4:200
// or a cell alone.
func ParseArea(text string) (Area, bool) {
	from, to, two := strings.Cut(text, ":")
	if !two {
		to = from
	}
	column, row, ok := parseCell(from)
	column2, row2, ok2 := parseCell(to)
	a := Area{row, column, row2, column2}
	return a, ok && ok2 && (column == 0) == (column2 == 0) && (row == 0) == (row2 == 0) && column <= column2 && row <= row2
}

func parseCell(text string) (column, row int64, ok bool) {
	i := 0
	text = strings.ReplaceAll(text, "$", "")
	for ; i < len(text) && i < 4 && (text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z'); i++ {
		column = column*26 + int64(text[i]|0x20-'a') + 1
	}
	if i < len(text) {
		var err error
		if row, err = strconv.ParseInt(text[i:], 10, 32); err != nil || row < 1 {
			return 0, 0, false
		}
	}
	return column, row, column <= mostColumns && (column > 0 || row > 0)
}

// Named is a table or a range of a workbook that has a name.
type Named struct {
	Name  string
	Sheet string
	Area  Area
}

// FindNamed returns the table or range of a name, whatever its letter case.
func FindNamed(list []Named, name string) (Named, error) {
	names := make([]string, len(list))
	for i, n := range list {
		if strings.EqualFold(n.Name, name) {
			return n, nil
		}
		names[i] = n.Name
	}
	f := finding.New(finding.SheetAbsent, "no table or range is called %q", name)
	if len(names) > 0 {
		f = finding.New(finding.SheetAbsent, "no table or range is called %q; there are %s", name, finding.Samples(names[:min(len(names), 20)]))
	}
	if near := nearest.Find(name, names); near != "" {
		f = finding.New(finding.SheetAbsent, "no table or range is called %q; the nearest is %q", name, near)
	}
	return Named{}, f
}

// refersTo reads what a name stands for, as in 'Fuel 2026'!$A$1:$C$9. Names that
// stand for anything else are passed over.
func refersTo(name, text string) (Named, bool) {
	i := strings.LastIndexByte(text, '!')
	if i < 0 || strings.HasPrefix(name, "_xlnm.") {
		return Named{}, false
	}
	sheet := text[:i]
	if inside, quoted := strings.CutPrefix(sheet, "'"); quoted {
		sheet = strings.ReplaceAll(strings.TrimSuffix(inside, "'"), "''", "'")
	}
	area, ok := ParseArea(text[i+1:])
	return Named{name, sheet, area}, ok
}

// Crop gives only the cells of an area.
func Crop(rows Rows, area Area) Rows { return &cropped{rows, area} }

type cropped struct {
	Rows
	area Area
}

func (c *cropped) Next() ([]Cell, error) {
	for {
		cells, err := c.Rows.Next()
		if err != nil {
			return nil, err
		}
		if row := c.Row(); row < c.area.Top {
			continue
		} else if c.area.Bottom > 0 && row > c.area.Bottom {
			// The rest is read all the same: only so is it known to be sound.
			continue
		}
		if right := int(c.area.Right); right > 0 && len(cells) > right {
			cells = cells[:right]
		}
		return cells[min(len(cells), max(0, int(c.area.Left)-1)):], nil
	}
}

// mostSwapped is how many cells a table may have whose rows and columns are
// swapped: all of them are in memory.
const mostSwapped = 4_000_000

// Swap makes rows of columns. It reads all rows.
func Swap(rows Rows) (Rows, error) {
	s := &swapped{}
	count := 0
	for {
		cells, err := rows.Next()
		if err == io.EOF {
			return s, nil
		}
		if err != nil {
			return nil, err
		}
		if count += len(cells); count > mostSwapped || len(s.columns)+1 > mostColumns {
			return nil, finding.New(finding.BeyondLimit, "rows and columns are to be swapped, and it has more than %d cells, or %d rows", mostSwapped, mostColumns)
		}
		kept := slices.Clone(cells)
		for i := range kept {
			kept[i].Text = slices.Clone(kept[i].Text)
		}
		s.columns = append(s.columns, kept)
		s.height = max(s.height, len(cells))
	}
}

type swapped struct {
	columns [][]Cell
	height  int
	row     int
}

func (s *swapped) Row() int64 { return int64(s.row) }

func (s *swapped) Next() ([]Cell, error) {
	if s.row == s.height {
		return nil, io.EOF
	}
	cells := make([]Cell, len(s.columns))
	for i, column := range s.columns {
		if s.row < len(column) {
			cells[i] = column[s.row]
		}
	}
	s.row++
	return cells, nil
}
