package demo

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Colleagues are the people who drop files into the demo's share. What they do
// follows from the seed and from what is there.
type Colleagues struct {
	dir    string
	random *rand.Rand
	taken  map[string][]byte // content of files that went, by path
	whole  map[string][]byte // of files that were broken
	made   int
}

// NewColleagues returns people at work on the demo's files below dir.
func NewColleagues(dir string, seed uint64) *Colleagues {
	return &Colleagues{dir: dir, random: rand.New(rand.NewPCG(seed, 1)), taken: map[string][]byte{}, whole: map[string][]byte{}}
}

var people = []string{"Ingrid", "Lars", "Signe", "Torvald", "Ylva"}

// piece is how long a file that arrives in pieces waits for its next.
const piece = 700 * time.Millisecond

// Act has somebody do one thing, and says what.
func (c *Colleagues) Act(ctx context.Context) (string, error) {
	who := people[c.random.IntN(len(people))]
	acts := []func(context.Context) (string, error){c.late, c.incident, c.alter, c.take, c.damage, c.mend, c.bringBack, c.copyMark}
	c.random.Shuffle(len(acts), func(i, j int) { acts[i], acts[j] = acts[j], acts[i] })
	for _, act := range acts {
		if did, err := act(ctx); err != nil || did != "" {
			return who + " " + did, err
		}
	}
	return who + " looks on", nil
}

// late drops a file that should have come before, in pieces.
func (c *Colleagues) late(ctx context.Context) (string, error) {
	waiting, err := files(filepath.Join(c.dir, Late), "loadings", ".csv")
	if err != nil {
		return "", err
	}
	for _, path := range waiting {
		if _, err := os.Stat(c.at(path)); err == nil {
			continue
		}
		content, err := os.ReadFile(filepath.Join(c.dir, Late, path))
		if err != nil {
			return "", err
		}
		return "drops " + path + " in pieces", c.drop(ctx, path, content, 3)
	}
	return "", nil
}

// incident writes up what happened at a berth.
func (c *Colleagues) incident(ctx context.Context) (string, error) {
	const most = 30 // enough for a look at it
	if c.made == most {
		return "", nil
	}
	c.made++
	terminal := terminals[c.random.IntN(len(terminals))]
	path := fmt.Sprintf("incidents/%s/reported %d.json", terminal, c.made)
	content := fmt.Sprintf("{\"day\":%q,\"terminal\":%q,\"what\":\"rope worn\",\"minutes\":%d}\n", time.Now().Format(time.DateOnly), terminal, 5+c.random.IntN(60))
	return "drops " + path, c.drop(ctx, path, []byte(content), 1)
}

// alter adds a sailing to a file.
func (c *Colleagues) alter(ctx context.Context) (string, error) {
	path, content, err := c.some()
	if path == "" || err != nil {
		return "", err
	}
	content = append(content, content[bytes.LastIndexByte(content[:len(content)-1], '\n')+1:]...)
	return "adds a sailing to " + path, c.drop(ctx, path, content, 1)
}

// take removes a file.
func (c *Colleagues) take(context.Context) (string, error) {
	path, content, err := c.some()
	if path == "" || err != nil || len(c.taken) > 2 {
		return "", err
	}
	c.taken[path] = content
	return "takes " + path + " away", os.Remove(c.at(path))
}

// damage cuts a file in the middle of a quote.
func (c *Colleagues) damage(ctx context.Context) (string, error) {
	path, content, err := c.some()
	if path == "" || err != nil || len(c.whole) > 2 {
		return "", err
	}
	c.whole[path] = content
	return "breaks " + path, c.drop(ctx, path, append(content[:len(content)/2:len(content)/2], "\n\"SK"...), 1)
}

func (c *Colleagues) mend(ctx context.Context) (string, error) {
	for _, path := range keys(c.whole) {
		content := c.whole[path]
		delete(c.whole, path)
		return "mends " + path, c.drop(ctx, path, content, 2)
	}
	return "", nil
}

func (c *Colleagues) bringBack(ctx context.Context) (string, error) {
	for _, path := range keys(c.taken) {
		content := c.taken[path]
		delete(c.taken, path)
		return "brings " + path + " back", c.drop(ctx, path, content, 2)
	}
	return "", nil
}

// copyMark makes a second copy of a file, or takes it away.
func (c *Colleagues) copyMark(ctx context.Context) (string, error) {
	path, content, err := c.some()
	if path == "" || err != nil {
		return "", err
	}
	second := strings.TrimSuffix(path, ".csv") + " (2).csv"
	if _, err := os.Stat(c.at(second)); err == nil {
		return "takes " + second + " away", os.Remove(c.at(second))
	}
	return "makes a second copy, " + second, c.drop(ctx, second, content, 1)
}

// MakeGood puts everything back that was taken away or broken.
func (c *Colleagues) MakeGood(ctx context.Context) error {
	for len(c.whole)+len(c.taken) > 0 {
		if _, err := c.mend(ctx); err != nil {
			return err
		}
		if _, err := c.bringBack(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (c *Colleagues) at(path string) string { return filepath.Join(c.dir, Share, path) }

// some returns one of the newest loadings files that is as it should be.
func (c *Colleagues) some() (string, []byte, error) {
	list, err := files(filepath.Join(c.dir, Share), "loadings", ".csv")
	if err != nil {
		return "", nil, err
	}
	list = slices.DeleteFunc(list, func(path string) bool {
		_, broken := c.whole[path]
		name := filepath.Base(path)
		return broken || !strings.HasPrefix(name, "loadings 2") || len(name) != len("loadings 2026-11-20.csv")
	})
	slices.SortFunc(list, func(a, b string) int { return strings.Compare(filepath.Base(b), filepath.Base(a)) })
	if len(list) == 0 {
		return "", nil, nil
	}
	path := list[c.random.IntN(min(len(list), 3*len(terminals)))]
	content, err := os.ReadFile(c.at(path))
	if err == nil && len(content) < 100 {
		return "", nil, nil
	}
	return path, content, err
}

// drop writes a file as a copying program does: in place, piece by piece.
func (c *Colleagues) drop(ctx context.Context, path string, content []byte, pieces int) error {
	full := c.at(path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return err
	}
	f, err := os.Create(full)
	if err != nil {
		return err
	}
	defer f.Close()
	for i := range pieces {
		if i > 0 {
			select {
			case <-ctx.Done(): // nobody leaves half a file behind
			case <-time.After(piece):
			}
		}
		if _, err := f.Write(content[len(content)*i/pieces : len(content)*(i+1)/pieces]); err != nil {
			return err
		}
	}
	return f.Close()
}

// files lists the files below a folder that have an ending, by path.
func files(dir, below, ending string) ([]string, error) {
	var list []string
	err := fs.WalkDir(os.DirFS(dir), below, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ending) {
			list = append(list, path)
		}
		if os.IsNotExist(err) {
			err = nil
		}
		return err
	})
	return list, err
}

func keys(m map[string][]byte) []string {
	list := make([]string, 0, len(m))
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}
