package client

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
)

// Commands lists the commands that this package has.
func Commands() []Command {
	return []Command{
		{"demo", "", "Make the demo share and load it into the running service.", "jorvex demo", demoCommand},
		{"sign-in", "", "Print a link that signs one browser in to the console, once.", "jorvex sign-in", signIn},
		{"place", "list | show NAME | add NAME DIRECTORY", "List places, show one, or add one.", "jorvex place list", place},
		{"input", "list | show NAME | add FILE | save FILE", "List inputs, show a definition, add one, or save a new version.", "jorvex input show daily-loadings", input},
		{"look", "[PLACE]", "Look at a place now, or at all.", "jorvex look skerry-share", look},
		{"files", "INPUT", "List the roster: every file with its verdict, state and reason.", "jorvex files daily-loadings -verdict left_out", files},
		{"why", "INPUT FILE", "Tell the whole way to a file's verdict.", "jorvex why daily-loadings \"Berthing rules.pdf\"", why},
		{"changes", "INPUT", "List what is new, changed, removed or broken since the last delivery.", "jorvex changes daily-loadings", changesCommand},
		{"refresh", "INPUT", "Read the picked files, deliver, and print the receipt's number.", "jorvex refresh daily-loadings", refresh},
		{"refreshes", "[INPUT]", "List refreshes, the newest first.", "jorvex refreshes daily-loadings", refreshes},
		{"receipt", "NUMBER", "Show a receipt: what was delivered and which files fed it.", "jorvex receipt 1 -files", receiptCommand},
		{"verify", "", "Recompute the chain of all receipts.", "jorvex verify", verify},
		{"check-definition", "FILE", "Check a definition without a service.", "jorvex input show daily-loadings > mine.yaml; jorvex check-definition mine.yaml", checkDefinition},
		{"version", "", "Print the program's version.", "jorvex version", version},
	}
}

func version(_ context.Context, c *Call) error {
	c.Flags.BoolVar(&c.json, "json", false, "print one JSON document")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	if c.json {
		return c.printJSON(map[string]string{"version": c.Version})
	}
	fmt.Fprintln(c.Stdout, "jorvex", c.Version)
	return nil
}

func checkDefinition(_ context.Context, c *Call) error {
	c.Flags.BoolVar(&c.json, "json", false, "print one JSON document")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return &exitError{Failed, fmt.Sprintf("the definition cannot be read: %v", err)}
	}
	def, err := definition.Parse(string(text))
	var invalid *definition.Invalid
	if !errors.As(err, &invalid) && err != nil {
		return err
	}
	if c.json {
		problems := []definition.Problem{}
		if invalid != nil {
			problems = invalid.Problems
		}
		if err := c.printJSON(map[string]any{"valid": invalid == nil, "problems": problems}); err != nil {
			return err
		}
		if invalid != nil {
			return &exitError{Failed, ""}
		}
		return nil
	}
	if invalid != nil {
		for _, p := range invalid.Problems {
			fmt.Fprintf(c.Stdout, "%s:%d:%d: %s\n", args[0], p.Line, p.Column, p.Message)
		}
		return &exitError{Failed, fmt.Sprintf("%s in %s", plural(len(invalid.Problems), "fault"), args[0])}
	}
	fmt.Fprintf(c.Stdout, "%s is valid: input %s, %s, %s, %s.\n", args[0], def.Input,
		plural(len(def.Pick), "pattern"), plural(len(def.Columns), "column"), plural(len(def.Delivery), "delivery"))
	return nil
}

// plural counts things in words.
func plural[N int | int64](n N, what string) string {
	many := what + "s"
	if base, y := strings.CutSuffix(what, "y"); y {
		many = base + "ies"
	}
	if n == 1 {
		many = what
	}
	return grouped(fmt.Sprint(n)) + " " + many
}

func signIn(ctx context.Context, c *Call) error {
	c.connected()
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.CreateSignInLinkWithResponse(ctx)
	if err != nil {
		return unreachable(err)
	}
	if answer.JSON201 == nil {
		return failure(answer.ApplicationproblemJSONDefault, answer.Body)
	}
	if c.json {
		return c.printJSON(answer.JSON201)
	}
	fmt.Fprintln(c.Stdout, answer.JSON201.Link)
	return nil
}

// sub takes the first argument of a command with verbs of its own.
func sub(c *Call, verbs map[string]int) (string, []string, error) {
	args, err := c.Parse(1, 4)
	if err != nil {
		return "", nil, err
	}
	n, known := verbs[args[0]]
	if !known || len(args)-1 != n {
		return "", nil, Usage("write: jorvex %s %s", c.command.Name, c.command.Args)
	}
	return args[0], args[1:], nil
}

func place(ctx context.Context, c *Call) error {
	c.listing()
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "add": 2})
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	var shown *api.Place
	switch verb {
	case "list":
		answer, err := service.ListPlacesWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		if answer.JSON200 == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
		t := columns("place", "reachable", ">files", ">folders", "last look", "directory")
		for _, p := range answer.JSON200.Items {
			t.row(p.Name, reachable(p), c.number(p.LastLook.Files), c.number(p.LastLook.Folders), c.moment(p.LastLook.Ended), p.Directory)
		}
		return c.show(t, answer.JSON200)
	case "show":
		answer, err := service.GetPlaceWithResponse(ctx, args[0])
		if err != nil {
			return unreachable(err)
		}
		if shown = answer.JSON200; shown == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
	case "add":
		answer, err := service.CreatePlaceWithResponse(ctx, api.NewPlace{Name: args[0], Directory: args[1]})
		if err != nil {
			return unreachable(err)
		}
		if shown = answer.JSON201; shown == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
	}
	if c.json {
		return c.printJSON(shown)
	}
	t := &table{}
	t.row("place", shown.Name)
	t.row("directory", shown.Directory)
	t.row("reachable", reachable(*shown))
	t.print(c.Stdout)
	if !shown.LastLook.Ended.IsZero() {
		c.printLook(shown.LastLook)
	}
	return nil
}

func reachable(p api.Place) string {
	if p.Reachable {
		return "yes"
	}
	return "no: " + p.Why
}

func (c *Call) printLook(l api.Look) {
	if !l.Reachable {
		fmt.Fprintf(c.Stdout, "%s cannot be reached: %s; its files are unknown, not removed\n", l.Place, l.Why)
		return
	}
	fmt.Fprintf(c.Stdout, "%s: %s in %s; %s new, %s changed, %s gone since the look before\n", l.Place,
		plural(l.Files, "file"), plural(l.Folders, "folder"), c.number(l.New), c.number(l.Changed), c.number(l.Gone))
	for _, s := range l.Skipped {
		fmt.Fprintf(c.Stdout, "  skipped %s: %s\n", s.Path, s.Why)
	}
}

func look(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(0, 1)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if len(args) == 0 {
		answer, err := service.ListPlacesWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		if answer.JSON200 == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
		for _, p := range answer.JSON200.Items {
			args = append(args, p.Name)
		}
	}
	looks := []api.Look{}
	for _, name := range args {
		answer, err := service.CreateLookWithResponse(ctx, name)
		if err != nil {
			return unreachable(err)
		}
		if answer.JSON201 == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
		looks = append(looks, *answer.JSON201)
		if !c.json {
			c.printLook(*answer.JSON201)
		}
	}
	if c.json {
		return c.printJSON(map[string]any{"items": looks})
	}
	for _, l := range looks {
		if !l.Reachable {
			return &exitError{Failed, ""}
		}
	}
	return nil
}

func input(ctx context.Context, c *Call) error {
	c.listing()
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "add": 1, "save": 1})
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
		answer, err := service.GetInputWithResponse(ctx, args[0])
		if err != nil {
			return unreachable(err)
		}
		if answer.JSON200 == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
		if c.json {
			return c.printJSON(answer.JSON200)
		}
		fmt.Fprint(c.Stdout, answer.JSON200.Definition)
		return nil
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return &exitError{Failed, fmt.Sprintf("the definition cannot be read: %v", err)}
	}
	body := api.DefinitionText{Definition: string(text)}
	var saved *api.Input
	if verb == "add" {
		answer, err := service.CreateInputWithResponse(ctx, body)
		if err != nil {
			return unreachable(err)
		}
		if saved = answer.JSON201; saved == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
		}
	} else if saved, err = c.save(ctx, service, body); err != nil {
		return err
	}
	if c.json {
		return c.printJSON(saved)
	}
	fmt.Fprintf(c.Stdout, "%s saved as version %d: %s of %s files picked, %s left out\n", saved.Name, saved.Version,
		c.number(saved.Counts.Picked), c.number(saved.Counts.Files), c.number(saved.Counts.LeftOut))
	return nil
}

// save saves a definition over the version that is newest now.
func (c *Call) save(ctx context.Context, service *api.ClientWithResponses, body api.DefinitionText) (*api.Input, error) {
	def, err := definition.Parse(body.Definition)
	if err != nil {
		return nil, &exitError{Failed, "the definition is not valid:\n" + err.Error()}
	}
	now, err := service.GetInputWithResponse(ctx, def.Input)
	if err != nil {
		return nil, unreachable(err)
	}
	if now.JSON200 == nil {
		return nil, failure(now.ApplicationproblemJSONDefault, now.Body)
	}
	answer, err := service.SaveInputWithResponse(ctx, def.Input, &api.SaveInputParams{IfMatch: now.HTTPResponse.Header.Get("ETag")}, body)
	if err != nil {
		return nil, unreachable(err)
	}
	if answer.JSON200 == nil {
		return nil, failure(answer.ApplicationproblemJSONDefault, answer.Body)
	}
	return answer.JSON200, nil
}

func (c *Call) listInputs(ctx context.Context, service *api.ClientWithResponses) error {
	all := api.InputPage{Items: []api.Input{}}
	for {
		answer, err := service.ListInputsWithResponse(ctx, &api.ListInputsParams{Limit: given(1000), Cursor: given(all.Next)})
		if err != nil {
			return unreachable(err)
		}
		if answer.JSON200 == nil {
			return failure(answer.ApplicationproblemJSONDefault, answer.Body)
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
