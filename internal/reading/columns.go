package reading

import (
	"bytes"

	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// columns takes rows by column from formats that hold them so: the cells of one column are
// converted one after the other, and one that stands in many rows once.
type columns struct {
	from  decode.Columnar
	batch *decode.Batch
	at    int // the row at hand
	taken []takenColumn
	bad   []bool // by row: a cell cannot become one of its column
	rec   decode.Record
	raw   []tabular.Value
}

// takenColumn is the converted cells of a column.
type takenColumn struct {
	values   []tabular.Value // by row of the batch
	codebook int
	known    []tabular.Value // by code; Null for those that did not come yet
	room     int             // for bytes of texts in known
}

// Bounds of the bytes of texts that are known: of a column, and of all.
const (
	knownSize = 256 << 10
	knownAll  = 8 << 20
)

// next goes on to the next row. Its values are to be had by row, or by complete.
func (c *columns) next(f *File) (*decode.Record, error) {
	c.at++
	if c.batch == nil || c.at == c.batch.Rows {
		batch, err := c.from.Batch()
		if err != nil {
			return nil, err
		}
		c.batch, c.at = batch, 0
		c.take(f)
	}
	c.rec = decode.Record{Line: c.batch.First + int64(c.at)}
	return &c.rec, nil
}

// take converts the cells of a batch.
func (c *columns) take(f *File) {
	if c.taken == nil {
		c.taken = make([]takenColumn, len(f.columns))
	}
	c.bad = append(c.bad[:0], make([]bool, c.batch.Rows)...)
	for i, column := range f.columns {
		t := &c.taken[i]
		if t.codebook != c.batch.Codebook {
			clear(t.known)
			t.codebook, t.known, t.room = c.batch.Codebook, t.known[:0], min(knownSize, knownAll/len(c.taken))
		}
		t.take(column, &c.batch.Columns[f.position[i]], c.bad)
	}
}

// take converts a column's cells and says in which rows that is not possible.
func (t *takenColumn) take(c *tabular.Column, in *decode.BatchColumn, bad []bool) {
	if len(t.values) < len(bad) {
		t.values = make([]tabular.Value, len(bad))
	}
	for row := range bad {
		code := int(in.Codes[row])
		out := &t.values[row]
		if uint(code) < uint(len(t.known)) && t.known[code].Kind != tabular.Null {
			*out = t.known[code]
			continue
		}
		if c.Take(in.At(row), out) != nil {
			bad[row] = true
		} else if code >= 0 {
			t.keep(code, *out)
		}
	}
}

// keep remembers what a code stands for.
func (t *takenColumn) keep(code int, v tabular.Value) {
	if t.room -= len(v.B); t.room < 0 {
		return
	}
	for len(t.known) <= code {
		t.known = append(t.known, tabular.Value{})
	}
	v.B = bytes.Clone(v.B)
	t.known[code] = v
}

// row copies the converted row at hand. ok is false where a cell of it could not be converted.
func (c *columns) row(values []tabular.Value) (ok bool) {
	if c.bad[c.at] {
		return false
	}
	for i := range c.taken {
		values[i] = c.taken[i].values[c.at]
	}
	return true
}

// complete fills in the values of a record, as they stand in the file.
func (c *columns) complete(rec *decode.Record) {
	if rec.Values != nil {
		return
	}
	c.raw = c.raw[:0]
	for i := range c.batch.Columns {
		c.raw = append(c.raw, *c.batch.Columns[i].At(c.at))
	}
	rec.Values = c.raw
}
