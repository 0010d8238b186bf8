package refresh

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/records"
)

// tendEvery is how often refreshes are looked for that nobody works on.
const tendEvery = 2 * time.Second

// placeEvery is how often what could not be put in its place is tried again.
const placeEvery = time.Minute

// tend sees to refreshes whose job was lost, as when the database was away at
// the wrong moment: those that wait get another job, those that ran are told as
// interrupted.
func (r *Runner) tend(ctx context.Context) {
	before := map[int64]bool{}
	placed := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(tendEvery):
		}
		if time.Since(placed) > placeEvery {
			r.publish(ctx, 0)
			placed = time.Now()
		}
		waiting, lost, err := r.Store.Unattended(ctx)
		if err != nil {
			continue // the database is away, which others tell of
		}
		now := map[int64]bool{}
		for _, id := range waiting {
			if _, mine := r.inHand.Load(id); mine {
				continue
			}
			// A job is taken a moment before its refresh is.
			if now[id] = true; before[id] {
				err := r.Store.Tx(ctx, func(tx pgx.Tx) error { return r.enqueue(ctx)(tx, id) })
				r.Log.Warn("a waiting refresh had no job; it has one again", "refresh", id, "error", err)
			}
		}
		before = now
		for _, l := range lost {
			if _, mine := r.inHand.Load(l.ID); mine {
				continue
			}
			ending := records.Ending{Outcome: records.Interrupted, Problem: "the database was away while it began", Next: "refresh again; the last delivery stands"}
			if err := r.Store.EndRefresh(ctx, l.ID, l.Fence, r.Clock(), ending, r.enqueue(ctx)); err != nil && !errors.Is(err, records.ErrLostLease) {
				r.Log.Error("cannot record how a refresh ended; trying again", "refresh", l.ID, "error", err)
				continue
			}
			r.announce(ctx, l.ID)
		}
	}
}
