package client

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/demo"
)

// DemoDir returns the directory of the demo's files.
func DemoDir(data string) string { return filepath.Join(data, "demo") }

func demoCommand(ctx context.Context, c *Call) error {
	c.connected()
	dir := c.Flags.String("dir", "", "`directory` for the demo's files; below the data directory if empty")
	end := c.Flags.String("end", "", "last `day` there are files of, as 2026-11-20; yesterday if empty, today from 19:00 UTC on")
	seed := c.Flags.Uint64("seed", 1, "`number` that the figures follow from")
	scale := c.Flags.Int("scale", 1, "multiply the rows of each file by this `number`")
	history := c.Flags.Int("history", 8, "refresh the reports as of so many `weeks` before, each with the files of then; files that are there already have none")
	play := c.Flags.Bool("play", false, "then have colleagues at work on the files until Ctrl-C, which puts them back")
	every := c.Flags.Duration("every", 4*time.Second, "`time` between two things they do")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	if *every < 100*time.Millisecond {
		return Usage("-every is at least 100ms")
	}
	if *dir == "" {
		*dir = DemoDir(c.data)
	}
	o := demo.Options{Seed: *seed, Scale: *scale, End: demo.LastDay(time.Now())}
	if *end != "" {
		day, err := time.Parse(time.DateOnly, *end)
		if err != nil {
			return Usage("-end: %q is no day; write it as 2026-11-20", *end)
		}
		o.End = day
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if err := LoadDemo(ctx, service, *dir, o, *history, ""); err != nil {
		return err
	}
	if c.json && !*play {
		return c.printJSON(map[string]string{"place": demo.Place, "directory": filepath.Join(*dir, demo.Share), "inputs": fmt.Sprint(len(demo.Inputs))})
	}
	fmt.Fprintf(c.Stdout, "the demo is loaded: place %s at %s, %s\ntry: jorvex files daily-loadings -verdict left_out\n", demo.Place, filepath.Join(*dir, demo.Share), plural(len(demo.Inputs), "input"))
	if !*play {
		return nil
	}
	return c.play(ctx, *dir, *seed, *every)
}

// play has colleagues at work until ctx ends.
func (c *Call) play(ctx context.Context, dir string, seed uint64, every time.Duration) error {
	fmt.Fprintln(c.Stdout, "\ncolleagues are at work; watch with: jorvex watch")
	colleagues := demo.NewColleagues(dir, seed)
	for {
		did, err := colleagues.Act(ctx)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.Stdout, "%s  %s\n", time.Now().Format(time.TimeOnly), did)
		select {
		case <-ctx.Done():
			fmt.Fprintln(c.Stdout, "they put back what they took away or broke")
			return colleagues.MakeGood(context.WithoutCancel(ctx))
		case <-time.After(every):
		}
	}
}

// LoadDemo makes the demo's files, unless they are there, and adds its place and
// inputs to the service, unless it has them. With a web hook it has the reporting
// desk told by mail and there.
func LoadDemo(ctx context.Context, service *api.ClientWithResponses, dir string, o demo.Options, history int, hook string) error {
	share := filepath.Join(dir, demo.Share)
	made := filepath.Join(dir, "made")
	if _, err := os.Stat(share); errors.Is(err, fs.ErrNotExist) {
		if o.Weeks == 0 && history > 0 {
			o.Weeks = history + 1 // the first refresh has files too
		}
		if err := makeDemo(dir, made, o); err != nil {
			return fmt.Errorf("make the demo's files: %w", err)
		}
	}
	if _, err := service.CreatePlaceWithResponse(ctx, api.NewPlace{Name: demo.Place, Directory: share}); err != nil && !refused(err, http.StatusConflict) {
		return err
	}
	if hook != "" {
		// The hook's port is another at each start.
		_, err := service.SaveNoticeRuleWithResponse(ctx, "reporting-desk", api.NoticeRuleBody{Hook: hook, Mail: []string{"reporting@skerry.example"},
			Kinds: []api.NoticeKind{api.NoticeKindBroken, api.NoticeKindMissing, api.NoticeKindInDoubt, api.NoticeKindDelivered, api.NoticeKindStopped, api.NoticeKindFailed}})
		if err != nil {
			return err
		}
	}
	for _, definition := range demo.Inputs {
		if _, err := service.CreateInputWithResponse(ctx, api.DefinitionText{Definition: definition}); err != nil && !refused(err, http.StatusConflict) {
			return err
		}
	}
	for _, definition := range demo.Reports {
		if _, err := service.CreateReportWithResponse(ctx, api.DefinitionText{Definition: definition}); err != nil && !refused(err, http.StatusConflict) {
			return err
		}
	}
	if _, err := os.Stat(made); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	// While files are dropped for the past, they count at once.
	pace := func(settle float64) error {
		_, err := service.PacePlaceWithResponse(ctx, demo.Place, api.Pace{SettleSeconds: settle})
		return err
	}
	if err := pace(settledWithin.Seconds()); err != nil {
		return err
	}
	for ago := history; ago > 0; ago-- {
		// On Mondays at six, with what had been dropped by then.
		monday := o.End.Truncate(24*time.Hour).AddDate(0, 0, -(int(o.End.Weekday())+6)%7-7*(ago-1)).Add(6 * time.Hour)
		if err := refreshAsOf(ctx, service, made, share, monday); err != nil {
			return err
		}
	}
	if err := demo.Reveal(made, share, time.Now().AddDate(100, 0, 0)); err != nil {
		return err
	}
	if _, err := service.CreateLookWithResponse(ctx, demo.Place); err != nil {
		return err
	}
	return errors.Join(pace(0), os.RemoveAll(made))
}

// settledWithin is how long a file of the demo's past must be left alone.
const settledWithin = 100 * time.Millisecond

// makeDemo makes the demo's files, those of the share aside.
func makeDemo(dir, made string, o demo.Options) error {
	making := filepath.Join(dir, "making")
	if err := os.RemoveAll(making); err != nil {
		return err
	}
	if err := demo.Generate(making, o); err != nil {
		return err
	}
	for from, to := range map[string]string{demo.Share: made, demo.Late: filepath.Join(dir, demo.Late)} {
		if err := os.Rename(filepath.Join(making, from), to); err != nil {
			return err
		}
	}
	return errors.Join(os.RemoveAll(making), os.Mkdir(filepath.Join(dir, demo.Share), 0o755))
}

// refreshAsOf has the files dropped that were there at a moment, and the reports
// refreshed as of it.
func refreshAsOf(ctx context.Context, service *api.ClientWithResponses, made, share string, at time.Time) error {
	if err := demo.Reveal(made, share, at); err != nil {
		return err
	}
	if _, err := service.CreateLookWithResponse(ctx, demo.Place); err != nil {
		return err
	}
	time.Sleep(2 * settledWithin)
	list, err := service.ListReportsWithResponse(ctx)
	if err != nil {
		return err
	}
	for _, report := range list.JSON200.Items {
		asked, err := service.RefreshReportWithResponse(ctx, report.Name, api.RefreshRequest{AsOf: at})
		if err != nil {
			return err
		}
		for r := asked.JSON202; r.Ended.IsZero(); {
			time.Sleep(20 * time.Millisecond)
			now, err := service.GetRefreshWithResponse(ctx, r.Id)
			if err != nil {
				return err
			}
			r = now.JSON200
		}
	}
	return nil
}
