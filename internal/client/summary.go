package client

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/totals"
)

// summaryCommand shows the cross-tabs and watched values of a delivery.
func summaryCommand(ctx context.Context, c *Call) error {
	c.listing()
	number := c.Flags.Int64("receipt", 0, "those of this `receipt` instead of the last")
	rehearsal := c.Flags.Int64("rehearsal", 0, "those of this `refresh`, which was a rehearsal")
	args, err := c.Parse(1, 2)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	figures, err := c.figures(ctx, service, args[0], *number, *rehearsal)
	if err != nil {
		return err
	}
	if figures.Input != args[0] {
		return Usage("that is of the input %s", figures.Input)
	}
	if c.json {
		return c.printJSON(figures)
	}
	tables := figures.Summaries
	if len(args) == 2 {
		at := slices.IndexFunc(tables, func(t api.SummaryTable) bool { return strings.EqualFold(t.Name, args[1]) })
		if at < 0 {
			var names []string
			for _, t := range tables {
				names = append(names, t.Name)
			}
			return &exitError{code: NotFound, message: fmt.Sprintf("%s has no summary %q; %s", args[0], args[1], nearest.Hint(args[1], names))}
		}
		tables = tables[at : at+1]
	}
	if c.csv {
		if len(tables) != 1 {
			return Usage("name one summary for -csv")
		}
		return c.crosstab(tables[0]).printCSV(c.Stdout)
	}
	if len(tables) == 0 && len(figures.Watched) == 0 {
		fmt.Fprintf(c.Stdout, "%s declares no summary and watches no column; see summaries and watch in its definition\n", args[0])
		return nil
	}
	for i, t := range tables {
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		fmt.Fprintf(c.Stdout, "%s\n", t.Name)
		c.crosstab(t).print(c.Stdout)
		if t.Beyond > 0 {
			fmt.Fprintf(c.Stdout, "%s in more groups than are counted\n", plural(t.Beyond, "row"))
		}
	}
	if len(args) == 1 {
		c.watched(figures.Watched)
	}
	return nil
}

func (c *Call) figures(ctx context.Context, service *api.ClientWithResponses, input string, number, rehearsal int64) (*api.Figures, error) {
	switch {
	case rehearsal > 0:
		answer, err := service.GetRehearsalFiguresWithResponse(ctx, rehearsal)
		if err != nil {
			return nil, err
		}
		return answer.JSON200, nil
	case number > 0:
		answer, err := service.GetReceiptFiguresWithResponse(ctx, number)
		if err != nil {
			return nil, err
		}
		return answer.JSON200, nil
	}
	answer, err := service.GetInputFiguresWithResponse(ctx, input)
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}

// crosstab lays a summary out.
func (c *Call) crosstab(shown api.SummaryTable) *table {
	t := totals.Table{Summary: totals.Summary{Name: shown.Name, Rows: shown.Rows, Columns: shown.Columns}}
	for _, m := range shown.Measures {
		kind, column, _ := strings.Cut(m, " ")
		t.Measures = append(t.Measures, totals.Measure{Kind: totals.Kind(kind), Column: column})
	}
	for _, l := range shown.Lines {
		t.Lines = append(t.Lines, totals.Line{Rows: l.Rows, Columns: l.Columns, Values: l.Values})
	}
	x := t.Crosstab()
	for i := range x.Header {
		if i >= len(t.Rows) {
			x.Header[i] = ">" + x.Header[i]
		}
	}
	tab := columns(x.Header...)
	for _, row := range x.Rows {
		for i, v := range row {
			if x.Numeric[i] {
				row[i] = c.decimal(v)
			}
		}
		tab.row(row...)
	}
	return tab
}

func (c *Call) watched(list []api.WatchedColumn) {
	for _, w := range list {
		fmt.Fprintf(c.Stdout, "\n%s: %s", w.Column, plural(len(w.Values), "value"))
		if w.Beyond > 0 {
			fmt.Fprintf(c.Stdout, ", and %s of more values", plural(w.Beyond, "row"))
		}
		fmt.Fprintln(c.Stdout)
		t := columns("value", ">rows", ">since", "")
		t.indent = "  "
		for _, v := range w.Values {
			t.row(group(v.Value), c.number(v.Rows), c.signed(v.Rows-v.RowsBefore), string(v.Change))
		}
		for _, v := range w.Gone {
			t.row(group(v.Value), "0", c.signed(-v.RowsBefore), "lost")
		}
		t.print(c.Stdout)
	}
}

func group(value string) string {
	if value == "" {
		return totals.Blank
	}
	return value
}
