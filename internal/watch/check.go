package watch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sync/errgroup"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// Reading is what one reading of a file told.
type Reading struct {
	FileID int64
	Path   string
	Mark   places.Mark
	At     time.Time // when it was read
	Digest string    // empty if it could not be read
	// Trouble is why it could not be read.
	Trouble []finding.Finding
	// Check is what its bytes came to under the input's layout.
	Check *records.Check
}

// readers is how many files are read at a time.
const readers = 2

// freshFor is how long a file must have been left alone for its mark to stand
// for its bytes: clocks of file systems are coarse.
const freshFor = 2 * time.Second

// check reads the files of a view that have to be read, where they lie.
func (w *Watcher) check(ctx context.Context, at *watched, view View) error {
	results := make([]Reading, len(view.unread))
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(readers)
	for i, p := range view.unread {
		group.Go(func() error {
			var err error
			results[i], err = w.checkOne(groupCtx, view, p)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return w.learn(ctx, at, view.Input.PlaceID, results)
}

func (w *Watcher) checkOne(ctx context.Context, view View, p Picked) (Reading, error) {
	return Read(ctx, view.Place, p, w.Clock, func(r io.Reader) (*records.Check, string, error) {
		hash := sha256.New()
		tee := io.TeeReader(r, hash)
		checked, err := Check(view.Definition.For(p.Entries), shaping.Origin{}, tee, shaping.NewWriter(io.Discard))
		if err == nil {
			_, err = io.Copy(io.Discard, tee)
		}
		return checked.Record(view.Input), hex.EncodeToString(hash.Sum(nil)), err
	})
}

// Checked is what reading a file by a definition came to.
type Checked struct {
	shaping.Result
	Kind   reading.Kind
	totals map[string]string
}

// Check reads r to its end if there is something to be told of it, and shapes
// it if the definition has columns.
func Check(def *definition.Definition, origin shaping.Origin, r io.Reader, out *shaping.Writer) (Checked, error) {
	f, err := reading.Open(r, spool)
	if err != nil {
		return Checked{}, err
	}
	defer f.Close()
	c := Checked{Kind: f.Kind}
	table := f.Kind.Table() && f.Kind != reading.Parquet
	if len(def.Columns) == 0 || !table && f.Kind != reading.Nothing || f.Kind.Workbook() || f.Kind == reading.Zip {
		c.Findings, err = f.Inspect()
		_, broken := finding.AnyBroken(c.Findings)
		if len(def.Columns) > 0 && !broken && !table {
			c.Findings = append(c.Findings, finding.New(finding.NotATable, "it is %s", f.Kind))
		}
		if err != nil || broken || len(def.Columns) == 0 || !table {
			return c, err
		}
	}
	if c.Result, err = shaping.Shape(def, origin, f, out); err != nil {
		return c, err
	}
	return NewChecked(def, c.Result, c.Kind), out.Flush()
}

// NewChecked returns what reading a file by a definition came to.
func NewChecked(def *definition.Definition, result shaping.Result, kind reading.Kind) Checked {
	c := Checked{Result: result, Kind: kind, totals: map[string]string{}}
	next := 0
	for _, column := range def.Columns {
		if column.Total && next < len(c.Sums) {
			c.totals[column.Name] = c.Sums[next].String()
			next++
		}
	}
	return c
}

// Record returns what is recorded of it, for an input's layout.
func (c Checked) Record(in records.Input) *records.Check {
	check := &records.Check{Layout: in.Layout, RowsRead: c.Read, RowsKept: c.Kept, Findings: c.Findings, Kind: string(c.Kind), Totals: c.totals, Headers: c.Headers}
	if c.Delimiter != 0 {
		check.Delimiter = string(rune(c.Delimiter))
	}
	return check
}

// spoolInMemory is the most bytes of an archive that are kept in memory; the
// rest goes to a file without a name.
const spoolInMemory = 16 << 20

func spool(r io.Reader) (reading.Content, error) {
	var b bytes.Buffer
	if _, err := io.CopyN(&b, r, spoolInMemory+1); err == io.EOF {
		return memory{bytes.NewReader(b.Bytes())}, nil
	} else if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp("", "jorvex-")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name())
	size, err := io.Copy(f, io.MultiReader(&b, r))
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return spooled{f, size}, nil
}

type memory struct{ *bytes.Reader }

func (memory) Close() error { return nil }

type spooled struct {
	*os.File
	size int64
}

func (s spooled) Size() int64 { return s.size }

// attempts is how often a file that moves while it is read is read again.
const attempts = 3

// Read opens a file once, has consume read it, and holds its mark before
// against its mark after: a file that moved meanwhile is read again. What went
// wrong with the file itself is in the reading; an error is one of the service.
func Read(ctx context.Context, place places.Place, p Picked, clock func() time.Time, consume func(io.Reader) (*records.Check, string, error)) (Reading, error) {
	r := Reading{FileID: p.FileID, Path: p.Path, Mark: p.Mark}
	for range attempts {
		if err := ctx.Err(); err != nil {
			return r, err
		}
		r.At = clock()
		settled, err := r.once(ctx, place, consume)
		var failed *fileError
		if errors.As(err, &failed) {
			r.Trouble = []finding.Finding{failed.finding}
			return r, nil
		}
		if err != nil || settled {
			return r, err
		}
		time.Sleep(50 * time.Millisecond)
	}
	r.Digest, r.Check = "", nil
	r.Trouble = []finding.Finding{finding.New(finding.Moving, "it was read %d times", attempts)}
	return r, nil
}

// fileError is a finding about opening or reading a file.
type fileError struct{ finding finding.Finding }

func (e *fileError) Error() string { return e.finding.Sentence }

func (r *Reading) once(ctx context.Context, place places.Place, consume func(io.Reader) (*records.Check, string, error)) (settled bool, err error) {
	f, err := place.Open(r.Path)
	if err != nil {
		return false, openError(err)
	}
	defer f.Close()
	before, err := f.Mark()
	if err != nil {
		return false, openError(err)
	}
	guard := &guarded{ctx: ctx, r: f}
	r.Check, r.Digest, err = consume(guard)
	if guard.err != nil {
		return false, guard.err
	}
	if err != nil {
		return false, err
	}
	after, err := f.Mark()
	if err != nil {
		return false, openError(err)
	}
	r.Mark = after
	if r.Check != nil {
		r.Check.Digest = r.Digest
	}
	return before == after, nil
}

// guarded tells errors of reading the file from those of what reads it, and
// stops when ctx ends.
type guarded struct {
	ctx context.Context
	r   io.Reader
	err error
}

func (g *guarded) Read(p []byte) (int, error) {
	if err := g.ctx.Err(); err != nil {
		g.err = err
		return 0, err
	}
	n, err := g.r.Read(p)
	if err != nil && err != io.EOF {
		g.err = openError(err)
		err = g.err
	}
	return n, err
}

func openError(err error) error {
	var unreachable *places.Unreachable
	switch {
	case errors.As(err, &unreachable):
		return &fileError{finding.New(finding.Vanished, "its place cannot be reached: %s", places.Reason(err))}
	case errors.Is(err, fs.ErrNotExist):
		return &fileError{finding.New(finding.Vanished, "")}
	case places.Locked(err):
		return &fileError{finding.New(finding.OpenElsewhere, "")}
	case errors.Is(err, fs.ErrPermission):
		return &fileError{finding.New(finding.NoPermission, "")}
	}
	return &fileError{finding.New(finding.Unreadable, "%s", places.Reason(err))}
}

// Learn records what a refresh's readings told.
func (w *Watcher) Learn(ctx context.Context, in records.Input, readings []Reading) error {
	p, err := w.Store.Place(ctx, in.Place)
	if err != nil {
		return err
	}
	at, err := w.enter(ctx, p)
	if err != nil {
		return err
	}
	defer at.mu.Unlock()
	return w.learn(ctx, at, p.ID, readings)
}

// learn records readings, and puts them in the snapshot. A file that has
// another mark than the one read is left to the next look.
func (w *Watcher) learn(ctx context.Context, at *watched, place int64, readings []Reading) error {
	checks, altered := at.take(readings)
	if err := w.Store.SaveChecks(ctx, checks); err != nil {
		return err
	}
	if len(altered) == 0 {
		return nil
	}
	return w.Store.SaveFiles(ctx, place, nil, altered)
}

// take puts readings in the snapshot, and returns what is to be recorded.
func (at *watched) take(readings []Reading) (checks []records.Check, altered []records.File) {
	at.state.Lock()
	defer at.state.Unlock()
	shared := records.Shared{}
	for _, r := range readings {
		if r.Check != nil && r.Digest != "" {
			checks = append(checks, *r.Check)
			if known := at.checks[r.Check.Layout]; known != nil {
				why, broken := finding.AnyBroken(r.Check.Findings)
				known[r.Digest] = records.Known{Broken: broken, Why: why.Sentence, Rows: r.Check.RowsKept, Kind: r.Check.Kind, Delimiter: r.Check.Delimiter, Totals: r.Check.Totals, Headers: shared.Of(r.Check.Headers)}
			}
		}
		f := at.snapshot.find(r.Path)
		if f == nil || f.mark != r.Mark {
			continue
		}
		written := max(r.Mark.Modified, r.Mark.Changed)
		then := r.At.UnixNano()
		since := then
		if f.read != nil && f.read.since > 0 {
			since = min(since, f.read.since)
		}
		// Where a file system's clock is ahead of ours, or ours was set back, it
		// counts how long the mark has stood since we saw it.
		fresh := then-written < int64(freshFor) && then-since < int64(freshFor)
		f.read = &read{digest: r.Digest, trouble: r.Trouble, fresh: fresh, at: r.At, since: since}
		folder, _ := split(r.Path)
		altered = append(altered, f.record(folder))
	}
	return checks, altered
}
