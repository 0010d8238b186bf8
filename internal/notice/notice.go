// Package notice tells people and programs what is worth telling: it records
// notices once for as long as their cause lasts, and sends them by mail and to
// web hooks until they arrive.
package notice

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/notice"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/totals"
	"jorvex/internal/events"
	"jorvex/internal/records"
)

// Desk records and sends notices. Its methods may be used by many goroutines.
type Desk struct {
	Store  *records.Store
	Events *events.Broker
	Clock  func() time.Time
	Log    *slog.Logger
	Base   string // address that links begin with
	Mail   *Mail  // nil if no mail server is set up
	// Gather is how long a mail waits for others to the same address.
	Gather time.Duration
	// Patience is the time before the second try; later ones wait longer.
	Patience time.Duration
	// HTTP posts to web hooks.
	HTTP *http.Client

	mu   sync.Mutex
	told map[subject]map[string]map[string]bool // by place and input, then kind, then key
}

type subject struct{ place, input int64 }

// Standing is what lasts of an input, or of a place, by kind. Kinds that are
// not in it were not looked for.
type Standing map[notice.Kind][]notice.Subject

// Input tells what came to last for an input, and takes note of what is over.
func (d *Desk) Input(ctx context.Context, in records.Input, now Standing) error {
	return d.standing(ctx, subject{in.PlaceID, in.ID}, []string{in.Name}, now)
}

// Place tells whether a place is unreachable.
func (d *Desk) Place(ctx context.Context, p records.Place, reachable bool, why string) error {
	now := Standing{notice.Unreachable: nil}
	var concerned []string
	if !reachable {
		now[notice.Unreachable] = []notice.Subject{{Key: p.Name, Says: p.Name + " cannot be reached: " + why}}
		inputs, err := d.Store.InputsOf(ctx, p.ID)
		if err != nil {
			return err
		}
		for _, in := range inputs {
			concerned = append(concerned, in.Name)
		}
	}
	return d.standing(ctx, subject{p.ID, 0}, concerned, now)
}

func (d *Desk) standing(ctx context.Context, of subject, concerned []string, now Standing) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	known := d.told[of]
	if known == nil {
		var err error
		if known, err = d.Store.Told(ctx, of.place, of.input); err != nil {
			return err
		}
		if d.told == nil {
			d.told = map[subject]map[string]map[string]bool{}
		}
		d.told[of] = known
	}
	var tellings []records.Telling
	var notices []records.NewNotice
	for _, kind := range notice.Kinds() {
		subjects, looked := now[kind]
		if !looked {
			continue
		}
		before, ever := known[string(kind)]
		told := make(map[string]bool, len(before))
		for key := range before {
			if key != "" {
				told[key] = true
			}
		}
		fresh, over := notice.Fresh(told, subjects)
		if ever && len(fresh)+len(over) == 0 {
			continue
		}
		t := records.Telling{Kind: string(kind), Over: over}
		for _, s := range fresh {
			t.Fresh = append(t.Fresh, s.Key)
		}
		tellings = append(tellings, t)
		if len(fresh) > 0 && (ever || kind.News()) {
			notices = append(notices, records.NewNotice{Kind: string(kind), Sentence: kind.Sentence(fresh), Count: len(fresh), Named: notice.Names(fresh)})
		}
	}
	if len(tellings) == 0 {
		return nil
	}
	if err := d.record(ctx, of, concerned, tellings, nil, notices); err != nil {
		delete(d.told, of) // what is recorded decides
		return err
	}
	for _, t := range tellings {
		if known[t.Kind] == nil {
			known[t.Kind] = map[string]bool{"": true}
		}
		for _, key := range t.Over {
			delete(known[t.Kind], key)
		}
		for _, key := range t.Fresh {
			known[t.Kind][key] = true
		}
	}
	return nil
}

// record records notices that a rule wants told, with whom they go to.
func (d *Desk) record(ctx context.Context, of subject, concerned []string, tellings []records.Telling, refreshes []int64, notices []records.NewNotice) error {
	var rules []records.NoticeRule
	if len(notices) > 0 {
		var err error
		if rules, err = d.Store.NoticeRules(ctx); err != nil {
			return err
		}
	}
	at := d.Clock()
	wanted := notices[:0]
	for _, n := range notices {
		n.At, n.PlaceID, n.InputID = at, of.place, of.input
		asked := false
		for _, r := range rules {
			if r.Off || !slices.Contains(r.Kinds, n.Kind) || len(r.Inputs) > 0 && !slices.ContainsFunc(concerned, func(name string) bool { return slices.Contains(r.Inputs, name) }) {
				continue
			}
			asked = true
			for _, address := range r.Mail {
				if !slices.ContainsFunc(n.Sends, func(s records.Send) bool { return s.Channel == "mail" && s.Address == address }) {
					n.Sends = append(n.Sends, records.Send{Rule: r.Name, Channel: "mail", Address: address, Due: at.Add(d.Gather)})
				}
			}
			if r.Hook != "" {
				n.Sends = append(n.Sends, records.Send{Rule: r.Name, Channel: "hook", Address: r.Hook, Due: at})
			}
		}
		if asked {
			wanted = append(wanted, n)
		}
	}
	if err := d.Store.Tell(ctx, of.place, of.input, tellings, refreshes, wanted); err != nil {
		return err
	}
	if len(wanted) > 0 {
		d.Events.Publish("notice", map[string]int{"notices": len(wanted)})
	}
	return nil
}

// refreshes tells of the refreshes that ended since it was called last.
func (d *Desk) refreshes(ctx context.Context) error {
	list, err := d.Store.UntoldRefreshes(ctx, 100)
	if err != nil {
		return err
	}
	for _, r := range list {
		var n records.NewNotice
		switch r.Outcome {
		case records.Running:
			continue // its files are being put in place
		case records.Rehearsed, records.Cancelled:
			// Whoever asked for it knows.
		case records.Delivered:
			n, err = d.delivered(ctx, r)
		case records.Stopped:
			n = records.NewNotice{Kind: string(notice.Stopped), Sentence: "a refresh was stopped: " + r.Problem}
		case records.Asking:
			n = records.NewNotice{Kind: string(notice.Waiting), Sentence: "a refresh waits for somebody to decide: " + r.Problem}
		default:
			n = records.NewNotice{Kind: string(notice.Failed), Sentence: fmt.Sprintf("a refresh was %s: %s", outcome(r.Outcome), r.Problem)}
		}
		if err != nil {
			return err
		}
		for i, f := range r.StoppedBy {
			if i < notice.MostNamed {
				n.Named = append(n.Named, f.Path+": "+f.Finding.Sentence)
			}
		}
		n.Count, n.RefreshID, n.Receipt = max(1, len(r.StoppedBy)), r.ID, r.Receipt
		// A report's notice stands with the first of its inputs.
		var names []string
		var of subject
		for i, id := range r.Inputs {
			in, err := d.Store.InputByID(ctx, id)
			if err != nil {
				return err
			}
			if names = append(names, in.Name); i == 0 {
				of = subject{in.PlaceID, in.ID}
			}
		}
		if r.ReportID != 0 {
			n.Sentence = "report " + r.Input + ": " + n.Sentence
		}
		notices := []records.NewNotice{n}
		if n.Kind == "" || r.Request.Rehearse {
			notices = nil
		}
		if err := d.record(ctx, of, names, nil, []int64{r.ID}, notices); err != nil {
			return err
		}
	}
	return nil
}

func outcome(o records.Outcome) string {
	if o == records.Interrupted {
		return "interrupted"
	}
	return "not delivered"
}

// delivered tells what a refresh delivered, and what moved since the one before.
func (d *Desk) delivered(ctx context.Context, r records.Refresh) (records.NewNotice, error) {
	n := records.NewNotice{Kind: string(notice.Delivered)}
	stored, err := d.Store.Receipt(ctx, r.Receipt)
	if err != nil {
		return n, err
	}
	h, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return n, err
	}
	before, err := d.Store.ReceiptBefore(ctx, stored.Number, h.InputID)
	if err != nil {
		return n, err
	}
	var last receipt.Header
	if before != nil {
		if last, err = receipt.ParseHeader(before.Header); err != nil {
			return n, err
		}
	}
	moved := func(before, after string) string {
		difference, ok := totals.Difference(before, after)
		if !ok || !strings.HasPrefix(difference, "+") && !strings.HasPrefix(difference, "-") {
			return "" // nothing moved, or there is nothing to compare with
		}
		return " (" + totals.Grouped(difference) + ")"
	}
	n.Sentence = "a refresh delivered " + plural(h.Rows, "row")
	if before != nil {
		n.Sentence += moved(fmt.Sprint(last.Rows), fmt.Sprint(h.Rows))
	}
	n.Sentence += " from " + plural(h.Files, "file")
	for _, t := range h.Totals {
		n.Sentence += fmt.Sprintf("; %s %s", t.Column, totals.Grouped(t.Sum))
		for _, old := range last.Totals {
			if old.Column == t.Column {
				n.Sentence += moved(old.Sum, t.Sum)
			}
		}
	}
	return n, nil
}

func plural(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return totals.Grouped(fmt.Sprint(n)) + " " + what + "s"
}

// Shown puts a recorded notice in the form in which it is sent.
func (d *Desk) Shown(n records.Notice) notice.Notice {
	shown := notice.Notice{ID: n.ID, At: n.At.UTC(), Kind: notice.Kind(n.Kind), Place: n.Place, Input: n.Input, Sentence: n.Sentence, Count: n.Count, Named: n.Named, Link: d.Base + link(n)}
	if def, err := definition.Parse(n.Text, n.At); n.Text != "" && err == nil {
		shown.Title = def.Title
	}
	return shown
}

// link is the console's page that a notice is about.
func link(n records.Notice) string {
	at := "/inputs/" + n.Input
	switch notice.Kind(n.Kind) {
	case notice.Unreachable:
		return "/places"
	case notice.Broken, notice.InDoubt:
		return at + "?state=" + n.Kind
	case notice.Missing, notice.Late, notice.Complete:
		return at + "/coverage"
	case notice.Delivered:
		return fmt.Sprint("/receipts/", n.Receipt)
	}
	return at
}
