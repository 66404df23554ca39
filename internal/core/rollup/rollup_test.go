package rollup

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func peaks(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile("../../demo/rollups/daily-peaks.yaml")
	require.NoError(t, err)
	return string(text)
}

func TestParse(t *testing.T) {
	r, err := Parse("daily-peaks.yaml", []byte(peaks(t)))
	require.NoError(t, err)
	assert.Equal(t, "daily-peaks", r.Name)
	assert.Equal(t, []string{"station_id", "day"}, r.Key)
	assert.Equal(t, "(observed_at AT TIME ZONE 'UTC')::date", r.From["river.gauge_reading"].Keys["day"])
	assert.True(t, strings.HasPrefix(r.Select, "SELECT station_id"))
}

// TestWhatIsWrongIsSaid changes one thing of a rollup's file at a time.
func TestWhatIsWrongIsSaid(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"rollup: daily-peaks", "rollup: Daily Peaks", "cannot be a rollup's name"},
		{"table: river.daily_peak", "table: daily_peak", "write it as schema.table"},
		{"table: river.daily_peak", "table: mullein.load", "its schema is not for data"},
		{"table: river.daily_peak", "table: pg_catalog.pg_class", "its schema is not for data"},
		{"table: river.daily_peak", "table: river.gauge_reading", "a rollup cannot read itself"},
		{"key: [station_id, day]", "key: []", "key is missing"},
		{"key: [station_id, day]", "key: [station_id]", "has no such column"},
		{"    station_id: station_id\n", "", "from.river.gauge_reading.station_id is missing"},
		{"  river.gauge_reading:", "  gauge_reading:", "from.gauge_reading: write it as schema.table"},
		{"  river.gauge_reading:", "  mullein_records.tokens:",
			"from.mullein_records.tokens: what Mullein keeps for itself"},
		{"  river.gauge_reading:", "  river.station: []\n  river.gauge_reading:", "daily-peaks.yaml:"},
		{"about:", "abuot:", "daily-peaks.yaml:3:1:"},
		{"key: [station_id, day]", "key: [station_id, day", "daily-peaks.yaml:"},
	} {
		text := strings.Replace(peaks(t), c.from, c.to, 1)
		require.NotEqual(t, peaks(t), text, c.from)
		_, err := Parse("daily-peaks.yaml", []byte(text))
		assert.ErrorContains(t, err, c.want, c.to)
	}
	_, err := Parse("x.yaml", nil)
	assert.ErrorContains(t, err, "an empty file")
	_, err = Parse("x.yaml", make([]byte, MaxFile+1))
	assert.ErrorContains(t, err, "more than 64 KiB")
	_, err = Parse("x.yaml", []byte("rollup: a\n"))
	for _, missing := range []string{`table ""`, "key is missing", "select is missing", "from is missing"} {
		assert.ErrorContains(t, err, missing, "all that is wrong at once")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(peaks(f))
	f.Add("rollup: a\nfrom: {a.b: {c: d}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		if r, err := Parse("x.yaml", []byte(text)); err == nil {
			require.NotEmpty(t, r.Key)
			require.NotEmpty(t, r.From)
		}
	})
}
