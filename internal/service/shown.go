package service

import (
	"encoding/base64"
	"encoding/json"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/records"
)

// The functions here put records in the form of the contract.

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}

func shownPlace(p records.Place) api.Place {
	return api.Place{Name: p.Name, Kind: api.PlaceKind(p.Kind), Directory: p.Directory, Reachable: p.Reachable, Why: p.Why, Since: at(p.Since)}
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
		Counts: api.Counts{Files: in.Counts.Files, Picked: in.Counts.Picked, LeftOut: in.Counts.LeftOut, HeldBack: in.Counts.HeldBack,
			ByState: in.Counts.ByState, ByReason: in.Counts.ByReason},
	}
	if shown.Counts.ByState == nil {
		shown.Counts.ByState = map[string]int64{}
	}
	if shown.Counts.ByReason == nil {
		shown.Counts.ByReason = map[string]int64{}
	}
	if def != nil {
		if def.Title != "" {
			shown.Title = def.Title
		}
		shown.Folder = filename.Show(def.Folder)
		for _, d := range def.Delivery {
			shown.Deliveries = append(shown.Deliveries, d.Kind()+" "+d.Name())
		}
	}
	return shown
}

func shownFindings(findings []finding.Finding) []api.Finding {
	shown := make([]api.Finding, 0, len(findings))
	for _, f := range findings {
		shown = append(shown, api.Finding{Code: string(f.Code), Grade: api.FindingGrade(f.Grade), Sentence: f.Sentence, Suggest: f.Suggest, Column: f.Column, Row: f.Row, Count: f.Count})
	}
	return shown
}

func shownFile(l records.Listed) api.File {
	return api.File{
		Id: l.ID, Path: filename.Show(string(l.Path)), Size: l.Size, Modified: time.Unix(0, l.Modified).UTC(),
		Verdict: api.Verdict(l.Verdict), Reason: l.Reason, Sentence: l.Sentence, Rule: l.Rule, State: api.State(l.State),
		Captures: l.Captures, Findings: shownFindings(l.Findings),
	}
}

// judged fills in the verdict of a file that its input has no row for.
func judged(l records.Listed, judge *selection.Judge) records.Listed {
	if l.Verdict == "" {
		d := judge.Decide(string(l.Path))
		l.Verdict, l.Reason, l.Sentence, l.Rule = string(d.Verdict), string(d.Code), d.Sentence, d.Rule
	}
	return l
}

func shownRefresh(r records.Refresh) api.Refresh {
	shown := api.Refresh{
		Id: r.ID, Input: r.Input, Outcome: api.Outcome(r.Outcome), AskedBy: r.AskedBy, AskedAt: r.AskedAt.UTC(), AsOf: r.AsOf.UTC(),
		Started: at(r.Started), Ended: at(r.Ended), Stage: api.RefreshStage(r.Stage), Files: r.Files, FilesDone: r.FilesDone,
		Bytes: r.Bytes, BytesDone: r.BytesDone, Rows: r.Rows, Problem: r.Problem, Next: r.Next, Receipt: r.Receipt, StoppedBy: []api.StoppingFile{},
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
		FilesDigest: h.FilesDigest, Header: string(stored.Header),
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
		RowsRead: f.Read, RowsKept: f.Kept, Totals: shownTotals(f.Totals), Findings: shownFindings(f.Findings),
	}
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
