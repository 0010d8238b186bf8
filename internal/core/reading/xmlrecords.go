package reading

import (
	"bytes"
	"io"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
)

// xmlRecords reads a repeating element of an XML 1.0 document as records: its
// attributes and the elements in it are the keys, those of elements in elements
// joined with a point. Names are without their prefixes.
type xmlRecords struct {
	content Content
	element string // its name; found out if empty
	path    string // where it was found: the names from the root on, each after a /
	e       *elements
	at      []string // the path at hand
	text    []byte
}

const mostPaths = 10_000

func (x *xmlRecords) begin() error {
	if x.e == nil {
		if err := x.open(); err != nil {
			return err
		}
		if err := x.find(); err != nil {
			return err
		}
	}
	return x.open()
}

// open reads from the start, in the encoding that the document declares.
func (x *xmlRecords) open() error {
	var r io.Reader = io.NewSectionReader(x.content, 0, x.content.Size())
	head := make([]byte, 256)
	n, _ := x.content.ReadAt(head, 0)
	if name := declaredEncoding(head[:n]); name != "" && !strings.HasPrefix(name, "utf-16") {
		e, err := htmlindex.Get(name)
		if err != nil {
			return malformed("its encoding %q is not known", name)
		}
		if canonical, _ := htmlindex.Name(e); canonical != "utf-8" {
			r = e.NewDecoder().Reader(r)
		}
	}
	x.e, x.at = newElements(r), x.at[:0]
	x.e.decoded = true
	return nil
}

// declaredEncoding returns the encoding that an XML declaration names, in small
// letters.
func declaredEncoding(head []byte) string {
	head = bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))
	end := bytes.Index(head, []byte("?>"))
	if !bytes.HasPrefix(head, []byte("<?xml ")) || end < 0 {
		return ""
	}
	e := elements{attrs: head[5:end]}
	return strings.ToLower(string(e.attr("encoding")))
}

// step reads the next token, and keeps the path.
func (x *xmlRecords) step() error {
	if err := x.e.next(); err != nil {
		return err
	}
	switch x.e.kind {
	case startElement:
		x.at = append(x.at, string(x.e.name))
	case endElement:
		if len(x.at) == 0 || x.at[len(x.at)-1] != string(x.e.name) {
			return malformed("the element %s ends where another should", x.e.name)
		}
		x.at = x.at[:len(x.at)-1]
	}
	return nil
}

// find finds out which element is the record: the shallowest that stands more
// than once, and of those the most frequent.
func (x *xmlRecords) find() error {
	count := map[string]int{}
	var order []string
	for {
		err := x.step()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if x.e.kind != startElement {
			continue
		}
		path := "/" + strings.Join(x.at, "/")
		if count[path]++; count[path] == 1 {
			if order = append(order, path); len(order) > mostPaths {
				return finding.New(finding.NotATable, "its elements have more than %d different paths", mostPaths)
			}
		}
	}
	var names []string
	best, bestDepth := "", 0
	for _, path := range order {
		depth := strings.Count(path, "/")
		names = append(names, path[strings.LastIndexByte(path, '/')+1:])
		switch {
		case x.element != "" && names[len(names)-1] != x.element, x.element == "" && count[path] < 2:
		case best == "", depth < bestDepth, depth == bestDepth && count[path] > count[best]:
			best, bestDepth = path, depth
		}
	}
	switch {
	case best == "" && x.element != "":
		hint := ""
		if near := nearest.Find(x.element, names); near != "" {
			hint = "; the nearest name is " + near
		}
		return finding.New(finding.NotATable, "no element is called %s%s", x.element, hint)
	case best == "" && len(order) == 0:
		return finding.New(finding.NotATable, "it has no element")
	case best == "" && len(order) > 1 && strings.Count(order[1], "/") == 2:
		best = order[1] // a single record in the root
	case best == "":
		best = order[0]
	}
	x.path = best
	return nil
}

// record implements source.
func (x *xmlRecords) record(each func(key string, c Cell) error) error {
	for {
		if err := x.step(); err != nil {
			return err
		}
		if x.e.kind == startElement && x.path == "/"+strings.Join(x.at, "/") {
			break
		}
	}
	return x.inside("", each)
}

// inside reads the element that was begun last to its end.
func (x *xmlRecords) inside(key string, each func(key string, c Cell) error) error {
	name, depth := x.at[len(x.at)-1], len(x.at)
	prefix := key
	if prefix != "" {
		prefix += "."
	}
	err := x.e.eachAttr(func(attribute string, value []byte) error { return each(prefix+attribute, Cell{Text: value}) })
	if err != nil {
		return err
	}
	from, parent := len(x.text), false
	for {
		if err := x.step(); err != nil {
			return x.e.truncated(err)
		}
		switch {
		case x.e.kind == charData:
			if x.text = append(x.text, x.e.text...); len(x.text) > mostToken {
				return malformed("a record is longer than %d MiB", mostToken>>20)
			}
			continue
		case x.e.kind == startElement:
			parent = true
			if err := x.inside(prefix+x.at[len(x.at)-1], each); err != nil {
				return err
			}
			continue
		case len(x.at) >= depth:
			continue
		}
		text := trimmed(x.text[from:])
		x.text = x.text[:from]
		if key == "" {
			key = name
			if len(text) == 0 {
				return nil // an element of elements
			}
		}
		if parent && len(text) == 0 {
			return nil
		}
		return each(key, Cell{Text: text})
	}
}
