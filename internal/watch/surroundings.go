package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync"
	"time"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/listing"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/selection"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// baselines keeps the file list of each input's last receipt with some
// parameters.
type baselines struct {
	mu   sync.Mutex
	last map[string]baseline
}

type baseline struct {
	number  int64
	entries map[string]changes.Entry
}

// baseline returns the files of the last delivered refresh of an input with the
// same parameters.
func (w *Watcher) baseline(ctx context.Context, input int64, parameters string) (map[string]changes.Entry, error) {
	stored, err := w.Store.LastReceipt(ctx, input, parameters, 0)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	key := fmt.Sprint(input, " ", parameters)
	w.base.mu.Lock()
	defer w.base.mu.Unlock()
	if known := w.base.last[key]; known.number == stored.Number {
		return known.entries, nil
	}
	entries := map[string]changes.Entry{}
	err = ReceiptFiles(w, stored, input, func(f receipt.File) error {
		path, err := filename.Parse(f.Path)
		if err != nil || f.Use == receipt.NotUsed {
			return err
		}
		entries[path] = changes.Entry{Path: path, Size: f.Size, Modified: f.Modified.UnixNano(), Digest: f.Digest}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the files of receipt %d: %w", stored.Number, err)
	}
	const most = 1000
	if w.base.last == nil || len(w.base.last) >= most {
		w.base.last = map[string]baseline{}
	}
	w.base.last[key] = baseline{stored.Number, entries}
	return entries, nil
}

// ReceiptFiles calls each with every file of a receipt's list, out of the vault, or
// of one input's list of it.
func ReceiptFiles(w *Watcher, stored receipt.Stored, input int64, each func(receipt.File) error) error {
	h, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return err
	}
	for _, s := range h.Sections() {
		if input != 0 && s.InputID != input {
			continue
		}
		list, err := w.Vault.Open(s.FilesDigest)
		if err != nil {
			return err
		}
		err = receipt.ReadList(list, each)
		if errClose := list.Close(); err == nil {
			err = errClose
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// surroundings is what the judge of an input must know beside the definition.
type surroundings struct {
	selection.Surroundings
	holds    map[string]records.Hold
	over     []records.Hold // whose time is over
	findings []finding.Finding
	until    time.Time
}

// surroundings gathers them. saved is nil for a trial, which reads a hand-made
// list anew.
func (w *Watcher) surroundings(ctx context.Context, at *watched, input int64, saved *records.Input, def *definition.Definition, asOf time.Time) (*surroundings, error) {
	s := &surroundings{holds: map[string]records.Hold{}}
	s.AsOf = asOf
	var err error
	if s.OwnPaths, s.OwnContent, err = w.own(ctx, at.directory); err != nil {
		return nil, err
	}
	now := w.Clock()
	s.until = rejudge(def, now)
	list, err := w.Store.Holds(ctx, input)
	if err != nil {
		return nil, err
	}
	s.Holds = make(map[string]selection.Hold, len(list))
	for _, h := range list {
		if h.Until != nil && !h.Until.After(now) {
			s.over = append(s.over, h)
			continue
		}
		if h.Until != nil && h.Until.Before(s.until) {
			s.until = *h.Until
		}
		s.holds[string(h.Path)] = h
		s.Holds[string(h.Path)] = selection.Hold{In: h.In, Note: h.Note, By: h.By, Digest: h.Digest}
	}
	if def.List != nil {
		entries, err := w.list(at, saved, def)
		if err != nil {
			s.findings = append(s.findings, finding.New(finding.ListUnreadable, "%s: %s", filename.Show(join(def.Folder, def.List.File)), err))
		}
		s.List = entries
	}
	return s, nil
}

// rejudge tells when verdicts may change though no file does: at the next
// midnight, or in a minute where a condition rolls with the time.
func rejudge(def *definition.Definition, now time.Time) time.Time {
	for _, rules := range [][]definition.Rule{def.OnlyIf, def.LeaveOut} {
		for _, r := range rules {
			if !r.Off && strings.Contains(r.Condition.String(), " within last ") {
				return now.Add(time.Minute)
			}
		}
	}
	y, m, d := now.In(def.Zone).Date()
	return time.Date(y, m, d+1, 0, 0, 0, 0, def.Zone)
}

// lapse ends the holds that no longer bind.
func (w *Watcher) lapse(ctx context.Context, in records.Input, s *surroundings, r *selection.Result, now time.Time) error {
	for _, path := range r.Lapsed {
		if err := w.Store.EndHold(ctx, in.ID, s.holds[path].ID, now, "the file's bytes changed"); err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
	}
	for _, h := range s.over {
		if err := w.Store.EndHold(ctx, in.ID, h.ID, now, "its time was over"); err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
	}
	return nil
}

// list is a hand-made list as it was read.
type list struct {
	version int64
	mark    places.Mark
	entries []definition.Listed
	err     error
}

// list reads the list of a definition, unless its file is the one that was read.
func (w *Watcher) list(at *watched, saved *records.Input, def *definition.Definition) ([]definition.Listed, error) {
	path := join(def.Folder, def.List.File)
	f, err := at.place.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errors.New("there is no such file")
	}
	if err != nil {
		return nil, errors.New(places.Reason(err))
	}
	defer f.Close()
	mark, err := f.Mark()
	if err != nil {
		return nil, errors.New(places.Reason(err))
	}
	if saved != nil { // a trial has no lock on what was read
		if known, is := at.lists[saved.ID]; is && known.version == saved.Version && known.mark == mark {
			return known.entries, known.err
		}
	}
	if mark.Size > listing.Most {
		return nil, fmt.Errorf("it has %d bytes, a list may have %d", mark.Size, listing.Most)
	}
	content, err := io.ReadAll(io.LimitReader(f, listing.Most))
	if err != nil {
		return nil, errors.New(places.Reason(err))
	}
	entries, err := listing.Read(def.List, content)
	if saved != nil {
		at.lists[saved.ID] = list{saved.Version, mark, entries, err}
	}
	return entries, err
}
