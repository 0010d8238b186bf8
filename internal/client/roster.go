package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"jorvex/internal/api"
)

func files(ctx context.Context, c *Call) error {
	c.listing()
	verdict := c.Flags.String("verdict", "", "only files with this `verdict`: picked, left_out or held_back")
	state := c.Flags.String("state", "", "only files in this `state`: new, changed, moved, returned, removed, same, broken, arriving, in_doubt or unknown")
	reason := c.Flags.String("reason", "", "only files with this reason `code`")
	near := c.Flags.Bool("near", false, "only files that nearly match a pattern")
	held := c.Flags.Bool("held", false, "only files with a hold")
	text := c.Flags.String("contains", "", "only files whose path contains this `text`")
	most := c.Flags.Int("most", 0, "at most this `number` of files; all if 0")
	try := c.Flags.String("try", "", "judge by the definition in this `file`, which is not saved, and compare it with the saved one")
	set := parameters{}
	c.Flags.Var(&set, "set", "with -try: `name=value` of a parameter; may be given several times")
	args, err := c.Parse(0, 1)
	if err != nil {
		return err
	}
	if *try != "" {
		show := *verdict
		if *near {
			show = "near"
		}
		return c.tryDefinition(ctx, *try, show, *text, set, *most)
	}
	if len(args) == 0 {
		return Usage("write: jorvex files INPUT, or jorvex files -try FILE")
	}
	return c.roster(ctx, *most, "no files", func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, error) {
		answer, err := service.ListFilesWithResponse(ctx, args[0], &api.ListFilesParams{
			Verdict: given(api.Verdict(*verdict)), State: given(api.State(*state)), Reason: given(*reason), Near: given(*near), Held: given(*held), Q: given(*text),
			Cursor: given(cursor), Limit: given(limit),
		})
		if err != nil {
			return nil, err
		}
		return answer.JSON200, nil
	})
}

func changesCommand(ctx context.Context, c *Call) error {
	c.listing()
	log := c.Flags.Bool("log", false, "list every transition there ever was, the newest first")
	path := c.Flags.String("file", "", "with -log: only those of this `file`")
	most := c.Flags.Int("most", 0, "at most this `number` of files; all if 0")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	if *log {
		return c.changeLog(ctx, args[0], *path, *most)
	}
	return c.roster(ctx, *most, "no file differs from the last delivery", func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, error) {
		answer, err := service.ListChangesWithResponse(ctx, args[0], &api.ListChangesParams{Cursor: given(cursor), Limit: given(limit)})
		if err != nil {
			return nil, err
		}
		return answer.JSON200, nil
	})
}

func (c *Call) changeLog(ctx context.Context, input, path string, most int) error {
	service, err := c.service()
	if err != nil {
		return err
	}
	all := api.LogPage{Items: []api.LogEntry{}}
	for {
		limit := 1000
		if most > 0 {
			limit = min(limit, most-len(all.Items))
		}
		answer, err := service.ListLogWithResponse(ctx, input, &api.ListLogParams{Path: given(path), Cursor: given(all.Next), Limit: given(limit)})
		if err != nil {
			return err
		}
		all.Items = append(all.Items, answer.JSON200.Items...)
		if all.Next = answer.JSON200.Next; all.Next == "" || most > 0 && len(all.Items) >= most {
			break
		}
	}
	if len(all.Items) == 0 && !c.json && !c.csv {
		fmt.Fprintln(c.Stdout, "nothing has changed yet")
		return nil
	}
	t := columns("when", "state", "before", ">size", ">before", "file", "why")
	for _, e := range all.Items {
		before := "-"
		if e.BeforeSize > 0 {
			before = c.bytes(e.BeforeSize)
		}
		t.row(c.moment(e.At), logState(e), word(e.BeforeState), c.bytes(e.Size), before, e.Path, e.Sentence)
	}
	return c.show(t, all)
}

// logState is what a file became, in a word.
func logState(e api.LogEntry) string {
	if e.State == "" {
		return "went"
	}
	return word(e.State)
}

// watchCommand prints what changes, until it is told to stop.
func watchCommand(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(0, 1)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.StreamEvents(ctx, &api.StreamEventsParams{})
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	name := ""
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		if event, is := strings.CutPrefix(lines.Text(), "event: "); is {
			name = event
			continue
		}
		data, is := strings.CutPrefix(lines.Text(), "data: ")
		if !is || name != "changes" {
			continue
		}
		var e api.ChangesEvent
		if err := json.Unmarshal([]byte(data), &e); err != nil || len(args) > 0 && e.Input != args[0] {
			continue
		}
		if c.json {
			fmt.Fprintln(c.Stdout, data)
			continue
		}
		for _, entry := range e.First {
			fmt.Fprintf(c.Stdout, "%s  %-10s  %s: %s\n", c.moment(entry.At), logState(entry), e.Input, entry.Path)
		}
		if more := e.Files - len(e.First); more > 0 {
			fmt.Fprintf(c.Stdout, "%s  … and %d more of %s\n", c.moment(e.First[0].At), more, e.Input)
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return &exitError{code: CannotReach, message: "the service went away"}
}

func confirm(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ConfirmLossWithResponse(ctx, args[0])
	if err != nil {
		return err
	}
	in := answer.JSON200
	if c.json {
		return c.printJSON(in)
	}
	fmt.Fprintf(c.Stdout, "%s of %s confirmed as gone\n", plural(int64(in.Doubt.Gone), "file"), in.Name)
	return nil
}

// roster prints the pages of a roster, at most so many files, or says that there
// are none.
func (c *Call) roster(ctx context.Context, most int, none string, page func(service *api.ClientWithResponses, cursor string, limit int) (*api.FilePage, error)) error {
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
		got, err := page(service, all.Next, limit)
		if err != nil {
			return err
		}
		all.Items = append(all.Items, got.Items...)
		all.Next = got.Next
		if all.Next == "" || most > 0 && len(all.Items) >= most {
			break
		}
	}
	if len(all.Items) == 0 && !c.json && !c.csv {
		fmt.Fprintln(c.Stdout, none)
		return nil
	}
	t := c.fileTable(all.Items)
	if err := c.show(t, all); err != nil {
		return err
	}
	if all.Next != "" && !c.json && !c.csv {
		fmt.Fprintf(c.Stdout, "… and more; -most 0 shows all\n")
	}
	return nil
}

// fileTable lists files with the reasons of their verdicts.
func (c *Call) fileTable(files []api.File) *table {
	t := columns("verdict", "state", ">size", "modified", "file", "reason")
	for _, f := range files {
		reason := f.Sentence
		if f.Hold.Id > 0 && f.Reason != "held_in" && f.Reason != "held_out" {
			reason += "; held " + inOrOut(f.Hold) + " by " + f.Hold.By
		}
		for _, l := range f.Listed {
			reason += listedWords(l)
		}
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
	return t
}

// listedWords tells where an entry of a hand-made list takes rows from and to.
func listedWords(l api.Listed) string {
	words := ""
	if l.Sheet != "" {
		words += fmt.Sprintf("; sheet %q", l.Sheet)
	}
	if target := strings.TrimSpace(l.ToTable + " " + l.ToSheet); target != "" {
		words += fmt.Sprintf(" to %q", target)
	}
	if l.ToRow > 0 {
		words += fmt.Sprintf(" from row %d", l.ToRow)
	}
	return words
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
		return err
	}
	e := answer.JSON200
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
	c.printSteps(e.Steps)
	for i, f := range e.Findings {
		if i == 0 {
			fmt.Fprintln(c.Stdout)
		}
		fmt.Fprintf(c.Stdout, "%s: %s; %s\n", f.Grade, f.Sentence, f.Suggest)
	}
	return nil
}

// printSteps prints the rules that were tried on a file.
func (c *Call) printSteps(steps []api.Step) {
	t := columns("", "rule", ">line", "says")
	for _, s := range steps {
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
}
