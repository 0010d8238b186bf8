package refresh

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/vault"
	"jorvex/internal/watch"
)

// run is one refresh under way: of an input, or of all inputs of a report.
type run struct {
	*Runner
	row    records.Refresh
	fence  int64
	report records.Report // empty for an input

	batch  *vault.Batch // what this run puts in the vault
	pieces []*piece     // by the inputs' ids

	stage           atomic.Value // string
	filesDone       atomic.Int64
	bytesDone, rows atomic.Int64
}

// piece is what a run does for one input.
type piece struct {
	*run
	input int64

	view  watch.View
	files []*fed
	bytes int64

	gating sync.Mutex
	met    []met
	passed []receipt.Passed
	goods  goods

	deliveries []receipt.Delivery
	staged     []records.Publication
	copies     []string // names of copied files, as they are delivered
	scraps     []string // staged files and folders, which are cleared after a failure
	tables     []*deliver.Table
	before     []deliver.Before           // by table
	ready      map[int]*ready             // ready-made tables, by the delivery\'s number
	copied     map[string]map[string]bool // digests of files that a handover copied before, by path
}

// do runs the stages. A *stopped error is a gate's; any other a failure.
func (r *run) do(ctx context.Context) (receipt.Stored, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r.cancels.Store(r.row.ID, cancel)
	defer r.cancels.Delete(r.row.ID)
	r.stage.Store("looking")
	beat := r.heartbeat(ctx, cancel)
	defer beat()

	if err := r.each(func(p *piece) error { return p.look(ctx) }); err != nil {
		return receipt.Stored{}, cause(ctx, err)
	}
	r.stage.Store("reading")
	if err := r.each(func(p *piece) error { return p.work(ctx) }); err != nil {
		return receipt.Stored{}, cause(ctx, err)
	}
	if err := r.each((*piece).gate); err != nil {
		return receipt.Stored{}, err
	}
	if r.row.Request.Rehearse {
		return receipt.Stored{}, cause(ctx, r.rehearsed(ctx))
	}
	stored, err := r.commit(ctx)
	return stored, cause(ctx, err)
}

// each does it for every input. What gates stop is gathered.
func (r *run) each(do func(p *piece) error) error {
	var all *stopped
	for _, p := range r.pieces {
		err := do(p)
		var gate *stopped
		if !errors.As(err, &gate) {
			if err != nil {
				return err
			}
			continue
		}
		if r.row.ReportID != 0 {
			gate.problem = p.view.Input.Name + ": " + gate.problem
		}
		// One input that stops stops all; only what nothing stops is asked.
		switch {
		case all == nil:
			all = gate
		case len(all.asks) > 0 && len(gate.asks) == 0:
			all = gate
		case len(all.asks) == 0 && len(gate.asks) > 0:
		default:
			asks := append(all.asks, gate.asks...)
			all = all.and(gate.problem, gate.next, gate.files)
			all.asks = asks
		}
	}
	if all != nil {
		return all
	}
	return nil
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
		for _, one := range r.pieces {
			p.Files += int64(len(one.files))
			p.Bytes += one.bytes
		}
	}
	return p
}

// look finds the files to be read, and stops where it is not known which.
func (r *piece) look(ctx context.Context) error {
	in, err := r.Store.InputByID(ctx, r.input)
	if err != nil {
		return err
	}
	request := r.row.Request
	request.AsOf = &r.row.AsOf
	if r.row.ReportID != 0 {
		request.Set = r.its(in)
	} else if r.row.Request.AsOf == nil {
		request.AsOf = nil // as of now, by which the roster is told too
	}
	if r.view, err = r.Watcher.Prepare(ctx, in, request); err != nil {
		return err
	}
	if err := r.targets(ctx); err != nil {
		return err
	}
	if err := r.mayHandOver(ctx); err != nil {
		return err
	}
	broken, unusable := finding.AnyBroken(r.view.Findings)
	switch {
	case unusable:
		return &stopped{problem: broken.Sentence, next: broken.Suggest + " and refresh again"}
	case len(r.view.NotThere) > 0:
		return &stopped{problem: fmt.Sprintf("%s named for this once is not there: %s", count(len(r.view.NotThere), "file"), r.view.NotThere[0]), next: "name files that jorvex files lists"}
	}
	if err := r.surroundings(ctx); err != nil {
		return err
	}
	for _, p := range r.view.Picked {
		r.files = append(r.files, &fed{picked: p, done: make(chan struct{})})
	}
	r.inOrder()
	for _, f := range r.files {
		r.bytes += f.picked.Mark.Size
	}
	return nil
}

// its are the values of parameters that an input of a report has.
func (r *piece) its(in records.Input) definition.Values {
	def, err := definition.Parse(in.Text, r.row.AsOf)
	if err != nil {
		return nil // told when the definition is needed
	}
	its := definition.Values{}
	for name, value := range r.row.Request.Set {
		if _, has := def.Values[name]; has {
			its[name] = value
		}
	}
	return its
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// end records how a refresh that delivered nothing ended.
func (r *run) end(ctx context.Context, err error) {
	ending := records.Ending{Outcome: records.Failed, Problem: err.Error(), Next: "mend the cause and refresh again; the last delivery stands"}
	var gate *stopped
	var given *cancelled
	switch {
	case errors.As(err, &given):
		ending.Outcome, ending.Next = records.Cancelled, "refresh again; the last delivery stands"
	case errors.As(err, &gate):
		ending = records.Ending{Outcome: records.Stopped, Problem: gate.problem, Next: gate.next, StoppedBy: gate.files}
		if len(gate.asks) > 0 {
			ending.Outcome, ending.Asks = records.Asking, gate.asks
		}
	case errors.Is(err, context.Canceled):
		ending.Outcome, ending.Problem, ending.Next = records.Interrupted, "the service ended while it ran", "refresh again; the last delivery stands"
	}
	ending.Progress = r.progress()
	r.Log.Warn("refresh not delivered", "input", r.row.Input, "refresh", r.row.ID, "outcome", ending.Outcome, "problem", ending.Problem)
	// A database that is away comes back; until then the row would say that the
	// refresh runs.
	for wait := 100 * time.Millisecond; wait < endedFor; wait *= 2 {
		err := r.Store.EndRefresh(ctx, r.row.ID, r.fence, r.Clock(), ending, r.enqueue(ctx))
		if err == nil || errors.Is(err, records.ErrLostLease) {
			return
		}
		r.Log.Error("cannot record how a refresh ended; trying again", "refresh", r.row.ID, "error", err)
		time.Sleep(wait)
	}
}

// endedFor bounds how long the end of a refresh is tried to be recorded; after
// it, the next start does.
const endedFor = time.Minute

// clear makes room for parts to come, and after a failure removes what was
// staged. Where the
// records cannot tell whether the commit was made, it stays for the next start.
func (r *run) clear(ctx context.Context, failed error) {
	if _, err := r.Parts.Prune(r.Clock()); err != nil {
		r.Log.Warn("cannot make room for shaped parts", "error", err)
	}
	r.batch.Discard()
	defer func() {
		for _, p := range r.pieces {
			for _, t := range p.ready {
				t.close()
			}
		}
	}()
	if failed == nil {
		return
	}
	if delivered, err := r.Store.Delivered(ctx, r.row.ID); err != nil || delivered {
		return // what is staged counts, or may
	}
	for _, p := range r.pieces {
		for _, name := range p.scraps {
			r.Folder.Remove(name)
		}
		for _, t := range p.tables {
			_ = t.Drop(ctx, r.Store.Pool)
		}
		for _, t := range p.ready {
			_ = t.Drop(ctx, t.pool)
		}
	}
}
