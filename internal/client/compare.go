package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/totals"
)

func compare(ctx context.Context, c *Call) error {
	c.listing()
	most := c.Flags.Int("most", 50, "at most this `number` of files")
	args, err := c.Parse(1, 2)
	if err != nil {
		return err
	}
	var numbers [2]int64
	for i, text := range args {
		if numbers[i], err = numbered(text, "receipt"); err != nil {
			return err
		}
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	later, earlier := max(numbers[0], numbers[1]), min(numbers[0], numbers[1])
	answer, err := service.CompareReceiptsWithResponse(ctx, later, &api.CompareReceiptsParams{With: earlier, Limit: min(max(*most, 1), 10_000)})
	if err != nil {
		return err
	}
	m := answer.JSON200
	if c.json || c.csv {
		return c.show(c.fileMoves(*m), m)
	}
	fmt.Fprintf(c.Stdout, "receipt %d of %s against receipt %d", m.After, m.Input, m.Before)
	if m.BeforeInput != m.Input {
		fmt.Fprintf(c.Stdout, " of %s", m.BeforeInput)
	}
	if m.OtherDefinition {
		fmt.Fprint(c.Stdout, ", by another definition")
	}
	fmt.Fprintln(c.Stdout)
	t := columns("", fmt.Sprintf(">receipt %d", m.Before), fmt.Sprintf(">receipt %d", m.After), ">moved")
	t.row("rows", c.number(m.RowsBefore), c.number(m.RowsAfter), c.signed(m.RowsAfter-m.RowsBefore))
	for _, of := range m.Totals {
		t.row(of.Column, totals.Grouped(of.Before), totals.Grouped(of.After), totals.Grouped(of.Moved))
	}
	t.print(c.Stdout)
	c.printMoves(*m)
	return nil
}

// fileMoves lists the files that totals moved by.
func (c *Call) fileMoves(m api.ReceiptComparison) *table {
	names := []string{"change", "file", ">rows"}
	for _, t := range m.Totals {
		names = append(names, ">"+t.Column)
	}
	files := columns(names...)
	for _, f := range m.Items {
		path := f.Path
		if f.From != "" {
			path += ", from " + f.From
		}
		row := []string{string(f.Change), path, c.signed(f.RowsAfter - f.RowsBefore)}
		for _, t := range m.Totals {
			moved := ""
			for _, of := range f.Totals {
				if of.Column == t.Column {
					moved = c.decimal(of.Moved)
				}
			}
			row = append(row, moved)
		}
		files.row(row...)
	}
	return files
}

// printMoves prints the files that totals moved by, and the watched values that
// came or went.
func (c *Call) printMoves(m api.ReceiptComparison) {
	for i, w := range m.Watched {
		came, went := w.RowsBefore == 0, w.RowsAfter == 0
		if i == mostWatched {
			fmt.Fprintf(c.Stdout, "  and %d watched values more; jorvex summary %s shows them\n", len(m.Watched)-i, m.Input)
			break
		}
		value := group(w.Value)
		switch {
		case came:
			fmt.Fprintf(c.Stdout, "  %s gained %s, %s\n", w.Column, value, plural(w.RowsAfter, "row"))
		case went:
			fmt.Fprintf(c.Stdout, "  %s lost %s, %s\n", w.Column, value, plural(w.RowsBefore, "row"))
		default:
			fmt.Fprintf(c.Stdout, "  %s %s: %s rows\n", w.Column, value, c.signed(w.RowsAfter-w.RowsBefore))
		}
	}
	fmt.Fprintln(c.Stdout)
	if len(m.Items) > 0 {
		c.fileMoves(m).print(c.Stdout)
	}
	var counts []string
	for _, change := range []string{"in", "out", "changed", "moved", "same"} {
		if n := m.Counts[change]; n > 0 {
			counts = append(counts, fmt.Sprintf("%s %s", c.number(int64(n)), change))
		}
	}
	fmt.Fprintf(c.Stdout, "files: %s", strings.Join(counts, ", "))
	if all := m.Counts["in"] + m.Counts["out"] + m.Counts["changed"] + m.Counts["moved"]; all > len(m.Items) {
		fmt.Fprintf(c.Stdout, "; the first %s are shown", c.number(int64(len(m.Items))))
	}
	fmt.Fprintln(c.Stdout)
}

// mostWatched is how many watched values are printed.
const mostWatched = 20

// signed is a number of rows more or fewer, blank for none.
func (c *Call) signed(n int64) string {
	switch {
	case n == 0:
		return ""
	case n > 0:
		return "+" + c.number(n)
	}
	return c.number(n)
}

// decimal is a number grouped for people, and as it is for programs.
func (c *Call) decimal(text string) string {
	if c.csv {
		return text
	}
	return totals.Grouped(text)
}

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func trace(ctx context.Context, c *Call) error {
	c.listing()
	where := c.Flags.String("where", "", "of an input, show the rows of its last delivery for which this `condition` holds, with the file and row of each")
	most := c.Flags.Int("most", 50, "at most this `number` of rows")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if *where != "" {
		return c.traceRows(ctx, service, args[0], *where, *most)
	}
	params := &api.TraceFileParams{}
	switch content, err := os.Open(args[0]); {
	case digestForm.MatchString(args[0]):
		params.Digest = args[0]
	case err == nil:
		defer content.Close()
		hash := sha256.New()
		if _, err := io.Copy(hash, content); err != nil {
			return err
		}
		params.Digest = hex.EncodeToString(hash.Sum(nil))
	default:
		params.Path = args[0]
	}
	answer, err := service.TraceFileWithResponse(ctx, params)
	if err != nil {
		return err
	}
	t := columns("input", ">first", ">last", "digest", "file")
	for _, r := range answer.JSON200.Items {
		digest := r.Digest
		if !c.csv {
			digest = digest[:12]
		}
		t.row(r.Input, fmt.Sprint(r.First), fmt.Sprint(r.Last), digest, r.Path)
	}
	if len(answer.JSON200.Items) == 0 && !c.json && !c.csv {
		return &exitError{code: NotFound, message: "it fed no delivery; a file is named by its path from its place's root, by its digest, or by a copy of it here"}
	}
	return c.show(t, answer.JSON200)
}

// traceRows lists rows of the last delivery with the file and row of each.
func (c *Call) traceRows(ctx context.Context, service *api.ClientWithResponses, input, where string, most int) error {
	var whole []api.TableRow
	t := columns()
	for cursor := ""; ; {
		answer, err := service.GetTableWithResponse(ctx, input, &api.GetTableParams{Where: where, Cursor: cursor, Limit: min(max(most-len(whole), 1), 1000)})
		if err != nil {
			return err
		}
		page := answer.JSON200
		if t.header == nil {
			names := []string{}
			for _, column := range page.Columns {
				names = append(names, column.Name)
			}
			t = columns(append(names, ">row", "file")...)
		}
		for _, r := range page.Items {
			t.row(append(append([]string{}, r.Values...), fmt.Sprint(r.Row), r.File)...)
		}
		whole = append(whole, page.Items...)
		if cursor = page.Next; cursor == "" || len(whole) >= most {
			break
		}
	}
	if len(whole) == 0 && !c.json && !c.csv {
		return &exitError{code: NotFound, message: "no row of the last delivery fits the condition"}
	}
	return c.show(t, whole)
}
