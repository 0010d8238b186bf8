package reading

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
)

// tokens writes a document as <NAME ATTRIBUTES> for a start, </NAME> for an end
// and "TEXT" for text.
func tokens(r io.Reader) (string, error) {
	e := newElements(r)
	var b strings.Builder
	for {
		err := e.next()
		if err == io.EOF {
			return b.String(), nil
		}
		if err != nil {
			return b.String(), err
		}
		switch e.kind {
		case startElement:
			fmt.Fprintf(&b, "<%s%s>", e.name, e.attrs)
		case endElement:
			fmt.Fprintf(&b, "</%s>", e.name)
		case charData:
			fmt.Fprintf(&b, "%q", e.text)
		}
	}
}

func TestElements(t *testing.T) {
	for text, want := range map[string]string{
		"<a/>":            "<a></a>",
		"\ufeff<a></a>\n": "<a></a>",
		"<?xml version='1.0'?><!-- x > --><a>1</a>":         `<a>"1"</a>`,
		`<x:a y:b="1" c='>'>t</x:a>`:                        `<a y:b="1" c='>'>"t"</a>`,
		"<a>1 &lt; 2 &amp;&#65;&#x42; &quot;&apos;&gt;</a>": `<a>"1 < 2 &AB \"'>"</a>`,
		"<a><![CDATA[<b>&amp;]]></a>":                       `<a>"<b>&amp;"</a>`,
		"<a>x<!-- no -->y</a>":                              `<a>"x""y"</a>`,
		`<?xml version="1.0" encoding="UTF-8"?><a/>`:        "<a></a>",
	} {
		for _, r := range []io.Reader{strings.NewReader(text), iotest.OneByteReader(strings.NewReader(text))} {
			got, err := tokens(r)
			require.NoError(t, err, text)
			assert.Equal(t, want, got, text)
		}
	}
	for text, says := range map[string]string{
		"<a>":                 "ends too early",
		"<a><b></a>":          "ends too early",
		"</a>":                "ends that did not begin",
		"<a></a></b>":         "ends that did not begin",
		"<a b='":              "ends too early",
		"< a/>":               "has no name",
		"<a>&none;</a>":       `the entity "none"`,
		"<a>&#xFFFFFFFF;</a>": "the entity",
		"<a>& </a>":           "not closed",
		"<!DOCTYPE a [<!ENTITY x 'y'>]><a>&x;</a>":       "document type",
		"<a><!ENTITY x SYSTEM 'file:///etc/passwd'></a>": "document type",
		"<?xml version='1.0' encoding='UTF-16'?><a/>":    "none of UTF-8",
		"<a><!-- never":                    "ends too early",
		strings.Repeat("<a>", mostDepth+1): "deep",
	} {
		for _, r := range []io.Reader{strings.NewReader(text), iotest.OneByteReader(strings.NewReader(text))} {
			_, err := tokens(r)
			var f finding.Finding
			require.ErrorAs(t, err, &f, text)
			assert.Contains(t, f.Sentence, says, text)
		}
	}
}

// Texts and tags longer than what is read at a time come whole; what fails in
// the reader is its own error.
func TestLongElements(t *testing.T) {
	long := strings.Repeat("ø", 200_000)
	got, err := tokens(strings.NewReader("<a b='" + long + "'>" + long + "</a>"))
	require.NoError(t, err)
	assert.Equal(t, "<a b='"+long+"'>\""+long+"\"</a>", got)
	full := errors.New("stale file handle")
	for _, start := range []string{"", "<a>x", "<a b='", "<a><!-- "} {
		_, err := tokens(io.MultiReader(strings.NewReader(start), iotest.ErrReader(full)))
		assert.ErrorIs(t, err, full, start)
	}
}

func TestAttributes(t *testing.T) {
	e := newElements(strings.NewReader(`<c r="B2" x:s = '7' t="a&amp;b" odd empty="" twice="1" twice="2"/>`))
	require.NoError(t, e.next())
	for name, want := range map[string]string{"r": "B2", "s": "7", "t": "a&b", "empty": "", "none": ""} {
		assert.Equal(t, want, string(e.attr(name)), name)
	}
	assert.Nil(t, e.attr("none"))
}

func TestContentAndSkip(t *testing.T) {
	e := newElements(strings.NewReader("<a><b>1<c>no</c>2<d>3</d></b><e/>4</a>"))
	require.NoError(t, e.next())
	require.NoError(t, e.next())
	text, err := e.content(nil, "c")
	require.NoError(t, err)
	assert.Equal(t, "123", string(text))
	require.NoError(t, e.next())
	assert.Equal(t, "e", string(e.name))
	require.NoError(t, e.skip())
	require.NoError(t, e.next())
	assert.Equal(t, "4", string(e.text))
}
