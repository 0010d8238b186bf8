// Package demo makes the files of Skerry Line, an invented ferry operator on an
// invented coast: what six terminals drop into a shared folder, with the flaws
// and the junk that such folders have. Equal options make equal files.
package demo

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// Options say what is made.
type Options struct {
	Seed  uint64
	End   time.Time // the last day there are files of
	Weeks int       // how many weeks back; 0 is eight
	Scale int       // rows of a file are multiplied by it; 0 is one
}

var (
	terminals = []string{"Aldersund", "Brannhold", "Coldmere", "Dunvara", "Eskvik", "Fennay"}
	vessels   = []string{"Petrel", "Gannet", "Fulmar", "Kittiwake"}
)

// Inputs are the definitions of the demo's inputs.
var Inputs = []string{dailyLoadings, fuelUplift, crewHours, tariffCard, berthIncidents, quayInspections}

// Reports are the definitions of the demo's reports.
var Reports = []string{`report: weekly-sailings
title: Weekly sailings
inputs: [daily-loadings, crew-hours, tariff-card]
refresh: {cron: "0 6 * * mon"}
`, `report: month-end-fuel
title: Fuel at the month's end
inputs: [fuel-uplift]
refresh: {cron: "0 7 6 * *"}
`}

const tariffCard = `input: tariff-card
title: Tariff card in force
place: skerry-share
folder: tariffs
pick:
  - "tariff card <from:d MMMM yyyy>.xlsx"
latest: {of: from}
`

const berthIncidents = `input: berth-incidents
title: Berth incidents, whatever the folder
place: skerry-share
folder: incidents
pick:
  - "**/<what>.json"
leave_out:
  - name contains "draft"
order: by modified
columns:
  - {name: day, type: date, required: true}
  - {name: terminal, required: true}
  - {name: what, required: true}
  - {name: minutes, type: whole, total: true}
  - {name: source_file, file: path}
deliver:
  - file: berth-incidents.csv
  - table: berth_incidents
gate:
  broken: leave_out
`

const quayInspections = `input: quay-inspections
title: Quay inspections, picked by hand
place: skerry-share
folder: inspections
list:
  file: list.csv
  columns: {file: Inspection, sheet: Sheet, to_sheet: Goes to, to_row: From row}
columns:
  - {name: quay, headers: [Quay], required: true}
  - {name: depth_m, headers: ["Depth (m)"], type: decimal}
  - {name: sound, headers: [Sound], type: yes_no, watch: true}
deliver:
  - {file: quay-inspections.xlsx, sheets: listed}
`

const dailyLoadings = `input: daily-loadings
title: Daily loadings by terminal
place: skerry-share
folder: loadings
pick:
  - "<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv"
expect: {every: working day, of: day, each: terminal, due: "1 day after, 09:00"}
columns:
  - {name: day, capture: day}
  - {name: terminal, capture: terminal, watch: true}
  - {name: sailing, headers: [Sailing, Sailing no], required: true, key: true}
  - {name: vessel, headers: [Vessel], required: true, watch: true}
  - {name: bound_for, headers: [Bound for]}
  - {name: departed, headers: [Departed], type: time}
  - {name: passengers, headers: [Passengers], type: whole, required: true, total: true}
  - {name: vehicles, headers: [Vehicles], type: whole, total: true}
  - {name: freight_t, headers: ["Freight (t)"], type: decimal, total: true}
  - {name: source_file, file: name}
summaries:
  - name: by terminal
    rows: [terminal, vessel]
    measures: [distinct sailing, sum passengers, sum vehicles, sum freight_t]
  - name: passengers from and to
    rows: terminal
    columns: bound_for
    measures: sum passengers
deliver:
  - file: daily-loadings.csv
  - table: daily_loadings
gate:
  broken: stop
`

// Reveal moves the files of a share that were written until a moment to another
// folder, as if they had been dropped there by then.
func Reveal(from, to string, until time.Time) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil || info.ModTime().After(until) {
			return err
		}
		below, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, below)
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		return os.Rename(path, target)
	})
}

// Place is the name of the demo's place.
const Place = "skerry-share"

// Share and Late are the folders, below the demo's directory, of the shared
// files and of files that have yet to be dropped there.
const (
	Share = "share"
	Late  = "late"
)

// LastDay is the last day that there are files of at a moment: they are dropped
// in the evening.
func LastDay(now time.Time) time.Time {
	if now = now.UTC(); now.Hour() < 19 {
		now = now.AddDate(0, 0, -1)
	}
	return now
}

// Generate makes the demo's files below dir.
func Generate(dir string, o Options) error {
	if o.Weeks == 0 {
		o.Weeks = 8
	}
	if o.Scale == 0 {
		o.Scale = 1
	}
	g := &generator{Options: o, dir: dir}
	g.End = time.Date(o.End.Year(), o.End.Month(), o.End.Day(), 0, 0, 0, 0, time.UTC)
	days := g.days()
	for _, terminal := range terminals {
		for i, day := range days {
			g.loading(terminal, day, len(days)-1-i)
		}
	}
	g.flaws(days)
	g.fuel()
	g.crew()
	g.tariffs()
	g.incidents(days)
	g.inspections(days)
	g.junk(days)
	return g.err
}

type generator struct {
	Options
	dir string
	err error
}

// days lists the working days of the weeks up to End.
func (g *generator) days() []time.Time {
	var days []time.Time
	for day := g.End.AddDate(0, 0, -7*g.Weeks+1); !day.After(g.End); day = day.AddDate(0, 0, 1) {
		if day.Weekday() != time.Saturday && day.Weekday() != time.Sunday {
			days = append(days, day)
		}
	}
	return days
}

// write writes a file, dated in the evening of a day.
func (g *generator) write(path string, day time.Time, content []byte) {
	if g.err != nil {
		return
	}
	full := filepath.Join(g.dir, path)
	if g.err = os.MkdirAll(filepath.Dir(full), 0o755); g.err != nil {
		return
	}
	if g.err = os.WriteFile(full, content, 0o644); g.err != nil {
		return
	}
	written := day.Add(18*time.Hour + time.Duration(len(path)%50)*time.Minute)
	g.err = os.Chtimes(full, written, written)
}

func loadingPath(terminal string, day time.Time) string {
	return fmt.Sprintf("loadings/%s/%d/loadings %s.csv", terminal, day.Year(), day.Format("2006-01-02"))
}

// loading writes the file of one terminal and day. Fennay is late by two days:
// its last files lie outside the share.
func (g *generator) loading(terminal string, day time.Time, daysAgo int) {
	style := plain
	switch {
	case terminal == "Dunvara":
		style = otherOrder
	case terminal == "Coldmere" && daysAgo == 6:
		style = smallLetters
	}
	folder := Share
	if terminal == "Fennay" && daysAgo < 2 {
		folder = Late
	}
	g.write(filepath.Join(folder, loadingPath(terminal, day)), day, g.table(terminal, day, style))
}

// style is how a file is laid out.
type style int

const (
	plain style = iota
	otherOrder
	smallLetters
)

var headers = []string{"Sailing", "Vessel", "Bound for", "Departed", "Passengers", "Vehicles", "Freight (t)"}

func (g *generator) table(terminal string, day time.Time, s style) []byte {
	at := 0
	for i, t := range terminals {
		if t == terminal {
			at = i
		}
	}
	random := rand.New(rand.NewPCG(g.Seed+uint64(at)*1_000_003, uint64(day.Unix())))
	order := []int{0, 1, 2, 3, 4, 5, 6}
	if s == otherOrder {
		order = []int{3, 0, 2, 1, 6, 5, 4}
	}
	var b bytes.Buffer
	row := func(cells []string) {
		picked := make([]string, len(order))
		for i, from := range order {
			picked[i] = cells[from]
		}
		b.WriteString(strings.Join(picked, ",") + "\r\n")
	}
	head := append([]string(nil), headers...)
	if s == smallLetters {
		for i := range head {
			head[i] = strings.ToLower(head[i])
		}
	}
	row(head)
	for n := range (6 + random.IntN(9)) * g.Scale {
		bound := (at + 1 + random.IntN(len(terminals)-1)) % len(terminals)
		departed := 5*60 + 30 + (n*73+random.IntN(40))%(17*60)
		row([]string{
			fmt.Sprintf("SK%s%03d", day.Format("0102"), at*100+n),
			vessels[random.IntN(len(vessels))],
			terminals[bound],
			fmt.Sprintf("%02d:%02d", departed/60, departed%60),
			fmt.Sprint(20 + random.IntN(260)),
			fmt.Sprint(random.IntN(85)),
			fmt.Sprintf("%d.%d", random.IntN(120), random.IntN(10)),
		})
	}
	return b.Bytes()
}

// flaws writes what people got wrong around the good files.
func (g *generator) flaws(days []time.Time) {
	n := len(days)
	day := func(ago int) time.Time { return days[max(0, n-1-ago)] }
	folder := func(terminal string, d time.Time) string {
		return fmt.Sprintf("%s/loadings/%s/%d/", Share, terminal, d.Year())
	}
	// A second copy of a day, as a browser or file manager names it.
	d := day(3)
	g.write(folder("Eskvik", d)+"loadings "+d.Format("2006-01-02")+" (1).csv", d, g.table("Eskvik", d, plain))
	// A misspelt name beside the files that are right.
	d = day(9)
	g.write(folder("Brannhold", d)+"loadngs "+d.Format("2006-01-02")+".csv", d, g.table("Brannhold", d, plain))
	// A draft.
	d = day(1)
	g.write(folder("Aldersund", d)+"loadings "+d.Format("2006-01-02")+" draft.csv", d, g.table("Aldersund", d, plain))
}

// junk writes what shared folders collect.
func (g *generator) junk(days []time.Time) {
	last := days[len(days)-1]
	year := last.Format("2006")
	g.write(Share+"/loadings/Eskvik/"+year+"/~$loadings "+last.Format("2006-01-02")+".csv", last, []byte("Ingrid"))
	g.write(Share+"/loadings/Aldersund/"+year+"/quay at noon.jpg", last, append([]byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00"), make([]byte, 4000)...))
	g.write(Share+"/loadings/Aldersund/"+year+"/Thumbs.db", last, make([]byte, 2048))
	g.write(Share+"/loadings/Berthing rules.pdf", days[0], []byte("%PDF-1.4\n% Berthing rules of Skerry Line\n%%EOF\n"))
	g.write(Share+"/loadings/timetable.xls", days[0], []byte("<!doctype html><html><title>Timetable</title><p>Please sign in to see the timetable.</html>\n"))
	g.write(Share+"/loadings/old/daily-loadings last month.csv", days[0], []byte("day,terminal,sailing,vessel\r\n"))
	g.write(Share+"/notes/contacts.txt", days[0], []byte("Questions about the share: the quay office at Aldersund.\n"))
}

// workbook returns a workbook of sheets with rows of cells.
func (g *generator) workbook(sheets map[string][][]any) []byte {
	f := excelize.NewFile()
	defer f.Close()
	for i, name := range slices.Sorted(maps.Keys(sheets)) {
		if i == 0 {
			_ = f.SetSheetName("Sheet1", name)
		} else if _, err := f.NewSheet(name); err != nil && g.err == nil {
			g.err = err
		}
		for n, cells := range sheets[name] {
			if err := f.SetSheetRow(name, fmt.Sprintf("A%d", n+1), &cells); err != nil && g.err == nil {
				g.err = err
			}
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil && g.err == nil {
		g.err = err
	}
	return b.Bytes()
}

// tariffs writes cards by the day they come into force: old ones, the one in
// force, one that is not yet, and what people got wrong about them.
func (g *generator) tariffs() {
	first := time.Date(g.End.Year(), g.End.Month(), 1, 0, 0, 0, 0, time.UTC)
	card := func(name string, written time.Time, cents int) {
		rows := [][]any{{"Skerry Line tariff card"}, {}, {"Crossing", "Passenger", "Vehicle"}}
		for i, from := range terminals {
			to := terminals[(i+1)%len(terminals)]
			rows = append(rows, []any{from + " to " + to, float64(cents+35*i) / 100, float64(4*cents+90*i) / 100})
		}
		g.write(Share+"/tariffs/"+name, written, g.workbook(map[string][][]any{"Tariffs": rows}))
	}
	for i, ago := range []int{11, 8, 5, 2, -1} {
		from := first.AddDate(0, -ago, 0)
		card("tariff card "+from.Format("2 January 2006")+".xlsx", from.AddDate(0, 0, -20), 840+25*i)
	}
	old := first.AddDate(0, -14, 0)
	card("tariff_card "+old.Format("2 January 2006")+".xlsx", old.AddDate(0, 0, -20), 815)
	card("tariff card 31 "+nextShort(first).Format("January 2006")+".xlsx", g.End.AddDate(0, 0, -30), 975)
	g.write(Share+"/tariffs/~$tariff card "+first.Format("2 January 2006")+".xlsx", g.End, []byte("Lars"))
	g.write(Share+"/tariffs/how tariffs are made.pdf", old, []byte("%PDF-1.4\n% How tariffs are made\n%%EOF\n"))
}

// nextShort returns the first month from one on that has no day 31.
func nextShort(month time.Time) time.Time {
	for month.AddDate(0, 1, -1).Day() == 31 {
		month = month.AddDate(0, 1, 0)
	}
	return month
}

// incidents writes what berths report, at any depth of folders.
func (g *generator) incidents(days []time.Time) {
	kinds := []string{"line parted", "ramp stuck", "late pilot", "fender damage", "gangway fault"}
	for i := range 18 {
		day := days[max(0, len(days)-1-i*2)]
		terminal := terminals[i%len(terminals)]
		folder := fmt.Sprintf("%s/incidents/%d/", Share, day.Year())
		switch i % 3 {
		case 1:
			folder += terminal + "/"
		case 2:
			folder += fmt.Sprintf("%s/berth %d/", terminal, 1+i%12)
		}
		line := fmt.Sprintf(`{"day":%q,"terminal":%q,"what":%q,"minutes":%d}`+"\n", day.Format(time.DateOnly), terminal, kinds[i%len(kinds)], 5+i*7%90)
		g.write(folder+fmt.Sprintf("incident %d.json", i+1), day, []byte(line))
	}
	last := days[len(days)-1]
	g.write(fmt.Sprintf("%s/incidents/%d/incident 19.json", Share, last.Year()), last, nil)
	g.write(fmt.Sprintf("%s/incidents/%d/Eskvik/incident draft.json", Share, last.Year()), last, []byte("{}\n"))
	g.write(fmt.Sprintf("%s/incidents/%d/Eskvik/berth 4.jpg", Share, last.Year()), last, []byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00"))
}

// inspections writes workbooks and the list of those that belong, one of which
// never came.
func (g *generator) inspections(days []time.Time) {
	written := days[len(days)/2]
	list := "Inspection,Sheet,Goes to,From row,Asked for by\r\n"
	row := 2
	for i, terminal := range terminals {
		name := fmt.Sprintf("%d/%s quays.xlsx", written.Year(), terminal)
		rows := [][]any{{"Quay", "Depth (m)", "Sound"}}
		for quay := range 3 {
			rows = append(rows, []any{fmt.Sprintf("%s %d", terminal, quay+1), 5.5 + float64((i*7+quay*3)%40)/10, map[bool]string{true: "yes", false: "no"}[(i+quay)%5 != 0]})
		}
		if terminal != "Dunvara" {
			g.write(Share+"/inspections/"+name, written, g.workbook(map[string][][]any{"Inspection": rows, "Photos": {{"none"}}}))
		}
		if terminal != "Fennay" {
			list += fmt.Sprintf("%s,Inspection,All quays,%d,quay office\r\n", name, row)
			row += len(rows) - 1
		}
	}
	g.write(Share+"/inspections/list.csv", written, []byte(list))
	g.write(Share+"/inspections/2025 report.docx", written, []byte("PK\x03\x04 a letter"))
}
