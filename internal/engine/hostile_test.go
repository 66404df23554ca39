package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
	"mullein/internal/ledger"
	"mullein/internal/load"
)

// TestADateFarAhead leaves a file whose name carries a date years ahead: what is due
// before it is still missed.
func TestADateFarAhead(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("", `due: {cron: "* * * * *", per: {catchment: [K1]}, late_after: 0s, missing_after: 0s}`))
	var ahead atomic.Int64 // of the clock
	h.now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	h.start()
	h.drop("G_K1_20990101T1200.csv", header+row(1, "1"))
	h.wait("the slot far ahead", func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.slot WHERE due_at > now() + interval '1 " +
			"year'")[0] == "1"
	})
	ahead.Store(int64(61 * time.Second)) // a minute passes
	h.wait("what is due now to be made", func() bool {
		slots, err := h.ledger.SlotsBetween(ctx, ledger.SlotFilter{Feed: "gauges", From: time.Now().Add(-time.Hour),
			To: time.Now().Add(time.Hour), Most: 10})
		require.NoError(t, err)
		return len(slots) > 0 && slots[0].State != due.Surplus
	})
}

// TestTheDiskFillsWhileAGroupCommits takes the room away while a group of small files
// is on its way into the target.
func TestTheDiskFillsWhileAGroupCommits(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	free := &atomic.Uint64{}
	free.Store(1 << 40)
	h.disk = func() (uint64, string) { return free.Load(), "the data" }
	var once sync.Once
	h.onStep = func(_ string, _ int64, step load.Step) {
		if step == load.StepStaged {
			once.Do(func() {
				free.Store(1 << 20)
				time.AfterFunc(300*time.Millisecond, func() { free.Store(1 << 40) })
				<-time.After(100 * time.Millisecond) // the next group is looked at meanwhile
			})
		}
	}
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	h.start()
	const files = groupFiles + 50 // a second group is read while the first commits
	for n := range files {
		h.drop(fmt.Sprintf("G_K1_20260701T12%02d_%d.csv", n%60, n),
			header+fmt.Sprintf("SR%04d;2026-07-01T12:00:00Z;1;1\n", n))
	}
	h.wait("all to be whole", func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE state = " +
			"'ready'")[0] == fmt.Sprint(files)
	})
	require.NoError(t, h.ledger.ResumeFeed(ctx, "gauges"))
	h.wait("all of them", func() bool { return len(h.loaded()) == files })
	assert.Equal(t, fmt.Sprint(files), h.count("river.gauge"))
	assert.Empty(t, h.feed().Problem)
}

// TestANarrowedRunSurvivesAKill kills the service in a run over slots: the run goes on
// where it was, since nobody would begin it again.
func TestANarrowedRunSurvivesAKill(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(strings.Replace(gauges, "%Y%m%dT%H%M", "%Y%m%d", 1), "arrival: true",
		"arrival: false", 1))
	for day := 1; day <= 6; day++ {
		h.drop(fmt.Sprintf("G_K1_202607%02d.csv", day), header+row(day, "1"))
	}
	run, err := h.ledger.QueueRun(ctx, "gauges", "hand", "test", ledger.Wanted{From: "2026-07-01", To: "2026-07-06"})
	require.NoError(t, err)
	require.Error(t, h.process(uuid.NewString(), load.StepMerged, 2).Wait(), "it kills itself")
	run, err = h.ledger.Run(ctx, run.ID)
	require.NoError(t, err)
	require.Equal(t, ledger.RunRunning, run.State, "left behind")
	h.start()
	h.wait("the end of the run", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(t, err)
		return run.FinishedAt != nil
	})
	assert.Equal(t, ledger.RunDone, run.State, run.Reason)
	assert.Len(t, h.loaded(), 6)
	assert.Equal(t, "6", h.count("mullein.load"), "nothing twice")
}

// TestACopyInADeliveryThatFails lets the loading of a delivery fail with an error that
// passes by itself: the copy among its files follows them.
func TestACopyInADeliveryThatFails(t *testing.T) {
	t.Parallel()
	// Digests are taken beforehand, so that the copy is known before it is read.
	h := newHouse(t, strings.Replace(with(`delivery: list, listed_in: "**/DELIVERY_*.lst"`), "derive:\n",
		"derive:\n  sum: file.digest\n", 1))
	var once sync.Once
	h.onStep = func(_ string, _ int64, step load.Step) {
		if step == load.StepOpened {
			once.Do(func() {
				h.exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'mullein " +
					"load%' AND datname = current_database()")
			})
		}
	}
	h.start()
	content := header + row(1, "1")
	h.drop("G_K1_20260701T1200.csv", content)
	h.drop("a/G_K1_20260701T1200.csv", content)
	h.drop("DELIVERY_1.lst", "G_K1_20260701T1200.csv\na/G_K1_20260701T1200.csv\n")
	h.wait("the delivery", func() bool {
		states := h.lines("SELECT state FROM mullein_records.arrival ORDER BY state")
		return strings.Join(states, " ") == "loaded loaded skipped"
	})
	assert.Equal(t, "1", h.count("mullein.load"))
}

// TestNamesThatTheRecordsCannotHold lie beside good files: each is said, and the good
// ones are loaded.
func TestNamesThatTheRecordsCannotHold(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	deep := filepath.Join(h.root, "in")
	for range 10 {
		deep = filepath.Join(deep, strings.Repeat("d", 240))
	}
	require.NoError(t, os.MkdirAll(deep, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(deep, "G_K1_20260701T1200.csv"), []byte(one), 0o644))
	for n := range 20 {
		h.drop(fmt.Sprintf("G_K1_20260701T12%02d.csv", n), header+row(n, "1"))
	}
	require.NoError(t, os.WriteFile(filepath.Join(h.root, "in", "G_\xff_20260701T1300.csv"), []byte(one), 0o644))
	h.wait("the good ones", func() bool { return len(h.loaded()) == 20 })
	h.wait("the others to be said", func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE state = 'refused'")[0] == "2"
	})
	assert.Contains(t, h.arrival(`G_\xff_20260701T1300.csv`).Reason, "it has a name that is not UTF-8")
	assert.Equal(t, []string{"it has a path of 2432 bytes; 2000 are the most"},
		h.lines("SELECT reason FROM mullein_records.arrival WHERE path LIKE 'ddd%'"))
	assert.Empty(t, h.feed().Problem)
}

// TestADeliveryOfTenThousandFiles is one transaction, and one step in the ledger.
func TestADeliveryOfTenThousandFiles(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`delivery: list, listed_in: "**/DELIVERY_*.lst"`))
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	h.start()
	var list strings.Builder
	for n := range manyFiles {
		name := fmt.Sprintf("G_K1_20260701T12%02d_%d.csv", n%60, n)
		require.NoError(t, os.WriteFile(filepath.Join(h.root, "in", name),
			[]byte(header+fmt.Sprintf("SR%04d;2026-07-01T12:00:00Z;1;1\n", n)), 0o644))
		fmt.Fprintln(&list, name)
	}
	h.drop("DELIVERY_1.lst", list.String())
	h.waitLong("all to be whole", 4*patience, time.Second, func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE state = " +
			"'ready'")[0] == fmt.Sprint(manyFiles+1)
	})
	require.NoError(t, h.ledger.ResumeFeed(ctx, "gauges"))
	h.waitLong("the delivery", 4*patience, time.Second, func() bool {
		return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE state = " +
			"'loaded'")[0] == fmt.Sprint(manyFiles+1)
	})
	assert.Equal(t, fmt.Sprint(manyFiles), h.count("river.gauge"))
	assert.Equal(t, []string{"1"}, h.lines("SELECT count(DISTINCT xmin::text)::text FROM mullein.load"),
		"one transaction")
}
