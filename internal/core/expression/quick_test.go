package expression

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// odd makes values that are hard on comparisons.
func odd(random *rand.Rand) *values {
	pick := func(list ...tabular.Value) *tabular.Value { return &list[random.IntN(len(list))] }
	return &values{
		"row.level_m": pick(tabular.Value{}, tabular.Value{Kind: tabular.Decimal, I: 450, Scale: 2},
			tabular.Value{Kind: tabular.Decimal, I: -3},
			tabular.Value{Kind: tabular.Decimal, I: 123456789, Scale: 12},
			tabular.Value{Kind: tabular.Decimal, I: math.MaxInt64, Scale: 18},
			tabular.Value{Kind: tabular.Decimal, Odd: tabular.NaN},
			tabular.Value{Kind: tabular.Decimal, Odd: tabular.PlusInf},
			tabular.Value{Kind: tabular.Decimal, B: []byte("123456789012345678901234567890"), Scale: 3}),
		"row.station_id": pick(tabular.Value{}, tabular.Value{Kind: tabular.Text},
			tabular.Value{Kind: tabular.Text, B: []byte("SR0001")},
			tabular.Value{Kind: tabular.Text, B: []byte("añb\x00")}),
		"row.observed_at": pick(tabular.Value{}, tabular.Value{Kind: tabular.Instant, I: at.UnixMicro()},
			tabular.Value{Kind: tabular.Day, I: 20635}),
		"row.count": pick(tabular.Value{}, tabular.Value{Kind: tabular.Integer, I: 3},
			tabular.Value{Kind: tabular.Integer, I: math.MaxInt64},
			tabular.Value{Kind: tabular.Integer, I: math.MinInt64}),
		"file.captures.catchment": pick(tabular.Value{Kind: tabular.Text, B: []byte("K1")}),
		"file.size": pick(tabular.Value{Kind: tabular.Integer, I: 12},
			tabular.Value{Kind: tabular.Integer, I: 1<<53 + 1}),
	}
}

// same demands that the quick way and the interpreter say the same of values.
func same(t *testing.T, p *Program, given *values) (quickly bool) {
	var names []*tabular.Value
	for _, name := range p.asks {
		names = append(names, given.Lookup(name))
	}
	var mine, theirs tabular.Value
	s, ok := p.quick(names)
	if !ok || !s.into(&mine) {
		return false
	}
	require.NoError(t, p.interpret(given, &theirs), "%s of %v", p.source, names)
	require.Equal(t, theirs.Kind, mine.Kind, "%s of %v", p.source, names)
	require.Equal(t, theirs.String(), mine.String(), "%s of %v", p.source, names)
	return true
}

// TestTheQuickWaySaysTheSame holds the quick way against the interpreter, over
// expressions of all sorts and values that are hard on them.
func TestTheQuickWaySaysTheSame(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, source := range []string{
		"row.level_m > 4.5", "row.level_m >= 4", "row.level_m < row.count", "row.count <= row.level_m",
		"row.level_m != null || row.station_id == 'SR0001'", "row.level_m == null && row.count == null",
		"!(row.station_id == 'x')", "null == row.count",
		"row.station_id < 'SR1'", "row.station_id != file.captures.catchment", "row.station_id.startsWith('SR')",
		"row.station_id.endsWith('1')",
		"row.station_id.contains('00')", "row.station_id.matches('^SR[0-9]{4}$')",
		"row.station_id in ['SR0001', 'SR0002', '']", "row.count in [1, 3]",
		"row.level_m in [4.5, 5.0]", "row.observed_at > row.observed_at", "row.observed_at == row.observed_at",
		"row.level_m * 2.0 - 1 > row.level_m * 0.25", "row.level_m - row.count", "row.level_m * row.level_m > 1",
		"row.level_m * row.level_m + row.level_m < 4.5", "2 * row.level_m",
		"row.count == row.level_m", "row.level_m != 4.500", "file.size * 0.1",
		"row.level_m + 0.5", "row.count > 2 ? row.level_m : 1.5", "row.station_id", "row.observed_at", "row.count",
		"true || row.count > 1", "(row.count > 2) == (row.level_m > 1.0)",
		"file.size > 9007199254740993", "file.size == 12", "9007199254740993 == file.size",
		"row.level_m == 4.5 ? 'high' : row.station_id",
	} {
		p, err := scope(t).Compile(source)
		require.NoError(t, err, source)
		require.NotNil(t, p.quick, source)
		quickly := 0
		for range 300 {
			if same(t, p, odd(random)) {
				quickly++
			}
		}
		assert.GreaterOrEqual(t, quickly, 20, source)
	}
	for _, source := range []string{"row.count + 1", "size(row.station_id) > 3", "row.level_m / 3",
		"row.observed_at > timestamp('2026-01-01T00:00:00Z')", "['a'].exists(x, x == row.station_id)"} {
		p, err := scope(t).Compile(source)
		require.NoError(t, err, source)
		for range 100 {
			given := odd(random)
			if p.quick != nil {
				same(t, p, given)
			}
			_ = p.Eval(given, new(tabular.Value))
		}
	}
}

// TestRowsFollowEachOther asks one program of several readers in turn.
func TestRowsFollowEachOther(t *testing.T) {
	p, err := scope(t).Compile("row.count > 2")
	require.NoError(t, err)
	level := &tabular.Value{Kind: tabular.Integer, I: 3}
	one, two := &values{"row.count": level}, &values{"row.count": {Kind: tabular.Integer, I: 1}}
	for _, c := range []struct {
		of   *values
		now  int64
		want int64
	}{{one, 3, 1}, {one, 2, 0}, {two, 2, 0}, {one, 9, 1}} {
		level.I = c.now
		var v tabular.Value
		require.NoError(t, p.Eval(c.of, &v))
		assert.Equal(t, c.want, v.I)
	}
}

func FuzzQuick(f *testing.F) {
	f.Add("row.level_m > 4.5 && row.station_id in ['a', 'b']", uint64(1))
	f.Add("row.count == 3 ? row.level_m * 2.0 : file.size > 3 ? 1.0 : -1.0", uint64(2))
	f.Fuzz(func(t *testing.T, source string, seed uint64) {
		p, err := scope(t).Compile(source)
		if err == nil && p.quick != nil {
			same(t, p, odd(rand.New(rand.NewPCG(seed, 1))))
		}
	})
}
