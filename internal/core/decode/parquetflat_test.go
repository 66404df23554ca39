package decode

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// reading is a row with a column of each way in which values lie in pages.
type reading struct {
	Station string    `parquet:"station,dict"`
	Note    *string   `parquet:"note,optional,dict"` // with more values than are made at once
	Text    *string   `parquet:"text,optional"`
	At      time.Time `parquet:"at,timestamp(millisecond)"`
	Cut     *int64    `parquet:"cut,optional"`
	Day     int32     `parquet:"day,date"`
	Level   *float64  `parquet:"level,optional,dict"`
	Small   float32   `parquet:"small"`
	Price   int64     `parquet:"price,decimal(2:18)"`
	ID      [16]byte  `parquet:"id,uuid"`
	OK      *bool     `parquet:"ok,optional"`
	Count   uint32    `parquet:"count"`
	Site    *struct {
		Name string `parquet:"name"`
	} `parquet:"site,optional"`
}

var readingColumns = []string{"station", "note", "text", "at", "cut", "day", "level", "small", "price", "id", "ok",
	"count", "site.name", "station"}

func readingOf(i int) reading {
	r := reading{Station: fmt.Sprintf("SR%02d", i%7), At: time.UnixMilli(int64(i) * 1000).UTC(), Day: int32(i % 400),
		Small: float32(i) / 10, Price: int64(i) - 50, ID: [16]byte{15: byte(i)}, Count: uint32(i) + 4_000_000_000}
	if note := fmt.Sprintf("note %d", i%5000); i%3 != 0 {
		r.Note = &note
	}
	if text := fmt.Sprintf("text %d", i); i%100 < 60 {
		r.Text = &text
	}
	if cut := int64(-i); i%5 == 0 {
		r.Cut = &cut
	}
	if level := float64(i%250) / 4; i%11 != 0 {
		r.Level = &level
	}
	if ok := i%2 == 0; i%4 != 3 {
		r.OK = &ok
	}
	if i%6 != 0 {
		r.Site = &struct {
			Name string `parquet:"name"`
		}{fmt.Sprint("site ", i%9)}
	}
	return r
}

// shown is the row as texts.
func (r reading) shown() (out []string) {
	maybe := func(there bool, text func() string) {
		if !there {
			out = append(out, "")
			return
		}
		out = append(out, text())
	}
	out = append(out, r.Station)
	maybe(r.Note != nil, func() string { return *r.Note })
	maybe(r.Text != nil, func() string { return *r.Text })
	out = append(out, r.At.Format("2006-01-02T15:04:05Z"))
	maybe(r.Cut != nil, func() string { return fmt.Sprint(*r.Cut) })
	out = append(out, time.Unix(int64(r.Day)*86400, 0).UTC().Format("2006-01-02"))
	maybe(r.Level != nil, func() string { return fmt.Sprint(*r.Level) })
	small := &tabular.Value{}
	_ = floatValue(float64(r.Small), 32, small)
	out = append(out, small.String())
	out = append(out, (&tabular.Value{Kind: tabular.Decimal, I: r.Price, Scale: 2}).String())
	out = append(out, fmt.Sprintf("%x", r.ID[:]))
	maybe(r.OK != nil, func() string { return fmt.Sprint(*r.OK) })
	out = append(out, fmt.Sprint(r.Count))
	maybe(r.Site != nil, func() string { return r.Site.Name })
	return append(out, r.Station)
}

func readings(t testing.TB, n int, options ...parquet.WriterOption) []byte {
	var b bytes.Buffer
	w := parquet.NewGenericWriter[reading](&b, options...)
	for i := range n {
		_, err := w.Write([]reading{readingOf(i)})
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func selected(t testing.TB, content []byte, sources ...string) Columnar {
	rows, err := Open(Source{Name: "x", File: bytes.NewReader(content), Size: int64(len(content))},
		How{Format: Parquet})
	require.NoError(t, err)
	require.NoError(t, rows.(Selector).Select(sources))
	return rows.(Columnar)
}

func shownValues(at func(i int) *tabular.Value) (out []string) {
	for i := range readingColumns {
		out = append(out, at(i).String())
	}
	return out
}

func TestParquetByColumn(t *testing.T) {
	const rows = 9000
	for name, options := range map[string][]parquet.WriterOption{
		"one group":                {},
		"small pages, many groups": {parquet.PageBufferSize(1000), parquet.MaxRowsPerRowGroup(1700)},
		"packed, as of old":        {parquet.DataPageVersion(1), parquet.Compression(&parquet.Snappy)},
		"dictionaries are given up halfway": {parquet.DictionaryMaxBytes(2000), parquet.PageBufferSize(500),
			parquet.MaxRowsPerRowGroup(6000)},
	} {
		t.Run(name, func(t *testing.T) {
			same := func(row int, at func(i int) *tabular.Value) {
				want, got := readingOf(row).shown(), shownValues(at)
				if !slices.Equal(want, got) { // said by hand, since there are many
					require.Equal(t, want, got, "row %d", row)
				}
			}
			content := readings(t, rows, options...)
			by := selected(t, content, readingColumns...)
			require.True(t, by.ByColumn())
			coded, next := 0, 0
			for {
				b, err := by.Batch()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				require.EqualValues(t, next+1, b.First)
				for row := range b.Rows {
					same(next, func(i int) *tabular.Value { return b.Columns[i].At(row) })
					if b.Columns[0].Codes[row] >= 0 {
						coded++
					}
					next++
				}
			}
			assert.Equal(t, rows, next)
			assert.Positive(t, coded, "stations are told by their codes")

			one := selected(t, content, readingColumns...)
			for i := range rows {
				rec, err := one.Next()
				require.NoError(t, err)
				require.EqualValues(t, i+1, rec.Line)
				same(i, func(i int) *tabular.Value { return &rec.Values[i] })
			}
			_, err := one.Next()
			assert.Equal(t, io.EOF, err)
		})
	}
	assert.False(t, selected(t, readings(t, 1), "station", "site").ByColumn(), "groups are made row by row")
}

// byColumn reads all of a file, and returns what it ends with.
func byColumn(content []byte, sources ...string) error {
	rows, err := Open(Source{Name: "x", File: bytes.NewReader(content), Size: int64(len(content))},
		How{Format: Parquet})
	if err != nil {
		return err
	}
	if err := rows.(Columnar).Select(sources); err != nil {
		return err
	}
	for err == nil {
		_, err = rows.(Columnar).Batch()
	}
	return err
}

func TestDamagedParquetByColumn(t *testing.T) {
	content := readings(t, 3000, parquet.PageBufferSize(2000), parquet.MaxRowsPerRowGroup(1000))
	require.Equal(t, io.EOF, byColumn(content, readingColumns...))
	bad := 0
	for at := 100; at < len(content)-20_000; at += 977 {
		damaged := bytes.Clone(content)
		damaged[at] ^= 0x55
		if err := byColumn(damaged, readingColumns...); err != io.EOF {
			var file *FileError
			require.True(t, errors.As(err, &file), "%d: %v", at, err)
			bad++
		}
	}
	assert.Positive(t, bad)

	// A number that is none ends a file in its row, after those before it.
	by := selected(t, readings(t, 3000), readingColumns...)
	read := by.(*parquetFile).flats[4].node.read
	by.(*parquetFile).flats[4].node.asIs = false
	by.(*parquetFile).flats[4].node.read = func(v parquet.Value, out *tabular.Value) error {
		if v.Int64() == -1505 {
			return errors.New("no such number")
		}
		return read(v, out)
	}
	next, err := int64(1), error(nil)
	for b := (*Batch)(nil); err == nil; {
		if b, err = by.Batch(); err == nil {
			next = b.First + int64(b.Rows)
		}
	}
	assert.EqualValues(t, 1506, next)
	assert.EqualError(t, err, "row 1506 cannot be read (no such number): it is damaged")
}
