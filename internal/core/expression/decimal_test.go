package expression

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

func TestNumbersAreExact(t *testing.T) {
	large := []byte("-123456789012345678901234567890")
	given := &values{
		"row.level_m":             {Kind: tabular.Decimal, I: 471, Scale: 2},
		"row.station_id":          {Kind: tabular.Text, B: []byte("0.30")},
		"row.count":               {Kind: tabular.Integer, I: 3},
		"row.observed_at":         {Kind: tabular.Instant, I: at.UnixMicro()},
		"file.captures.catchment": {Kind: tabular.Text, B: []byte("K1")},
		"file.size":               {Kind: tabular.Integer, I: 1<<53 + 1},
	}
	for _, c := range []struct{ source, want string }{
		{"3 * 0.1", "0.3"},
		{"row.count * 0.1", "0.3"},
		{"0.1 + 0.2", "0.3"},
		{"0.1 + 0.2 == 0.3", "true"},
		{"row.level_m * 1.1", "5.181"},
		{"row.level_m + row.count", "7.71"},
		{"row.count - row.level_m", "-1.71"},
		{"row.level_m * 2 > 9.41 && row.level_m * 2 < 9.43", "true"},
		{"file.size + 0.5", "9007199254740993.5"},
		{"file.size == 9007199254740992.0", "false"},
		{"file.size > 9007199254740992.0", "true"},
		{"123456789012345678901234567890.25 + 1", "123456789012345678901234567891.25"},
		{"-0.1 - 0.2", "-0.3"},
		{"-row.level_m", "-4.71"},
		{"1e3 * 2", "2000"},
		{"1.0 / 3", "0.3333333333333333333333333333333333"},
		{"2 / 3.0", "0.6666666666666666666666666666666667"},
		{"10 / 4.0", "2.5"},
		{"100 / 5.0", "20"},
		{"row.count / 2", "1"},
		{"double(row.count) / 2", "1.5"},
		{"double(row.station_id) == 0.3", "true"},
		{"int(row.level_m)", "4"},
		{"int(-row.level_m)", "-4"},
		{"string(row.level_m * 10)", "47.10"},
		{"row.level_m in [4.7, 4.71]", "true"},
		{"row.level_m in [4, 5]", "false"},
		{"row.count in [1.5, 3.0]", "true"},
		{"row.station_id in {'0.30': 1}", "true"},
		{"[0.1, 0.2].map(x, x * 3).exists(x, x == 0.3)", "true"},
		{"[0.1, 0.2].all(x, row.level_m > x)", "true"},
		{"row.level_m > 4 ? row.level_m : 0.0", "4.71"},
		{"row.level_m > 4 ? row.level_m : 0", "4.71"},
		{"row.level_m > 5 ? row.level_m : row.count", "3"},
		{"row.count == 3.0 && 3 == 3.0 && !(row.count != 3.00) && row.level_m != 4", "true"},
		{"row.count == row.level_m ? 1 : 0.5", "0.5"},
		{"row.level_m == 4 || [row.count == 3.0][0]", "true"},
		{"type(row.level_m) == double", "true"},
		{"row.level_m != null", "true"},
		{"row.level_m == null || row.level_m == 4.710", "true"},
		{"'a' + row.station_id == 'a0.30' && row.count + 1 == 4 && row.count % 2 == 1", "true"},
		{"row.observed_at - duration('1h') < row.observed_at", "true"},
	} {
		p, err := scope(t).Compile(c.source)
		require.NoError(t, err, c.source)
		var v tabular.Value
		require.NoError(t, p.Eval(given, &v), c.source)
		assert.Equal(t, c.want, v.String(), c.source)
		require.NoError(t, p.interpret(given, &v), c.source)
		assert.Equal(t, c.want, v.String(), "the interpreter of %s", c.source)
	}
	for source, want := range map[string]string{
		"row.level_m / 0":                   "division by zero",
		"row.level_m / (row.count - 3)":     "division by zero",
		"0.0 / 0.0 == row.level_m":          "division by zero",
		"double(row.station_id + 'x') > 1":  `"0.30x" is not a number`,
		"int(row.level_m * 1e30)":           "integer overflow",
		"1e300*1e300*1e300*1e300 + 1.0":     "more than 1000 digits",
		"1e300 * 1e300 * 1e300 * 1e300":     "more than 1000 digits",
		"row.count / 0 == 1":                "division by zero",
		"row.count + 9223372036854775807>0": "overflow",
	} {
		p, err := scope(t).Compile(source)
		require.NoError(t, err, source)
		assert.ErrorContains(t, p.Eval(given, new(tabular.Value)), want, source)
	}
	for _, c := range []struct {
		level  tabular.Value
		source string
		want   string // or its error
	}{
		{tabular.Value{Kind: tabular.Decimal, B: large, Scale: 5}, "row.level_m * 2",
			"-2469135780246913578024691.35780"},
		{tabular.Value{Kind: tabular.Decimal, B: large}, "row.level_m < 0", "true"},
		{tabular.Value{Kind: tabular.Decimal, I: 1, Scale: 1200}, "row.level_m > 0", "true"},
		{tabular.Value{Kind: tabular.Decimal, I: 1, Scale: 1200}, "row.level_m + 1", "more than 1000 digits"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.NaN}, "row.level_m + 1", "NaN"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.NaN}, "row.level_m == row.level_m", "false"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.NaN}, "row.level_m > 1", "NaN values cannot be ordered"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.PlusInf}, "row.level_m > 1e300", "true"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.PlusInf}, "-row.level_m", "-INF"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.PlusInf}, "row.level_m - row.level_m", "NaN"},
		{tabular.Value{Kind: tabular.Decimal, Odd: tabular.PlusInf}, "int(row.level_m)", "integer overflow"},
	} {
		p, err := scope(t).Compile(c.source)
		require.NoError(t, err, c.source)
		var v tabular.Value
		if err := p.Eval(&values{"row.level_m": &c.level}, &v); err != nil {
			assert.ErrorContains(t, err, c.want, c.source)
		} else {
			assert.Equal(t, c.want, v.String(), c.source)
		}
	}
}
