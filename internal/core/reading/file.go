package reading

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"jorvex/internal/core/finding"
)

// Content is bytes that can be read in any order.
type Content interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// Spool keeps what a reader holds. Archives are read from their end, so their
// bytes are kept somewhere first.
type Spool func(io.Reader) (Content, error)

// File is a file that was opened, and is known by its kind. Of a text it is a
// reader.
type File struct {
	io.Reader
	Kind Kind

	content Content
	zip     *zip.Reader
	old     *compound // an old workbook, and the entry that holds it
	book    entry
	spool   Spool
	found   []finding.Finding // on opening

	most      int64 // bytes that it may expand to
	bigEndian bool  // of text in UTF-16 without a byte-order mark
	inside    *File // what it was found to be wrapped around
	closers   []io.Closer
}

// headSize is how much of a file is read to tell its kind.
const headSize = 4 << 10

// mostExpanded is the most bytes that a compressed file may expand to.
var mostExpanded int64 = 4 << 30

// Open tells what kind of file r holds. Errors are those of r and spool; what is
// wrong with the file is told by Inspect.
func Open(r io.Reader, spool Spool) (*File, error) {
	head := make([]byte, headSize)
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	head = head[:n]
	f := &File{Reader: io.MultiReader(bytes.NewReader(head), r), Kind: kindOf(head), spool: spool, most: mostExpanded}
	if f.Kind == Other {
		if wide, bigEndian := wideOrder(head); wide {
			f.Kind, f.bigEndian = Wide, bigEndian
		}
	}
	if f.Kind != Zip && f.Kind != Document {
		return f, nil
	}
	if f.content, err = spool(f.Reader); err != nil {
		return nil, err
	}
	if f.Kind == Zip {
		f.openZip()
	} else {
		f.openCompound()
	}
	return f, nil
}

// Limit sets how many bytes the file may expand to, if that is less than the
// limit there is.
func (f *File) Limit(most int64) { f.most = min(f.most, most) }

// Close lets go of what was kept.
func (f *File) Close() error {
	var errs []error
	if f.inside != nil {
		errs = append(errs, f.inside.Close())
	}
	for _, c := range f.closers {
		_ = c.Close() // of reading; what counted was told on reading
	}
	if f.content != nil {
		errs = append(errs, f.content.Close())
	}
	return errors.Join(errs...)
}

func (f *File) find(code finding.Code, evidence string, args ...any) {
	f.found = append(f.found, finding.New(code, evidence, args...))
}

// Inspect reads a file to its end, and tells what is wrong with it whatever
// table it holds.
func (f *File) Inspect() ([]finding.Finding, error) {
	var err error
	switch {
	case len(f.found) > 0:
	case f.Kind == Nothing:
		f.find(finding.Empty, "")
	case f.zip != nil:
		f.members()
	case f.content != nil:
	case f.Kind == Gzip:
		err = f.unpacks()
	case f.Kind == Text, f.Kind == JSON, f.Kind == XML, f.Kind == WebPage:
		err = f.text()
	default:
		err = f.tail()
	}
	return f.found, err
}

// Text is not needed to be in one encoding where no columns are read from it,
// but to be in one.
func (f *File) text() error {
	s := scanner{}
	last := make([]byte, 0, 64)
	buf := make([]byte, 64<<10)
	for {
		n, err := f.Read(buf)
		s.scan(buf[:n])
		last = tailOf(last, bytes.TrimRight(buf[:n], " \t\r\n\x00"))
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	s.flush()
	switch {
	case s.null >= 0:
		f.find(finding.NULBytes, "the first is at offset %d", s.null)
	case s.wrong >= 0 && s.wide > 0:
		f.found = append(f.found, mixed(s.wide, s.wrong))
	}
	switch {
	case f.Kind == XML && !bytes.HasSuffix(last, []byte(">")):
		f.find(finding.CutShort, "the last element is not closed")
	case f.Kind == JSON && !bytes.HasSuffix(last, []byte("}")) && !bytes.HasSuffix(last, []byte("]")):
		f.find(finding.CutShort, "the last object is not closed")
	}
	return nil
}

// mixed tells of a text that changes its encoding on the way.
func mixed(wide, wrong int64) finding.Finding {
	return finding.New(finding.MixedEncodings, "the byte at offset %d is none of UTF-8, and %s before and after it are", wrong, characters(wide))
}

func characters(n int64) string {
	if n == 1 {
		return "1 character"
	}
	return fmt.Sprintf("%d characters", n)
}

// tailOf keeps the end of what was read.
func tailOf(last, more []byte) []byte {
	if len(more) == 0 {
		return last
	}
	last = append(last[:0], more[max(0, len(more)-64):]...)
	return last
}

// scanner looks for what a text should not have.
type scanner struct {
	begun       bool
	offset      int64
	null, wrong int64 // offset of the first, or -1
	wide        int64 // characters of several bytes
	rest        []byte
}

func (s *scanner) scan(b []byte) {
	if !s.begun {
		s.begun, s.null, s.wrong = true, -1, -1
	}
	if i := bytes.IndexByte(b, 0); i >= 0 && s.null < 0 {
		s.null = s.offset + int64(len(s.rest)+i)
	}
	if len(s.rest) > 0 {
		b = append(s.rest, b...)
		s.rest = nil
	}
	s.runes(b, false)
}

func (s *scanner) runes(b []byte, last bool) {
	for i := 0; i < len(b); {
		if b[i] < utf8.RuneSelf {
			i++
			continue
		}
		if !last && !utf8.FullRune(b[i:]) {
			s.rest = append([]byte(nil), b[i:]...)
			s.offset += int64(i)
			return
		}
		r, size := utf8.DecodeRune(b[i:])
		if r != utf8.RuneError || size > 1 {
			s.wide++
		} else if s.wrong < 0 {
			s.wrong = s.offset + int64(i)
		}
		i += size
	}
	s.offset += int64(len(b))
}

func (s *scanner) flush() {
	if !s.begun {
		s.scan(nil)
	}
	s.runes(s.rest, true)
	s.rest = nil
}

// unpacks sees that what is compressed is whole.
func (f *File) unpacks() error {
	r, err := f.unwrap("")
	if err == nil {
		_, err = io.Copy(io.Discard, r)
	}
	var found finding.Finding
	if errors.As(err, &found) {
		f.found = append(f.found, found)
		return nil
	}
	return err
}

// faults keeps the errors of a reader apart from those of what it holds.
type faults struct {
	r   io.Reader
	err error
}

func (f *faults) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if err != nil && err != io.EOF {
		f.err = err
	}
	return n, err
}

// endings are what the last bytes of some kinds must hold.
var endings = map[string]string{"%PDF-": "%%EOF", "\x89PNG": "IEND", "PAR1": "PAR1"}

// tail reads to the end, and sees that it is the right one.
func (f *File) tail() error {
	var head, last []byte
	buf := make([]byte, 64<<10)
	for {
		n, err := f.Read(buf)
		if len(head) == 0 {
			head = bytes.Clone(buf[:min(n, 8)])
		}
		last = append(last, buf[:n]...)
		last = last[max(0, len(last)-2048):]
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	for begin, end := range endings {
		if bytes.HasPrefix(head, []byte(begin)) && (!bytes.Contains(last, []byte(end)) || begin == end && !bytes.HasSuffix(last, []byte(end))) {
			f.find(finding.CutShort, "%s ends with %s, this one does not", f.Kind, end)
		}
	}
	return nil
}

// openZip reads the directory of an archive, and tells what it is.
func (f *File) openZip() {
	archive, err := zip.NewReader(f.content, f.content.Size())
	if err != nil {
		if errors.Is(err, zip.ErrFormat) && !hasDirectory(f.content) {
			f.find(finding.CutShort, "the directory at its end is missing")
		} else {
			f.find(finding.Damaged, "its directory cannot be read: %s", err)
		}
		f.Kind = guessZip(f.content)
		return
	}
	f.zip = archive
	for _, m := range archive.File {
		switch name := strings.ToLower(m.Name); {
		case name == "xl/workbook.xml":
			f.Kind = WorkbookXML
		case name == "word/document.xml" || name == "ppt/presentation.xml":
			f.Kind = Document
		case name == "mimetype" && f.Kind == Zip:
			f.Kind = openDocument(m)
		}
	}
}

// openDocument tells a workbook from other OpenDocument files (ISO/IEC 26300,
// part 3, section 3.3), and both from other archives.
func openDocument(m *zip.File) Kind {
	r, err := m.Open()
	if err != nil {
		return Zip
	}
	defer r.Close()
	media, _ := io.ReadAll(io.LimitReader(r, 100))
	switch {
	case strings.HasPrefix(string(media), "application/vnd.oasis.opendocument.spreadsheet"):
		return ODSWorkbook
	case strings.HasPrefix(string(media), "application/vnd.oasis.opendocument."):
		return Document
	}
	return Zip
}

// hasDirectory reports whether the record that ends a directory is there (the
// .ZIP File Format Specification, 4.3.16).
func hasDirectory(c Content) bool {
	size := c.Size()
	n := min(size, 65536+22)
	b := make([]byte, n)
	_, err := c.ReadAt(b, size-n)
	return (err == nil || err == io.EOF) && bytes.Contains(b, []byte("PK\x05\x06"))
}

// guessZip tells what an archive without a directory was, by the names in it.
func guessZip(c Content) Kind {
	b := make([]byte, min(c.Size(), headSize))
	_, _ = c.ReadAt(b, 0)
	switch {
	case bytes.Contains(b, []byte("[Content_Types].xml")), bytes.Contains(b, []byte("xl/")):
		return WorkbookXML
	case bytes.Contains(b, []byte("opendocument.spreadsheet")):
		return ODSWorkbook
	}
	return Zip
}

// members reads every member of an archive through.
func (f *File) members() {
	left := f.most
	for _, m := range f.zip.File {
		if m.Flags&1 != 0 {
			f.find(finding.PasswordProtected, "%s is encrypted", m.Name)
			return
		}
		n, err := f.member(m, left)
		if left -= n; left < 0 {
			f.found = append(f.found, expandsTooFar(f.most))
			return
		}
		if err != nil {
			f.find(finding.Damaged, "the part %s: %s", m.Name, err)
			return
		}
	}
}

// locked is in the list of an encrypted OpenDocument file's parts (part 2,
// section 4.8).
const locked = "encryption-data"

func (f *File) member(m *zip.File, most int64) (int64, error) {
	r, err := m.Open()
	if err != nil {
		return 0, err
	}
	defer r.Close()
	var into io.Writer = io.Discard
	var manifest bytes.Buffer
	if f.Kind == ODSWorkbook && m.Name == "META-INF/manifest.xml" && m.UncompressedSize64 < 1<<20 {
		into = &manifest
	}
	n, err := io.Copy(into, io.LimitReader(r, most+1))
	if bytes.Contains(manifest.Bytes(), []byte(locked)) {
		f.find(finding.PasswordProtected, "its parts are encrypted")
	}
	return n, err
}

// openCompound tells an old workbook from other documents, and sees that it is
// whole.
func (f *File) openCompound() {
	c, err := openCompound(f.content, f.content.Size())
	if err == nil {
		err = c.whole()
	}
	if c != nil && c.has("EncryptedPackage") {
		f.Kind = WorkbookXML
		if err == nil {
			f.find(finding.PasswordProtected, "its content is encrypted")
			return
		}
	}
	var book entry
	if c != nil {
		var is bool
		if book, is = c.find("Workbook"); !is {
			book, is = c.find("Book")
		}
		if is {
			f.Kind, f.old, f.book = OldWorkbook, c, book
		}
	}
	switch {
	case errors.Is(err, errCut):
		f.find(finding.CutShort, "sectors that it names are not in it")
		return
	case err != nil:
		f.find(finding.Damaged, "%s", err)
		return
	case f.Kind != OldWorkbook:
		return
	}
	if err := f.globals(c, book); err != nil {
		f.find(finding.Damaged, "its stream %s: %s", book.name, err)
	}
}

// globals reads the records that stand before an old workbook's sheets
// ([MS-XLS] 2.1.7.20.3), in which an encrypted one says that it is.
func (f *File) globals(c *compound, book entry) error {
	r, err := c.open(book)
	if err != nil {
		return err
	}
	const begin, end, password = 0x0809, 0x000a, 0x002f
	var head [4]byte
	for i := 0; ; i++ {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return fmt.Errorf("it ends before its first sheet")
		}
		record, length := binary.LittleEndian.Uint16(head[:]), binary.LittleEndian.Uint16(head[2:])
		switch {
		case i == 0 && record&0xff != begin&0xff:
			return fmt.Errorf("it does not begin as a workbook does")
		case record == password:
			f.find(finding.PasswordProtected, "its content is encrypted")
			return nil
		case record == end:
			return nil
		}
		if _, err := io.CopyN(io.Discard, r, int64(length)); err != nil {
			return fmt.Errorf("a record is cut")
		}
	}
}

// Book returns the sheets of a workbook that is read, or nil for other files.
func (f *File) Book() (Book, error) {
	switch {
	case f.Kind == WorkbookXML && f.zip != nil:
		return newWorkbook(f.zip)
	case f.Kind == ODSWorkbook && f.zip != nil:
		return newODS(f.zip)
	case f.Kind == OldWorkbook && f.old != nil:
		return newXLS(f.old, f.book)
	}
	return nil, nil
}

// LooksUTF8 reads a text through and reports whether it is UTF-8, with characters
// that other encodings would write otherwise. The file can be read all the same.
func (f *File) LooksUTF8() (bool, error) {
	var err error
	if f.content, err = f.spool(f.Reader); err != nil {
		return false, err
	}
	s := scanner{}
	buf := make([]byte, 64<<10)
	for r := f.fromStart(); ; {
		n, err := r.Read(buf)
		s.scan(buf[:n])
		if err == io.EOF {
			break
		}
		if err != nil {
			return false, err
		}
	}
	s.flush()
	f.Reader = f.fromStart()
	return s.wide > 0 && s.wrong < 0, nil
}

func (f *File) fromStart() io.Reader { return io.NewSectionReader(f.content, 0, f.content.Size()) }

// Records returns the rows of a JSON file, an array of objects or objects one
// after the other, or of an XML file: the elements of the given name, or those
// that are repeated.
func (f *File) Records(element string) (Rows, error) {
	var err error
	if f.content == nil {
		if f.content, err = f.spool(f.Reader); err != nil {
			return nil, err
		}
	}
	if f.Kind == XML {
		return newRecordRows(&xmlRecords{content: f.content, element: element})
	}
	return newRecordRows(&objects{content: f.content})
}

// Broken returns what was found on opening that makes the file unusable.
func (f *File) Broken() (finding.Finding, bool) { return finding.AnyBroken(f.found) }
