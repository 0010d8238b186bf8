package refresh

import (
	"bytes"
	"context"
	"slices"
	"time"

	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
)

// commit publishes the staged deliveries together with the receipt.
func (r *run) commit(ctx context.Context) (receipt.Stored, error) {
	header, err := r.header()
	if err != nil {
		return receipt.Stored{}, err
	}
	if err := r.batch.Commit(); err != nil {
		return receipt.Stored{}, err
	}
	commit := records.Commit{Refresh: r.row.ID, Fence: r.fence, Ended: header.Ended, Progress: r.progress(), Header: header, Job: r.enqueue(ctx)}
	for _, p := range r.pieces {
		in := records.InputCommit{InputID: p.input, Parameters: p.view.Parameters, Deliveries: p.deliveries, Copies: p.copies, Gone: p.view.Gone}
		in.Handover = p.toHandOver()
		for _, f := range p.files {
			if f.leftOut == "" {
				in.Fed = append(in.Fed, records.FedFile{Path: f.picked.Path, Digest: f.reading.Digest})
			}
		}
		commit.Inputs = append(commit.Inputs, in)
		commit.Files = append(commit.Files, p.staged...)
		for _, t := range p.tables {
			commit.Publish = append(commit.Publish, t.Publish)
		}
		for i, t := range p.ready {
			if !t.own {
				commit.Publish = append(commit.Publish, t.Publication(p.deliveries[i].Rows).Publish)
			}
		}
	}
	stored, err := r.Store.CommitRefresh(ctx, commit)
	if err != nil && !r.committed(ctx) {
		return stored, err
	}
	// It counts from here on, whatever comes: what fails now is rolled forward.
	ctx = context.WithoutCancel(ctx)
	r.publish(ctx, r.row.ID)
	if err := r.handOver(ctx); err != nil {
		r.Log.Error("files are still to be handed over", "refresh", r.row.ID, "error", err)
	}
	return stored, nil
}

// committed tells, after a commit that gave an error, whether it was made all
// the same: the answer may have been lost on the way.
func (r *run) committed(ctx context.Context) bool {
	delivered, err := r.Store.Delivered(context.WithoutCancel(ctx), r.row.ID)
	return err == nil && delivered
}

// header makes the receipt's header.
func (r *run) header() (receipt.Header, error) {
	h := receipt.Header{
		Form: receipt.Version, Refresh: r.row.ID, AsOf: r.row.AsOf.UTC(), Only: r.row.Request.Only, AskedBy: r.row.AskedBy,
		Started: r.row.Started.UTC(), Ended: r.Clock().UTC().Truncate(time.Microsecond), Machine: r.Machine, Program: r.Program,
	}
	var sections []receipt.Section
	for _, p := range r.pieces {
		s, err := p.section()
		if err != nil {
			return h, err
		}
		sections = append(sections, s)
	}
	if r.row.ReportID == 0 {
		h.Section = sections[0]
		return h, nil
	}
	h.ReportID, h.Inputs = r.row.ReportID, sections
	h.Section = receipt.Together(r.report.Name, receipt.DefinitionMark{Version: r.report.Version, Digest: r.report.Digest}, sections)
	return h, nil
}

// section stores the list of files and the figures of an input in the vault, and
// makes its section of the receipt.
func (r *piece) section() (receipt.Section, error) {
	in := r.view.Input
	h := receipt.Section{
		InputID: in.ID, Input: in.Name, Definition: receipt.DefinitionMark{Version: in.Version, Digest: in.Digest}, Parameters: r.view.Definition.Values, Directory: r.view.Directory,
		Totals: []receipt.Total{}, LeftOut: []receipt.ReasonCount{}, Deliveries: r.deliveries, Passed: r.passed,
	}
	if len(r.toHandOver()) > 0 {
		h.Handover = string(r.view.Definition.Handover.Action)
	}
	if h.Deliveries == nil {
		h.Deliveries = []receipt.Delivery{}
	}
	var names []string
	for _, c := range r.view.Definition.Columns {
		if c.Total {
			names = append(names, c.Name)
		}
	}
	r.sameContent()
	sums := make([]totals.Sum, len(names))
	list := make([]receipt.File, 0, len(r.files))
	for _, f := range r.files {
		list = append(list, f.line(in.Place, names))
		if f.leftOut != "" {
			h.NotUsed++
			continue
		}
		h.Files++
		h.Rows += f.shaped.Kept
		for i := range f.shaped.Sums {
			sums[i].Merge(&f.shaped.Sums[i])
		}
	}
	h.Totals = named(names, sums)
	if err := r.complete(h.Rows); err != nil {
		return h, err
	}
	for reason, n := range r.view.Counts.ByReason {
		switch selection.Code(reason) {
		case selection.PatternMatches, selection.Listed, selection.HeldIn, selection.Asked, selection.NotSeen, selection.Gone:
		default:
			h.LeftOut = append(h.LeftOut, receipt.ReasonCount{Reason: reason, Files: n})
		}
	}
	slices.SortFunc(h.LeftOut, func(a, b receipt.ReasonCount) int { return bytes.Compare([]byte(a.Reason), []byte(b.Reason)) })
	var lines bytes.Buffer
	if err := receipt.WriteList(&lines, list); err != nil {
		return h, err
	}
	object, err := r.batch.Put(&lines)
	if h.FilesDigest = object.Digest; err != nil {
		return h, err
	}
	h.FiguresDigest, err = r.figures()
	return h, err
}

// figures stores the watched values and summaries in the vault, if there are any.
func (r *piece) figures() (digest string, err error) {
	plan := r.view.Definition.Plan()
	if plan.Empty() {
		return "", nil
	}
	text, err := receipt.Canonical(r.tally().Figures())
	if err != nil {
		return "", err
	}
	object, err := r.batch.Put(bytes.NewReader(text))
	return object.Digest, err
}

// tally counts the rows of all files that are used.
func (r *piece) tally() *totals.Tally {
	all := totals.NewTally(r.view.Definition.Plan())
	for _, f := range r.files {
		if f.leftOut == "" && f.tally != nil {
			all.Merge(f.tally)
		}
	}
	return all
}

// rehearsed records what there would be delivered.
func (r *run) rehearsed(ctx context.Context) error {
	header, err := r.header()
	if err != nil {
		return err
	}
	if err := r.batch.Commit(); err != nil {
		return err
	}
	text, err := receipt.Canonical(header)
	if err != nil {
		return err
	}
	ending := records.Ending{Outcome: records.Rehearsed, Progress: r.progress(), Rehearsal: text}
	return r.Store.EndRefresh(ctx, r.row.ID, r.fence, header.Ended, ending, r.enqueue(ctx))
}

// sameContent notes on each file that it holds the bytes of one before it.
func (r *piece) sameContent() {
	first := map[string]string{}
	for _, f := range r.files {
		if f.leftOut != "" || f.reading.Mark.Size == 0 || len(r.view.Definition.Columns) > 0 && f.shaped.Kept == 0 {
			continue
		}
		if before, again := first[f.reading.Digest]; again {
			f.shaped.Findings = append(f.shaped.Findings[:len(f.shaped.Findings):len(f.shaped.Findings)], finding.New(finding.SameContent, "%s", filename.Show(before)))
		} else {
			first[f.reading.Digest] = f.picked.Path
		}
	}
}

// complete fills in what the deliveries came to, and sees that a loaded table
// holds every row that was read.
func (r *piece) complete(rows int64) error {
	var parts []string
	for _, f := range r.files {
		if f.leftOut == "" {
			parts = append(parts, f.partDigest())
		}
	}
	for i := range r.deliveries {
		d := &r.deliveries[i]
		if (d.Kind == "table" || d.Kind == "into") && !r.row.Request.Rehearse {
			if d.Rows != rows {
				return &deliver.Missing{Name: d.Name, Have: d.Rows, Want: rows}
			}
			d.Digest = deliver.TableDigest(r.view.Definition.Columns, parts)
		}
		d.Rows = rows
	}
	return nil
}

func named(names []string, sums []totals.Sum) []receipt.Total {
	list := make([]receipt.Total, 0, len(sums))
	for i := range sums {
		list = append(list, receipt.Total{Column: names[i], Sum: sums[i].String()})
	}
	return list
}

// partDigest is that of the rows, which are used.
func (f *fed) partDigest() string {
	if f.part == nil {
		return ""
	}
	return f.part.Digest
}

// line is the file as the receipt lists it.
func (f *fed) line(place string, names []string) receipt.File {
	line := receipt.File{
		Place: place, Path: filename.Show(f.picked.Path), Size: f.reading.Mark.Size,
		Modified: time.Unix(0, f.reading.Mark.Modified).UTC(), Digest: f.reading.Digest, Use: receipt.Current,
		Read: f.shaped.Read, Kept: f.shaped.Kept, Part: f.partDigest(), Totals: []receipt.Total{}, Findings: f.shaped.Findings,
	}
	if f.standsIn {
		line.Use, line.Why = receipt.LastGood, f.why
	}
	if f.reading.Mark.Modified == 0 {
		line.Modified = time.Time{} // it was not seen
	}
	line.Held = f.picked.Held
	for _, e := range f.picked.Entries {
		line.Listed = append(line.Listed, receipt.Listed{Sheet: e.Sheet, ToSheet: e.Target.Sheet, ToTable: e.Target.Table, ToRow: e.Target.Row})
	}
	if line.Findings == nil {
		line.Findings = []finding.Finding{}
	}
	if f.leftOut != "" {
		line.Use, line.Why, line.Kept, line.Part = receipt.NotUsed, f.leftOut, 0, ""
		return line
	}
	line.Totals = named(names[:len(f.shaped.Sums)], f.shaped.Sums)
	return line
}
