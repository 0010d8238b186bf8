package refresh

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/shaping"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/parts"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// Replayed is what running a refresh again out of the vault came to.
type Replayed struct {
	Receipt    int64
	Program    string // version that made the receipt
	Rows       int64
	Had        int64 // rows of the receipt
	Deliveries []ReplayedDelivery
	// Missing are files whose bytes the vault does not keep any more; then nothing
	// was replayed.
	Missing []string
}

// Same reports whether everything came to the same.
func (r Replayed) Same() bool {
	return len(r.Missing) == 0 && r.Rows == r.Had && !slices.ContainsFunc(r.Deliveries, func(d ReplayedDelivery) bool { return d.Digest != d.Had })
}

// ReplayedDelivery is one delivery of it. Its name is empty for the watched values
// and summaries.
type ReplayedDelivery struct {
	Kind, Name  string
	Digest, Had string
}

// Replay runs the refresh of a receipt again: the bytes that fed it are read anew out
// of the vault, by the definition of then, and its deliveries are made again, for
// their digests alone.
func (r *Runner) Replay(ctx context.Context, stored receipt.Stored) (Replayed, error) {
	header, err := receipt.ParseHeader(stored.Header)
	if err != nil {
		return Replayed{}, err
	}
	again := Replayed{Receipt: header.Number, Program: header.Program, Had: header.Rows}
	for _, section := range header.Sections() {
		if err := r.replay(ctx, stored, section, &again); err != nil {
			return again, fmt.Errorf("replay receipt %d: %w", header.Number, err)
		}
	}
	return again, nil
}

func (r *Runner) replay(ctx context.Context, stored receipt.Stored, section receipt.Section, again *Replayed) error {
	t, err := r.tableOf(ctx, stored, section.InputID)
	if err != nil {
		return err
	}
	for _, f := range t.Files {
		if !r.Vault.Has(f.Digest) {
			again.Missing = append(again.Missing, f.Path)
		}
	}
	if len(again.Missing) > 0 {
		return nil
	}
	made := make([]*parts.Part, len(t.Files))
	sources := make([]*deliver.Source, len(t.Files))
	tally := totals.NewTally(t.Definition.Plan())
	var digests []string
	for i := range t.Files {
		if made[i], err = r.shapeAgain(ctx, t, i); err != nil {
			return fmt.Errorf("%s: %w", t.Files[i].Path, err)
		}
		digests = append(digests, made[i].Digest)
		again.Rows += made[i].Result.Kept
		one, err := tallyOf(ctx, made[i], t.Definition.Plan())
		if err != nil {
			return err
		}
		tally.Merge(one)
		if sources[i], err = r.sourceAgain(&t.Files[i], made[i]); err != nil {
			return err
		}
	}
	combined := deliver.Combined{
		Columns: t.Definition.Columns, AsOf: t.Receipt.AsOf, Root: section.Directory, Figures: tally.Figures,
		Parts: func(each func(s *deliver.Source, part io.Reader) error) error {
			for i, s := range sources {
				rows := &lazy{part: made[i]}
				err := each(s, rows)
				rows.Close()
				if err != nil {
					return err
				}
			}
			return ctx.Err()
		},
	}
	for i, d := range t.Definition.Delivery {
		if i >= len(section.Deliveries) {
			break
		}
		had := section.Deliveries[i]
		combined.Template = nil
		if had.Template != "" {
			combined.Template = func() (io.ReadCloser, error) { return r.Vault.Open(had.Template) }
		}
		digest, err := deliveryDigest(d, t.Definition, combined, digests)
		if err != nil {
			return err
		}
		again.Deliveries = append(again.Deliveries, ReplayedDelivery{had.Kind, had.Name, digest, had.Digest})
	}
	if section.FiguresDigest != "" {
		text, err := receipt.Canonical(tally.Figures())
		if err != nil {
			return err
		}
		again.Deliveries = append(again.Deliveries, ReplayedDelivery{Kind: "figures", Digest: receipt.Digest(text), Had: section.FiguresDigest})
	}
	return nil
}

// shapeAgain shapes the bytes of a file anew, whatever part of them is kept.
func (r *Runner) shapeAgain(ctx context.Context, t *Table, i int) (*parts.Part, error) {
	f := &t.Files[i]
	origin := f.origin.Of(t.Definition)
	return r.Parts.Make(parts.Name(f.Digest, f.layout, origin), true, func(w io.Writer) (known parts.Known, err error) {
		object, err := r.Vault.Open(f.Digest)
		if err != nil {
			return known, err
		}
		defer object.Close()
		checked, err := watch.Check(f.def, origin, readerOf(ctx, object), shaping.NewWriter(w))
		return parts.Known{Kind: string(checked.Kind), Result: checked.Result}, err
	})
}

func (r *Runner) sourceAgain(f *TableFile, part *parts.Part) (*deliver.Source, error) {
	path, err := filename.Parse(f.Path)
	s := &deliver.Source{Path: path, Size: f.Size, Modified: f.Modified, Digest: f.Digest, Part: part.Digest, Rows: part.Result.Kept,
		Open: func() (io.ReadCloser, error) { return r.Vault.Open(f.Digest) }}
	s.Entries = entriesOf(f.File)
	return s, err
}

// deliveryDigest makes a delivery for its digest alone.
func deliveryDigest(d definition.Delivery, def *definition.Definition, combined deliver.Combined, parts []string) (string, error) {
	switch d.Kind() {
	case "table", "into":
		return deliver.TableDigest(def.Columns, parts), nil
	case "folder":
		return deliver.FilesDigest(def.Folder, combined)
	}
	hash := sha256.New()
	if err := deliver.Write(hash, d, combined); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

// Kept is what a deep look at the vault and the deliveries came to.
type Kept struct {
	Objects    int64 // of the vault, that were read through
	Freed      int64 // that were let go of, and are not missed
	Troubles   []Trouble
	Deliveries []CheckedDelivery
}

// Trouble is something that receipts need and that is not as it was stored.
type Trouble struct {
	Digest string
	What   string // a file's path, or a list of files or figures
	Why    string
	// Receipts that need it: how many, the first and the last.
	Receipts    int64
	First, Last int64
}

// CheckedDelivery is a delivery that was held against its receipt.
type CheckedDelivery struct {
	Kind, Name string
	Receipt    int64
	Why        string // it is not as it was delivered; empty if it is
}

// VerifyVault reads everything that receipts name through, each object once.
func (r *Runner) VerifyVault(ctx context.Context) (k Kept, err error) {
	seen := map[string]bool{}
	check := func(digest, what string, first, last int64) error {
		if err := ctx.Err(); err != nil || digest == "" || seen[digest] {
			return err
		}
		seen[digest] = true
		if !r.Vault.Has(digest) {
			if freed, err := r.Store.WasFreed(ctx, digest); freed || err != nil {
				k.Freed++
				return err
			}
		}
		k.Objects++
		if err := r.sound(digest); err != nil {
			t := Trouble{Digest: digest, What: what, Why: err.Error(), First: first, Last: last, Receipts: last - first + 1}
			if needs, errNeeds := r.Store.NeededBy(ctx, digest); errNeeds == nil && needs.Receipts > 0 {
				t.Receipts, t.First, t.Last = needs.Receipts, needs.First, needs.Last
			}
			k.Troubles = append(k.Troubles, t)
		}
		return nil
	}
	err = r.Store.EachReceipt(ctx, func(stored receipt.Stored) error {
		header, err := receipt.ParseHeader(stored.Header)
		if err != nil {
			return err
		}
		for _, s := range header.Sections() {
			err = errors.Join(err, check(s.FilesDigest, "the list of files", stored.Number, stored.Number), check(s.FiguresDigest, "the figures", stored.Number, stored.Number))
			for _, d := range s.Deliveries {
				err = errors.Join(err, check(d.Template, "the template of "+d.Name, stored.Number, stored.Number))
			}
		}
		return err
	})
	if err != nil {
		return k, err
	}
	return k, r.Store.EachFed(ctx, func(path []byte, digest string, first, last int64) error {
		return check(digest, filename.Show(string(path)), first, last)
	})
}

// VerifyDeliveries holds what lies in the delivery folder and in the database against
// the last receipts that delivered it.
func (r *Runner) VerifyDeliveries(ctx context.Context) (list []CheckedDelivery, err error) {
	made, err := r.Store.LastDeliveries(ctx)
	for _, m := range made {
		c := r.checkDelivery(ctx, m)
		for placed := false; c.Why != ""; placed = true {
			// It may have been delivered anew meanwhile, or not be in its place yet.
			last, err := r.Store.LastDelivery(ctx, m.Kind, m.Name)
			if err != nil {
				return list, err
			}
			if placed && last.Receipt == m.Receipt {
				break
			}
			r.place(ctx, 0, false)
			m, c = last, r.checkDelivery(ctx, last)
		}
		if ctx.Err() != nil {
			return list, ctx.Err()
		}
		list = append(list, c)
	}
	return list, err
}

func (r *Runner) checkDelivery(ctx context.Context, m records.Made) CheckedDelivery {
	same, err := false, error(nil)
	switch m.Kind {
	case "table":
		same, err = r.sameTable(ctx, m.Receipt, m.InputID, m.Name)
	case "folder":
		same, err = true, r.sameFolder(ctx, m.Receipt, m.InputID, m.Name)
	default:
		var digest string
		digest, err = r.Folder.Digest(m.Name)
		same = digest == m.Digest
	}
	c := CheckedDelivery{Kind: m.Kind, Name: m.Name, Receipt: m.Receipt}
	switch {
	case err != nil:
		c.Why = err.Error()
	case !same:
		c.Why = "it was changed: it is not what was delivered"
	}
	return c
}

// sameFolder holds the files of a delivered folder against those that fed its receipt.
func (r *Runner) sameFolder(ctx context.Context, number, input int64, name string) error {
	stored, err := r.Store.Receipt(ctx, number)
	if err != nil {
		return err
	}
	t, err := r.tableOf(ctx, stored, input)
	if err != nil {
		return err
	}
	for _, f := range t.Files {
		source, err := filename.Parse(f.Path)
		if err != nil {
			return err
		}
		below := deliver.BelowFolder(source, t.Definition.Folder)
		digest, err := r.Folder.Digest(name + "/" + below)
		if err != nil {
			return fmt.Errorf("%s: %w", filename.Show(below), err)
		}
		if digest != f.Digest {
			return fmt.Errorf("%s was changed: it is not what was delivered", filename.Show(below))
		}
	}
	return ctx.Err()
}

// sameTable reports whether a delivered table holds the rows that its receipt says:
// those of the files' parts, whose digests are held against the receipt too.
func (r *Runner) sameTable(ctx context.Context, number, input int64, name string) (bool, error) {
	stored, err := r.Store.Receipt(ctx, number)
	if err != nil {
		return false, err
	}
	t, err := r.tableOf(ctx, stored, input)
	if err != nil {
		return false, err
	}
	has, byFile, err := deliver.SumOfTable(ctx, r.Store.Pool, name, t.Definition.Columns)
	if err != nil {
		return false, err
	}
	var want deliver.RowSum
	for i, f := range t.Files {
		part, err := t.part(ctx, i)
		if err == nil && part.Digest != f.Part {
			part, err = r.shapeAgain(ctx, t, i)
		}
		if err != nil {
			return false, err
		}
		if part.Digest != f.Part {
			return false, fmt.Errorf("%s does not come to the rows that the receipt names", f.Path)
		}
		file := ""
		if byFile {
			file = f.Path
		}
		rows := &lazy{part: part}
		err = want.AddPart(t.Definition.Columns, rows, file)
		rows.Close()
		if err != nil {
			return false, err
		}
	}
	return has.Equal(&want), nil
}
