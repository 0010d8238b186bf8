package reading

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Kind is what a file holds, told by its content alone.
type Kind string

// The kinds. Of what is none of them, the file is Other.
const (
	Nothing     Kind = "empty"
	Text        Kind = "text"
	Wide        Kind = "utf16_text"
	WebPage     Kind = "web_page"
	JSON        Kind = "json"
	XML         Kind = "xml"
	WorkbookXML Kind = "workbook"      // Office Open XML (ECMA-376)
	ODSWorkbook Kind = "open_workbook" // OpenDocument (ISO/IEC 26300)
	OldWorkbook Kind = "old_workbook"  // BIFF in a compound file
	Document    Kind = "document"      // of an office program, and no workbook
	Zip         Kind = "zip"
	Gzip        Kind = "gzip"
	Parquet     Kind = "parquet"
	PDF         Kind = "pdf"
	Picture     Kind = "picture"
	Other       Kind = "other"
)

var kindNames = map[Kind]string{
	Nothing: "an empty file", Text: "text", Wide: "text in UTF-16", WebPage: "a web page", JSON: "JSON", XML: "XML",
	WorkbookXML: "an .xlsx workbook", ODSWorkbook: "an .ods workbook", OldWorkbook: "an .xls workbook", Document: "an office document",
	Zip: "a zip archive", Gzip: "gzip-compressed", Parquet: "a Parquet file", PDF: "a PDF document", Picture: "a picture",
	Other: "neither text nor a known kind of file",
}

// String names the kind in a sentence.
func (k Kind) String() string { return kindNames[k] }

// Table reports whether files of the kind can hold tables.
func (k Kind) Table() bool {
	return slices.Contains([]Kind{Text, Wide, JSON, XML, WorkbookXML, ODSWorkbook, OldWorkbook, Zip, Gzip, Parquet}, k)
}

// Workbook reports whether the kind is one of workbook.
func (k Kind) Workbook() bool { return k == WorkbookXML || k == ODSWorkbook || k == OldWorkbook }

// claims are the kinds that an extension stands for, the first the usual one.
var claims = map[string][]Kind{
	".csv": {Text, Wide}, ".tsv": {Text, Wide}, ".tab": {Text, Wide}, ".txt": {Text, Wide, JSON, XML},
	".json": {JSON, Text}, ".jsonl": {JSON, Text}, ".ndjson": {JSON, Text}, ".xml": {XML, Wide}, ".html": {WebPage, XML}, ".htm": {WebPage, XML},
	".xlsx": {WorkbookXML}, ".xlsm": {WorkbookXML}, ".xls": {OldWorkbook}, ".ods": {ODSWorkbook},
	".docx": {Document}, ".doc": {Document}, ".zip": {Zip}, ".gz": {Gzip}, ".parquet": {Parquet}, ".pdf": {PDF},
	".png": {Picture}, ".jpg": {Picture}, ".jpeg": {Picture}, ".gif": {Picture},
}

// Claim returns the kind that a file's name says it is, and whether content of
// a kind bears that out. A name that says nothing is always borne out.
func Claim(name string, k Kind) (claimed Kind, borneOut bool) {
	kinds := claims[strings.ToLower(path.Ext(name))]
	if len(kinds) == 0 || k == "" || k == Nothing {
		return "", true
	}
	return kinds[0], slices.Contains(kinds, k)
}

// kindOf tells the kind by the first bytes. Archives and compound files are
// told apart by what is in them, later.
func kindOf(head []byte) Kind {
	if len(head) == 0 {
		return Nothing
	}
	for _, mark := range []struct {
		bytes string
		kind  Kind
	}{
		{"PK\x03\x04", Zip}, {"PK\x05\x06", Zip}, {compoundMark, Document}, {"\x1f\x8b", Gzip}, {"PAR1", Parquet}, {"%PDF-", PDF},
		{"\x89PNG\r\n\x1a\n", Picture}, {"\xff\xd8\xff", Picture}, {"GIF8", Picture}, {"\xff\xfe", Wide}, {"\xfe\xff", Wide},
	} {
		if bytes.HasPrefix(head, []byte(mark.bytes)) {
			return mark.kind
		}
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	lower := bytes.ToLower(text[:min(len(text), 64)])
	switch {
	case bytes.HasPrefix(lower, []byte("<!doctype html")), bytes.HasPrefix(lower, []byte("<html")):
		return WebPage
	case bytes.HasPrefix(lower, []byte("<?xml")):
		if bytes.Contains(bytes.ToLower(text[:min(len(text), 1024)]), []byte("<html")) {
			return WebPage
		}
		return XML
	case opensElement.Match(text):
		if pageElement.Match(lower) {
			return WebPage
		}
		return XML
	case opensJSON(text):
		return JSON
	case !mostlyText(head):
		return Other
	}
	return Text
}

// opensElement is how XML without a declaration begins, pageElement a web page
// that is cut down to what it shows.
var (
	opensElement = regexp.MustCompile(`^<[\pL_][\pL\pN_.:-]*(\s[^<>]*)?/?>\s*<|^<[\pL_][\pL\pN_.:-]*(\s[^<>]*)?>[^<]*</`)
	pageElement  = regexp.MustCompile(`^<(table|div|body|head|meta|style|script|p|center|font)[\s>]`)
)

// opensJSON reports whether text begins as an object, or an array of objects,
// does.
func opensJSON(text []byte) bool {
	rest, array := bytes.CutPrefix(text, []byte("["))
	rest = bytes.TrimLeft(rest, " \t\r\n")
	object, is := bytes.CutPrefix(rest, []byte("{"))
	object = bytes.TrimLeft(object, " \t\r\n")
	return is && (bytes.HasPrefix(object, []byte(`"`)) || bytes.HasPrefix(object, []byte("}"))) ||
		array && bytes.HasPrefix(rest, []byte("]"))
}

// mostlyText reports whether bytes are those of a text, in whatever encoding a
// byte stands for a character or a part of one.
func mostlyText(head []byte) bool {
	control := 0
	for _, c := range head {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1a || c == 0x7f {
			control++
		}
	}
	high := 0
	for i := 0; i < len(head); {
		r, size := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && size == 1 {
			high++
		}
		i += size
	}
	return control <= 2 || control*20 <= len(head) && (control*50 <= len(head) || high*10 <= len(head))
}
