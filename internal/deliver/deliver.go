// Package deliver writes combined tables to where they are wanted. Everything
// is staged beside its target first; what was there before stays whole until
// the refresh has committed.
package deliver

import (
	"fmt"
	"io"

	"jorvex/internal/core/definition"
)

// Combined is a combined table: the shaped parts of its files, one after
// another.
type Combined struct {
	Columns []definition.Column
	// Parts calls each with every part, in roster order, as soon as the part is
	// there.
	Parts func(each func(part io.Reader) error) error
}

// WriteTo writes the rows of the table to w, in the form of the parts.
func (c Combined) WriteTo(w io.Writer) (int64, error) {
	var written int64
	buf := make([]byte, 1<<20)
	err := c.Parts(func(part io.Reader) error {
		n, err := io.CopyBuffer(onlyWriter{w}, onlyReader{part}, buf)
		written += n
		return err
	})
	return written, err
}

// Plain readers and writers keep io.Copy from taking ways of its own.
type onlyWriter struct{ io.Writer }

type onlyReader struct{ io.Reader }

// Staged is a delivery that lies ready.
type Staged struct {
	Rows   int64 // of a table
	Bytes  int64 // of a file
	Digest string
}

// Missing says that a staged delivery does not hold the rows that were read.
type Missing struct {
	Name       string
	Have, Want int64
}

func (e *Missing) Error() string {
	return fmt.Sprintf("the delivery %s came to %d rows, and %d were read; it was not published", e.Name, e.Have, e.Want)
}
