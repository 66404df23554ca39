package filename

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPatterns(t *testing.T) {
	zone, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	slot := time.Date(2026, 7, 1, 12, 15, 0, 0, zone)
	for _, c := range []struct {
		pattern, path string
		want          Captures // nil: does not belong
	}{
		{"*.csv", "a.csv", Captures{}},
		{"*.csv", "x/a.csv", nil},
		{"**/*.csv", "a.csv", Captures{}},
		{"**/*.csv", "x/y/a.csv", Captures{}},
		{"a/**", "a/b/c", Captures{}},
		{"?.csv", "ab.csv", nil},
		{"[a-c].csv", "b.csv", Captures{}},
		{"[!a-c].csv", "b.csv", nil},
		{"[!a-c].csv", "d.csv", Captures{}},
		{"x.(csv|csv.gz)", "x.csv.gz", Captures{}},
		{"x.(csv|csv.gz)", "x.csv.zip", nil},
		{"a+b$.csv", "a+b$.csv", Captures{}},
		{"Ängström_{n:#}.csv", "Ängström_007.csv", Captures{"n": int64(7)}},
		{"G_{catchment}_{slot:%Y%m%dT%H%M}.csv", "G_K_1_20260701T1215.csv", Captures{"catchment": "K_1", "slot": slot}},
		{"{day:%Y/%m/%d}/x.csv", "2026/07/01/x.csv", Captures{"day": time.Date(2026, 7, 1, 0, 0, 0, 0, zone)}},
		{"{slot:%Y%m%d}.csv", "20260231.csv", nil},
		{"{slot:%Y%m%d}.csv", "2026022.csv", nil},
	} {
		p, err := Compile(c.pattern)
		require.NoError(t, err, c.pattern)
		got, ok := p.Match(c.path, zone)
		assert.Equal(t, c.want != nil, ok, "%s on %s", c.pattern, c.path)
		if c.want != nil {
			assert.Equal(t, c.want, got, "%s on %s", c.pattern, c.path)
		}
	}
}

func TestWrongPatternsSayWhere(t *testing.T) {
	for pattern, want := range map[string]string{
		"":                  "empty",
		"../x":              "never contain",
		"/x":                "relative to the landing",
		"a|b":               "character 2: | stands outside of brackets",
		"(a":                "( is not closed",
		"a)":                "character 2: ) without (",
		"[a":                "[ is not closed",
		"[z-a]":             "is not a set of characters",
		"{a":                "{ is not closed",
		"{A}":               "not a name for a capture",
		"{a}{a}":            "captured twice",
		"({a}|b)":           "may capture nothing",
		"{a:yyyy}":          "after the colon comes #",
		"{slot:%Y%Q}":       "unknown token %Q",
		"x}":                "} without its opening bracket",
		"{slot:%Y%m%d%}.go": "ends in a lone %",
	} {
		_, err := Compile(pattern)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax, pattern)
		assert.Contains(t, err.Error(), want, pattern)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add("**/G_{c}_{slot:%Y%m%d}.(csv|gz)", "a/G_x_20260101.csv")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		p, err := Compile(pattern)
		if err != nil {
			var syntax *SyntaxError
			require.ErrorAs(t, err, &syntax)
			return
		}
		p.Match(path, time.UTC)
	})
}
