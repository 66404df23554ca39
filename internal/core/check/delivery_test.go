package check

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/expression"
	"mullein/internal/core/tabular"
)

var columns = map[string]tabular.Kind{"level": tabular.Decimal, "n": tabular.Integer, "station": tabular.Text,
	"at": tabular.Instant, "day": tabular.Day, "ok": tabular.Boolean, "more": tabular.JSON}

func numeric(x float64) Answer { return Answer{Value: tabular.Value{Kind: tabular.Float, X: x}} }

// TestJudgingDeliveries answers the questions that expressions ask.
func TestJudgingDeliveries(t *testing.T) {
	now := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	for must, c := range map[string]struct {
		answers []Answer // in the order in which they are asked
		asks    string
		held    bool
		saw     string
	}{
		"rows >= 0.5 * usual_rows": {[]Answer{numeric(5), numeric(8)}, "rows, usual_rows", true,
			"rows = 5; usual_rows = 8"},
		"rows > 100": {[]Answer{numeric(5)}, "rows", false, "rows = 5"},
		"rows - last_rows < 10.0": {[]Answer{numeric(50), {}}, "rows, last_rows", true,
			"rows = 50; last_rows not known yet"},
		"blank_share('level') <= 0.05": {[]Answer{numeric(0.0500001)}, "blank_share('level')", false,
			"blank_share('level') = 0.05"},
		"distinct_count('station') == 3.0": {[]Answer{numeric(3)}, "distinct_count('station')", true,
			"distinct_count('station') = 3"},
		"greatest('level') - smallest('level') < " +
			"10.0": {[]Answer{{Value: tabular.Value{Kind: tabular.Decimal, I: 125, Scale: 1}},
			{Value: tabular.Value{Kind: tabular.Decimal, I: -5}}},
			"greatest('level'), smallest('level')", false, "greatest('level') = 12.5; smallest('level') = -5"},
		"greatest('at') < timestamp('2026-07-02T00:00:00Z')": {[]Answer{{Value: tabular.Value{Kind: tabular.Instant, I: now.UnixMicro()}}}, "greatest('at')", true, "greatest('at') = 2026-07-01T12:00:00Z"},
		"smallest('station') == 'SR01'": {[]Answer{{Value: tabular.Value{Kind: tabular.Text,
			B: []byte("SR01")}}}, "smallest('station')", true, "smallest('station') = SR01"},
		"newest_age('at') < duration('2h')": {[]Answer{{Value: tabular.Value{Kind: tabular.Instant, I: now.Add(-3 * time.Hour).UnixMicro()}}}, "newest_age('at')", false, "newest_age('at') = 3h0m0s"},
		"newest_age('day') < duration('24h')": {[]Answer{{Value: tabular.Value{Kind: tabular.Day,
			I: now.Unix() / 86400}}}, "newest_age('day')", true, "newest_age('day') = 12h0m0s"},
		"all_in('station', 'river.station', 'id') || rows < " +
			"3.0": {[]Answer{{Value: tabular.Value{Kind: tabular.Boolean}, Note: "1 not in river.station: SR9"},
			numeric(5)}, "all_in('station', 'river.station', 'id'), rows", false,
			"all_in('station', 'river.station', 'id') = false (1 not in river.station: SR9); rows = 5"},
		"sum('n') > last('other')": {[]Answer{numeric(5), numeric(4)},
			"sum('n'), last('other')", true, "sum('n') = 5; last('other') = 4"},
		"sum('n') > 0 && sum('n') < 10": {[]Answer{numeric(5)}, "sum('n')", true,
			"sum('n') = 5"},
	} {
		p, err := Compile(Check{Name: "k", Must: must, Else: Refuse}, columns, []string{"k", "other"})
		require.NoError(t, err, must)
		var asks []string
		answers := map[Question]Answer{}
		for i, q := range p.Questions {
			asks = append(asks, q.String())
			answers[q] = c.answers[i]
		}
		require.Equal(t, c.asks, strings.Join(asks, ", "), must)
		r, err := p.Judge(answers, now)
		require.NoError(t, err, must)
		assert.Equal(t, c.held, r.Held, must)
		assert.Equal(t, c.saw, r.Saw, must)
		assert.Equal(t, OfDelivery, r.Scope)
		assert.Equal(t, c.held, r.Failed == 0)
	}
}

func TestWrongChecksOfDeliveries(t *testing.T) {
	for must, want := range map[string]string{
		"rows >":                                 "Syntax error",
		"rows":                                   "gives double; a check must be true or false",
		"row > 3.0":                              `unknown name "row"; did you mean "rows"?`,
		"zebra(3)":                               `unknown name "zebra"; known are`,
		"blank_share(level) < 0.5":               "a name in quotes is needed here",
		"blank_share('lvl') < 0.5":               `no column "lvl"; did you mean "level"?`,
		"sum('station') > 1.0":                   "sum is for numbers; station holds text",
		"newest_age('level') < duration('1h')":   "newest_age is for dates and times; level holds number",
		"greatest('ok') == true":                 "greatest is for numbers, texts, dates and times; ok holds boolean",
		"greatest('station') < 5.0":              "no matching overload",
		"all_in('station', 'station', 'id')":     "as schema.table",
		"last('nothing') > 1.0":                  `there is no check "nothing"`,
		strings.Repeat("rows > 1.0 && ", 1000):   "more than 8192 bytes",
		"blank_share('level', 'station') < 0.01": "unknown name",
	} {
		_, err := Compile(Check{Name: "k", Must: must}, columns, []string{"k"})
		var syntax *expression.SyntaxError
		require.ErrorAs(t, err, &syntax, must)
		assert.Contains(t, syntax.Problem, want, must)
		assert.Positive(t, syntax.Line)
		assert.Positive(t, syntax.Column)
	}
}

func TestChecksOfFilesAlone(t *testing.T) {
	for _, c := range []struct {
		n, from, to int64
		held        bool
	}{{5, 1, 10, true}, {0, 1, 0, false}, {11, 1, 10, false}, {11, 1, 0, true}, {10, 10, 10, true}} {
		r := Rows(c.n, c.from, c.to)
		assert.Equal(t, c.held, r.Held, c)
		assert.Equal(t, float64(c.n), *r.Value)
	}
	sum := strings.Repeat("ab", 16)
	assert.True(t, Checksum(ReadMarker(sum), sum, "x.md5").Held)
	assert.False(t, Checksum(ReadMarker(sum), strings.Repeat("cd", 16), "x.md5").Held)
	assert.Contains(t, Checksum(ReadMarker("soon"), sum, "x.md5").Saw, "holds no checksum")
}

func TestTrailers(t *testing.T) {
	assert.Nil(t, NewTrailer(nil))
	for _, c := range []struct {
		line, text string
		rows       int64
		sum        string
		held       bool
		saw        string
	}{
		{`^TOTAL;(?P<rows>[0-9]+)$`, "TOTAL;3", 3, "", true, "rows: the trailer says 3, the file has 3, line 9"},
		{`^TOTAL;(?P<rows>[0-9]+)$`, "TOTAL;4", 3, "", false, "rows: the trailer says 4, the file has 3, line 9"},
		{`^TOTAL;(?P<rows>[0-9]+)$`, "SR01;3", 3, "", false, "no line fits"},
		{`T=(?P<level>.+)`, "the T=6,5", 3, "6.5", true, "level: the trailer says 6.5, the file has 6.5, line 9"},
		{`T=(?P<level>.+)`, "T=much", 3, "6.5", false, "the trailer's level is no number, line 9"},
	} {
		k := NewTrailer(regexp.MustCompile(c.line))
		if c.sum != "" {
			assert.Equal(t, []string{"level"}, k.Columns())
			var v tabular.Value
			require.NoError(t, tabular.ParseNumber([]byte(c.sum), &v))
			k.Add("level", &v)
			k.Add("level", &tabular.Value{})
			k.Add("other", &v)
		}
		assert.False(t, k.Take([]byte("SR01;1;2"), 2))
		seen := k.Take([]byte(c.text), 9)
		assert.Equal(t, seen, k.Seen() == 9)
		r := k.Judge(c.rows)
		assert.Equal(t, c.held, r.Held, c)
		assert.Contains(t, r.Saw, c.saw)
	}
}

// TestValuesHaveBounds compares what an answer has to lie between with what the expression says.
func TestValuesHaveBounds(t *testing.T) {
	f := func(x float64) *float64 { return &x }
	for must, want := range map[string]struct{ low, high *float64 }{
		"rows >= 0.5 * usual_rows":                 {low: f(4)},
		"0.5 * usual_rows <= rows":                 {high: nil}, // usual_rows is asked first
		"rows > 100 && rows < 2000 && rows < 1500": {f(100), f(1500)},
		"rows == 12":                                       {f(12), f(12)},
		"smallest('level') > 11.5":                         {low: f(11.5)},
		"12.0 > greatest('level')":                         {high: f(12)},
		"newest_age('at') < duration('2h')":                {high: f(7200)},
		"rows > 1.0 || rows < 5.0":                         {},
		"rows - last_rows < 10.0":                          {},
		"rows > last('k') * 2.0 && blank_share('n') < 0.5": {low: f(16)},
	} {
		p, err := Compile(Check{Name: "k", Must: must, Else: Refuse}, columns, []string{"k"})
		require.NoError(t, err, must)
		answers := map[Question]Answer{}
		for _, q := range p.Questions {
			answers[q] = numeric(8)
			if q.Ask == "newest_age" {
				answers[q] = Answer{Value: tabular.Value{Kind: tabular.Instant}}
			}
		}
		r, err := p.Judge(answers, time.Unix(60, 0))
		require.NoError(t, err, must)
		assert.Equal(t, want.low, r.Low, must)
		assert.Equal(t, want.high, r.High, must)
	}
	r := Rows(5, 10, 0)
	assert.Equal(t, f(10), r.Low)
	assert.Nil(t, r.High)
}
