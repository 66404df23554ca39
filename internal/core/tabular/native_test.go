package tabular

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTakingTypedValues converts values that a file holds with a type of its
// own into columns, and demands that nothing is lost on the way.
func TestTakingTypedValues(t *testing.T) {
	azores, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	noon := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC).UnixMicro()
	const day = 20635
	text := func(s string) Value { return Value{Kind: Text, B: []byte(s)} }
	whole := func(n int64) Value { return Value{Kind: Integer, I: n} }
	decimal := func(n int64, scale int32) Value { return Value{Kind: Decimal, I: n, Scale: scale} }
	json := func(s string) Value { return Value{Kind: JSON, B: []byte(s)} }
	for _, c := range []struct {
		field Field
		in    Value
		want  string // of the value; "!" and a part of the reason for a reject
	}{
		{Field{Type: "integer"}, whole(7), "7"},
		{Field{Type: "integer"}, decimal(700, 2), "7"},
		{Field{Type: "integer"}, decimal(705, 2), "!whole number"},
		{Field{Type: "integer"}, Value{Kind: Float, X: 5}, "5"},
		{Field{Type: "integer"}, Value{Kind: Float, X: 5.5}, "!whole number"},
		{Field{Type: "integer"}, text("12"), "12"},
		{Field{Type: "integer"}, json("{}"), "!json where integer is expected"},
		{Field{Type: "integer"}, whole(-999), ""},
		{Field{Type: "integer", Constraints: Constraints{Required: true}}, whole(-999), "!required"},
		{Field{Type: "integer", Constraints: Constraints{Maximum: "5"}}, whole(6), "!more than the maximum 5"},
		{Field{Type: "number"}, whole(7), "7"},
		{Field{Type: "number"}, decimal(-9990, 1), ""},
		{Field{Type: "number"}, Value{Kind: Float, X: -999}, ""},
		{Field{Type: "number"}, Value{Kind: Float, X: 0.1}, "0.1"},
		{Field{Type: "number"}, Value{Kind: Float, X: 1.0 / 3}, "0.3333333333333333"},
		{Field{Type: "number"}, Value{Kind: Float, X: 1e300}, "1" + zeros(300)},
		{Field{Type: "number"}, Value{Kind: Float, X: math.Inf(-1)}, "-INF"},
		{Field{Type: "number", DecimalChar: ","}, decimal(25, 1), "2.5"},
		{Field{Type: "number", DecimalChar: ","}, text("2,5"), "2.5"},
		{Field{Type: "number", Constraints: Constraints{Minimum: "0.5"}}, decimal(49, 2), "!less than the minimum 0.5"},
		{Field{Type: "boolean"}, Value{Kind: Boolean, I: 1}, "true"},
		{Field{Type: "boolean"}, whole(0), "false"},
		{Field{Type: "boolean"}, whole(2), "!neither yes"},
		{Field{Type: "string"}, whole(42), "42"},
		{Field{Type: "string"}, Value{Kind: Boolean, I: 1}, "true"},
		{Field{Type: "string"}, json(`{"a":1}`), `{"a":1}`},
		{Field{Type: "string"}, text(""), ""},
		{Field{Type: "datetime"}, Value{Kind: Instant, I: noon}, "2026-07-01T12:00:00Z"},
		{Field{Type: "datetime"}, Value{Kind: Wall, I: noon}, "2026-07-01T12:00:00Z"},
		{Field{Type: "datetime"}, Value{Kind: Day, I: day}, "2026-07-01T00:00:00Z"},
		{Field{Type: "datetime"}, Value{Kind: Clock, I: 5}, "!time where datetime is expected"},
		{Field{Type: "datetime", Format: "%Y%m%d%H%M"}, whole(202607011200), "2026-07-01T12:00:00Z"},
		{Field{Type: "date"}, Value{Kind: Day, I: day}, "2026-07-01"},
		{Field{Type: "date"}, Value{Kind: Wall, I: day * dayMicros}, "2026-07-01"},
		{Field{Type: "date"}, Value{Kind: Instant, I: noon}, "!time of day"},
		{Field{Type: "date", Format: "%Y%m%d"}, whole(20260701), "2026-07-01"},
		{Field{Type: "time"}, Value{Kind: Clock, I: 3_600_000_000}, "01:00:00"},
		{Field{Type: "year"}, whole(2026), "2026"},
		{Field{Type: "year"}, whole(99999), "!not a year"},
		{Field{Type: "duration"}, Value{Kind: Span, M: 1}, "P1M0DT0S"},
		{Field{Type: "object"}, json(`{"a": 1}`), `{"a":1}`},
		{Field{Type: "object"}, json(`[1]`), "!not a JSON object"},
		{Field{Type: "object"}, whole(1), "!integer where object is expected"},
		{Field{Type: "array"}, json(`[1, 2]`), `[1,2]`},
		{Field{Type: "list"}, json(`["a", "b"]`), `["a","b"]`},
		{Field{Type: "list"}, json(`{}`), "!not an array"},
		{Field{Type: "list"}, text("a,b"), `["a","b"]`},
		{Field{Type: "geopoint", Format: "array"}, json(`[-28.5, 38.5]`), "-28.5, 38.5"},
		{Field{Type: "geopoint", Format: "object"}, json(`{"lon": 1}`), "!longitude"},
	} {
		s := Schema{Fields: []Field{c.field}, MissingValues: []string{"", "-999"}}
		s.Fields[0].Name, s.Fields[0].SoleNumber = "x", true
		columns, err := s.Compile(time.UTC)
		require.NoError(t, err)
		var v Value
		err = columns[0].Take(&c.in, &v)
		if len(c.want) > 0 && c.want[0] == '!' {
			assert.ErrorContains(t, err, c.want[1:], "%+v", c)
			continue
		}
		require.NoError(t, err, "%+v", c)
		assert.Equal(t, c.want, v.String(), "%+v", c)
	}
	s := Schema{Fields: []Field{{Name: "at", Type: "datetime"}}}
	columns, err := s.Compile(azores)
	require.NoError(t, err)
	var v Value
	require.NoError(t, columns[0].Take(&Value{Kind: Wall, I: noon}, &v))
	assert.Equal(t, "2026-07-01T12:00:00Z", v.String(), "summer time there is UTC")
	skipped := time.Date(2026, 3, 29, 0, 30, 0, 0, time.UTC).UnixMicro()
	assert.ErrorContains(t, columns[0].Take(&Value{Kind: Wall, I: skipped}, &v), "the clocks skip it")
}

func zeros(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = '0'
	}
	return string(b)
}

func TestSumsAreExact(t *testing.T) {
	total := Value{Kind: Decimal}
	for range 10 {
		AddTo(&total, &Value{Kind: Decimal, I: 1, Scale: 1})
	}
	assert.Equal(t, "1.0", total.String())
	AddTo(&total, &Value{Kind: Integer, I: -3})
	AddTo(&total, &Value{Kind: Decimal, Odd: NaN})
	AddTo(&total, &Value{Kind: Text, B: []byte("5")})
	assert.Equal(t, "-2.0", total.String(), "what is no number adds nothing")
	big := Value{Kind: Decimal, I: 999_999_999_999_999_999}
	for range 3 {
		AddTo(&big, &Value{Kind: Integer, I: 999_999_999_999_999_999})
	}
	assert.Equal(t, "3999999999999999996", big.String())
	AddTo(&big, &Value{Kind: Decimal, I: 5, Scale: 3})
	assert.Equal(t, "3999999999999999996.005", big.String())
}

// TestBoundsAtTheReady holds the quick look at bounds against the long one.
func TestBoundsAtTheReady(t *testing.T) {
	for _, k := range []Constraints{{Minimum: "-5", Maximum: "30"}, {ExclusiveMinimum: "0"}, {ExclusiveMaximum: "10"},
		{Minimum: "0.25"}, {Maximum: "99999999999999999999"}} {
		s := Schema{Fields: []Field{{Name: "x", Type: "number", SoleNumber: true, Constraints: k}}}
		columns, err := s.Compile(time.UTC)
		require.NoError(t, err)
		quick, slow := columns[0], *columns[0]
		slow.ready.upTo = 0
		for _, text := range []string{"-5", "-5.001", "-4.999", "0", "0.000", "0.001", "0.25", "0.249", "10", "9.99",
			"10.0000000001", "30", "30.0", "30.00000000000001", "1e3", "123456789012345678901234567890"} {
			var a, b Value
			assert.Equal(t, slow.Convert([]byte(text), &b), quick.Convert([]byte(text), &a), "%+v %s", k, text)
		}
	}
}

func FuzzParseNumber(f *testing.F) {
	f.Add("12.50", 0.1)
	f.Add("-1e5", 1e300)
	f.Fuzz(func(t *testing.T, text string, x float64) {
		var v Value
		if ParseNumber([]byte(text), &v) == nil && v.Kind == Decimal && v.Odd == Finite {
			var again Value
			require.NoError(t, ParseNumber([]byte(v.String()), &again))
			if again.Kind == Integer {
				again = Value{Kind: Decimal, I: again.I}
			}
			assert.Zero(t, Compare(&v, &again), text)
		}
		require.NoError(t, ParseFloat(x, &v))
		if v.Odd == Finite && math.Abs(x) > 1e-300 {
			assert.InEpsilon(t, x, v.Float64(), 1e-15)
		}
	})
}

// TestAccepts holds what a column says that it accepts against what it takes:
// it may accept a kind of which no sample here fits, and never the other way
// round.
func TestAccepts(t *testing.T) {
	samples := []Value{
		{Kind: Integer, I: 20260701}, {Kind: Integer, I: 1}, {Kind: Integer}, {Kind: Decimal, I: 15, Scale: 1},
		{Kind: Decimal, I: 2026}, {Kind: Float, X: 2026}, {Kind: Float, X: 0.5},
		{Kind: Boolean, I: 1}, {Kind: Boolean}, {Kind: Instant}, {Kind: Instant, I: 1}, {Kind: Day, I: 3},
		{Kind: Clock, I: 5}, {Kind: Span, D: 1}, {Kind: Point, X: 1, Y: 2},
		{Kind: JSON, B: []byte(`{"lon":1,"lat":2}`)}, {Kind: JSON, B: []byte("[1,2]")},
		{Kind: Binary, B: []byte("abc")}, {Kind: UUID, B: make([]byte, 16)}, {Kind: Wall, I: 7},
	}
	for _, field := range []Field{
		{Type: "string"}, {Type: "string", Format: "uuid"}, {Type: "string", Format: "binary"}, {Type: "number"},
		{Type: "integer"}, {Type: "boolean", TrueValues: []string{"1", "2026"}}, {Type: "date"},
		{Type: "date", Format: "%Y%m%d"},
		{Type: "time"}, {Type: "datetime"}, {Type: "datetime", Format: "%Y%m%d"}, {Type: "year"}, {Type: "yearmonth"},
		{Type: "duration"}, {Type: "geopoint"}, {Type: "geopoint", Format: "object"},
		{Type: "geopoint", Format: "array"}, {Type: "object"}, {Type: "array"}, {Type: "list"}, {Type: "any"},
	} {
		field.Name = "x"
		s := Schema{Fields: []Field{field}}
		columns, err := s.Compile(time.UTC)
		require.NoError(t, err, field)
		for _, sample := range samples {
			in, out := sample, Value{}
			if columns[0].Take(&in, &out) == nil {
				assert.True(t, columns[0].Accepts(sample.Kind), "%s %s took %s %s", field.Type, field.Format,
					sample.Kind, sample.String())
			}
		}
	}
	s := Schema{Fields: []Field{{Name: "x", Type: "number"}, {Name: "y", Type: "datetime"},
		{Name: "z", Type: "object"}}}
	columns, err := s.Compile(time.UTC)
	require.NoError(t, err)
	for i, never := range [][]Kind{{Boolean, Instant, Day, JSON, Binary, UUID}, {Boolean, Clock, JSON, Binary},
		{Integer, Boolean, Instant, Binary}} {
		for _, kind := range never {
			assert.False(t, columns[i].Accepts(kind), "%s of %s", columns[i].Field.Type, kind)
		}
	}
}

// TestTimesOfFilesThatAreFiner takes times with nanoseconds, of a format that has types.
func TestTimesOfFilesThatAreFiner(t *testing.T) {
	fine := Value{Kind: Instant, I: 1_000_001, D: 7}
	compiled := func(f Field) *Column {
		f.Name = "at"
		columns, err := (&Schema{Fields: []Field{f}}).Compile(time.UTC)
		require.NoError(t, err)
		return columns[0]
	}
	var v Value
	assert.ErrorContains(t, compiled(Field{Type: "datetime"}).Take(&fine, &v), "7 nanoseconds more")
	require.NoError(t, compiled(Field{Type: "datetime", CutNanoseconds: true}).Take(&fine, &v))
	assert.Equal(t, "1970-01-01T00:00:01.000001Z", v.String())
	require.NoError(t, compiled(Field{Type: "string"}).Take(&fine, &v))
	assert.Equal(t, "1970-01-01T00:00:01.000001007Z", v.String(), "as a text it is whole")
	wall := Value{Kind: Wall, I: 1_000_001, D: 7}
	assert.ErrorContains(t, compiled(Field{Type: "datetime"}).Take(&wall, &v), "7 nanoseconds more")
	midnight := Value{Kind: Instant, D: 7}
	assert.ErrorContains(t, compiled(Field{Type: "date"}).Take(&midnight, &v), "this has a time of day")
}
