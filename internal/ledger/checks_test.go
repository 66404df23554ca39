package ledger

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
)

// loadedWith brings an arrival to its end, with rows read, rejects and checks.
func loadedWith(t testing.TB, l *Ledger, path string, to State, read int64, value float64, rejects ...Reject) *Arrival {
	t.Helper()
	a := noticed(t, l, path, nil)
	run := begun(t, l, a)
	result := check.Result{Name: "few", Scope: check.OfDelivery, Else: check.Refuse, Held: to == Loaded,
		Saw: fmt.Sprint(value), Value: &value, Failed: 1}
	require.NoError(t, l.Staged(ctx,
		[]Reading{{ID: a.ID, SHA256: path, Generation: 1, Columns: []string{"a", "b"}, Rejects: rejects,
			Checks: []check.Result{result}}}))
	b := balance.Balance{Read: read, Inserted: read - int64(len(rejects)), Rejected: int64(len(rejects))}
	require.NoError(t, l.Finish(ctx, Ending{ID: a.ID, State: to, Balance: b, Waivable: to == Refused}))
	require.NoError(t, l.FinishRun(ctx, run.ID, RunDone, ""))
	return a
}

func TestWhatChecksSawIsKept(t *testing.T) {
	t.Parallel()
	l := open(t)
	rows := func() []float64 {
		rows, err := l.RecentRows(ctx, "gauges", 3)
		require.NoError(t, err)
		return rows
	}
	last := func() *float64 {
		x, err := l.LastValue(ctx, "gauges", "few")
		require.NoError(t, err)
		return x
	}
	assert.Empty(t, rows(), "nothing is known before the first load")
	assert.Nil(t, last())
	for i, n := range []int64{10, 12, 1000, 11} {
		loadedWith(t, l, fmt.Sprintf("%d.csv", i), Loaded, n, float64(n)/2)
	}
	bad := loadedWith(t, l, "bad.csv", Refused, 1, 0.5)
	assert.Equal(t, []float64{11, 1000, 12}, rows(), "the newest first")
	assert.Equal(t, 5.5, *last(), "what was refused does not count")
	of, err := l.ChecksOf(ctx, bad.ID)
	require.NoError(t, err)
	require.Len(t, of, 1)
	assert.False(t, of[0].Held)
	assert.Equal(t, "gauges", of[0].Feed)
	page, err := l.CheckHistory(ctx, "gauges", "few", 0, 2)
	require.NoError(t, err)
	require.Len(t, page, 2)
	assert.Equal(t, bad.ID, page[0].ArrivalID)
	page, err = l.CheckHistory(ctx, "gauges", "few", page[1].ID, 10)
	require.NoError(t, err)
	assert.Len(t, page, 3, "the next page")
	newest, err := l.LastChecks(ctx, "gauges", []string{"few", "other"})
	require.NoError(t, err)
	require.Len(t, newest, 1)
	assert.Equal(t, bad.ID, newest[0].ArrivalID)
}

func TestReleasingWhatChecksRefused(t *testing.T) {
	t.Parallel()
	l := open(t)
	waivable := loadedWith(t, l, "a.csv", Refused, 5, 1)
	torn := noticed(t, l, "b.csv", nil)
	begun(t, l, torn)
	finish(t, l, torn, Refused, "the gzip is cut short", balance.Balance{})
	_, err := l.Decide(ctx, Release, []int64{torn.ID}, "ada", "please")
	assert.ErrorContains(t, err, "cannot be released: the gzip is cut short")
	_, err = l.Decide(ctx, Release, []int64{waivable.ID, torn.ID}, "ada", "please")
	assert.Error(t, err, "all or none")
	list, err := l.Decide(ctx, Release, []int64{waivable.ID}, "ada", "it is right")
	require.NoError(t, err)
	assert.True(t, list[0].Waived)
	assert.Equal(t, Ready, list[0].State)
}

func TestRejectsInGroupsAndMended(t *testing.T) {
	t.Parallel()
	l := open(t)
	reject := func(line int64, column, rule string) Reject {
		return Reject{Line: line, ColumnName: column, Rule: rule, Reason: "because of " + rule, Value: "v",
			Original: fmt.Sprintf("row %d", line)}
	}
	a := loadedWith(t, l, "a.csv", Loaded, 9, 1, reject(2, "level", "type"), reject(3, "level", "type"),
		reject(4, "", "few"))
	b := loadedWith(t, l, "b.csv", Loaded, 9, 1, reject(2, "level", "type"))
	groups, err := l.RejectGroups(ctx, "", 0, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	require.Len(t, groups, 2)
	assert.Equal(t, int64(3), groups[0].Count)
	assert.Equal(t, int64(2), groups[0].Arrivals)
	groups, err = l.RejectGroups(ctx, "gauges", b.ID, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.Len(t, groups, 1)
	now := time.Now()
	mended := &Arrival{Feed: "gauges", Path: "a.csv (mended 1)", Size: 5, Modified: now, State: Ready,
		Captures: map[string]any{}, Mends: &a.ID, MendedLines: []int64{2, 4}, AwayTo: ".mended/x", ReadyAt: &now}
	require.NoError(t, l.Mend(ctx, mended, []int{1, 3}, "ada", "typed wrong"))
	again := *mended
	again.ID, again.Path = 0, "a.csv (mended 2)"
	assert.ErrorContains(t, l.Mend(ctx, &again, []int{3}, "bob", "me too"), "mended meanwhile")
	kept, err := l.Arrival(ctx, mended.ID)
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 4}, kept.MendedLines)
	original, err := l.Arrival(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, original.Columns)
	open, err := l.Rejects(ctx, RejectFilter{Feed: "gauges", Open: true, Most: 10})
	require.NoError(t, err)
	assert.Len(t, open, 2)
	typed, err := l.Rejects(ctx, RejectFilter{Arrival: a.ID, Rule: "type", Column: "level", Most: 10})
	require.NoError(t, err)
	require.Len(t, typed, 2)
	assert.Equal(t, mended.ID, *typed[0].MendedIn)
	for _, want := range []int64{3, 1, 0} { // a few at a time
		n, err := l.Drop(ctx, Keep{Rejects: time.Minute}, time.Now().Add(2*time.Minute), 3)
		require.NoError(t, err)
		assert.Equal(t, want, n)
	}
	n, err := l.Drop(ctx, Keep{Rejects: time.Hour}, time.Now(), 3)
	require.NoError(t, err)
	assert.Zero(t, n)
}
