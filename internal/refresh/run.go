package refresh

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/receipt"
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

	batch *vault.Batch // what this run puts in the vault

	view   watch.View
	files  []*fed
	gating sync.Mutex
	met    []met
	passed []receipt.Passed
	goods  goods

	deliveries []receipt.Delivery
	staged     []records.Publication
	copies     []string // names of copied files, as they are delivered
	scraps     []string // staged files and folders, which are cleared after a failure
	tables     []*deliver.Table
	before     []deliver.Before // by table

	stage           atomic.Value // string
	filesDone       atomic.Int64
	bytes           int64
	bytesDone, rows atomic.Int64
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
	if r.row.Request.Rehearse {
		return receipt.Stored{}, cause(ctx, r.rehearsed(ctx))
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
	if r.view, err = r.Watcher.Prepare(ctx, in, r.row.Request); err != nil {
		return err
	}
	if err := r.targets(ctx); err != nil {
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
	if failed == nil {
		return
	}
	if _, err := r.Store.Refresh(ctx, r.row.ID); err != nil {
		return
	}
	for _, name := range r.scraps {
		r.Folder.Remove(name)
	}
	for _, t := range r.tables {
		_ = t.Drop(ctx, r.Store.Pool)
	}
}
