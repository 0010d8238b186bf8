package refresh

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"jorvex/internal/core/reading"
	"jorvex/internal/core/totals"
	"jorvex/internal/parts"
)

// count counts the rows of a file for the watched values and summaries.
func (r *piece) count(ctx context.Context, f *fed) (err error) {
	if plan := r.view.Definition.Plan(); !plan.Empty() {
		f.tally, err = tallyOf(ctx, f.part, plan)
	}
	return err
}

// tallyForm is the version of the form that tallies are kept in.
const tallyForm = 1

// tallyOf returns what a plan comes to for the rows of a part: the kept tally, or
// one that is made now.
func tallyOf(ctx context.Context, part *parts.Part, plan totals.Plan) (*totals.Tally, error) {
	text, err := json.Marshal([]any{tallyForm, plan})
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	key := "tally-" + hex.EncodeToString(sum[:8])
	t := totals.NewTally(plan)
	var kept totals.Tally
	if part.Beside(key, &kept) && len(kept.Watched) == len(t.Watched) && len(kept.Summaries) == len(t.Summaries) && len(kept.Beyond) == len(t.Beyond) {
		kept.Of(plan)
		return &kept, nil
	}
	values := make([][]byte, len(plan.Columns))
	n := 0
	err = eachRow(part, func(cells []reading.Cell) error {
		for i := range values {
			values[i] = cells[i].Text
		}
		t.Add(values)
		if n++; n%10_000 == 0 {
			return ctx.Err()
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return t, part.Keep(key, t)
}

// Tally counts the rows of a table anew, for a plan that need not be that of its
// definition.
func (t *Table) Tally(ctx context.Context, plan totals.Plan) (*totals.Tally, error) {
	all := totals.NewTally(plan)
	for i := range t.Files {
		part, err := t.part(ctx, i)
		if err != nil {
			return nil, err
		}
		one, err := tallyOf(ctx, part, plan)
		if err != nil {
			return nil, err
		}
		all.Merge(one)
	}
	return all, nil
}
