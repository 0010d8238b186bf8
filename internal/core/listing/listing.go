// Package listing reads the list of files that an analyst keeps by hand, from
// delimited text or a workbook.
//
//	entries, err := listing.Read(def.List, content)
package listing

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/core/nearest"
	"jorvex/internal/core/reading"
)

// Most is the most bytes a list may have.
const Most = 32 << 20

// An Error says what is wrong with a list, and in which row.
type Error struct {
	Row     int // counted from 1; 0 for the whole
	Message string
}

func (e *Error) Error() string {
	if e.Row == 0 {
		return e.Message
	}
	return fmt.Sprintf("row %d: %s", e.Row, e.Message)
}

// errEnough ends the reading of rows.
var errEnough = errors.New("enough")

// Read returns the entries of a list. Its error is an *Error.
func Read(list *definition.List, content []byte) ([]definition.Listed, error) {
	r := &reader{list: list, taken: map[string]int{}}
	err := rows(list, content, r.row)
	if errors.Is(err, errEnough) {
		err = nil
	}
	var found finding.Finding
	var own *Error
	switch {
	case errors.As(err, &own):
		return nil, own
	case errors.As(err, &found):
		return nil, &Error{int(found.Row), found.Sentence}
	case err != nil:
		return nil, &Error{0, err.Error()}
	case r.columns == nil:
		return nil, &Error{0, fmt.Sprintf("no row has the header %q%s", list.Columns["file"], r.hint())}
	}
	return r.entries, nil
}

// rows calls each with the rows of the list, whatever its form.
func rows(list *definition.List, content []byte, each func(row int, cells []string) error) error {
	if reading.IsArchive(content) {
		book, err := reading.OpenWorkbook(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			return err
		}
		sheet, err := reading.FindSheet(book.Sheets(), list.Sheet)
		if err != nil {
			return err
		}
		rows, err := book.Open(sheet)
		if err != nil {
			return err
		}
		defer rows.Close()
		return eachRow(rows, each)
	}
	return eachRow(reading.NewDelimited(bytes.NewReader(content)), each)
}

func eachRow(rows reading.Rows, each func(row int, cells []string) error) error {
	var cells []string
	for {
		raw, err := rows.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		cells = cells[:0]
		for _, c := range raw {
			cells = append(cells, string(c.Text))
		}
		if err := each(int(rows.Row()), cells); err != nil {
			return err
		}
	}
}

type reader struct {
	list    *definition.List
	columns map[string]int // key of the list's columns to index
	headers []string       // of the first row that had any
	entries []definition.Listed
	taken   map[string]int
}

// headerRows is how many rows from the top may stand before the header.
const headerRows = 50

func (r *reader) row(n int, cells []string) error {
	if r.columns == nil {
		if n > headerRows {
			return errEnough
		}
		r.header(cells)
		return nil
	}
	cell := func(key string) string {
		if i, has := r.columns[key]; has && i < len(cells) {
			return strings.TrimSpace(cells[i])
		}
		return ""
	}
	shown := strings.ReplaceAll(cell("file"), `\`, "/")
	if shown == "" {
		if strings.TrimSpace(strings.Join(cells, "")) != "" {
			return &Error{n, "it names no file"}
		}
		return nil
	}
	path, err := definition.CleanPath(shown)
	if err != nil {
		return &Error{n, err.Error()}
	}
	entry := definition.Listed{Path: path, Sheet: cell("sheet"), Line: n, Target: definition.Target{Sheet: cell("to_sheet"), Table: cell("to_table")}}
	if row := cell("to_row"); row != "" {
		if entry.Target.Row, err = strconv.Atoi(row); err != nil || entry.Target.Row < 1 {
			return &Error{n, fmt.Sprintf("%q is no number of a row, 1 or more", row)}
		}
	}
	key := path + "\x00" + entry.Sheet
	if before := r.taken[key]; before > 0 {
		return &Error{n, fmt.Sprintf("%q is listed in row %d already", shown, before)}
	}
	r.taken[key] = n
	r.entries = append(r.entries, entry)
	return nil
}

// header takes a row as the header if it has the column of files.
func (r *reader) header(cells []string) {
	columns := map[string]int{}
	for i, c := range cells {
		for key, header := range r.list.Columns {
			if _, known := columns[key]; !known && definition.Plain(c) == definition.Plain(header) {
				columns[key] = i
			}
		}
	}
	if _, has := columns["file"]; has {
		r.columns = columns
	} else if r.headers == nil && strings.TrimSpace(strings.Join(cells, "")) != "" {
		r.headers = append(r.headers, cells...)
	}
}

func (r *reader) hint() string {
	if near := nearest.Find(r.list.Columns["file"], r.headers); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return "; say which one it is with list: {file: …, columns: {file: …}}"
}
