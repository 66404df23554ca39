package feed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
)

// TestWhatReadingIsTold fills in how files are read and what must be true.
func TestWhatReadingIsTold(t *testing.T) {
	text := strings.Replace(small, "landing:", `format: csv
encoding: windows-1252
dialect: {delimiter: "||", nullSequence: "\\N", headerRows: [2, 3], escapeChar: "\\"}
leave_out: row.id == 0
delete_when: row.id < 0
private: [id]
checks:
  file: {rows: {from: 2}, checksum: "{stem}.md5", trailer: {line: "^T (?P<rows>.*)$"}}
  row: [{name: odd, must: row.id % 2 == 1}, {name: small, must: row.id < 10, else: warn}]
  delivery: [{name: many, must: rows > 5}]
landing:`, 1)
	f, err := Parse("x.yaml", []byte(text))
	require.NoError(t, err)
	how := f.How()
	assert.Equal(t, decode.CSV, how.Format)
	assert.Equal(t, "windows-1252", how.Charset)
	assert.Equal(t, "||", how.Dialect.Delimiter)
	assert.Equal(t, []int{2, 3}, how.Dialect.HeaderRows)
	assert.Equal(t, byte('\\'), how.Dialect.EscapeChar)
	assert.Equal(t, []string{"", `\N`}, f.Schema.MissingValues)
	assert.Equal(t, []check.Check{{Name: "odd", Must: "row.id % 2 == 1", Else: check.Reject},
		{Name: "small", Must: "row.id < 10", Else: check.Warn}}, f.Checks.Row)
	assert.Equal(t, check.Refuse, f.Checks.Delivery[0].Else)
	assert.EqualValues(t, 2, f.Checks.RowsFrom)
	assert.NotNil(t, f.Checks.Checksum)
	assert.NotNil(t, f.Checks.Trailer)
	assert.Equal(t, []string{"id"}, f.Private)
	kinds, err := f.ColumnKinds()
	require.NoError(t, err)
	assert.Equal(t, "integer", kinds["id"].String())
}

// TestDialectsFitTheirFormats refuses keys that mean nothing for the format.
func TestDialectsFitTheirFormats(t *testing.T) {
	for _, c := range []struct{ format, dialect, more, want string }{
		{"csv", `{delimiter: ";"}`, "", ""},
		{"csv", `{property: a}`, "", "dialect.property is for json, not for csv"},
		{"json", `{property: data, itemType: object}`, "", ""},
		{"jsonl", `{property: data}`, "", "not for jsonl"},
		{"json", `{delimiter: ","}`, "", "dialect.delimiter is for csv, not for json"},
		{"xlsx", `{sheetName: Rain, headerRows: [2]}`, "", ""},
		{"xlsx", `{sheetName: Rain, sheetNumber: 2}`, "", "one is enough"},
		{"xlsx", `{}`, "encoding: utf-8\n", "says itself how its texts are written"},
		{"parquet", `{header: true}`, "", "not for parquet"},
		{"parquet", `{}`, "each: results\n", ""},
		{"avro", `{}`, "each: \"*\"\n", "the path of an array"},
		{"csv", `{headerRows: [0]}`, "", "count from 1 to 1000"},
		{"csv", `{header: false, headerRows: [1]}`, "", "header: false says that there is none"},
		{"csv", `{escapeChar: '"'}`, "", "escapeChar"},
		{"csv", `{delimiter: "\n"}`, "", "no line end"},
		{"fixed", `{}`, "", "first and last character, such as 1-8"},
		{"csv", `{}`, "checks: {file: {trailer: {line: \"^T\"}}}\n", ""},
		{"json", `{}`, "checks: {file: {trailer: {line: \"(?P<rows>.)\"}}}\n", "for files made of lines"},
	} {
		text := "format: " + c.format + "\ndialect: " + c.dialect + "\n" + c.more + small
		_, err := Parse("x.yaml", []byte(text))
		if c.want == "" {
			assert.NoError(t, err, text)
			continue
		}
		assert.ErrorContains(t, err, c.want, text)
	}
}

func TestFilesOfAnotherKind(t *testing.T) {
	of := func(landing string) *Landing {
		f, err := Parse("x.yaml", []byte(strings.Replace(small, "at: in", "at: in, "+landing, 1)))
		require.NoError(t, err)
		return &f.Landing
	}
	assert.Empty(t, of("settle: 1s").Has(nil))
	assert.Empty(t, of("with_columns: 2").Has([]string{"a", "b"}))
	assert.Equal(t, "it has 1 columns; with_columns takes those with 2", of("with_columns: 2").Has([]string{"a"}))
	assert.Empty(t, of("with_columns: [b]").Has([]string{"a", "b"}))
	assert.Contains(t, of("with_columns: [b, c]").Has([]string{"a", "b"}), `no column "c"`)
	_, err := Parse("x.yaml", []byte(strings.Replace(small, "at: in", "at: in, with_columns: 0", 1)))
	assert.ErrorContains(t, err, "a number of columns, or their names")
	zipped := strings.Replace(small, `files: "*.csv"`, `files: "*.zip/**/*.csv"`, 1)
	require.NotEqual(t, small, zipped)
	f, err := Parse("x.yaml", []byte(zipped))
	require.NoError(t, err)
	assert.True(t, f.Landing.InZip())
	for path, why := range map[string]string{"d.zip/a.csv": "", "D.ZIP/x/a.csv": "does not fit", "d.zip/": "",
		"a.csv": "does not fit", "d.zip/.hidden/a.csv": "hidden"} {
		if got := f.Landing.Look(path, 5).Why; why == "" {
			assert.Empty(t, got, path)
		} else if path != "d.zip/.hidden/a.csv" {
			assert.Contains(t, got, why, path)
		} else {
			assert.NotEmpty(t, got, path)
		}
	}
	_, err = Parse("x.yaml", []byte(strings.Replace(zipped, "at: in", "at: in, put_away: delete", 1)))
	assert.ErrorContains(t, err, "cannot be moved out of it")
}
