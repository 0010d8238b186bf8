package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"golang.org/x/text/encoding/charmap"
)

const crewHours = `input: crew-hours
title: Crew hours by terminal and week
place: skerry-share
folder: crew
pick:
  - "hours_<terminal>_<week:YYYY-'W'ww>.txt"
expect: {every: week, of: week, each: terminal, due: "3 days after, 12:00"}
read: {encoding: windows-1252, delimiter: tab, decimal: comma, dates: dd.MM.yyyy}
columns:
  - {name: terminal, capture: terminal}
  - {name: day, headers: [Day], type: date, required: true}
  - {name: vessel, headers: [Vessel], required: true}
  - {name: mate, headers: [Mate]}
  - {name: hours, headers: [Hours], type: decimal, required: true, total: true}
  - {name: overtime, headers: [Overtime], type: decimal, total: true}
  - {name: source_file, file: name}
summaries:
  - {name: hours by terminal, rows: terminal, measures: [sum hours, sum overtime, distinct mate]}
deliver:
  - file: crew-hours.csv
  - {table: crew_hours, load: changed}
gate: {broken: last_good, missing_column: last_good}
`

// crew writes the hours of each terminal and week, as an old program exports
// them. One file is really UTF-8, one has rows of uneven width.
func (g *generator) crew() {
	monday := g.End.AddDate(0, 0, -(int(g.End.Weekday())+6)%7-7)
	mates := []string{"Åse", "Bjørn", "Kåre", "Sæunn", "Per-Øyvind"}
	for ago := range g.Weeks {
		week := monday.AddDate(0, 0, -7*ago)
		year, number := week.ISOWeek()
		for i, terminal := range terminals {
			random := rand.New(rand.NewPCG(g.Seed+uint64(i)*31_337, uint64(week.Unix())))
			var b strings.Builder
			b.WriteString("Day\tVessel\tMate\tHours\tOvertime\r\n")
			for day := range 7 {
				for range 1 + random.IntN(2) {
					row := fmt.Sprintf("%s\t%s\t%s\t%d,%d\t%d,%02d", week.AddDate(0, 0, day).Format("02.01.2006"), vessels[random.IntN(len(vessels))],
						mates[random.IntN(len(mates))], 6+random.IntN(5), random.IntN(10), random.IntN(3), 25*random.IntN(4))
					if ago == 2 && terminal == "Dunvara" && day == 3 {
						row = row[:strings.LastIndex(row, "\t")]
					}
					b.WriteString(row + "\r\n")
				}
			}
			text := []byte(b.String())
			if !(ago == 1 && terminal == "Coldmere") {
				encoded, err := charmap.Windows1252.NewEncoder().Bytes(text)
				if err != nil && g.err == nil {
					g.err = err
				}
				text = encoded
			}
			g.write(fmt.Sprintf("%s/crew/hours_%s_%d-W%02d.txt", Share, terminal, year, number), week.AddDate(0, 0, 7), text)
		}
	}
	g.write(Share+"/crew/hours_template.txt", g.End.AddDate(0, 0, -60), []byte("Day\tVessel\tMate\tHours\tOvertime\r\n"))
}
