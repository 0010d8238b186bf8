package client

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
)

const inputVerbs = "list | show NAME | add FILE | save FILE | copy NAME NEW | rename NAME NEW | move NAME | versions NAME | diff NAME | restore NAME VERSION"

func input(ctx context.Context, c *Call) error {
	c.listing()
	over := c.Flags.String("over", "", "save: the `version` that was edited, or newest; read from the file's first line if empty")
	place := c.Flags.String("place", "", "move: the new `place`; the same if empty")
	folder := c.Flags.String("folder", "", "move: the new `folder`; the same if empty")
	yes := c.Flags.Bool("yes", false, "move: save it; without, only what would be gained and lost is shown")
	from := c.Flags.Int64("from", 0, "diff: the earlier `version`; the one before -to if 0")
	to := c.Flags.Int64("to", 0, "diff: the later `version`; the newest if 0")
	file := c.Flags.String("file", "", "diff: compare with this `file` instead of -to")
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "add": 1, "save": 1, "copy": 2, "rename": 2, "move": 1, "versions": 1, "diff": 1, "restore": 2})
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		return c.listInputs(ctx, service)
	case "show":
		return c.showInput(ctx, service, args[0])
	case "add":
		return c.addInput(ctx, service, args[0])
	case "save":
		return c.saveFile(ctx, service, args[0], *over)
	case "copy":
		answer, err := service.CopyInputWithResponse(ctx, args[0], api.CopyInputJSONRequestBody{Name: args[1]})
		if err != nil {
			return err
		}
		return c.saved(answer.JSON201)
	case "versions":
		return c.versions(ctx, service, args[0])
	case "diff":
		return c.diff(ctx, service, args[0], *from, *to, *file)
	}
	now, tag, err := getInput(ctx, service, args[0])
	if err != nil {
		return err
	}
	switch verb {
	case "rename":
		text, err := definition.Set(now.Definition, "input", args[1])
		if err != nil {
			return err
		}
		return c.save(ctx, service, now.Name, tag, text, true)
	case "restore":
		version, err := strconv.ParseInt(args[1], 10, 64)
		if err != nil {
			return Usage("%q is no version; list them with: jorvex input versions %s", args[1], now.Name)
		}
		text, err := textOf(ctx, service, now.Name, version)
		if err != nil {
			return err
		}
		return c.save(ctx, service, now.Name, tag, text, true)
	}
	return c.move(ctx, service, now, tag, *place, *folder, *yes)
}

// getInput returns an input with the ETag of its newest version.
func getInput(ctx context.Context, service *api.ClientWithResponses, name string) (*api.Input, string, error) {
	answer, err := service.GetInputWithResponse(ctx, name)
	if err != nil {
		return nil, "", err
	}
	return answer.JSON200, answer.HTTPResponse.Header.Get("ETag"), nil
}

// madeFrom is the first line that an exported definition has.
var madeFrom = regexp.MustCompile(`^# ([a-z0-9-]+), version (\d+)\r?\n`)

func (c *Call) showInput(ctx context.Context, service *api.ClientWithResponses, name string) error {
	in, _, err := getInput(ctx, service, name)
	if err != nil {
		return err
	}
	if c.json {
		return c.printJSON(in)
	}
	fmt.Fprintf(c.Stdout, "# %s, version %d\n%s", in.Name, in.Version, in.Definition)
	return nil
}

func readDefinition(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return "", &exitError{code: Failed, message: fmt.Sprintf("the definition cannot be read: %v", err)}
	}
	return string(text), nil
}

func (c *Call) addInput(ctx context.Context, service *api.ClientWithResponses, file string) error {
	text, err := readDefinition(file)
	if err != nil {
		return err
	}
	answer, err := service.CreateInputWithResponse(ctx, api.DefinitionText{Definition: strings.TrimPrefix(text, madeFrom.FindString(text))})
	if err != nil {
		return err
	}
	return c.saved(answer.JSON201)
}

// saveFile saves a file over the version it was made from, and nothing else.
func (c *Call) saveFile(ctx context.Context, service *api.ClientWithResponses, file, over string) error {
	text, err := readDefinition(file)
	if err != nil {
		return err
	}
	line := madeFrom.FindString(text)
	def, err := definition.Parse(text, time.Now())
	if err != nil {
		return &exitError{code: Failed, message: "the definition is not valid:\n" + err.Error()}
	}
	text = strings.TrimPrefix(text, line)
	now, tag, err := getInput(ctx, service, def.Input)
	if err != nil {
		return err
	}
	newest := strconv.FormatInt(now.Version, 10)
	if over == "" && line != "" {
		over = madeFrom.FindStringSubmatch(line)[2]
	}
	switch over {
	case "":
		return &exitError{code: Failed, message: fmt.Sprintf("%s does not say which version it was made from; the newest is %s: add -over %s if it was made from that", file, newest, newest)}
	case newest, "newest":
	default:
		return &exitError{code: Failed, message: fmt.Sprintf("%s was made from version %s, and %s is at version %s by now, saved by %s at %s; nothing was overwritten; see what changed with: jorvex input diff %s -from %s",
			file, over, now.Name, newest, now.SavedBy, c.moment(now.SavedAt), now.Name, over)}
	}
	if err := c.save(ctx, service, now.Name, tag, text, false); err != nil || line == "" {
		return err
	}
	// The file goes on from the version it is now.
	return os.WriteFile(file, []byte(fmt.Sprintf("# %s, version %d\n%s", now.Name, now.Version+1, text)), 0o644)
}

// save saves a definition over the version that an ETag names.
func (c *Call) save(ctx context.Context, service *api.ClientWithResponses, name, tag, text string, rename bool) error {
	answer, err := service.SaveInputWithResponse(ctx, name, &api.SaveInputParams{IfMatch: tag, Rename: given(rename)}, api.DefinitionText{Definition: text})
	if err != nil {
		return err
	}
	return c.saved(answer.JSON200)
}

func (c *Call) saved(in *api.Input) error {
	if c.json {
		return c.printJSON(in)
	}
	fmt.Fprintf(c.Stdout, "%s saved as version %d: %s of %s files picked, %s left out\n", in.Name, in.Version,
		c.number(in.Counts.Picked), c.number(in.Counts.Files), c.number(in.Counts.LeftOut))
	for _, d := range in.LeftBehind {
		fmt.Fprintf(c.Stdout, "note: the %s stays as it was delivered last, and is delivered no more\n", d)
	}
	c.printSet(in.Findings)
	return nil
}

// printSet prints the findings about a set of files.
func (c *Call) printSet(findings []api.Finding) {
	for _, f := range findings {
		fmt.Fprintf(c.Stdout, "%s: %s; %s\n", f.Grade, f.Sentence, f.Suggest)
	}
}

func (c *Call) versions(ctx context.Context, service *api.ClientWithResponses, name string) error {
	all := api.VersionPage{Items: []api.Version{}}
	for {
		answer, err := service.ListVersionsWithResponse(ctx, name, &api.ListVersionsParams{Limit: given(1000), Cursor: given(all.Next)})
		if err != nil {
			return err
		}
		all.Items = append(all.Items, answer.JSON200.Items...)
		if all.Next = answer.JSON200.Next; all.Next == "" {
			break
		}
	}
	t := columns(">version", "saved", "by", ">lines", "digest")
	for _, v := range all.Items {
		t.row(c.number(v.Version), c.moment(v.SavedAt), v.SavedBy, fmt.Sprint(strings.Count(v.Definition, "\n")), v.Digest)
	}
	return c.show(t, all)
}

// textOf returns the definition of one version.
func textOf(ctx context.Context, service *api.ClientWithResponses, name string, version int64) (string, error) {
	answer, err := service.CompareVersionsWithResponse(ctx, name, &api.CompareVersionsParams{From: version, To: given(version)})
	if err != nil {
		return "", err
	}
	var text strings.Builder
	for _, l := range answer.JSON200.Lines {
		text.WriteString(l.Text + "\n")
	}
	return text.String(), nil
}

func (c *Call) diff(ctx context.Context, service *api.ClientWithResponses, name string, from, to int64, file string) error {
	now, _, err := getInput(ctx, service, name)
	if err != nil {
		return err
	}
	if to == 0 {
		to = now.Version
	}
	if from == 0 {
		from = max(1, to-1)
		if file != "" {
			from = now.Version
		}
	}
	var shown api.Differences
	if file != "" {
		text, err := readDefinition(file)
		if err != nil {
			return err
		}
		before, err := textOf(ctx, service, name, from)
		if err != nil {
			return err
		}
		shown = api.Differences{From: from, Lines: []api.DifferenceLine{}}
		for _, d := range definition.Compare(before, strings.TrimPrefix(text, madeFrom.FindString(text))) {
			shown.Lines = append(shown.Lines, api.DifferenceLine{Sign: api.DifferenceLineSign(d.Sign), Text: d.Text})
		}
	} else {
		answer, err := service.CompareVersionsWithResponse(ctx, name, &api.CompareVersionsParams{From: from, To: given(to)})
		if err != nil {
			return err
		}
		shown = *answer.JSON200
	}
	if c.json {
		return c.printJSON(shown)
	}
	later := fmt.Sprintf("version %d", shown.To)
	if file != "" {
		later = file
	}
	fmt.Fprintf(c.Stdout, "- version %d\n+ %s\n\n", shown.From, later)
	same := true
	for _, l := range shown.Lines {
		fmt.Fprintln(c.Stdout, strings.TrimRight(string(l.Sign)+" "+l.Text, " "))
		same = same && l.Sign == " "
	}
	if same {
		fmt.Fprintln(c.Stdout, "\nthey are the same")
	}
	return nil
}

// move shows what an input would gain and lose in another place or folder, and
// saves it there if that is wanted.
func (c *Call) move(ctx context.Context, service *api.ClientWithResponses, now *api.Input, tag, place, folder string, yes bool) error {
	if place == "" && folder == "" {
		return Usage("move wants -place, -folder or both")
	}
	text := now.Definition
	var err error
	for _, change := range [][2]string{{"place", place}, {"folder", folder}} {
		if change[1] == "" {
			continue
		}
		if text, err = definition.Set(text, change[0], change[1]); err != nil {
			return err
		}
	}
	answer, err := service.TryDefinitionWithResponse(ctx, api.TrialRequest{Definition: text, Input: now.Name, Limit: 1})
	if err != nil {
		return err
	}
	if !c.json {
		c.printGained(*answer.JSON200)
	}
	if yes {
		return c.save(ctx, service, now.Name, tag, text, false)
	}
	if c.json {
		return c.printJSON(answer.JSON200)
	}
	fmt.Fprintf(c.Stdout, "nothing is saved; add -yes to save version %d\n", now.Version+1)
	return nil
}

func (c *Call) listInputs(ctx context.Context, service *api.ClientWithResponses) error {
	all := api.InputPage{Items: []api.Input{}}
	for {
		answer, err := service.ListInputsWithResponse(ctx, &api.ListInputsParams{Limit: given(1000), Cursor: given(all.Next)})
		if err != nil {
			return err
		}
		all.Items = append(all.Items, answer.JSON200.Items...)
		if all.Next = answer.JSON200.Next; all.Next == "" {
			break
		}
	}
	t := columns("input", ">picked", ">left out", ">held back", ">new", ">changed", ">removed", ">broken", "last refresh", "ended")
	for _, in := range all.Items {
		state := func(s api.State) string { return c.number(in.Counts.ByState[string(s)]) }
		t.row(in.Name, c.number(in.Counts.Picked), c.number(in.Counts.LeftOut), c.number(in.Counts.HeldBack),
			state(api.StateNew), state(api.StateChanged), state(api.StateRemoved), state(api.StateBroken),
			word(string(in.LastRefresh.Outcome)), c.moment(in.LastRefresh.Ended))
	}
	return c.show(t, all)
}
