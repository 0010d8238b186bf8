// Package deliver writes combined tables to where they are wanted. Everything
// is staged beside its target first; what was there before stays whole until
// the refresh has committed.
package deliver

import (
	"bufio"
	"fmt"
	"io"
	"time"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
)

// Source is a file that feeds a delivery.
type Source struct {
	Path     string // from the place's root, raw bytes
	Size     int64
	Modified time.Time
	Digest   string
	Part     string // digest of the rows, if it is known
	Rows     int64
	Entries  []definition.Listed // of a hand-made list
	// Open opens the bytes of the file as they were read.
	Open func() (io.ReadCloser, error)
}

// Combined is a combined table: the shaped parts of its files, one after
// another.
type Combined struct {
	Columns []definition.Column
	// Parts calls each with every part, in roster order, as soon as the part is
	// there. It may be called again, with the same sources. What each does not
	// read is passed over.
	Parts func(each func(s *Source, part io.Reader) error) error
	// Figures returns the watched values and summaries, once Parts is through.
	Figures func() totals.Figures
	// Template opens the analyst's own workbook, of a delivery that has one.
	Template func() (io.ReadCloser, error)
	AsOf     time.Time
	Root     string // directory of the place
}

// WriteTo writes the rows of the table to w, in the form of the parts.
func (c Combined) WriteTo(w io.Writer) (int64, error) {
	var written int64
	buf := make([]byte, 1<<20)
	err := c.Parts(func(_ *Source, part io.Reader) error {
		n, err := io.CopyBuffer(onlyWriter{w}, onlyReader{part}, buf)
		written += n
		return err
	})
	return written, err
}

// rows calls each with the values of every row of a part.
func rows(part io.Reader, each func(cells []reading.Cell) error) error {
	content := bufio.NewReaderSize(part, 64<<10)
	if _, err := content.Peek(1); err == io.EOF {
		return nil // a file without rows
	}
	r := reading.NewDelimited(content)
	r.Delimiter = ','
	for {
		cells, err := r.Next()
		if err == nil {
			err = each(cells)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// sources lists the files that feed the table, once all of their parts are there.
func (c Combined) sources() (list []*Source, err error) {
	err = c.Parts(func(s *Source, _ io.Reader) error {
		list = append(list, s)
		return nil
	})
	return list, err
}

// Plain readers and writers keep io.Copy from taking ways of its own.
type onlyWriter struct{ io.Writer }

type onlyReader struct{ io.Reader }

// Staged is a delivery that lies ready.
type Staged struct {
	Rows   int64 // of a table
	Bytes  int64 // of a file
	Digest string
	// Kept is how many rows a table keeps that is not loaded anew.
	Kept int64
}

// Missing says that a staged delivery does not hold the rows that were read.
type Missing struct {
	Name       string
	Have, Want int64
}

func (e *Missing) Error() string {
	return fmt.Sprintf("the delivery %s came to %d rows, and %d were read; it was not published", e.Name, e.Have, e.Want)
}
