package watch

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"jorvex/internal/core/coverage"
	"jorvex/internal/core/filename"
	worth "jorvex/internal/core/notice"
	"jorvex/internal/core/selection"
	"jorvex/internal/notice"
	"jorvex/internal/records"
)

// standing gathers what is worth telling of an input for as long as it lasts.
func (e *entering) standing(doubt *records.Doubt, c *Coverage) notice.Standing {
	s := notice.Standing{worth.Broken: nil, worth.InDoubt: nil, worth.Missing: nil, worth.Late: nil, worth.Complete: nil}
	add := func(kind worth.Kind, key, says string) {
		s[kind] = append(s[kind], worth.Subject{Key: key, Says: says})
	}
	for i := range e.set.files {
		f := &e.set.files[i]
		if f.Broken && e.result.Decisions[i].Verdict != selection.LeftOut {
			path := filename.Show(f.Path)
			add(worth.Broken, path+" "+f.Digest, path+": "+e.set.known[i].why)
		}
	}
	slices.SortFunc(s[worth.Broken], func(a, b worth.Subject) int { return bytes.Compare(filename.SortKey(a.Key), filename.SortKey(b.Key)) })
	if doubt != nil && !doubt.Confirmed {
		add(worth.InDoubt, doubt.Since.UTC().Format(time.RFC3339), fmt.Sprintf("%d of the %d files of the last delivery are gone at once, which is not believed", doubt.Gone, doubt.Had))
	}
	if c == nil {
		return s
	}
	columns := len(c.Grid.Columns)
	there, came := make([]int, columns), make([]bool, columns)
	for i := range c.Grid.Slots {
		name := slotName(c.Grid, i)
		switch c.Grid.Slots[i].State {
		case coverage.Missing:
			add(worth.Missing, name, name)
		case coverage.Late:
			add(worth.Late, name, name)
			there[i%columns]++
			came[i%columns] = true
		case coverage.Filled:
			there[i%columns]++
			came[i%columns] = true
		case coverage.Excused:
			there[i%columns]++
		}
	}
	for i, n := range there {
		if came[i] && n == len(c.Grid.Rows) {
			name := c.Grid.Columns[i]
			if name == "" {
				name = "every member"
			}
			add(worth.Complete, name, name)
		}
	}
	return s
}
