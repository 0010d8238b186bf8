package deliver

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
)

// writePlain writes delimited text by RFC 4180 (commas, CRLF, a header row; UTF-8).
func writePlain(w io.Writer, c Combined) error {
	var head []byte
	for i, col := range c.Columns {
		if i > 0 {
			head = append(head, ',')
		}
		head = shaping.AppendText(head, []byte(col.Name))
	}
	if _, err := w.Write(append(head, '\r', '\n')); err != nil {
		return err
	}
	_, err := c.WriteTo(w)
	return err
}

// Unwritable says that a value cannot be written as a delivery is.
type Unwritable struct {
	File   string // that it comes from, as it is shown
	Row    int64  // of that file's rows that were kept
	Column string
	Why    string
}

func (e *Unwritable) Error() string {
	where := "the header"
	if e.File != "" {
		where = fmt.Sprintf("%s, row %d of its rows", e.File, e.Row)
	}
	return fmt.Sprintf("%s, column %s: %s", where, e.Column, e.Why)
}

// writeDelimited writes delimited text with an encoding, delimiter and decimal
// mark of its own.
func writeDelimited(w io.Writer, d style, c Combined) error {
	delimiter := d.Delimiter
	if delimiter == 0 {
		delimiter = ','
	}
	var encoder *encoding.Encoder
	if d.Encoding != nil {
		encoder = d.Encoding.NewEncoder()
	}
	out := bufio.NewWriterSize(w, 256<<10)
	line := func(values func(i int) []byte, fail func(i int, why string) error) error {
		for i := range c.Columns {
			if i > 0 {
				_ = out.WriteByte(delimiter)
			}
			v := values(i)
			if bytes.IndexByte(v, delimiter) >= 0 || bytes.ContainsAny(v, "\"\r\n") {
				v = append(append([]byte{'"'}, bytes.ReplaceAll(v, []byte{'"'}, []byte(`""`))...), '"')
			}
			if encoder != nil {
				encoded, err := encoder.Bytes(v)
				if err != nil {
					return fail(i, fmt.Sprintf("%q has characters that %s lacks", v, reading.EncodingName(d.Encoding)))
				}
				v = encoded
			}
			_, _ = out.Write(v)
		}
		_, err := out.WriteString("\r\n")
		return err
	}
	err := line(func(i int) []byte { return []byte(c.Columns[i].Name) }, func(i int, why string) error { return &Unwritable{Column: c.Columns[i].Name, Why: why} })
	if err != nil {
		return err
	}
	err = c.Parts(func(s *Source, part io.Reader) error {
		n := int64(0)
		return rows(part, func(cells []reading.Cell) error {
			n++
			return line(func(i int) []byte { return d.text(c.Columns[i].Type, cells[i].Text) }, func(i int, why string) error {
				return &Unwritable{filename.Show(s.Path), n, c.Columns[i].Name, why}
			})
		})
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// writeJSONLines writes an object a row (RFC 8259), with the columns as names;
// numbers as they are, blanks as null.
func writeJSONLines(w io.Writer, c Combined) error {
	out := bufio.NewWriterSize(w, 256<<10)
	names := make([][]byte, len(c.Columns))
	for i, col := range c.Columns {
		name, err := json.Marshal(col.Name)
		if err != nil {
			return err
		}
		names[i] = append(name, ':')
	}
	err := c.Parts(func(_ *Source, part io.Reader) error {
		return rows(part, func(cells []reading.Cell) error {
			for i, col := range c.Columns {
				_ = out.WriteByte("{,"[min(i, 1)])
				_, _ = out.Write(names[i])
				switch v := cells[i].Text; {
				case len(v) == 0:
					_, _ = out.WriteString("null")
				case col.Type.Number() || col.Type == definition.YesNo:
					_, _ = out.Write(v)
				default:
					text, err := json.Marshal(string(v))
					if err != nil {
						return err
					}
					_, _ = out.Write(text)
				}
			}
			_, err := out.WriteString("}\n")
			return err
		})
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// writeXML writes the rows as XML 1.0: rows of elements that are named as the
// columns are; a blank has no element.
func writeXML(w io.Writer, c Combined) error {
	out := bufio.NewWriterSize(w, 256<<10)
	_, _ = out.WriteString("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<rows>\n")
	err := c.Parts(func(_ *Source, part io.Reader) error {
		return rows(part, func(cells []reading.Cell) error {
			_, _ = out.WriteString("<row>")
			for i, col := range c.Columns {
				if v := cells[i].Text; len(v) > 0 {
					_, _ = fmt.Fprintf(out, "<%s>", col.Name)
					escapeXML(out, v)
					_, _ = fmt.Fprintf(out, "</%s>", col.Name)
				}
			}
			_, err := out.WriteString("</row>\n")
			return err
		})
	})
	if err != nil {
		return err
	}
	_, _ = out.WriteString("</rows>\n")
	return out.Flush()
}

// escapeXML writes text; characters that XML cannot hold become U+FFFD.
func escapeXML(out *bufio.Writer, v []byte) {
	for len(v) > 0 {
		r, n := utf8.DecodeRune(v)
		switch {
		case r == '&':
			_, _ = out.WriteString("&amp;")
		case r == '<':
			_, _ = out.WriteString("&lt;")
		case r == '>':
			_, _ = out.WriteString("&gt;")
		case r == '\r':
			_, _ = out.WriteString("&#13;")
		case r < ' ' && r != '\t' && r != '\n', r == 0xFFFE, r == 0xFFFF:
			_, _ = out.WriteRune(utf8.RuneError)
		default:
			_, _ = out.WriteRune(r)
		}
		v = v[n:]
	}
}

// writeFileList writes the full paths of the files that fed, a line each, for
// programs that take such a list.
func writeFileList(w io.Writer, c Combined) error {
	out := bufio.NewWriter(w)
	err := c.Parts(func(s *Source, _ io.Reader) error {
		_, err := out.WriteString(filepath.Join(c.Root, s.Path) + "\n")
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}
