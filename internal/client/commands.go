package client

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/totals"
)

// Commands lists the commands that this package has.
func Commands() []Command {
	return []Command{
		{"demo", "", "Make the demo share and load it into the running service.", "jorvex demo", demoCommand},
		{"sign-in", "", "Print a link that signs one browser in to the console, once.", "jorvex sign-in", signIn},
		{"place", "list | show NAME | add NAME DIRECTORY | pace NAME | writable NAME | unmounted NAME", "List places, show one, add one, set how often it is looked at, let files in it be handed over, or say that its directory is no mounted share any more.", "jorvex place pace skerry-share -every 1m -settle 30s", place},
		{"input", inputVerbs, "List inputs; show, add, save, copy, rename or move a definition; list, compare or restore its versions.", "jorvex input show daily-loadings > mine.yaml", input},
		{"look", "[PLACE]", "Look at a place now, or at all.", "jorvex look skerry-share", look},
		{"files", "INPUT | -try FILE", "List the roster: every file with its verdict, state and reason. Or try a definition that is not saved.", "jorvex files daily-loadings -near", files},
		{"why", "INPUT FILE", "Tell the whole way to a file's verdict.", "jorvex why daily-loadings \"Berthing rules.pdf\"", why},
		{"learn", "INPUT [FILE]", "Propose how files are read, learnt from one of them: the definition with a layout and columns. Nothing is saved.", "jorvex learn tariff-card", learn},
		{"columns", "INPUT", "Map the headers of the picked files to the declared columns: headers down, files across.", "jorvex columns daily-loadings", columnsCommand},
		{"rows", "INPUT [FILE]", "Show the first rows of a file, the first picked one unless it is named, as they are shaped or as they are in it.", "jorvex rows fuel-uplift 'fuel/2026-08/Fulmar fuel.xlsx' -raw", rowsCommand},
		{"differences", "INPUT FILE", "Show the rows and columns that a file's version of now and the one delivered before differ in.", "jorvex differences daily-loadings 'Eskvik/2026/loadings 2026-11-20.csv'", differences},
		{"try", "INPUT FILE", "Tell what would become of a file that is not dropped yet. Nothing is recorded.", "jorvex try daily-loadings 'loadings 2026-11-25.csv' -as 'Eskvik/2026/loadings 2026-11-25.csv'", try},
		{"hold", holdVerbs, "Hold a file in or out whatever the rules say, release it, or list the holds.", "jorvex hold out daily-loadings 'Eskvik/2026/loadings 2026-11-20.csv' -note 'figures are wrong'", hold},
		{"changes", "INPUT", "List what is new, changed, moved, removed or broken since the last delivery, or every change there was.", "jorvex changes daily-loadings -log -most 20", changesCommand},
		{"coverage", "INPUT", "Show which expected files came: a letter for each member and period.", "jorvex coverage daily-loadings", coverage},
		{"excuse", "INPUT [MEMBER] PERIOD", "Say that an expected file need not come, or take that back.", "jorvex excuse daily-loadings Fennay 2026-11-20 -note 'no sailings'", excuse},
		{"watch", "[INPUT]", "Print what changes as it happens, until Ctrl-C.", "jorvex watch daily-loadings", watchCommand},
		{"notices", "", "List what was worth telling, the newest first.", "jorvex notices -unseen", notices},
		{"notice-rule", ruleVerbs, "Say what is worth telling, and to whom by mail or web hook.", "jorvex notice-rule set gaps -kinds missing,late -inputs daily-loadings", noticeRule},
		{"confirm", "INPUT", "Confirm that the files in doubt are gone.", "jorvex confirm daily-loadings", confirm},
		{"report", reportVerbs, "List reports, which are inputs refreshed together under one receipt; show, add or save a definition.", "jorvex report show weekly-sailings", report},
		{"refresh", "INPUT | REPORT | -every", "Read the picked files, deliver, and print the receipt's number.", "jorvex refresh daily-loadings", refresh},
		{"rehearse", "INPUT | REPORT", "Do everything that a refresh does but deliver: predict rows, totals and what they would move by. No source file is touched.", "jorvex rehearse daily-loadings", rehearse},
		{"cancel", "REFRESH", "Cancel a refresh that waits or runs. The last delivery stands.", "jorvex cancel 7", cancel},
		{"answer", "REFRESH go | stop", "Answer a refresh that waits for somebody to decide.", "jorvex answer 7 go", answer},
		{"refreshes", "[INPUT]", "List refreshes, the newest first.", "jorvex refreshes daily-loadings", refreshes},
		{"receipt", "NUMBER", "Show a receipt: what was delivered and which files fed it.", "jorvex receipt 1 -files", receiptCommand},
		{"compare", "NUMBER [NUMBER]", "Show what moved between two receipts: totals, and the files that they moved by. Against the one before if one is named.", "jorvex compare 2", compare},
		{"trace", "FILE | DIGEST | INPUT -where CONDITION", "Show which receipts a file or its bytes fed, or which file and row the rows of a delivery come from.", "jorvex trace daily-loadings -where 'sailing is \"SK1120400\"'", trace},
		{"summary", "INPUT [NAME]", "Show the cross-tabs of an input's last delivery, or of a receipt or rehearsal, and its watched values.", "jorvex summary daily-loadings 'by terminal'", summaryCommand},
		{"export", "INPUT", "Write the combined rows of an input's last delivery to a file, or to the output.", "jorvex export daily-loadings -o eskvik.xlsx -where 'terminal is \"Eskvik\"'", export},
		{"replay", "RECEIPT", "Run a refresh again out of the vault, and compare the digests of its deliveries. Nothing is delivered.", "jorvex replay 1", replay},
		{"verify", "", "Recompute the chain of all receipts; on request read the vault through, and check the deliveries.", "jorvex verify -deep -deliveries", verify},
		{"connection", connectionVerbs, "List, set or forget other PostgreSQL databases that ready-made tables lie in. What is set is tried first.", "jorvex connection set reporting < address.txt", connection},
		{"vault", "", "Show or set how long the bytes that fed receipts are kept. What that would free is shown first.", "jorvex vault -days 400 -count 12", vault},
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
		return &exitError{code: Failed, message: fmt.Sprintf("the definition cannot be read: %v", err)}
	}
	def, err := definition.Parse(string(text), time.Now())
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
			return &exitError{code: Failed}
		}
		return nil
	}
	if invalid != nil {
		for _, p := range invalid.Problems {
			fmt.Fprintf(c.Stdout, "%s:%d:%d: %s\n", args[0], p.Line, p.Column, p.Message)
		}
		return &exitError{code: Failed, message: fmt.Sprintf("%s in %s", plural(len(invalid.Problems), "fault"), args[0])}
	}
	fmt.Fprintf(c.Stdout, "%s is valid: input %s, %s, %s, %s.\n", args[0], def.Input,
		plural(len(def.Pick), "pattern"), plural(len(def.Columns), "column"), plural(len(def.Delivery), "delivery"))
	return nil
}

// plural counts things in words.
func plural[N int | int64](n N, what string) string {
	many := what + "s"
	if strings.HasSuffix(what, "ss") {
		many = what + "es"
	}
	if base, y := strings.CutSuffix(what, "y"); y && !strings.HasSuffix(base, "a") {
		many = base + "ies"
	}
	if n == 1 {
		many = what
	}
	return totals.Grouped(fmt.Sprint(n)) + " " + many
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
		return err
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
	every := c.Flags.Duration("every", 0, "add, pace: `time` between two looks; 0 is what the service was started with")
	settle := c.Flags.Duration("settle", 0, "add, pace: `time` a file must be left alone for to be read; 0 is what the service was started with")
	off := c.Flags.Bool("off", false, "writable: no file may be handed over")
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "add": 2, "pace": 1, "writable": 1, "unmounted": 1})
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
			return err
		}
		t := columns("place", "reachable", ">files", ">folders", "last look", "directory")
		for _, p := range answer.JSON200.Items {
			t.row(p.Name, reachable(p), c.number(p.LastLook.Files), c.number(p.LastLook.Folders), c.moment(p.LastLook.Ended), p.Directory)
		}
		return c.show(t, answer.JSON200)
	case "show", "unmounted":
		if verb == "unmounted" {
			if _, err := service.ForgetMountWithResponse(ctx, args[0]); err != nil {
				return err
			}
		}
		answer, err := service.GetPlaceWithResponse(ctx, args[0])
		if err != nil {
			return err
		}
		shown = answer.JSON200
	case "add":
		answer, err := service.CreatePlaceWithResponse(ctx, api.NewPlace{Name: args[0], Directory: args[1], EverySeconds: every.Seconds(), SettleSeconds: settle.Seconds()})
		if err != nil {
			return err
		}
		shown = answer.JSON201
	case "writable":
		answer, err := service.MarkWritableWithResponse(ctx, args[0], api.MarkWritableJSONRequestBody{Writable: !*off})
		if err != nil {
			return err
		}
		shown = answer.JSON200
	case "pace":
		answer, err := service.PacePlaceWithResponse(ctx, args[0], api.Pace{EverySeconds: every.Seconds(), SettleSeconds: settle.Seconds()})
		if err != nil {
			return err
		}
		shown = answer.JSON200
	}
	if c.json {
		return c.printJSON(shown)
	}
	t := &table{}
	t.row("place", shown.Name)
	t.row("directory", shown.Directory)
	t.row("reachable", reachable(*shown))
	t.row("watched", watchedBy(*shown))
	writable := "no: its files are only read"
	if shown.Writable {
		writable = "yes: files in it may be handed over"
	}
	t.row("writable", writable)
	t.row("pace", fmt.Sprintf("a look every %s; a file is settled once left alone for %s", seconds(shown.EverySeconds), seconds(shown.SettleSeconds)))
	t.print(c.Stdout)
	if !shown.LastLook.Ended.IsZero() {
		c.printLook(shown.LastLook)
	}
	return nil
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func reachable(p api.Place) string {
	if p.Reachable {
		return "yes"
	}
	return "no: " + p.Why
}

// watchedBy says how a place is watched.
func watchedBy(p api.Place) string {
	if p.Events != "" {
		return "by timed looks: " + p.Events
	}
	return "by events and timed looks"
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
			return err
		}
		for _, p := range answer.JSON200.Items {
			args = append(args, p.Name)
		}
	}
	looks := []api.Look{}
	for _, name := range args {
		answer, err := service.CreateLookWithResponse(ctx, name)
		if err != nil {
			return err
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
			return &exitError{code: Failed}
		}
	}
	return nil
}
