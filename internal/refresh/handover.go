package refresh

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// toHandOver lists what becomes of the files of an input that fed as they are. Those
// that fed out of the vault were handed over before.
func (r *piece) toHandOver() (list []records.NewHandover) {
	h := r.view.Definition.Handover
	if h.Action == "" {
		return nil
	}
	for _, f := range r.files {
		if f.leftOut != "" || f.standsIn || f.picked.HandedOver || r.copied[f.picked.Path][f.reading.Digest] {
			continue
		}
		captures := map[string]string{}
		for _, c := range f.picked.Captures {
			captures[c.Name] = c.Value()
		}
		list = append(list, records.NewHandover{PlaceID: r.view.Input.PlaceID, FileID: f.picked.FileID, Path: f.picked.Path, Size: f.reading.Mark.Size, Modified: f.reading.Mark.Modified,
			Digest: f.reading.Digest, Action: string(h.Action), Folder: h.Folder(captures), Keep: h.Keep})
	}
	return list
}

// mayHandOver sees, before the work is done, that the place's owner allows it.
func (r *piece) mayHandOver(ctx context.Context) (err error) {
	if r.view.Definition.Handover.Action == definition.CopyFile {
		r.copied, err = r.Store.Copied(ctx, r.input)
	}
	if err != nil || r.view.Definition.Handover.Action == "" || r.view.Writable {
		return err
	}
	return &stopped{problem: fmt.Sprintf("the definition hands files over, and the place %s is not marked writable", r.view.Input.Place),
		next: fmt.Sprintf("mark it: jorvex place writable %s; or take handover out of the definition", r.view.Input.Place)}
}

// handOver does what the journal says is due, one file after another. What cannot be
// done now is tried again at the next refresh or start.
func (r *Runner) handOver(ctx context.Context) error {
	r.handing.Lock()
	defer r.handing.Unlock()
	due, err := r.Store.DueHandovers(ctx)
	if err != nil {
		return err
	}
	for _, h := range due {
		if err := ctx.Err(); err != nil {
			return err
		}
		place, err := r.writablePlace(ctx, h.PlaceID)
		if err != nil {
			return fmt.Errorf("hand over %s: %w", filename.Show(string(h.Path)), err)
		}
		problem, err := r.handOne(ctx, place, h)
		if err != nil {
			return fmt.Errorf("hand over %s: %w", filename.Show(string(h.Path)), err)
		}
		if err := r.Store.EndHandover(ctx, h, r.Clock(), problem); err != nil {
			return err
		}
	}
	return r.Store.RecordHandovers(ctx, handoverRecord)
}

func handoverRecord(number int64, previous string, list []records.Handover) ([]byte, error) {
	record := receipt.HandoverRecord{Form: receipt.Version, Number: number, Previous: previous, Receipt: list[0].Receipt}
	for _, h := range list {
		one := receipt.HandedOver{Path: filename.Show(string(h.Path)), Digest: h.Digest, Action: h.Action, Problem: h.Problem, Ended: h.Ended.UTC().Truncate(time.Microsecond)}
		if h.State == "done" {
			one.Target = filename.Show(string(h.Target))
		}
		record.Files = append(record.Files, one)
	}
	return receipt.Canonical(record)
}

func (r *Runner) writablePlace(ctx context.Context, id int64) (places.Writable, error) {
	list, err := r.Store.Places(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if p.ID != id {
			continue
		}
		if !p.Writable {
			return nil, fmt.Errorf("the place %s is not marked writable any more", p.Name)
		}
		place, err := r.Watcher.Allowed.Local(p.Directory)
		return place, err
	}
	return nil, records.ErrNotFound
}

// handOne hands one file over, and may be called again after it was cut off at any
// point. problem is why the file is left where it is.
func (r *Runner) handOne(ctx context.Context, place places.Writable, h records.Handover) (problem string, err error) {
	if err := r.sound(h.Digest); err != nil {
		return "its copy in the vault cannot be relied on: " + err.Error(), nil
	}
	from := string(h.Path)
	if h.Action == string(definition.CopyFile) {
		return "", r.copyOut(ctx, place, h)
	}
	aside := places.Reserved(from, h.ID)
	digest, err := digestOf(place, aside)
	switch {
	case errors.Is(err, fs.ErrNotExist) && len(h.Target) > 0 && digestIs(place, string(h.Target), h.Digest):
		return "", nil // it was cut off after the last step
	case errors.Is(err, fs.ErrNotExist):
		if _, err := place.SetAside(from, h.ID); errors.Is(err, fs.ErrNotExist) {
			if h.Action == string(definition.DeleteFile) && len(h.Target) > 0 {
				return "", nil // the same
			}
			return "it was gone", nil
		} else if err != nil {
			return "", err
		}
		if digest, err = digestOf(place, aside); err != nil {
			return "", err
		}
	case err != nil:
		return "", err
	}
	if digest != h.Digest {
		return "it was changed after it was read; it is where it was", r.putBack(place, aside, from)
	}
	if h.Action == string(definition.DeleteFile) {
		// Noted first: whoever finds neither file after a crash knows why.
		if err := r.Store.AimHandover(ctx, h.ID, from); err != nil {
			return "", err
		}
		return "", place.Remove(aside)
	}
	if len(h.Target) > 0 && digestIs(place, string(h.Target), h.Digest) {
		return "", place.Remove(aside) // it was cut off after it was copied
	}
	return "", r.aim(ctx, h, func(target string) error { return place.Move(aside, target) })
}

// sound reads an object of the vault through, which verifies it.
func (r *Runner) sound(digest string) error {
	object, err := r.Vault.Open(digest)
	if err != nil {
		return err
	}
	defer object.Close()
	_, err = io.Copy(io.Discard, object)
	return err
}

// copyOut writes the bytes that fed to where the file goes, once.
func (r *Runner) copyOut(ctx context.Context, place places.Writable, h records.Handover) error {
	if len(h.Target) > 0 && digestIs(place, string(h.Target), h.Digest) {
		return nil
	}
	return r.aim(ctx, h, func(target string) error {
		object, err := r.Vault.Open(h.Digest)
		if err != nil {
			return err
		}
		defer object.Close()
		return place.Write(target, object)
	})
}

// aim puts a file under a name that is free, which is noted before.
func (r *Runner) aim(ctx context.Context, h records.Handover, put func(target string) error) error {
	base := path.Join(string(h.Folder), path.Base(string(h.Path)))
	for n := 1; ; n++ {
		target := base
		if n > 1 {
			ending := path.Ext(base)
			target = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(base, ending), n, ending)
		}
		if err := r.Store.AimHandover(ctx, h.ID, target); err != nil {
			return err
		}
		if err := put(target); !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
}

// putBack gives a file its name again, or if that is taken by now, one beside it.
func (r *Runner) putBack(place places.Writable, aside, from string) error {
	ending := path.Ext(from)
	for n := 1; ; n++ {
		target := from
		if n > 1 {
			target = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(from, ending), n, ending)
		}
		if err := place.Move(aside, target); !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
}

func digestOf(place places.Place, at string) (string, error) {
	f, err := place.Open(at)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

func digestIs(place places.Place, at, digest string) bool {
	got, err := digestOf(place, at)
	return err == nil && got == digest
}
