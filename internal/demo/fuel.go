package demo

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

const fuelUplift = `input: fuel-uplift
title: Fuel uplift by vessel
place: skerry-share
folder: fuel
pick:
  - "<month:yyyy-MM>/<vessel> fuel.{xlsx,xls}"
expect: {every: month, of: month, each: vessel, due: "5 working days after, 12:00"}
read:
  carry_down: port
  leave_out: 'port starts with "Sum"'
  dates: dd.MM.yyyy
columns:
  - {name: month, capture: month}
  - {name: vessel, capture: vessel, watch: true}
  - {name: port, headers: [Port], required: true}
  - {name: day, headers: [Day], type: date, required: true}
  - {name: gas_oil_l, headers: [Marine gas oil Litres], type: decimal, required: true, total: true}
  - {name: gas_oil_price, headers: [Marine gas oil Price], type: decimal}
  - {name: lubricants_l, headers: [Lubricants Litres], type: decimal, total: true}
  - {name: lubricants_price, headers: [Lubricants Price], type: decimal}
  - {name: source_file, file: path}
summaries:
  - {name: gas oil by month, rows: vessel, columns: month, measures: sum gas_oil_l}
  - {name: by port, rows: [port, vessel], measures: [count, sum gas_oil_l, mean gas_oil_price]}
deliver:
  - file: fuel-uplift.csv
  - file: fuel-uplift.xlsx
  - table: fuel_uplift
gate:
  broken: leave_out
`

// locked is a workbook with a password, as old programs write it.
//
//go:embed locked.xls
var locked []byte

// fuel writes what each vessel took on in a month: titles, a header over two
// rows, the port only in its first row, sums between. One workbook is cut
// short, one has a password, one calls its sheet otherwise.
func (g *generator) fuel() {
	last := time.Date(g.End.Year(), g.End.Month(), 1, 0, 0, 0, 0, time.UTC).AddDate(0, -1, 0)
	for ago := range 6 {
		month := last.AddDate(0, -ago, 0)
		written := month.AddDate(0, 1, 2)
		for i, vessel := range vessels {
			sheet := "Uplift"
			if ago == 3 && vessel == "Fulmar" {
				sheet = "Sheet1"
			}
			content := g.uplift(sheet, vessel, i, month)
			name := vessel + " fuel.xlsx"
			switch {
			case ago == 1 && vessel == "Kittiwake":
				content = content[:len(content)*6/10]
			case ago == 2 && vessel == "Gannet":
				content, name = locked, vessel+" fuel.xls"
			case ago == 0 && vessel == "Petrel":
				continue // did not come
			}
			g.write(fmt.Sprintf("%s/fuel/%s/%s", Share, month.Format("2006-01"), name), written, content)
		}
	}
	g.write(Share+"/fuel/how to fill in.txt", last, []byte("One workbook per vessel and month, please. The engine office.\n"))
}

func (g *generator) uplift(sheet, vessel string, at int, month time.Time) []byte {
	random := rand.New(rand.NewPCG(g.Seed+uint64(at)*77_003, uint64(month.Unix())))
	rows := [][]any{
		{"Skerry Line, fuel uplift"}, {vessel + ", " + month.Format("January 2006")}, {},
		{"Port", "Day", "Marine gas oil", nil, "Lubricants", nil},
		{nil, nil, "Litres", "Price", "Litres", "Price"},
	}
	for i, port := range terminals[:4] {
		sum := 0.0
		for n := range 2 + random.IntN(3) {
			litres := float64(4000+random.IntN(9000)) + 0.5
			name := any(nil)
			if n == 0 {
				name = port
			}
			day := month.AddDate(0, 0, (i*7+n*2)%28)
			rows = append(rows, []any{name, day.Format("02.01.2006"), litres, 0.9 + float64(random.IntN(40))/100, float64(random.IntN(60)), 4.2})
			sum += litres
		}
		rows = append(rows, []any{"Sum " + strings.ToLower(port[:1]) + port[1:], nil, sum})
	}
	f := excelize.NewFile()
	defer f.Close()
	keep := func(err error) {
		if err != nil && g.err == nil {
			g.err = err
		}
	}
	keep(f.SetSheetName("Sheet1", sheet))
	for n, cells := range rows {
		keep(f.SetSheetRow(sheet, fmt.Sprintf("A%d", n+1), &cells))
	}
	for _, span := range [][2]string{{"A4", "A5"}, {"B4", "B5"}, {"C4", "D4"}, {"E4", "F4"}} {
		keep(f.MergeCell(sheet, span[0], span[1]))
	}
	b, err := f.WriteToBuffer()
	keep(err)
	if err != nil {
		return nil
	}
	return b.Bytes()
}
