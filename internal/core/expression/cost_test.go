package expression

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// TestCostsAreBounded refuses what could take for ever on one row.
func TestCostsAreBounded(t *testing.T) {
	s := scope(t)
	list := "[" + strings.TrimSuffix(strings.Repeat("1,", 100), ",") + "]"
	for _, source := range []string{
		list + ".all(a, " + list + ".all(b, " + list + ".all(c, " + list + ".all(d, a + b + c + d > row.count))))",
		list + ".all(a, " + list + ".all(b, " + list + ".all(c, row.station_id.matches('.*a.*b.*c'))))",
	} {
		_, err := s.Compile(source)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax)
		assert.Contains(t, syntax.Problem, "may take more than")
	}
	for _, source := range []string{"row.station_id.matches('^[a-z]+$')",
		"row.station_id.contains('x') && row.level_m > 3", list + ".exists(a, a == row.count)"} {
		_, err := s.Compile(source)
		assert.NoError(t, err, source)
	}
}

// TestValuesAreThoseOfTheRow evaluates one program over row after row.
func TestValuesAreThoseOfTheRow(t *testing.T) {
	p, err := scope(t).Compile("row.level_m > 3 && row.level_m < row.count && row.count < file.size")
	require.NoError(t, err)
	size := &tabular.Value{Kind: tabular.Integer, I: 100}
	for _, c := range []struct {
		level, n int64
		want     bool
	}{{35, 4, true}, {35, 3, false}, {29, 4, false}, {35, 100, false}, {35, 4, true}} {
		var v tabular.Value
		given := &values{"row.level_m": {Kind: tabular.Decimal, I: c.level, Scale: 1},
			"row.count": {Kind: tabular.Integer, I: c.n}, "file.size": size}
		require.NoError(t, p.Eval(given, &v))
		assert.Equal(t, c.want, v.I == 1, c)
	}
	var v tabular.Value
	err = p.Eval(&values{"row.level_m": {}, "row.count": {Kind: tabular.Integer, I: 4}, "file.size": size}, &v)
	assert.ErrorIs(t, err, ErrNull)
	require.NoError(t, p.Eval(&values{"row.level_m": {}, "row.count": {Kind: tabular.Integer, I: 400},
		"file.size": size}, &v))
	assert.Zero(t, v.I, "false, whatever the null would have been")
}
