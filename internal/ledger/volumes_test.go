package ledger

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/localpg/pgtest"
)

// done has an arrival loaded, or refused, that came so long ago.
func done(t *testing.T, l *Ledger, path string, state State, b balance.Balance, came time.Duration) {
	t.Helper()
	a := noticed(t, l, path, func(a *Arrival) {
		at := time.Now().Add(-came)
		a.CameAt = &at
	})
	run := begun(t, l, a)
	finish(t, l, a, state, "", b)
	require.NoError(t, l.FinishRun(ctx, run.ID, RunDone, ""))
}

func TestVolumes(t *testing.T) {
	t.Parallel()
	l := open(t)
	require.NoError(t, l.with(ctx).Exec("UPDATE feed SET supplier = 'Upper Catchment Office'").Error)
	for i := range 10 {
		done(t, l, fmt.Sprintf("a%d.csv", i), Loaded, balance.Balance{Read: 10, Inserted: 6, Updated: 3, Rejected: 1},
			time.Duration(i)*10*time.Second+time.Second/2)
	}
	done(t, l, "b.csv", Refused, balance.Refuse(5, 2, 1), time.Second)
	now := time.Now()
	all, _, err := l.Volumes(ctx, VolumeQuery{From: now.Add(-24 * time.Hour), To: now.Add(time.Hour), Most: 10})
	require.NoError(t, err)
	require.Len(t, all, 1)
	v := all[0]
	assert.EqualValues(t, 10, v.Files)
	assert.EqualValues(t, 1, v.Refused)
	assert.EqualValues(t, 100, v.Bytes)
	assert.Equal(t, balance.Balance{Read: 105, Inserted: 60, Updated: 30, Rejected: 12, LeftOut: 1, Withheld: 2}, v.Balance)
	assert.NoError(t, v.Balance.Err(), "it adds up")
	half, ok := v.Lag.Percentile(0.5)
	assert.True(t, ok)
	assert.Equal(t, 64.0, half, "the fifth file of ten took 40.5 s")
	most, _ := v.Lag.Percentile(1)
	assert.Equal(t, 256.0, most)
	_, ok = v.Late.Percentile(0.5)
	assert.False(t, ok, "no slot was due")
	for _, by := range []string{"hour", "day", "week", "month"} {
		list, _, err := l.Volumes(ctx, VolumeQuery{From: now.Add(-24 * time.Hour), To: now.Add(time.Hour), By: by,
			Most: 10})
		require.NoError(t, err)
		var read int64
		for _, v := range list {
			read += v.Balance.Read
		}
		assert.EqualValues(t, 105, read, by)
	}
	list, _, err := l.Volumes(ctx, VolumeQuery{From: now.Add(-24 * time.Hour), To: now.Add(time.Hour), PerFeed: true, Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "gauges", list[0].Feed)
	list, _, err = l.Volumes(ctx, VolumeQuery{From: now.Add(-24 * time.Hour), To: now.Add(time.Hour), PerSupplier: true, By: "week", Most: 10})
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, v := range list {
		assert.Equal(t, "Upper Catchment Office", v.Supplier)
		assert.Equal(t, time.Monday, v.At.UTC().Weekday())
	}
	list, _, err = l.Volumes(ctx, VolumeQuery{From: now.Add(-24 * time.Hour), To: now.Add(time.Hour), Feed: "other", Most: 10})
	require.NoError(t, err)
	assert.Empty(t, list)
	// Days that are over are summed up, after 90 days the hours go, and after ten years the days.
	n, err := l.SumVolumes(ctx, now.Add(26*time.Hour), 100, 1000)
	require.NoError(t, err)
	assert.Positive(t, n)
	for _, q := range []VolumeQuery{{}, {By: "day"}, {By: "month"}, {By: "hour"}, {PerFeed: true}, {Feed: "gauges"}} {
		q.From, q.To, q.Most = now.Add(-48*time.Hour), now.Add(48*time.Hour), 10
		after, _, err := l.Volumes(ctx, q)
		require.NoError(t, err)
		require.Len(t, after, 1, "%+v", q)
		after[0].At, after[0].Feed = time.Time{}, ""
		assert.Equal(t, v, after[0], "%+v", q)
	}
	later := now.Add(92 * 24 * time.Hour)
	n, err = l.SumVolumes(ctx, later, 1000, 1000)
	require.NoError(t, err)
	assert.Positive(t, n)
	var hours int
	require.NoError(t, l.with(ctx).Raw("SELECT count(*) FROM volume").Scan(&hours).Error)
	assert.Zero(t, hours)
	after, _, err := l.Volumes(ctx, VolumeQuery{From: now.Add(-48 * time.Hour), To: now.Add(48 * time.Hour), Most: 10})
	require.NoError(t, err)
	require.Len(t, after, 1)
	assert.Equal(t, v, after[0], "nothing is lost by that")
	_, err = l.SumVolumes(ctx, now.AddDate(11, 0, 0), 10_000, 1000)
	require.NoError(t, err)
	after, _, err = l.Volumes(ctx, VolumeQuery{From: now.Add(-48 * time.Hour), To: now.Add(48 * time.Hour), Most: 10})
	require.NoError(t, err)
	assert.Empty(t, after)
}

// TestSumsOfDaysAndMonthsAreThoseOfTheHours compares spans of more than a year with what was there by the hour.
func TestSumsOfDaysAndMonthsAreThoseOfTheHours(t *testing.T) {
	t.Parallel()
	l := open(t)
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(1, 2))
	type hour struct {
		feed  string
		at    time.Time
		files int64
	}
	var all []hour
	for range 2000 {
		h := hour{fmt.Sprint("f", random.IntN(3)), now.Add(-time.Duration(random.IntN(500*24)) * time.Hour).Truncate(time.Hour),
			int64(1 + random.IntN(9))}
		all = append(all, h)
		require.NoError(t, l.with(ctx).Exec(`INSERT INTO volume AS v (feed, hour, files, bytes, read, written, seconds) VALUES (?, ?, ?, 0, 0, 0, 0)
			ON CONFLICT (feed, hour) DO UPDATE SET files = v.files + excluded.files`, h.feed, h.at, h.files).Error)
	}
	for n := 1; n > 0; {
		var err error
		n, err = l.SumVolumes(ctx, now, 50, 100_000)
		require.NoError(t, err)
	}
	var months int
	require.NoError(t, l.with(ctx).Raw("SELECT count(*) FROM volume_month WHERE feed = ''").Scan(&months).Error)
	assert.GreaterOrEqual(t, months, 15)
	for range 60 {
		from := now.Add(-time.Duration(random.IntN(500)) * 24 * time.Hour).Truncate(24 * time.Hour)
		to := from.AddDate(0, 0, random.IntN(400))
		q := VolumeQuery{From: from, To: to, PerFeed: random.IntN(2) == 0, By: []string{"", "day", "week", "month"}[random.IntN(4)], Most: 100_000}
		q.PerSupplier = !q.PerFeed && random.IntN(2) == 0
		if random.IntN(3) == 0 {
			q.Feed = "f1"
		}
		list, total, err := l.Volumes(ctx, q)
		require.NoError(t, err)
		var want, got int64
		for _, h := range all {
			if !h.at.Before(from) && h.at.Before(to) && (q.Feed == "" || q.Feed == h.feed) {
				want += h.files
			}
		}
		for _, v := range list {
			got += v.Files
		}
		require.Equal(t, want, total.Files, "%+v", q)
		require.Equal(t, want, got, "%+v", q)
	}
}

func TestPercentile(t *testing.T) {
	for _, c := range []struct {
		s     Spread
		share float64
		want  float64
		ok    bool
	}{{Spread{}, 0.5, 0, false}, {Spread{1}, 0.5, 1, true}, {Spread{5, 5}, 0.5, 1, true}, {Spread{5, 5}, 0.51, 4, true},
		{Spread{0, 0, 1}, 0.99, 16, true}, {Spread{9: 1}, 0.5, 0, false}} {
		got, ok := c.s.Percentile(c.share)
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.ok, ok)
	}
}

// BenchmarkVolumesOfAYear asks for the work of a year of 500 feeds: by feed, by day and by month.
func BenchmarkVolumesOfAYear(b *testing.B) {
	l, err := Open(ctx, pgtest.Database(b))
	require.NoError(b, err)
	b.Cleanup(func() { l.Close() })
	now := time.Now().UTC().Truncate(24 * time.Hour)
	// Each feed has work each hour: of the last 90 days it is known by the hour, before by the day.
	for _, of := range []struct{ from, to, step string }{{"400 days", "91 days", "1 day"}, {"90 days", "0 days", "1 hour"}} {
		require.NoError(b, l.with(ctx).Exec(`INSERT INTO volume (feed, hour, files, bytes, read, written, seconds)
			SELECT 'feed-' || f, at, 24, 1e6, 1e4, 1e4, random() * 100 FROM generate_series(1, 500) f,
			generate_series(?::timestamptz - ?::interval, ?::timestamptz - ?::interval, ?::interval) at`, now, of.from, now, of.to, of.step).Error)
	}
	for n := 1; n > 0; {
		n, err = l.SumVolumes(ctx, now.Add(2*time.Hour), 100, 1000)
		require.NoError(b, err)
	}
	require.NoError(b, l.with(ctx).Exec("VACUUM ANALYZE volume, volume_day, volume_month").Error)
	for name, q := range map[string]VolumeQuery{"feeds": {PerFeed: true, Most: 50}, "days": {By: "day", Most: 1000}, "months": {By: "month", Most: 1000}} {
		b.Run(name, func(b *testing.B) {
			q.From, q.To = now.AddDate(-1, 0, 0), now.Add(time.Hour)
			for b.Loop() {
				list, _, err := l.Volumes(ctx, q)
				require.NoError(b, err)
				require.NotEmpty(b, list)
			}
		})
	}
}
