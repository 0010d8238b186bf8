package shaping

import (
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
)

// Differences are what two versions of a file's table differ in.
type Differences struct {
	ColumnsAdded, ColumnsGone []string
	ColumnsRespelt            [][2]string // before and after
	Added, Gone, Altered      int64       // rows; altered ones have the same key
	First                     []RowDifference
}

// RowDifference is one row that differs; nil is for a version that lacks it.
type RowDifference struct {
	Before, After []string
}

// mostDifferences is how many rows are told, mostComparedRows how many a version
// may have.
const (
	mostDifferences  = 50
	mostComparedRows = 1_000_000
)

// CompareHeaders tells which columns two versions of a file differ in.
func CompareHeaders(before, after []string) (d Differences) {
	plain := func(list []string) []string {
		out := make([]string, len(list))
		for i, h := range list {
			out[i] = definition.Plain(h)
		}
		return out
	}
	old, now := plain(before), plain(after)
	for i, h := range after {
		switch at := slices.Index(old, now[i]); {
		case at < 0 && h != "":
			d.ColumnsAdded = append(d.ColumnsAdded, h)
		case at >= 0 && before[at] != h && !slices.Contains(before, h):
			d.ColumnsRespelt = append(d.ColumnsRespelt, [2]string{before[at], h})
		}
	}
	for i, h := range before {
		if h != "" && !slices.Contains(now, old[i]) {
			d.ColumnsGone = append(d.ColumnsGone, h)
		}
	}
	return d
}

type rowSum = [2]uint64

// CompareRows tells which rows two parts of the same columns differ in, whatever
// order they stand in. open returns the parts, as often as it is asked.
func CompareRows(columns []definition.Column, before, after func() (io.ReadCloser, error)) (d Differences, err error) {
	c := &comparison{seeds: rowSeeds, old: map[rowSum]*oldRow{}, newKeys: map[rowSum][]string{}}
	for i, column := range columns {
		if column.Key {
			c.keys = append(c.keys, i)
		}
	}
	if err := c.each(before, c.remember); err != nil {
		return d, err
	}
	if err := c.each(after, c.meet); err != nil {
		return d, err
	}
	// What is left of the old rows is gone, or altered where a new one has its key.
	if err := c.each(before, c.settle); err != nil {
		return d, err
	}
	for _, key := range c.newOrder {
		if row, is := c.newKeys[key]; is {
			c.tell(nil, row)
		}
	}
	d.Added, d.Gone, d.Altered, d.First = c.added-c.altered, c.gone-c.altered, c.altered, c.first
	return d, nil
}

var rowSeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

type oldRow struct{ left int32 }

// isEmpty reports whether a part has no row.
func isEmpty(err error) bool {
	var f finding.Finding
	return errors.As(err, &f) && f.Code == finding.Empty
}

type comparison struct {
	seeds    [2]maphash.Seed
	keys     []int
	old      map[rowSum]*oldRow
	newKeys  map[rowSum][]string // new rows by key, those that nobody met
	newOrder []rowSum
	added    int64
	gone     int64
	altered  int64
	first    []RowDifference
	text     []byte
}

// each calls it with every row of a part.
func (c *comparison) each(open func() (io.ReadCloser, error), it func(cells []reading.Cell)) error {
	part, err := open()
	if err != nil {
		return err
	}
	defer part.Close()
	rows := reading.NewDelimited(part)
	rows.Delimiter = ','
	for n := 0; ; n++ {
		cells, err := rows.Next()
		if err == io.EOF || n == 0 && isEmpty(err) {
			return nil
		}
		if err != nil {
			return err
		}
		if n == mostComparedRows {
			return fmt.Errorf("it has more than %d rows, which are not compared", mostComparedRows)
		}
		it(cells)
	}
}

func (c *comparison) sum(cells []reading.Cell, of []int) rowSum {
	c.text = c.text[:0]
	if of == nil {
		for _, cell := range cells {
			c.text = append(append(c.text, cell.Text...), 0)
		}
	}
	for _, i := range of {
		if i < len(cells) {
			c.text = append(append(c.text, cells[i].Text...), 0)
		}
	}
	return rowSum{maphash.Bytes(c.seeds[0], c.text), maphash.Bytes(c.seeds[1], c.text)}
}

func (c *comparison) remember(cells []reading.Cell) {
	sum := c.sum(cells, nil)
	if c.old[sum] == nil {
		c.old[sum] = &oldRow{}
	}
	c.old[sum].left++
}

func (c *comparison) meet(cells []reading.Cell) {
	sum := c.sum(cells, nil)
	if row := c.old[sum]; row != nil && row.left > 0 {
		row.left--
		return
	}
	c.added++
	key := sum
	if c.keys != nil {
		key = c.sum(cells, c.keys)
	}
	if _, twice := c.newKeys[key]; !twice {
		c.newKeys[key] = texts(cells)
		c.newOrder = append(c.newOrder, key)
	}
}

func (c *comparison) settle(cells []reading.Cell) {
	sum := c.sum(cells, nil)
	row := c.old[sum]
	if row == nil || row.left == 0 {
		return
	}
	row.left--
	c.gone++
	if c.keys != nil {
		key := c.sum(cells, c.keys)
		if after, met := c.newKeys[key]; met {
			delete(c.newKeys, key)
			c.altered++
			c.tell(texts(cells), after)
			return
		}
	}
	c.tell(texts(cells), nil)
}

func (c *comparison) tell(before, after []string) {
	if len(c.first) < mostDifferences {
		c.first = append(c.first, RowDifference{before, after})
	}
}

func texts(cells []reading.Cell) []string {
	list := make([]string, len(cells))
	for i, cell := range cells {
		list[i] = string(cell.Text)
	}
	return list
}
