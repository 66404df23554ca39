package extract

import (
	"fmt"
	"io"
	"math/big"

	"github.com/parquet-go/parquet-go"

	"mullein/internal/core/tabular"
)

// parquetFile writes Parquet, column by column.
type parquetFile struct {
	out     *parquet.GenericWriter[any]
	columns []Column
	cells   []parquet.Value // of a column of a batch
	text    []byte          // what cells' bytes point into
	inGroup int             // rows of the row group that is being written
}

// Rows of a row group: readers hold one at a time.
const groupRows = 128 * batchRows

// The most digits of decimals of 32 and 64 bits, and of those of 16 bytes.
const (
	tinyDecimal  = 9
	smallDecimal = 18
	largeDecimal = 38
	decimalBytes = 16
)

func newParquet(to io.Writer, columns []Column) *parquetFile {
	return &parquetFile{columns: columns, cells: make([]parquet.Value, 0, batchRows),
		out: parquet.NewGenericWriter[any](to, parquet.NewSchema("rows", newOrdered(columns)), parquet.Compression(&parquet.Snappy), parquet.DataPageStatistics(false),
			parquet.CreatedBy("mullein", "", ""))}
}

// ordered is a group whose columns stay in their order.
type ordered struct {
	parquet.Group
	fields []parquet.Field
}

func newOrdered(columns []Column) *ordered {
	g := &ordered{Group: parquet.Group{}}
	for i := range columns {
		g.Group[columns[i].Name] = parquet.Optional(parquetNode(&columns[i]))
	}
	byName := map[string]parquet.Field{}
	for _, f := range g.Group.Fields() {
		byName[f.Name()] = f
	}
	for i := range columns {
		g.fields = append(g.fields, byName[columns[i].Name])
	}
	return g
}

func (g *ordered) Fields() []parquet.Field { return g.fields }

func parquetNode(c *Column) parquet.Node {
	switch c.Kind {
	case tabular.Integer:
		return parquet.Int(max(32, c.Bits))
	case tabular.Float:
		return parquet.Leaf(parquet.DoubleType)
	case tabular.Boolean:
		return parquet.Leaf(parquet.BooleanType)
	case tabular.Decimal:
		switch {
		case c.Precision == 0 || c.Precision > largeDecimal: // no decimal of Parquet takes them all
			return parquet.String()
		case c.Precision <= tinyDecimal:
			return parquet.Decimal(c.Scale, c.Precision, parquet.Int32Type)
		case c.Precision <= smallDecimal:
			return parquet.Decimal(c.Scale, c.Precision, parquet.Int64Type)
		}
		return parquet.Decimal(c.Scale, c.Precision, parquet.FixedLenByteArrayType(decimalBytes))
	case tabular.Instant, tabular.Wall:
		return parquet.TimestampAdjusted(parquet.Microsecond, c.Kind == tabular.Instant)
	case tabular.Day:
		return parquet.Date()
	case tabular.Clock:
		return parquet.TimeAdjusted(parquet.Microsecond, false)
	case tabular.JSON:
		return parquet.JSON()
	case tabular.Binary:
		return parquet.Leaf(parquet.ByteArrayType)
	case tabular.UUID:
		return parquet.UUID()
	}
	return parquet.String()
}

func (f *parquetFile) rows(b *Batch, from, to int) error {
	for i, column := range f.out.ColumnWriters() {
		f.cells, f.text = f.cells[:0], f.text[:0]
		for row := from; row < to; row++ {
			v := &b.Values[row*len(f.columns)+i]
			cell := parquet.NullValue()
			if v.Kind != tabular.Null {
				var err error
				if cell, err = f.cell(&f.columns[i], v); err != nil {
					return fmt.Errorf("column %s: %w", f.columns[i].Name, err)
				}
				cell = cell.Level(0, 1, i)
			} else {
				cell = cell.Level(0, 0, i)
			}
			f.cells = append(f.cells, cell)
		}
		if _, err := column.WriteRowValues(f.cells); err != nil {
			return err
		}
	}
	if f.inGroup += to - from; f.inGroup >= groupRows {
		f.inGroup = 0
		return f.out.Flush()
	}
	return nil
}

func (f *parquetFile) cell(c *Column, v *tabular.Value) (parquet.Value, error) {
	if v.Odd != tabular.Finite && v.Kind != tabular.Decimal {
		return parquet.Value{}, fmt.Errorf("%s: Parquet has no such time; give it another value in a select", appendText(nil, v))
	}
	switch v.Kind {
	case tabular.Integer:
		if c.Bits == 64 {
			return parquet.Int64Value(v.I), nil
		}
		return parquet.Int32Value(int32(v.I)), nil
	case tabular.Float:
		return parquet.DoubleValue(v.X), nil
	case tabular.Boolean:
		return parquet.BooleanValue(v.I != 0), nil
	case tabular.Decimal:
		return f.decimal(c, v)
	case tabular.Instant, tabular.Wall, tabular.Clock:
		return parquet.Int64Value(v.I), nil
	case tabular.Day:
		return parquet.Int32Value(int32(v.I)), nil
	case tabular.UUID:
		return parquet.FixedLenByteArrayValue(v.B), nil
	}
	return parquet.ByteArrayValue(v.B), nil
}

func (f *parquetFile) decimal(c *Column, v *tabular.Value) (parquet.Value, error) {
	switch {
	case c.Precision == 0 || c.Precision > largeDecimal:
		at := len(f.text)
		f.text = appendDecimal(f.text, v)
		return parquet.ByteArrayValue(f.text[at:len(f.text):len(f.text)]), nil
	case v.Odd != tabular.Finite:
		return parquet.Value{}, fmt.Errorf("%s: Parquet's decimals have no such number; give it another value in a select", v.String())
	case int(v.Scale) != c.Scale:
		return parquet.Value{}, fmt.Errorf("%s has %d digits after the point, and the column %d", v.String(), v.Scale, c.Scale)
	case c.Precision <= tinyDecimal:
		return parquet.Int32Value(int32(wholeOf(v))), nil
	case c.Precision <= smallDecimal:
		return parquet.Int64Value(wholeOf(v)), nil
	}
	return f.largeDecimal(v.BigInt()), nil
}

// largeDecimal writes a number as 16 bytes, the highest first, in two's complement.
func (f *parquetFile) largeDecimal(n *big.Int) parquet.Value {
	at := len(f.text)
	f.text = append(f.text, make([]byte, decimalBytes)...)
	out := f.text[at:len(f.text):len(f.text)]
	if n.Sign() < 0 {
		n = new(big.Int).Add(n, new(big.Int).Lsh(big.NewInt(1), 8*decimalBytes))
	}
	n.FillBytes(out)
	return parquet.FixedLenByteArrayValue(out)
}

// size counts what is not written yet as it is before it is compressed.
func (f *parquetFile) size(written int64) int64 { return max(written, f.out.Size()) }

func (f *parquetFile) close() error { return f.out.Close() }

// wholeOf returns a decimal of at most 18 digits without its point.
func wholeOf(v *tabular.Value) int64 {
	if v.B == nil {
		return v.I
	}
	return v.BigInt().Int64()
}
