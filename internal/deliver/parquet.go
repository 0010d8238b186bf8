package deliver

import (
	"bytes"
	"io"
	"math/big"
	"slices"
	"strconv"
	"time"

	"github.com/parquet-go/parquet-go"

	"jorvex/internal/core/definition"
	"jorvex/internal/core/reading"
)

// digits is how many digits the numbers of a column have before and after the
// point, at most.
type digits struct{ whole, scale int }

// inLong is the most decimal digits that 64 bits hold.
const inLong = 18

// writeParquet writes an Apache Parquet file: whole numbers as INT64, decimals as
// DECIMAL of the least scale that holds all of them, dates as DATE, times and
// timestamps in microseconds without a zone. Every column may have nulls.
func writeParquet(w io.Writer, c Combined) error {
	wide, err := measure(c)
	if err != nil {
		return err
	}
	columns := ordered{Group: parquet.Group{}}
	for i, col := range c.Columns {
		columns.Group[col.Name] = parquet.Optional(parquetType(col.Type, wide[i]))
		columns.names = append(columns.names, col.Name)
	}
	schema := parquet.NewSchema("rows", columns)
	out := parquet.NewGenericWriter[any](w, schema, parquet.Compression(&parquet.Zstd), parquet.CreatedBy("Jorvex", "", ""))
	batch := make([]parquet.Row, 0, 1000)
	flush := func() error {
		_, err := out.WriteRows(batch)
		batch = batch[:0]
		return err
	}
	err = c.Parts(func(_ *Source, part io.Reader) error {
		return rows(part, func(cells []reading.Cell) error {
			row := make(parquet.Row, len(c.Columns))
			for i, col := range c.Columns {
				if text := cells[i].Text; len(text) == 0 {
					row[i] = parquet.NullValue().Level(0, 0, i)
				} else {
					row[i] = parquetValue(col.Type, wide[i], text).Level(0, 1, i)
				}
			}
			if batch = append(batch, row); len(batch) == cap(batch) {
				return flush()
			}
			return nil
		})
	})
	if err == nil {
		err = flush()
	}
	if err != nil {
		return err
	}
	return out.Close()
}

// measure goes through the rows for how many digits the numbers have.
func measure(c Combined) ([]digits, error) {
	wide := make([]digits, len(c.Columns))
	fractions := false
	for _, col := range c.Columns {
		fractions = fractions || col.Type.Number() && col.Type != definition.Whole
	}
	if !fractions {
		return wide, nil
	}
	err := c.Parts(func(_ *Source, part io.Reader) error {
		return rows(part, func(cells []reading.Cell) error {
			for i, col := range c.Columns {
				if !col.Type.Number() || col.Type == definition.Whole {
					continue
				}
				whole, fraction, _ := bytes.Cut(bytes.TrimPrefix(cells[i].Text, []byte{'-'}), []byte{'.'})
				wide[i].whole, wide[i].scale = max(wide[i].whole, len(whole)), max(wide[i].scale, len(fraction))
			}
			return nil
		})
	})
	return wide, err
}

// ordered is a group whose fields stand in the order of the columns.
type ordered struct {
	parquet.Group
	names []string
}

// Fields implements parquet.Node.
func (o ordered) Fields() []parquet.Field {
	fields := o.Group.Fields()
	slices.SortFunc(fields, func(a, b parquet.Field) int {
		return slices.Index(o.names, a.Name()) - slices.Index(o.names, b.Name())
	})
	return fields
}

// parquetType is the type of a column. Decimals of more digits than 64 bits hold
// are text.
func parquetType(t definition.Type, wide digits) parquet.Node {
	switch {
	case t == definition.Whole:
		return parquet.Int(64)
	case t.Number() && wide.whole+wide.scale <= inLong:
		return parquet.Decimal(wide.scale, max(wide.whole+wide.scale, 10), parquet.Int64Type)
	case t == definition.Date:
		return parquet.Date()
	case t == definition.Time:
		return parquet.TimeAdjusted(parquet.Microsecond, false)
	case t == definition.Timestamp:
		return parquet.TimestampAdjusted(parquet.Microsecond, false)
	case t == definition.YesNo:
		return parquet.Leaf(parquet.BooleanType)
	}
	return parquet.String()
}

func parquetValue(t definition.Type, wide digits, text []byte) parquet.Value {
	switch {
	case t == definition.Whole:
		n, _ := strconv.ParseInt(string(text), 10, 64)
		return parquet.Int64Value(n)
	case t.Number() && wide.whole+wide.scale <= inLong:
		r, _ := new(big.Rat).SetString(string(text))
		r.Mul(r, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(wide.scale)), nil)))
		return parquet.Int64Value(r.Num().Int64())
	case t == definition.Date:
		day, _ := time.Parse(time.DateOnly, string(text))
		return parquet.Int32Value(int32(day.Unix() / 86_400)) //nolint:gosec // a day of the calendar
	case t == definition.Time:
		at, _ := time.Parse("15:04:05", string(text))
		return parquet.Int64Value(at.Sub(at.Truncate(24 * time.Hour)).Microseconds())
	case t == definition.Timestamp:
		at, _ := time.Parse(time.DateTime, string(text))
		return parquet.Int64Value(at.UnixMicro())
	case t == definition.YesNo:
		return parquet.BooleanValue(string(text) == "true")
	}
	return parquet.ByteArrayValue(bytes.Clone(text))
}
