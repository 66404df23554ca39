package due

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func times(t testing.TB, spec, in string) *Times {
	t.Helper()
	out, err := ParseTimes(spec, zone(t, in))
	require.NoError(t, err)
	return out
}

// The clocks of the Azores went from 00:00 to 01:00 (UTC-1 to UTC+0) on
// 2026-03-29 and from 01:00 back to 00:00 on 2026-10-25.
func TestTimesAcrossClockChanges(t *testing.T) {
	for name, c := range map[string]struct {
		spec, from, to string
		want           []string
	}{
		"a daily time in the dropped hour moves to the change": {"30 0 * * *", "2026-03-28T12:00:00Z",
			"2026-03-30T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"}},
		"a daily time in the doubled hour happens once": {"30 0 * * *", "2026-10-24T12:00:00Z",
			"2026-10-26T12:00:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		"every half hour goes through the doubled hour twice": {"*/30 * * * *", "2026-10-24T23:59:00Z",
			"2026-10-25T02:00:00Z", []string{"2026-10-25T00:00:00Z", "2026-10-25T00:30:00Z", "2026-10-25T01:00:00Z",
				"2026-10-25T01:30:00Z", "2026-10-25T02:00:00Z"}},
		"every half hour has no gap and no repeat in spring": {"*/30 * * * *", "2026-03-29T00:00:00Z",
			"2026-03-29T02:00:00Z", []string{"2026-03-29T00:30:00Z", "2026-03-29T01:00:00Z", "2026-03-29T01:30:00Z",
				"2026-03-29T02:00:00Z"}},
		"midnight itself is dropped": {"0 0 * * *", "2026-03-28T12:00:00Z",
			"2026-03-29T12:00:00Z", []string{"2026-03-29T01:00:00Z"}},
	} {
		from, _ := time.Parse(time.RFC3339, c.from)
		to, _ := time.Parse(time.RFC3339, c.to)
		tt := times(t, c.spec, "Atlantic/Azores")
		var got []string
		for _, at := range tt.Between(from, to) {
			got = append(got, at.UTC().Format(time.RFC3339))
		}
		assert.Equal(t, c.want, got, name)
		var steps []string
		for at := tt.Next(from); !at.After(to); at = tt.Next(at) {
			steps = append(steps, at.UTC().Format(time.RFC3339))
		}
		assert.Equal(t, c.want, steps, name+", step by step")
	}
	assert.Equal(t, "2028-02-29T06:00:00Z",
		times(t, "0 6 29 2 *", "UTC").Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).Format(time.RFC3339))
	assert.True(t, times(t, "0 6 31 2 *", "UTC").Next(time.Now()).IsZero(), "31 February never comes")
	for _, spec := range []string{"", "* * * *", "@daily", "TZ=UTC * * * * *", "61 * * * *"} {
		_, err := ParseTimes(spec, time.UTC)
		assert.Error(t, err, spec)
	}
}

func calendar(t testing.TB) *Calendar {
	return &Calendar{
		Times: times(t, "0 6 * * *", "Atlantic/Azores"), Files: 1, Late: time.Hour, Missing: 3 * time.Hour, Unit: Day,
		NameZone: zone(t, "Atlantic/Azores"),
		Per:      []Group{{"catchment", []string{"K1", "K2"}}, {"kind", []string{"a"}}},
		Except:   map[string]bool{"2026-12-25": true},
	}
}

func TestSlotsOfACalendar(t *testing.T) {
	c := calendar(t)
	day := time.Date(2026, 12, 24, 0, 0, 0, 0, time.UTC)
	var got []string
	for _, s := range c.Slots(day, day.AddDate(0, 0, 3)) {
		got = append(got, s.At.UTC().Format(time.RFC3339)+" "+Key(s.Per))
	}
	assert.Equal(t, []string{
		"2026-12-24T07:00:00Z catchment=K1,kind=a", "2026-12-24T07:00:00Z catchment=K2,kind=a",
		"2026-12-26T07:00:00Z catchment=K1,kind=a", "2026-12-26T07:00:00Z catchment=K2,kind=a",
	}, got, "Christmas is left out")
	name := time.Date(2026, 12, 24, 0, 0, 0, 0, c.NameZone)
	s, expected := c.SlotOf(Came{Noticed: day.AddDate(0, 0, 9), Slot: name.UTC(),
		Captures: map[string]any{"catchment": "K2", "kind": "a"}})
	assert.True(t, expected)
	assert.Equal(t, "2026-12-24T07:00:00Z", s.At.UTC().Format(time.RFC3339), "the name says the day, whenever it comes")
	for what, f := range map[string]Came{
		"another catchment": {Slot: name, Captures: map[string]any{"catchment": "K9", "kind": "a"}},
		"an excepted day":   {Slot: name.AddDate(0, 0, 1), Captures: map[string]any{"catchment": "K1", "kind": "a"}},
	} {
		_, expected = c.SlotOf(f)
		assert.False(t, expected, what)
	}
	c.Unit, c.Per = NoUnit, nil
	for came, want := range map[string]string{"2026-12-24T06:50:00Z": "2026-12-24",
		"2026-12-24T13:00:00Z": "2026-12-24", "2026-12-23T21:00:00Z": "2026-12-24"} {
		at, _ := time.Parse(time.RFC3339, came)
		s, expected := c.SlotOf(Came{Noticed: at})
		assert.True(t, expected)
		assert.Equal(t, want, s.At.UTC().Format(time.DateOnly), "without a time in the name, the nearest")
	}
}

func TestJudge(t *testing.T) {
	c := calendar(t)
	c.Files = 2
	s := c.Slots(time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 7, 2, 0, 0, 0, 0, time.UTC))[0]
	at := func(d time.Duration) time.Time { return s.At.Add(d) }
	early, soon, late := at(-time.Hour), at(30*time.Minute), at(2*time.Hour)
	for name, c2 := range map[string]struct {
		files   Files
		now     time.Time
		state   State
		surplus int
	}{
		"nothing yet":             {Files{}, at(0), Open, 0},
		"half of it":              {Files{Noticed: []time.Time{early}}, soon, Open, 0},
		"late, half of it":        {Files{Noticed: []time.Time{early}}, at(time.Hour), Late, 0},
		"missing":                 {Files{Noticed: []time.Time{early}}, at(3 * time.Hour), Missing, 0},
		"all in time":             {Files{Noticed: []time.Time{soon, early}}, at(9 * time.Hour), OnTime, 0},
		"the last one late":       {Files{Noticed: []time.Time{late, early}}, at(9 * time.Hour), Late, 0},
		"three where two are due": {Files{Noticed: []time.Time{late, early, soon}}, at(9 * time.Hour), OnTime, 1},
		"one refused":             {Files{Noticed: []time.Time{early}, Refused: 1}, at(9 * time.Hour), Refused, 0},
	} {
		v := c.Expect(s).Judge(c2.files, c2.now)
		assert.Equal(t, c2.state, v.State, name)
		assert.Equal(t, c2.surplus, v.Surplus, name)
		assert.Equal(t, len(c2.files.Noticed) < 2, v.Complete.IsZero(), name)
	}
	assert.Equal(t, at(time.Hour), c.Expect(s).Judge(Files{}, at(0)).Turn)
	assert.Equal(t, at(3*time.Hour), c.Expect(s).Judge(Files{}, at(time.Hour)).Turn)
	assert.True(t, c.Expect(s).Judge(Files{}, at(3*time.Hour)).Turn.IsZero())
}

func TestUnits(t *testing.T) {
	c := calendar(t)
	spring := time.Date(2026, 3, 28, 0, 0, 0, 0, time.UTC)
	for i, s := range c.Slots(spring, spring.AddDate(0, 0, 3)) {
		assert.Equal(t, spring.AddDate(0, 0, i/2).Format(time.DateOnly), s.Name.In(c.NameZone).Format(time.DateOnly),
			"the midnight that begins 29 March is dropped")
	}
	dropped := Day.Start(time.Date(2026, 3, 29, 6, 0, 0, 0, c.NameZone))
	assert.Equal(t, "2026-03-30 00:00:00", Day.Next(dropped).Format(time.DateTime))
	at := time.Date(2026, 12, 31, 23, 59, 30, 0, zone(t, "Atlantic/Azores"))
	for unit, want := range map[Unit][2]string{
		Minute: {"2026-12-31 23:59:00", "2027-01-01 00:00:00"}, Hour: {"2026-12-31 23:00:00", "2027-01-01 00:00:00"},
		Day:   {"2026-12-31 00:00:00", "2027-01-01 00:00:00"},
		Month: {"2026-12-01 00:00:00", "2027-01-01 00:00:00"}, Year: {"2026-01-01 00:00:00", "2027-01-01 00:00:00"},
	} {
		start := unit.Start(at)
		assert.Equal(t, want, [2]string{start.Format(time.DateTime), unit.Next(start).Format(time.DateTime)}, unit)
	}
}

// TestSpansAgree cuts a year with its clock changes into spans: together they have the
// instants of the year, and each of them is the next one after the one before.
func TestSpansAgree(t *testing.T) {
	for _, zone := range []string{"UTC", "Atlantic/Azores", "Australia/Lord_Howe", "Pacific/Apia"} {
		for _, spec := range []string{"0 6 * * *", "30 0,1,2 * * *", "*/20 * * * *", "15 * 1 * *", "45 23 * * 0"} {
			location, err := time.LoadLocation(zone)
			require.NoError(t, err)
			times, err := ParseTimes(spec, location)
			require.NoError(t, err)
			begin := time.Date(2011, 1, 1, 0, 0, 0, 0, time.UTC) // Apia left out a day in its last week
			end := begin.AddDate(1, 0, 7)
			whole := times.Between(begin, end)
			var parts []time.Time
			for from := begin; from.Before(end); from = from.Add(61 * time.Hour) {
				to := from.Add(61 * time.Hour)
				if to.After(end) {
					to = end
				}
				parts = append(parts, times.Between(from, to)...)
			}
			require.Equal(t, whole, parts, "%s %s", spec, zone)
			for i := 1; i < len(whole); i += 7 {
				require.Equal(t, whole[i], times.Next(whole[i-1]), "%s %s", spec, zone)
			}
		}
	}
}
