package decode

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/hamba/avro/v2/ocf"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// lines reads a file and returns its rows for people: line, element, then the
// values with their kinds.
func lines(t testing.TB, name string, content []byte, how How, sources ...string) ([]string, error) {
	t.Helper()
	if how.Dialect.Delimiter == "" {
		how.Dialect = tabular.DefaultDialect()
	}
	how.Limits = DefaultLimits
	rows, err := Open(Source{Name: name, Bytes: bytes.NewReader(content), File: bytes.NewReader(content),
		Size: int64(len(content))}, how)
	if err != nil {
		return nil, err
	}
	header, err := rows.Header()
	if err != nil {
		return nil, err
	}
	out := []string{strings.Join(header, ",")}
	if selector, ok := rows.(Selector); ok {
		if err := selector.Select(sources); err != nil {
			return nil, err
		}
	}
	for {
		rec, err := rows.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		line := fmt.Sprintf("%d", rec.Line)
		if rec.Element > 0 {
			line += fmt.Sprintf(".%d", rec.Element)
		}
		for _, c := range rec.Cells {
			line += "|" + string(c)
		}
		for i := range rec.Values {
			v := &rec.Values[i]
			line += "|" + v.String()
			if v.Kind != tabular.Text && v.Kind != tabular.Null {
				line += ":" + v.Kind.String()
			}
		}
		if rec.Problem != "" {
			line += "!" + rec.Problem
		}
		out = append(out, line)
	}
}

func TestDialects(t *testing.T) {
	d := func(change func(*tabular.Dialect)) tabular.Dialect {
		out := tabular.DefaultDialect()
		change(&out)
		return out
	}
	for name, c := range map[string]struct {
		text    string
		dialect tabular.Dialect
		want    []string
	}{
		"a delimiter of several bytes": {"a||b\n1||\"2||3\"\n", d(func(d *tabular.Dialect) { d.Delimiter = "||" }),
			[]string{"a,b", "2|1|2||3"}},
		"another alphabet's delimiter": {"a¦b\n1¦2\n", d(func(d *tabular.Dialect) { d.Delimiter = "¦" }),
			[]string{"a,b", "2|1|2"}},
		"escapes": {"a,b\n1\\,5,x\\\ny\n", d(func(d *tabular.Dialect) { d.EscapeChar = '\\' }),
			[]string{"a,b", "2|1,5|x\ny"}},
		"escapes inside quotes": {"a,b\n\"1\\\"5\",2\n",
			d(func(d *tabular.Dialect) { d.EscapeChar, d.DoubleQuote = '\\', false }), []string{"a,b", "2|1\"5|2"}},
		"spaces before cells": {"a, b\n1, \"2, 3\"\n",
			d(func(d *tabular.Dialect) { d.SkipInitialSpace = true }), []string{"a,b", "2|1|2, 3"}},
		"old Mac line ends": {"a,b\r1,2\r3,\"4\r5\"\r", tabular.DefaultDialect(),
			[]string{"a,b", "2|1|2", "3|3|4\r5"}},
		"a line end of its own": {"a,b;1,2;3,4", d(func(d *tabular.Dialect) { d.LineTerminator = ";" }),
			[]string{"a,b", "2|1|2", "3|3|4"}},
		"two header rows below a title": {"Gauges\n\nlevel,level,flow\nraw,m,\n1,2,3\n",
			d(func(d *tabular.Dialect) { d.HeaderRows, d.HeaderJoin = []int{3, 4}, "_" }),
			[]string{"level_raw,level_m,flow", "5|1|2|3"}},
		"comment rows": {"a,b\nunits,m\n1,2\n",
			d(func(d *tabular.Dialect) { d.CommentRows = []int{2} }), []string{"a,b", "3|1|2"}},
		"no quotes": {"a,b\n\"1,2\"\n", d(func(d *tabular.Dialect) { d.QuoteChar = 0 }),
			[]string{"a,b", "2|\"1|2\""}},
		"CRLF and newlines in quotes": {"a,b\r\n\"1\r\n2\",3\r\n4,5", tabular.DefaultDialect(),
			[]string{"a,b", "2|1\r\n2|3", "4|4|5"}},
	} {
		got, err := lines(t, "x.csv", []byte(c.text), How{Format: CSV, Dialect: c.dialect})
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
	got, err := lines(t, "x.csv", []byte("a\n1\x81\n"), How{Format: CSV, Charset: "windows-1252"})
	require.NoError(t, err)
	assert.Contains(t, got[1], "no characters of windows-1252")
}

func TestFixedWidth(t *testing.T) {
	how := How{Format: Fixed, Widths: []Width{{1, 4}, {5, 9}, {10, 10}}}
	how.Dialect = tabular.DefaultDialect()
	how.Dialect.Header = false
	got, err := lines(t, "x.txt", []byte("SR01 2.51A\nSÜ02 3.0\n\nSR03\n"), how)
	require.NoError(t, err)
	assert.Equal(t, []string{"", "1|SR01|2.51|A", "2|SÜ02|3.0|", "4|SR03||"}, got)
	for _, bad := range []string{"", "x", "0-3", "4-2", "1-9999999"} {
		_, err := ParseWidth(bad)
		assert.Error(t, err, bad)
	}
}

const nested = `{"id": 1, "sample": {"site": {"id": "SR\u00e9"}}, "results": [{"code": "pH", "value": 7.10}, {"code": "T", "value": null}]}
{"id": 2, "sample": {"site": null}, "results": []}

{"id": 3, "results": [{"code": "pH", "value": -12345678901234567890.5}], "ok": true}
`

func TestJSON(t *testing.T) {
	sources := []string{"id", "sample.site.id", "results.code", "results.value"}
	each := []string{"id,sample,results,ok", "1|1:integer|SRé|pH|7.10:number", "1.1|1:integer|SRé|T|",
		"4|3:integer||pH|-12345678901234567890.5:number"}
	got, err := lines(t, "x.jsonl", []byte(nested), How{Format: Lines, Each: "results"}, sources...)
	require.NoError(t, err)
	assert.Equal(t, each, got)
	each[3] = strings.Replace(each[3], "4|", "3|", 1) // by number, where there are no lines
	array := "[" + strings.Join(strings.Fields(strings.NewReplacer("}\n{", "},{", "}\n\n{", "},{").Replace(nested)),
		"") + "]"
	for name, text := range map[string]string{"one after another": nested,
		"without anything between": strings.ReplaceAll(nested, "\n", ""), "an array": array} {
		got, err = lines(t, "x.json", []byte(text), How{Format: JSON, Each: "results"}, sources...)
		require.NoError(t, err, name)
		assert.Equal(t, each, got, name)
	}
	d := tabular.DefaultDialect()
	d.Property = "data.samples"
	got, err = lines(t, "x.json",
		[]byte(`{"meta": {"samples": [9]}, "data": {"n": 2, "samples": `+array+`, "more": [1]}, "end": {}}`),
		How{Format: JSON, Each: "results", Dialect: d}, sources...)
	require.NoError(t, err)
	assert.Equal(t, each, got)
	got, err = lines(t, "x.jsonl", []byte(`{"a": {"b": [1, 2]}, "a.b": 5, "t": "x\n\ud83d\ude00"}`+"\n"+`{"a": 7}`),
		How{Format: Lines}, "a", "/a.b", "*", "a.b", "t")
	require.NoError(t, err)
	assert.Equal(t, []string{"a,a.b,t",
		`1|{"b": [1, 2]}:json|5:integer|{"a": {"b": [1, 2]}, "a.b": 5, "t": "x\n\ud83d\ude00"}:json|[1, 2]:json|` +
			"x\n😀", `2|7:integer||{"a": 7}:json||`}, got)
	got, err = lines(t, "x.json", []byte(`[["id","v"],[1,"a"],[2,null]]`), How{Format: JSON}, "v", "id")
	require.NoError(t, err)
	assert.Equal(t, []string{"id,v", "1|a|1:integer", "2||2:integer"}, got)
}

func TestBrokenJSON(t *testing.T) {
	got, err := lines(t, "x.jsonl",
		[]byte("{\"a\": 1}\n{\"a\": 01}\n{\"a\": 2\n{\"a\": \"x\"}}\n{\"a\":1,\"a\":2}\n{\"a\": tru}\nnull\n{\"a\": "+
			"3}\n"), How{Format: Lines}, "a")
	require.NoError(t, err)
	require.Len(t, got, 9)
	for i, want := range []string{"", "expected", "comma or }", "its end", "twice", "a value", "an object", ""} {
		if want == "" {
			assert.NotContains(t, got[i+1], "!")
			continue
		}
		assert.Contains(t, got[i+1], want, "a broken line is one reject")
	}
	for text, want := range map[string]string{
		`[{"a": 1}, {"a": 2}`: "cut short", `[{"a": 1} {"a": 2}]`: "comma", `[{"a": 1}]x`: "after the end",
		`{"a": 1`: "cut short", `[1, 2]`: "record was expected", ``: "no records",
		`[{"a": 1,}]`: "a key", `{"a": "` + "\x01" + `"}`: "the end of a text",
		strings.Repeat("[", 50000): "cut short", `{"a":` + strings.Repeat("[", 200) + strings.Repeat("]", 200) +
			`}`: "deep",
	} {
		_, err := lines(t, "x.json", []byte(text), How{Format: JSON}, "a")
		var file *FileError
		require.ErrorAs(t, err, &file, text)
		assert.Contains(t, err.Error(), want, text)
	}
	d := tabular.DefaultDialect()
	d.Property = "data"
	for text, want := range map[string]string{`{"dat": []}`: "no data", `{"data": {}}`: "not an array",
		`{"data": [{"a":1}]`: "cut short", `[1]`: "no object"} {
		_, err := lines(t, "x.json", []byte(text), How{Format: JSON, Dialect: d}, "a")
		assert.ErrorContains(t, err, want, text)
	}
}

type probe struct {
	At      time.Time                 `parquet:"at,timestamp(microsecond)"`
	Day     int32                     `parquet:"day,date"`
	Station string                    `parquet:"station,dict"`
	Depth   *float64                  `parquet:"depth,optional"`
	Small   float32                   `parquet:"small"`
	Price   int64                     `parquet:"price,decimal(2:18)"`
	Count   uint32                    `parquet:"count"`
	OK      bool                      `parquet:"ok"`
	Tags    []string                  `parquet:"tags,list"`
	Site    struct{ ID, Name string } `parquet:"site"`
	Profile []struct {
		Depth float64  `parquet:"depth"`
		Temp  *float64 `parquet:"temp,optional"`
	} `parquet:"profile,list"`
}

func probes() []byte {
	warm, deep := 11.5, 2.25
	one := probe{At: time.Date(2026, 7, 1, 12, 0, 0, 5000, time.UTC), Day: 20635, Station: "SB01", Depth: &deep,
		Small: 0.1, Price: 1999, Count: 4_000_000_000, OK: true, Tags: []string{"a", "b\"c"}}
	one.Site.ID = "S1"
	one.Profile = append(one.Profile, struct {
		Depth float64  `parquet:"depth"`
		Temp  *float64 `parquet:"temp,optional"`
	}{0.5, &warm}, struct {
		Depth float64  `parquet:"depth"`
		Temp  *float64 `parquet:"temp,optional"`
	}{Depth: 1})
	two := probe{Station: "SB02", At: time.Unix(0, 0).UTC()}
	var b bytes.Buffer
	if err := parquet.Write(&b, []probe{one, two, one}); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func TestParquet(t *testing.T) {
	got, err := lines(t, "x.parquet", probes(), How{Format: Parquet}, "station", "at", "day", "depth", "small",
		"price", "count", "ok", "tags", "site.ID", "site")
	require.NoError(t, err)
	assert.Equal(t, []string{
		"at,day,station,depth,small,price,count,ok,tags,site,profile",
		`1|SB01|2026-07-01T12:00:00.000005Z:datetime|2026-07-01:date|2.25:float|0.1:number|19.99:number|4000000000:integer|true:boolean|["a","b\"c"]:json|S1|{"ID":"S1","Name":""}:json`,
		`2|SB02|1970-01-01T00:00:00Z:datetime|1970-01-01:date||0:integer|0.00:number|0:integer|false:boolean|[]:json||{"ID":"","Name":""}:json`,
		`3|SB01|2026-07-01T12:00:00.000005Z:datetime|2026-07-01:date|2.25:float|0.1:number|19.99:number|4000000000:integer|true:boolean|["a","b\"c"]:json|S1|{"ID":"S1","Name":""}:json`,
	}, got)
	got, err = lines(t, "x.parquet", probes(), How{Format: Parquet, Each: "profile"}, "station", "profile.depth",
		"profile.temp")
	require.NoError(t, err)
	assert.Equal(t, []string{"1|SB01|0.5:number|11.5:number", "1.1|SB01|1:integer|", "3|SB01|0.5:number|11.5:number",
		"3.1|SB01|1:integer|"}, got[1:])
	packed, err := lines(t, "x.parquet.gz", pack(t, probes()), How{Format: Parquet}, "station")
	require.NoError(t, err)
	assert.Len(t, packed, 4)
	_, err = lines(t, "x.parquet", probes()[:300], How{Format: Parquet}, "station")
	assert.ErrorContains(t, err, "cut short")
}

const avroSchema = `{"type": "record", "name": "sample", "namespace": "sorrel", "fields": [
	{"name": "id", "type": "long"}, {"name": "station", "type": ["null", "string"]},
	{"name": "at", "type": {"type": "long", "logicalType": "timestamp-millis"}}, {"name": "day", "type": {"type": "int", "logicalType": "date"}},
	{"name": "price", "type": {"type": "bytes", "logicalType": "decimal", "precision": 20, "scale": 2}},
	{"name": "kind", "type": {"type": "enum", "name": "kind", "symbols": ["raw", "mended"]}},
	{"name": "results", "type": {"type": "array", "items": {"type": "record", "name": "result", "fields": [{"name": "code", "type": "string"}, {"name": "value", "type": ["double", "null"]}]}}},
	{"name": "more", "type": {"type": "map", "values": "int"}}]}`

func samples(t testing.TB, codec ocf.CodecName) []byte {
	var b bytes.Buffer
	e, err := ocf.NewEncoder(avroSchema, &b, ocf.WithCodec(codec))
	require.NoError(t, err)
	for n := range 3 {
		require.NoError(t, e.Encode(map[string]any{
			"id": int64(n), "station": map[string]any{"string": fmt.Sprintf("SR%d", n)},
			"at": time.UnixMilli(1_782_900_000_000).UTC(), "day": time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC),
			"price": big.NewRat(-1999, 100), "kind": "mended",
			"results": []any{map[string]any{"code": "pH", "value": map[string]any{"double": 7.5}},
				map[string]any{"code": "T", "value": nil}}, "more": map[string]any{"x": 1},
		}))
	}
	require.NoError(t, e.Close())
	return b.Bytes()
}

func TestAvro(t *testing.T) {
	for _, codec := range []ocf.CodecName{ocf.Null, ocf.Deflate, ocf.Snappy, ocf.ZStandard} {
		got, err := lines(t, "x.avro", samples(t, codec), How{Format: Avro}, "id", "station", "at", "day", "price",
			"kind", "results", "more")
		require.NoError(t, err, codec)
		assert.Equal(t, "id,station,at,day,price,kind,results,more", got[0])
		assert.Equal(t, `2|1:integer|SR1|2026-07-01T10:00:00Z:datetime|2026-07-01:date|-19.99:number|mended|[{"code":"pH","value":7.5},{"code":"T","value":null}]:json|{"x":1}:json`, got[2])
	}
	got, err := lines(t, "x.avro", samples(t, ocf.Null), How{Format: Avro, Each: "results"}, "id", "results.code",
		"results.value")
	require.NoError(t, err)
	assert.Equal(t, []string{"1|0:integer|pH|7.5:number", "1.1|0:integer|T|", "2|1:integer|pH|7.5:number"}, got[1:4])
	whole := samples(t, ocf.Null)
	for n := range whole { // a file may end anywhere
		got, err := lines(t, "x.avro", whole[:n], How{Format: Avro}, "id")
		if err == nil {
			assert.Len(t, got, 1, "only the header is whole")
		}
	}
}

// book makes an xlsx file of its parts.
func book(t testing.TB, sheet string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"xl/workbook.xml":            `<workbook xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Notes" sheetId="1" r:id="r1"/><sheet name="Rain" sheetId="2" r:id="r2"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="r1" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Target="/xl/worksheets/sheet2.xml"/></Relationships>`,
		"xl/sharedStrings.xml":       `<sst><si><t>Station</t></si><si><r><t>Da</t></r><r><t>y</t></r></si><si><t>Rain &amp; snow</t></si></sst>`,
		"xl/styles.xml":              `<styleSheet><numFmts><numFmt numFmtId="170" formatCode="dd/mm/yyyy\ hh:mm"/></numFmts><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="170"/><xf numFmtId="20"/></cellXfs></styleSheet>`,
		"xl/worksheets/sheet1.xml":   `<worksheet><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>nothing here</t></is></c></row></sheetData></worksheet>`,
		"xl/worksheets/sheet2.xml":   sheet,
	} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

const rain = `<worksheet><sheetData><row r="2"><c r="A2" t="s"><v>0</v></c><c r="B2" t="s"><v>1</v></c><c r="D2" t="s"><v>2</v></c></row>
<row r="3"><c r="A3" t="inlineStr"><is><t>R01</t></is></c><c r="B3" s="1"><v>46204</v></c><c r="C3" s="3"><v>0.5</v></c><c r="D3"><v>0.30000000000000004</v></c></row>
<row r="5"><c r="B5" s="2"><v>46204.520833333336</v></c><c r="D5" t="b"><v>1</v></c></row><row r="6"><c r="A6"/></row>
<row r="7"><c r="A7" t="str"><v>R02</v></c><c r="D7" t="e"><v>#REF!</v></c><c r="F7"><v>3</v></c></row></sheetData></worksheet>`

func TestSpreadsheets(t *testing.T) {
	how := How{Format: XLSX}
	how.Dialect = tabular.DefaultDialect()
	how.Dialect.SheetName = "Rain"
	want := []string{
		"Station,Day,,Rain & snow", "3|R01|2026-07-01:date|12:00:00:time|0.3:number",
		"5||2026-07-01T12:30:00:local datetime||true:boolean",
		"7|R02|||#REF!!cell D7 holds the error #REF!",
	}
	got, err := lines(t, "x.xlsx", book(t, rain), how)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	how.Dialect.SheetName, how.Dialect.SheetNumber = "", 2
	got, err = lines(t, "x.xlsx", book(t, rain), how)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	for text, change := range map[string]func(*tabular.Dialect){
		`"Rain" looks like it`: func(d *tabular.Dialect) { d.SheetName, d.SheetNumber = "Rian", 0 },
		"has Notes, Rain":      func(d *tabular.Dialect) { d.SheetNumber = 3 },
	} {
		bad := how
		change(&bad.Dialect)
		_, err := lines(t, "x.xlsx", book(t, rain), bad)
		assert.ErrorContains(t, err, text)
	}
	for content, text := range map[string]string{
		"PK\x03\x04": "cut short", string(book(t, "<worksheet><sheetData><row r='1'><c r='A1'")): "cannot be read",
		string(book(t, "<worksheet><sheetData><row r='1'><c r='ZZZZZ1'><v>1</v></c></row>")):    "no cell",
		string(book(t, "<worksheet><sheetData><row r='1'><c r='A1' t='s'><v>99</v></c></row>")): "shared text",
		string(book(t, "<worksheet>"+strings.Repeat(" ", 34<<20)+"</worksheet>")):               "zip bomb",
	} {
		_, err := lines(t, "x.xlsx", []byte(content), how)
		assert.ErrorContains(t, err, text)
	}
}

// FuzzFormats demands of every format that bad bytes end in an error for
// people.
func FuzzFormats(f *testing.F) {
	f.Add(uint8(0), []byte(nested))
	f.Add(uint8(1), []byte("["+strings.ReplaceAll(strings.TrimSpace(nested), "\n", ",")+"]"))
	f.Add(uint8(2), probes())
	f.Add(uint8(3), samples(f, ocf.Deflate))
	f.Add(uint8(4), book(f, rain))
	f.Add(uint8(5), []byte("SR01 2.51A\n"))
	f.Add(uint8(6), []byte("a||b\r\"1\\\"||2\"\r"))
	f.Fuzz(func(t *testing.T, which uint8, content []byte) {
		formats := []Format{Lines, JSON, Parquet, Avro, XLSX, Fixed, CSV}
		how := How{Format: formats[int(which)%len(formats)], Widths: []Width{{1, 4}, {5, 9}}, Each: "results"}
		how.Dialect = tabular.DefaultDialect()
		how.Dialect.Header = how.Format != Fixed
		how.Dialect.SheetNumber = 2
		if how.Format == CSV {
			how.Dialect.Delimiter, how.Dialect.EscapeChar = "||", '\\'
		}
		if how.Format == Parquet {
			how.Each = "profile"
		}
		_, err := lines(t, "x", content, how, "id", "results.code", "results", "profile.temp", "tags", "*")
		var file *FileError
		if err != nil && !errors.As(err, &file) {
			t.Fatalf("an error without a reason for people: %v", err)
		}
		if how.Format == Parquet {
			if err := byColumn(content, "at", "station", "depth", "small", "price"); !errors.As(err, &file) && err != io.EOF {
				t.Fatalf("an error without a reason for people: %v", err)
			}
		}
	})
}
