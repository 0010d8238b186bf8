package watch

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"jorvex/internal/core/changes"
	"jorvex/internal/core/finding"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// snapshot is what is recorded of a place's files, in memory, so that a look
// that finds nothing new asks the database nothing.
type snapshot struct {
	folders map[string][]file // each sorted by name
}

// file is one file of a folder. Most were never read, so what reading told lies
// apart.
type file struct {
	name     string
	id       int64
	came     int64 // the modified time it had when it was first seen
	mark     places.Mark
	evidence changes.Evidence
	read     *read
}

// read is what reading the file told, for its present mark.
type read struct {
	digest  string
	fresh   bool
	trouble []finding.Finding
	at      time.Time // when there was trouble; zero if that was before the service started
	since   int64     // when the file was first read with this mark, in ns; 0 if that was before
}

func loadSnapshot(ctx context.Context, store *records.Store, place int64) (*snapshot, error) {
	s := &snapshot{folders: map[string][]file{}}
	err := store.EachFile(ctx, place, func(f records.File) error {
		folder, name := split(f.Path)
		entry := file{name: strings.Clone(name), id: f.ID, came: f.Came, mark: f.Mark, evidence: f.Evidence}
		if f.Digest != "" || f.Trouble != nil {
			entry.read = &read{digest: f.Digest, fresh: f.Fresh, trouble: f.Trouble}
		}
		s.folders[folder] = append(s.folders[folder], entry)
		return nil
	})
	for _, files := range s.folders {
		slices.SortFunc(files, func(a, b file) int { return cmp.Compare(a.name, b.name) })
	}
	return s, err
}

func split(path string) (folder, name string) {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i], path[i+1:]
	}
	return "", path
}

func join(folder, name string) string {
	if folder == "" {
		return name
	}
	return folder + "/" + name
}

// find returns the file at a path, or nil. The pointer holds until the next
// look.
func (s *snapshot) find(path string) *file {
	folder, name := split(path)
	files := s.folders[folder]
	i, found := slices.BinarySearchFunc(files, name, func(f file, name string) int { return cmp.Compare(f.name, name) })
	if !found {
		return nil
	}
	return &files[i]
}

// record returns a file as the records hold it.
func (f *file) record(folder string) records.File {
	r := records.File{ID: f.id, Path: join(folder, f.name), Mark: f.mark, Evidence: f.evidence, Came: f.came}
	if f.read != nil {
		r.Digest, r.Fresh, r.Trouble = f.read.digest, f.read.fresh, f.read.trouble
	}
	return r
}

// comparison gathers what one listing says against a snapshot. The snapshot is
// not touched until apply, after the records were written.
type comparison struct {
	old      *snapshot
	now      time.Time
	span     time.Duration        // that a file must be missed for to be gone
	missing  map[string]time.Time // since when files are missed, by path
	partial  bool                 // only the folders that were visited are judged
	removed  []string             // folders that are gone, of a partial look
	seen     map[string][]file
	failed   []string // folders that could not be listed
	skipped  []records.Skipped
	added    []records.File
	altered  []records.File
	files    int64
	folders  int64
	new      int64
	changed  int64
	gone     int64
	newFiles []*file // as yet without an id, parallel to added
}

const mostSkipped = 100

func (c *comparison) skip(path, why string) {
	if len(c.skipped) < mostSkipped {
		c.skipped = append(c.skipped, records.Skipped{Path: path, Why: why})
	}
}

// visit compares one listed folder.
func (c *comparison) visit(folder places.Folder) error {
	for _, s := range folder.Skipped {
		c.skip(s.Path, s.Why)
	}
	if folder.Err != nil {
		if errors.Is(folder.Err, fs.ErrNotExist) {
			return nil // removed while the place was listed
		}
		c.failed = append(c.failed, folder.Path)
		c.skip(folder.Path, "the folder cannot be listed: "+places.Reason(folder.Err))
		return nil
	}
	c.folders++
	c.files += int64(len(folder.Files))
	slices.SortFunc(folder.Files, func(a, b places.Entry) int { return cmp.Compare(a.Name, b.Name) })
	before := c.old.folders[folder.Path]
	if unchanged(before, folder.Files) {
		c.seen[folder.Path] = before
		return nil
	}
	now := make([]file, 0, max(len(before), len(folder.Files)))
	i := 0
	for _, entry := range folder.Files {
		for i < len(before) && before[i].name < entry.Name {
			now = append(now, c.without(folder.Path, before[i], changes.Gone))
			i++
		}
		if i < len(before) && before[i].name == entry.Name {
			now = append(now, c.again(folder.Path, before[i], entry.Mark))
			i++
			continue
		}
		now = append(now, file{name: entry.Name, came: entry.Modified, mark: entry.Mark, evidence: changes.Present})
		c.new++
	}
	for ; i < len(before); i++ {
		now = append(now, c.without(folder.Path, before[i], changes.Gone))
	}
	c.seen[folder.Path] = now
	return nil
}

func unchanged(before []file, now []places.Entry) bool {
	if len(before) != len(now) {
		return false
	}
	for i := range now {
		if before[i].mark != now[i].Mark || before[i].evidence != changes.Present || before[i].name != now[i].Name {
			return false
		}
	}
	return true
}

// again returns a file that was listed as it is now.
func (c *comparison) again(folder string, f file, mark places.Mark) file {
	if f.evidence == changes.Present && f.mark == mark {
		return f
	}
	if f.evidence == changes.Gone {
		c.new++
	} else if f.mark != mark {
		c.changed++
	}
	if f.mark != mark {
		f.mark, f.read = mark, nil
	}
	f.evidence = changes.Present
	c.altered = append(c.altered, f.record(folder))
	return f
}

// without returns a file that was not listed as it is now. It is missed first,
// and gone when it is missed again a span later.
func (c *comparison) without(folder string, f file, evidence changes.Evidence) file {
	if f.evidence == changes.Gone {
		return f
	}
	if path := join(folder, f.name); evidence == changes.Gone && c.span > 0 {
		since, missed := c.missing[path]
		switch {
		case !missed:
			c.missing[path] = c.now
			evidence = changes.Missing
		case c.now.Sub(since) < c.span:
			evidence = changes.Missing
		}
	}
	if f.evidence == evidence {
		return f
	}
	f.evidence = evidence
	if evidence == changes.Gone {
		c.gone++
	}
	c.altered = append(c.altered, f.record(folder))
	return f
}

// conclude judges the folders that were not listed: gone, or unseen if they lie
// in one that could not be.
func (c *comparison) conclude() {
	for folder, files := range c.old.folders {
		if _, listed := c.seen[folder]; listed {
			continue
		}
		if c.partial && !slices.ContainsFunc(c.removed, func(r string) bool { return folder == r || strings.HasPrefix(folder, r+"/") }) {
			c.seen[folder] = files
			continue
		}
		evidence := changes.Gone
		for _, failed := range c.failed {
			if folder == failed || strings.HasPrefix(folder, failed+"/") {
				evidence = changes.Unseen
			}
		}
		now := make([]file, len(files))
		for i, f := range files {
			now[i] = c.without(folder, f, evidence)
		}
		c.seen[folder] = now
	}
	for folder, files := range c.seen {
		if c.partial && len(files) > 0 && len(c.old.folders[folder]) > 0 && &files[0] == &c.old.folders[folder][0] {
			continue // as it was
		}
		for i := range files {
			if files[i].id == 0 {
				c.newFiles = append(c.newFiles, &files[i])
				c.added = append(c.added, files[i].record(folder))
			}
		}
	}
}

// number gives new files their ids, from first on.
func (c *comparison) number(first int64) {
	for i, f := range c.newFiles {
		f.id = first + int64(i)
		c.added[i].ID = f.id
	}
}
