package definition

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"

	"jorvex/internal/core/pathpattern"
)

// Format is how a delivered file is written.
type Format string

// The formats.
const (
	Delimited Format = "delimited"
	Workbook  Format = "workbook"
	JSONLines Format = "json_lines"
	XML       Format = "xml"
	Parquet   Format = "parquet"
	FileList  Format = "file_list" // the paths of the files that fed, a line each
)

// Formats are the formats, and the endings of names that say them.
var formats = []struct {
	format  Format
	endings []string
}{
	{Delimited, []string{".csv", ".txt", ".tsv"}},
	{Workbook, []string{".xlsx"}},
	{JSONLines, []string{".jsonl", ".ndjson"}},
	{XML, []string{".xml"}},
	{Parquet, []string{".parquet"}},
	{FileList, nil},
}

// FormatOf returns the format that the ending of a name says, or none.
func FormatOf(name string) Format {
	for _, f := range formats {
		if slices.Contains(f.endings, strings.ToLower(path.Ext(name))) {
			return f.format
		}
	}
	return ""
}

// Sheets says what goes on which sheet of a workbook.
type Sheets string

// The ways to lay a workbook out.
const (
	OneSheet     Sheets = "one"
	SheetPerFile Sheets = "per_file"
	AsListed     Sheets = "listed" // where the hand-made list says
)

// Load says how a delivered table takes what changed.
type Load string

// The ways to load a table.
const (
	LoadAll     Load = "all"
	LoadChanged Load = "changed" // only the rows of files that changed
)

// Delivery is one thing a refresh writes: a file, a folder of the files that fed,
// or a table.
type Delivery struct {
	File   string // path below the delivery folder
	Folder string // the same, of a folder
	Table  string // table in the schema "delivered"
	// Template is the name as written, with its parameters.
	Template string

	Format    Format
	Encoding  encoding.Encoding // of delimited text; nil for UTF-8
	Delimiter byte              // 0 for a comma
	Comma     bool              // the decimal mark
	Safe      bool              // texts that a spreadsheet would run as formulas are neutralised

	Sheets   Sheets
	Sheet    string   // that the rows go to
	Start    [2]int   // column and row of the header, counted from 1
	Workbook string   // the analyst's own, from the place's root, that the rows are put into
	With     []string // further sheets: files, summaries

	Load Load

	// Into is a ready-made table, SCHEMA.TABLE, in the service's own database or
	// behind a connection.
	Into       string
	Connection string
	Columns    map[string]string // of the table, to those of the input; all by their names if empty
	TakeOver   bool              // its rows are replaced, whoever put them there
}

// Name returns the delivery's path or table.
func (d Delivery) Name() string {
	if d.Connection != "" {
		return d.Connection + ":" + d.Into
	}
	return d.File + d.Folder + d.Table + d.Into
}

// Kind returns "file", "folder", "table" or, for a ready-made one, "into".
func (d Delivery) Kind() string {
	switch {
	case d.Into != "":
		return "into"
	case d.Table != "":
		return "table"
	case d.Folder != "":
		return "folder"
	}
	return "file"
}

// Plain reports whether the file is delimited text as the parts are: by RFC 4180,
// in UTF-8.
func (d Delivery) Plain() bool {
	return d.Format == Delimited && d.Encoding == nil && d.Delimiter == 0 && !d.Comma && !d.Safe
}

// keysFor are the keys that only make sense for some deliveries.
var keysFor = map[string][]Format{
	"encoding": {Delimited}, "delimiter": {Delimited}, "decimal": {Delimited}, "formulas": {Delimited},
	"sheets": {Workbook}, "sheet": {Workbook}, "start": {Workbook}, "template": {Workbook}, "with": {Workbook},
}

var readyName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,62}\.[A-Za-z_][A-Za-z0-9_]{0,62}$`)

var cellName = regexp.MustCompile(`^([A-Za-z]{1,3})([1-9][0-9]{0,6})$`)

func (r *reader) deliver(n *yaml.Node, def *Definition) {
	taken := map[string]bool{}
	for _, entry := range r.list(n, "deliver") {
		d := Delivery{Start: [2]int{1, 1}}
		seen := r.mapping(entry, "a delivery", func(key string, v *yaml.Node) { r.deliveryKey(&d, key, v) })
		targets := 0
		for _, key := range []string{"file", "folder", "table", "into"} {
			if seen[key] != nil {
				targets++
			}
		}
		if targets == 0 && r.nameAfter(def.Input, seen, &d) {
			targets = 1
		}
		if targets != 1 {
			r.problem(entry, "a delivery is a file, a folder, a table, or goes into a ready-made one")
			continue
		}
		r.delivery(entry, seen, &d)
		if taken[d.Kind()+strings.ToLower(d.Name())] {
			r.problem(entry, "the delivery %q stands twice", d.Name())
		}
		taken[d.Kind()+strings.ToLower(d.Name())] = true
		def.Delivery = append(def.Delivery, d)
	}
	rows := slices.ContainsFunc(def.Delivery, func(d Delivery) bool { return d.Folder == "" && d.Format != FileList })
	if rows && len(def.Columns) == 0 {
		r.problem(n, "a table can be delivered only with columns; declare columns")
	}
}

func (r *reader) deliveryKey(d *Delivery, key string, v *yaml.Node) {
	switch key {
	case "file", "folder", "table", "into":
		r.deliveryName(d, key, v)
	case "as":
		var names []string
		for _, f := range formats {
			names = append(names, string(f.format))
		}
		d.Format = Format(r.oneOf(v, "as", names...))
	case "encoding":
		name := r.text(v, "encoding")
		e, err := htmlindex.Get(name)
		if err != nil {
			r.problem(v, "%q is no encoding; write utf-8, windows-1252, iso-8859-1 or another name of the Encoding Standard", name)
		} else if canonical, _ := htmlindex.Name(e); canonical != "utf-8" {
			d.Encoding = e
		}
	case "delimiter":
		if d.Delimiter = r.delimiter(v); d.Delimiter == ',' {
			d.Delimiter = 0
		}
	case "decimal":
		d.Comma = r.oneOf(v, "decimal", "point", "comma") == "comma"
	case "formulas":
		d.Safe = r.oneOf(v, "formulas", "keep", "neutralise") == "neutralise"
	case "sheets":
		d.Sheets = Sheets(r.oneOf(v, "sheets", string(OneSheet), string(SheetPerFile), string(AsListed)))
	case "sheet":
		if d.Sheet = r.text(v, "sheet"); !SheetName(d.Sheet) && d.Sheet != "" {
			r.problem(v, `%q cannot name a sheet; it has at most 31 characters and none of : \ / ? * [ ]`, d.Sheet)
		}
	case "start":
		m := cellName.FindStringSubmatch(r.text(v, "start"))
		if m == nil {
			r.problem(v, "start is a cell, as in B5")
			return
		}
		d.Start[0] = 0
		for _, c := range strings.ToUpper(m[1]) {
			d.Start[0] = d.Start[0]*26 + int(c-'A') + 1
		}
		d.Start[1], _ = strconv.Atoi(m[2])
		if d.Start[0] > 16_384 || d.Start[1] > 1_048_576 {
			r.problem(v, "no sheet has a cell %s", v.Value)
		}
	case "template":
		d.Workbook = r.path(v, "template", false)
	case "with":
		for _, w := range r.list(v, "with") {
			d.With = append(d.With, r.oneOf(w, "with", "files", "summaries"))
		}
	case "connection":
		if d.Connection = r.text(v, "connection"); !inputName.MatchString(d.Connection) && d.Connection != "" {
			r.problem(v, "%q cannot name a connection; use small letters, digits and single dashes", d.Connection)
		}
	case "columns":
		d.Columns = map[string]string{}
		r.pairs(v, "columns", func(theirs, ours string) { d.Columns[theirs] = r.declared(v, ours).Name })
	case "take_over":
		r.yesNo(v, "take_over", &d.TakeOver)
	case "load":
		d.Load = Load(r.oneOf(v, "load", string(LoadAll), string(LoadChanged)))
	}
}

func (r *reader) deliveryName(d *Delivery, key string, v *yaml.Node) {
	d.Template = r.text(v, key)
	name, err := pathpattern.Expand(d.Template, r.value)
	if err != nil {
		r.problem(v, "%s", err)
		return
	}
	switch key {
	case "into":
		if d.Into = name; !readyName.MatchString(name) && name != "" {
			r.problem(v, "%q names no table; write its schema and name, as in reporting.loadings", name)
		}
		return
	case "file":
		d.File = name
	case "folder":
		d.Folder = strings.TrimSuffix(name, "/")
	case "table":
		if d.Table = name; d.Template != name {
			d.Table = tableOf(name)
		}
		if d.Table != "" && !tableName.MatchString(d.Table) {
			r.problem(v, "%q cannot name a table; use small letters, digits and _, a letter first, 63 at most", d.Table)
		}
		return
	}
	if !localPath(d.Name()) && d.Name() != "" {
		r.problem(v, "the delivery %q leaves the delivery folder; name it straight, as in weekly/loadings.csv", d.Name())
	}
}

// nameAfter names a delivery after its input if it says what it is and no name, so
// that it follows when the input is renamed.
func (r *reader) nameAfter(input string, seen map[string]*yaml.Node, d *Delivery) bool {
	switch {
	case seen["as"] != nil && d.Format != "":
		ending := ".txt"
		for _, f := range formats {
			if f.format == d.Format && len(f.endings) > 0 {
				ending = f.endings[0]
			}
		}
		d.File, d.Template = input+ending, input+ending
	case seen["load"] != nil && tableName.MatchString(tableOf(input)):
		d.Table = tableOf(input)
		d.Template = d.Table
	}
	return d.Template != ""
}

// delivery checks what a delivery says against what it is.
func (r *reader) delivery(entry *yaml.Node, seen map[string]*yaml.Node, d *Delivery) {
	if d.File != "" && seen["as"] == nil {
		if d.Format = FormatOf(d.File); d.Format == "" {
			r.problem(entry, "the ending of %q says no format; say as: delimited, workbook, json_lines, xml, parquet or file_list", d.File)
			return
		}
	}
	if d.File == "" && seen["as"] != nil {
		r.problem(seen["as"], "only a file has a format")
	}
	if d.Format == Delimited && seen["delimiter"] == nil && strings.EqualFold(path.Ext(d.File), ".tsv") {
		d.Delimiter = '\t'
	}
	for key, only := range keysFor {
		if seen[key] != nil && !slices.Contains(only, d.Format) {
			r.problem(seen[key], "%s is of a %s delivery", key, only[0])
		}
	}
	for _, key := range []string{"connection", "columns", "take_over"} {
		if seen[key] != nil && d.Into == "" {
			r.problem(seen[key], "%s is of a ready-made table (into)", key)
		}
	}
	if seen["load"] != nil && d.Table == "" {
		r.problem(seen["load"], "only a table is loaded")
	}
	if d.Comma && d.Delimiter == 0 {
		r.problem(seen["decimal"], "a comma cannot be the decimal mark and the delimiter too; say delimiter: semicolon")
	}
	if d.Format != Workbook {
		return
	}
	if d.Sheets == "" {
		d.Sheets = OneSheet
	}
	if d.Sheets != OneSheet {
		for _, key := range []string{"sheet", "start"} {
			if seen[key] != nil {
				r.problem(seen[key], "%s is of a workbook with sheets: one", key)
			}
		}
	}
	if d.Sheets == AsListed && r.def.Files == nil && r.def.List == nil {
		r.problem(seen["sheets"], "no list says which sheet a file goes to; pick the files by hand (files or list) for sheets: listed")
	}
	if seen["with"] == nil && d.Workbook == "" && d.Sheets == OneSheet {
		d.With = []string{"files", "summaries"}
	}
	if d.Sheet == "" {
		d.Sheet = "Rows"
	}
}

// SheetName reports whether a sheet can have the name.
func SheetName(name string) bool {
	return name != "" && len([]rune(name)) <= 31 && !strings.ContainsAny(name, `:\/?*[]`) && !strings.HasPrefix(name, "'") && !strings.HasSuffix(name, "'")
}
