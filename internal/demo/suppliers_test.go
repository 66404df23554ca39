package demo

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// read reads what a supplier sends as its feed says, and returns the rows that
// are good, and why the others are not.
func read(t *testing.T, name, file string, content []byte) (good int, bad []string) {
	t.Helper()
	text, err := feeds.ReadFile("feeds/" + name + ".yaml")
	require.NoError(t, err)
	f, err := feed.Parse(name, text)
	require.NoError(t, err)
	require.Empty(t, f.Landing.Look(file, int64(len(content))).Why, file)
	rows, err := decode.Open(decode.Source{Name: file, Bytes: bytes.NewReader(content),
		File: bytes.NewReader(content), Size: int64(len(content))}, f.How())
	require.NoError(t, err)
	header, err := rows.Header()
	require.NoError(t, err)
	columns, err := f.Schema.Compile(f.Zone)
	require.NoError(t, err)
	positions := make([]int, len(columns))
	if selector, ok := rows.(decode.Selector); ok {
		var sources []string
		for i, c := range columns {
			sources, positions[i] = append(sources, c.Field.SourceName()), i
		}
		require.NoError(t, selector.Select(sources))
	} else {
		positions, err = f.Schema.MatchHeader(header)
		require.NoError(t, err)
	}
	for {
		rec, err := rows.Next()
		if err == io.EOF {
			return good, bad
		}
		require.NoError(t, err)
		require.Empty(t, rec.Problem)
		var v tabular.Value
		why := ""
		for i, c := range columns {
			if rec.Values != nil {
				err = c.Take(&rec.Values[positions[i]], &v)
			} else {
				err = c.Convert(rec.Cells[positions[i]], &v)
			}
			if err != nil && why == "" {
				why = c.Field.Name + ": " + err.Error()
			}
		}
		if why == "" {
			good++
		} else {
			bad = append(bad, why)
		}
	}
}

// TestWhatTheSuppliersSend reads a file of each supplier as its feed says.
func TestWhatTheSuppliersSend(t *testing.T) {
	day := time.Date(2026, 7, 1, 0, 0, 0, 0, azores)
	buoy, err := buoyFile(2, day.UTC())
	require.NoError(t, err)
	book, err := sheet(day.AddDate(0, 0, 9))
	require.NoError(t, err)
	for _, c := range []struct {
		feed, file string
		content    []byte
		good       int
		bad        string
	}{
		{"gauge-readings", "GAUGE_K1_20260701T0000.csv", gaugeFile(readings(0, day, 0, day)), stationsEach, ""},
		{"station-registry", "STATIONS_2026-07-01.csv", registryFile(day), 24, ""},
		{"lab-samples", "LAB_2026-07-01_1.jsonl", labFile(day, 1), 25, ""},
		{"lab-samples", "LAB_2026-07-01_2.jsonl.zst", zstandard(labFile(day, 2)), 25, ""},
		{"buoy-profiles", "B2/PROFILE_20260701T0000.parquet", buoy, 14, ""},
		{"rain-observers", "MÜHLE Ost 01.07.2026 .csv", rain(2, day), 5, ""},
		{"rain-observers", "jonas 01.07.2026 neu.TXT", rain(1, day), 4, "rain_mm: not a number"},
		{"rain-sheets", "lock house 2026-07.xlsx", book, 10, ""},
	} {
		good, bad := read(t, c.feed, c.file, c.content)
		assert.Equal(t, c.good, good, "%s: %v", c.file, bad)
		assert.Equal(t, c.bad, strings.Join(bad, "; "), c.file)
	}
	_, bad := read(t, "gauge-readings", "GAUGE_K1_20260701T0000.csv",
		gaugeFile([]string{spoil(readings(0, day, 0, day)[0])}))
	assert.Equal(t, []string{"level_m: not a number"}, bad)
	assert.Equal(t, labFile(day, 1), labFile(day, 1), "the same day gives the same file")
}

// TestADayOfSuppliers leaves what all suppliers send within a day.
func TestADayOfSuppliers(t *testing.T) {
	root := t.TempDir()
	now := time.Date(2026, 7, 2, 12, 1, 0, 0, time.UTC)
	require.NoError(t, CatchUp(root, now))
	count := map[string]int{}
	for _, folder := range []string{"gauges", "registry", "lab", "buoys/B1", "buoys/B2", "rain"} {
		entries, err := os.ReadDir(filepath.Join(root, "landing", folder))
		require.NoError(t, err)
		count[folder] = len(entries)
	}
	assert.Greater(t, count["gauges"], 280)
	assert.Equal(t, 1, count["registry"])
	assert.Equal(t, 3, count["lab"], "a report, and one of three days ago with its correction")
	assert.Greater(t, count["buoys/B1"], count["buoys/B2"], "the second buoy fell silent")
	assert.Equal(t, 4, count["rain"])
	require.NoError(t, CatchUp(root, now), "what lies there is not sent again")
}
