package timeformat

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsWrittenIsReadBack goes through all tokens that say a whole time.
func TestWhatIsWrittenIsReadBack(t *testing.T) {
	at := time.Date(2026, 7, 9, 13, 5, 7, 0, time.UTC)
	for pattern, want := range map[string]string{
		"%Y%m%dT%H%M%S": "20260709T130507", "%d.%m.%y %I:%M:%S %p": "09.07.26 01:05:07 PM",
		"%F %T":       "2026-07-09 13:05:07",
		"%Y-%j %R:%S": "2026-190 13:05:07", "%e %B %Y, %H:%M:%S": " 9 July 2026, 13:05:07",
		"%a %d %b %Y %T": "Thu 09 Jul 2026 13:05:07",
		"%s":             "1783602307", "%FT%T.%f%z": "2026-07-09T13:05:07.000000+0000",
	} {
		l, err := Compile(pattern)
		require.NoError(t, err, pattern)
		assert.Equal(t, want, l.Format(at), pattern)
		back, err := l.Time([]byte(want), time.UTC)
		require.NoError(t, err, pattern)
		assert.True(t, back.Equal(at), "%s: %s", pattern, back)
	}
}

func TestDateOrders(t *testing.T) {
	at := time.Date(2026, 7, 9, 0, 0, 0, 0, time.UTC)
	for pattern, want := range map[string][]string{"%Y%m%d": {"20260907", "07202609", "07092026", "09202607",
		"09072026"}, "%H%M": nil, "%Y": nil, "x%d-%m": {"x07-09"}} {
		l, err := Compile(pattern)
		require.NoError(t, err)
		var got []string
		for _, other := range l.DateOrders() {
			got = append(got, other.Format(at))
		}
		assert.ElementsMatch(t, want, got, pattern)
	}
}

func TestATimeThatIsDroppedIsTheInstantOfTheChange(t *testing.T) {
	azores, err := time.LoadLocation("Atlantic/Azores")
	require.NoError(t, err)
	for shown, want := range map[[2]int]string{{0, 0}: "2026-03-29T01:00:00Z", {0, 59}: "2026-03-29T01:00:00Z",
		{1, 0}: "2026-03-29T01:00:00Z", {1, 30}: "2026-03-29T01:30:00Z"} {
		assert.Equal(t, want, Instant(2026, 3, 29, shown[0], shown[1], 0, 0, azores).UTC().Format(time.RFC3339), shown)
	}
	assert.Equal(t, "2026-03-28T23:59:00-01:00", Instant(2026, 3, 28, 23, 59, 0, 0, azores).Format(time.RFC3339))
}
