package expression

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

type values map[string]*tabular.Value

func (v *values) Lookup(name string) *tabular.Value { return (*v)[name] }

func scope(t testing.TB) *Scope {
	t.Helper()
	s, err := NewScope(map[string]tabular.Kind{
		"row.level_m": tabular.Decimal, "row.station_id": tabular.Text, "row.observed_at": tabular.Instant,
		"row.count": tabular.Integer, "file.captures.catchment": tabular.Text, "file.size": tabular.Integer,
	})
	require.NoError(t, err)
	return s
}

var at = time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)

func TestExpressions(t *testing.T) {
	given := &values{
		"row.level_m":             {Kind: tabular.Decimal, I: 471, Scale: 2},
		"row.station_id":          {Kind: tabular.Text, B: []byte("SR0001")},
		"row.observed_at":         {Kind: tabular.Instant, I: at.UnixMicro()},
		"row.count":               {},
		"file.captures.catchment": {Kind: tabular.Text, B: []byte("K1")},
		"file.size":               {Kind: tabular.Integer, I: 12},
	}
	for _, c := range []struct {
		source, want string
		kind         tabular.Kind
		row          bool
	}{
		{"row.level_m > 4.5", "true", tabular.Boolean, true},
		{"file.captures.catchment", "K1", tabular.Text, false},
		{"file.size * 2", "24", tabular.Integer, false},
		{"row.station_id.startsWith('SR') && row.count == null", "true", tabular.Boolean, true},
		{"row.level_m * 100", "471.00", tabular.Decimal, true},
		{"row.observed_at", "2026-07-01T12:00:00Z", tabular.Instant, true},
		{"row.level_m == null ? 'none' : row.station_id", "SR0001", tabular.Text, true},
	} {
		p, err := scope(t).Compile(c.source)
		require.NoError(t, err, c.source)
		assert.Equal(t, c.kind, p.Kind, c.source)
		assert.Equal(t, c.row, p.Row, c.source)
		var v tabular.Value
		require.NoError(t, p.Eval(given, &v), c.source)
		assert.Equal(t, c.want, v.String(), c.source)
	}
	p, err := scope(t).Compile("row.count > 3")
	require.NoError(t, err)
	assert.ErrorIs(t, p.Eval(given, new(tabular.Value)), ErrNull)
	p, err = scope(t).Compile("file.size / 0")
	require.NoError(t, err)
	assert.ErrorContains(t, p.Eval(given, new(tabular.Value)), "division by zero")
}

func TestWrongExpressionsAreExplained(t *testing.T) {
	for source, want := range map[string]string{
		"row.levelm > 4.5":          `unknown name "row.levelm"; did you mean "row.level_m"?`,
		"row.level_m > 'x'":         "no matching overload",
		"file.captures.catchmnt":    `did you mean "file.captures.catchment"?`,
		"today() > row.observed_at": `unknown function "today"`,
		"row.level_m >":             "Syntax error",
		"[1, 2]":                    "a column can hold bool, int, double, string or timestamp",
	} {
		_, err := scope(t).Compile(source)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax, source)
		assert.Contains(t, syntax.Problem, want, source)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add("row.level_m > 4.5")
	f.Fuzz(func(t *testing.T, source string) {
		p, err := scope(t).Compile(source)
		if err == nil {
			_ = p.Eval(&values{}, new(tabular.Value))
		}
	})
}
