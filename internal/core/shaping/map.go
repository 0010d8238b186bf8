package shaping

import (
	"slices"
	"strings"

	"jorvex/internal/core/definition"
)

// Fit is how a header of a file fits what is declared.
type Fit string

// The fits.
const (
	Same    Fit = "same"
	Respelt Fit = "respelt" // taken, though it is written otherwise
	Absent  Fit = "absent"
	Extra   Fit = "extra" // not declared
)

// Header is what a file has for one column.
type Header struct {
	Column  string // empty for one that is not declared
	Written string // as in the file; empty if it is absent
	Fit     Fit
}

// Fits holds a file's headers against the declared columns: first the declared
// ones that come from a cell, in their order, then what is not declared.
func Fits(def *definition.Definition, headers []string) []Header {
	s := &shaper{def: def, layout: &def.Layout}
	s.prepare()
	plain := make([]string, len(headers))
	taken := make([]bool, len(headers))
	for i, h := range headers {
		plain[i] = definition.Plain(h)
	}
	for _, at := range s.turns(headers) {
		taken[at] = true
	}
	turn := s.layout.Turn
	var list []Header
	for i := range s.fields {
		f := &s.fields[i]
		if !f.byHeader() {
			continue
		}
		h := Header{f.column.Name, "", Absent}
		if len(turn.Headers) > 0 && (f.accepts(turn.Name, definition.Plain(turn.Name)) >= 0 || f.accepts(turn.Value, definition.Plain(turn.Value)) >= 0) {
			h.Fit = Same // it is made
		}
		for at := range headers {
			if h.Written == "" && f.accepts(headers[at], plain[at]) >= 0 {
				h.Written, h.Fit, taken[at] = headers[at], Respelt, true
				if f.implied() || slices.Contains(f.column.Headers, headers[at]) {
					h.Fit = Same
				}
			}
		}
		list = append(list, h)
	}
	for _, f := range s.fields {
		if at := f.column.Position - 1; at >= 0 && at < len(taken) {
			taken[at] = true
		}
	}
	for i, h := range headers {
		if !taken[i] && h != "" {
			list = append(list, Header{"", h, Extra})
		}
	}
	return list
}

// OrderOf returns the declared columns in the order in which a file has them.
func OrderOf(def *definition.Definition, headers []string) string {
	fits := Fits(def, headers)
	var names []string
	for _, written := range headers {
		i := slices.IndexFunc(fits, func(h Header) bool { return h.Column != "" && h.Written == written })
		if written != "" && i >= 0 && !slices.Contains(names, fits[i].Column) {
			names = append(names, fits[i].Column)
		}
	}
	return strings.Join(names, ", ")
}
