package client

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/oapi-codegen/runtime/types"

	"jorvex/internal/api"
)

// slotLetters draw the states of slots.
var slotLetters = []struct {
	state  api.SlotState
	letter byte
}{
	{api.SlotStateFilled, '#'}, {api.SlotStateLate, 'L'}, {api.SlotStateMissing, 'M'}, {api.SlotStateDoubled, '2'},
	{api.SlotStateBroken, 'X'}, {api.SlotStateNotDue, '.'}, {api.SlotStateExcused, '-'},
}

func coverage(ctx context.Context, c *Call) error {
	c.listing()
	from := c.Flags.String("from", "", "first `day`, as 2026-10-01; the first expected one if empty")
	to := c.Flags.String("to", "", "last `day`; today if empty")
	args, err := c.Parse(1, 1)
	if err != nil {
		return err
	}
	params := &api.GetCoverageParams{}
	for _, day := range []struct {
		text string
		into **types.Date
	}{{*from, &params.From}, {*to, &params.To}} {
		if day.text == "" {
			continue
		}
		t, err := time.Parse(time.DateOnly, day.text)
		if err != nil {
			return Usage("%q is no day; write it as 2026-10-01", day.text)
		}
		*day.into = &types.Date{Time: t}
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.GetCoverageWithResponse(ctx, args[0], params)
	if err != nil {
		return err
	}
	g := answer.JSON200
	if c.json || c.csv {
		t := columns("member", "period", "state", "due", "files", "note")
		for _, row := range g.Rows {
			for i, state := range row.States {
				at := slices.IndexFunc(row.Slots, func(s api.Slot) bool { return s.Column == i })
				slot := api.Slot{}
				if at >= 0 {
					slot = row.Slots[at]
				}
				t.row(row.Member, g.Columns[i], string(state), c.moment(slot.Due), strings.Join(slot.Files, " "), slot.Note)
			}
		}
		return c.show(t, g)
	}
	c.drawCoverage(g)
	return nil
}

// drawCoverage draws the grid with a letter for each slot, in blocks that fit
// the width of a terminal.
func (c *Call) drawCoverage(g *api.Coverage) {
	fmt.Fprintf(c.Stdout, "%s to %s:", g.From, g.To)
	for _, l := range slotLetters {
		if n := g.Counts[string(l.state)]; n > 0 {
			fmt.Fprintf(c.Stdout, "  %c %s %s", l.letter, word(string(l.state)), c.number(n))
		}
	}
	fmt.Fprintln(c.Stdout)
	width := 0
	for _, row := range g.Rows {
		width = max(width, utf8.RuneCountInString(row.Member))
	}
	const across = 92
	for start := 0; start < len(g.Columns); {
		end := start
		line, heads := "", ""
		for used := 0; end < len(g.Columns) && used < across-width; end++ {
			// A gap and a heading where a month, or a year, begins.
			if head := heading(g.Columns, end); head != "" && (end == start || head != heading(g.Columns, end-1)) {
				if end > start {
					line += " "
					used++
				}
				heads += strings.Repeat(" ", max(0, len(line)-len(heads))) + head + " "
			}
			line += "x"
			used++
		}
		fmt.Fprintf(c.Stdout, "\n%*s  %s\n", width, "", strings.TrimRight(heads, " "))
		for _, row := range g.Rows {
			marks := []byte(line)
			i := start
			for k := range marks {
				if marks[k] == 'x' {
					marks[k] = letterOf(row.States[i])
					i++
				}
			}
			fmt.Fprintf(c.Stdout, "%-*s  %s\n", width, row.Member, marks)
		}
		start = end
	}
	fmt.Fprintln(c.Stdout)
	t := columns("slot", "state", "due", "files")
	const most = 20
	more := 0
	for _, row := range g.Rows {
		for _, s := range row.Slots {
			if s.State == api.SlotStateLate || s.State == api.SlotStateExcused && s.Note == "" {
				continue
			}
			if len(t.rows) == most {
				more++
				continue
			}
			what := strings.Join(s.Files, "; ")
			if s.Note != "" {
				what = s.Note
			}
			t.row(strings.TrimSpace(row.Member+" "+g.Columns[s.Column]), word(string(s.State)), c.moment(s.Due), what)
		}
	}
	if len(t.rows) > 0 {
		t.print(c.Stdout)
	}
	if more > 0 {
		fmt.Fprintf(c.Stdout, "… and %d more; -csv lists all\n", more)
	}
	if g.Unplaced > 0 {
		fmt.Fprintf(c.Stdout, "%s picked and in no slot\n", plural(int64(g.Unplaced), "file"))
	}
}

func letterOf(state api.SlotState) byte {
	for _, l := range slotLetters {
		if l.state == state {
			return l.letter
		}
	}
	return '?'
}

// heading is what stands above a column: the month of a day, the year of
// anything longer.
func heading(columns []string, i int) string {
	if i < 0 || i >= len(columns) {
		return ""
	}
	switch name := columns[i]; {
	case len(name) == len("2026-10-05"):
		return name[:7]
	case len(name) >= 4 && name[0] >= '0' && name[0] <= '9':
		return name[:4]
	}
	return ""
}

func excuse(ctx context.Context, c *Call) error {
	c.connected()
	note := c.Flags.String("note", "", "why, for whoever reads it later")
	back := c.Flags.Bool("back", false, "take the excuse back")
	args, err := c.Parse(2, 3)
	if err != nil {
		return err
	}
	member, period := "", args[len(args)-1]
	if len(args) == 3 {
		member = args[1]
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if *back {
		if _, err := service.DropExcuseWithResponse(ctx, args[0], &api.DropExcuseParams{Member: member, Period: period}); err != nil {
			return err
		}
		fmt.Fprintf(c.Stdout, "%s is expected again\n", strings.TrimSpace(member+" "+period))
		return nil
	}
	if _, err := service.CreateExcuseWithResponse(ctx, args[0], api.Excuse{Member: member, Period: period, Note: *note}); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "%s is excused\n", strings.TrimSpace(member+" "+period))
	return nil
}
