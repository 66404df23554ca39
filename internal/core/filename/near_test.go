package filename

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
)

func TestNamesThatComeClose(t *testing.T) {
	p, err := Compile("**/GAUGE_{catchment}_{slot:%Y%m%dT%H%M}*.(csv|csv.gz)")
	require.NoError(t, err)
	slot := time.Date(2026, 7, 1, 12, 15, 0, 0, time.UTC)
	known := Captures{"catchment": "K1", "slot": slot}
	names := []string{
		"GAUGE_K1_20260701T1215.csv", // what is expected
		"2026/gauge_K1_20260701T1215.CSV",
		"GAUGE_K1_01072026T1215.csv",
		"GAUGE K1 20260701T1215.csv",
		"GAUGE_K1_20260701T1215.csv.txt",
		"GUAGE_K1_20260701T1215.csv",
		"GAUGE_K1_20260630T1215.csv",
		"STATIONS_2026-07-01.csv",
		"GAUGE_K2_20260701T1215.csv",
	}
	got := map[string]string{}
	var order []string
	for _, n := range p.Near(known, slot.AddDate(0, 0, -1), time.UTC, names, 10) {
		got[n.Path] = n.Why
		order = append(order, n.Path)
	}
	assert.Equal(t, map[string]string{
		"2026/gauge_K1_20260701T1215.CSV": "capitals differ",
		"GAUGE K1 20260701T1215.csv":      "a space or a mark between words more or less",
		"GAUGE_K1_01072026T1215.csv":      "the date is written in another order",
		"GAUGE_K1_20260701T1215.csv.txt":  "an extension too many: .txt",
		"GAUGE_K1_20260630T1215.csv":      "it carries the date of the slot before",
		"GUAGE_K1_20260701T1215.csv":      "a letter is off, or two are swapped",
	}, got)
	assert.NotContains(t, order, "GAUGE_K2_20260701T1215.csv", "the name of another's file")
	assert.Equal(t, "2026/gauge_K1_20260701T1215.CSV", order[0], "the nearest first")
	assert.Len(t, p.Near(known, time.Time{}, time.UTC, names, 2), 2)
	assert.Equal(t, "GAUGE_K1_20260701T1215*.csv", p.Expected(known, time.UTC))
	assert.Equal(t, "GAUGE_*_*.csv", mustCompile(t, "GAUGE_{catchment}_{slot:%Y}.csv").Expected(Captures{}, time.UTC))
}

func mustCompile(t *testing.T, pattern string) *Pattern {
	t.Helper()
	p, err := Compile(pattern)
	require.NoError(t, err)
	return p
}

func TestCapitalsAndUnits(t *testing.T) {
	p, err := CompileFold("gauge_{catchment}_{slot:%Y%m%dT%H%M}.csv")
	require.NoError(t, err)
	got, ok := p.Match("GAUGE_k1_20260701t1215.CSV", time.UTC)
	require.True(t, ok)
	assert.Equal(t, Captures{"catchment": "k1", "slot": time.Date(2026, 7, 1, 12, 15, 0, 0, time.UTC)}, got)
	for pattern, unit := range map[string]due.Unit{
		"{slot:%Y%m%dT%H%M}": due.Minute, "{slot:%Y%m%d%H}": due.Hour, "{slot:%Y%j}": due.Day,
		"{slot:%b%Y}": due.Month, "{slot:%Y}": due.Year, "{slot:#}": due.Number, "*": due.NoUnit,
	} {
		assert.Equal(t, unit, mustCompile(t, pattern).Unit(), pattern)
	}
	kept := map[string]any{"catchment": "K1", "slot": "2026-07-01T12:15:00Z"}
	assert.Equal(t, Captures{"catchment": "K1", "slot": time.Date(2026, 7, 1, 12, 15, 0, 0, time.UTC)}, p.Read(kept))
}

func TestTemplates(t *testing.T) {
	kinds := map[string]byte{"catchment": 't', "slot": '%', "n": '#'}
	captures := Captures{"catchment": "..", "slot": time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC), "n": int64(7)}
	for text, want := range map[string][2]string{
		"done/{slot:%Y/%m}/{n}/{name}": {"done/2026/07/7/b.csv", "done"},
		"{path}.ok":                    {"a/b.csv.ok", ""},
		"{stem}.ok":                    {"a/b.ok", ""},
		"done/of-{catchment}":          {"done/of-_..", "done"},
		"done/all":                     {"done/all", "done/all"},
	} {
		tpl, err := CompileTemplate(text, kinds)
		require.NoError(t, err, text)
		assert.Equal(t, want, [2]string{tpl.Expand("a/b.csv", captures, time.UTC), tpl.Fixed()}, text)
	}
	for text, want := range map[string]string{
		"": "is needed", "../x": "never leaves", "/x": "never leaves", "{x": "not closed",
		"{nobody}": "is not captured", "{slot}": "say how to write it", "{slot:%Q}": "unknown token",
		"{n:%Y}": "is no time",
	} {
		_, err := CompileTemplate(text, kinds)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestWhatNoFeedTakes(t *testing.T) {
	for path, want := range map[string]string{"a/.b/c.csv": "a dot-file", "a.csv.PART": "a temporary name, .part",
		"a.csv.ok": "an empty marker file", "_all_here": "an empty marker file", "a.csv": ""} {
		assert.Equal(t, want, LeftOut(path, 0), path)
	}
	assert.Empty(t, LeftOut("a.csv.ok", 3), "a marker with content is known by whole_when")
}

// TestPlainNamesThatComeClose has names without a time.
func TestPlainNamesThatComeClose(t *testing.T) {
	got := map[string]string{}
	for _, n := range mustCompile(t, "level.csv").Near(Captures{}, time.Time{}, time.UTC,
		[]string{"level.csv", "Level.csv", "levels.csv", "level (1).csv", "level - Copy.csv", "level_(2).csv",
			"level.csv.txt", "lab.csv", "level2.csv"}, 10) {
		got[n.Path] = n.Why
	}
	assert.Equal(t, map[string]string{
		"Level.csv": "capitals differ", "levels.csv": "a letter is off, or two are swapped",
		"level (1).csv":    "a copy's mark in the name",
		"level - Copy.csv": "a copy's mark in the name", "level_(2).csv": "a copy's mark in the name",
		"level.csv.txt": "an extension too many: .txt",
	}, got)
}
