package refresh

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/vault"
	"jorvex/internal/watch"
)

// run is one refresh under way.
type run struct {
	*Runner
	row   records.Refresh
	fence int64
	dir   string // for the shaped parts

	batch *vault.Batch // what this run puts in the vault

	view       watch.View
	files      []*fed
	deliveries []receipt.Delivery
	staged     []records.Publication
	tables     []*deliver.Table

	stage           atomic.Value // string
	filesDone       atomic.Int64
	bytes           int64
	bytesDone, rows atomic.Int64
}

// fed is one picked file on its way.
type fed struct {
	picked  watch.Picked
	reading watch.Reading
	shaped  shaping.Result
	part    string // path of the shaped part
	digest  string // of the part
	leftOut string // why it is not used, empty if it is
	done    chan struct{}
}

// broken returns the finding that makes the file unusable, if there is one.
func (f *fed) broken() (finding.Finding, bool) { return finding.AnyBroken(f.shaped.Findings) }

// workers is how many files are read and shaped at a time.
const workers = 2

// do runs the stages. A *stopped error is a gate's; any other a failure.
func (r *run) do(ctx context.Context) (receipt.Stored, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r.stage.Store("looking")
	beat := r.heartbeat(ctx, cancel)
	defer beat()

	if err := r.look(ctx); err != nil {
		return receipt.Stored{}, cause(ctx, err)
	}
	r.stage.Store("reading")
	if err := r.work(ctx); err != nil {
		return receipt.Stored{}, cause(ctx, err)
	}
	if err := r.gate(); err != nil {
		return receipt.Stored{}, err
	}
	stored, err := r.commit(ctx)
	return stored, cause(ctx, err)
}

// cause prefers the reason a run was given up to what that made fail.
func cause(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// heartbeat records progress and keeps the lease until the returned function
// is called.
func (r *run) heartbeat(ctx context.Context, cancel context.CancelCauseFunc) (stop func()) {
	ctx, end := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		var last records.Progress
		saved := time.Now()
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(250 * time.Millisecond):
			}
			p := r.progress()
			if p == last && time.Since(saved) < records.Lease/3 {
				continue
			}
			err := r.Store.SaveProgress(ctx, r.row.ID, r.fence, p)
			if errors.Is(err, records.ErrLostLease) {
				cancel(err)
				return
			}
			if err == nil {
				last, saved = p, time.Now()
				r.announce(ctx, r.row.ID)
			}
		}
	}()
	return func() { end(); <-done }
}

func (r *run) progress() records.Progress {
	stage, _ := r.stage.Load().(string)
	p := records.Progress{Stage: stage, FilesDone: r.filesDone.Load(), BytesDone: r.bytesDone.Load(), Rows: r.rows.Load()}
	if stage != "looking" {
		p.Files, p.Bytes = int64(len(r.files)), r.bytes
	}
	return p
}

// look finds the files to be read, and stops where it is not known which.
func (r *run) look(ctx context.Context) error {
	in, err := r.Store.InputByID(ctx, r.row.InputID)
	if err != nil {
		return err
	}
	if r.view, err = r.Watcher.Prepare(ctx, in); err != nil {
		return err
	}
	switch {
	case r.view.Unreachable != "":
		return &stopped{problem: fmt.Sprintf("the place %s cannot be reached: %s", in.Place, r.view.Unreachable), next: "make it reachable and refresh again"}
	case len(r.view.HeldBack) > 0:
		return &stopped{
			problem: fmt.Sprintf("%s lie in folders that cannot be listed, the first is %s", count(len(r.view.HeldBack), "file"), filename.Show(r.view.HeldBack[0])),
			next:    "give the service the right to list those folders and refresh again",
		}
	case len(r.view.Picked) == 0:
		return &stopped{problem: "no file is picked", next: "check the folder and the patterns of the input; jorvex why tells of one file"}
	}
	for _, p := range r.view.Picked {
		r.files = append(r.files, &fed{picked: p, done: make(chan struct{})})
		r.bytes += p.Mark.Size
	}
	return nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// work reads the files and stages the deliveries, at the same time: a delivery
// takes each part as soon as it is there.
func (r *run) work(ctx context.Context) error {
	group, groupCtx := errgroup.WithContext(ctx)
	if err := r.stageAll(groupCtx, group); err != nil {
		return err
	}
	group.Go(func() error {
		err := r.read(groupCtx)
		r.stage.Store("delivering")
		return err
	})
	return group.Wait()
}

// errGated ends the staging of a delivery that the gate will not let through.
var errGated = errors.New("the gate stops the refresh")

// parts calls each with the parts of the files that are used, in roster order.
func (r *run) parts(ctx context.Context) func(each func(path string) error) error {
	return func(each func(path string) error) error {
		for _, f := range r.files {
			select {
			case <-f.done:
			case <-ctx.Done():
				return ctx.Err()
			}
			if _, broken := f.broken(); broken {
				if r.view.Definition.Broken == definition.Stop {
					return errGated
				}
				continue
			}
			if err := each(f.part); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
}

// stageAll begins to stage every delivery. Whether a target can be written is
// known before the work is done.
func (r *run) stageAll(ctx context.Context, group *errgroup.Group) error {
	list := r.view.Definition.Delivery
	r.deliveries = make([]receipt.Delivery, len(list))
	combined := deliver.Combined{Columns: r.view.Definition.Columns, Parts: r.parts(ctx)}
	for i, d := range list {
		if d.Table == "" {
			continue
		}
		table := deliver.NewTable(d.Table, r.row.ID, i)
		if err := table.Check(ctx, r.Store.Pool); err != nil {
			return err
		}
		r.tables = append(r.tables, table)
	}
	tables := r.tables
	for i, d := range list {
		stage := func() (deliver.Staged, error) { return deliver.Staged{}, nil }
		if d.Table != "" {
			table := tables[0]
			tables = tables[1:]
			stage = func() (deliver.Staged, error) { return table.Stage(ctx, r.Store.Pool, combined) }
		} else {
			name := deliver.StagedName(r.row.ID, d.File)
			r.staged = append(r.staged, records.Publication{RefreshID: r.row.ID, Staged: name, Final: d.File})
			stage = func() (deliver.Staged, error) { return r.Folder.Stage(name, combined) }
		}
		group.Go(func() error {
			staged, err := stage()
			r.deliveries[i] = receipt.Delivery{Kind: d.Kind(), Name: d.Name(), Rows: staged.Rows, Bytes: staged.Bytes, Digest: staged.Digest}
			if errors.Is(err, errGated) {
				return nil
			}
			return err
		})
	}
	return nil
}

// read brings every picked file into the vault and shapes it from there.
func (r *run) read(ctx context.Context) error {
	if err := os.MkdirAll(r.dir, 0o700); err != nil {
		return err
	}
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(workers)
	for i, f := range r.files {
		group.Go(func() error {
			defer close(f.done)
			if err := r.readOne(groupCtx, i, f); err != nil {
				return fmt.Errorf("%s: %w", filename.Show(f.picked.Path), err)
			}
			r.filesDone.Add(1)
			r.bytesDone.Add(f.picked.Mark.Size)
			r.rows.Add(f.shaped.Kept)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	readings := make([]watch.Reading, len(r.files))
	for i, f := range r.files {
		readings[i] = f.reading
	}
	return r.Watcher.Learn(ctx, r.view.Input, readings)
}

func (r *run) readOne(ctx context.Context, i int, f *fed) error {
	var err error
	if f.picked.Digest != "" && r.Vault.Has(f.picked.Digest) {
		// The bytes are there already, and the file was not touched since.
		f.reading = watch.Reading{FileID: f.picked.FileID, Path: f.picked.Path, Mark: f.picked.Mark, Digest: f.picked.Digest, At: r.Clock()}
	} else {
		f.reading, err = watch.Read(ctx, r.view.Place, f.picked, r.Clock, func(source io.Reader) (*records.Check, string, error) {
			object, err := r.batch.Put(source)
			return nil, object.Digest, err
		})
		if err != nil {
			return err
		}
	}
	if len(f.reading.Trouble) > 0 {
		f.shaped.Findings = f.reading.Trouble
		return nil
	}
	if err := r.shape(ctx, i, f); err != nil {
		return err
	}
	f.reading.Check = &records.Check{Digest: f.reading.Digest, Layout: r.view.Input.Layout, RowsRead: f.shaped.Read, RowsKept: f.shaped.Kept, Findings: f.shaped.Findings}
	return nil
}

// shape writes the typed rows of a file's vault object to a part.
func (r *run) shape(ctx context.Context, i int, f *fed) error {
	if len(r.view.Definition.Columns) == 0 {
		return nil
	}
	object, err := r.batch.Open(f.reading.Digest)
	if err != nil {
		return err
	}
	defer object.Close()
	f.part = filepath.Join(r.dir, fmt.Sprint(i))
	part, err := os.Create(f.part)
	if err != nil {
		return err
	}
	defer part.Close()
	var w io.Writer = part
	var sum hash.Hash
	if r.hasTable() {
		sum = sha256.New()
		w = io.MultiWriter(part, sum)
	}
	folder, name := path.Split(f.picked.Path)
	origin := shaping.Origin{
		Name: filename.Show(name), Folder: filename.Show(path.Clean(folder)), Path: filename.Show(f.picked.Path),
		Captures: map[string]string{},
	}
	for _, c := range f.picked.Captures {
		origin.Captures[c.Name] = c.Value()
	}
	checked, err := watch.Check(r.view.Definition, origin, readerOf(ctx, object), shaping.NewWriter(w))
	if err != nil {
		return err
	}
	f.shaped = checked.Result
	if sum != nil {
		f.digest = hex.EncodeToString(sum.Sum(nil))
	}
	return part.Close()
}

func (r *run) hasTable() bool {
	return slices.ContainsFunc(r.view.Definition.Delivery, func(d definition.Delivery) bool { return d.Table != "" })
}

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func readerOf(ctx context.Context, r io.Reader) io.Reader { return contextReader{ctx, r} }

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// gate decides whether the refresh may go on with the files that are broken.
func (r *run) gate() error {
	var broken []records.StoppingFile
	for _, f := range r.files {
		found, is := f.broken()
		if !is {
			continue
		}
		broken = append(broken, records.StoppingFile{Path: filename.Show(f.picked.Path), Finding: found})
		f.leftOut = found.Sentence
	}
	if len(broken) == 0 {
		return nil
	}
	if r.view.Definition.Broken == definition.LeaveOut {
		if len(broken) == len(r.files) {
			return &stopped{problem: "every picked file is broken", next: "mend the files and refresh again", files: broken}
		}
		return nil
	}
	first := broken[0]
	problem := fmt.Sprintf("%s cannot be used: %s", first.Path, first.Finding.Sentence)
	if n := len(broken); n > 1 {
		problem = fmt.Sprintf("%d files cannot be used; the first is %s: %s", n, first.Path, first.Finding.Sentence)
	}
	return &stopped{problem: problem, files: broken,
		next: first.Finding.Suggest + "; or have the gate leave broken files out (gate: {broken: leave_out})"}
}

// commit publishes the staged deliveries together with the receipt.
func (r *run) commit(ctx context.Context) (receipt.Stored, error) {
	header, err := r.header()
	if err != nil {
		return receipt.Stored{}, err
	}
	// The parts have served; gone, they need not be flushed with the vault.
	_ = os.RemoveAll(r.dir)
	if err := r.batch.Commit(); err != nil {
		return receipt.Stored{}, err
	}
	commit := records.Commit{
		Refresh: r.row.ID, Fence: r.fence, InputID: r.row.InputID, Ended: header.Ended, Progress: r.progress(),
		Header: header, Files: r.staged, Job: r.enqueue(ctx),
	}
	for _, t := range r.tables {
		commit.Publish = append(commit.Publish, t.Publish)
	}
	stored, err := r.Store.CommitRefresh(ctx, commit)
	if err != nil && !r.committed(ctx) {
		return stored, err
	}
	// It counts from here on, whatever comes: what fails now is rolled forward
	// at the next start.
	if err := r.publish(context.WithoutCancel(ctx)); err != nil {
		r.Log.Error("a delivery is committed and not yet in its place; it will be at the next start", "refresh", r.row.ID, "error", err)
	}
	return stored, nil
}

// committed tells, after a commit that gave an error, whether it was made all
// the same: the answer may have been lost on the way.
func (r *run) committed(ctx context.Context) bool {
	row, err := r.Store.Refresh(context.WithoutCancel(ctx), r.row.ID)
	return err == nil && row.Outcome == records.Delivered
}

// header stores the list of files in the vault and makes the receipt's header.
func (r *run) header() (receipt.Header, error) {
	in := r.view.Input
	h := receipt.Header{
		Form: receipt.Version, Refresh: r.row.ID, InputID: in.ID, Input: in.Name,
		Definition: receipt.DefinitionMark{Version: in.Version, Digest: in.Digest},
		AsOf:       r.row.AsOf.UTC(), AskedBy: r.row.AskedBy, Started: r.row.Started.UTC(), Ended: r.Clock().UTC().Truncate(time.Microsecond),
		Machine: r.Machine, Program: r.Program, Totals: []receipt.Total{}, LeftOut: []receipt.ReasonCount{}, Deliveries: r.deliveries,
	}
	var names []string
	for _, c := range r.view.Definition.Columns {
		if c.Total {
			names = append(names, c.Name)
		}
	}
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
		case selection.PatternMatches, selection.NotSeen, selection.Gone:
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
	h.FilesDigest = object.Digest
	return h, err
}

// complete fills in what the deliveries came to, and sees that a loaded table
// holds every row that was read.
func (r *run) complete(rows int64) error {
	var parts []string
	for _, f := range r.files {
		if f.leftOut == "" {
			parts = append(parts, f.digest)
		}
	}
	for i := range r.deliveries {
		d := &r.deliveries[i]
		if d.Kind == "table" {
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

// line is the file as the receipt lists it.
func (f *fed) line(place string, names []string) receipt.File {
	line := receipt.File{
		Place: place, Path: filename.Show(f.picked.Path), Size: f.reading.Mark.Size,
		Modified: time.Unix(0, f.reading.Mark.Modified).UTC(), Digest: f.reading.Digest, Use: receipt.Current,
		Read: f.shaped.Read, Kept: f.shaped.Kept, Part: f.digest, Totals: []receipt.Total{}, Findings: f.shaped.Findings,
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

// end records how a refresh that delivered nothing ended.
func (r *run) end(ctx context.Context, err error) {
	ending := records.Ending{Outcome: records.Failed, Problem: err.Error(), Next: "mend the cause and refresh again; the last delivery stands"}
	var gate *stopped
	switch {
	case errors.As(err, &gate):
		ending = records.Ending{Outcome: records.Stopped, Problem: gate.problem, Next: gate.next, StoppedBy: gate.files}
	case errors.Is(err, context.Canceled):
		ending.Outcome, ending.Problem, ending.Next = records.Interrupted, "the service ended while it ran", "refresh again; the last delivery stands"
	}
	ending.Progress = r.progress()
	r.Log.Warn("refresh not delivered", "input", r.row.Input, "refresh", r.row.ID, "outcome", ending.Outcome, "problem", ending.Problem)
	if err := r.Store.EndRefresh(ctx, r.row.ID, r.fence, r.Clock(), ending, r.enqueue(ctx)); err != nil {
		r.Log.Error("cannot record how a refresh ended", "refresh", r.row.ID, "error", err)
	}
}

// clear removes the parts, and after a failure what was staged. Where the
// records cannot tell whether the commit was made, it stays for the next start.
func (r *run) clear(ctx context.Context, failed error) {
	_ = os.RemoveAll(r.dir)
	r.batch.Discard()
	if failed == nil {
		return
	}
	if _, err := r.Store.Refresh(ctx, r.row.ID); err != nil {
		return
	}
	for _, p := range r.staged {
		r.Folder.Remove(p.Staged)
	}
	for _, t := range r.tables {
		_ = t.Drop(ctx, r.Store.Pool)
	}
}
