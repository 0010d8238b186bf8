// Package reading turns the bytes of a file into rows of cells. It reads
// delimited text: cells quoted as in RFC 4180, and the common deviations from
// it (a lone line feed, a quote inside an unquoted cell, text after a closing
// quote). It streams: memory does not grow with the number of rows.
//
//	rows := reading.NewDelimited(file)
//	for {
//		cells, err := rows.Next() // err is io.EOF, a finding.Finding, or the reader's own
//		…
//	}
package reading

import (
	"bytes"
	"encoding/binary"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"jorvex/internal/core/finding"
)

// Limits of a file of text.
const (
	firstRead = 16 << 10  // most files are small
	block     = 256 << 10 // and what is not is read in larger pieces
	// MaxRow is the most bytes one row may have.
	MaxRow = 16 << 20
)

// Delimited reads delimited text in UTF-8. Set Delimiter before the first
// Next, or leave it 0 to have it found.
type Delimited struct {
	Delimiter byte
	// Other is the encoding of text that turns out not to be UTF-8: the first
	// character that is not in ASCII decides. Nil refuses such text.
	Other func(sample []byte) encoding.Encoding

	r       io.Reader
	buf     []byte
	start   int // of the next row
	end     int
	checked int   // buf[:checked] is sound UTF-8 without NUL
	base    int64 // offset in the file of buf[0]
	eof     bool
	begun   bool
	row     int64
	open    bool
	cells   []Cell
	wide    bool // there was a character in UTF-8 that is not in ASCII
	turned  *turned
}

// turned is text on its way from another encoding.
type turned struct {
	r       io.Reader
	scanner scanner
}

func (t *turned) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.scanner.scan(p[:n])
	return n, err
}

// Turned reports whether the text was read in its other encoding; and if parts of
// it look like UTF-8 all the same, how many characters do.
func (d *Delimited) Turned() (is bool, utf8 int64) {
	if d.turned == nil {
		return false, 0
	}
	return true, d.turned.scanner.wide
}

// turn reads what is left, from a byte on, in the other encoding.
func (d *Delimited) turn(from int) error {
	t := &turned{r: io.MultiReader(bytes.NewReader(bytes.Clone(d.buf[from:d.end])), d.r)}
	sample := d.buf[from:d.end]
	d.turned, d.r = t, d.Other(sample).NewDecoder().Reader(t)
	d.end, d.eof = from, false
	return d.read()
}

// NewDelimited returns a reader of the rows in r.
func NewDelimited(r io.Reader) *Delimited { return &Delimited{r: r} }

// Row returns the number of the row that Next returned last, counted from 1.
func (d *Delimited) Row() int64 { return d.row }

// Open reports whether the row that Next returned last ran to the end of the
// file without a line end.
func (d *Delimited) Open() bool { return d.open }

// Next returns the cells of the next row, valid until the call after. A row
// without a character has one empty cell.
func (d *Delimited) Next() ([]Cell, error) {
	if !d.begun {
		if err := d.begin(); err != nil {
			return nil, err
		}
	}
	for scanned := d.start; ; {
		line := bytes.IndexByte(d.buf[scanned:d.end], '\n')
		last := line < 0 && d.eof
		if line < 0 && !last {
			scanned = d.end - d.start
			if err := d.fill(); err != nil {
				return nil, err
			}
			scanned += d.start
			continue
		}
		stop, after := d.end, d.end
		if !last {
			stop, after = scanned+line, scanned+line+1
		} else if d.start == d.end {
			return nil, io.EOF
		}
		text := d.buf[d.start:stop]
		d.open = last
		if bytes.IndexByte(text, '"') >= 0 {
			return d.quoted()
		}
		d.start = after
		d.row++
		d.split(bytes.TrimSuffix(text, []byte{'\r'}))
		return d.cells, d.fits()
	}
}

// split cuts a row without quotes into cells.
func (d *Delimited) split(text []byte) {
	d.cells = d.cells[:0]
	from := 0
	for i, c := range text {
		if c == d.Delimiter {
			d.cells = append(d.cells, Cell{Text: text[from:i:i]})
			from = i + 1
		}
	}
	d.cells = append(d.cells, Cell{Text: text[from:]})
}

// quoted reads a row that has a quote somewhere, so that it may hold delimiters
// and line ends of its own.
func (d *Delimited) quoted() ([]Cell, error) {
	d.row++
	inside, atStart, closed := false, true, false
	i := d.start
	for ; ; i++ {
		if i == d.end {
			if d.eof {
				break
			}
			length := i - d.start
			if err := d.fill(); err != nil {
				return nil, err
			}
			i = d.start + length - 1
			continue
		}
		c := d.buf[i]
		switch {
		case inside:
			inside, closed = c != '"', c == '"'
		case c == '"' && (atStart || closed):
			// It opens the cell, or follows the quote before: a doubled one.
			inside, atStart, closed = true, false, false
		case c == '\n':
			d.open = false
			d.unquote(d.buf[d.start:i])
			d.start = i + 1
			return d.cells, d.fits()
		default:
			atStart, closed = c == d.Delimiter, false
		}
	}
	d.open = true
	if inside {
		f := finding.New(finding.UnclosedQuote, "the quote opened in row %d runs to the end of the file", d.row)
		f.Row = d.row
		return nil, f
	}
	d.unquote(d.buf[d.start:d.end])
	d.start = d.end
	return d.cells, d.fits()
}

// fits refuses a row with more cells than any table has.
func (d *Delimited) fits() error {
	if len(d.cells) <= mostColumns {
		return nil
	}
	return tooWide(d.row)
}

func tooWide(row int64) finding.Finding {
	f := finding.New(finding.BeyondLimit, "row %d has more than %d cells", row, mostColumns)
	f.Row = row
	return f
}

// unquote cuts a whole row into cells, taking quotes away in place.
func (d *Delimited) unquote(text []byte) {
	text = bytes.TrimSuffix(text, []byte{'\r'})
	d.cells = d.cells[:0]
	for i := 0; ; {
		if i == len(text) || text[i] != '"' {
			end := bytes.IndexByte(text[i:], d.Delimiter)
			if end < 0 {
				d.cells = append(d.cells, Cell{Text: text[i:]})
				return
			}
			d.cells = append(d.cells, Cell{Text: text[i : i+end : i+end]})
			i += end + 1
			continue
		}
		i++
		from, to := i, i
		for inside := true; i < len(text) && (inside || text[i] != d.Delimiter); i++ {
			if inside && text[i] == '"' {
				if i+1 < len(text) && text[i+1] == '"' {
					i++
				} else {
					inside = false
					continue
				}
			}
			text[to] = text[i]
			to++
		}
		d.cells = append(d.cells, Cell{Text: text[from:to:to]})
		if i == len(text) {
			return
		}
		i++
	}
}

// begin reads the first block, refuses what is no text, and finds the
// delimiter.
func (d *Delimited) begin() error {
	d.begun = true
	d.buf = make([]byte, firstRead)
	for !d.eof && d.end < len(d.buf) {
		if err := d.read(); err != nil {
			return err
		}
	}
	if d.end == 0 {
		return finding.New(finding.Empty, "")
	}
	if kind := kindOf(d.buf[:min(d.end, headSize)]); kind != Text {
		return finding.New(finding.NotATable, "it is %s", kind)
	}
	if bytes.HasPrefix(d.buf[:d.end], []byte("\xef\xbb\xbf")) {
		d.start = 3
		if d.end == 3 {
			return finding.New(finding.Empty, "it holds nothing but a byte-order mark")
		}
	}
	if err := d.check(); err != nil {
		return err
	}
	if d.Delimiter == 0 {
		d.Delimiter = findDelimiter(d.buf[d.start:d.end], d.eof)
	}
	return nil
}

// fill reads more behind the row that is not yet whole.
func (d *Delimited) fill() error {
	if d.start > 0 {
		copy(d.buf, d.buf[d.start:d.end])
		d.base += int64(d.start)
		d.end -= d.start
		d.checked -= d.start
		d.start = 0
	}
	switch {
	case len(d.buf) < block:
		d.buf = append(make([]byte, 0, block), d.buf...)[:block]
	case d.end == len(d.buf):
		if len(d.buf) >= MaxRow {
			f := finding.New(finding.RowTooLong, "row %d has more than %d MiB", d.row+1, MaxRow>>20)
			f.Row = d.row + 1
			return f
		}
		d.buf = append(d.buf, make([]byte, len(d.buf))...)
	}
	if err := d.read(); err != nil {
		return err
	}
	return d.check()
}

func (d *Delimited) read() error {
	for range 100 {
		n, err := d.r.Read(d.buf[d.end:])
		d.end += n
		if err == io.EOF {
			d.eof = true
			return nil
		}
		if err != nil || n > 0 {
			return err
		}
	}
	return io.ErrNoProgress
}

// check refuses NUL and bytes that are not UTF-8 in what was read last. A
// character cut by the end of the block waits for the next.
func (d *Delimited) check() error {
	fresh := d.buf[d.checked:d.end]
	if !d.eof {
		for back := 1; back <= min(3, len(fresh)); back++ {
			if c := fresh[len(fresh)-back]; utf8.RuneStart(c) {
				if !utf8.FullRune(fresh[len(fresh)-back:]) {
					fresh = fresh[:len(fresh)-back]
				}
				break
			}
		}
	}
	if i := bytes.IndexByte(fresh, 0); i >= 0 {
		return finding.New(finding.NULBytes, "the first is at offset %d", d.base+int64(d.checked+i))
	}
	if !utf8.Valid(fresh) {
		i := 0
		for i < len(fresh) {
			r, size := utf8.DecodeRune(fresh[i:])
			if r == utf8.RuneError && size == 1 {
				break
			}
			d.wide = d.wide || size > 1
			i += size
		}
		if d.Other != nil && !d.wide && d.turned == nil {
			at := d.checked + i
			d.checked = at
			if err := d.turn(at); err != nil {
				return err
			}
			return d.check()
		}
		return finding.New(finding.NotUTF8, "byte 0x%02X at offset %d begins no character", fresh[i], d.base+int64(d.checked+i))
	}
	d.wide = d.wide || !isASCII(fresh)
	d.checked += len(fresh)
	return nil
}

func isASCII(text []byte) bool {
	for len(text) >= 8 {
		if binary.LittleEndian.Uint64(text)&0x8080808080808080 != 0 {
			return false
		}
		text = text[8:]
	}
	for _, c := range text {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// findDelimiter judges by the first rows: the delimiter that stands equally
// often in most of them, more often rather than less.
func findDelimiter(text []byte, whole bool) byte {
	lines := bytes.SplitN(text, []byte{'\n'}, 60)
	if n := len(lines); n > 1 && (!whole || n == 60) {
		lines = lines[:n-1] // the last is cut
	}
	best, bestScore := byte(','), 0
	for _, candidate := range []byte{',', ';', '\t', '|'} {
		alike := map[int]int{}
		for _, line := range lines {
			if n := outsideQuotes(line, candidate); n > 0 {
				alike[n]++
			}
		}
		for n, rows := range alike {
			if score := rows*1000 + min(n, 999); score > bestScore {
				best, bestScore = candidate, score
			}
		}
	}
	return best
}

func outsideQuotes(line []byte, c byte) int {
	n, inside := 0, false
	for _, b := range line {
		switch {
		case b == '"':
			inside = !inside
		case b == c && !inside:
			n++
		}
	}
	return n
}
