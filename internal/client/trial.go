package client

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/totals"
)

// parameters is a flag name=value that may be given several times.
type parameters map[string]string

func (p *parameters) String() string { return "" }

func (p *parameters) Set(text string) error {
	name, value, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return errors.New("write it as name=value")
	}
	(*p)[name] = value
	return nil
}

// paths is a flag that may be given several times.
type paths []string

func (p *paths) String() string { return "" }

func (p *paths) Set(text string) error {
	*p = append(*p, text)
	return nil
}

// parseMoment reads a day or time in the local zone; a day is its end if that
// is asked for.
func parseMoment(text string, end bool) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	t, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		return t, fmt.Errorf("%q is no day or time; write 2026-11-20 or 2026-11-20 09:00", text)
	}
	if end {
		t = t.AddDate(0, 0, 1).Add(-time.Microsecond)
	}
	return t, nil
}

func (c *Call) tryDefinition(ctx context.Context, file, show, text string, set parameters, most int) error {
	content, err := readDefinition(file)
	if err != nil {
		return err
	}
	if line := madeFrom.FindString(content); line != "" {
		content = "\n" + strings.TrimPrefix(content, line) // lines keep their numbers
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	request := api.TrialRequest{Definition: content, Set: set, Show: api.TrialRequestShow(show), Q: text, Limit: 1000}
	if m := inputLine.FindStringSubmatch(content); m != nil {
		// Compared with the saved one, if there is one.
		if _, _, err := getInput(ctx, service, m[1]); err == nil {
			request.Input = m[1]
		}
	}
	var trial *api.Trial
	for {
		answer, err := service.TryDefinitionWithResponse(ctx, request)
		if err != nil {
			return err
		}
		if trial == nil {
			trial = answer.JSON200
		} else {
			trial.Files.Items = append(trial.Files.Items, answer.JSON200.Files.Items...)
		}
		if request.Cursor = answer.JSON200.Files.Next; request.Cursor == "" || most > 0 && len(trial.Files.Items) >= most {
			break
		}
	}
	trial.Files.Next = ""
	if most > 0 && len(trial.Files.Items) > most {
		trial.Files.Items = trial.Files.Items[:most]
	}
	t := c.fileTable(trial.Files.Items)
	if c.json || c.csv {
		return c.show(t, trial)
	}
	fmt.Fprintf(c.Stdout, "%s of %s files picked, %s left out, %s held back; nothing is saved\n\n", c.number(trial.Counts.Picked), c.number(trial.Counts.Files),
		c.number(trial.Counts.LeftOut), c.number(trial.Counts.HeldBack))
	rules := columns("rule", ">line", ">files", "what")
	for _, r := range trial.Rules {
		files := c.number(r.Files)
		if r.Off {
			files = "off"
		}
		rules.row(r.Text, fmt.Sprint(r.Line), files, ruleWords[r.Kind])
	}
	rules.print(c.Stdout)
	c.printCures(trial.Cures)
	if len(trial.Findings) > 0 {
		fmt.Fprintln(c.Stdout)
	}
	c.printSet(trial.Findings)
	fmt.Fprintln(c.Stdout)
	if request.Input != "" {
		c.printGained(*trial)
	}
	if show != "" || text != "" {
		t.print(c.Stdout)
	}
	return nil
}

var inputLine = regexp.MustCompile(`(?m)^input: *"?([a-z0-9-]+)`)

var ruleWords = map[api.RuleKind]string{
	api.Pattern: "matched by the pattern", api.LeaveOut: "left out by it", api.OnlyIf: "left out, since it fails",
	api.Window: "left out, outside it", api.Latest: "left out, not the newest", api.SameContent: "left out, the same content",
}

// printCures prints what would take in files that nearly match.
func (c *Call) printCures(cures []api.Cure) {
	if len(cures) == 0 {
		return
	}
	fmt.Fprintln(c.Stdout, "\nnearly:")
	t := columns("difference", ">takes in", "add the pattern", "first file")
	for _, cure := range cures {
		pattern := cure.Pattern
		if pattern == "" {
			pattern = "- (none can)"
		}
		t.row(strings.ReplaceAll(cure.Kind, "_", " ")+": "+cure.Says, c.number(cure.Files), pattern, cure.Path)
	}
	t.print(c.Stdout)
}

// printGained prints the files that a trial gains and loses.
func (c *Call) printGained(trial api.Trial) {
	for _, list := range []struct {
		what  string
		files api.TrialFiles
	}{{"gained", trial.Gained}, {"lost", trial.Lost}} {
		fmt.Fprintf(c.Stdout, "%s: %s\n", list.what, plural(list.files.Files, "file"))
		const most = 20
		for i, f := range list.files.Items {
			if i == most {
				fmt.Fprintf(c.Stdout, "  … and %s more\n", c.number(list.files.Files-most))
				break
			}
			fmt.Fprintf(c.Stdout, "  %s: %s\n", f.Path, f.Sentence)
		}
	}
}

func try(ctx context.Context, c *Call) error {
	c.connected()
	as := c.Flags.String("as", "", "`path` the file would be dropped at, from the place's root or the input's folder; its name if empty")
	args, err := c.Parse(2, 2)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	content, err := os.Open(args[1])
	if err != nil {
		return &exitError{code: Failed, message: fmt.Sprintf("the file cannot be read: %v", err)}
	}
	defer content.Close()
	path := *as
	if path == "" {
		path = filepath.Base(args[1])
	}
	answer, err := service.TryFileWithBodyWithResponse(ctx, args[0], &api.TryFileParams{Path: path}, "application/octet-stream", content)
	if err != nil {
		return err
	}
	t := answer.JSON200
	if c.json {
		return c.printJSON(t)
	}
	fmt.Fprintf(c.Stdout, "%s\nwould be %s: %s\n", t.File.Path, word(string(t.File.Verdict)), t.File.Sentence)
	if t.File.Near.Pattern != "" {
		fmt.Fprintf(c.Stdout, "the pattern %s would take it in\n", t.File.Near.Pattern)
	}
	if t.File.Verdict == api.VerdictPicked && t.Rows > 0 {
		fmt.Fprintf(c.Stdout, "it would add %s", plural(t.Rows, "row"))
		for _, total := range t.Totals {
			fmt.Fprintf(c.Stdout, ", %s %s", total.Column, totals.Grouped(total.Sum))
		}
		fmt.Fprintln(c.Stdout)
	}
	for _, d := range t.Displaced {
		fmt.Fprintf(c.Stdout, "instead of %s: %s\n", d.Path, d.Sentence)
	}
	c.printSet(t.File.Findings)
	c.printSteps(t.Steps)
	return nil
}
