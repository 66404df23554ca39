package tabular

import (
	"math"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIntegersAreWrittenOut(t *testing.T) {
	numbers := []int64{0, 1, -1, 9, 10, 99, 100, 101, 999, 1000, -1000, math.MaxInt64, math.MinInt64}
	for n := int64(1); n < math.MaxInt64/11; n = n*11 + 3 {
		numbers = append(numbers, n, -n)
	}
	for _, n := range numbers {
		assert.Equal(t, "x"+strconv.FormatInt(n, 10), string(appendInteger([]byte("x"), n)))
	}
}

func TestValuesOfEveryKindHaveAnOrder(t *testing.T) {
	for _, c := range []struct{ typ, less, more string }{
		{"string", "a", "b"}, {"integer", "-1", "2"}, {"boolean", "false", "true"},
		{"datetime", "2026-07-01T12:00:00Z", "2026-07-01T12:00:00.000001Z"},
		{"date", "1969-12-31", "1970-01-01"}, {"time", "00:00:01", "23:00:00"}, {"duration", "P1D", "P1M"},
		{"geopoint", "1, 2", "1, 3"}, {"year", "1999", "2026"},
	} {
		column := column(t, Field{Type: c.typ, SoleNumber: true})
		var less, more, null Value
		require.NoError(t, column.Convert([]byte(c.less), &less))
		require.NoError(t, column.Convert([]byte(c.more), &more))
		assert.Equal(t, -1, Compare(&less, &more), c.typ)
		assert.Equal(t, 1, Compare(&more, &less), c.typ)
		assert.Equal(t, 0, Compare(&less, &less), c.typ)
		assert.Equal(t, -1, Compare(&null, &less), "null is least")
		assert.NotEqual(t, less.AppendCanonical(nil), more.AppendCanonical(nil), c.typ)
	}
}

func TestARepeatedCellIsReadOnce(t *testing.T) {
	c := column(t, Field{Type: "datetime", Constraints: Constraints{Maximum: "2026-12-31T00:00:00Z"}})
	cell := []byte("2026-07-01T12:00:00Z")
	var first, second, third Value
	require.NoError(t, c.Convert(cell, &first))
	require.NoError(t, c.Convert(cell, &second))
	assert.Equal(t, first, second)
	copy(cell, "2027") // the buffer is used again for another row
	require.Error(t, c.Convert(cell, &third))
	pattern := column(t, Field{Type: "string", Constraints: Constraints{Pattern: "SR[0-9]{4}"}})
	for range 2 {
		require.NoError(t, pattern.Convert([]byte("SR0001"), &first))
		require.Error(t, pattern.Convert([]byte("SR1"), &first))
	}
}

func TestDialectsThatCannotWork(t *testing.T) {
	require.NoError(t, DefaultDialect().Check())
	for want, d := range map[string]Dialect{
		"a delimiter is needed":                      {},
		"delimiter and quoteChar are both":           {Delimiter: ";", QuoteChar: ';'},
		"commentChar '\"' already has another use":   {Delimiter: ";", QuoteChar: '"', CommentChar: '"'},
		"quoteChar must be one ASCII character, and": {Delimiter: ";", QuoteChar: '\n'},
	} {
		assert.ErrorContains(t, d.Check(), want)
	}
}
