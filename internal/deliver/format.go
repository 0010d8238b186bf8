package deliver

import (
	"bytes"
	"fmt"
	"io"

	"jorvex/internal/core/definition"
)

// Write writes a table in the format of a file delivery.
func Write(w io.Writer, d definition.Delivery, c Combined) error {
	switch d.Format {
	case definition.Delimited:
		if d.Plain() {
			return writePlain(w, c)
		}
		return writeDelimited(w, style{d}, c)
	case definition.JSONLines:
		return writeJSONLines(w, c)
	case definition.XML:
		return writeXML(w, c)
	case definition.Parquet:
		return writeParquet(w, c)
	case definition.Workbook:
		return writeWorkbook(w, d, c)
	case definition.FileList:
		return writeFileList(w, c)
	}
	return fmt.Errorf("no format %q is known", d.Format)
}

// MediaTypes are the media types of the formats, and the endings of their names.
var MediaTypes = map[definition.Format][2]string{
	definition.Delimited: {"text/csv; charset=utf-8; header=present", ".csv"},
	definition.JSONLines: {"application/jsonl", ".jsonl"},
	definition.XML:       {"application/xml", ".xml"},
	definition.Parquet:   {"application/vnd.apache.parquet", ".parquet"},
	definition.Workbook:  {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", ".xlsx"},
}

// style is how a delivery writes values.
type style struct{ definition.Delivery }

// text is a value as delimited text has it.
func (s style) text(of definition.Type, v []byte) []byte {
	switch {
	case s.Comma && of.Number():
		return bytes.Replace(v, []byte{'.'}, []byte{','}, 1)
	case s.Safe && of == definition.Text && len(v) > 0 && bytes.IndexByte([]byte("=+-@\t\r"), v[0]) >= 0:
		return append([]byte{'\''}, v...)
	}
	return v
}
