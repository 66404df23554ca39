package feed

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const levelsOut = `extract: levels-out
about: Levels of the neighbour's gauges.
owner: hydrology@sorrel.example
from:
  connection: neighbour
  table: river.level
  columns: [station, at, level_m]
new: {by: changed_at, overlap: 10m, hold_back: 1m, from: "2026-01-01", zone: Atlantic/Azores}
files:
  at: landing/neighbour
  name: LEVELS_{run}_{window:%Y%m%dT%H%M}_{part}.csv.gz
  dialect: {delimiter: ";", header: false, nullSequence: '\N'}
  split: {rows: 1000000, bytes: 100MiB}
  listed_in: LEVELS_{run}.lst
  checksum: "{path}.sha256"
  empty: write
when:
  cron: "*/15 * * * *"
  zone: Atlantic/Azores
  after: {any: [gauge-readings]}
  attempts: 3
  pause: 1m
  time_limit: 1h
`

func TestParseExtract(t *testing.T) {
	x, err := ParseExtract("x.yaml", []byte(levelsOut))
	require.NoError(t, err)
	assert.Equal(t, "levels-out", x.Name)
	assert.Equal(t, "neighbour", x.Connection)
	assert.Equal(t, Margin{Time: 10 * time.Minute}, x.New.Overlap)
	assert.Equal(t, ";", x.Files.Delimiter)
	assert.Equal(t, Gzip, x.Files.Compression)
	assert.Equal(t, OutCSV, x.Files.Format)
	assert.EqualValues(t, 100<<20, x.Files.SplitBytes)
	assert.Equal(t, 3, x.When.Attempts)
	end := time.Date(2026, 3, 1, 12, 30, 0, 0, time.UTC)
	assert.Equal(t, "LEVELS_7_20260301T1130_0012.csv.gz", x.Files.PartName(7, 12, "", end, x.New.Zone))
	assert.Equal(t, "LEVELS_7.lst", x.Files.ListName(7, "", end, x.New.Zone))
	assert.True(t, IsExtract([]byte(levelsOut)))
	assert.False(t, IsExtract([]byte("feed: a\n# extract: b\n")))

	x, err = ParseExtract("x.yaml", []byte("extract: x\nfrom: {select: 'SELECT 1;'}\nnew: {day: at, hold_back: 2h}\nfiles: {at: 'place:upper/in', name: 'x_{window}.jsonl'}\n"))
	require.NoError(t, err)
	assert.Equal(t, MainConnection, x.Connection)
	assert.Equal(t, "SELECT 1", x.Select)
	assert.True(t, x.New.Daily)
	assert.Equal(t, "x_42.jsonl", x.Files.PartName(1, 1, "42", end, time.UTC))
	assert.Equal(t, 5, x.When.Attempts)
}

// TestWhatIsWrongWithAnExtract changes one thing at a time.
func TestWhatIsWrongWithAnExtract(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"extract: levels-out", "extract: Levels", `x.yaml:1:10: "Levels" cannot be an extract's name`},
		{"  table: river.level\n", "", "from takes a table or a select"},
		{"  table: river.level", "  select: SELECT 1", "from.columns are those of a table"},
		{"table: river.level", "table: a.b.c", `from.table "a.b.c": write it as schema.table`},
		{"overlap: 10m", "overlap: 10x", `new.overlap: "10x" is neither a duration such as 10m nor a whole number`},
		{"overlap: 10m", "overlap: 10", "new.hold_back and overlap are both durations, or both numbers"},
		{"by: changed_at, ", "", "new takes by, a column that only grows, or day"},
		{"by: changed_at", "day: changed_at", "new.overlap goes with by"},
		{"{by:", "{day: a, by:", "new takes by or day, not both"},
		{"zone: Atlantic/Azores}", "zone: Azores}", `unknown time zone "Azores"`},
		{"at: landing/neighbour", "at: ../x", `files.at "../x" must be a plain path below a landing root`},
		{"at: landing/neighbour", "at: place:Upper", "files.at"},
		{"_{part}", "", "files.name needs {part}, since split makes several files of a run"},
		{"LEVELS_{run}_{window:%Y%m%dT%H%M}_{part}", "LEVELS_{part}", "files.name needs {run} or {window}"},
		{"_{part}", "_{prt}", "{prt} is not known here"},
		{".csv.gz", ".dat.gz", "files.name does not end in .csv, .jsonl or .parquet"},
		{".csv.gz", ".parquet.gz", "parquet compresses within"},
		{".csv.gz", ".jsonl", "files.dialect is for csv"},
		{`delimiter: ";"`, `delimiter: "||"`, "files.dialect.delimiter is one character"},
		{`delimiter: ";"`, `delimiter: ":"`, "files.dialect.delimiter is one character that stands in no number and no time"},
		{`nullSequence: '\N'`, `nullSequence: 'a;b'`, "files.dialect.nullSequence has no quote, delimiter or line end in it"},
		{"empty: write", "empty: maybe", `unknown value "maybe"`},
		{"rows: 1000000", "rows: many", "files.split.rows takes a whole number"},
		{"{any: [gauge-readings]}", "{}", "when.after names no feed"},
		{"owner:", "ownr:", `x.yaml:3:1: unknown key "ownr"; did you mean "owner"?`},
		{"files:\n", "fils:\n", `unknown key "fils"; did you mean "files"?`},
	} {
		text := strings.Replace(levelsOut, c.from, c.to, 1)
		require.NotEqual(t, levelsOut, text, c.from)
		_, err := ParseExtract("x.yaml", []byte(text))
		var problems Problems
		assert.ErrorAs(t, err, &problems)
		assert.ErrorContains(t, err, c.want, c.to)
	}
	_, err := ParseExtract("x.yaml", nil)
	assert.Error(t, err)
}

// TestTheExamplesOfExtracts reads those of the documentation, in which every key stands.
func TestTheExamplesOfExtracts(t *testing.T) {
	files, err := filepath.Glob("../../../docs/examples/extracts/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	all := levelsOut
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		_, err = ParseExtract(filepath.Base(file), text)
		assert.NoError(t, err)
		all += string(text)
	}
	for _, k := range ExtractReference() {
		last := k.Path[strings.LastIndexByte(k.Path, '.')+1:]
		assert.Contains(t, all, last+":", "%s stands in an example", k.Path)
	}
}

func FuzzParseExtract(f *testing.F) {
	f.Add(levelsOut)
	f.Add("extract: x\nfrom: {select: 'SELECT 1;'}\nnew: {day: at}\nfiles: {at: 'place:upper/in', name: 'x_{window}.jsonl'}\n")
	f.Fuzz(func(t *testing.T, text string) {
		x, err := ParseExtract("x.yaml", []byte(text))
		if err != nil {
			return
		}
		name := x.Files.PartName(1, 2, "3", time.Unix(0, 0), time.UTC)
		require.NotContains(t, "/"+name+"/", "/../", "no file leaves the landing")
		require.False(t, strings.HasPrefix(name, "/"))
	})
}
