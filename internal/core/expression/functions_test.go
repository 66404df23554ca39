package expression

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// documented are what the examples of docs/expressions.md are about.
func documented(t testing.TB) (*Scope, *values) {
	t.Helper()
	kinds := map[string]tabular.Kind{"run.id": tabular.Integer, "run.by": tabular.Text, "run.cause": tabular.Text,
		"run.started": tabular.Instant, "feed.name": tabular.Text, "feed.version": tabular.Integer, "service": tabular.Text,
		"row.note": tabular.Text, "row.peak_m": tabular.Decimal}
	instant := tabular.Value{Kind: tabular.Instant, I: at.UnixMicro()}
	text := func(s string) *tabular.Value { return &tabular.Value{Kind: tabular.Text, B: []byte(s)} }
	v := values{"row.note": {}, "row.peak_m": {}, "run.id": {Kind: tabular.Integer, I: 7}, "run.by": text("ada"),
		"run.cause": text("arrival"), "run.started": &instant, "feed.name": text("gauge-readings"),
		"feed.version": {Kind: tabular.Integer, I: 3}, "service": text("alder")}
	for name, value := range map[string]tabular.Value{
		"row.station_id": *text(" SR0100"), "row.level_m": {Kind: tabular.Decimal, I: 471, Scale: 2},
		"row.readings": {Kind: tabular.Integer, I: 96}, "row.observed_at": instant, "row.day": {Kind: tabular.Day, I: 20635},
		"row.flood": {Kind: tabular.Boolean, I: 1}, "row.flags": *text("G;F"),
		"file.name": *text("GAUGE_K1_20260701T1200.csv"), "file.path": *text("2026/GAUGE_K1_20260701T1200.csv"),
		"file.size": {Kind: tabular.Integer, I: 2048}, "file.modified": instant, "file.digest": *text("9f86d081"),
		"file.captures.catchment": *text("K1"), "file.captures.slot": instant,
	} {
		kinds[name], v[name] = value.Kind, &value
	}
	s, err := NewScope(kinds)
	require.NoError(t, err)
	return s, &v
}

// TestDocumentedExpressions computes each example of docs/expressions.md.
func TestDocumentedExpressions(t *testing.T) {
	text, err := os.ReadFile("../../../docs/expressions.md")
	require.NoError(t, err)
	s, given := documented(t)
	examples := 0
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), " | ")
		if len(cells) < 3 || !strings.HasPrefix(strings.TrimSpace(cells[len(cells)-2]), "`") {
			continue
		}
		plain := func(cell string) string {
			return strings.ReplaceAll(strings.Trim(strings.TrimSpace(cell), "`"), `\|`, "|")
		}
		source, want := plain(cells[len(cells)-2]), plain(cells[len(cells)-1])
		examples++
		p, err := s.Compile(source)
		if !assert.NoError(t, err, source) {
			continue
		}
		var v tabular.Value
		err = p.Eval(given, &v)
		got := v.String()
		if err == ErrNull || err == nil && v.Kind == tabular.Null {
			got, err = "null", nil
		}
		assert.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
	assert.Greater(t, examples, 60)
}

func TestNamesThatPeopleTry(t *testing.T) {
	s, _ := documented(t)
	for source, want := range map[string]string{
		"run.user":                   `unknown name "run.user"; did you mean "run.by"?`,
		"file.filename":              `did you mean "file.name"?`,
		"lower(row.station_id)":      `unknown function "lower"`,
		"coalese(row.note, 'x')":     `unknown function "coalese"; did you mean "coalesce"?`,
		"nvl(row.note, 'x')":         `unknown function "nvl"`,
		"remove_accents(row.note)":   `known are all, base64.decode`,
		"row.station_id.lowerAsci()": `lowerAscii`,
	} {
		_, err := s.Compile(source)
		assert.ErrorContains(t, err, want, source)
	}
}
