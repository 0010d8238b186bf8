package reading

import (
	"io"

	"jorvex/internal/core/finding"
)

// source gives records one after the other, each a few values by key.
type source interface {
	begin() error // from the start
	// record calls each with the keys and values of the next record. Text of the
	// cell is valid until each returns. The error is io.EOF at the end.
	record(each func(key string, c Cell) error) error
}

// recordRows makes a table of records: the first row holds the keys of all records
// in the order they first occur, the others hold their values.
type recordRows struct {
	source source
	keys   []string
	index  map[string]int
	cells  []Cell
	room   [][]byte // the text of each cell
	filled []bool
	row    int64 // of the record read last; 0 before the keys
	ended  error
}

const mostKeys = mostColumns

func newRecordRows(s source) (*recordRows, error) {
	r := &recordRows{source: s, index: map[string]int{}}
	err := s.begin()
	for err == nil {
		err = s.record(func(key string, _ Cell) error {
			if _, known := r.index[key]; known {
				return nil
			}
			if len(r.keys) == mostKeys {
				return finding.New(finding.NotATable, "its records have more than %d keys", mostKeys)
			}
			r.index[key] = len(r.keys)
			r.keys = append(r.keys, key)
			return nil
		})
	}
	if err != io.EOF {
		return nil, err
	}
	r.cells, r.room, r.filled = make([]Cell, len(r.keys)), make([][]byte, len(r.keys)), make([]bool, len(r.keys))
	return r, s.begin()
}

// Row implements Rows: the number of the record, the keys being row 1.
func (r *recordRows) Row() int64 { return r.row }

// Next implements Rows. Values of a key that stands in a record more than once are
// joined with "; ".
func (r *recordRows) Next() ([]Cell, error) {
	if r.ended != nil {
		return nil, r.ended
	}
	r.row++
	if r.row == 1 {
		header := make([]Cell, len(r.keys))
		for i, key := range r.keys {
			header[i].Text = []byte(key)
		}
		return header, nil
	}
	clear(r.cells)
	clear(r.filled)
	r.ended = r.source.record(func(key string, c Cell) error {
		i, known := r.index[key]
		if !known {
			return io.ErrUnexpectedEOF // the content changed under our hands
		}
		room := r.room[i][:0]
		if r.filled[i] {
			room = append(r.room[i], "; "...)
		}
		r.room[i] = append(room, c.Text...)
		r.cells[i] = Cell{Text: r.room[i], Kind: c.Kind}
		r.filled[i] = true
		return nil
	})
	return r.cells, r.ended
}
