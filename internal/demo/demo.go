// Package demo makes the files of Skerry Line, an invented ferry operator on an
// invented coast: what six terminals drop into a shared folder, with the flaws
// and the junk that such folders have. Equal options make equal files.
package demo

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
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

// Input is the definition of the input daily-loadings.
const Input = `input: daily-loadings
title: Daily loadings by terminal
place: skerry-share
folder: loadings
pick:
  - "<terminal>/<year:yyyy>/loadings <day:yyyy-MM-dd>.csv"
columns:
  - {name: day, capture: day}
  - {name: terminal, capture: terminal}
  - {name: sailing, headers: [Sailing, Sailing no], required: true}
  - {name: vessel, headers: [Vessel], required: true}
  - {name: bound_for, headers: [Bound for]}
  - {name: departed, headers: [Departed]}
  - {name: passengers, headers: [Passengers], type: whole, required: true, total: true}
  - {name: vehicles, headers: [Vehicles], type: whole, total: true}
  - {name: freight_t, headers: ["Freight (t)"], type: decimal, total: true}
  - {name: source_file, file: name}
deliver:
  - file: daily-loadings.csv
  - table: daily_loadings
gate:
  broken: stop
`

// Place is the name of the demo's place.
const Place = "skerry-share"

// Share and Late are the folders, below the demo's directory, of the shared
// files and of files that have yet to be dropped there.
const (
	Share = "share"
	Late  = "late"
)

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
