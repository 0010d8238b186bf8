package client

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/totals"
)

func refresh(ctx context.Context, c *Call) error { return c.ask(ctx, false) }

// rehearse has everything done but the delivery.
func rehearse(ctx context.Context, c *Call) error { return c.ask(ctx, true) }

func (c *Call) ask(ctx context.Context, rehearse bool) error {
	c.connected()
	wait := c.Flags.Bool("wait", true, "wait until the refresh has ended")
	set := parameters{}
	c.Flags.Var(&set, "set", "`name=value` of a parameter; may be given several times")
	var only paths
	c.Flags.Var(&only, "only", "take just this `file`, this once; may be given several times")
	every := false
	if !rehearse {
		c.Flags.BoolVar(&every, "every", false, "refresh every input that delivers something")
	}
	asOf := c.Flags.String("as-of", "", "`day` or time that windows and dates are told against, as 2026-10-31; now if empty")
	args, err := c.Parse(0, 1)
	if err != nil {
		return err
	}
	if every == (len(args) == 1) {
		return Usage("write: jorvex %s %s", c.command.Name, c.command.Args)
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if every {
		return c.refreshEvery(ctx, service, *wait)
	}
	request := api.RefreshRequest{Set: set, Only: only, Rehearse: rehearse}
	if *asOf != "" {
		if request.AsOf, err = parseMoment(*asOf, true); err != nil {
			return Usage("-as-of: %s", err)
		}
	}
	answer, err := service.CreateRefreshWithResponse(ctx, args[0], request)
	if refused(err, http.StatusNotFound) { // it may be a report
		of, errReport := service.RefreshReportWithResponse(ctx, args[0], request)
		if errReport == nil {
			return c.follow(ctx, service, of.JSON202, *wait)
		}
		if !refused(errReport, http.StatusNotFound) {
			return errReport
		}
	}
	if err != nil {
		return err
	}
	return c.follow(ctx, service, answer.JSON202, *wait)
}

// refreshEvery refreshes every input. It fails if one does.
func (c *Call) refreshEvery(ctx context.Context, service *api.ClientWithResponses, wait bool) error {
	answer, err := service.RefreshEveryWithResponse(ctx)
	if err != nil {
		return err
	}
	var worst error
	for _, r := range answer.JSON202.Items {
		if err := c.follow(ctx, service, &r, wait); err != nil {
			fmt.Fprintf(c.Stderr, "jorvex: %v\n", err)
			if code := new(exitError); errors.As(err, &code) {
				err = &exitError{code: code.code, message: "not every input was delivered"}
			}
			worst = err
		}
	}
	return worst
}

// answer answers a refresh that asks.
func answer(ctx context.Context, c *Call) error {
	c.connected()
	wait := c.Flags.Bool("wait", true, "wait until the refresh that goes on has ended")
	args, err := c.Parse(2, 2)
	if err != nil {
		return err
	}
	id, err := numbered(args[0], "refresh")
	if err != nil {
		return err
	}
	if args[1] != "go" && args[1] != "stop" {
		return Usage("the answer is go or stop, not %q", args[1])
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.AnswerRefreshWithResponse(ctx, id, api.AnswerRefreshJSONRequestBody{GoOn: args[1] == "go"})
	if err != nil {
		return err
	}
	if args[1] == "stop" {
		if c.json {
			return c.printJSON(answer.JSON200)
		}
		fmt.Fprintf(c.Stdout, "refresh %d is stopped; the last delivery stands\n", id)
		return nil
	}
	return c.follow(ctx, service, answer.JSON200, *wait)
}

// follow waits until a refresh has ended, if it is to, and tells what came of it.
func (c *Call) follow(ctx context.Context, service *api.ClientWithResponses, r *api.Refresh, wait bool) error {
	// What it came to is in the answer about the refresh, not in the one to asking
	// for it, however soon it ended.
	for asked := r; wait && (r == asked || r.Outcome == api.OutcomeWaiting || r.Outcome == api.OutcomeRunning); {
		c.progress(*r)
		select {
		case <-ctx.Done():
			fmt.Fprintln(c.Stderr)
			return &exitError{code: Failed, message: fmt.Sprintf("no longer waiting; refresh %d goes on in the service", r.Id)}
		case <-time.After(150 * time.Millisecond):
		}
		now, err := service.GetRefreshWithResponse(ctx, r.Id)
		if err != nil {
			return err
		}
		r = now.JSON200
	}
	c.progressEnd()
	if c.json {
		if err := c.printJSON(r); err != nil {
			return err
		}
		return outcome(*r, "")
	}
	switch {
	case r.Outcome == api.OutcomeDelivered:
		return c.delivered(ctx, service, *r)
	case r.Outcome == api.OutcomeRehearsed:
		return c.rehearsed(ctx, service, *r)
	case !wait:
		fmt.Fprintf(c.Stdout, "refresh %d of %s is %s\n", r.Id, r.Input, r.Outcome)
		return nil
	}
	message := fmt.Sprintf("refresh %d of %s: %s: %s", r.Id, r.Input, r.Outcome, r.Problem)
	if len(r.StoppedBy) > 1 {
		for _, f := range r.StoppedBy {
			message += fmt.Sprintf("\n  %s: %s", f.Path, f.Finding.Sentence)
		}
	}
	if r.Next != "" {
		message += "\nwhat would let it pass: " + r.Next
	}
	return outcome(*r, message)
}

// outcome is the exit of a command that waited for a refresh.
func outcome(r api.Refresh, message string) error {
	switch r.Outcome {
	case api.OutcomeStopped, api.OutcomeAsking:
		return &exitError{code: GateStopped, message: message}
	case api.OutcomeFailed, api.OutcomeInterrupted, api.OutcomeCancelled:
		return &exitError{code: Failed, message: message}
	}
	return nil
}

const barWidth = 30

// progress draws a bar over the last one.
func (c *Call) progress(r api.Refresh) {
	if !c.Terminal {
		return
	}
	done := 0
	if r.Bytes > 0 {
		done = int(r.BytesDone * barWidth / r.Bytes)
	}
	left := ""
	if took := time.Since(r.Started); !r.Started.IsZero() && r.BytesDone > 0 && r.BytesDone < r.Bytes {
		if rest := time.Duration(float64(took) * float64(r.Bytes-r.BytesDone) / float64(r.BytesDone)); rest >= 2*time.Second {
			left = ", some " + rest.Round(time.Second).String() + " left"
		}
	}
	fmt.Fprintf(c.Stderr, "\r\x1b[K%-10s [%s%s] %s of %s files, %s rows%s", r.Stage, strings.Repeat("=", done), strings.Repeat(" ", barWidth-done),
		totals.Grouped(fmt.Sprint(r.FilesDone)), totals.Grouped(fmt.Sprint(r.Files)), totals.Grouped(fmt.Sprint(r.Rows)), left)
}

func (c *Call) progressEnd() {
	if c.Terminal {
		fmt.Fprint(c.Stderr, "\r\x1b[K")
	}
}

func (c *Call) delivered(ctx context.Context, service *api.ClientWithResponses, r api.Refresh) error {
	answer, err := service.GetReceiptWithResponse(ctx, r.Receipt)
	if err != nil {
		return err
	}
	receipt := answer.JSON200
	fmt.Fprintf(c.Stdout, "%s delivered: %s from %s, receipt %d\n", r.Input, plural(receipt.Rows, "row"), plural(receipt.Files, "file"), receipt.Number)
	c.moved(*receipt)
	c.passed(*receipt)
	c.handedOver(*receipt)
	if r.Problem != "" {
		return &exitError{code: Failed, message: r.Problem + "; " + r.Next}
	}
	return nil
}

// moved prints rows, totals and deliveries, against the receipt before.
func (c *Call) moved(r api.Receipt) {
	t := columns("", ">total")
	moved := ""
	if r.Before > 0 {
		t = columns("", ">total", fmt.Sprintf(">since %d", r.Before))
		moved = signed(r.RowsMoved)
	}
	t.row("rows", c.number(r.Rows), moved)
	for _, total := range r.Totals {
		t.row(total.Column, totals.Grouped(total.Sum), totals.Grouped(total.Moved))
	}
	t.indent = "  "
	t.print(c.Stdout)
	for _, d := range r.Deliveries {
		size := ""
		if d.Bytes > 0 {
			size = ", " + c.bytes(d.Bytes)
		}
		fmt.Fprintf(c.Stdout, "  %s %s (%s%s)\n", d.Kind, d.Where, plural(d.Rows, "row"), size)
	}
	if r.NotUsed > 0 {
		fmt.Fprintf(c.Stdout, "  %s picked and not used\n", plural(r.NotUsed, "file"))
	}
}

func (c *Call) passed(r api.Receipt) {
	for _, p := range r.Passed {
		fmt.Fprintf(c.Stdout, "  passed (%s): %s\n", word(p.Answer), p.Says)
	}
}

// handedOver tells what became of the files that fed.
func (c *Call) handedOver(r api.Receipt) {
	states := map[string]int{}
	for _, h := range r.HandedOver {
		states[h.State]++
	}
	done := map[string]string{"copy": "copied", "move": "moved", "delete": "deleted"}[r.Handover]
	if n := states["done"]; n > 0 {
		fmt.Fprintf(c.Stdout, "  handed over: %s %s\n", plural(n, "file"), done)
	}
	if n := states["due"]; n > 0 {
		fmt.Fprintf(c.Stdout, "  still to be handed over: %s; the next refresh or start does\n", plural(n, "file"))
	}
	for _, h := range r.HandedOver {
		if h.State == "failed" {
			fmt.Fprintf(c.Stdout, "  not handed over: %s: %s\n", h.Path, h.Problem)
		}
	}
}

// rehearsed tells what a refresh would deliver.
func (c *Call) rehearsed(ctx context.Context, service *api.ClientWithResponses, r api.Refresh) error {
	fmt.Fprintf(c.Stdout, "%s would deliver %s from %s; nothing was delivered\n", r.Input, plural(r.Rehearsal.Rows, "row"), plural(r.Rehearsal.Files, "file"))
	c.moved(r.Rehearsal)
	c.passed(r.Rehearsal)
	if r.Rehearsal.Handover != "" {
		fmt.Fprintf(c.Stdout, "  then the files would be handed over: %s; none was touched\n", r.Rehearsal.Handover)
	}
	if r.Rehearsal.Before == 0 {
		return nil
	}
	answer, err := service.CompareRehearsalWithResponse(ctx, r.Id, &api.CompareRehearsalParams{Limit: 20})
	if err != nil {
		return err
	}
	c.printMoves(*answer.JSON200)
	return nil
}

// cancel gives a refresh up.
func cancel(ctx context.Context, c *Call) error {
	c.connected()
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	id, err := numbered(args[0], "refresh")
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.CancelRefreshWithResponse(ctx, id)
	if err != nil {
		return err
	}
	r := answer.JSON200
	if c.json {
		return c.printJSON(r)
	}
	fmt.Fprintf(c.Stdout, "refresh %d of %s is %s\n", r.Id, r.Input, r.Outcome)
	return nil
}

func signed(n int64) string {
	if n > 0 {
		return "+" + totals.Grouped(strconv.FormatInt(n, 10))
	}
	return totals.Grouped(strconv.FormatInt(n, 10))
}

func refreshes(ctx context.Context, c *Call) error {
	c.listing()
	most := c.Flags.Int("most", 50, "at most this `number` of refreshes")
	args, err := c.Parse(0, 1)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	params := &api.ListRefreshesParams{Limit: given(min(max(*most, 1), 1000))}
	if len(args) > 0 {
		params.Input = given(args[0])
	}
	answer, err := service.ListRefreshesWithResponse(ctx, params)
	if err != nil {
		return err
	}
	t := columns(">refresh", "input", "outcome", ">receipt", ">files", ">rows", "asked for", "ended", "what happened")
	for _, r := range answer.JSON200.Items {
		receipt := ""
		if r.Receipt > 0 {
			receipt = fmt.Sprint(r.Receipt)
		}
		t.row(fmt.Sprint(r.Id), r.Input, string(r.Outcome), receipt, c.number(r.Files), c.number(r.Rows), c.moment(r.AskedAt), c.moment(r.Ended), r.Problem)
	}
	return c.show(t, answer.JSON200)
}

func receiptCommand(ctx context.Context, c *Call) error {
	c.listing()
	withFiles := c.Flags.Bool("files", false, "list the files too")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	number, err := numbered(args[0], "receipt")
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.GetReceiptWithResponse(ctx, number)
	if err != nil {
		return err
	}
	r := answer.JSON200
	list := []api.ReceiptFile{}
	for cursor := ""; *withFiles || c.csv; {
		page, err := service.ListReceiptFilesWithResponse(ctx, number, &api.ListReceiptFilesParams{Cursor: given(cursor), Limit: given(1000)})
		if err != nil {
			return err
		}
		list = append(list, page.JSON200.Items...)
		if cursor = page.JSON200.Next; cursor == "" {
			break
		}
	}
	if c.json {
		return c.printJSON(struct {
			api.Receipt
			List []api.ReceiptFile `json:"list,omitempty"`
		}{*r, list})
	}
	if !c.csv {
		c.printReceipt(*r)
	}
	if len(list) == 0 {
		return nil
	}
	if !c.csv {
		fmt.Fprintln(c.Stdout)
	}
	t := columns("use", ">rows", ">size", "modified", "digest", "file", "notes")
	for _, f := range list {
		var notes []string
		if f.Why != "" {
			notes = append(notes, f.Why)
		}
		for _, found := range f.Findings {
			if found.Sentence != f.Why {
				notes = append(notes, string(found.Grade)+": "+found.Sentence)
			}
		}
		if f.Held != "" {
			notes = append(notes, f.Held)
		}
		for _, l := range f.Listed {
			notes = append(notes, strings.TrimPrefix(listedWords(l), "; "))
		}
		digest := f.Digest
		if !c.csv && len(digest) > 12 {
			digest = digest[:12]
		}
		t.row(word(string(f.Use)), c.number(f.RowsKept), c.bytes(f.Size), c.moment(f.Modified), digest, f.Path, strings.Join(notes, "; "))
	}
	return c.show(t, nil)
}

func (c *Call) printReceipt(r api.Receipt) {
	t := &table{}
	t.row("receipt", fmt.Sprint(r.Number))
	subject := "input"
	if len(r.Inputs) > 0 {
		subject = "report"
	}
	t.row(subject, fmt.Sprintf("%s, definition version %d", r.Input, r.DefinitionVersion))
	for _, in := range r.Inputs {
		t.row("of it", fmt.Sprintf("%s from %s of %s, definition version %d", plural(in.Rows, "row"), plural(in.Files, "file"), in.Input, in.DefinitionVersion))
	}
	t.row("refresh", fmt.Sprintf("%d, asked for by %s", r.Refresh, r.AskedBy))
	t.row("as of", c.moment(r.AsOf))
	for _, name := range slices.Sorted(maps.Keys(r.Parameters)) {
		t.row("with", name+"="+r.Parameters[name])
	}
	if len(r.Only) > 0 {
		t.row("of", "only these files, this once: "+strings.Join(r.Only, ", "))
	}
	t.row("ended", fmt.Sprintf("%s, after %s", c.moment(r.Ended), r.Ended.Sub(r.Started).Round(time.Millisecond)))
	t.row("made by", fmt.Sprintf("jorvex %s on %s", r.Program, r.Machine))
	t.row("files", c.number(r.Files))
	if r.NotUsed > 0 {
		t.row("not used", fmt.Sprintf("%s, though picked; -files tells why", plural(r.NotUsed, "file")))
	}
	for _, l := range r.LeftOut {
		t.row("left out", fmt.Sprintf("%s: %s", plural(l.Files, "file"), word(l.Reason)))
	}
	for _, p := range r.Passed {
		t.row("passed", fmt.Sprintf("%s (the gate answers %s)", p.Says, word(p.Answer)))
	}
	t.row("digest", r.Digest)
	t.row("before it", r.Previous)
	t.print(c.Stdout)
	fmt.Fprintln(c.Stdout)
	c.moved(r)
	c.handedOver(r)
}
