package engine

import (
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

var ctx = context.Background()

// with returns the gauges' feed with more keys in its landing, and other keys.
func with(landing string, others ...string) string {
	text := strings.Replace(gauges, "settle: 50ms", "settle: 50ms, "+landing, 1)
	return text + strings.Join(others, "\n") + "\n"
}

func row(station int, level string) string {
	return fmt.Sprintf("SR%04d;2026-07-01T12:00:00Z;%s;1\n", station, level)
}

func (h *house) count(table string) string { return h.lines("SELECT count(*)::text FROM " + table)[0] }

func (h *house) exists(path string) bool {
	_, err := os.Stat(filepath.Join(h.root, path))
	return err == nil
}

func (h *house) definition() *feed.Feed {
	h.t.Helper()
	v, err := h.ledger.Version(ctx, "gauges", 0)
	require.NoError(h.t, err)
	f, err := feed.Parse("x", []byte(v.Definition))
	require.NoError(h.t, err)
	return f
}

// run does a run by hand and waits for its end.
func (h *house) run(wanted ledger.Wanted) ledger.Run {
	h.t.Helper()
	run, err := h.ledger.QueueRun(ctx, "gauges", "hand", "test", wanted)
	require.NoError(h.t, err)
	h.wait("the end of the run", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(h.t, err)
		return run.FinishedAt != nil
	})
	return run
}

func TestAMarkerSaysThatAFileIsWhole(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`whole_when: "{path}.ok"`)).start()
	content := header + row(1, "1") + row(2, "2")
	for name, marker := range map[string]string{
		"G_K1_20260701T1200.csv": fmt.Sprintf("%x  G_K1_20260701T1200.csv\n", md5.Sum([]byte(content))),
		"G_K2_20260701T1200.csv": "2\n", "G_K3_20260701T1200.csv": "",
		"G_K4_20260701T1200.csv": strings.Repeat("0", 64), "G_K5_20260701T1200.csv": "17",
	} {
		h.drop(name, content)
		h.wait("the notice", func() bool {
			list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Text: name, Most: 1})
			require.NoError(t, err)
			return len(list) == 1
		})
		h.drop(name+".ok", marker)
	}
	for name, want := range map[string]string{"G_K1": "", "G_K2": "", "G_K3": "",
		"G_K4": "its marker gives the sha256 0000", "G_K5": "its marker says 17 rows; the file has 2"} {
		a := h.arrival(name + "_20260701T1200.csv")
		assert.Contains(t, a.Reason, want, name)
		assert.Equal(t, want == "", a.State == ledger.Loaded || a.State == ledger.Skipped, name)
	}
	h.drop("G_K9_20260701T1200.csv", content)
	old := filepath.Join(h.root, "in", "G_K9_20260701T1200.csv.ok")
	require.NoError(t, os.WriteFile(old, nil, 0o644))
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(old, past, past))
	h.drop("G_K8_20260701T1200.csv", content)
	h.drop("G_K8_20260701T1200.csv.ok", "")
	h.arrival("G_K8_20260701T1200.csv")
	list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Text: "G_K9", Most: 1})
	require.NoError(t, err)
	assert.Equal(t, ledger.Noticed, list[0].State, "a marker that is older than its file is of an earlier version")
}

func TestReissues(t *testing.T) {
	t.Parallel()
	const path = "G_K1_20260701T1200.csv"
	first, second := header+row(1, "1")+row(2, "2"), header+row(1, "1")+row(3, "3")
	for how, want := range map[string]struct {
		state   ledger.State
		reason  string
		balance balance.Balance
		rows    []string
	}{
		"load": {ledger.Loaded, "", balance.Balance{Read: 2, Inserted: 1, Unchanged: 1},
			[]string{"SR0001|12:00|1|1|K1|f", "SR0002|12:00|2|1|K1|f", "SR0003|12:00|3|1|K1|f"}},
		"replace": {ledger.Loaded, "", balance.Balance{Read: 2, Inserted: 1, Unchanged: 1, Removed: 1},
			[]string{"SR0001|12:00|1|1|K1|f", "SR0003|12:00|3|1|K1|f"}},
		"hold": {ledger.Held, "another version of this file, arrival 1, is loaded; release it", balance.Balance{},
			[]string{"SR0001|12:00|1|1|K1|f", "SR0002|12:00|2|1|K1|f"}},
		"skip": {ledger.Skipped, "the feed skips reissues", balance.Balance{},
			[]string{"SR0001|12:00|1|1|K1|f", "SR0002|12:00|2|1|K1|f"}},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t, with("reissue: "+how)).start()
			h.drop(path, first)
			a := h.arrival(path)
			h.drop(path, second)
			b := h.arrival(path, a.ID)
			assert.Equal(t, want.state, b.State)
			assert.Contains(t, b.Reason, want.reason)
			assert.Equal(t, want.balance, b.Balance)
			assert.Equal(t, want.rows, h.lines(contents))
			old, err := h.ledger.Arrival(ctx, a.ID)
			require.NoError(t, err)
			if how == "replace" {
				assert.Equal(t, ledger.Recalled, old.State)
				assert.Equal(t, []string{"0"},
					h.lines(fmt.Sprintf("SELECT count(*)::text FROM river.gauge WHERE from_arrival = %d", a.ID)),
					"no row is said to come from what was undone")
			}
			if how == "hold" {
				_, err := h.ledger.Decide(ctx, ledger.Release, []int64{b.ID}, "ada", "checked")
				require.NoError(t, err)
				h.wait("the released load", func() bool { return len(h.loaded()) == 2 })
			}
		})
	}
}

func TestTheBacklogAndCopies(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("backlog: skip, copies: load"))
	past := time.Now().Add(-time.Hour)
	for n := range 3 {
		h.drop(fmt.Sprintf("G_K1_2026070%dT1200.csv", n+1), header+row(n, "1"))
		require.NoError(t, os.Chtimes(filepath.Join(h.root, "in", fmt.Sprintf("G_K1_2026070%dT1200.csv", n+1)), past,
			past))
	}
	h.start()
	h.wait("the first listing", func() bool { return h.feed().ListedAt != nil })
	h.drop("G_K1_20260704T1200.csv", header+row(9, "1"))
	h.arrival("G_K1_20260704T1200.csv")
	assert.Equal(t, "1", h.count("river.gauge"), "what lay there before the feed is left out")
	h.drop("G_K1_20260704T1200 (1).csv", header+row(9, "1"))
	assert.Equal(t, ledger.Loaded, h.arrival("(1).csv").State, "copies are loaded here")
	run := h.run(ledger.Wanted{From: "2026-07-01", To: "2026-07-02"})
	assert.EqualValues(t, 2, run.Loaded, "a run over slots takes the backlog")
	picked, err := h.ledger.Pick(ctx, ledger.Filter{Feed: "gauges", Backlog: true}, ledger.Redo)
	require.NoError(t, err)
	_, err = h.ledger.Decide(ctx, ledger.Redo, picked, "ada", "taken later")
	require.NoError(t, err)
	h.wait("the rest of the backlog", func() bool { return h.count("river.gauge") == "4" })
}

func TestFilesArePutAwayAfterTheCommit(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`put_away: "done/{slot:%Y}/{catchment}", quarantine: "bad/gauges"`)).start()
	const path = "deep/G_K1_20260701T1200.csv"
	h.drop(path, header+row(1, "1"))
	a := h.arrival(path)
	h.wait("the move", func() bool { return h.exists("done/2026/K1/G_K1_20260701T1200.csv") && !h.exists("in/"+path) })
	h.drop(path, header+row(1, "2"))
	b := h.arrival(path, a.ID)
	h.wait("the second move", func() bool {
		now, err := h.ledger.Arrival(ctx, b.ID)
		require.NoError(t, err)
		return now.AwayTo == fmt.Sprintf("done/2026/K1/G_K1_20260701T1200-%d.csv", b.ID)
	})
	h.drop("G_K2_20260701T1200.csv", header)
	h.wait("the quarantine", func() bool { return h.exists("bad/gauges/G_K2_20260701T1200.csv.why.txt") })
	why, err := os.ReadFile(filepath.Join(h.root, "bad/gauges/G_K2_20260701T1200.csv.why.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(why), "the file holds no rows")
	_, err = h.ledger.Decide(ctx, ledger.Redo, []int64{a.ID}, "ada", "from where it lies now")
	require.NoError(t, err)
	h.wait("the redo", func() bool {
		now, err := h.ledger.Arrival(ctx, a.ID)
		require.NoError(t, err)
		return now.State == ledger.Loaded && now.Generation == 2
	})
	assert.Equal(t, []string{"SR0001|12:00|1|1|K1|f"}, h.lines(contents))
	h.put(with("put_away: delete"))
	h.drop("G_K3_20260701T1200.csv", header+row(3, "1"))
	h.arrival("G_K3_20260701T1200.csv")
	h.wait("the deletion", func() bool { return !h.exists("in/G_K3_20260701T1200.csv") })
	h.wait("nothing to be left aside", func() bool {
		left, err := os.ReadDir(filepath.Join(h.root, "in"))
		require.NoError(t, err)
		return !slices.ContainsFunc(left, func(e os.DirEntry) bool { return strings.HasPrefix(e.Name(), ".put-away") })
	})
}

// TestAFileThatIsReplacedBeforeItIsPutAway stays, and is loaded.
func TestAFileThatIsReplacedBeforeItIsPutAway(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("put_away: delete"))
	const path = "G_K1_20260701T1200.csv"
	replaced := false
	h.onStep = func(_ string, _ int64, s load.Step) {
		if s == load.StepCommitted && !replaced {
			replaced = true
			h.drop(path, header+row(1, "2"))
		}
	}
	h.drop(path, header+row(1, "1"))
	h.start()
	h.wait("both loads", func() bool { return len(h.loaded()) == 2 })
	assert.Equal(t, []string{"SR0001|12:00|2|1|K1|f"}, h.lines(contents))
	h.wait("the deletion of the second", func() bool { return !h.exists("in/" + path) })
}

func TestADeliveryByList(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`delivery: list, listed_in: "**/DELIVERY_*.lst"`)).start()
	a, b := header+row(1, "1"), header+row(1, "2")+row(2, "2")
	h.drop("d/G_K1_20260701T1200.csv", a)
	h.drop("d/DELIVERY_1.lst", fmt.Sprintf("# two files\nG_K1_20260701T1200.csv\t%d\nG_K2_20260701T1200.csv,%d\n",
		len(a), len(b)))
	h.wait("what is absent to be named", func() bool {
		return strings.Contains(h.feed().Waits, "d/DELIVERY_1.lst waits for d/G_K2_20260701T1200.csv")
	})
	assert.Empty(t, h.loaded())
	h.drop("d/G_K2_20260701T1200.csv", b)
	h.wait("the delivery", func() bool { return len(h.loaded()) == 3 })
	assert.Equal(t, []string{"SR0001|12:00|2|1|K2|f", "SR0002|12:00|2|1|K2|f"}, h.lines(contents),
		"of a key in two files, the later file wins")
	assert.Equal(t, balance.Balance{Read: 1, Duplicate: 1}, h.arrival("G_K1_20260701T1200.csv").Balance)
	assert.Equal(t, []string{"1"}, h.lines("SELECT count(DISTINCT xmin::text)::text FROM mullein.load"),
		"one transaction")
	h.wait("nothing to wait for", func() bool { return h.feed().Waits == "" })
	assert.Equal(t, "a list of 2 files: 3 read = 2 inserted + 1 duplicate", h.arrival("d/DELIVERY_1.lst").Reason,
		"the totals of the delivery")
	h.wait("the run to count two files: a list is no file of its own", func() bool {
		runs, err := h.ledger.Runs(ctx, ledger.RunFilter{Feed: "gauges", Most: 1})
		require.NoError(t, err)
		return runs[0].Loaded == 2
	})

	h.drop("d/G_K3_20260701T1200.csv", header+row(3, "1"))
	h.drop("d/G_K4_20260701T1200.csv", header+"x\ny\nz\n")
	h.drop("d/DELIVERY_2.lst", "G_K3_20260701T1200.csv\nG_K4_20260701T1200.csv\n")
	bad := h.arrival("DELIVERY_2.lst")
	assert.Equal(t, ledger.Refused, bad.State, "checked as one")
	assert.Contains(t, h.arrival("G_K3_20260701T1200.csv").Reason, "3 of 4 rows were rejected; the feed tolerates 1")
	assert.Equal(t, "2", h.count("river.gauge"))
	h.drop("DELIVERY_3.lst", "../../etc/passwd\n")
	assert.Contains(t, h.arrival("DELIVERY_3.lst").Reason, "lies outside of the landing")
}

func TestADeliveryBySlot(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("delivery: slot",
		`due: {cron: "0 * * * *", per: {catchment: [K1, K2]}, missing_after: 9h}`)).start()
	h.drop("G_K2_20260701T1200.csv", header+row(1, "2"))
	h.wait("what is absent to be named", func() bool {
		return strings.Contains(h.feed().Waits, "slot 2026-07-01 12:00 waits for G_K1_20260701T1200*.csv")
	})
	h.drop("G_K1_20260701T1300.csv", header+row(2, "2"))
	h.drop("G_K2_20260701T1300.csv", header+row(3, "2"))
	h.wait("the slot of which all is there", func() bool { return len(h.loaded()) == 2 })
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.wait("the other slot", func() bool { return len(h.loaded()) == 4 })
	assert.Equal(t, []string{"2"}, h.lines("SELECT count(DISTINCT xmin::text)::text FROM mullein.load"),
		"a transaction a slot")
	a := h.arrival("G_K1_20260701T1200.csv")
	h.drop("G_K1_20260701T1200.csv", header+row(1, "7"))
	assert.Equal(t, ledger.Loaded, h.arrival("G_K1_20260701T1200.csv", a.ID).State,
		"a correction of a part of a slot that is loaded")
}

func TestSmallFilesShareATransaction(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	h.start()
	for n := range 40 {
		content := header + row(n, "1")
		switch n {
		case 10:
			content = header + "nothing\nof\nuse\n"
		case 20, 21: // the same key in two files
			content = header + row(100, fmt.Sprint(n))
		case 30: // refused by the target itself
			content = header + row(30, "29")
		}
		h.drop(fmt.Sprintf("G_K%d_20260701T12%02d.csv", n, n), content)
	}
	h.wait("all to be ready", func() bool {
		counts, err := h.ledger.Counts(ctx, "gauges")
		require.NoError(t, err)
		return counts["gauges"].States["ready"] == 40
	})
	h.exec(`CREATE SCHEMA river`)
	_, err := h.target.Fit(ctx, mustTable(t, h.definition()))
	require.NoError(t, err)
	h.exec(`ALTER TABLE river.gauge ADD CONSTRAINT flood CHECK (level_m < 29)`)
	run := h.run(ledger.Wanted{})
	assert.EqualValues(t, 38, run.Loaded)
	assert.EqualValues(t, 2, run.Refused)
	assert.Contains(t, h.arrival("G_K30_").Reason, "flood")
	assert.Contains(t, h.arrival("G_K10_").Reason, "3 of 3 rows were rejected")
	assert.Equal(t, []string{"21"}, h.lines("SELECT level_m::text FROM river.gauge WHERE station_id = 'SR0100'"))
	transactions := h.lines("SELECT count(DISTINCT xmin::text)::text FROM mullein.load")[0]
	assert.Less(t, len(transactions), 2, "%s transactions for 38 files", transactions)
	assert.Equal(t, "38", h.count("mullein.load"))
	require.NoError(t, run.Balance.Err())
}

func mustTable(t *testing.T, f *feed.Feed) *table.Table {
	t.Helper()
	shape, err := load.Wanted(f)
	require.NoError(t, err)
	return shape
}

func TestRunsOverSlots(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "%Y%m%dT%H%M", "%Y%m%d", 1))
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	for _, day := range []int{1, 2, 4, 5, 9} {
		h.drop(fmt.Sprintf("G_K1_202607%02d.csv", day), header+row(day, "1"))
	}
	h.start()
	run := h.run(ledger.Wanted{From: "2026-07-01", To: "2026-07-05"})
	assert.Equal(t, ledger.RunDone, run.State, run.Reason)
	assert.Equal(t, ledger.RunSlots{Slots: 5, At: "2026-07-05", Empty: 1, Named: []string{"2026-07-03"}}, run.Told)
	assert.EqualValues(t, 4, run.Loaded)
	again := h.run(ledger.Wanted{From: "2026-07", To: "2026-07"})
	assert.EqualValues(t, 1, again.Loaded, "what is loaded is not loaded again")
	one := h.run(ledger.Wanted{Paths: []string{"nowhere.csv"}})
	assert.Zero(t, one.Loaded)
	now := time.Date(2026, 7, 2, 12, 0, 0, 0, time.UTC)
	for wanted, slots := range map[[2]string]int{{"yesterday", "today"}: 2, {"2026", "2026"}: 365,
		{"2026-06", ""}: 30, {"2026-07-01T05", ""}: 1} {
		steps, err := slotsOf(h.definition(), ledger.Wanted{From: wanted[0], To: wanted[1]}, now)
		require.NoError(t, err)
		assert.Len(t, steps, slots, wanted[0])
	}
	for from, want := range map[string]string{"July": "is no slot", "2026-08-01": "ends before it begins"} {
		assert.ErrorContains(t, CheckRange(h.definition(), ledger.Wanted{From: from, To: "2026-07-01"}, now), want)
	}
}

func TestARunIsCancelledAndLimited(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	gate := make(chan struct{})
	h.onStep = func(_ string, _ int64, s load.Step) {
		if s == load.StepStaged {
			<-gate
		}
	}
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.start()
	run, err := h.ledger.QueueRun(ctx, "gauges", "hand", "test", ledger.Wanted{})
	require.NoError(t, err)
	h.wait("the load", func() bool {
		return len(h.engine.Progress.List()) == 1 && h.engine.Progress.List()[0].Step == load.StepStaged
	})
	_, err = h.ledger.CancelRun(ctx, run.ID, "ada")
	require.NoError(t, err)
	h.wait("the cancellation to be heard", func() bool {
		w := h.engine.held("gauges")
		return w != nil && w.endRun.Load() != nil
	})
	time.AfterFunc(300*time.Millisecond, func() { close(gate) })
	h.wait("the end", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(t, err)
		return run.FinishedAt != nil
	})
	assert.Equal(t, ledger.RunCancelled, run.State)
	assert.Contains(t, run.Reason, "cancelled by ada")
	assert.Empty(t, h.loaded())
	_, err = h.ledger.CancelRun(ctx, run.ID, "ada")
	assert.ErrorContains(t, err, "is cancelled already")
	assert.EqualValues(t, 1, h.run(ledger.Wanted{}).Loaded, "the next run goes on")
}

// TestTheTimeLimitOfARun lets loads hang past it: that is an attempt like any other,
// with a pause after it, and an end.
func TestTheTimeLimitOfARun(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "attempts: 3, pause: 100ms",
		"attempts: 2, pause: 400ms, time_limit: 300ms", 1))
	gate := make(chan struct{})
	var times []time.Time
	h.onStep = func(_ string, _ int64, s load.Step) {
		if s == load.StepClaimed {
			times = append(times, time.Now())
		}
		if s == load.StepStaged {
			select {
			case <-gate:
			case <-time.After(500 * time.Millisecond):
			}
		}
	}
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.start()
	a := h.arrival("G_K1_20260701T1200.csv")
	assert.Equal(t, "attempt 2 of 2: the time limit of 300ms was reached", a.Reason)
	assert.Nil(t, a.TryAfter, "it needs a person")
	require.Len(t, times, 2)
	assert.GreaterOrEqual(t, times[1].Sub(times[0]), 400*time.Millisecond, "the pause")
	h.wait("the run to say so", func() bool {
		runs, err := h.ledger.Runs(ctx, ledger.RunFilter{Feed: "gauges", Most: 10})
		require.NoError(t, err)
		return strings.Contains(runs[0].Reason, "the time limit of 300ms was reached")
	})
	close(gate)
	_, err := h.ledger.Decide(ctx, ledger.Redo, []int64{a.ID}, "me", "the target is free again")
	require.NoError(t, err)
	h.wait("the redo", func() bool { return len(h.loaded()) == 1 })
}

// TestARunOverSlotsGoesOn stops the service in the middle of a run over many
// slots; the run goes on where it was.
func TestARunOverSlotsGoesOn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(strings.Replace(gauges, "%Y%m%dT%H%M", "%Y%m%d", 1), "arrival: true",
		"arrival: false", 1))
	for day := 1; day <= 20; day++ {
		h.drop(fmt.Sprintf("G_K1_202607%02d.csv", day), header+row(day, "1"))
	}
	h.start()
	run, err := h.ledger.QueueRun(ctx, "gauges", "hand", "test", ledger.Wanted{From: "2026-07-01", To: "2026-07-20"})
	require.NoError(t, err)
	h.wait("a part of it", func() bool { return len(h.loaded()) > 3 })
	h.stop()
	before := len(h.loaded())
	h.start()
	h.wait("the end", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(t, err)
		return run.FinishedAt != nil
	})
	assert.Equal(t, ledger.RunDone, run.State, run.Reason)
	assert.Len(t, h.loaded(), 20, "%d were loaded before the stop", before)
	assert.Equal(t, "20", h.count("mullein.load"), "nothing twice")
}

func TestStrictOrder(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("strict_order: true")).start()
	h.drop("G_K1_20260701T1200.csv", header)
	bad := h.arrival("G_K1_20260701T1200.csv")
	h.drop("G_K1_20260701T1300.csv", header+row(1, "1"))
	h.drop("G_K1_20260701T1100.csv", header+row(2, "1"))
	h.wait("the block to be said", func() bool {
		return strings.Contains(h.feed().Waits,
			fmt.Sprintf("arrival %d, G_K1_20260701T1200.csv, is refused and holds up", bad.ID))
	})
	h.wait("what comes before it", func() bool { return len(h.loaded()) == 1 })
	_, err := h.ledger.Decide(ctx, ledger.Skip, []int64{bad.ID}, "ada", "empty")
	require.NoError(t, err)
	h.wait("what comes after it", func() bool { return len(h.loaded()) == 2 })
}

func TestAFeedComesAfterAnother(t *testing.T) {
	t.Parallel()
	other := strings.NewReplacer("feed: gauges", "feed: peaks", "at: in", "at: other", "river.gauge", "river.peak",
		"arrival: true", "after: {all: [gauges]}").Replace(gauges)
	h := newHouse(t, gauges, other)
	require.NoError(t, os.Mkdir(filepath.Join(h.root, "other"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(h.root, "other", "G_K1_20260701T1200.csv"),
		[]byte(header+row(1, "1")), 0o644))
	h.start()
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.wait("both", func() bool { return len(h.loaded()) == 2 })
	runs, err := h.ledger.Runs(ctx, ledger.RunFilter{Feed: "peaks", Most: 10})
	require.NoError(t, err)
	assert.Equal(t, "after", runs[0].Cause)
}

func TestRedoUndoesAndLoadsAgain(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	const path = "G_K1_20260701T1200.csv"
	h.drop(path, header+row(1, "1")+row(2, "2"))
	a := h.arrival(path)
	h.put(strings.Replace(gauges, "maximum: 30", "maximum: 1", 1)) // the second row is a reject now
	h.wait("the new version", func() bool { w := h.engine.held("gauges"); return w != nil && w.version == 2 })
	_, err := h.ledger.Decide(ctx, ledger.Redo, []int64{a.ID}, "ada", "stricter bounds")
	require.NoError(t, err)
	h.wait("the redo", func() bool {
		now, _ := h.ledger.Arrival(ctx, a.ID)
		return now.State == ledger.Loaded && now.Generation == 2
	})
	now := h.arrival(path)
	assert.Equal(t, balance.Balance{Read: 2, Unchanged: 1, Rejected: 1, Removed: 1}, now.Balance)
	assert.Equal(t, []string{"SR0001|12:00|1|1|K1|f"}, h.lines(contents))
	assert.Equal(t, []string{"1", "2"}, h.lines("SELECT generation::text FROM mullein.load ORDER BY 1"))
	require.NoError(t, os.Remove(filepath.Join(h.root, "in", path)))
	_, err = h.ledger.Decide(ctx, ledger.Redo, []int64{a.ID}, "ada", "again")
	require.NoError(t, err)
	h.wait("the redo that cannot be", func() bool {
		now, _ := h.ledger.Arrival(ctx, a.ID)
		return strings.Contains(now.Reason, "its rows stay as they are")
	})
	now, err = h.ledger.Arrival(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, ledger.Loaded, now.State, "the table still holds its rows")
}

func TestReconcileAfterARestore(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	for n := range 3 {
		h.drop(fmt.Sprintf("G_K1_20260701T120%d.csv", n), header+row(n, "1"))
	}
	h.wait("the loads", func() bool { return len(h.loaded()) == 3 })
	list, err := h.engine.inspect.Reconcile(ctx, "gauges")
	require.NoError(t, err)
	assert.Empty(t, list)
	h.stop()
	h.exec(`UPDATE mullein_records.arrival SET state = 'ready', generation = 0 WHERE id = 1;
		DELETE FROM mullein_records.arrival WHERE id = 2;
		DELETE FROM mullein.load WHERE arrival = 3; DELETE FROM river.gauge WHERE from_arrival = 3`)
	list, err = h.engine.inspect.ReconcileAndMend(ctx, "gauges")
	require.NoError(t, err)
	require.Len(t, list, 3)
	for i, want := range []string{"in the ledger it is ready", "the ledger does not know it",
		"the target has no marker of it"} {
		assert.Contains(t, list[i].What, want)
		assert.True(t, list[i].Mended)
	}
	assert.Equal(t, []string{"true"}, h.lines(`SELECT (captures->>'catchment' = 'K1'
		AND path LIKE to_char(slot AT TIME ZONE 'UTC', '"%"YYYYMMDD"T"HH24MI"%"'))::text FROM mullein_records.arrival
		WHERE id = 2`), "what its name says")
	h.start()
	h.wait("all to be loaded again", func() bool { return len(h.loaded()) == 3 && h.count("river.gauge") == "3" })
	list, err = h.engine.inspect.Reconcile(ctx, "gauges")
	require.NoError(t, err)
	assert.Empty(t, list)
	h.drop("G_K2_20260701T1200.csv", header+row(9, "1"))
	assert.Greater(t, h.arrival("G_K2_").ID, int64(3), "numbers go on beyond those of the markers")
}

// TestReconcileFindsWhatWasPutAway restores the records alone, and with the target.
func TestReconcileFindsWhatWasPutAway(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`put_away: "done/{slot:%Y}/{catchment}", quarantine: "bad/{stem}/{name}"`)).start()
	for n := range 3 {
		h.drop(fmt.Sprintf("G_K1_20260701T120%d.csv", n), header+row(n, "1"))
	}
	h.drop("G_K2_20260701T1200.csv", header)
	places := []string{"done/2026/K1/G_K1_20260701T1200.csv", "done/2026/K1/G_K1_20260701T1201.csv",
		"done/2026/K1/G_K1_20260701T1202.csv", "bad/G_K2_20260701T1200/G_K2_20260701T1200.csv"}
	h.wait("all to be put away", func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE away = 'done'")[0] == "4"
	})
	require.NoError(t, os.WriteFile(filepath.Join(h.root, "done/2026/K1/notes.txt"), []byte("none of the feed's"),
		0o644))
	list, err := h.engine.inspect.Reconcile(ctx, "gauges")
	require.NoError(t, err)
	assert.Empty(t, list)
	h.stop()
	first := h.lines("SELECT id::text FROM mullein_records.arrival WHERE path = 'G_K1_20260701T1200.csv'")[0]
	h.exec("DELETE FROM mullein_records.reject; DELETE FROM mullein_records.arrival; DELETE FROM mullein.load WHERE " +
		"arrival <> " + first + "; DELETE FROM river.gauge WHERE from_arrival <> " + first)
	list, err = h.engine.inspect.Reconcile(ctx, "gauges")
	require.NoError(t, err)
	require.Len(t, list, 5, "the load that the target knows, and four files: %+v", list)
	for n, place := range places {
		assert.Equal(t, place, list[n+1].Path)
		assert.Equal(t, "it was put away, and the ledger does not know of it", list[n+1].What)
		assert.True(t, h.exists(place), "nothing is changed")
	}
	h.drop("G_K1_20260701T1202.csv", header+row(2, "5"))
	list, err = h.engine.inspect.ReconcileAndMend(ctx, "gauges")
	require.NoError(t, err)
	require.Len(t, list, 5)
	assert.Equal(t, "the ledger records where it lies", list[1].Way)
	assert.Equal(t, "it is moved back to the landing, as G_K1_20260701T1201.csv, and comes again", list[2].Way)
	assert.Equal(t, "a file lies at the landing as G_K1_20260701T1202.csv; move one of them by hand", list[3].Way)
	assert.Equal(t, []bool{true, true, true, false, true}, []bool{list[0].Mended, list[1].Mended, list[2].Mended,
		list[3].Mended, list[4].Mended})
	assert.True(t, h.exists(places[0]) && !h.exists(places[1]) && h.exists(places[2]) && !h.exists(places[3]))
	h.start()
	h.wait("all to be loaded and refused again", func() bool {
		return slices.Equal(h.lines("SELECT state || ' ' || count(*) FROM mullein_records.arrival GROUP BY state "+
			"ORDER BY 1"), []string{"loaded 3", "refused 1"})
	})
	assert.Equal(t, "3", h.count("river.gauge"))

	h.stop()
	require.NoError(t, os.Rename(filepath.Join(h.root, "in"), filepath.Join(h.root, "elsewhere")))
	list, err = h.engine.inspect.ReconcileAndMend(ctx, "gauges")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].What, "whether files were put away that the ledger does not know of cannot be seen: "+
		"landing in is away")
	assert.False(t, list[0].Mended)
}

func TestWhichAndDeliver(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	f := h.definition()
	_, _, err := h.engine.inspect.Deliver(context.Background(), f, "sub/G_K1_20260701T1200.csv", strings.NewReader(header+row(1, "1")),
		landing.KeepExisting)
	require.NoError(t, err)
	assert.Equal(t, ledger.Loaded, h.arrival("sub/G_K1_20260701T1200.csv").State)
	_, _, err = h.engine.inspect.Deliver(context.Background(), f, strings.Repeat("deep/", 33)+"G_K1_20260701T1200.csv", strings.NewReader("x"),
		landing.KeepExisting)
	assert.ErrorContains(t, err, "lies more than 32 folders deep, where the landing is not listed")
	_, _, err = h.engine.inspect.Deliver(context.Background(), f, "sub/G_K1_20260701T1200.csv", strings.NewReader("x"), landing.KeepExisting)
	assert.ErrorContains(t, err, "lies there already")
	for path, want := range map[string]string{"wrong.csv": "would not be taken: it does not fit the pattern",
		"../G_K1_20260701T1200.csv": "is not a plain path"} {
		_, _, err = h.engine.inspect.Deliver(context.Background(), f, path, strings.NewReader("x"), landing.KeepExisting)
		assert.ErrorContains(t, err, want)
	}
	h.drop("other.txt", "x")
	h.drop(".hidden", "x")
	list, more, err := h.engine.inspect.Which(ctx, f, 10)
	require.NoError(t, err)
	assert.False(t, more)
	got := map[string]string{}
	for _, s := range list {
		got[s.Path] = fmt.Sprint(s.Taken, " ", s.State, " ", s.Why)
	}
	assert.Equal(t, map[string]string{"sub/G_K1_20260701T1200.csv": "true loaded ",
		"other.txt": "false  does not fit the pattern " + f.Landing.Files.String(), ".hidden": "false  a dot-file"},
		got)
	_, more, err = h.engine.inspect.Which(ctx, f, 1)
	require.NoError(t, err)
	assert.True(t, more)
}

// TestACopyWaitsForItsOriginal has two copies in one group, in a run that
// somebody asked for.
func TestACopyWaitsForItsOriginal(t *testing.T) {
	t.Parallel()
	manual := func(text string) string {
		return strings.Replace(text, "when: {arrival: true", "when: {arrival: false", 1)
	}
	const first, second = "a/G_K1_20260701T1200.csv", "b/G_K1_20260701T1200.csv"
	for name, rewritten := range map[string]bool{"the original is loaded": false,
		"the original is rewritten just then": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t, manual(with("")))
			done := !rewritten
			h.onStep = func(_ string, _ int64, s load.Step) {
				if s == load.StepStaged && !done {
					done = true
					h.drop(first, header+row(2, "2"))
				}
			}
			h.drop(first, header+row(1, "1"))
			h.drop(second, header+row(1, "1"))
			h.start()
			run := h.run(ledger.Wanted{})
			copied := h.arrival(second)
			if !rewritten {
				assert.Equal(t, ledger.Skipped, copied.State, "it was looked at again in the same run")
				assert.EqualValues(t, 1, run.Loaded)
				return
			}
			assert.Equal(t, ledger.Loaded, copied.State, copied.Reason)
			h.run(ledger.Wanted{})
			assert.Equal(t, "2", h.count("river.gauge"))
		})
	}
}

// TestASkippedCopyLeavesTheTableAsLoadingItWould delivers the same bytes under other
// names, after other files and before them.
func TestASkippedCopyLeavesTheTableAsLoadingItWould(t *testing.T) {
	t.Parallel()
	const states = `feed: states
landing: {at: in, files: "state_*.csv", settle: 50ms}
schema: {fields: [{name: pump}, {name: state}], primaryKey: pump}
target: {table: river.state}
`
	const tally = `feed: tally
landing: {at: in/tally, files: "**/sales_*.csv", settle: 50ms}
schema: {fields: [{name: what}, {name: n, type: integer}]}
target: {table: river.tally, mode: append}
`
	h := newHouse(t, states, tally)
	require.NoError(t, os.MkdirAll(filepath.Join(h.root, "in/tally"), 0o755))
	at := func(minute int) time.Time { return time.Date(2026, 7, 1, 8, minute, 0, 0, time.UTC) }
	h.start()
	state := func() string {
		return strings.Join(h.lines("SELECT pump || ' ' || state FROM river.state ORDER BY 1"), ", ")
	}
	h.dropAt("state_0800.csv", "pump,state\nweir,on\n", at(0))
	h.arrival("state_0800.csv")
	h.dropAt("state_0805.csv", "pump,state\nweir,on\n", at(5))
	assert.Equal(t, ledger.Skipped, h.arrival("state_0805.csv").State, "nothing came in between")
	h.dropAt("state_0810.csv", "pump,state\nmill,off\n", at(10))
	h.arrival("state_0810.csv")
	h.dropAt("state_0815.csv", "pump,state\nweir,on\n", at(15))
	assert.Equal(t, ledger.Skipped, h.arrival("state_0815.csv").State, "its rows stand as they are")
	h.dropAt("state_0820.csv", "pump,state\nweir,off\n", at(20))
	h.arrival("state_0820.csv")
	h.dropAt("state_0825.csv", "pump,state\nweir,on\n", at(25))
	a := h.arrival("state_0825.csv")
	assert.Equal(t, ledger.Loaded, a.State, a.Reason)
	assert.Equal(t, "mill off, weir on", state(), "the table has moved on, and moves back")

	h.dropAt("tally/sales_1.csv", "what,n\nbuoy,1\n", at(0))
	h.arrival("sales_1.csv")
	h.dropAt("tally/sales_2.csv", "what,n\nbuoy,1\n", at(1))
	b := h.arrival("sales_2.csv")
	assert.Equal(t, ledger.Loaded, b.State, "two deliveries that are the same: %s", b.Reason)
	h.dropAt("tally/sales_2 (1).csv", "what,n\nbuoy,1\n", at(2))
	assert.Equal(t, ledger.Skipped, h.arrival("sales_2 (1).csv").State)
	assert.Equal(t, "2", h.count("river.tally"))
}

// TestACopyThatCameWithOthers delivers a file, its copy, and what comes after both, in
// one go.
func TestACopyThatCameWithOthers(t *testing.T) {
	t.Parallel()
	const states = `feed: states
landing: {at: in, files: "state_*.csv", settle: 50ms}
schema: {fields: [{name: pump}, {name: state}], primaryKey: pump}
target: {table: river.state}
`
	h := newHouse(t, states)
	at := func(minute int) time.Time { return time.Date(2026, 7, 1, 8, minute, 0, 0, time.UTC) }
	h.dropAt("state_a.csv", "pump,state\nweir,on\n", at(0))
	h.dropAt("state_b.csv", "pump,state\nweir,on\n", at(5))
	h.dropAt("state_c.csv", "pump,state\nweir,off\n", at(10))
	h.dropAt("state_d.csv", "pump,state\nmill,on\n", at(15))
	h.dropAt("state_e.csv", "pump,state\nmill,off\n", at(20))
	h.dropAt("state_f.csv", "pump,state\nmill,on\n", at(25))
	h.start()
	h.wait("all of them", func() bool {
		all, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Feed: "states", Most: 10})
		return err == nil && len(all) == 6 && !slices.ContainsFunc(all,
			func(a ledger.Arrival) bool { return a.State != ledger.Loaded && a.State != ledger.Skipped })
	})
	assert.Equal(t, []string{"mill on", "weir off"}, h.lines("SELECT pump || ' ' || state FROM river.state ORDER BY 1"))
	assert.Equal(t, ledger.Skipped, h.arrival("state_b.csv").State)
	assert.Equal(t, ledger.Loaded, h.arrival("state_f.csv").State)
}

// TestWhatDeliveriesWaitFor has several lists wait, and a file that none of them names.
func TestWhatDeliveriesWaitFor(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`delivery: list, listed_in: "**/DELIVERY_*.lst"`)).start()
	for n := range 5 {
		h.drop(fmt.Sprintf("DELIVERY_%d.lst", n), fmt.Sprintf("G_K%d_20260701T1200.csv\n", n))
	}
	h.drop("G_K9_20260701T1200.csv", header+row(1, "1"))
	h.wait("all that waits to be told", func() bool {
		return h.feed().Waits == "DELIVERY_0.lst waits for G_K0_20260701T1200.csv; DELIVERY_1.lst waits for "+
			"G_K1_20260701T1200.csv; "+
			"DELIVERY_2.lst waits for G_K2_20260701T1200.csv; and 2 more deliveries wait; no list names "+
			"G_K9_20260701T1200.csv"
	})
}

// TestAFileIsRewrittenInItsPlace rewrites a file so that its size and time are as they were,
// and changes nothing but its rights.
func TestAFileIsRewrittenInItsPlace(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	const name = "G_K1_20260701T1200.csv"
	path := filepath.Join(h.root, "in", name)
	rewrite := func(content string) {
		info, err := os.Stat(path)
		require.NoError(t, err)
		file, err := os.OpenFile(path, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = file.WriteString(content)
		require.NoError(t, errors.Join(err, file.Close(), os.Chtimes(path, info.ModTime(), info.ModTime())))
	}
	changed := func() string { return h.lines("SELECT max(changed)::text FROM mullein_records.arrival")[0] }
	h.drop(name, header+row(1, "1"))
	h.start()
	first := h.arrival(name)
	require.NotNil(t, first.Changed)
	rewrite(header + row(1, "2"))
	second := h.arrival(name, first.ID)
	assert.Equal(t, ledger.Loaded, second.State)
	assert.Equal(t, []string{"SR0001|12:00|2|1|K1|f"}, h.lines(contents))

	was := changed()
	require.NoError(t, os.Chmod(path, 0o600))
	_, err := h.ledger.QueueRun(ctx, "gauges", "hand", "ada", ledger.Wanted{})
	require.NoError(t, err)
	h.engine.Changed()
	h.wait("its bytes to be looked at", func() bool { return changed() != was })
	assert.Len(t, h.loaded(), 1+1)

	h.stop()
	rewrite(header + row(1, "3"))
	h.start()
	assert.Equal(t, ledger.Loaded, h.arrival(name, second.ID).State, "while no service looked")
	assert.Equal(t, []string{"SR0001|12:00|3|1|K1|f"}, h.lines(contents))
}

// patient is the gauges' feed with a long pause between two attempts.
var patient = strings.Replace(gauges, "attempts: 3, pause: 100ms", "attempts: 2, pause: 1h", 1)

// TestFilesWaitForTheirLanding takes the landing away when files are about to be read, and
// brings it back.
func TestFilesWaitForTheirLanding(t *testing.T) {
	t.Parallel()
	h := newHouse(t, patient)
	var once sync.Once
	h.onStep = func(_ string, _ int64, step load.Step) {
		if step == load.StepClaimed {
			once.Do(func() { assert.NoError(t, os.Rename(filepath.Join(h.root, "in"), filepath.Join(h.root, "out"))) })
		}
	}
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.drop("G_K2_20260701T1200.csv", header+row(2, "1"))
	h.start()
	h.wait("the landing to be missed", func() bool { return strings.Contains(h.feed().Problem, "landing in is away") })
	h.wait("the files to be put back", func() bool {
		return slices.Equal(h.lines("SELECT concat_ws(' ', state, attempts, reason) FROM mullein_records.arrival "+
			"ORDER BY path"),
			[]string{"ready 0 the landing is away", "ready 0 the landing is away"})
	})
	require.NoError(t, os.Rename(filepath.Join(h.root, "out"), filepath.Join(h.root, "in")))
	h.wait("the loads", func() bool { return len(h.loaded()) == 2 })
	h.wait("nothing to be wrong", func() bool { return h.feed().Problem == "" })
}

// TestWhatWaitsForAnotherAttemptIsSaid has a first file fail that others wait for.
func TestWhatWaitsForAnotherAttemptIsSaid(t *testing.T) {
	t.Parallel()
	h := newHouse(t, patient).start()
	h.loadedFile("G_K1_20260701T1100.csv", header+row(0, "1"))
	h.exec("CREATE FUNCTION river.fails() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE SQLSTATE '58030' USING " +
		"MESSAGE = 'no luck'; END $$; CREATE TRIGGER fails BEFORE INSERT ON river.gauge FOR EACH ROW EXECUTE FUNCTION " +
		"river.fails()")
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.wait("the failure", func() bool { return strings.Contains(h.feed().Waits, "is tried again at") })
	h.drop("G_K1_20260701T1300.csv", header+row(2, "1"))
	h.wait("the wait to be said", func() bool {
		return regexp.MustCompile(`^arrival \d+, G_K1_20260701T1200.csv, is tried again at \d\d:\d\d:\d\d UTC \(attempt 1 of 2: .*no luck.*\); 1 others wait with it$`).MatchString(h.feed().Waits)
	})
	h.exec("DROP TRIGGER fails ON river.gauge")
	_, err := h.ledger.QueueRun(ctx, "gauges", "hand", "ada", ledger.Wanted{})
	require.NoError(t, err)
	h.engine.Changed()
	h.wait("the loads", func() bool { return len(h.loaded()) == 3 && h.feed().Waits == "" })
}
