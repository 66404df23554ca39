package reading

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// level is a row that is written in two formats.
type level struct {
	Station string   `parquet:"station,dict" json:"station"`
	N       int64    `parquet:"n" json:"n"`
	Level   *float64 `parquet:"level,optional" json:"level"`
	Quality *string  `parquet:"quality,optional,dict" json:"quality"`
}

const levels = `schema:
  fieldsMatch: partial
  missingValues: ["", "-999"]
  fields:
    - {name: station, constraints: {required: true, pattern: "SR[0-9]+", maxLength: 4}}
    - {name: n, type: integer, constraints: {minimum: 3}}
    - {name: level, type: number, constraints: {maximum: 90}}
    - {name: quality, constraints: {enum: [G, F]}}
    - {name: more, type: integer}
derive:
  double: row.n * 2
leave_out: "row.quality == 'F' && row.n % 2 == 0"
checks:
  row: [{name: not_40, must: "row.level == null || row.level < 40 || row.level > 41", else: reject}]
`

// TestRowsByColumn are those that the same rows are in a format that is read row by row, and
// so are the rejects.
func TestRowsByColumn(t *testing.T) {
	var rows []level
	var lines strings.Builder
	stations := []string{"SR01", "SR02", "", "SR03", "KX01", "SR004", "-999", "SR05"}
	for i := range 3000 {
		r := level{Station: stations[i/3%len(stations)], N: int64(i)}
		if x := float64(i%1000) / 10; i%7 != 0 {
			r.Level = &x
		}
		if q := string("GFX"[i%41%3]); i%5 != 0 {
			r.Quality = &q
		}
		rows = append(rows, r)
		line, err := json.Marshal(r)
		require.NoError(t, err)
		lines.Write(append(line, '\n'))
	}
	want, byRow := readWhole(t, "format: jsonl\n"+levels, lines.String())
	got, byColumn := readWhole(t, "format: parquet\n"+levels, parquetOf(rows))
	require.NotNil(t, byColumn.byColumn)
	require.Nil(t, byRow.byColumn)
	require.NotEmpty(t, want.rows)
	assert.Equal(t, want.rows, got.rows)
	assert.Equal(t, byRow.Counts(), byColumn.Counts())
	assert.Equal(t, byRow.More(), byColumn.More())
	require.Positive(t, byRow.Counts().LeftOut)
	require.Greater(t, len(byRow.Rejects()), 100)
	rules := map[string]bool{}
	for i, want := range byRow.Rejects() {
		got := byColumn.Rejects()[i]
		assert.Equal(t, []any{want.Line, want.Column, want.Rule, want.Reason, want.Value},
			[]any{got.Line, got.Column, got.Rule, got.Reason, got.Value})
		assert.Contains(t, got.Original, fmt.Sprintf(`"station":%q,"n":%d`, rows[got.Line-1].Station, got.Line-1))
		rules[got.Rule] = true
	}
	for _, rule := range []string{"required", "pattern", "maxLength", "minimum", "maximum", "enum", "not_40"} {
		assert.True(t, rules[rule], rule)
	}
}
