package service

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// The functions here put records in the form of the contract.

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}

func shownPlace(p records.Place) api.Place {
	return api.Place{Name: p.Name, Kind: api.PlaceKind(p.Kind), Directory: p.Directory, Reachable: p.Reachable, Why: p.Why, Since: at(p.Since), Writable: p.Writable}
}

func shownLook(place string, l records.Look) api.Look {
	shown := api.Look{Place: place, Started: l.Started.UTC(), Ended: l.Ended.UTC(), Reachable: l.Reachable, Why: l.Why,
		Files: l.Files, Folders: l.Folders, New: l.New, Changed: l.Changed, Gone: l.Gone, Skipped: []api.Skipped{}}
	for _, s := range l.Skipped {
		shown.Skipped = append(shown.Skipped, api.Skipped{Path: s.Path, Why: s.Why})
	}
	return shown
}

func shownInput(in records.Input, def *definition.Definition) api.Input {
	shown := api.Input{
		Name: in.Name, Title: in.Name, Place: in.Place, Version: in.Version, Definition: in.Text, SavedAt: in.SavedAt.UTC(), SavedBy: in.SavedBy,
		Reachable: in.PlaceReachable, Why: in.PlaceWhy, Deliveries: []string{},
		Counts: shownCounts(in.Counts), Rules: shownRules(in.Counts.Rules), Cures: shownCures(in.Counts.Cures), Findings: shownFindings(in.Counts.Findings),
		Parameters: []api.Parameter{},
	}
	if d := in.Doubt; d != nil {
		shown.Doubt = api.Doubt{Since: d.Since.UTC(), Gone: d.Gone, Had: d.Had, Confirmed: d.Confirmed, By: d.By}
	}
	if def != nil {
		if def.Title != "" {
			shown.Title = def.Title
		}
		shown.Folder = filename.Show(def.Folder)
		for _, p := range def.Parameters {
			shown.Parameters = append(shown.Parameters, api.Parameter{Name: p.Name, Type: api.ParameterType(p.Type), Default: p.Default, Value: def.Values[p.Name]})
		}
		shown.RefreshedWhen = whenWords(def.Refresh)
		for _, d := range def.Delivery {
			shown.Deliveries = append(shown.Deliveries, d.Kind()+" "+d.Name())
		}
	}
	return shown
}

func shownChange(c records.Change) api.LogEntry {
	when := func(ns int64) time.Time {
		if ns == 0 {
			return time.Time{}
		}
		return time.Unix(0, ns).UTC()
	}
	return api.LogEntry{
		Id: c.ID, At: c.At.UTC(), Path: filename.Show(string(c.Path)), State: c.State, BeforeState: c.BeforeState, Verdict: c.Verdict, BeforeVerdict: c.BeforeVerdict,
		Sentence: c.Sentence, Size: c.Size, BeforeSize: c.BeforeSize, Modified: when(c.Modified), BeforeModified: when(c.BeforeModified), Digest: c.Digest, BeforeDigest: c.BeforeDigest,
	}
}

func shownFindings(findings []finding.Finding) []api.Finding {
	shown := make([]api.Finding, 0, len(findings))
	for _, f := range findings {
		shown = append(shown, api.Finding{Code: string(f.Code), Grade: api.FindingGrade(f.Grade), Sentence: f.Sentence, Suggest: f.Suggest, Column: f.Column, Row: f.Row, Count: f.Count})
	}
	return shown
}

func shownFile(l records.Listed) api.File {
	shown := api.File{
		Id: l.ID, Path: filename.Show(string(l.Path)), Size: l.Size, Modified: time.Unix(0, l.Modified).UTC(),
		Verdict: api.Verdict(l.Verdict), Reason: l.Reason, Sentence: l.Sentence, Rule: l.Rule, Line: l.Line, State: api.State(l.State),
		Captures: l.Captures, Near: shownNear(l.Near), Listed: shownListed(l.Entries), Findings: shownFindings(l.Findings),
	}
	if l.Hold != nil {
		hold := *l.Hold
		hold.Path = l.Path
		shown.Hold = shownHold(hold)
	}
	return shown
}

func shownTried(t watch.Tried) api.File {
	return api.File{
		Id: t.ID, Path: filename.Show(t.Path), Size: t.Size, Modified: time.Unix(0, t.Modified).UTC(),
		Verdict: api.Verdict(t.Row.Verdict), Reason: t.Row.Reason, Sentence: t.Row.Sentence, Rule: t.Row.Rule, Line: t.Row.Line,
		Captures: t.Row.Captures, Near: shownNear(t.Row.Near), Listed: shownListed(t.Row.Entries), Findings: []api.Finding{},
	}
}

func shownNear(n *records.Near) api.Near {
	if n == nil {
		return api.Near{}
	}
	return api.Near{Kind: api.NearKind(n.Kind), Says: n.Says, Pattern: n.Pattern}
}

func shownListed(list []definition.Listed) []api.Listed {
	var shown []api.Listed
	for _, e := range list {
		shown = append(shown, api.Listed{Sheet: e.Sheet, ToSheet: e.Target.Sheet, ToTable: e.Target.Table, ToRow: e.Target.Row})
	}
	return shown
}

func shownHold(h records.Hold) api.Hold {
	return api.Hold{Id: h.ID, Path: filename.Show(string(h.Path)), In: h.In, Note: h.Note, By: h.By, At: h.At.UTC(), Until: at(h.Until),
		WhileSame: h.Digest != "", EndedAt: at(h.EndedAt), EndedWhy: h.EndedWhy}
}

func shownCounts(c records.Counts) api.Counts {
	shown := api.Counts{Files: c.Files, Picked: c.Picked, LeftOut: c.LeftOut, HeldBack: c.HeldBack, ByState: c.ByState, ByReason: c.ByReason, Held: c.Held, Near: c.Near, Coverage: c.Coverage}
	if shown.ByState == nil {
		shown.ByState = map[string]int64{}
	}
	if shown.ByReason == nil {
		shown.ByReason = map[string]int64{}
	}
	return shown
}

func shownRules(rules []records.Rule) []api.Rule {
	shown := make([]api.Rule, 0, len(rules))
	for _, r := range rules {
		shown = append(shown, api.Rule{Kind: api.RuleKind(r.Kind), Text: r.Text, Line: r.Line, Off: r.Off, Files: r.Files})
	}
	return shown
}

func shownCures(cures []records.Cure) []api.Cure {
	shown := make([]api.Cure, 0, len(cures))
	for _, c := range cures {
		shown = append(shown, api.Cure{Kind: c.Kind, Says: c.Says, Pattern: c.Pattern, Beside: c.Beside, Line: c.Line, Path: c.Path, Files: c.Files})
	}
	return shown
}

func shownRefresh(r records.Refresh) api.Refresh {
	shown := api.Refresh{
		Id: r.ID, Input: r.Input, Outcome: api.Outcome(r.Outcome), AskedBy: r.AskedBy, AskedAt: r.AskedAt.UTC(), AsOf: r.AsOf.UTC(),
		Started: at(r.Started), Ended: at(r.Ended), Stage: api.RefreshStage(r.Stage), Files: r.Files, FilesDone: r.FilesDone,
		Bytes: r.Bytes, BytesDone: r.BytesDone, Rows: r.Rows, Problem: r.Problem, Next: r.Next, Receipt: r.Receipt, StoppedBy: []api.StoppingFile{},
	}
	shown.Request = api.RefreshRequest{Set: r.Request.Set, Only: r.Request.Only, Accept: r.Request.Accept, AsOf: at(r.Request.AsOf), Rehearse: r.Request.Rehearse}
	shown.Report = r.ReportID != 0
	if r.Outcome == records.Asking {
		shown.Asks = r.Asks
	}
	for _, f := range r.StoppedBy {
		shown.StoppedBy = append(shown.StoppedBy, api.StoppingFile{Path: f.Path, Finding: shownFindings([]finding.Finding{f.Finding})[0]})
	}
	return shown
}

func shownTotals(list []receipt.Total) []api.Total {
	shown := make([]api.Total, 0, len(list))
	for _, t := range list {
		shown = append(shown, api.Total{Column: t.Column, Sum: t.Sum})
	}
	return shown
}

func shownReceipt(stored receipt.Stored, h receipt.Header) api.Receipt {
	shown := api.Receipt{
		Number: stored.Number, Digest: stored.Digest, Previous: stored.Previous, Refresh: h.Refresh, Input: h.Input,
		DefinitionVersion: h.Definition.Version, DefinitionDigest: h.Definition.Digest, AsOf: h.AsOf, AskedBy: h.AskedBy,
		Started: h.Started, Ended: h.Ended, Machine: h.Machine, Program: h.Program, Files: h.Files, Rows: h.Rows,
		Totals: shownTotals(h.Totals), LeftOut: []api.ReasonCount{}, NotUsed: h.NotUsed, Deliveries: []api.Delivery{},
		Parameters: h.Parameters, Only: h.Only, FilesDigest: h.FilesDigest, Header: string(stored.Header),
	}
	shown.FiguresDigest, shown.Handover = h.FiguresDigest, h.Handover
	for _, in := range h.Inputs {
		shown.Inputs = append(shown.Inputs, api.ReceiptSection{Input: in.Input, DefinitionVersion: in.Definition.Version, Files: in.Files, Rows: in.Rows, NotUsed: in.NotUsed})
	}
	for _, p := range h.Passed {
		shown.Passed = append(shown.Passed, api.Passed{Cause: p.Cause, Answer: p.Answer, Says: p.Says, Files: p.Files})
	}
	for _, r := range h.LeftOut {
		shown.LeftOut = append(shown.LeftOut, api.ReasonCount{Reason: r.Reason, Files: r.Files})
	}
	for _, d := range h.Deliveries {
		shown.Deliveries = append(shown.Deliveries, api.Delivery{Kind: api.DeliveryKind(d.Kind), Name: d.Name, Rows: d.Rows, Bytes: d.Bytes, Digest: d.Digest})
	}
	return shown
}

func shownReceiptFile(f receipt.File) api.ReceiptFile {
	return api.ReceiptFile{
		Place: f.Place, Path: f.Path, Size: f.Size, Modified: f.Modified, Digest: f.Digest, Use: api.ReceiptFileUse(f.Use), Why: f.Why,
		Held: f.Held, Listed: shownReceiptListed(f.Listed), RowsRead: f.Read, RowsKept: f.Kept, Totals: shownTotals(f.Totals), Findings: shownFindings(f.Findings),
	}
}

func shownReceiptListed(list []receipt.Listed) []api.Listed {
	var shown []api.Listed
	for _, e := range list {
		shown = append(shown, api.Listed{Sheet: e.Sheet, ToSheet: e.ToSheet, ToTable: e.ToTable, ToRow: e.ToRow})
	}
	return shown
}

// parametersOf returns a receipt's parameters as canonical JSON.
func parametersOf(h receipt.Header) string {
	return watch.Parameters(&definition.Definition{Values: h.Parameters})
}

// A cursor is opaque to clients: the place in a list where the next page goes on.

func cursor(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

func readCursor(text string, into any) error {
	if text == "" {
		return nil
	}
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(b, into)
	}
	if err != nil {
		return badRequest("the cursor was not made by this service; start again without one")
	}
	return nil
}

// or returns what a parameter that may be left out says, or the zero value.
func or[T any](given *T) T {
	if given == nil {
		var none T
		return none
	}
	return *given
}

// limit returns the number of entries asked for.
func limit(asked int) int {
	if asked == 0 {
		return 100
	}
	return asked
}

// whenWords says when refreshes are made without a person asking.
func whenWords(when definition.Refresh) (words []string) {
	for _, cron := range when.Cron {
		words = append(words, "at "+cron+" (cron)")
	}
	if when.Arrivals > 0 {
		words = append(words, fmt.Sprintf("once files changed and nothing did for %s", when.Arrivals))
	}
	if when.Complete {
		words = append(words, "when a period has all its files")
	}
	return words
}
