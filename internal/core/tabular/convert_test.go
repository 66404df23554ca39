package tabular

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func column(t testing.TB, f Field) *Column {
	t.Helper()
	f.Name = "x"
	s := Schema{Fields: []Field{f}, MissingValues: []string{""}}
	zone, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	c, err := s.CompileField(0, zone)
	require.NoError(t, err)
	return c
}

func TestCellsBecomeValues(t *testing.T) {
	comma := Field{Type: "number", DecimalChar: ",", GroupChar: ".", SoleNumber: true}
	number := Field{Type: "number", SoleNumber: true}
	for _, c := range []struct {
		field Field
		cell  string
		want  string
	}{
		{Field{Type: "string"}, "007", "007"},
		{number, "2.50", "2.50"},
		{number, "-0.05", "-0.05"},
		{number, "1e3", "1000"},
		{number, "1.5e-3", "0.0015"},
		{number, "123456789012345678901234567890.123", "123456789012345678901234567890.123"},
		{number, "-0", "0"},
		{number, "NaN", "NaN"},
		{number, "-INF", "-INF"},
		{comma, "1.234,5", "1234.5"},
		{Field{Type: "number"}, "EUR 95", "95"},
		{Field{Type: "integer", SoleNumber: true}, "-9223372036854775808", "-9223372036854775808"},
		{Field{Type: "integer", GroupChar: " ", SoleNumber: true}, "1 000", "1000"},
		{Field{Type: "boolean", TrueValues: []string{"J"}, FalseValues: []string{"N"}}, "J", "true"},
		{Field{Type: "datetime"}, "2026-07-01T12:00:00Z", "2026-07-01T12:00:00Z"},
		{Field{Type: "datetime"}, "2026-07-01T12:00:00.25+02:00", "2026-07-01T10:00:00.25Z"},
		{Field{Type: "datetime"}, "2026-07-01T12:00:00.123456000Z", "2026-07-01T12:00:00.123456Z"},
		{Field{Type: "datetime", CutNanoseconds: true}, "1969-07-01T12:00:00.123456789Z",
			"1969-07-01T12:00:00.123456Z"},
		{Field{Type: "time", Format: "%H:%M:%S.%f", CutNanoseconds: true}, "12:00:00.123456789", "12:00:00.123456"},
		{Field{Type: "datetime", Format: "%d.%m.%Y %H:%M"}, "01.07.2026 12:00", "2026-07-01T12:00:00Z"},
		{Field{Type: "datetime", Format: "%d.%m.%Y %H:%M"}, "01.01.2026 12:00", "2026-01-01T13:00:00Z"},
		{Field{Type: "date", Format: "%d.%m.%Y"}, "29.02.2028", "2028-02-29"},
		{Field{Type: "date"}, "1899-12-31", "1899-12-31"},
		{Field{Type: "time"}, "23:59:59", "23:59:59"},
		{Field{Type: "year"}, "2026", "2026"},
		{Field{Type: "yearmonth"}, "2026-03", "2026-03-01"},
		{Field{Type: "duration"}, "P1DT2H", "P0M1DT7200S"},
		{Field{Type: "geopoint"}, "-28.5, 38.25", "-28.5, 38.25"},
		{Field{Type: "geopoint", Format: "object"}, `{"lon": 1, "lat": 2}`, "1, 2"},
		{Field{Type: "object"}, `{"a": [1, 2]}`, `{"a":[1,2]}`},
		{Field{Type: "object"}, `{"a": "\\u0000", "b": "\\\\\\u0000x"}`, `{"a":"\\u0000","b":"\\\\\\u0000x"}`},
		{Field{Type: "array"}, `[1, 2]`, `[1,2]`},
		{Field{Type: "list", ItemType: "integer", Delimiter: ";"}, "1;2", `[1,2]`},
		{Field{Type: "list"}, `a"b,c`, `["a\"b","c"]`},
		{Field{Type: "string", Format: "uuid"}, "0c3f1c1e-8a59-4a0c-9f0e-0a5f8b3e6d11",
			"0c3f1c1e8a594a0c9f0e0a5f8b3e6d11"},
		{Field{Type: "string", Format: "binary"}, "SGk=", "4869"},
		{Field{Type: "string", Format: "email"}, "a@upper.example", "a@upper.example"},
		{number, "", ""},
	} {
		var v Value
		err := column(t, c.field).Convert([]byte(c.cell), &v)
		if assert.NoError(t, err, "%s %q", c.field.Type, c.cell) {
			assert.Equal(t, c.want, v.String(), "%s %q", c.field.Type, c.cell)
		}
	}
}

// TestNumbersAsTheyAreWritten holds the forms of numbers against cases that look like
// numbers of another form.
func TestNumbersAsTheyAreWritten(t *testing.T) {
	const grouping, behind = "not in groups of three", "behind the decimal point"
	for _, c := range []struct{ decimal, group, cell, want string }{
		{"", "", "+7", "7"}, {"", "", "7.", "7"}, {"", "", ".5", "0.5"}, {"", "", "00012", "12"},
		{"", "", "1E+2", "100"},
		{"", "", "1_000", "! not a number"}, {"", "", "0x10", "! not a number"}, {"", "", "--1", "! not a number"},
		{"", "", "1-", "! not a number"},
		{"", "", "1.2.3", "! not a number"}, {"", "", "\u0661", "! not a number"}, {"", "", " 1", "! not a number"},
		{"", "", "1e", "! not a number"},
		{",", ".", "1.234,5", "1234.5"}, {",", ".", "-1.234.567,89", "-1234567.89"}, {",", ".", "1234,5", "1234.5"},
		{",", ".", "12", "12"},
		{",", ".", "1.50", "! " + grouping}, {",", ".", "1.5", "! " + grouping},
		{",", ".", "1.2345", "! " + grouping}, {",", ".", "1234.567", "! " + grouping},
		{",", ".", "1..234", "! " + grouping}, {",", ".", ".234", "! " + grouping},
		{",", ".", "1.234.", "! " + grouping}, {",", ".", "1,234.5", "! " + behind},
		{",", ".", "1.234e.5", "! " + behind}, {",", ".", "12.34.567", "! " + grouping},
		{"", ",", "12,34,567", "! " + grouping}, {"", ",", "1,234.5", "1234.5"},
		{"", ",", "1,234.567,8", "! " + behind}, {"", ",", "-,234", "! " + grouping},
		{"", " ", "1 234 567", "1234567"}, {"", "'", "1'234", "1234"}, {"", "\u00a0", "1\u00a0234", "1234"},
		{"", "\u00a0", "1\u00a023", "! " + grouping},
	} {
		var v Value
		err := column(t, Field{Type: "number", DecimalChar: c.decimal, GroupChar: c.group,
			SoleNumber: true}).Convert([]byte(c.cell), &v)
		if reason, bad := strings.CutPrefix(c.want, "! "); bad {
			assert.ErrorContains(t, err, reason, c.cell)
		} else if assert.NoError(t, err, c.cell) {
			assert.Equal(t, c.want, v.String(), c.cell)
		}
	}
	whole := column(t, Field{Type: "integer", GroupChar: ".", SoleNumber: true})
	var v Value
	assert.ErrorContains(t, whole.Convert([]byte("1.50"), &v), grouping)
	require.NoError(t, whole.Convert([]byte("1.500"), &v))
	assert.Equal(t, "1500", v.String())
}

func TestCellsThatCannotBeTakenSayWhy(t *testing.T) {
	number := Field{Type: "number", SoleNumber: true}
	bounded := number
	bounded.Constraints = Constraints{Minimum: "-5", ExclusiveMaximum: "30"}
	for _, c := range []struct {
		field Field
		cell  string
		want  string
	}{
		{number, "12,5", "not a number"},
		{number, "1e99999", "exponent is beyond 1000"},
		{bounded, "-5.01", "less than the minimum -5"},
		{bounded, "30.0", "more than the maximum 30"},
		{bounded, "NaN", "less than the minimum"},
		{Field{Type: "integer", SoleNumber: true}, "9223372036854775808", "too large for a whole number of 64 bits"},
		{Field{Type: "integer", SoleNumber: true}, "1.0", "not a whole number"},
		{Field{Type: "date", Format: "%d.%m.%Y"}, "31.02.2026", "no such date"},
		{Field{Type: "date", Format: "%d.%m.%Y"}, "2026-02-01", "not a date of the form %d.%m.%Y"},
		{Field{Type: "datetime"}, "2026-07-01T12:00:00.123456789Z",
			"789 nanoseconds more than the microseconds that the target keeps"},
		{Field{Type: "time", Format: "%H:%M:%S.%f"}, "12:00:00.0000001", "100 nanoseconds more"},
		{Field{Type: "datetime", Format: "%Y-%m-%d %H:%M"}, "2026-03-29 00:30", "the clocks skip it"},
		{Field{Type: "time"}, "24:00:00", "no such time of day"},
		{Field{Type: "boolean"}, "yes", "neither yes (true, True, TRUE, 1)"},
		{Field{Type: "string"}, "a\x00b", "NUL byte"},
		{Field{Type: "string"}, "\xff\xfe", "not valid UTF-8"},
		{Field{Type: "string", Constraints: Constraints{Pattern: "SR[0-9]{4}"}}, "SR12345",
			"does not match the pattern"},
		{Field{Type: "string", Constraints: Constraints{MaxLength: 2}}, "äöü", "longer than 2 characters"},
		{Field{Type: "string", Constraints: Constraints{MinLength: 4}}, "äöü", "shorter than 4 characters"},
		{Field{Type: "string", Constraints: Constraints{Enum: []string{"G", "F"}}}, "X", "not one of G, F"},
		{Field{Type: "string", Constraints: Constraints{Required: true}}, "", "a value is required"},
		{Field{Type: "string", Format: "uri"}, "no uri", "not a URI"},
		{Field{Type: "duration"}, "P", "not a duration"},
		{Field{Type: "duration"}, "P1DT", "not a duration"},
		{Field{Type: "geopoint"}, "181, 0", "not a longitude and latitude"},
		{Field{Type: "object"}, "[1]", "not a JSON object"},
		{Field{Type: "object"}, `{"a":"\u0000"}`, "NUL character"},
		{Field{Type: "object"}, `{"a":"\\\u0000"}`, "NUL character"},
		{Field{Type: "list", ItemType: "integer"}, "1,b", "item 2: not a whole number"},
	} {
		var v Value
		err := column(t, c.field).Convert([]byte(c.cell), &v)
		var cell *CellError
		require.ErrorAs(t, err, &cell, "%s %q gave %s", c.field.Type, c.cell, v.String())
		assert.Contains(t, cell.Reason, c.want, "%s %q", c.field.Type, c.cell)
	}
}

func TestDigestsFollowEqualityOfValues(t *testing.T) {
	number := column(t, Field{Type: "number", SoleNumber: true})
	digest := func(cells ...string) string {
		var canonical []byte
		for _, cell := range cells {
			var v Value
			require.NoError(t, number.Convert([]byte(cell), &v))
			canonical = v.AppendCanonical(canonical)
		}
		return string(AppendDigest(nil, canonical))
	}
	assert.Equal(t, digest("2.5"), digest("2.500"))
	assert.Equal(t, digest("100"), digest("1e2"))
	assert.Equal(t, digest("1234567890123456789012.50"), digest("1234567890123456789012.5"))
	assert.NotEqual(t, digest("2.5"), digest("2.51"))
	assert.NotEqual(t, digest("1", ""), digest("", "1"))
	assert.Len(t, digest("1"), DigestSize)
}

func TestDecimalsCompareExactly(t *testing.T) {
	number := column(t, Field{Type: "number", SoleNumber: true})
	value := func(cell string) *Value {
		v := new(Value)
		require.NoError(t, number.Convert([]byte(cell), v))
		return v
	}
	ordered := []string{"-INF", "-99999999999999999999", "-1.01", "-1", "0", "0.1", "0.10000000000000000001", "2",
		"1e30", "INF", "NaN"}
	for i := range ordered {
		for j := range ordered {
			assert.Equal(t, sign(i-j), Compare(value(ordered[i]), value(ordered[j])), "%s against %s", ordered[i],
				ordered[j])
		}
	}
	assert.Equal(t, 0, Compare(value("1.50"), value("1.5")))
}

func sign(n int) int { return min(1, max(-1, n)) }

func TestHeadersAreHeldAgainstTheSchema(t *testing.T) {
	fields := []Field{{Name: "station_id", Source: "Station", Constraints: Constraints{Required: true}},
		{Name: "level_m", Source: "Level"}}
	for _, c := range []struct {
		match  FieldsMatch
		header []string
		want   []int
		err    string
	}{
		{MatchExact, []string{"Station", "Level"}, []int{0, 1}, ""},
		{MatchExact, []string{"Level", "Station"}, nil, "another order"},
		{MatchEqual, []string{"Level", "Station"}, []int{1, 0}, ""},
		{MatchEqual, []string{"Level", "Station", "Note"}, nil, `column "Note" is not in the schema`},
		{MatchSubset, []string{"Level", "Station", "Note"}, []int{1, 0}, ""},
		{MatchExact, []string{"Station", "Level_m"}, nil, `column "Level" is gone; "Level_m" is new and looks like it`},
		{MatchSuperset, []string{"Station"}, []int{0, -1}, ""},
		{MatchSuperset, []string{"Level"}, nil, `column "Station" is gone`},
		{MatchPartial, []string{"Station", "Note"}, []int{0, -1}, ""},
		{MatchExact, []string{"Station", "Station"}, nil, "twice, as columns 1 and 2"},
		{MatchExact, []string{"SR0001", "2.5"}, nil, "is the header line missing"},
	} {
		s := Schema{Fields: fields, FieldsMatch: c.match}
		got, err := s.MatchHeader(c.header)
		if c.err == "" {
			require.NoError(t, err, c.header)
			assert.Equal(t, c.want, got)
			continue
		}
		assert.ErrorContains(t, err, c.err)
	}
}

func FuzzConvert(f *testing.F) {
	f.Add("number", "1.5e3")
	f.Add("datetime", "2026-07-01T12:00:00Z")
	f.Add("duration", "P1DT2H")
	f.Add("object", `{"a":1}`)
	f.Fuzz(func(t *testing.T, typ, cell string) {
		s := Schema{Fields: []Field{{Name: "x", Type: typ, SoleNumber: true}}}
		c, err := s.CompileField(0, time.UTC)
		if err != nil {
			return
		}
		var v Value
		if c.Convert([]byte(cell), &v) != nil {
			return
		}
		_ = v.AppendCanonical(nil)
		if typ != "number" || v.Kind == Null {
			return
		}
		var again Value
		require.NoError(t, c.Convert([]byte(v.String()), &again), "%q became %q", cell, v.String())
		assert.Equal(t, 0, Compare(&v, &again), "%q became %q", cell, v.String())
	})
}
