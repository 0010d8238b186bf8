package shaping

import "io"

// A part is the typed rows of one file as delimited text in the form of RFC
// 4180: commas, CRLF, quotes only where they are needed, no header. A null is
// an empty cell; no value is empty. So a combined table is the parts of its
// files one after another, whatever it is delivered as.

// Writer writes the rows of a part.
type Writer struct {
	w     io.Writer
	buf   []byte
	begun bool // the row has a cell
}

const block = 256 << 10

// NewWriter returns a Writer to w. Flush must be called at the end.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w, buf: make([]byte, 0, 4<<10)} }

// Plain writes the next value of the row, which has nothing to quote.
func (w *Writer) Plain(v []byte) {
	w.next()
	w.buf = append(w.buf, v...)
}

// Text writes the next value of the row, in quotes if it needs them.
func (w *Writer) Text(v []byte) {
	w.next()
	w.buf = AppendText(w.buf, v)
}

// Null writes a null as the next value of the row.
func (w *Writer) Null() { w.next() }

func (w *Writer) next() {
	if w.begun {
		w.buf = append(w.buf, ',')
	}
	w.begun = true
}

// EndRow ends the row.
func (w *Writer) EndRow() error {
	w.buf = append(w.buf, '\r', '\n')
	w.begun = false
	if len(w.buf) < block {
		return nil
	}
	return w.Flush()
}

// Flush writes what is held back.
func (w *Writer) Flush() error {
	_, err := w.w.Write(w.buf)
	w.buf = w.buf[:0]
	return err
}

// quoted are the bytes for which a value stands in quotes.
var quoted = [256]bool{',': true, '"': true, '\n': true, '\r': true}

// AppendText appends a value, in quotes if it needs them. A lone \. is quoted
// too: to PostgreSQL it would end the data.
func AppendText(buf, v []byte) []byte {
	quote := len(v) == 2 && v[0] == '\\' && v[1] == '.'
	for _, c := range v {
		if c <= ',' && quoted[c] {
			quote = true
			break
		}
	}
	if !quote {
		return append(buf, v...)
	}
	buf = append(buf, '"')
	for _, c := range v {
		if c == '"' {
			buf = append(buf, '"')
		}
		buf = append(buf, c)
	}
	return append(buf, '"')
}
