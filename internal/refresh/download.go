package refresh

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"

	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/parts"
)

// Version returns what tells contents of a download apart: it changes with the
// rows, the format and the condition, and with nothing else.
func (t *Table) Version(format definition.Format, where string) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s %q\n", format, where)
	for _, c := range t.Definition.Columns {
		fmt.Fprintf(h, "%q %s\n", c.Name, c.Type)
	}
	for _, f := range t.Files {
		fmt.Fprintln(h, parts.Name(f.Digest, f.layout, f.origin.Of(t.Definition)))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Write writes the rows of the table, or those that a condition holds for.
func (t *Table) Write(ctx context.Context, w io.Writer, format definition.Format) error {
	d := definition.Delivery{Format: format, Sheets: definition.OneSheet, Sheet: "Rows", Start: [2]int{1, 1}}
	combined := deliver.Combined{Columns: t.Definition.Columns, AsOf: t.Receipt.AsOf, Figures: func() totals.Figures { return totals.Figures{} }}
	combined.Parts = func(each func(s *deliver.Source, part io.Reader) error) error {
		for i := range t.Files {
			part, err := t.part(ctx, i)
			if err != nil {
				return err
			}
			if err := t.writePart(part, &t.Files[i].File, each); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	return deliver.Write(w, d, combined)
}

func (t *Table) writePart(part *parts.Part, f *receipt.File, each func(s *deliver.Source, part io.Reader) error) error {
	path, err := filename.Parse(f.Path)
	if err != nil {
		return err
	}
	source := &deliver.Source{Path: path, Size: f.Size, Modified: f.Modified, Digest: f.Digest, Rows: f.Kept}
	if t.where == nil {
		rows := &lazy{part: part}
		defer rows.Close()
		return each(source, rows)
	}
	var kept bytes.Buffer
	out := shaping.NewWriter(&kept)
	row := tableRow{columns: t.Definition.Columns}
	err = eachRow(part, func(cells []reading.Cell) error {
		if row.cells = cells; !t.where.Holds(&row, condition.Now{At: t.Receipt.AsOf}) {
			return nil
		}
		for _, c := range cells {
			out.Text(c.Text)
		}
		return out.EndRow()
	})
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return err
	}
	return each(source, &kept)
}
