package refresh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/core/shaping"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// goods finds the last good versions of files: those that fed a delivered
// refresh last, and so had no finding that makes a file unusable.
type goods struct {
	mu       sync.Mutex
	receipts map[int64]map[string]receipt.File // by path as it is shown
}

// lastGood returns the last good version of a file, or of the one it was moved
// from, and the receipt that it fed last.
func (r *piece) lastGood(ctx context.Context, path string) (receipt.File, int64, error) {
	paths := [][]byte{[]byte(path)}
	if from := r.view.MovedFrom[path]; from != "" {
		paths = append(paths, []byte(from))
	}
	for _, p := range paths {
		last, err := r.Store.LastFed(ctx, r.input, p)
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		if err != nil {
			return receipt.File{}, 0, err
		}
		files, err := r.filesOf(ctx, last.Receipt)
		if err != nil {
			return receipt.File{}, 0, err
		}
		if f, there := files[filename.Show(string(p))]; there && r.Vault.Want(f.Digest) {
			return f, last.Receipt, nil
		}
	}
	return receipt.File{}, 0, records.ErrNotFound
}

func (r *piece) filesOf(ctx context.Context, number int64) (map[string]receipt.File, error) {
	r.goods.mu.Lock()
	defer r.goods.mu.Unlock()
	if files, known := r.goods.receipts[number]; known {
		return files, nil
	}
	stored, err := r.Store.Receipt(ctx, number)
	if err != nil {
		return nil, err
	}
	files := map[string]receipt.File{}
	err = watch.ReceiptFiles(r.Watcher, stored, r.input, func(f receipt.File) error {
		if f.Use != receipt.NotUsed {
			files[f.Path] = f
		}
		return nil
	})
	if r.goods.receipts == nil {
		r.goods.receipts = map[int64]map[string]receipt.File{}
	}
	r.goods.receipts[number] = files
	return files, err
}

// standInFor enters files that are not fully seen with their last good versions.
func (r *piece) standInFor(ctx context.Context, cause definition.Cause, held []watch.HeldBack, why string) error {
	var list []*fed
	var files []selection.File
	for _, h := range held {
		good, _, err := r.lastGood(ctx, h.Path)
		if errors.Is(err, records.ErrNotFound) {
			r.meet(met{cause: cause, stop: true, says: fmt.Sprintf("%s: %s, and %s", filename.Show(h.Path), why, noGood), next: "mend the cause, or have the gate leave such files out"})
			continue
		}
		if err != nil {
			return err
		}
		f := &fed{picked: watch.Picked{Path: h.Path}, held: cause, why: why, done: make(chan struct{})}
		f.picked.Mark.Size, f.picked.Mark.Modified = good.Size, good.Modified.UnixNano()
		list = append(list, f)
		files = append(files, selection.File{Path: h.Path, Size: good.Size, Modified: good.Modified.UnixNano()})
	}
	result := selection.New(r.view.Definition, selection.Surroundings{AsOf: r.row.AsOf}).Judge(files)
	for i, f := range list {
		f.picked.Captures = result.Decisions[i].Captures
		r.files = append(r.files, f)
	}
	return nil
}

const noGood = "no version of it that the vault keeps fed a delivery before"

// standIn puts the last good version of a file in its place. What it returns is
// why there is none, or empty.
func (r *piece) standIn(ctx context.Context, f *fed, why string) (problem string, err error) {
	good, number, err := r.lastGood(ctx, f.picked.Path)
	if errors.Is(err, records.ErrNotFound) {
		return noGood, nil
	}
	if err != nil {
		return "", err
	}
	f.learnt = &watch.Reading{}
	*f.learnt = f.reading
	f.reading = watch.Reading{FileID: f.picked.FileID, Path: f.picked.Path, Digest: good.Digest, At: r.Clock()}
	f.reading.Mark.Size, f.reading.Mark.Modified = good.Size, good.Modified.UnixNano()
	f.picked.Mark, f.picked.Findings, f.shaped = f.reading.Mark, nil, shaping.Result{}
	if err := r.shape(ctx, f); err != nil {
		return "", err
	}
	if found, broken := f.broken(); broken {
		return "its last good version cannot be used either: " + found.Sentence, nil
	}
	f.why, f.standsIn = fmt.Sprintf("%s; its version of receipt %d stands in", why, number), true
	return "", nil
}

// inOrder puts files that stand in where they belong.
func (r *piece) inOrder() {
	if r.view.Definition.OrderBy != "" || !slices.ContainsFunc(r.files, func(f *fed) bool { return f.held != "" }) {
		return
	}
	slices.SortStableFunc(r.files, func(a, b *fed) int {
		return bytes.Compare(filename.SortKey(a.picked.Path), filename.SortKey(b.picked.Path))
	})
}
