package client

import (
	"context"
	"fmt"

	"jorvex/internal/api"
)

func rowsCommand(ctx context.Context, c *Call) error {
	c.listing()
	raw := c.Flags.Bool("raw", false, "the cells as they are in the file, with what became of each row")
	most := c.Flags.Int("most", 20, "at most this `number` of rows")
	args, err := c.Parse(2, 2)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ListRowsWithResponse(ctx, args[0], &api.ListRowsParams{Path: args[1], Limit: min(max(*most, 1), 1000)})
	if err != nil {
		return unreachable(err)
	}
	page := answer.JSON200
	if page == nil {
		return failure(answer.ApplicationproblemJSONDefault, answer.Body)
	}
	if len(page.Columns) == 0 {
		return &exitError{Failed, fmt.Sprintf("the files of %s are not read as tables; declare columns in its definition", args[0])}
	}
	t := columns(append([]string{">row"}, page.Columns...)...)
	if *raw {
		width := 0
		for _, r := range page.Items {
			width = max(width, len(r.Cells))
		}
		names := []string{">row", "became"}
		for i := range width {
			names = append(names, fmt.Sprint(i+1))
		}
		t = columns(names...)
	}
	for _, r := range page.Items {
		switch {
		case *raw:
			t.row(append([]string{fmt.Sprint(r.Row), string(r.Became)}, r.Cells...)...)
		case r.Became == api.RowBecameKept:
			t.row(append([]string{fmt.Sprint(r.Row)}, r.Values...)...)
		}
	}
	if err := c.show(t, page); err != nil || c.json || c.csv {
		return err
	}
	fmt.Fprintf(c.Stdout, "%s below the header, %s kept\n", plural(page.RowsRead, "row"), c.number(page.RowsKept))
	for _, f := range page.Findings {
		fmt.Fprintf(c.Stdout, "%s: %s; %s\n", f.Grade, f.Sentence, f.Suggest)
	}
	return nil
}
