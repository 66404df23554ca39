package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/fate"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/localpg"
	"mullein/internal/localpg/pgtest"
)

const filesEach = 40

// deliver leaves files whose rows overlap, so that their order and their
// being loaded once can be seen in what is left.
func (h *house) deliver(batch int) {
	for n := range filesEach {
		var b strings.Builder
		b.WriteString(header)
		for i := range 30 {
			fmt.Fprintf(&b, "SR%04d;2026-07-01T12:00:00Z;%d,%d;\n", (n*7+i)%60, n%10, i)
		}
		h.drop(fmt.Sprintf("G_K%d_202607%02dT%02d00.csv", n%3, 1+batch, n%24)+strings.Repeat("x", n/24)+".csv",
			b.String())
	}
}

// allLoaded reports whether all files of the batches are loaded.
func (h *house) allLoaded(batches int) bool {
	return h.lines("SELECT count(*)::text FROM mullein_records.arrival WHERE state = 'loaded'")[0] ==
		fmt.Sprint(batches*filesEach)
}

const everything = `SELECT concat_ws('|', station_id, level_m, catchment, flood, from_file, from_line,
	encode(row_digest, 'hex')) FROM river.gauge ORDER BY 1`

// quietRuns are what runs left that nobody disturbed, by their batches.
var quietRuns struct {
	sync.Mutex
	left map[int][]string
}

// quiet is what a run that nobody disturbs leaves.
func quiet(t *testing.T, batches int) []string {
	quietRuns.Lock()
	defer quietRuns.Unlock()
	if left := quietRuns.left[batches]; left != nil {
		return left
	}
	h := newHouse(t, gauges)
	for b := range batches {
		h.deliver(b)
	}
	h.start()
	h.wait("the quiet run", func() bool { return h.allLoaded(batches) })
	if quietRuns.left == nil {
		quietRuns.left = map[int][]string{}
	}
	quietRuns.left[batches] = h.lines(everything)
	return quietRuns.left[batches]
}

// process starts this test binary as a service of the house. die is the step
// at which it kills itself, when it comes there for the after-th time.
func (h *house) process(service string, die load.Step, after int) *exec.Cmd {
	h.t.Helper()
	c := exec.Command(os.Args[0])
	c.Env = append(os.Environ(), "MULLEIN_TEST_DATABASE="+h.url, "MULLEIN_TEST_ROOT="+h.root,
		"MULLEIN_TEST_SERVICE="+service,
		"MULLEIN_TEST_DIE_AT="+string(die), "MULLEIN_TEST_AFTER="+strconv.Itoa(after))
	c.Stderr = h.t.Output()
	require.NoError(h.t, c.Start())
	h.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait() // most have ended before
	})
	return c
}

func end(t *testing.T, c *exec.Cmd) {
	t.Helper()
	require.NoError(t, c.Process.Kill())
	require.Error(t, c.Wait())
}

// consistent holds ledger, markers and balances against each other.
func (h *house) consistent(batches int) {
	h.t.Helper()
	assert.Equal(h.t, []string{fmt.Sprint(batches * filesEach)}, h.lines("SELECT count(*)::text FROM mullein.load"),
		"one marker a file")
	assert.Empty(h.t, h.lines(`SELECT a.path FROM mullein_records.arrival a
		LEFT JOIN mullein.load m ON m.feed = a.feed AND m.arrival = a.id
		WHERE m.balance IS DISTINCT FROM a.balance`), "ledger and markers agree")
	assert.Empty(h.t, h.lines(`SELECT path FROM mullein_records.arrival WHERE (balance->>'read')::int <>
		(SELECT sum(value::int) FROM jsonb_each_text(balance) WHERE key NOT IN ('read', 'removed'))`),
		"balances add up")
}

func TestAKillAtEachStepLosesNothing(t *testing.T) {
	t.Parallel()
	want := quiet(t, 1)
	for _, step := range []load.Step{load.StepClaimed, load.StepOpened, load.StepStaged, load.StepLocked,
		load.StepMerged, load.StepMarked, load.StepCommitted} {
		t.Run(string(step), func(t *testing.T) {
			h := newHouse(t, gauges)
			h.deliver(0)
			service := uuid.NewString()
			for _, after := range []int{0, 7} {
				killed := h.process(service, step, after)
				err := killed.Wait()
				var exit *exec.ExitError
				require.ErrorAs(t, err, &exit)
				require.Equal(t, syscall.SIGKILL, exit.Sys().(syscall.WaitStatus).Signal())
			}
			last := h.process(service, "", 0)
			h.wait("all files after kills at "+string(step), func() bool { return h.allLoaded(1) })
			end(t, last)
			assert.Equal(t, want, h.lines(everything))
			h.consistent(1)
		})
	}
}

func TestKillsAtRandomMomentsLoseNothing(t *testing.T) {
	t.Parallel()
	const kills, batches = 40, 4
	h := newHouse(t, gauges)
	service := uuid.NewString()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 0))
	for n := range kills {
		if n%(kills/batches+1) == 0 {
			h.deliver(n / (kills/batches + 1))
		}
		c := h.process(service, "", 0)
		timer := time.AfterFunc(time.Duration(50+random.IntN(450))*time.Millisecond, func() { _ = c.Process.Kill() })
		require.Error(t, c.Wait())
		timer.Stop()
	}
	last := h.process(service, "", 0)
	h.wait("all files after random kills", func() bool { return h.allLoaded(batches) })
	end(t, last)
	assert.Equal(t, quiet(t, batches), h.lines(everything))
	h.consistent(batches)
}

func TestAFileThatKillsItsReaderIsHeld(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	h.drop("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;1;1\n")
	service := uuid.NewString()
	for range fate.KillLimit {
		require.Error(t, h.process(service, load.StepOpened, 0).Wait())
	}
	last := h.process(service, load.StepOpened, 0)
	a := h.arrival("G_K1_20260701T1200.csv")
	assert.Equal(t, ledger.Held, a.State)
	assert.Contains(t, a.Reason, fmt.Sprintf("the service ended %d times while it read this file", fate.KillLimit))
	end(t, last)
}

// TestTheDatabaseStopsInMidLoad stops PostgreSQL as a power cut would, while
// rows are staged, and starts it again.
func TestTheDatabaseStopsInMidLoad(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir, err := pgtest.Folder()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	pg, err := localpg.Start(ctx, localpg.Options{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { _ = pg.Crash(ctx) })
	h := houseAt(t, pg.URL(), gauges)
	var once sync.Once
	crashed := make(chan error, 1)
	h.onStep = func(_ string, _ int64, step load.Step) {
		if step == load.StepStaged {
			once.Do(func() { crashed <- pg.Crash(ctx) })
		}
	}
	h.drop("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;1;1\n")
	h.start()
	require.NoError(t, <-crashed)
	require.NoError(t, pg.Restart(ctx))
	h.wait("the load", func() bool {
		list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{State: ledger.Loaded, Most: 2})
		return err == nil && len(list) == 1
	})
	assert.Equal(t, []string{"SR0001|12:00|1|1|K1|f"}, h.lines(contents))
}
