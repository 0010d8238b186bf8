package reading

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"jorvex/internal/core/finding"
)

// objects reads an array of JSON objects, or objects one after the other (RFC
// 8259, and a line each), as records. The keys of objects in objects are joined
// with a point; arrays stay as they are.
type objects struct {
	content Content
	decoder *json.Decoder
	count   int64
	array   bool
}

const mostLevel = 100

func (o *objects) begin() error {
	var r io.Reader = io.NewSectionReader(o.content, 0, o.content.Size())
	head := make([]byte, 3)
	if n, _ := io.ReadFull(r, head); !bytes.Equal(head[:n], []byte("\xef\xbb\xbf")) {
		r = io.MultiReader(bytes.NewReader(head[:n]), r)
	}
	bounded := &utf8Only{r: r}
	o.decoder = json.NewDecoder(bounded)
	bounded.taken = o.decoder.InputOffset
	o.decoder.UseNumber()
	o.array, o.count = false, 0
	return nil
}

// utf8Only passes on text in UTF-8, and no other: JSON has no other encoding. It
// ends where a value is longer than one may be.
type utf8Only struct {
	r       io.Reader
	scanner scanner
	taken   func() int64 // how much of it was read to the end of a value
	passed  int64
}

func (u *utf8Only) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	u.scanner.scan(p[:n])
	if u.passed += int64(n); u.passed-u.taken() > mostToken {
		return 0, finding.New(finding.BeyondLimit, "a value is longer than %d MiB", mostToken>>20)
	}
	if err == io.EOF {
		u.scanner.flush()
	}
	if u.scanner.wrong >= 0 {
		return 0, finding.New(finding.NotUTF8, "the byte at offset %d begins no character; JSON is UTF-8 alone", u.scanner.wrong)
	}
	return n, err
}

// record implements source.
func (o *objects) record(each func(key string, c Cell) error) error {
	token, err := o.token()
	if err != nil {
		return err
	}
	if token == json.Delim('[') && !o.array && o.count == 0 {
		o.array = true
		if token, err = o.token(); err != nil {
			return err
		}
	}
	if token == json.Delim(']') && o.array {
		if _, err := o.decoder.Token(); err != io.EOF {
			return finding.New(finding.NotATable, "there is more behind the end of its array")
		}
		return io.EOF
	}
	if token != json.Delim('{') {
		return finding.New(finding.NotATable, "it holds %v where an object should stand", token)
	}
	o.count++
	return o.pairs("", 1, each)
}

// token reads a token; faults of the text are findings.
func (o *objects) token() (json.Token, error) {
	token, err := o.decoder.Token()
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &syntax):
		return nil, finding.New(finding.Damaged, "its JSON: %s at offset %d", syntax, syntax.Offset)
	case err == io.EOF && o.array:
		return nil, finding.New(finding.CutShort, "its array is not closed")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, finding.New(finding.CutShort, "the last object is not closed")
	}
	return token, err
}

func (o *objects) inside() (json.Token, error) {
	token, err := o.token()
	if err == io.EOF {
		err = finding.New(finding.CutShort, "the last object is not closed")
	}
	return token, err
}

func (o *objects) pairs(prefix string, level int, each func(key string, c Cell) error) error {
	if level > mostLevel {
		return finding.New(finding.NotATable, "its objects lie more than %d deep", mostLevel)
	}
	for {
		token, err := o.inside()
		if err != nil {
			return err
		}
		if token == json.Delim('}') {
			return nil
		}
		key, is := token.(string)
		if !is {
			return finding.New(finding.Damaged, "its JSON: %v where a key should stand", token)
		}
		if err := o.value(prefix+key, level, each); err != nil {
			return err
		}
	}
}

func (o *objects) value(key string, level int, each func(key string, c Cell) error) error {
	token, err := o.inside()
	if err != nil {
		return err
	}
	switch v := token.(type) {
	case json.Delim:
		if v == '{' {
			return o.pairs(key+".", level+1, each)
		}
		text, err := o.list(level + 1)
		if err != nil {
			return err
		}
		return each(key, Cell{Text: text})
	case json.Number:
		text := []byte(v) // exact, however long
		if bytes.ContainsAny(text, "eE") {
			text = number(nil, text)
		}
		return each(key, Cell{Text: text, Kind: Number})
	case bool:
		return each(key, Cell{Text: fmt.Append(nil, v), Kind: Logical})
	case string:
		return each(key, Cell{Text: []byte(v)})
	}
	return each(key, Cell{})
}

// list reads an array to its end, and returns it as JSON.
func (o *objects) list(level int) ([]byte, error) {
	text := []byte{'['}
	for depth := 1; depth > 0; {
		token, err := o.inside()
		if err != nil {
			return nil, err
		}
		switch v := token.(type) {
		case json.Delim:
			if v == '[' || v == '{' {
				if depth++; depth+level > mostLevel {
					return nil, finding.New(finding.NotATable, "its arrays lie more than %d deep", mostLevel)
				}
				text = comma(text)
			} else {
				depth--
			}
			text = append(text, byte(v))
		default:
			encoded, err := json.Marshal(v)
			if err != nil {
				return nil, err
			}
			text = append(comma(text), encoded...)
		}
	}
	return text, nil
}

// comma puts a comma where one value follows another. Keys and values of objects
// in arrays are told in pairs, as they come.
func comma(text []byte) []byte {
	if last := text[len(text)-1]; last != '[' && last != '{' {
		return append(text, ',')
	}
	return text
}
