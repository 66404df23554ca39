package decode

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

func TestPaths(t *testing.T) {
	for source, want := range map[string][]string{
		"a": {"a"}, "a.b.c": {"a", "b", "c"}, "/a.b/c": {"a.b", "c"}, "/a~1b/c~0d": {"a/b", "c~d"}, "ä.ö": {"ä", "ö"},
		"": nil, "a..b": nil, ".a": nil,
	} {
		keys, err := keysOf(source)
		if want == nil {
			assert.ErrorIs(t, err, errWanted, source)
			assert.Error(t, CheckSource(source))
			continue
		}
		require.NoError(t, err, source)
		assert.Equal(t, want, keys)
		assert.Equal(t, want[0], Top(source))
	}
	assert.Empty(t, Top("*"))
	assert.NoError(t, CheckSource("*"))
	root, err := tree([]string{"a.b", "a.c", "x", "*", "a.b"}, "a.list")
	require.NoError(t, err)
	assert.Equal(t, []int{3}, root.wanted)
	assert.Equal(t, []int{0, 4}, root.child("a").child("b").wanted)
	assert.Equal(t, "list", root.elements().key)
	assert.ElementsMatch(t, []int{0, 1, 2, 3, 4}, root.all())
	for _, key := range []string{"x", "a", "x", "a"} { // in another order than the paths
		assert.Equal(t, key, root.find([]byte(key)).key)
	}
	assert.Nil(t, root.find([]byte("y")))
	_, err = tree([]string{"a..b"}, "")
	assert.ErrorContains(t, err, `source "a..b"`)
	_, err = tree(nil, ".")
	assert.ErrorContains(t, err, "each")
}

// avroOf writes an object container file of one block by hand.
func avroOf(schema string, count int64, records []byte) []byte {
	b := []byte("Obj\x01")
	text := func(s string) {
		b = binary.AppendVarint(b, int64(len(s)))
		b = append(b, s...)
	}
	b = binary.AppendVarint(b, 1)
	text("avro.schema")
	text(schema)
	b = append(b, 0)
	mark := strings.Repeat("m", 16)
	b = append(b, mark...)
	b = binary.AppendVarint(b, count)
	b = binary.AppendVarint(b, int64(len(records)))
	b = append(b, records...)
	return append(b, mark...)
}

func TestTypesOfAvro(t *testing.T) {
	float := binary.LittleEndian.AppendUint32(nil, math.Float32bits(0.1))
	span := binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil,
		1), 2), 3000)
	for kind, c := range map[string]struct {
		bytes []byte
		want  string
	}{
		`"boolean"`:                    {[]byte{1}, "true:boolean"},
		`"int"`:                        {[]byte{0x0d}, "-7:integer"},
		`"float"`:                      {float, "0.1:number"},
		`"string"`:                     {append([]byte{4}, "hi"...), "hi"},
		`"null"`:                       {nil, ""},
		`["null", "string"]`:           {[]byte{0}, ""},
		`["null", {"type": "string"}]`: {append([]byte{2, 4}, "hi"...), "hi"},
		`{"type": "bytes"}`:            {[]byte{4, 0xca, 0xfe}, "cafe:binary"},
		`{"type": "fixed", "name": "f", "size": 2}`:                             {[]byte{1, 2}, "0102:binary"},
		`{"type": "fixed", "name": "u", "size": 16, "logicalType": "uuid"}`:     {bytes.Repeat([]byte{1}, 16), strings.Repeat("01", 16) + ":uuid"},
		`{"type": "fixed", "name": "d", "size": 12, "logicalType": "duration"}`: {span, "P1M2DT3S:duration"},
		`{"type": "int", "logicalType": "time-millis"}`:                         {binary.AppendVarint(nil, 1500), "00:00:01.5:time"},
		`{"type": "long", "logicalType": "local-timestamp-micros"}`:             {binary.AppendVarint(nil, 0), "1970-01-01T00:00:00:local datetime"},
		`{"type": "long", "logicalType": "timestamp-nanos"}`:                    {binary.AppendVarint(nil, 1_000_000), "1970-01-01T00:00:00.001Z:datetime"},
		`{"type": "bytes", "logicalType": "decimal", "scale": 1}`:               {[]byte{4, 0xff, 0x38}, "-20.0:number"},
		`{"type": "enum", "name": "e", "symbols": ["a", "b"]}`:                  {[]byte{2}, "b"},
		`{"type": "map", "values": "int"}`:                                      {[]byte{2, 2, 'k', 8, 0}, `{"k":4}:json`},
		`{"type": "array", "items": "int"}`:                                     {[]byte{3, 4, 8, 2, 0}, `[4,1]:json`}, // a block with its size
		`{"type": "record", "name": "n", "fields": [{"name": "x", "type": "int"}, {"name": "y", "type": "r"}]}`: {nil,
			"!"},
	} {
		schema := fmt.Sprintf(`{"type": "record", "name": "r", "fields": [{"name": "v", "type": %s}]}`, kind)
		require.True(t, json.Valid([]byte(schema)), kind)
		got, err := lines(t, "x.avro", avroOf(schema, 1, c.bytes), How{Format: Avro}, "v")
		if c.want == "!" {
			assert.Error(t, err, kind)
			continue
		}
		require.NoError(t, err, kind)
		assert.Equal(t, "1|"+c.want, got[1], kind)
		if len(c.bytes) > 0 { // the same without its last byte
			_, err = lines(t, "x.avro", avroOf(schema, 1, c.bytes[:len(c.bytes)-1]), How{Format: Avro}, "v")
			var file *FileError
			assert.ErrorAs(t, err, &file, kind)
		}
	}
}

func TestAvroThatIsWrong(t *testing.T) {
	of := func(schema string) []byte { return avroOf(schema, 1, []byte{0}) }
	for want, content := range map[string][]byte{
		"is not JSON":           of("{"),
		"of type string":        of(`"string"`),
		`unknown type "strnig"`: of(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": "strnig"}]}`),
		"field a: 5 is no type": of(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": 5}]}`),
		"a fixed of":            of(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": {"type": "fixed", "name": "f", "size": 1e12}}]}`),
		"types stand more than": of(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": ` +
			strings.Repeat(`{"type": "array", "items": `, 200) + `"int"` + strings.Repeat("}", 200) + `}]}`),
		"member 3 of a union of 2": avroOf(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": ["null", "int"]}]}`, 1, []byte{6}),
		"symbol 3 of 1":            avroOf(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": {"type": "enum", "name": "e", "symbols": ["x"]}}]}`, 1, []byte{6}),
		"no Avro file":             []byte("Obj\x02"),
		"values stand more than":   avroOf(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": ["null", "r"]}]}`, 1, bytes.Repeat([]byte{2}, 5000)),
		"deep in each other":       of(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": "null"}, {"name": "b", "type": "r"}]}`),
		"taken for a bomb":         avroOf(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": "null"}]}`, 1<<40, nil),
		"more than 10000000 values": avroOf(`{"type": "record", "name": "r", "fields": [{"name": "a", "type": {"type": "array", "items": "null"}}]}`, 1,
			append(binary.AppendVarint(nil, 1<<40), 0)),
	} {
		_, err := lines(t, "x.avro", content, How{Format: Avro}, "a")
		var file *FileError
		require.ErrorAs(t, err, &file, want)
		assert.Contains(t, err.Error(), want)
	}
}

// TestFootersThatLie refuses Parquet files whose last bytes speak of more than there
// is, without making room for it.
func TestFootersThatLie(t *testing.T) {
	whole := probes()
	end := func(length uint32, magic string) []byte {
		return append(binary.LittleEndian.AppendUint32(bytes.Clone(whole[:len(whole)-8]), length), magic...)
	}
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"all there is and more": {end(1<<32-1, "PAR1"), "its footer is said to have 4294967295 bytes"},
		"half of it":            {end(1<<31, "PAR1"), "its footer is said to have"},
		"one byte too many":     {end(uint32(len(whole)-11), "PAR1"), "it is damaged"},
		"more than is read":     {append(make([]byte, maxFooter+8), end(maxFooter+1, "PAR1")...), "MiB are the most"},
		"no end":                {end(10, "PARX"), "it may be cut short"},
		"nothing but an end":    {[]byte("PAR1"), "it may be cut short"},
		"no bytes":              {nil, "it may be cut short"},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := newParquet(bytes.NewReader(c.content), int64(len(c.content)), "")
		runtime.ReadMemStats(&after)
		var file *FileError
		require.ErrorAs(t, err, &file, name)
		assert.Contains(t, err.Error(), c.want, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20), "%s: room was made for it", name)
	}
}

// TestDamagedFiles changes each byte of small files, one at a time. Whatever it
// was, reading ends, and an error is one for people.
func TestDamagedFiles(t *testing.T) {
	for format, content := range map[Format][]byte{Parquet: probes(), Avro: samples(t, "deflate"),
		XLSX: book(t, rain)} {
		how := How{Format: format}
		how.Dialect = tabular.DefaultDialect()
		if format == XLSX {
			how.Dialect.SheetNumber = 2
		}
		step := 1 + len(content)/400
		for at := 0; at < len(content); at += step {
			damaged := bytes.Clone(content)
			damaged[at] ^= 0x5a
			began := time.Now()
			_, err := lines(t, "x", damaged, how, "station", "tags", "profile", "id", "results")
			var file *FileError
			if err != nil && !errors.As(err, &file) && !errors.Is(err, io.ErrUnexpectedEOF) {
				t.Fatalf("%s, byte %d: an error without a reason for people: %v", format, at, err)
			}
			require.Less(t, time.Since(began), 20*time.Second, "%s, byte %d", format, at)
		}
	}
}

func TestDatesOfSpreadsheets(t *testing.T) {
	for code, want := range map[string]dateStyle{
		"General": noDate, "0.00": noDate, `"day" 0`: noDate, `0\d`: noDate, "[Red]0": noDate, "#,##0": noDate,
		"yyyy-mm-dd": dateOnly, "d/m/yy": dateOnly, "dd.mm.yyyy hh:mm": dateAndTime, "hh:mm:ss": timeOnly,
		"[h]:mm": timeOnly, `yyyy"T"hh`: dateAndTime, "m/d/yyyy;@": dateOnly,
	} {
		assert.Equal(t, want, dateCode(code), code)
	}
	for i, name := range map[int]string{0: "A", 25: "Z", 26: "AA", 701: "ZZ", 702: "AAA", 16383: "XFD"} {
		assert.Equal(t, name, columnName(i))
		at, err := columnOf(name + "12")
		require.NoError(t, err)
		assert.Equal(t, i, at)
	}
	for _, bad := range []string{"", "12", "a1", "XFE1", "ZZZZZZZZZZ1"} {
		_, err := columnOf(bad)
		assert.Error(t, err, bad)
	}
	s := sheet{epoch: time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)}
	for x, want := range map[float64]string{1: "1900-01-01", 59: "1900-02-28", 61: "1900-03-01", 46204: "2026-07-01"} {
		v := s.date(x, dateOnly)
		assert.Equal(t, want, v.String())
	}
	for text, want := range map[string]string{"0.30000000000000004": "0.3", "1.1": "1.1",
		"123456789012345": "123456789012345", "1E-3": "0.001", "2.2000000000000002": "2.2"} {
		var v tabular.Value
		var x float64
		_, err := fmt.Sscan(text, &x)
		require.NoError(t, err)
		require.NoError(t, tabular.ParseNumber(rounded([]byte(text), x), &v))
		assert.Equal(t, want, v.String(), text)
	}
}

// TestSpans finds cells where they stand in their row: not where another looks
// the same, and nowhere where it cannot be told.
func TestSpans(t *testing.T) {
	plain := tabular.DefaultDialect()
	semicolons := plain
	semicolons.Delimiter = ";"
	fixed := plain
	fixed.Delimiter = ""
	for name, c := range map[string]struct {
		raw   string
		cells []string
		d     tabular.Dialect
		cell  int
		want  string // with the span in brackets; "" where it cannot be told
	}{
		"the first":              {"1,1,1", []string{"1", "1", "1"}, plain, 0, "[1],1,1"},
		"alike":                  {"1,1,1", []string{"1", "1", "1"}, plain, 2, "1,1,[1]"},
		"part of another":        {"112;12;2", []string{"112", "12", "2"}, semicolons, 2, "112;12;[2]"},
		"empty":                  {"a;;b", []string{"a", "", "b"}, semicolons, 1, "a;[];b"},
		"after empty ones":       {";;5", []string{"", "", "5"}, semicolons, 2, ";;[5]"},
		"quoted":                 {`"a;b";"c"`, []string{"a;b", "c"}, semicolons, 1, `"a;b";"[c]"`},
		"with a quote":           {`"a ""b""";c`, []string{`a "b"`, "c"}, semicolons, 0, `"[a ""b""]";c`},
		"behind a quote":         {`"a ""b""";c`, []string{`a "b"`, "c"}, semicolons, 1, `"a ""b""";[c]`},
		"with spaces":            {"a,  b", []string{"a", "b"}, plain, 1, "a,  [b]"},
		"of fixed width":         {"A1  12 12", []string{"A1", "12", "12"}, fixed, 2, "A1  12 [12]"},
		"not as it stands there": {"x,y", []string{"x", "z"}, plain, 1, ""},
		"beyond the row":         {"x,y", []string{"x", "y"}, plain, 2, ""},
		"fewer than it says":     {"x", []string{"x", "y"}, plain, 1, ""},
	} {
		r := Record{Raw: []byte(c.raw)}
		for _, cell := range c.cells {
			r.Cells = append(r.Cells, []byte(cell))
		}
		got := ""
		if from, to, ok := r.CellSpan(c.cell, c.d); ok {
			got = c.raw[:from] + "[" + c.raw[from:to] + "]" + c.raw[to:]
		}
		assert.Equal(t, c.want, got, name)
	}
	for name, c := range map[string]struct{ raw, source, value, want string }{
		"a number":            {`{"a": 9, "level": 9}`, "level", "9", `{"a": 9, "level": [9]}`},
		"a text":              {`{"level":"many","b":"many"}`, "level", "many", `{"level":"[many]","b":"many"}`},
		"below a path":        {`{"id": 1, "sample": {"id": 7}}`, "sample.id", "7", `{"id": 1, "sample": {"id": [7]}}`},
		"by a pointer":        {`{"a/b": "x"}`, "/a~1b", "x", `{"a/b": "[x]"}`},
		"one of several":      {`[{"v":1},{"v":2}]`, "v", "2", `[{"v":1},{"v":[2]}]`},
		"written another way": {`{"level": 1e2}`, "level", "100", ""},
		"no value":            {`{"level": null}`, "level", "", ""},
		"no such key":         {`{"level": 1}`, "flow", "1", ""},
		"no path":             {`{"level": 1}`, "", "1", ""},
	} {
		r := Record{Raw: []byte(c.raw)}
		got := ""
		if from, to, ok := r.MemberSpan(c.source, c.value); ok {
			got = c.raw[:from] + "[" + c.raw[from:to] + "]" + c.raw[to:]
		}
		assert.Equal(t, c.want, got, name)
	}
}

// TestKinds tells of which types the columns of Parquet and Avro files are,
// before a row is read.
func TestKinds(t *testing.T) {
	kinds := func(content []byte, format Format, each string, sources ...string) []tabular.Kind {
		how := How{Format: format, Dialect: tabular.DefaultDialect(), Each: each, Limits: DefaultLimits}
		rows, err := Open(Source{Name: "x", Bytes: bytes.NewReader(content), File: bytes.NewReader(content),
			Size: int64(len(content))}, how)
		require.NoError(t, err)
		got, err := rows.(Typed).Kinds(sources)
		require.NoError(t, err)
		return got
	}
	type inner struct {
		Depth float32 `parquet:"depth"`
		Unit  string  `parquet:"unit,dict"`
	}
	var columns bytes.Buffer
	require.NoError(t, parquet.Write(&columns, []struct {
		ID    int32     `parquet:"id"`
		Up    bool      `parquet:"up,optional"`
		At    time.Time `parquet:"at,timestamp(microsecond)"`
		Day   int32     `parquet:"day,date"`
		Money int64     `parquet:"money,decimal(2:18)"`
		Raw   []byte    `parquet:"raw"`
		Name  *string   `parquet:"name,optional"`
		In    inner     `parquet:"in"`
		List  []inner   `parquet:"list,list"`
	}{{}}))
	assert.Equal(t, []tabular.Kind{tabular.Integer, tabular.Boolean, tabular.Instant, tabular.Day, tabular.Decimal,
		tabular.Binary, tabular.Text, tabular.Float, tabular.Text, tabular.JSON, tabular.JSON, tabular.JSON,
		tabular.Null},
		kinds(columns.Bytes(), Parquet, "", "id", "up", "at", "day", "money", "raw", "name", "in.depth", "in.unit",
			"in", "list", "*", "nothing"))
	assert.Equal(t, []tabular.Kind{tabular.Integer, tabular.Null}, kinds(columns.Bytes(), Parquet, "list", "id",
		"list.depth"), "what is in elements is looked at row by row")

	container := avroOf(`{"type":"record","name":"r","fields":[{"name":"id","type":"long"},{"name":"up","type":["null","boolean"]},{"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}},
		{"name":"day","type":{"type":"int","logicalType":"date"}},{"name":"money","type":{"type":"bytes","logicalType":"decimal","precision":9,"scale":2}},{"name":"raw","type":"bytes"},
		{"name":"either","type":["int","string"]},{"name":"in","type":["null",{"type":"record","name":"i","fields":[{"name":"depth","type":"float"},{"name":"how","type":{"type":"enum","name":"e","symbols":["A"]}}]}]},
		{"name":"list","type":{"type":"array","items":"int"}},{"name":"span","type":{"type":"fixed","name":"f","size":12,"logicalType":"duration"}}]}`, 0, nil)
	assert.Equal(t, []tabular.Kind{tabular.Integer, tabular.Boolean, tabular.Instant, tabular.Day, tabular.Decimal,
		tabular.Binary, tabular.Null, tabular.Float, tabular.Text, tabular.JSON, tabular.JSON, tabular.Null,
		tabular.Null},
		kinds(container, Avro, "", "id", "up", "at", "day", "money", "raw", "either", "in.depth", "in.how", "in",
			"list", "span", "nothing"))
}

func TestWhatLiesInMemory(t *testing.T) {
	const size = 10 << 20
	for _, c := range []struct {
		format   Format
		name     string
		seekable bool
		want     int64
	}{
		{CSV, "a.csv.gz", false, 0},
		{Avro, "a.avro", false, 0},
		{Parquet, "a.parquet", true, 0},
		{Parquet, "a.zip/a.parquet", false, size},
		{Parquet, "a.parquet.ZST", true, maxWhole},
		{XLSX, "a.xlsx.gz", false, maxWhole},
	} {
		assert.Equal(t, c.want, Held(c.format, c.name, size, c.seekable), c.name)
	}
	assert.Equal(t, int64(250), Held(XLSX, "a.xlsx.gz", 1, true), "no more than it may unpack to")
}
