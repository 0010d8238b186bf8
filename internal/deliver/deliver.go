// Package deliver writes combined tables to where they are wanted. Everything
// is staged beside its target first; what was there before stays whole until
// the refresh has committed.
package deliver

import (
	"fmt"
	"io"
	"os"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/shaping"
)

// Combined is a combined table: the parts of the files, in roster order.
type Combined struct {
	Columns []definition.Column
	Parts   []string // paths of the part files
}

// Each calls row with every row of the table. Values are nil for null, and
// valid until row returns.
func (c Combined) Each(row func(values [][]byte) error) error {
	for _, path := range c.Parts {
		if err := c.part(path, row); err != nil {
			return err
		}
	}
	return nil
}

func (c Combined) part(path string, row func(values [][]byte) error) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	r := shaping.NewReader(f, len(c.Columns))
	for {
		values, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read a shaped part: %w", err)
		}
		if err := row(values); err != nil {
			return err
		}
	}
}

// Staged is a delivery that lies ready.
type Staged struct {
	Rows   int64
	Bytes  int64
	Digest string // of a file
}
