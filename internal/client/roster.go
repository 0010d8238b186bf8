package client

import (
	"context"
	"fmt"

	"jorvex/internal/api"
)

func files(ctx context.Context, c *Call) error {
	c.listing()
	verdict := c.Flags.String("verdict", "", "only files with this `verdict`: picked, left_out or held_back")
	state := c.Flags.String("state", "", "only files in this `state`: new, changed, removed, same, broken or unknown")
	reason := c.Flags.String("reason", "", "only files with this reason `code`")
	text := c.Flags.String("contains", "", "only files whose path contains this `text`")
	most := c.Flags.Int("most", 0, "at most this `number` of files; all if 0")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	return c.roster(ctx, *most, func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, *api.Problem, []byte, error) {
		answer, err := service.ListFilesWithResponse(ctx, args[0], &api.ListFilesParams{
			Verdict: given(api.Verdict(*verdict)), State: given(api.State(*state)), Reason: given(*reason), Q: given(*text),
			Cursor: given(cursor), Limit: given(limit),
		})
		if err != nil {
			return nil, nil, nil, err
		}
		return answer.JSON200, answer.ApplicationproblemJSONDefault, answer.Body, nil
	})
}

func changesCommand(ctx context.Context, c *Call) error {
	c.listing()
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	return c.roster(ctx, 0, func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, *api.Problem, []byte, error) {
		answer, err := service.ListChangesWithResponse(ctx, args[0], &api.ListChangesParams{Cursor: given(cursor), Limit: given(limit)})
		if err != nil {
			return nil, nil, nil, err
		}
		return answer.JSON200, answer.ApplicationproblemJSONDefault, answer.Body, nil
	})
}

// roster prints the pages of a roster, at most so many files.
func (c *Call) roster(ctx context.Context, most int, page func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, *api.Problem, []byte, error)) error {
	service, err := c.service()
	if err != nil {
		return err
	}
	all := api.FilePage{Items: []api.File{}}
	for {
		limit := 1000
		if most > 0 {
			limit = min(limit, most-len(all.Items))
		}
		got, problem, body, err := page(service, all.Next, limit)
		if err != nil {
			return unreachable(err)
		}
		if got == nil {
			return failure(problem, body)
		}
		all.Items = append(all.Items, got.Items...)
		all.Next = got.Next
		if all.Next == "" || most > 0 && len(all.Items) >= most {
			break
		}
	}
	if len(all.Items) == 0 && !c.json && !c.csv {
		fmt.Fprintln(c.Stdout, "no files")
		return nil
	}
	t := columns("verdict", "state", ">size", "modified", "file", "reason")
	for _, f := range all.Items {
		reason := f.Sentence
		for _, found := range f.Findings {
			if found.Grade == api.FindingGradeBroken || f.State != api.StateBroken {
				reason += "; " + string(found.Grade) + ": " + found.Sentence
				if found.Grade == api.FindingGradeBroken {
					reason = string(found.Grade) + ": " + found.Sentence
					break
				}
			}
		}
		t.row(word(string(f.Verdict)), word(string(f.State)), c.bytes(f.Size), c.moment(f.Modified), f.Path, reason)
	}
	if err := c.show(t, all); err != nil {
		return err
	}
	if all.Next != "" && !c.json && !c.csv {
		fmt.Fprintf(c.Stdout, "… and more; -most 0 shows all\n")
	}
	return nil
}

func why(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(2, 2)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ExplainFileWithResponse(ctx, args[0], &api.ExplainFileParams{Path: args[1]})
	if err != nil {
		return unreachable(err)
	}
	e := answer.JSON200
	if e == nil {
		return failure(answer.ApplicationproblemJSONDefault, answer.Body)
	}
	if c.json {
		return c.printJSON(e)
	}
	fmt.Fprintf(c.Stdout, "%s\n%s: %s\n", e.Path, word(string(e.Verdict)), e.Sentence)
	switch {
	case !e.Seen:
		fmt.Fprintln(c.Stdout, "The file is not there; this is what would become of it.")
	case e.State != "":
		fmt.Fprintf(c.Stdout, "state: %s\n", e.State)
	}
	t := columns("", "rule", ">line", "says")
	for _, s := range e.Steps {
		mark, line := "", ""
		if s.Decides {
			mark = "=>"
		}
		if s.Line > 0 {
			line = fmt.Sprint(s.Line)
		}
		t.row(mark, s.Rule, line, s.Says)
	}
	fmt.Fprintln(c.Stdout)
	t.print(c.Stdout)
	for i, f := range e.Findings {
		if i == 0 {
			fmt.Fprintln(c.Stdout)
		}
		fmt.Fprintf(c.Stdout, "%s: %s; %s\n", f.Grade, f.Sentence, f.Suggest)
	}
	return nil
}
