package ledger

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
)

// put creates a feed of a supplier.
func put(t testing.TB, l *Ledger, name, supplier string) {
	t.Helper()
	_, _, err := l.PutFeed(ctx, name, fmt.Sprintf(`feed: %s
supplier: {name: %s}
landing: {at: water/%[1]s, files: "*.csv"}
schema: {fields: [{name: station_id}], primaryKey: [station_id]}
target: {table: river.%[1]s}
`, name, supplier), "test")
	require.NoError(t, err)
}

func TestFeedsAreFoundAndPaged(t *testing.T) {
	t.Parallel()
	l := open(t)
	for i := range 7 {
		put(t, l, fmt.Sprintf("feed-%d", i), []string{"Upper Office", "Lower_Office"}[i%2])
	}
	names := func(f FeedFilter) (out []string, total int64, next string) {
		if f.Most == 0 {
			f.Most = 100
		}
		feeds, total, next, err := l.FindFeeds(ctx, f)
		require.NoError(t, err)
		for _, feed := range feeds {
			out = append(out, feed.Name)
		}
		return out, total, next
	}
	page, total, next := names(FeedFilter{Text: "feed-", Most: 3})
	assert.Equal(t, []string{"feed-0", "feed-1", "feed-2"}, page)
	assert.EqualValues(t, 7, total)
	page, _, next = names(FeedFilter{Text: "feed-", Most: 3, After: next})
	assert.Equal(t, []string{"feed-3", "feed-4", "feed-5"}, page)
	page, _, next = names(FeedFilter{Text: "feed-", Most: 3, After: next})
	assert.Equal(t, []string{"feed-6"}, page)
	assert.Empty(t, next)
	page, _, _ = names(FeedFilter{Text: "LOWER_off"})
	assert.Equal(t, []string{"feed-1", "feed-3", "feed-5"}, page, "by supplier, in any case, _ is no wildcard")
	page, _, _ = names(FeedFilter{Text: "water/feed-2"})
	assert.Equal(t, []string{"feed-2"}, page, "by folder")
	page, _, _ = names(FeedFilter{Supplier: "Upper Office", After: "feed-2"})
	assert.Equal(t, []string{"feed-4", "feed-6"}, page)
	page, total, _ = names(FeedFilter{Wrong: true})
	assert.Empty(t, page)
	assert.Zero(t, total)
	require.NoError(t, l.SetProblem(ctx, "feed-3", Trouble{Text: "no rights"}))
	at := time.Now().UTC().Add(-time.Hour)
	require.NoError(t, l.MakeSlots(ctx,
		[]Slot{{Feed: "feed-5", DueAt: at, Per: map[string]string{}, State: due.Missing, Files: 1, LateAt: at,
			MissingAt: at}}))
	noticed(t, l, "torn.csv", func(a *Arrival) { a.Feed, a.State = "feed-1", Refused })
	noticed(t, l, "good.csv", func(a *Arrival) { a.Feed, a.State = "feed-2", Loaded })
	page, _, _ = names(FeedFilter{Wrong: true})
	assert.Equal(t, []string{"feed-1", "feed-3", "feed-5"}, page)

	totals, err := l.Totals(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 8, totals.Feeds, "with that of all tests")
	assert.EqualValues(t, 1, totals.Stopped)
	assert.EqualValues(t, 3, totals.Wrong)
	assert.Equal(t, map[string]int64{"refused": 1, "loaded": 1}, totals.States)
	recent, err := l.RecentFeeds(ctx, 10)
	require.NoError(t, err)
	require.Len(t, recent, 2)
	assert.Equal(t, "feed-2", recent[0].Name, "the latest first")
	standings, err := l.Standings(ctx, at.Add(-time.Minute), time.Now())
	require.NoError(t, err)
	ranks := map[string]int{}
	for _, s := range standings {
		ranks[s.Feed] = s.Rank
	}
	assert.Equal(t, map[string]int{"feed-1": 1, "feed-3": 1, "feed-5": 1, "feed-2": 2, "feed-0": 4, "feed-4": 4,
		"feed-6": 4, "gauges": 4}, ranks)
	assert.Equal(t, 1, standings[0].Rank)
	of, err := l.FeedsOfTable(ctx, "river.feed-4")
	require.NoError(t, err)
	require.Len(t, of, 2)
	assert.Equal(t, "feed-4", of[0].Name)
	assert.Equal(t, "gauges", of[1].Name, "what is not understood may end anywhere")
}

// TestManyArrivalsAtATime goes beyond what one statement may have of parameters.
func TestManyArrivalsAtATime(t *testing.T) {
	t.Parallel()
	l := open(t)
	const many = 14_000
	arrivals := make([]*Arrival, many)
	for i := range arrivals {
		arrivals[i] = &Arrival{Feed: "gauges", Path: fmt.Sprint(i), Size: 1, Inode: inodes.Add(1),
			Modified: time.Now().UTC(), State: Ready, Captures: map[string]any{}}
	}
	require.NoError(t, l.Notice(ctx, arrivals))
	run, err := l.StartRun(ctx, "gauges", 1, "arrival", "test")
	require.NoError(t, err)
	done, err := l.Begin(ctx, arrivals, run.ID, 1)
	require.NoError(t, err)
	require.Len(t, done, many)
	require.NoError(t, l.Belong(ctx, arrivals, "a list"))
	require.NoError(t, l.Opened(ctx, arrivals))
	endings := make([]Ending, many)
	readings := make([]Reading, many)
	of := make([]int64, many)
	for i, a := range arrivals {
		of[i] = a.ID
		readings[i] = Reading{ID: a.ID, SHA256: fmt.Sprint(i), Generation: 1}
		endings[i] = Ending{ID: a.ID, State: Loaded}
	}
	require.NoError(t, l.Staged(ctx, readings))
	require.NoError(t, l.Finish(ctx, endings...))
	require.NoError(t, l.FinishRun(ctx, run.ID, RunDone, ""))
	ended, err := l.Run(ctx, run.ID)
	require.NoError(t, err)
	assert.EqualValues(t, many, ended.Loaded)
	list, err := l.Decide(ctx, Redo, of, "ada", "all of it")
	require.NoError(t, err)
	assert.Len(t, list, many)
	counts, err := l.Counts(ctx, "gauges")
	require.NoError(t, err)
	assert.EqualValues(t, many, counts["gauges"].States["ready"])
	rows, err := l.RecentRows(ctx, "gauges", 10)
	require.NoError(t, err)
	assert.Empty(t, rows, "nothing is loaded any more")
}

// TestRunsOverManyFiles narrows runs to more files than an index takes as text.
func TestRunsOverManyFiles(t *testing.T) {
	t.Parallel()
	l := open(t)
	var paths []string
	for i := range 1000 {
		paths = append(paths, fmt.Sprintf("a/folder/with/a/long/name/GAUGE_K%d_20260701T1200.csv", i))
	}
	run, err := l.QueueRun(ctx, "gauges", "hand", "ada", Wanted{Paths: paths})
	require.NoError(t, err)
	again, err := l.QueueRun(ctx, "gauges", "hand", "ada", Wanted{Paths: paths})
	require.NoError(t, err)
	assert.Equal(t, run.ID, again.ID, "the same run joins the queue once")
	other, err := l.QueueRun(ctx, "gauges", "hand", "ada", Wanted{Paths: paths[1:]})
	require.NoError(t, err)
	assert.NotEqual(t, run.ID, other.ID)
	begun, err := l.BeginRun(ctx, "gauges", 1)
	require.NoError(t, err)
	assert.Equal(t, paths, begun.Wanted.Paths)
	assert.False(t, begun.Wanted.IsZero())
}

// TestTheUsualNumberOfRows looks at deliveries, however many files they have.
func TestTheUsualNumberOfRows(t *testing.T) {
	t.Parallel()
	l := open(t)
	deliver := func(name string, files int, rows int64) {
		arrivals := make([]*Arrival, files)
		for i := range arrivals {
			arrivals[i] = &Arrival{Feed: "gauges", Path: fmt.Sprint(name, i), Size: 1, Inode: inodes.Add(1),
				Modified: time.Now().UTC(), State: Ready, Captures: map[string]any{}}
		}
		require.NoError(t, l.Notice(ctx, arrivals))
		run, err := l.StartRun(ctx, "gauges", 1, "arrival", "test")
		require.NoError(t, err)
		_, err = l.Begin(ctx, arrivals, run.ID, 1)
		require.NoError(t, err)
		if files > 1 {
			require.NoError(t, l.Belong(ctx, arrivals, name))
		}
		var endings []Ending
		for _, a := range arrivals {
			e := Ending{ID: a.ID, State: Loaded}
			e.Balance.Read, e.Balance.Inserted = rows, rows
			endings = append(endings, e)
		}
		require.NoError(t, l.Finish(ctx, endings...))
	}
	deliver("a", 1, 7)
	deliver("b", 1500, 2)
	deliver("c", 3, 5)
	rows, err := l.RecentRows(ctx, "gauges", 10)
	require.NoError(t, err)
	assert.Equal(t, []float64{15, 3000, 7}, rows)
	rows, err = l.RecentRows(ctx, "gauges", 2)
	require.NoError(t, err)
	assert.Equal(t, []float64{15, 3000}, rows)
}

// TestFeedsWithWorkAreFound has one feed of each kind of work, and some without.
func TestFeedsWithWorkAreFound(t *testing.T) {
	t.Parallel()
	l := open(t)
	for _, name := range []string{"a-ready", "b-failed", "c-again", "d-loading", "e-queued", "f-running", "g-away",
		"h-loaded", "i-others"} {
		put(t, l, name, "x")
	}
	me := uuid.NewString()
	_, err := l.Serving(ctx, me, "here", "[]")
	require.NoError(t, err)
	_, err = l.Claim(ctx, me, 100)
	require.NoError(t, err)
	require.NoError(t, l.Release(ctx, me, "i-others"))
	in := func(feed string, state State, what func(*Arrival)) {
		noticed(t, l, "x", func(a *Arrival) {
			if a.Feed, a.State = feed, state; what != nil {
				what(a)
			}
		})
	}
	soon, before := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	in("a-ready", Ready, nil)
	in("b-failed", Failed, nil)
	in("b-failed", Failed, func(a *Arrival) { a.TryAfter = &soon })
	in("c-again", Failed, func(a *Arrival) { a.TryAfter = &before })
	in("d-loading", Loading, nil)
	_, err = l.QueueRun(ctx, "e-queued", "hand", "ada", Wanted{})
	require.NoError(t, err)
	_, err = l.StartRun(ctx, "f-running", 1, "arrival", "here")
	require.NoError(t, err)
	in("g-away", Loaded, func(a *Arrival) { a.Away = AwayWanted })
	in("h-loaded", Loaded, nil)
	in("i-others", Ready, nil)
	work, err := l.WithWork(ctx, me)
	require.NoError(t, err)
	left := map[string]bool{}
	for _, w := range work {
		left[w.Feed] = w.Left
	}
	assert.Equal(t, map[string]bool{"a-ready": false, "c-again": false, "d-loading": true, "e-queued": false,
		"f-running": true, "g-away": false}, left)
}
