package news

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestForTakesAFeedsOwnRoutes(t *testing.T) {
	own := []Route{{Of: []Kind{Missing}, By: "own"}}
	others := []Route{{Of: []Kind{Missing, Refused}, By: "all"}, {Of: []Kind{Refused}, By: "too"}}
	for kind, want := range map[Kind][]string{Missing: {"own"}, Refused: {"all", "too"}, Held: nil} {
		var got []string
		for _, r := range For(kind, own, others) {
			got = append(got, r.By)
		}
		assert.Equal(t, want, got, kind)
	}
}

func TestCause(t *testing.T) {
	for _, c := range []struct {
		kind                 Kind
		supplier, of, expect string
	}{
		{Missing, "Upper Office", "", "supplier Upper Office"},
		{Missing, "", "", "feed gauges"},
		{Refused, "Upper Office", "", "feed gauges"},
		{Landing, "Upper Office", "", "landings"},
		{Database, "", "main", "main"},
	} {
		assert.Equal(t, c.expect, Cause(c.kind, "gauges", c.supplier, c.of))
	}
}

func TestAgain(t *testing.T) {
	var plain, more []time.Duration
	for told := 1; told < 6; told++ {
		plain, more = append(plain, Again(told, false)), append(more, Again(told, true))
	}
	assert.Equal(t, []time.Duration{time.Hour, 4 * time.Hour, 12 * time.Hour, 24 * time.Hour, 24 * time.Hour}, plain)
	for _, m := range more {
		assert.Equal(t, 15*time.Minute, m)
	}
}

func TestQuietHours(t *testing.T) {
	zone, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	q := &Quiet{From: 22 * 60, To: 6*60 + 30, Zone: zone, But: []Kind{Database}}
	at := func(text string) time.Time {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, zone)
		require.NoError(t, err)
		return at
	}
	for from, until := range map[string]string{"2026-11-20 21:59": "2026-11-20 21:59", "2026-11-20 22:00": "2026-11-21 06:30",
		"2026-11-20 06:29": "2026-11-20 06:30", "2026-11-20 06:30": "2026-11-20 06:30",
		"2026-03-28 23:00": "2026-03-29 06:30"} { // the clocks change in that night
		assert.Equal(t, at(until).UTC(), q.Until(at(from).UTC(), Missing).UTC(), from)
	}
	assert.Equal(t, at("2026-11-20 23:00"), q.Until(at("2026-11-20 23:00"), Database))
	var none *Quiet
	assert.Equal(t, at("2026-11-20 23:00"), none.Until(at("2026-11-20 23:00"), Missing))
}

func TestMatches(t *testing.T) {
	for _, c := range []struct {
		patterns []string
		name     string
		fits     bool
	}{
		{nil, "x", true}, {[]string{"gauge-*"}, "gauge-readings", true}, {[]string{"gauge-*"}, "the-gauge-readings", false},
		{[]string{"*@sorrel.example"}, "a@SORREL.example", true}, {[]string{"*readings"}, "readings-old", false},
		{[]string{"a*b*c"}, "aXbYc", true}, {[]string{"a*b*c"}, "aXcYb", false}, {[]string{"x", "y"}, "y", true},
		{[]string{"*a"}, "aba", true},
	} {
		assert.Equal(t, c.fits, Matches(c.patterns, c.name), "%v %s", c.patterns, c.name)
	}
}

func TestParseClock(t *testing.T) {
	c, err := ParseClock("07:30")
	require.NoError(t, err)
	assert.Equal(t, Clock(450), c)
	for _, text := range []string{"7:30", "24:00", "07:60", "", "noon"} {
		_, err := ParseClock(text)
		assert.Error(t, err, text)
	}
}
