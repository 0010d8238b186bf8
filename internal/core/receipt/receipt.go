// Package receipt is the permanent record of a delivered refresh: a header in
// canonical JSON (RFC 8785), chained to the one before by SHA-256, and the list
// of files that fed it, one canonical JSON line each.
//
// Decimals and 64-bit integers are strings, so that no reader rounds them.
// Path bytes that are not UTF-8 stand escaped as filename.Show writes them.
package receipt

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/gowebpki/jcs"

	"jorvex/internal/core/finding"
)

// Version is the version of the form that headers and lists have.
const Version = "1"

// None is the digest that the first receipt names as the one before it.
var None = strings.Repeat("0", 64)

// Header is what a receipt says of the whole refresh. That of a report says of it
// what all its inputs came to together, and has a section for each.
type Header struct {
	Form     string `json:"form"`
	Number   int64  `json:"number,string"`
	Previous string `json:"previous"`
	Refresh  int64  `json:"refresh,string"`
	Section
	AsOf time.Time `json:"as_of"`
	// Only names the files of a refresh of named files alone.
	Only    []string  `json:"only,omitempty"`
	AskedBy string    `json:"asked_by"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended"`
	Machine string    `json:"machine"`
	Program string    `json:"program"`
	// ReportID holds a report to its earlier names.
	ReportID int64 `json:"report_id,string,omitempty"`
	// Inputs are the sections of a report's inputs, in the order of their ids.
	Inputs []Section `json:"inputs,omitempty"`
}

// Section is what a receipt says of one input. In the header of a report it has the
// report's name and the sums, and no list of files of its own.
type Section struct {
	InputID    int64          `json:"input_id,string"` // 0 for a report
	Input      string         `json:"input"`
	Definition DefinitionMark `json:"definition"`
	Directory  string         `json:"directory,omitempty"` // of the place
	// Parameters are the values that were put into the definition.
	Parameters map[string]string `json:"parameters,omitempty"`
	Files      int64             `json:"files,string"` // that fed it
	Rows       int64             `json:"rows,string"`
	Totals     []Total           `json:"totals"`
	LeftOut    []ReasonCount     `json:"left_out"`
	NotUsed    int64             `json:"not_used,string"` // picked and yet not used
	Deliveries []Delivery        `json:"deliveries"`
	// Passed is what the gate let pass.
	Passed      []Passed `json:"passed,omitempty"`
	FilesDigest string   `json:"files_digest"`
	// FiguresDigest is that of the watched values and summaries, if there are any.
	FiguresDigest string `json:"figures_digest,omitempty"`
	// Handover is what the files that fed are to be handed over as: copy, move or
	// delete. What came of it is a record of its own.
	Handover string `json:"handover,omitempty"`
}

// Report reports whether the receipt is that of a report.
func (h Header) Report() bool { return len(h.Inputs) > 0 }

// Sections returns the sections of all inputs.
func (h Header) Sections() []Section {
	if h.Report() {
		return h.Inputs
	}
	return []Section{h.Section}
}

// Of returns the header as it were of one input alone. It reports whether the
// receipt is of the input.
func (h Header) Of(input int64) (Header, bool) {
	for _, s := range h.Sections() {
		if s.InputID == input {
			h.Section, h.Inputs = s, nil
			return h, true
		}
	}
	return h, false
}

// Together returns the section of a report, made of those of its inputs.
func Together(name string, definition DefinitionMark, inputs []Section) Section {
	all := Section{Input: name, Definition: definition, Totals: []Total{}, LeftOut: []ReasonCount{}, Deliveries: []Delivery{}}
	for _, s := range inputs {
		all.Files += s.Files
		all.Rows += s.Rows
		all.NotUsed += s.NotUsed
		all.Deliveries = append(all.Deliveries, s.Deliveries...)
		for _, t := range s.Totals {
			all.Totals = append(all.Totals, Total{Column: s.Input + "." + t.Column, Sum: t.Sum})
		}
		for _, p := range s.Passed {
			p.Says = s.Input + ": " + p.Says
			all.Passed = append(all.Passed, p)
		}
		for _, l := range s.LeftOut {
			at := slices.IndexFunc(all.LeftOut, func(o ReasonCount) bool { return o.Reason == l.Reason })
			if at < 0 {
				all.LeftOut = append(all.LeftOut, l)
			} else {
				all.LeftOut[at].Files += l.Files
			}
		}
	}
	return all
}

// Passed is something broken, missing or odd that did not stop the refresh.
type Passed struct {
	Cause  string `json:"cause"`
	Answer string `json:"answer"`
	Says   string `json:"says"`
	Files  int64  `json:"files,string"` // 0 where it is of the input
}

// DefinitionMark names the version of the definition that was used.
type DefinitionMark struct {
	Version int64  `json:"version,string"`
	Digest  string `json:"digest"`
}

// Total is the sum of one column.
type Total struct {
	Column string `json:"column"`
	Sum    string `json:"sum"`
}

// ReasonCount says how many files were left out for one reason.
type ReasonCount struct {
	Reason string `json:"reason"`
	Files  int64  `json:"files,string"`
}

// Delivery is one thing the refresh delivered.
type Delivery struct {
	Kind   string `json:"kind"` // file, folder or table
	Name   string `json:"name"`
	Rows   int64  `json:"rows,string"`
	Bytes  int64  `json:"bytes,string"` // 0 for a table
	Digest string `json:"digest"`
	// Template is the digest of the workbook that the rows were put into.
	Template string `json:"template,omitempty"`
}

// Use says whether a picked file fed the refresh, and which version of it.
type Use string

// The uses.
const (
	Current  Use = "current"
	LastGood Use = "last_good" // an earlier version of it, which fed a delivery before
	NotUsed  Use = "not_used"
)

// File is one line of the list.
type File struct {
	Place    string            `json:"place"`
	Path     string            `json:"path"` // as filename.Show writes it
	Size     int64             `json:"size,string"`
	Modified time.Time         `json:"modified"`
	Digest   string            `json:"digest"`
	Use      Use               `json:"use"`
	Why      string            `json:"why,omitempty"`  // when it is not used as it is
	Held     string            `json:"held,omitempty"` // when a person held it in: by whom, and the note
	Listed   []Listed          `json:"listed,omitempty"`
	Part     string            `json:"part,omitempty"`
	Read     int64             `json:"rows_read,string"`
	Kept     int64             `json:"rows_kept,string"`
	Totals   []Total           `json:"totals"`
	Findings []finding.Finding `json:"findings"`
}

// Listed is an entry of a hand-made list that names a file.
type Listed struct {
	Sheet   string `json:"sheet,omitempty"` // source
	ToSheet string `json:"to_sheet,omitempty"`
	ToTable string `json:"to_table,omitempty"`
	ToRow   int    `json:"to_row,omitempty"`
}

// Canonical returns v as RFC 8785 canonical JSON.
func Canonical(v any) ([]byte, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return jcs.Transform(plain)
}

// Digest returns the SHA-256 of b in hexadecimal.
func Digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// WriteList writes the list of files, a line each, in the order given.
func WriteList(w io.Writer, files []File) error {
	buffered := bufio.NewWriter(w)
	for _, f := range files {
		line, err := Canonical(f)
		if err != nil {
			return err
		}
		_, _ = buffered.Write(line)
		_ = buffered.WriteByte('\n')
	}
	return buffered.Flush()
}

// ReadList calls each with every file of a list until it returns an error.
func ReadList(r io.Reader, each func(File) error) error {
	decoder := json.NewDecoder(r)
	for n := 1; ; n++ {
		var f File
		if err := decoder.Decode(&f); err == io.EOF {
			return nil
		} else if err != nil {
			return fmt.Errorf("line %d of the list of files: %w", n, err)
		}
		if err := each(f); err != nil {
			return err
		}
	}
}

// Stored is a receipt as it lies in the records.
type Stored struct {
	Number   int64
	Header   []byte
	Digest   string
	Previous string
}

// A BrokenLink says which receipt does not hold, and why.
type BrokenLink struct {
	Number int64
	Why    string
}

func (e *BrokenLink) Error() string {
	return fmt.Sprintf("receipt %d does not hold: %s", e.Number, e.Why)
}

// Chain checks receipts one after another, in the order of their numbers.
type Chain struct {
	Checked int64
	last    string
}

// Check holds the next receipt against those before. Its error is a
// *BrokenLink.
func (c *Chain) Check(s Stored) error {
	expected := c.Checked + 1
	fail := func(why string, args ...any) error {
		return &BrokenLink{expected, fmt.Sprintf(why, args...)}
	}
	if c.last == "" {
		c.last = None
	}
	if s.Number != expected {
		return fail("it is not there; the next is receipt %d", s.Number)
	}
	if got := Digest(s.Header); got != s.Digest {
		return fail("its header has digest %s, recorded was %s", short(got), short(s.Digest))
	}
	var h Header
	if err := json.Unmarshal(s.Header, &h); err != nil {
		return fail("its header is no JSON: %v", err)
	}
	again, err := jcs.Transform(s.Header)
	switch {
	case err != nil || !bytes.Equal(again, s.Header):
		return fail("its header is not in canonical form")
	case h.Number != s.Number:
		return fail("its header carries the number %d", h.Number)
	case h.Previous != c.last || s.Previous != c.last:
		return fail("it names %s as the one before, which is %s", short(h.Previous), short(c.last))
	}
	c.last = s.Digest
	c.Checked++
	return nil
}

// Head returns the digest of the last receipt that was checked.
func (c *Chain) Head() string {
	if c.last == "" {
		return None
	}
	return c.last
}

func short(digest string) string {
	if len(digest) > 12 {
		return digest[:12] + "…"
	}
	return digest
}

// ParseHeader reads the canonical bytes of a header.
func ParseHeader(header []byte) (Header, error) {
	var h Header
	if err := json.Unmarshal(header, &h); err != nil {
		return h, fmt.Errorf("the header of a receipt: %w", err)
	}
	return h, nil
}
