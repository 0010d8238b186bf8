package refresh

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"jorvex/internal/core/definition"
	"jorvex/internal/records"
)

// scheduleEvery is how often it is looked for what is due.
const scheduleEvery = time.Second

// keepTime asks for the refreshes that schedules, arrivals and complete periods call
// for, until ctx ends.
func (r *Runner) keepTime(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(scheduleEvery):
		}
		due, err := r.Store.Due(ctx, r.Clock())
		if err != nil {
			continue // the database is away, which others tell of
		}
		for _, d := range due {
			if err := r.take(ctx, d); err != nil && ctx.Err() == nil {
				r.Log.Error("cannot ask for a refresh that is due; trying again", "error", err)
			}
		}
	}
}

// take asks for one refresh that is due.
func (r *Runner) take(ctx context.Context, d records.Due) error {
	var of records.Subject
	var when definition.Refresh
	now := r.Clock()
	if d.ReportID != 0 {
		report, err := r.Store.ReportByID(ctx, d.ReportID)
		if err != nil {
			return err
		}
		def, err := definition.ParseReport(report.Text)
		if err != nil {
			return fmt.Errorf("the definition of %s: %w", report.Name, err)
		}
		of, when = records.Subject{Report: report.ID, Inputs: report.Inputs}, def.Refresh
	} else {
		in, err := r.Store.InputByID(ctx, d.InputID)
		if err != nil {
			return err
		}
		def, err := definition.Parse(in.Text, now)
		if err != nil {
			return fmt.Errorf("the definition of %s: %w", in.Name, err)
		}
		of, when = records.Subject{Input: in.ID, Inputs: []int64{in.ID}}, def.Refresh
	}
	var next *time.Time
	if d.NextDue != nil && when.Schedule != nil {
		if at := when.Schedule.Next(now); !at.IsZero() {
			next = &at
		}
	}
	id, err := r.Store.TakeDue(ctx, d, of, askedBy(d, when, now), now, next, func(tx pgx.Tx, id int64) error { return r.enqueue(ctx)(tx, id) })
	if err == nil && id != 0 {
		r.announce(ctx, id)
	}
	return err
}

// late is from when on a run counts as missed.
const late = time.Minute

// askedBy says in words what called for a refresh. Runs that were missed are made up
// for by one.
func askedBy(d records.Due, when definition.Refresh, now time.Time) string {
	var words []string
	if d.NextDue != nil {
		word := "schedule"
		if when.Schedule != nil && now.Sub(*d.NextDue) >= late {
			missed := when.Schedule.Missed(*d.NextDue, now)
			word = fmt.Sprintf("schedule, for %s missed since %s", count(missed, "run"), d.NextDue.UTC().Format("2006-01-02 15:04 MST"))
		}
		words = append(words, word)
	}
	if d.Arrived != nil {
		words = append(words, "arrival")
	}
	if len(d.Complete) > 0 {
		words = append(words, "all files of "+strings.Join(d.Complete, ", "))
	}
	return strings.Join(words, "; ")
}
