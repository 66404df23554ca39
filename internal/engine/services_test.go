package engine

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/localpg"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/table"
)

// TestEitherOfTwoServicesMayDieAtEachStep lets two services share the work and
// kills one of them at each step; the other takes over what it left.
func TestEitherOfTwoServicesMayDieAtEachStep(t *testing.T) {
	t.Parallel()
	want := quiet(t, 1)
	for _, step := range []load.Step{load.StepClaimed, load.StepOpened, load.StepStaged, load.StepLocked,
		load.StepMerged, load.StepMarked, load.StepCommitted} {
		t.Run(string(step), func(t *testing.T) {
			t.Parallel()
			h := newHouse(t, gauges)
			dies, lives := h.process(uuid.NewString(), step, 3), (*exec.Cmd)(nil)
			h.wait("the first service to have the feed",
				func() bool { return h.count("mullein_records.feed WHERE lease_holder IS NOT NULL") == "1" })
			lives = h.process(uuid.NewString(), "", 0)
			h.deliver(0)
			require.Error(t, dies.Wait())
			h.wait("all files, by the other", func() bool { return h.allLoaded(1) })
			end(t, lives)
			assert.Equal(t, want, h.lines(everything))
			h.consistent(1)
		})
	}
}

// TestTwoServicesAreKilledAtRandom kills either of two services, over and over,
// while files arrive all the time.
func TestTwoServicesAreKilledAtRandom(t *testing.T) {
	t.Parallel()
	const kills, batches = 80, 4
	h := newHouse(t, gauges)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 0))
	names := []string{uuid.NewString(), uuid.NewString()}
	services := []*exec.Cmd{h.process(names[0], "", 0), h.process(names[1], "", 0)}
	for n := range kills {
		if n%(kills/batches) == 0 {
			go h.deliver(n / (kills / batches))
		}
		<-time.After(time.Duration(20+random.IntN(200)) * time.Millisecond) // the moment of the kill
		i := random.IntN(2)
		end(t, services[i])
		services[i] = h.process(names[i], "", 0)
	}
	h.wait("all files after random kills", func() bool { return h.allLoaded(batches) })
	end(t, services[0])
	end(t, services[1])
	assert.Equal(t, quiet(t, batches), h.lines(everything))
	h.consistent(batches)
}

// TestAFrozenServiceWakesUpFenced stops a service in the middle of a load, past
// its lease, and wakes it when another has taken over and loaded.
func TestAFrozenServiceWakesUpFenced(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	frozen := h.process(uuid.NewString(), "", 0)
	h.wait("the first service to have the feed",
		func() bool { return h.count("mullein_records.feed WHERE lease_holder IS NOT NULL") == "1" })
	h.deliver(0)
	h.wait("its work", func() bool { return h.count("mullein_records.arrival WHERE state = 'loading'") != "0" })
	require.NoError(t, frozen.Process.Signal(syscall.SIGSTOP))
	other := h.process(uuid.NewString(), "", 0)
	h.wait("the other to load all", func() bool { return h.allLoaded(1) })
	require.NoError(t, frozen.Process.Signal(syscall.SIGCONT))
	h.drop("G_K9_20260701T1200.csv", header+row(99, "1"))
	h.wait("one more", func() bool { return h.count("mullein.load") == fmt.Sprint(filesEach+1) })
	h.wait("the ledger to follow",
		func() bool { return h.count("mullein_records.arrival WHERE state <> 'loaded'") == "0" })
	assert.Empty(t, h.lines(`SELECT arrival::text FROM mullein.load GROUP BY arrival
		HAVING count(*) > 1`), "nothing twice")
	end(t, frozen)
	end(t, other)
}

// TestFeedsSpreadOverServices has two services share six feeds, and one take
// all when the other ends.
func TestFeedsSpreadOverServices(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for n := range 6 {
		name := fmt.Sprintf("feed-%d", n)
		require.NoError(t, os.MkdirAll(filepath.Join(h.root, name), 0o755))
		h.put(strings.NewReplacer("feed: gauges", "feed: "+name, "at: in", "at: "+name, "river.gauge",
			fmt.Sprintf("river.g%d", n)).Replace(gauges))
	}
	h.start()
	first := h.stop
	h.start()
	held := func() string {
		return strings.Join(h.lines(`SELECT count(*)::text FROM mullein_records.feed WHERE lease_holder IS NOT NULL
			GROUP BY lease_holder`), " ")
	}
	h.wait("half of the feeds each", func() bool { return held() == "3 3" })
	services, err := h.ledger.Services(ctx)
	require.NoError(t, err)
	require.Len(t, services, 2)
	assert.True(t, services[0].Alive && services[1].Alive)
	first()
	h.wait("all for the one that is left", func() bool { return held() == "6" })
	require.NoError(t, os.WriteFile(filepath.Join(h.root, "feed-0", "G_K1_20260701T1200.csv"), []byte(one), 0o644))
	h.wait("its work", func() bool { return len(h.loaded()) == 1 })
}

// cutter passes bytes between a client and a database until it is told to cut:
// then the next COMMIT gets through, and its answer does not.
type cutter struct {
	listener net.Listener
	to       string
	mu       sync.Mutex
	armed    bool
	cuts     int
}

func (c *cutter) serve() {
	for {
		in, err := c.listener.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", c.to)
		if err != nil {
			in.Close()
			continue
		}
		var cut atomic.Bool
		go c.answers(in, out, &cut)
		go c.pass(in, out, &cut)
	}
}

// answers passes on what the database says, until it is its answer to the COMMIT
// that was chosen: the client loses the connection in its place.
func (c *cutter) answers(in, out net.Conn, cut *atomic.Bool) {
	defer in.Close()
	buffer := make([]byte, 64<<10)
	for {
		n, err := out.Read(buffer)
		if err != nil || cut.Load() {
			return
		}
		if _, err := in.Write(buffer[:n]); err != nil {
			return
		}
	}
}

func (c *cutter) pass(in, out net.Conn, cut *atomic.Bool) {
	defer out.Close()
	buffer := make([]byte, 64<<10)
	for {
		n, err := in.Read(buffer)
		if err != nil {
			return
		}
		c.mu.Lock()
		if c.armed && strings.Contains(string(buffer[:n]), "COMMIT") {
			c.armed = false
			c.cuts++
			cut.Store(true)
		}
		c.mu.Unlock()
		if _, err := out.Write(buffer[:n]); err != nil {
			return
		}
	}
}

// TestTheConnectionIsCutBetweenCommitAndAnswer loses the answer to the commits
// of several loads: the markers tell that they happened.
func TestTheConnectionIsCutBetweenCommitAndAnswer(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	u, err := url.Parse(h.url)
	require.NoError(t, err)
	c := &cutter{to: u.Host}
	c.listener, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.listener.Close()
	go c.serve()
	u.Host = c.listener.Addr().String()
	through, err := table.Open(ctx, u.String())
	require.NoError(t, err)
	defer through.Close()
	h.target = through
	h.onStep = func(_ string, arrival int64, step load.Step) {
		if step == load.StepMarked && arrival%3 == 1 {
			c.mu.Lock()
			c.armed = true
			c.mu.Unlock()
		}
	}
	h.start()
	for n := range 9 {
		name := fmt.Sprintf("G_K%d_20260701T1200.csv", n)
		h.drop(name, header+row(n, "1"))
		h.wait("the load of "+name, func() bool { return len(h.loaded()) == n+1 })
	}
	h.stop()
	c.mu.Lock()
	defer c.mu.Unlock()
	assert.GreaterOrEqual(t, c.cuts, 3)
	assert.Equal(t, "9", h.count("river.gauge"))
	assert.Equal(t, []string{"1"}, h.lines("SELECT DISTINCT generation::text FROM mullein.load"), "nothing twice")
}

// TestPostgresIsStoppedAndKilledUnderWork restarts and kills PostgreSQL while
// files are loaded.
func TestPostgresIsStoppedAndKilledUnderWork(t *testing.T) {
	t.Parallel()
	dir, err := pgtest.Folder()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	pg, err := localpg.Start(ctx, localpg.Options{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { _ = pg.Crash(ctx) })
	h := houseAt(t, pg.URL(), strings.Replace(gauges, "attempts: 3", "attempts: 50", 1))
	h.start()
	const batches = 3
	for b := range batches {
		h.deliver(b)
		h.wait("some work", func() bool {
			counts, err := h.ledger.Counts(ctx, "gauges")
			return err == nil &&
				counts["gauges"].States["loaded"]+counts["gauges"].States["loading"] > int64(b*filesEach)
		})
		if b%2 == 0 {
			require.NoError(t, pg.Crash(ctx))
		} else {
			require.NoError(t, pg.Stop(ctx))
		}
		require.NoError(t, pg.Restart(ctx))
	}
	h.wait("all files", func() bool {
		list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{State: ledger.Loaded, Most: 1000})
		return err == nil && len(list) == batches*filesEach
	})
	h.consistent(batches)
	assert.Equal(t, quiet(t, batches), h.lines(everything))
}

// TestTheDiskIsFull has the target on a disk of a few megabytes: loads wait,
// and go on when there is room again.
func TestTheDiskIsFull(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a small disk can be mounted only by root")
	}
	small, err := os.MkdirTemp("/var/tmp", "mullein-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(small) })
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=12m,mode=0777"); err != nil {
		t.Skip("a small disk cannot be mounted here: ", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(small, syscall.MNT_DETACH) })
	h := newHouse(t, strings.Replace(gauges, "attempts: 3", "attempts: 100", 1))
	space := strings.ReplaceAll(filepath.Base(small), "-", "_")
	require.NoError(t, exec.Command("chown", "postgres", small).Run())
	pgtest.AsSuperuser(t, h.url, fmt.Sprintf("CREATE TABLESPACE %s OWNER mullein LOCATION '%s'", space, small))
	t.Cleanup(func() {
		_, _ = h.db.Exec(ctx, "DROP TABLE IF EXISTS river.gauge, public.filler; DROP TABLESPACE IF EXISTS "+space)
	})
	h.exec("CREATE TABLE public.filler (t text) TABLESPACE " + space)
	h.exec("ALTER TABLE public.filler ALTER t SET STORAGE EXTERNAL; INSERT INTO public.filler SELECT " +
		"repeat(md5(i::text), 32000) FROM generate_series(1, 9) i")
	h.exec("CREATE SCHEMA river")
	_, err = h.target.Fit(ctx, mustTable(t, h.definition()))
	require.NoError(t, err)
	h.exec("ALTER TABLE river.gauge SET TABLESPACE " + space + "; ALTER INDEX river.gauge_pkey SET TABLESPACE " + space)
	h.start()
	var big strings.Builder
	big.WriteString(header)
	for i := range 60_000 {
		fmt.Fprintf(&big, "SR%04d;2026-07-01T%02d:%02d:00Z;1;1\n", i%1000, i/1000/60, i/1000%60)
	}
	h.drop("G_K1_20260701T1200.csv", big.String())
	h.wait("the full disk to be said", func() bool {
		list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Most: 1})
		require.NoError(t, err)
		return len(list) == 1 && strings.Contains(list[0].Reason, "No space left on device")
	})
	assert.Equal(t, "0", h.count("river.gauge"))
	h.exec("DROP TABLE public.filler")
	pgtest.AsSuperuser(t, h.url, "CHECKPOINT")
	require.NoError(t, syscall.Mount("", small, "", syscall.MS_REMOUNT, "size=64m,mode=0777"))
	h.wait("the load, when there is room", func() bool { return len(h.loaded()) == 1 })
	assert.Equal(t, "60000", h.count("river.gauge"))
	assert.Equal(t, "1", h.count("mullein.load"))
}

// TestADiskWithLittleRoomIsSaidBeforehand.
func TestADiskWithLittleRoomIsSaidBeforehand(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	var mu sync.Mutex
	free := uint64(1 << 20)
	h.disk = func() (uint64, string) {
		mu.Lock()
		defer mu.Unlock()
		return free, "the data"
	}
	h.drop("G_K1_20260701T1200.csv", one)
	h.start()
	h.wait("the want of room",
		func() bool { return strings.Contains(h.feed().Problem, "only 1 MiB are free on the disk of the data") })
	mu.Lock()
	free = 1 << 40
	mu.Unlock()
	h.wait("the load", func() bool { return len(h.loaded()) == 1 && h.feed().Problem == "" })
}

// TestTheClockIsSetBack loads files that come from the future, as they do when
// a clock was ahead and is set back an hour: nothing waits for its time.
func TestTheClockIsSetBack(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("", `due: {cron: "* * * * *", per: {catchment: [K1]}}`)).start()
	future := time.Now().Add(time.Hour)
	h.dropAt("G_K1_20260701T1200.csv", header+row(1, "1"), future)
	h.dropAt("G_K1_20260701T1201.csv", header+row(2, "1"), future.Add(-2*time.Hour))
	h.wait("both", func() bool { return len(h.loaded()) == 2 })
	for _, a := range h.loaded() {
		assert.False(t, a.CameAt.After(time.Now()), "it did not come in the future")
	}
	h.dropAt("G_K1_20260701T1200.csv", header+row(1, "2"), time.Now())
	h.wait("an older time with other bytes", func() bool { return len(h.loaded()) == 3 })
	_, err := h.db.Exec(ctx, "UPDATE mullein_records.feed SET fired_at = now() + interval '1 hour'")
	require.NoError(t, err)
	fires, err := h.ledger.Fire(ctx, map[string]time.Time{"gauges": time.Now()})
	require.NoError(t, err)
	assert.Empty(t, fires, "a time that fired before the clock was set back does not fire again")
}

// TestTheLandingIsUnmountedAndMounted takes a landing away and brings it back,
// as another mount with other inodes.
func TestTheLandingIsUnmountedAndMounted(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root can mount")
	}
	h := newHouse(t, gauges)
	in := filepath.Join(h.root, "in")
	mount := func() {
		if err := syscall.Mount("tmpfs", in, "tmpfs", 0, "size=4m"); err != nil {
			t.Skip("nothing can be mounted here: ", err)
		}
	}
	upload := func(name, content string) {
		temporary := filepath.Join(in, "."+name)
		require.NoError(t, os.WriteFile(temporary, []byte(content), 0o644))
		require.NoError(t, os.Rename(temporary, filepath.Join(in, name)))
	}
	mount()
	t.Cleanup(func() { _ = syscall.Unmount(in, syscall.MNT_DETACH) })
	require.NoError(t, h.ledger.PauseFeed(ctx, "gauges"))
	h.start()
	upload("G_K1_20260701T1200.csv", header+row(1, "1"))
	upload("G_K2_20260701T1200.csv", header+row(2, "1"))
	h.wait("both to be ready", func() bool { return h.count("mullein_records.arrival WHERE state = 'ready'") == "2" })
	require.NoError(t, syscall.Unmount(in, syscall.MNT_DETACH))
	h.wait("the landing to be away", func() bool { return strings.Contains(h.feed().Problem, "is away") })
	assert.Equal(t, "2", h.count("mullein_records.arrival WHERE state = 'ready'"), "its files are not gone")
	mount()
	upload("G_K1_20260701T1200.csv", header+row(1, "1"))
	upload("G_K2_20260701T1200.csv", header+row(2, "1"))
	require.NoError(t, h.ledger.ResumeFeed(ctx, "gauges"))
	h.engine.Changed()
	h.wait("both, from the new mount", func() bool { return len(h.loaded()) == 2 })
	assert.Equal(t, "2", h.count("river.gauge"))
	assert.Equal(t, "2", h.count("mullein.load"))
}
