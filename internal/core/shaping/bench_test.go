package shaping_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
	"jorvex/internal/core/shaping"
)

const benched = `
input: a
place: b
pick: ["*"]
columns:
  - {name: sailing, required: true}
  - {name: vessel}
  - {name: passengers, type: whole, total: true}
  - {name: vehicles, type: whole}
  - {name: freight_t, headers: [freight], type: decimal, total: true}
  - {name: day, type: date}
`

const benchedHeader = "sailing,vessel,passengers,vehicles,freight,day\n"

func line(i int) string {
	return fmt.Sprintf("SK%07d,Petrel,%d,%d,%d.%02d,2026-10-%02d\n", i, i%400, i%90, i%50, i%100, i%28+1)
}

// 300 MB of delimited text, read and typed, against encoding/csv doing nothing.
func BenchmarkDelimited(b *testing.B) {
	var text bytes.Buffer
	text.WriteString(benchedHeader)
	for i := 0; text.Len() < 300_000_000; i++ {
		text.WriteString(line(i))
	}
	def, err := definition.Parse(benched, time.Now())
	require.NoError(b, err)
	var theirs, ours float64
	b.Run("encoding-csv", func(b *testing.B) {
		for b.Loop() {
			r := csv.NewReader(bytes.NewReader(text.Bytes()))
			r.ReuseRecord = true
			for {
				if _, err := r.Read(); err != nil {
					break
				}
			}
		}
		theirs = b.Elapsed().Seconds() / float64(b.N)
	})
	b.Run("jorvex", func(b *testing.B) {
		for b.Loop() {
			f, err := reading.Open(bytes.NewReader(text.Bytes()), nil)
			require.NoError(b, err)
			result, err := shaping.Shape(def, shaping.Origin{}, f, shaping.NewWriter(io.Discard))
			require.NoError(b, err)
			require.Empty(b, result.Findings)
		}
		ours = b.Elapsed().Seconds() / float64(b.N)
		b.ReportMetric(ours/theirs, "jorvex/csv")
	})
}

// 200,000 rows of 8 cells of a workbook, read and typed, against the usual
// library's iterator of rows.
func BenchmarkWorkbookAgainstTheUsual(b *testing.B) {
	content := workbookOf(b, 200_000)
	def, err := definition.Parse(benched, time.Now())
	require.NoError(b, err)
	var theirs, ours float64
	b.Run("usual", func(b *testing.B) {
		for b.Loop() {
			f, err := excelize.OpenReader(bytes.NewReader(content))
			require.NoError(b, err)
			rows, err := f.Rows("Sheet1")
			require.NoError(b, err)
			for rows.Next() {
				_, err := rows.Columns()
				require.NoError(b, err)
			}
			require.NoError(b, f.Close())
		}
		theirs = b.Elapsed().Seconds() / float64(b.N)
	})
	b.Run("jorvex", func(b *testing.B) {
		for b.Loop() {
			shapeOf(b, def, bytes.NewReader(content))
		}
		ours = b.Elapsed().Seconds() / float64(b.N)
		b.ReportMetric(ours/theirs, "jorvex/usual")
	})
}

func workbookOf(b *testing.B, rows int) []byte {
	f := excelize.NewFile()
	w, err := f.NewStreamWriter("Sheet1")
	require.NoError(b, err)
	require.NoError(b, w.SetRow("A1", []any{"sailing", "vessel", "passengers", "vehicles", "freight", "day", "note", "gate"}))
	for r := 2; r <= rows+1; r++ {
		require.NoError(b, w.SetRow(fmt.Sprintf("A%d", r), []any{fmt.Sprintf("SK%07d", r), "Petrel", r % 400, r % 90, float64(r%5000) / 100, "2026-10-05", "x", r % 7}))
	}
	require.NoError(b, w.Flush())
	var content bytes.Buffer
	require.NoError(b, f.Write(&content))
	return content.Bytes()
}

func shapeOf(b *testing.B, def *definition.Definition, r io.Reader) {
	f, err := reading.Open(r, func(r io.Reader) (reading.Content, error) {
		file, err := os.CreateTemp(b.TempDir(), "")
		require.NoError(b, err)
		size, err := io.Copy(file, r)
		return onDisk{file, size}, err
	})
	require.NoError(b, err)
	defer f.Close()
	_, err = shaping.Shape(def, shaping.Origin{}, f, shaping.NewWriter(io.Discard))
	require.NoError(b, err)
}

type onDisk struct {
	*os.File
	size int64
}

func (d onDisk) Size() int64 { return d.size }

// The memory in use at its peak, for 20,000 and for 1,000,000 rows.
func BenchmarkMemory(b *testing.B) {
	def, err := definition.Parse(benched, time.Now())
	require.NoError(b, err)
	for _, form := range []string{"delimited", "workbook"} {
		for _, rows := range []int{20_000, 1_000_000} {
			b.Run(fmt.Sprintf("%s-%d", form, rows), func(b *testing.B) {
				path := b.TempDir() + "/file"
				if form == "workbook" {
					require.NoError(b, os.WriteFile(path, workbookOf(b, rows), 0o600))
				} else {
					var text bytes.Buffer
					text.WriteString(benchedHeader)
					for i := range rows {
						text.WriteString(line(i))
					}
					require.NoError(b, os.WriteFile(path, text.Bytes(), 0o600))
				}
				for b.Loop() {
					file, err := os.Open(path)
					require.NoError(b, err)
					runtime.GC()
					var before runtime.MemStats
					runtime.ReadMemStats(&before)
					done, peak := make(chan struct{}), make(chan uint64)
					go func() {
						most := uint64(0)
						for {
							var now runtime.MemStats
							runtime.ReadMemStats(&now)
							most = max(most, now.HeapInuse)
							select {
							case <-done:
								peak <- most
								return
							case <-time.After(5 * time.Millisecond):
							}
						}
					}()
					shapeOf(b, def, file)
					close(done)
					most := <-peak
					b.ReportMetric(float64(most-min(most, before.HeapInuse))/1e6, "MB")
					require.NoError(b, file.Close())
				}
			})
		}
	}
}
