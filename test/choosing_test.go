package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/api"
	"jorvex/internal/client"
	"jorvex/internal/testkit"
)

const cards = `input: cards
place: share
folder: cards
pick:
  - "<line>/card <from:d MMMM yyyy>.csv"
latest: {of: from, per: line}
columns:
  - {name: line, capture: line}
  - {name: fare, type: decimal, total: true}
deliver:
  - file: cards.csv
`

// clock is a service's clock that a test moves.
type clock struct{ offset atomic.Int64 }

func (c *clock) now() time.Time {
	return time.Now().Add(time.Duration(c.offset.Load())).Truncate(time.Microsecond)
}

// definitionFile writes a definition into a file of its own.
func definitionFile(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "definition.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	return file
}

// picked lists the paths that an input picks, in roster order.
func picked(t *testing.T, s *testkit.Service, input string) string {
	t.Helper()
	var paths []string
	for path, state := range states(t, s, input) {
		if strings.HasPrefix(state, "picked") {
			paths = append(paths, path)
		}
	}
	return strings.Join(sorted(paths), "; ")
}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

// The newest card in force is used, and tomorrow the next one is, without a
// file or a definition being touched.
func TestLatestMovesWithTheDay(t *testing.T) {
	c := &clock{}
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	day := func(ahead int) string { return time.Now().UTC().AddDate(0, 0, ahead).Format("2 January 2006") }
	s.Write("cards/north/card "+day(-40)+".csv", "fare\n1\n")
	s.Write("cards/north/card "+day(-1)+".csv", "fare\n2\n")
	s.Write("cards/north/card "+day(2)+".csv", "fare\n3\n")
	s.Write("cards/south/card "+day(-300)+".csv", "fare\n4\n")
	s.Definition(cards)
	assert.Equal(t, "cards/north/card "+day(-1)+".csv; cards/south/card "+day(-300)+".csv", picked(t, s, "cards"))
	assert.Regexp(t, "=>  latest by from per line +6  not the latest: cards/north/card "+day(-1)+".csv is newer", s.Must("why", "cards", "north/card "+day(-40)+".csv"))
	assert.Contains(t, s.Must("why", "cards", "north/card "+day(2)+".csv"), "it does not count yet")
	s.Must("refresh", "cards")
	assert.Equal(t, "line,fare\r\nnorth,2\r\nsouth,4\r\n", s.Delivered("cards.csv"))

	c.offset.Store(int64(48 * time.Hour))
	s.Must("look")
	assert.Equal(t, "picked new", states(t, s, "cards")["cards/north/card "+day(2)+".csv"])
	assert.Equal(t, "left_out same", states(t, s, "cards")["cards/north/card "+day(-1)+".csv"], "still there, no longer picked, not removed")

	// For one time only: the old card; what it delivers is no baseline.
	assert.Contains(t, s.Must("refresh", "cards", "-only", "north/card "+day(-40)+".csv"), "1 row from 1 file")
	assert.Contains(t, s.Must("receipt", "2"), "only these files, this once")
	assert.Equal(t, "picked new", states(t, s, "cards")["cards/north/card "+day(2)+".csv"])
	r := s.Run("refresh", "cards", "-only", "north/nothing.csv")
	assert.Equal(t, client.GateStopped, r.Code)
	assert.Contains(t, r.Err, "1 file named for this once is not there: north/nothing.csv")

	// A past as-of moves the dates.
	s.Must("refresh", "cards", "-as-of", time.Now().UTC().AddDate(0, 0, -20).Format(time.DateOnly))
	assert.Equal(t, "line,fare\r\nnorth,1\r\nsouth,4\r\n", s.Delivered("cards.csv"))
}

func TestParameters(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("in/2026-09/Eskvik.csv", "n\n9\n")
	s.Write("in/2026-10/Eskvik.csv", "n\n10\n")
	s.Write("in/2026-10/Fennay.csv", "n\n11\n")
	s.Definition(`input: monthly
place: share
folder: in/$period
parameters:
  - {name: period, type: period, default: 2026-10}
  - {name: terminal, default: "*"}
pick: ["<terminal>.csv"]
leave_out:
  - not (terminal is $terminal or path is "x")
columns: [{name: n, type: whole, total: true}]
deliver:
  - file: monthly $period.csv
  - table: monthly_$period
`)
	assert.Empty(t, picked(t, s, "monthly"), "no terminal is called *")
	assert.Contains(t, s.Run("refresh", "monthly", "-set", "terminal=Eskvik").Err, "the delivery monthly 2026-10.csv would be overwritten with what terminal=Eskvik gives, since its name lacks $terminal")
	text := strings.Replace(s.Must("input", "show", "monthly"), "leave_out:\n  - not (terminal is $terminal or path is \"x\")\n", "", 1)
	s.Must("input", "save", definitionFile(t, strings.Replace(text, "  - {name: terminal, default: \"*\"}\n", "", 1)))
	s.Must("refresh", "monthly")
	assert.Equal(t, "n\r\n10\r\n11\r\n", s.Delivered("monthly 2026-10.csv"))
	out := s.Must("refresh", "monthly", "-set", "period=2026-09")
	assert.NotContains(t, out, "since", "no receipt has these parameters yet")
	assert.Equal(t, "n\r\n9\r\n", s.Delivered("monthly 2026-09.csv"))
	assert.Equal(t, "9", s.Query("SELECT n::text FROM delivered.monthly_2026_09"))
	assert.Contains(t, s.Must("receipt", "2"), "period=2026-09")
	assert.NotContains(t, s.Must("changes", "monthly"), "removed", "states are told against equal parameters")

	s.Write("in/2026-10/Fennay.csv", "n\n12\n")
	assert.Regexp(t, `n +22 +\+1\n`, s.Must("refresh", "monthly"), "compared with receipt 1, not with 2")
	for set, says := range map[string]string{"perid=2026-09": `has no parameter "perid"; did you mean "period"?`, "period=soon": `"SOON" is no date`, "period": "write it as name=value"} {
		assert.Contains(t, s.Run("refresh", "monthly", "-set", set).Err, says)
	}
}

func TestHolds(t *testing.T) {
	c := &clock{}
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", table(header, "SK2,20,1"))
	s.Write("loadings/Eskvik/late.csv", table(header, "SK3,30,1"))
	s.Definition(loadings)
	day := time.Now().AddDate(0, 0, 2).Format(time.DateOnly)
	assert.Contains(t, s.Must("hold", "in", "loadings", "Eskvik/late.csv", "-note", "they asked", "-until", day), "is held in until")
	assert.Contains(t, s.Must("hold", "out", "loadings", "Eskvik/loadings 2026-10-06.csv", "-while-same"), "is held out while its bytes stay the same")
	assert.Equal(t, "loadings/Eskvik/late.csv; loadings/Eskvik/loadings 2026-10-05.csv", picked(t, s, "loadings"))
	assert.Contains(t, s.Must("files", "loadings", "-held"), "held in by local: they asked; no pattern gives it captures; they are blank")
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Delivered("loadings.csv"), "\r\n,,SK3,30,1,late.csv\r\n", "its captures are blank")
	assert.Contains(t, s.Must("receipt", "1", "-files"), "held in by local: they asked")

	// Two that contradict each other, and a file that is not the input's.
	r := s.Run("hold", "out", "loadings", "Eskvik/late.csv")
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Err, "loadings/Eskvik/late.csv has a hold that binds; release it first")
	assert.Equal(t, client.NotFound, s.Run("hold", "in", "loadings", "Eskvik/never.csv").Code)
	assert.Equal(t, client.NotFound, s.Run("hold", "release", "loadings", "Eskvik/never.csv").Code)
	assert.Contains(t, s.Run("hold", "in", "loadings", "Eskvik/loadings 2026-10-05.csv", "-until", "2020-01-01").Err, "is past")
	assert.Contains(t, s.Run("hold", "in", "loadings", "Eskvik/loadings 2026-10-05.csv", "-until", "soon").Err, `"soon" is no day or time`)

	// One lapses with the bytes, one with the day.
	s.Write("loadings/Eskvik/loadings 2026-10-06.csv", table(header, "SK2,25,1"))
	s.Must("look")
	assert.Contains(t, picked(t, s, "loadings"), "2026-10-06")
	c.offset.Store(int64(72 * time.Hour))
	s.Must("look")
	assert.NotContains(t, picked(t, s, "loadings"), "late")
	list := s.Must("hold", "list", "loadings")
	assert.Contains(t, list, "the file's bytes changed")
	assert.Contains(t, list, "its time was over")
	s.Must("hold", "out", "loadings", "Eskvik/loadings 2026-10-05.csv")
	assert.Contains(t, s.Must("hold", "release", "loadings", "Eskvik/loadings 2026-10-05.csv"), "is released; the rules decide again")
	assert.Contains(t, picked(t, s, "loadings"), "2026-10-05")
}

// A copy of what Jorvex delivered is never counted, under whatever name.
func TestOwnDeliveriesAreKnown(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Definition(strings.Replace(loadings, `["<terminal>/loadings <day:yyyy-MM-dd>.csv"]`, `["<terminal>/<what> <day:yyyy-MM-dd>.csv"]`, 1) + "same_content: leave_out\n")
	s.Must("refresh", "loadings")
	s.Write("loadings/Eskvik/report 2026-10-06.csv", s.Delivered("loadings.csv"))
	s.Write("loadings/Eskvik/again 2026-10-07.csv", table(header, "SK1,10,1"))
	s.Must("look")
	assert.Equal(t, "loadings/Eskvik/again 2026-10-07.csv", picked(t, s, "loadings"), "the first in roster order stays")
	assert.Contains(t, s.Must("files", "loadings", "-reason", "own_content"), "the same content as the delivery loadings.csv of Jorvex")
	assert.Contains(t, s.Must("files", "loadings", "-reason", "same_content"), "the same content as loadings/Eskvik/again 2026-10-07.csv")

	text := strings.Replace(s.Must("input", "show", "loadings"), "same_content: leave_out\n", "", 1)
	s.Must("input", "save", definitionFile(t, text))
	assert.Contains(t, s.Must("files", "loadings", "-verdict", "picked"), "; the same content as loadings/Eskvik/again 2026-10-07.csv")
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Must("receipt", "2", "-files", "-json"), `"code": "same_content"`)
}

func TestListsByHand(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("in/sub/a.csv", "n\n1\n")
	s.Write("in/b.csv", "n\n2\n")
	s.Write("in/c.csv", "n\n3\n")
	s.Write("in/mine.csv", "The list of the quay office\n\nFile;Sheet;Goes to;From row\nsub\\A.csv;;All;2\nnever.csv;;;\n")
	const listed = `input: listed
place: share
folder: in
list: {file: mine.csv, columns: {file: File, to_sheet: Goes to, to_row: From row}}
columns: [{name: n, type: whole, total: true}]
deliver: [{file: listed.csv}]
`
	s.Definition(listed)
	assert.Equal(t, "in/sub/a.csv", picked(t, s, "listed"), "whatever the letter case and the kind of slash")
	assert.Contains(t, s.Must("files", "listed"), `named in the list to "All" from row 2`)
	assert.Contains(t, s.Must("input", "show", "listed", "-json"), "a listed file is not there: never.csv")
	s.Must("refresh", "listed")
	assert.Contains(t, s.Must("receipt", "1", "-files", "-json"), `"to_row": 2`)

	// It is read again at the next look.
	s.Write("in/mine.csv", "File\nb.csv\nc.csv\n")
	s.Must("look")
	assert.Equal(t, "in/b.csv; in/c.csv", picked(t, s, "listed"))

	for content, says := range map[string]string{
		"File\n../../etc/passwd\n":    `row 2: "../../etc/passwd" climbs or doubles back`,
		"Files\nb.csv\n":              `no row has the header "File"; did you mean "Files"?`,
		"File,From row\nb.csv,zero\n": `row 2: "zero" is no number of a row`,
		"File\nb.csv\nb.csv\n":        `row 3: "b.csv" is listed in row 2 already`,
		"File,Note\n,x\n":             "row 2: it names no file",
		"File\n\"b.csv\n":             "a quote is never closed",
		"PK\x03\x04 no workbook":      "it is no sound workbook",
	} {
		s.Write("in/mine.csv", content)
		s.Must("look")
		assert.Contains(t, s.Must("input", "show", "listed", "-json"), strings.ReplaceAll(says, `"`, `\"`), content)
		r := s.Run("refresh", "listed")
		assert.Equal(t, client.GateStopped, r.Code, content)
		assert.Contains(t, r.Err, "the list of files cannot be read: in/mine.csv", content)
	}
	require.NoError(t, os.Remove(filepath.Join(s.Share, "in/mine.csv")))
	s.Must("look")
	assert.Contains(t, s.Must("input", "show", "listed", "-json"), "the list of files cannot be read: in/mine.csv: ")

	book := excelize.NewFile()
	require.NoError(t, book.SetSheetRow("Sheet1", "B3", &[]any{"Note", "File", "From row"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "B4", &[]any{"", "c.csv", 7}))
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	s.Write("in/mine.csv", b.String())
	s.Must("look")
	assert.Contains(t, s.Must("files", "listed", "-verdict", "picked"), "in/c.csv  named in the list from row 7", "a workbook is told by its content")
}

// A definition that is not saved is tried; so is a file that is not there.
func TestTrying(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("loadings/Eskvik/loadngs 2026-10-06.csv", table(header, "SK2,20,1"))
	s.Write("loadings/Eskvik/loadings_2026-10-07.csv", table(header, "SK3,30,1"))
	s.Definition(loadings)
	before := s.Query("SELECT json_agg(r ORDER BY file_id)::text FROM jorvex.roster r")
	assert.Contains(t, s.Must("input", "show", "loadings", "-json"), `"pattern": "<terminal>/loadngs <day:yyyy-MM-dd>.csv"`)
	file := definitionFile(t, strings.Replace(loadings, `["<terminal>/loadings <day:yyyy-MM-dd>.csv"]`, `["<terminal>/loadngs <day:yyyy-MM-dd>.csv", "none.csv"]`, 1)+"leave_out: [size above 1 MB]\n")
	// A column of a capture that one pattern lacks is a fault.
	assert.Contains(t, s.Run("files", "-try", file).Err, `the pattern "none.csv" has no capture <terminal>`)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(loadings, "loadings <day", "loadngs <day", 1)+"leave_out: [size above 1 MB]\n"), 0o644))
	out := s.Must("files", "-try", file)
	for _, want := range []string{
		"1 of 3 files picked, 2 left out, 0 held back; nothing is saved", "note: a rule meets no file: line 15, size above 1 MB",
		"gained: 1 file\n  loadings/Eskvik/loadngs 2026-10-06.csv: matches", "lost: 1 file\n  loadings/Eskvik/loadings 2026-10-05.csv: no pattern matches, nearly: spelling",
	} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, s.Must("files", "-try", file, "-near"), `nearly: spelling, "loadings_" where`, "with the files asked for")
	var trial api.Trial
	require.NoError(t, json.Unmarshal([]byte(s.Must("files", "-try", file, "-json", "-most", "2")), &trial))
	assert.Len(t, trial.Files.Items, 2)
	assert.Equal(t, before, s.Query("SELECT json_agg(r ORDER BY file_id)::text FROM jorvex.roster r"), "nothing is recorded")

	dropped := filepath.Join(t.TempDir(), "loadings 2026-10-08.csv")
	require.NoError(t, os.WriteFile(dropped, []byte(table(header, "SK4,40,1.5", "SK5,x,1")), 0o644))
	out = s.Must("try", "loadings", dropped, "-as", "Fennay/loadings 2026-10-08.csv")
	for _, want := range []string{"loadings/Fennay/loadings 2026-10-08.csv\nwould be picked: matches", "it would add 2 rows, passengers 40, freight_t 2.5", "warning: values that are no whole numbers come back blank"} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, s.Must("try", "loadings", dropped), "would be left out: no pattern matches, nearly: folder level, one folder too shallow: no folder for <terminal>")
	assert.Contains(t, s.Run("try", "loadings", "nothing.csv").Err, "the file cannot be read")
	assert.Equal(t, "3", s.Query("SELECT count(*)::text FROM jorvex.files"), "nothing is recorded")
}

// Definitions are moved, copied, renamed, compared and restored; the second of
// two editors is told.
func TestDefinitionsOverTime(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	s.Write("loadings/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("new/place/Eskvik/loadings 2026-10-05.csv", table(header, "SK1,10,1"))
	s.Write("new/place/Eskvik/loadings 2026-10-06.csv", table(header, "SK1,10,1"))
	s.Definition(loadings)

	out := s.Must("input", "move", "loadings", "-folder", "new/place")
	assert.Contains(t, out, "gained: 1 file\n  new/place/Eskvik/loadings 2026-10-06.csv", "a file that moved with its folder is neither gained nor lost")
	assert.Contains(t, out, "lost: 0 files\nnothing is saved; add -yes to save version 2")
	assert.Contains(t, s.Must("input", "move", "loadings", "-folder", "new/place", "-yes"), "loadings saved as version 2: 2 of 2 files picked")
	assert.Equal(t, "# loadings, version 2\n"+strings.Replace(loadings, "folder: loadings", "folder: new/place", 1), s.Must("input", "show", "loadings"))
	assert.Contains(t, s.Run("input", "move", "loadings", "-place", "nowhere").Err, "the definition names a place that there is not")

	// Two editors.
	first, second := definitionFile(t, s.Must("input", "show", "loadings")), definitionFile(t, s.Must("input", "show", "loadings"))
	edit := func(file, title string) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "place: share", "title: "+title+"\nplace: share", 1)), 0o644))
	}
	edit(first, "One")
	edit(second, "Two")
	assert.Contains(t, s.Must("input", "save", first), "version 3")
	r := s.Run("input", "save", second)
	assert.Equal(t, client.Failed, r.Code)
	assert.Contains(t, r.Err, "was made from version 2, and loadings is at version 3 by now, saved by local")
	assert.Contains(t, s.Must("input", "show", "loadings"), "title: One", "nothing was overwritten")
	assert.Contains(t, s.Must("input", "diff", "loadings", "-file", second), "- title: One\n+ title: Two\n")
	assert.Contains(t, s.Must("input", "save", second, "-over", "newest"), "version 4")
	assert.Contains(t, s.Run("input", "save", definitionFile(t, loadings)).Err, "does not say which version it was made from; the newest is 4")
	head, err := os.ReadFile(first)
	require.NoError(t, err)
	assert.Contains(t, string(head), "# loadings, version 3\n", "the file goes on from what it is now")

	// Copied, renamed, with its receipts, and an older version brought back.
	s.Must("refresh", "loadings")
	assert.Contains(t, s.Must("input", "copy", "loadings", "night-loadings"), "night-loadings saved as version 1")
	assert.Contains(t, s.Must("input", "show", "night-loadings"), "file: night-loadings.csv\n  - table: night_loadings\n")
	assert.Contains(t, s.Run("input", "copy", "loadings", "night-loadings").Err, `there is an input "night-loadings" already`)
	assert.Contains(t, s.Run("input", "copy", "loadings", "Night").Err, "cannot name an input")
	assert.Contains(t, s.Must("input", "rename", "loadings", "day-loadings"), "day-loadings saved as version 5")
	assert.Contains(t, s.Must("changes", "day-loadings"), "no file differs", "it is the same input: its baseline stays")
	assert.Contains(t, s.Run("input", "rename", "day-loadings", "night-loadings").Err, `there is an input "night-loadings" already`)
	assert.Contains(t, s.Must("input", "versions", "day-loadings"), "      5  ")
	assert.Contains(t, s.Must("input", "diff", "day-loadings", "-from", "1", "-to", "2"), "- folder: loadings\n+ folder: new/place\n")
	assert.Contains(t, s.Must("input", "restore", "day-loadings", "2"), "loadings saved as version 6")
	assert.Equal(t, client.NotFound, s.Run("input", "diff", "loadings", "-from", "9").Code)
}

// Odd names are judged like any other, and patterns made to be slow are not.
func TestOddNamesAndHostilePatterns(t *testing.T) {
	s := testkit.Start(t, testkit.Options{})
	long := strings.Repeat("x", 251) + ".csv"
	for _, name := range []string{"new\nline.csv", "raw\xff.csv", "right\u202eto left.csv", long, "e\u0301.csv"} {
		s.Write("in/"+name, "n\n1\n")
	}
	s.Definition(`input: odd
place: share
folder: in
pick: ["` + strings.Repeat("*x", 120) + `*y<what>.csv", "<what>.csv"]
only_if: [not name contains "z"]
latest: {of: what, keep: 100}
columns: [{name: what, capture: what}, {name: n}]
`)
	got := states(t, s, "odd")
	for _, shown := range []string{`in/new\u{A}line.csv`, `in/raw\xFF.csv`, `in/right\u{202E}to left.csv`, "in/" + long, "in/e\u0301.csv"} {
		assert.Equal(t, "picked new", got[shown], shown)
	}
	s.Must("refresh", "odd")

	many := make([]string, 10_000)
	for i := range many {
		many[i] = fmt.Sprintf("  - tally %d.csv\n", i)
	}
	start := time.Now()
	bad := s.Run("files", "-try", definitionFile(t, "input: many\nplace: share\npick:\n"+strings.Join(many, "")))
	assert.Contains(t, bad.Err, "10000 patterns are too many, 1000 may be given; a long list of files belongs in a file of its own")
	out := s.Must("files", "-try", definitionFile(t, "input: many\nplace: share\npick:\n"+strings.Join(many[:1000], "")))
	assert.Contains(t, out, "0 of 5 files picked")
	assert.Less(t, time.Since(start), time.Minute)
	assert.Contains(t, s.Run("check-definition", definitionFile(t, "input: a\nplace: b\npick: [\"<d:dMyyyy>.csv\"]\n")).Out, "can be read in two ways")
}
