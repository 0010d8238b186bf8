package reading

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"unicode/utf16"
	"unicode/utf8"

	"jorvex/internal/core/finding"
)

// xlsBook reads the sheets of an old workbook, BIFF8 in a compound file
// ([MS-XLS]; the sections named here are that document's).
type xlsBook struct {
	container *compound
	book      entry
	sheets    []Sheet
	offsets   []int64  // of the sheets' substreams
	texts     []string // the shared strings
	formats   []shown  // by the number of the cell's format record
	from1904  bool
}

// The records that are read (2.3).
const (
	recFormula    = 0x0006
	recEOF        = 0x000a
	recDate1904   = 0x0022
	recContinue   = 0x003c
	recBoundSheet = 0x0085
	recMulRK      = 0x00bd
	recRString    = 0x00d6
	recXF         = 0x00e0
	recMergeCells = 0x00e5
	recSST        = 0x00fc
	recLabelSST   = 0x00fd
	recNumber     = 0x0203
	recLabel      = 0x0204
	recBoolErr    = 0x0205
	recString     = 0x0207
	recRow        = 0x0208
	recRK         = 0x027e
	recFormat     = 0x041e
	recBOF        = 0x0809
)

// records reads one record after the other.
type records struct {
	r    io.Reader
	kind int
	data []byte
	next [4]byte
	some bool // next was read ahead
}

func (r *records) read() error {
	if !r.some {
		if _, err := io.ReadFull(r.r, r.next[:]); err != nil {
			return err
		}
	}
	r.some = false
	r.kind = int(binary.LittleEndian.Uint16(r.next[:]))
	length := int(binary.LittleEndian.Uint16(r.next[2:]))
	if cap(r.data) < length {
		r.data = make([]byte, length, 1<<16)
	}
	r.data = r.data[:length]
	_, err := io.ReadFull(r.r, r.data)
	return err
}

// more reports whether the next record is of a kind, without reading it.
func (r *records) more(kind int) bool {
	if !r.some {
		if _, err := io.ReadFull(r.r, r.next[:]); err != nil {
			return false
		}
		r.some = true
	}
	return int(binary.LittleEndian.Uint16(r.next[:])) == kind
}

func old(format string, args ...any) error {
	return finding.New(finding.Damaged, "it is no sound workbook: "+format, args...)
}

func newXLS(c *compound, book entry) (*xlsBook, error) {
	b := &xlsBook{container: c, book: book}
	stream, err := c.open(book)
	if err != nil {
		return nil, old("%s", err)
	}
	r := &records{r: stream}
	own := map[int]shown{}
	for first := true; ; first = false {
		if err := r.read(); err != nil {
			return nil, old("its stream ends before its sheets")
		}
		le := binary.LittleEndian
		switch d := r.data; r.kind {
		case recBOF:
			if first && len(d) >= 2 && le.Uint16(d) != 0x0600 {
				return nil, finding.New(finding.NotATable, "it is a workbook of before 1997")
			}
		case recDate1904:
			b.from1904 = len(d) >= 2 && le.Uint16(d) == 1
		case recBoundSheet:
			if len(d) < 8 || d[5] != 0 { // 0 is a worksheet
				continue
			}
			name, _, ok := shortString(d[6:], int(d[6]), 1)
			if !ok {
				return nil, old("the name of a sheet is cut")
			}
			b.sheets = append(b.sheets, Sheet{Name: name, Hidden: d[4]&3 != 0})
			b.offsets = append(b.offsets, int64(le.Uint32(d)))
		case recFormat:
			if len(d) >= 5 {
				if code, _, ok := shortString(d[2:], int(le.Uint16(d[2:])), 2); ok {
					own[int(le.Uint16(d))] = formatOf(code)
				}
			}
		case recXF:
			if len(d) < 4 {
				return nil, old("a cell's format is cut")
			}
			id := int(le.Uint16(d[2:]))
			format, is := own[id]
			if !is {
				format = builtIn(id)
			}
			b.formats = append(b.formats, format)
		case recSST:
			if err := b.readStrings(r); err != nil {
				return nil, err
			}
		case recEOF:
			return b, nil
		}
	}
}

// shortString reads a string whose length of so many characters is written in
// size bytes before its flags (2.5.240, 2.5.294).
func shortString(d []byte, length, size int) (text string, used int, ok bool) {
	if len(d) < size+1 {
		return "", 0, false
	}
	wide := d[size]&1 != 0
	rest := d[size+1:]
	n := length
	if wide {
		n *= 2
	}
	if len(rest) < n {
		return "", 0, false
	}
	return decode(rest[:n], wide), size + 1 + n, true
}

// decode reads characters of one byte, which are the first of Unicode, or of two.
func decode(b []byte, wide bool) string {
	if !wide {
		text := make([]byte, 0, len(b))
		for _, c := range b {
			text = utf8.AppendRune(text, rune(c))
		}
		return string(text)
	}
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(units))
}

// continued reads over the ends of records that go on in others (2.1.4).
type continued struct {
	r    *records
	data []byte
}

func (c *continued) turn() error {
	if !c.r.more(recContinue) {
		return old("its texts are cut")
	}
	if err := c.r.read(); err != nil {
		return old("its texts are cut")
	}
	c.data = c.r.data
	return nil
}

// take returns the next n bytes, valid until the next call.
func (c *continued) take(n int) ([]byte, error) {
	if len(c.data) >= n {
		b := c.data[:n]
		c.data = c.data[n:]
		return b, nil
	}
	var b []byte
	for len(b) < n {
		if len(c.data) == 0 {
			if err := c.turn(); err != nil {
				return nil, err
			}
			if len(c.data) == 0 {
				return nil, old("its texts are cut")
			}
		}
		some := min(n-len(b), len(c.data))
		b = append(b, c.data[:some]...)
		c.data = c.data[some:]
	}
	return b, nil
}

// chars reads characters; where they go on in another record, it says anew how
// wide they are.
func (c *continued) chars(n int, wide bool) (string, error) {
	text := ""
	for {
		width := 1
		if wide {
			width = 2
		}
		some := min(n, len(c.data)/width)
		text += decode(c.data[:some*width], wide)
		c.data = c.data[some*width:]
		if n -= some; n == 0 {
			return text, nil
		}
		if err := c.turn(); err != nil {
			return "", err
		}
		if len(c.data) == 0 {
			return "", old("its texts are cut")
		}
		wide = c.data[0]&1 != 0
		c.data = c.data[1:]
	}
}

// readStrings reads the shared strings (2.4.265, 2.5.293).
func (b *xlsBook) readStrings(r *records) error {
	c := &continued{r, r.data}
	head, err := c.take(8)
	if err != nil {
		return err
	}
	count := binary.LittleEndian.Uint32(head[4:])
	if count > mostStrings {
		return old("it has more than %d texts", mostStrings)
	}
	for range count {
		head, err := c.take(3)
		if err != nil {
			return err
		}
		length, flags := int(binary.LittleEndian.Uint16(head)), head[2]
		runs, extra := 0, 0
		if flags&8 != 0 {
			if head, err = c.take(2); err != nil {
				return err
			}
			runs = int(binary.LittleEndian.Uint16(head))
		}
		if flags&4 != 0 {
			if head, err = c.take(4); err != nil {
				return err
			}
			if extra = int(binary.LittleEndian.Uint32(head)); extra > 1<<24 {
				return old("a text is impossibly long")
			}
		}
		text, err := c.chars(length, flags&1 != 0)
		if err != nil {
			return err
		}
		b.texts = append(b.texts, text)
		if n := 4*runs + extra; n > 0 {
			if _, err := c.take(n); err != nil {
				return err
			}
		}
	}
	return nil
}

// Sheets implements Book.
func (b *xlsBook) Sheets() []Sheet { return b.sheets }

// Named implements Book: the names of old workbooks are formulas, and not read.
func (b *xlsBook) Named() ([]Named, error) { return nil, nil }

// Open implements Book.
func (b *xlsBook) Open(sheet int) (SheetRows, error) {
	stream, err := b.container.open(b.book)
	if err == nil {
		_, err = io.CopyN(io.Discard, stream, b.offsets[sheet])
	}
	if err != nil {
		return nil, old("the sheet %q is not where it should be", b.sheets[sheet].Name)
	}
	r := &records{r: stream}
	if err := r.read(); err != nil || r.kind != recBOF {
		return nil, old("the sheet %q is not where it should be", b.sheets[sheet].Name)
	}
	return &xlsRows{book: b, records: r, hiddenRows: map[int]bool{}}, nil
}

type xlsRows struct {
	book       *xlsBook
	records    *records
	row        int64
	hidden     int64
	merged     []Area
	hiddenRows map[int]bool
	cells      []Cell
	ended      bool
	ahead      bool // the record that was read last is yet to be taken
	formula    int  // column of a formula whose text follows, or -1
}

// Merged implements SheetRows ([MS-XLS] 2.4.168).
func (s *xlsRows) Merged() []Area { return s.merged }

func (s *xlsRows) Close() error  { return nil }
func (s *xlsRows) Row() int64    { return s.row }
func (s *xlsRows) Hidden() int64 { return s.hidden }

// Next implements Rows.
func (s *xlsRows) Next() ([]Cell, error) {
	s.cells = nil
	s.formula = -1
	current := -1
	for !s.ended {
		if !s.ahead {
			if err := s.records.read(); err != nil {
				return nil, old("a sheet is cut")
			}
		}
		s.ahead = false
		d := s.records.data
		switch s.records.kind {
		case recEOF:
			s.ended = true
			continue
		case recBOF: // of a chart in the sheet
			if err := s.skip(); err != nil {
				return nil, err
			}
			continue
		case recRow:
			if len(d) >= 16 && d[12]&0x20 != 0 {
				s.hiddenRows[int(binary.LittleEndian.Uint16(d))] = true
			}
			continue
		case recString:
			if s.formula >= 0 && len(d) >= 3 {
				if text, _, ok := shortString(d, int(binary.LittleEndian.Uint16(d)), 2); ok {
					s.cells[s.formula] = Cell{Text: []byte(text)}
				}
			}
			s.formula = -1
			continue
		case recMergeCells:
			for at := 2; at+8 <= len(d) && len(s.merged) < mostMerged; at += 8 {
				of := func(i int) int64 { return int64(binary.LittleEndian.Uint16(d[at+2*i:])) + 1 }
				s.merged = append(s.merged, Area{of(0), of(2), of(1), of(3)})
			}
			continue
		case recNumber, recRK, recMulRK, recLabelSST, recLabel, recRString, recBoolErr, recFormula:
		default:
			continue
		}
		if len(d) < 6 {
			return nil, old("a cell is cut")
		}
		row := int(binary.LittleEndian.Uint16(d))
		if current >= 0 && row != current {
			s.ahead = true
			break
		}
		current = row
		if err := s.cell(d); err != nil {
			return nil, err
		}
	}
	if current < 0 {
		return nil, io.EOF
	}
	s.row = int64(current) + 1
	if s.hiddenRows[current] {
		s.hidden++
	}
	return s.cells, nil
}

// skip reads to the end of a substream within the sheet's.
func (s *xlsRows) skip() error {
	for depth := 1; depth > 0; {
		if err := s.records.read(); err != nil {
			return old("a sheet is cut")
		}
		switch s.records.kind {
		case recBOF:
			depth++
		case recEOF:
			depth--
		}
	}
	return nil
}

func (s *xlsRows) put(column int, c Cell) {
	for len(s.cells) <= column {
		s.cells = append(s.cells, Cell{})
	}
	s.cells[column] = c
}

var faultNames = map[byte]string{0x00: "#NULL!", 0x07: "#DIV/0!", 0x0f: "#VALUE!", 0x17: "#REF!", 0x1d: "#NAME?", 0x24: "#NUM!", 0x2a: "#N/A"}

func (s *xlsRows) cell(d []byte) error {
	le := binary.LittleEndian
	column, format := int(le.Uint16(d[2:])), int(le.Uint16(d[4:]))
	cut := func(n int) bool { return len(d) < n }
	switch s.records.kind {
	case recNumber:
		if cut(14) {
			return old("a number is cut")
		}
		s.put(column, s.number(math.Float64frombits(le.Uint64(d[6:])), format))
	case recRK:
		if cut(10) {
			return old("a number is cut")
		}
		s.put(column, s.number(rk(le.Uint32(d[6:])), format))
	case recMulRK:
		for at := 4; at+8 <= len(d); at += 6 {
			s.put(column, s.number(rk(le.Uint32(d[at+2:])), int(le.Uint16(d[at:]))))
			column++
		}
	case recLabelSST:
		if cut(10) {
			return old("a text is cut")
		}
		i := le.Uint32(d[6:])
		if uint64(i) >= uint64(len(s.book.texts)) {
			return old("row %d names the text %d, which there is not", le.Uint16(d)+1, i)
		}
		s.put(column, Cell{Text: []byte(s.book.texts[i])})
	case recLabel, recRString:
		if cut(9) {
			return old("a text is cut")
		}
		if text, _, ok := shortString(d[6:], int(le.Uint16(d[6:])), 2); ok {
			s.put(column, Cell{Text: []byte(text)})
		}
	case recBoolErr:
		if cut(8) {
			return old("a value is cut")
		}
		s.put(column, logical(d[6], d[7] != 0))
	case recFormula:
		if cut(14) {
			return old("a formula is cut")
		}
		s.formulaValue(column, format, d[6:14])
	}
	return nil
}

func logical(value byte, fault bool) Cell {
	if fault {
		text, known := faultNames[value]
		if !known {
			text = fmt.Sprintf("#ERR%d", value)
		}
		return Cell{Text: []byte(text), Kind: Fault}
	}
	return Cell{Text: []byte(map[bool]string{true: "true", false: "false"}[value != 0]), Kind: Logical}
}

// formulaValue reads the value that was stored with a formula (2.5.133).
func (s *xlsRows) formulaValue(column, format int, v []byte) {
	if v[6] != 0xff || v[7] != 0xff {
		s.put(column, s.number(math.Float64frombits(binary.LittleEndian.Uint64(v)), format))
		return
	}
	switch v[0] {
	case 0: // the text follows in a record of its own
		s.put(column, Cell{})
		s.formula = column
	case 1:
		s.put(column, logical(v[2], false))
	case 2:
		s.put(column, logical(v[2], true))
	default:
		s.put(column, Cell{})
	}
}

// rk reads a number of four bytes (2.5.217).
func rk(v uint32) float64 {
	n := float64(int32(v) >> 2)
	if v&2 == 0 {
		n = math.Float64frombits(uint64(v&^3) << 32)
	}
	if v&1 != 0 {
		n /= 100
	}
	return n
}

func (s *xlsRows) number(v float64, format int) Cell {
	if format < len(s.book.formats) {
		if how := s.book.formats[format]; how != asNumber {
			if at, ok := moment(nil, v, how, s.book.from1904); ok {
				return Cell{Text: at, Kind: Moment}
			}
		}
	}
	return Cell{Text: plainFloat(nil, v), Kind: Number}
}
