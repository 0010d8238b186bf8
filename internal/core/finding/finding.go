// Package finding holds the catalogue of what can be wrong or notable in a
// file. It only describes; reading and shaping make the findings.
package finding

import (
	"fmt"
	"strings"
)

// Grade says how much a finding weighs.
type Grade string

// The grades, the heaviest first.
const (
	Broken  Grade = "broken"  // the file cannot be used
	Warning Grade = "warning" // it can be used, and something is likely wrong
	Note    Grade = "note"    // worth knowing
)

// Code names a kind of finding. Codes are stable; programs may rely on them.
type Code string

// The catalogue.
const (
	Empty             Code = "empty"
	Vanished          Code = "vanished"
	NoPermission      Code = "no_permission"
	OpenElsewhere     Code = "open_elsewhere"
	Unreadable        Code = "unreadable"
	Moving            Code = "moving"
	CutShort          Code = "cut_short"
	Damaged           Code = "damaged"
	WrongContent      Code = "wrong_content"
	OtherFormat       Code = "other_format"
	NotATable         Code = "not_a_table"
	ExpandsTooFar     Code = "expands_too_far"
	NULBytes          Code = "nul_bytes"
	MixedEncodings    Code = "mixed_encodings"
	PasswordProtected Code = "password_protected"
	SheetAbsent       Code = "sheet_absent"
	OtherEncoding     Code = "other_encoding"
	NotUTF8           Code = "not_utf8"
	UnclosedQuote     Code = "unclosed_quote"
	RowTooLong        Code = "row_too_long"
	UnevenRows        Code = "uneven_rows"
	NoHeader          Code = "no_header"
	ColumnAbsent      Code = "column_absent"
	ColumnMissing     Code = "column_missing"
	HeaderRespelt     Code = "header_respelt"
	HeaderTwice       Code = "header_twice"
	ExtraColumns      Code = "extra_columns"
	HeaderRepeated    Code = "header_repeated"
	SeveralSheets     Code = "several_sheets"
	HiddenSheet       Code = "hidden_sheet"
	HiddenRows        Code = "hidden_rows"
	ErrorValues       Code = "error_values"
	NoRows            Code = "no_rows"
	NotWhole          Code = "not_whole"
	NotDecimal        Code = "not_decimal"
	NotDate           Code = "not_date"
	NotTime           Code = "not_time"
	NotTimestamp      Code = "not_timestamp"
	NotYesNo          Code = "not_yes_no"
	NotText           Code = "not_text"
	AmbiguousDates    Code = "ambiguous_dates"
	NotCut            Code = "not_cut"
	NotInLookup       Code = "not_in_lookup"
	NotComputed       Code = "not_computed"
	OutOfBounds       Code = "out_of_bounds"
	KeyBlank          Code = "key_blank"
	KeyDoubled        Code = "key_doubled"
	ColumnBlank       Code = "column_blank"
	MergedCells       Code = "merged_cells"
	BeyondLimit       Code = "beyond_limit"
	EncodingJudged    Code = "encoding_judged"

	// About a file beside others, or the time.
	FutureTime      Code = "future_time"
	OlderThanBefore Code = "older_than_before"
	OtherDelimiter  Code = "other_delimiter"
	OtherOrder      Code = "other_order"
	UnusualAmount   Code = "unusual_amount"

	// About the set of files.
	NothingPicked  Code = "nothing_picked"
	RuleMeetsNone  Code = "rule_meets_none"
	ListedMissing  Code = "listed_missing"
	ListUnreadable Code = "list_unreadable"
	SameContent    Code = "same_content"
	SlotMissing    Code = "slot_missing"
	SlotDoubled    Code = "slot_doubled"
	SlotLate       Code = "slot_late"
	UnchangedLong  Code = "unchanged_long"
	NotCovered     Code = "not_covered"
)

// Kind describes one code of the catalogue.
type Kind struct {
	Grade   Grade
	Title   string
	Suggest string
}

var catalogue = map[Code]Kind{
	Empty:             {Broken, "the file is empty", "ask the sender for the file again"},
	Vanished:          {Broken, "the file was gone when it was to be read", "look again"},
	NoPermission:      {Broken, "the service may not read the file", "give the service's user the right to read it"},
	OpenElsewhere:     {Broken, "the file is open elsewhere and locked", "ask whoever has it open to close it; it is read again at the next refresh"},
	Unreadable:        {Broken, "reading the file failed", "check the disk or share it lies on"},
	Moving:            {Broken, "the file kept changing while it was read", "wait until it is written whole, then refresh again"},
	CutShort:          {Broken, "the file is cut short", "ask the sender for the file again"},
	Damaged:           {Broken, "the file is damaged", "ask the sender for the file again"},
	WrongContent:      {Broken, "the content is not what the name says", "ask the sender for the file again"},
	OtherFormat:       {Warning, "the content has another format than the name says", "name the file for what it holds, or check with the sender"},
	NotATable:         {Broken, "the content is no table that can be read", "ask the sender for the data as delimited text"},
	ExpandsTooFar:     {Broken, "the compressed file expands too far", "check where the file comes from"},
	NULBytes:          {Broken, "the text has NUL bytes", "ask the sender for the file again; a disk or a transfer may have failed"},
	MixedEncodings:    {Warning, "the text is in more than one encoding", "ask the sender to save the file in one"},
	PasswordProtected: {Broken, "the file is password-protected", "ask the sender for the file without a password"},
	FutureTime:        {Warning, "the file was modified in the future", "check the clock of the machine it was written on"},
	OlderThanBefore:   {Warning, "the file is older than the one that it replaced", "check with the sender that it is the right one"},
	OtherDelimiter:    {Warning, "the cells are apart by another delimiter than in the other files", "check the columns' values"},
	UnusualAmount:     {Warning, "the file holds far more or less than usual", "check with the sender; what is delivered once counts as usual"},
	SlotLate:          {Note, "expected files came late", "nothing needs to be done"},
	UnchangedLong:     {Warning, "nothing new came for longer than expected", "ask the sender"},
	SheetAbsent:       {Broken, "the wanted sheet is not in the workbook", "name the sheet in the definition as it is called, or ask the sender for it"},
	OtherEncoding:     {Warning, "the text is in another encoding than declared", "ask the sender to save the file like the others"},
	NotUTF8:           {Broken, "the text is not UTF-8", "save the file as UTF-8, or declare its encoding, as in read: {encoding: windows-1252}"},
	UnclosedQuote:     {Broken, "a quote is never closed", "close or remove the quote in the file"},
	RowTooLong:        {Broken, "a row is longer than the limit", "check that the file has line ends and closed quotes"},
	UnevenRows:        {Warning, "rows have more or fewer cells than the header", "check the rows named"},
	NoHeader:          {Broken, "no row holds the declared headers", "check the file, or the headers in the definition"},
	ColumnMissing:     {Broken, "a required column is not in the header", "add the header to those the column accepts, or mend the file"},
	ColumnAbsent:      {Warning, "a declared column is not in the header; it comes back blank", "add the header to those the column accepts, or mend the file"},
	HeaderRespelt:     {Note, "a header differs in letter case, spaces or accents and was taken", "nothing needs to be done"},
	HeaderTwice:       {Broken, "two headers fit one column", "say in the definition which one the column accepts"},
	ExtraColumns:      {Note, "the file has columns that are not declared; they are dropped", "declare those you want"},
	HeaderRepeated:    {Note, "the header is repeated inside the data", "nothing needs to be done"},
	SeveralSheets:     {Note, "several sheets have the required columns", "name the sheet in the definition"},
	HiddenSheet:       {Note, "the sheet is hidden", "check that it is the right one, or name the sheet in the definition"},
	HiddenRows:        {Note, "rows are hidden", "check whether they belong"},
	ErrorValues:       {Warning, "cells with an error or without a stored value come back blank", "mend the formulas, and save the workbook in a program that computes them"},
	NoRows:            {Warning, "the file has a header and no rows", "check with the sender"},
	NotWhole:          {Warning, "values that are no whole numbers come back blank", "mend the values, or make the column decimal or text"},
	NotDecimal:        {Warning, "values that are no numbers come back blank", "mend the values, or make the column text"},
	NothingPicked:     {Warning, "no file is picked", "check the folder and the patterns"},
	RuleMeetsNone:     {Warning, "a rule meets no file", "check how it is written, or switch it off"},
	ListedMissing:     {Warning, "a listed file is not there", "ask for the file, or take it off the list"},
	ListUnreadable:    {Broken, "the list of files cannot be read", "mend the list"},
	SlotMissing:       {Warning, "expected files are missing", "ask for them, or excuse them"},
	SlotDoubled:       {Warning, "expected files are there twice", "see which of them belongs"},
	NotCovered:        {Warning, "what is expected cannot be told", "mend expect in the definition"},
	SameContent:       {Warning, "the file has the same content as another", "see which of the two belongs, or set same_content: leave_out"},
	NotTime:           {Warning, "values that are no times of the day come back blank", "mend the values, or make the column text"},
	NotTimestamp:      {Warning, "values that are no dates with a time come back blank", "mend the values, or make the column text"},
	NotYesNo:          {Warning, "values that are neither yes nor no come back blank", "mend the values, or make the column text"},
	NotText:           {Warning, "values with characters that no text may hold come back blank", "ask the sender to mend them"},
	AmbiguousDates:    {Warning, "dates fit more than one of the declared forms; the first that fits is taken", "declare one form: read: {dates: …}"},
	NotCut:            {Warning, "values without the part that is wanted come back blank", "mend the values, or how the column is cut"},
	NotInLookup:       {Warning, "values that the lookup does not have come back blank", "add them to the lookup, or mend them"},
	NotComputed:       {Warning, "values that would be divided by zero come back blank", "mend the values"},
	OutOfBounds:       {Warning, "values lie outside the declared bounds; they are kept", "mend the values, or the bounds"},
	KeyBlank:          {Warning, "rows lack a value of the key", "mend the rows"},
	KeyDoubled:        {Warning, "rows have the same key", "see which of them belongs"},
	ColumnBlank:       {Note, "a column has its header and no value", "check with the sender"},
	MergedCells:       {Warning, "cells are merged among the rows; all but the first come back blank", "have the column carry down, or ask the sender to unmerge them"},
	BeyondLimit:       {Broken, "the file is larger than allowed", "check that it is the right file, or raise the limit in the definition"},
	EncodingJudged:    {Note, "the text is not UTF-8, and no encoding is declared", "check that letters come out right, and declare it: read: {encoding: …}"},
	OtherOrder:        {Note, "the columns stand in another order than in the other files", "nothing needs to be done"},
	NotDate:           {Warning, "values that are no dates come back blank", "mend the values, declare their form with read: {dates: …}, or make the column text"},
}

// Describe returns what the catalogue says of a code.
func Describe(c Code) (Kind, bool) {
	k, ok := catalogue[c]
	return k, ok
}

// Codes returns every code of the catalogue, in no order.
func Codes() []Code {
	codes := make([]Code, 0, len(catalogue))
	for c := range catalogue {
		codes = append(codes, c)
	}
	return codes
}

// Finding is one thing found in one file.
type Finding struct {
	Code     Code   `json:"code"`
	Grade    Grade  `json:"grade"`
	Sentence string `json:"sentence"` // what was found, with the evidence
	Suggest  string `json:"suggest"`
	Column   string `json:"column,omitempty"`
	Row      int64  `json:"row,omitempty"`   // the first row meant, counted from 1
	Count    int64  `json:"count,omitempty"` // how often it occurs
}

// New makes a finding of a code; evidence, put after the catalogue's title,
// may be empty.
func New(c Code, evidence string, args ...any) Finding {
	kind, ok := catalogue[c]
	if !ok {
		panic("finding: no such code: " + string(c))
	}
	sentence := kind.Title
	if evidence != "" {
		sentence += ": " + fmt.Sprintf(evidence, args...)
	}
	return Finding{Code: c, Grade: kind.Grade, Sentence: sentence, Suggest: kind.Suggest}
}

// Error makes a finding usable as the error that ended the reading of a file.
func (f Finding) Error() string { return f.Sentence }

// AnyBroken returns the first finding that makes a file unusable.
func AnyBroken(findings []Finding) (Finding, bool) {
	for _, f := range findings {
		if f.Grade == Broken {
			return f, true
		}
	}
	return Finding{}, false
}

// Samples joins a few values for a sentence, each in quotes.
func Samples(values []string) string {
	quoted := make([]string, len(values))
	for i, v := range values {
		quoted[i] = fmt.Sprintf("%q", v)
	}
	return strings.Join(quoted, ", ")
}
