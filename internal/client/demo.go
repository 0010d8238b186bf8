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
	if err := LoadDemo(ctx, service, *dir, o, ""); err != nil {
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
func LoadDemo(ctx context.Context, service *api.ClientWithResponses, dir string, o demo.Options, hook string) error {
	share := filepath.Join(dir, demo.Share)
	if _, err := os.Stat(share); errors.Is(err, fs.ErrNotExist) {
		if err := demo.Generate(dir, o); err != nil {
			return fmt.Errorf("make the demo's files: %w", err)
		}
	}
	place, err := service.CreatePlaceWithResponse(ctx, api.NewPlace{Name: demo.Place, Directory: share})
	if err != nil {
		return unreachable(err)
	}
	if place.JSON201 == nil && place.StatusCode() != http.StatusConflict {
		return failure(place.ApplicationproblemJSONDefault, place.Body)
	}
	if hook != "" {
		// The hook's port is another at each start.
		rule, err := service.SaveNoticeRuleWithResponse(ctx, "reporting-desk", api.NoticeRuleBody{Hook: hook, Mail: []string{"reporting@skerry.example"},
			Kinds: []api.NoticeKind{api.NoticeKindBroken, api.NoticeKindMissing, api.NoticeKindInDoubt, api.NoticeKindDelivered, api.NoticeKindStopped, api.NoticeKindFailed}})
		if err != nil {
			return unreachable(err)
		}
		if rule.JSON200 == nil {
			return failure(rule.ApplicationproblemJSONDefault, rule.Body)
		}
	}
	for _, definition := range demo.Inputs {
		input, err := service.CreateInputWithResponse(ctx, api.DefinitionText{Definition: definition})
		if err != nil {
			return unreachable(err)
		}
		if input.JSON201 == nil && input.StatusCode() != http.StatusConflict {
			return failure(input.ApplicationproblemJSONDefault, input.Body)
		}
	}
	return nil
}
