// Package refresh turns the picked files of an input into its deliveries and a
// receipt: look, keep the bytes in the vault, read, combine, deliver, all under
// one commit.
//
// The row of a refresh is the truth of it. A job of the queue is only the means
// of running it: it claims the row under a lease with a fencing number, which
// the commit checks.
package refresh

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"jorvex/internal/core/receipt"
	"jorvex/internal/deliver"
	"jorvex/internal/events"
	"jorvex/internal/parts"
	"jorvex/internal/records"
	"jorvex/internal/vault"
	"jorvex/internal/watch"
)

// Runner runs refreshes.
type Runner struct {
	Store   *records.Store
	Watcher *watch.Watcher
	Vault   *vault.Vault
	Folder  *deliver.Folder
	Parts   *parts.Store
	Events  *events.Broker
	Clock   func() time.Time
	Log     *slog.Logger
	Machine string
	Program string // version

	queue   *river.Client[pgx.Tx]
	stop    context.CancelFunc
	tending sync.WaitGroup
	handing sync.Mutex    // one hands over at a time
	placing [2]sync.Mutex // one puts deliveries in their places at a time; and rows into other databases
	inHand  sync.Map      // of refresh to *hand
	cancels sync.Map      // of running refresh to the function that gives it up
}

// job asks for one refresh to be run.
type job struct {
	Refresh int64 `json:"refresh"`
}

func (job) Kind() string { return "refresh" }

func (job) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: 1} }

type worker struct {
	river.WorkerDefaults[job]
	runner *Runner
}

func (w *worker) Timeout(*river.Job[job]) time.Duration { return -1 }

func (w *worker) Work(ctx context.Context, j *river.Job[job]) error {
	w.runner.run(ctx, j.Args.Refresh)
	return nil
}

// Start makes good what an interrupted run left, and begins to take refreshes.
func (r *Runner) Start(ctx context.Context) error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{runner: r})
	queue, err := river.NewClient(riverpgxv5.New(r.Store.Pool), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}},
		Workers:           workers,
		Logger:            slog.New(slog.DiscardHandler),
		FetchCooldown:     20 * time.Millisecond,
		FetchPollInterval: time.Second,
	})
	if err != nil {
		return fmt.Errorf("prepare the job queue: %w", err)
	}
	r.queue = queue
	if err := r.recover(ctx); err != nil {
		return fmt.Errorf("make good what the last run left: %w", err)
	}
	ctx, r.stop = context.WithCancel(ctx)
	r.tending.Go(func() { r.tend(ctx) })
	r.tending.Go(func() { r.keepTime(ctx) })
	r.tending.Go(func() { r.keepHouse(ctx) })
	return queue.Start(ctx)
}

// Stop lets running refreshes end, or interrupts them when ctx does.
func (r *Runner) Stop(ctx context.Context) error {
	defer r.tending.Wait()
	defer r.stop()
	err := r.queue.Stop(ctx)
	if err != nil {
		err = r.queue.StopAndCancel(context.WithoutCancel(ctx))
	}
	return err
}

// recover ends refreshes that were running, rolls publications of committed
// ones forward, and clears what the others had staged.
func (r *Runner) recover(ctx context.Context) error {
	interrupted, waiting, err := r.Store.InterruptRefreshes(ctx, r.Clock())
	if err != nil {
		return err
	}
	if interrupted > 0 {
		r.Log.Warn("refreshes were interrupted; their last deliveries stand", "refreshes", interrupted)
	}
	r.publish(ctx, 0)
	if err := r.handOver(ctx); err != nil && ctx.Err() == nil {
		r.Log.Error("files are still to be handed over", "error", err)
	}
	counts, err := r.stagedStill(ctx)
	if err != nil {
		return err
	}
	if err := r.Folder.Clear(counts); err != nil {
		return err
	}
	if err := deliver.ClearStaged(ctx, r.Store.Pool); err != nil {
		return err
	}
	for _, id := range waiting {
		if err := r.Store.Tx(ctx, func(tx pgx.Tx) error { return r.enqueue(ctx)(tx, id) }); err != nil {
			return err
		}
	}
	return nil
}

func (r *Runner) enqueue(ctx context.Context) func(tx pgx.Tx, id int64) error {
	return func(tx pgx.Tx, id int64) error {
		_, err := r.queue.InsertTx(ctx, tx, job{id}, nil)
		return err
	}
}

// Ask asks for a refresh of an input or a report. One that waits already for the
// same request is joined.
func (r *Runner) Ask(ctx context.Context, of records.Subject, request records.Request, by string) (records.Refresh, error) {
	id, err := r.Store.AskRefresh(ctx, of, request, by, r.Clock(), r.enqueue(ctx))
	if err != nil {
		return records.Refresh{}, err
	}
	r.announce(ctx, id)
	return r.Store.Refresh(ctx, id)
}

// Answer answers a refresh that asks a person. It returns the refresh that goes
// on, or the one that stopped.
func (r *Runner) Answer(ctx context.Context, id int64, goOn bool, by string) (records.Refresh, error) {
	answered, err := r.Store.AnswerRefresh(ctx, id, goOn, by, r.Clock(), r.enqueue(ctx))
	if err != nil {
		return records.Refresh{}, err
	}
	r.announce(ctx, id)
	r.announce(ctx, answered)
	return r.Store.Refresh(ctx, answered)
}

// Cancel gives a refresh up that waits, asks or runs. A commit that has begun is
// not undone; then the refresh is delivered all the same.
func (r *Runner) Cancel(ctx context.Context, id int64, by string) (records.Refresh, error) {
	if _, err := r.Store.Refresh(ctx, id); err != nil {
		return records.Refresh{}, err
	}
	err := r.Store.CancelRefresh(ctx, id, by, r.Clock())
	if errors.Is(err, records.ErrConflict) {
		give, runs := r.cancels.Load(id)
		if !runs {
			return records.Refresh{}, err
		}
		give.(context.CancelCauseFunc)(&cancelled{by})
		err = nil
		r.Settled(ctx, id)
	}
	if err != nil {
		return records.Refresh{}, err
	}
	r.announce(ctx, id)
	return r.Store.Refresh(ctx, id)
}

// cancelled is the error of a refresh that a person gave up.
type cancelled struct{ by string }

func (e *cancelled) Error() string { return records.CancelledBy(e.by) }

func (r *Runner) announce(ctx context.Context, id int64) {
	if row, err := r.Store.Refresh(ctx, id); err == nil {
		r.Events.Publish("refresh", row)
	}
}

// publish puts what a committed refresh staged in its place, or what any did if it
// is 0. What cannot be put there is noted, and tried again.
func (r *Runner) publish(ctx context.Context, refresh int64) {
	r.place(ctx, refresh, false)
	r.place(ctx, refresh, true)
}

// place publishes files, or the rows of tables elsewhere. Of one place the earlier
// ones come first; another that is out of reach holds nothing up.
func (r *Runner) place(ctx context.Context, refresh int64, elsewhere bool) {
	lock := &r.placing[0]
	if elsewhere {
		lock = &r.placing[1]
	}
	lock.Lock()
	defer lock.Unlock()
	list, err := r.Store.Publications(ctx)
	if err != nil {
		r.Log.Error("cannot tell what is to be put in its place; trying again", "error", err)
		return
	}
	passed := map[string]bool{} // places that are none of the refresh's, or out of reach
	if refresh != 0 {
		for _, p := range list {
			passed[p.Final] = true
		}
		for _, p := range list {
			if p.RefreshID == refresh {
				delete(passed, p.Final)
			}
		}
	}
	for _, p := range list {
		rows, is, err := deliver.ParsePublication(p.Staged)
		if passed[p.Final] || is != elsewhere {
			continue
		}
		switch {
		case err != nil:
		case is:
			err = r.publishReady(ctx, rows)
		default:
			err = r.Folder.Put(p.Staged, p.Final)
		}
		if err == nil {
			err = r.Store.PublicationDone(ctx, p)
		}
		if err == nil || ctx.Err() != nil {
			continue
		}
		passed[p.Final] = true
		r.Log.Error("a delivery is committed and not yet in its place", "refresh", p.RefreshID, "delivery", p.Final, "error", err)
		err = r.Store.PublicationFailed(ctx, p.RefreshID, "committed, and not yet in its place: "+err.Error(), "mend the cause; it is tried again every minute")
		if err != nil {
			r.Log.Error("cannot note it", "refresh", p.RefreshID, "error", err)
		}
	}
}

// stagedStill names what is committed and not yet in its place, and the folders it is in.
func (r *Runner) stagedStill(ctx context.Context) (map[string]bool, error) {
	list, err := r.Store.Publications(ctx)
	names := map[string]bool{}
	for _, p := range list {
		for name := p.Staged; name != "." && name != "/"; name = path.Dir(name) {
			names[name] = true
		}
	}
	return names, err
}

// stopped is the error of a refresh that a gate stopped.
type stopped struct {
	problem, next string
	files         []records.StoppingFile
	asks          []string // causes that a person may have it go on with
}

func (e *stopped) Error() string { return e.problem }

// hand is a refresh that runs here.
type hand struct {
	began time.Time
	told  chan struct{} // closes when its files were told anew
}

// run claims and runs one refresh, whatever comes of it.
func (r *Runner) run(ctx context.Context, id int64) {
	mine := &hand{time.Now(), make(chan struct{})}
	r.inHand.Store(id, mine)
	defer func() {
		r.inHand.Delete(id)
		close(mine.told)
	}()
	fence, err := r.Store.ClaimRefresh(ctx, id, r.Clock())
	if errors.Is(err, records.ErrConflict) {
		return
	}
	if err != nil {
		r.Log.Error("cannot begin a refresh", "refresh", id, "error", err)
		return
	}
	row, err := r.Store.Refresh(ctx, id)
	if err != nil {
		r.Log.Error("cannot read a refresh", "refresh", id, "error", err)
		return
	}
	r.Events.Publish("refresh", row)
	run := &run{Runner: r, row: row, fence: fence, batch: r.Vault.Batch()}
	for _, input := range row.Inputs {
		run.pieces = append(run.pieces, &piece{run: run, input: input})
	}
	if row.ReportID != 0 {
		run.report, err = r.Store.ReportByID(ctx, row.ReportID)
	}
	var stored receipt.Stored
	if err == nil {
		stored, err = run.do(ctx)
	}
	run.clear(context.WithoutCancel(ctx), err)
	if err != nil {
		run.end(context.WithoutCancel(ctx), err)
	} else if !row.Request.Rehearse {
		r.Log.Info("refresh delivered", "input", row.Input, "refresh", id, "receipt", stored.Number)
	}
	r.announce(context.WithoutCancel(ctx), id)
	for _, input := range row.Inputs {
		r.rejudge(context.WithoutCancel(ctx), input)
	}
}

// Settled waits until the states of the files tell that a refresh is over, so
// that whoever sees its end sees them too. It does not wait long: a look at the
// place may be under way.
func (r *Runner) Settled(ctx context.Context, id int64) {
	if running, ok := r.inHand.Load(id); ok {
		select {
		case <-running.(*hand).told:
		case <-time.After(10 * time.Second):
		case <-ctx.Done():
		}
	}
}

// rejudge tells the states anew, against the new baseline or what was read.
func (r *Runner) rejudge(ctx context.Context, input int64) {
	in, err := r.Store.InputByID(ctx, input)
	if err == nil {
		err = r.Watcher.Judge(ctx, in)
	}
	if err != nil {
		r.Log.Error("cannot tell the states after a refresh", "input", in.Name, "error", err)
	}
}
