package shaping

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
)

// A part is the typed rows of one file in a private form: for each row its
// values, each as its length plus one in a varint and its bytes, 0 for null.
// Values are in canonical form, so every delivery writes them as they are.

// Writer writes the rows of a part.
type Writer struct {
	w   io.Writer
	buf []byte
}

const block = 256 << 10

// NewWriter returns a Writer to w. Flush must be called at the end.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w, buf: make([]byte, 0, block+block/8)} }

// Value writes the next value of the row.
func (w *Writer) Value(v []byte) {
	if len(v) < 0x7f {
		w.buf = append(w.buf, byte(len(v)+1))
	} else {
		w.buf = binary.AppendUvarint(w.buf, uint64(len(v)+1))
	}
	w.buf = append(w.buf, v...)
}

// Null writes a null as the next value of the row.
func (w *Writer) Null() { w.buf = append(w.buf, 0) }

// EndRow ends the row.
func (w *Writer) EndRow() error {
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

// Reader reads the rows of a part.
type Reader struct {
	r      *bufio.Reader
	values [][]byte
	room   []byte
	ends   []int
}

// NewReader returns a Reader of parts with so many columns.
func NewReader(r io.Reader, columns int) *Reader {
	return &Reader{r: bufio.NewReaderSize(r, block), values: make([][]byte, columns), ends: make([]int, columns)}
}

// Next returns the values of the next row, nil for null, valid until the call
// after; or io.EOF.
func (r *Reader) Next() ([][]byte, error) {
	r.room = r.room[:0]
	for i := range r.values {
		n, err := binary.ReadUvarint(r.r)
		if err != nil {
			if err == io.EOF && i > 0 {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		if n == 0 {
			r.ends[i] = -1
			continue
		}
		from := len(r.room)
		if n-1 > maxValue {
			return nil, fmt.Errorf("a part holds a value of %d bytes; it is damaged", n-1)
		}
		r.room = append(r.room, make([]byte, n-1)...)
		if _, err := io.ReadFull(r.r, r.room[from:]); err != nil {
			return nil, io.ErrUnexpectedEOF
		}
		r.ends[i] = len(r.room)
	}
	from := 0
	for i, end := range r.ends {
		if end < 0 {
			r.values[i] = nil
			continue
		}
		r.values[i] = r.room[from:end:end]
		from = end
	}
	return r.values, nil
}

const maxValue = 64 << 20
