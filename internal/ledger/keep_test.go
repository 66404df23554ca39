package ledger

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/due"
)

// TestWhatIsTooOldIsDropped ages everything by a year and a half and drops it, a few at
// a time, save for what exactly-once needs.
var usualKeep = Keep{Rejects: 90 * day, Events: 7 * day, Runs: 400 * day, Checks: 400 * day, Slots: 400 * day,
	Decisions: 3 * 365 * day, Arrivals: 3 * 365 * day, Order: 400 * day, Notices: 90 * day}

func TestWhatIsTooOldIsDropped(t *testing.T) {
	t.Parallel()
	l := open(t)
	for n := range 5 {
		a := noticed(t, l, fmt.Sprint(n), nil)
		run := begun(t, l, a)
		require.NoError(t, l.Staged(ctx,
			[]Reading{{ID: a.ID, Generation: 1,
				Checks: []check.Result{{Name: "usual", Scope: check.OfDelivery, Held: true}}}}))
		finish(t, l, a, Loaded, "", balance.Balance{})
		require.NoError(t, l.FinishRun(ctx, run.ID, RunDone, ""))
	}
	torn := noticed(t, l, "torn", func(a *Arrival) { a.State, a.Reason = Refused, "torn" })
	noticed(t, l, "torn", func(a *Arrival) { a.Size = 11 })
	only := noticed(t, l, "only", func(a *Arrival) { a.State = Skipped })
	original := noticed(t, l, "first", func(a *Arrival) { a.State = Recalled })
	noticed(t, l, "first", func(a *Arrival) { a.Size = 12 })
	noticed(t, l, "copy", func(a *Arrival) { a.State, a.CopyOf = Skipped, &original.ID })
	noticed(t, l, "first (mended 1)", func(a *Arrival) {
		a.State, a.Mends, a.AwayTo = Recalled, &original.ID,
			".mended/gauges/1-1"
	})
	noticed(t, l, "first (mended 2)", func(a *Arrival) {
		a.State, a.Mends, a.AwayTo = Loaded, &original.ID,
			".mended/gauges/1-2"
	})
	decide(t, l, Skip, noticed(t, l, "unwanted", nil))
	at := time.Now().UTC()
	require.NoError(t, l.MakeSlots(ctx,
		[]Slot{{Feed: "gauges", DueAt: at, Per: map[string]string{}, State: due.OnTime, Files: 1, LateAt: at,
			MissingAt: at}}))
	count := func(table string) (n int) {
		require.NoError(t, l.with(ctx).Raw("SELECT count(*) FROM "+table).Scan(&n).Error)
		return n
	}
	require.NoError(t, l.with(ctx).Exec("UPDATE arrival SET finished_at = now()").Error)
	n, err := l.Drop(ctx, usualKeep, time.Now().Add(5*day), 2)
	require.NoError(t, err)
	assert.Zero(t, n, "nothing is too old yet")
	later := time.Now().Add(500 * day)
	before := count("arrival")
	for n := int64(1); n > 0; {
		n, err = l.Drop(ctx, usualKeep, later, 2)
		require.NoError(t, err)
		assert.LessOrEqual(t, n, int64(12), "a few of each kind at a time")
	}
	for table, want := range map[string]int{"event": 0, "run": 0, "check_result": 0, "slot": 0, "decision": 1,
		"arrival": before} {
		assert.Equal(t, want, count(table), table)
	}
	upTo, dropped, err := l.DropVersions(ctx, later, 0, 4)
	require.NoError(t, err)
	assert.NotZero(t, upTo)
	for upTo > 0 {
		var more []Dropped
		upTo, more, err = l.DropVersions(ctx, later, upTo, 4)
		require.NoError(t, err)
		dropped = append(dropped, more...)
	}
	assert.Equal(t, []Dropped{{Feed: "gauges"}, {Feed: "gauges", Mended: ".mended/gauges/1-1"}}, dropped,
		"of the versions, only that which a later one took the place of and nobody refers to; of mended rejects, "+
			"those that are not loaded")
	_, err = l.Arrival(ctx, torn.ID)
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = l.Arrival(ctx, only.ID)
	assert.NoError(t, err, "the newest of its path stays: else the file would be new again")
	counts, err := l.Counts(ctx, "gauges")
	require.NoError(t, err)
	states := map[string]int64{}
	var rows []struct {
		State string
		N     int64
	}
	require.NoError(t, l.with(ctx).Raw("SELECT state, count(*) AS n FROM arrival GROUP BY state").Scan(&rows).Error)
	for _, r := range rows {
		states[r.State] = r.N
	}
	assert.Equal(t, states, counts["gauges"].States, "the tallies follow")
}
