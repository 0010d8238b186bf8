package client

import (
	"context"
	"fmt"
	"os"
	"strings"

	"jorvex/internal/api"
)

// unsaved adds the flag that reads files by a definition that is not saved, and
// returns what asks the service so.
func (c *Call) unsaved() func(path string, limit int) (api.BenchRequest, error) {
	file := c.Flags.String("by", "", "read by the definition in this `file`, which is not saved")
	return func(path string, limit int) (api.BenchRequest, error) {
		request := api.BenchRequest{Path: path, Limit: limit}
		if *file == "" {
			return request, nil
		}
		text, err := os.ReadFile(*file)
		request.Definition = string(text)
		return request, err
	}
}

func second(args []string) string {
	if len(args) < 2 {
		return ""
	}
	return args[1]
}

func rowsCommand(ctx context.Context, c *Call) error {
	c.listing()
	raw := c.Flags.Bool("raw", false, "the cells as they are in the file, with what became of each row")
	most := c.Flags.Int("most", 20, "at most this `number` of rows")
	ask := c.unsaved()
	args, err := c.Parse(1, 2)
	if err != nil {
		return err
	}
	request, err := ask(second(args), min(max(*most, 1), 1000))
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ReadBenchWithResponse(ctx, args[0], request)
	if err != nil {
		return err
	}
	page := answer.JSON200
	if len(page.Columns) == 0 {
		return noColumns(args[0])
	}
	if err := c.show(rowTable(page, *raw), page); err != nil || c.json || c.csv {
		return err
	}
	fmt.Fprintf(c.Stdout, "%s: %s below the header, %s kept\n", page.Path, plural(page.RowsRead, "row"), c.number(page.RowsKept))
	for _, f := range page.Findings {
		fmt.Fprintf(c.Stdout, "%s: %s; %s\n", f.Grade, f.Sentence, f.Suggest)
	}
	return nil
}

func noColumns(input string) error {
	return &exitError{code: Failed, message: fmt.Sprintf("the files of %s are not read as tables; declare columns in its definition, or have them proposed: jorvex learn %s", input, input)}
}

func rowTable(page *api.RowPage, raw bool) *table {
	names := append([]string{">row"}, page.Columns...)
	if raw {
		width := 0
		for _, r := range page.Items {
			width = max(width, len(r.Cells))
		}
		names = []string{">row", "became"}
		for i := range width {
			names = append(names, fmt.Sprint(i+1))
		}
	}
	t := columns(names...)
	for _, r := range page.Items {
		switch {
		case raw:
			t.row(append([]string{fmt.Sprint(r.Row), string(r.Became)}, r.Cells...)...)
		case r.Became == api.RowBecameKept:
			t.row(append([]string{fmt.Sprint(r.Row)}, r.Values...)...)
		}
	}
	return t
}

func learn(ctx context.Context, c *Call) error {
	c.connected()
	ask := c.unsaved()
	args, err := c.Parse(1, 2)
	if err != nil {
		return err
	}
	request, err := ask(second(args), 0)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ProposeReadingWithResponse(ctx, args[0], request)
	if err != nil {
		return err
	}
	proposal := answer.JSON200
	if c.json {
		return c.show(nil, proposal)
	}
	fmt.Fprint(c.Stdout, proposal.Definition)
	fmt.Fprintf(c.Stderr, "learnt from %s; nothing is saved: keep it in a file, look at what it yields with jorvex rows %s -by FILE, then jorvex input save FILE\n", proposal.Path, args[0])
	for _, u := range proposal.Unsure {
		fmt.Fprintf(c.Stderr, "unsure: %s\n", u)
	}
	return nil
}

// mostVariants is how many groups of files are drawn beside one another.
const mostVariants = 6

func columnsCommand(ctx context.Context, c *Call) error {
	c.listing()
	ask := c.unsaved()
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	request, err := ask("", 0)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.MapColumnsWithResponse(ctx, args[0], request)
	if err != nil {
		return err
	}
	m := answer.JSON200
	if len(m.Rows) == 0 {
		return noColumns(args[0])
	}
	shown := m.Variants
	if !c.csv && len(shown) > mostVariants {
		shown = shown[:mostVariants]
	}
	names := []string{"column", "header"}
	for i := range shown {
		names = append(names, variantName(i))
	}
	t := columns(names...)
	for i, row := range m.Rows {
		cells := []string{row.Column, strings.Join(row.Headers, " | ")}
		if row.Required {
			cells[0] += " *"
		}
		for _, v := range shown {
			cells = append(cells, fitted(v.Cells[i], row.Column != ""))
		}
		t.row(cells...)
	}
	if err := c.show(t, m); err != nil || c.json || c.csv {
		return err
	}
	fmt.Fprintln(c.Stdout)
	files := columns("", ">files", "as", "")
	for i, v := range shown {
		files.row(variantName(i), fmt.Sprint(v.Files), v.First[0], v.Broken)
	}
	files.print(c.Stdout)
	if more := len(m.Variants) - len(shown); more > 0 {
		fmt.Fprintf(c.Stdout, "%s of files are not shown; see them with -csv or -json\n", plural(more, "more group"))
	}
	if m.FilesRead < m.FilesPicked {
		fmt.Fprintf(c.Stdout, "%d of %d picked files were read\n", m.FilesRead, m.FilesPicked)
	}
	fmt.Fprintln(c.Stdout, "* required")
	return nil
}

// variantName names a group of files by a letter.
func variantName(i int) string {
	name := string(rune('A' + i%26))
	if i >= 26 {
		name = variantName(i/26-1) + name
	}
	return name
}

// fitted says how a header fits.
func fitted(cell api.ColumnMapCell, declared bool) string {
	switch {
	case cell.Fit == api.ColumnMapCellFitRespelt:
		return "as " + cell.Written
	case cell.Fit == api.ColumnMapCellFitUnknown, cell.Fit == api.ColumnMapCellFitAbsent && !declared:
		return ""
	}
	return string(cell.Fit)
}

func differences(ctx context.Context, c *Call) error {
	c.listing()
	before := c.Flags.String("before", "", "`digest` of the earlier version; the last one that fed a delivery if empty")
	after := c.Flags.String("after", "", "`digest` of the later version; the present one if empty")
	args, err := c.Parse(2, 2)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.CompareFileWithResponse(ctx, args[0], &api.CompareFileParams{Path: args[1], Before: *before, After: *after})
	if err != nil {
		return err
	}
	d := answer.JSON200
	t := columns(append([]string{""}, d.Columns...)...)
	for _, r := range d.Items {
		if r.Before != nil {
			t.row(append([]string{"-"}, r.Before...)...)
		}
		if r.After != nil {
			t.row(append([]string{"+"}, r.After...)...)
		}
	}
	if c.json || c.csv {
		return c.show(t, d)
	}
	if len(d.Items) > 0 {
		t.print(c.Stdout)
	}
	for _, v := range []struct {
		which string
		api.FileVersion
	}{{"the earlier version", d.Before}, {"the later version", d.After}} {
		if v.Broken != "" {
			fmt.Fprintf(c.Stdout, "%s has no rows to compare: %s\n", v.which, v.Broken)
		}
	}
	for _, part := range []struct {
		says  string
		names []string
	}{{"columns added", d.ColumnsAdded}, {"columns gone", d.ColumnsGone}} {
		if len(part.names) > 0 {
			fmt.Fprintf(c.Stdout, "%s: %s\n", part.says, strings.Join(part.names, ", "))
		}
	}
	for _, r := range d.ColumnsRespelt {
		fmt.Fprintf(c.Stdout, "the column %s is now written %s\n", r.Before, r.After)
	}
	fmt.Fprintf(c.Stdout, "%s added, %s gone, %s altered\n", plural(d.RowsAdded, "row"), c.number(d.RowsGone), c.number(d.RowsAltered))
	return nil
}
