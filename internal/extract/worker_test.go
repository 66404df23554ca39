package extract

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/localpg/pgtest"
)

// workplace is a worker at work, over a database that has the records and what is extracted.
type workplace struct {
	*Worker
	t       testing.TB
	url     string
	source  string                  // the URL of the connection; url where it is ""
	root    string                  // of the landings; files are put into out
	deliver func(name string) error // called before each delivery; nil for none
	stop    func()
}

func newWorkplace(t testing.TB) *workplace {
	t.Helper()
	w := &workplace{t: t, url: pgtest.Database(t), root: t.TempDir()}
	require.NoError(t, os.Mkdir(filepath.Join(w.root, "out"), 0o755))
	w.open(uuid.NewString(), t.TempDir())
	return w
}

// open makes the worker of a service, which is alive as long as the test.
func (w *workplace) open(service, folder string) {
	ctx := context.Background()
	records, err := ledger.Open(ctx, w.url)
	require.NoError(w.t, err)
	w.t.Cleanup(func() { records.Close() })
	w.Worker = New(Options{Ledger: records, Service: service, Folder: folder, Log: slog.New(slog.DiscardHandler),
		Connection: func(name string) (string, bool) {
			if w.source != "" {
				return w.source, true
			}
			return w.url, name == "main"
		},
		Landing: func(_ context.Context, at string) (landing.Landing, error) {
			l, err := landing.Open([]string{w.root}, at)
			if err != nil {
				return nil, err
			}
			return &watched{l, w}, nil
		}})
}

// watched is a landing of which each delivery is told before.
type watched struct {
	landing.Landing
	w *workplace
}

func (l *watched) Deliver(path string, content io.Reader, existing landing.Existing) (landing.Entry, error) {
	if l.w.deliver != nil {
		if err := l.w.deliver(path); err != nil {
			return landing.Entry{}, err
		}
	}
	return l.Landing.Deliver(path, content, existing)
}

// alive has the service speak up until the test ends.
func (w *workplace) alive() {
	ctx, cancel := context.WithCancel(context.Background())
	beat := func() error { _, err := w.Ledger.Serving(ctx, w.Service, "here", "[]"); return err }
	require.NoError(w.t, beat())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
				_ = beat() // the next one does
			}
		}
	}()
	w.t.Cleanup(func() { cancel(); <-done })
}

// start has the worker work.
func (w *workplace) start() {
	w.alive()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { w.Run(ctx); close(done) }()
	w.stop = func() { cancel(); <-done }
	w.t.Cleanup(w.stop)
}

func (w *workplace) put(definition string) {
	w.t.Helper()
	x := extracts(w.t, definition)
	_, _, err := w.Ledger.PutExtract(context.Background(), x.Name, definition, "ada")
	require.NoError(w.t, err)
}

// ran has an extract run, and returns its windows, the oldest first, when it is at rest.
func (w *workplace) ran(name string) []ledger.ExtractWindow {
	w.t.Helper()
	require.NoError(w.t, w.Ledger.WantExtract(context.Background(), name, "ada"))
	w.Poke()
	return w.atRest(name)
}

func (w *workplace) atRest(name string) []ledger.ExtractWindow {
	w.t.Helper()
	ctx := context.Background()
	require.Eventually(w.t, func() bool {
		x, err := w.Ledger.Extract(ctx, name)
		return err == nil && !x.Working && x.WantedBy == "" && x.TryAfter == nil && (!x.Unfinished || x.Problem != "")
	}, time.Minute, 20*time.Millisecond)
	list, err := w.Ledger.Windows(ctx, name, 0, 100)
	require.NoError(w.t, err)
	slices.Reverse(list)
	return list
}

// landed returns the lines of the CSV files in the landing, without headers.
func (w *workplace) landed() (lines []string) {
	w.t.Helper()
	entries, err := os.ReadDir(filepath.Join(w.root, "out"))
	require.NoError(w.t, err)
	for _, e := range entries {
		require.False(w.t, strings.HasPrefix(e.Name(), "."), "no half file stays: %s", e.Name())
		if strings.HasSuffix(e.Name(), ".csv") {
			text, err := os.ReadFile(filepath.Join(w.root, "out", e.Name()))
			require.NoError(w.t, err)
			lines = append(lines, strings.Split(strings.TrimSpace(string(text)), "\n")[1:]...)
		}
	}
	return lines
}

const numbers = `extract: n
from: {table: river.n}
new: {by: id}
files: {at: out, name: 'N_{run}_{part}.csv', split: {rows: 300}, listed_in: 'N_{run}.lst', checksum: '{path}.sha256'}
when: {attempts: 3, pause: 10ms}
`

func (w *workplace) numbers(from, to int) {
	statements(w.t, w.url, "CREATE SCHEMA IF NOT EXISTS river; CREATE TABLE IF NOT EXISTS river.n (id bigint PRIMARY KEY, t text)",
		fmt.Sprintf("INSERT INTO river.n SELECT g, repeat('x', 100) FROM generate_series(%d, %d) g", from, to))
}

// TestWindowsFollowEachOther writes what is new, again and again, with a list and checksums, and moves the mark.
func TestWindowsFollowEachOther(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.start()
	w.numbers(1, 1000)
	w.put(numbers)
	windows := w.ran("n")
	require.Len(t, windows, 1)
	assert.Equal(t, ledger.RunDone, windows[0].State)
	assert.EqualValues(t, 1000, *windows[0].Source)
	assert.EqualValues(t, 1000, windows[0].Rows)
	assert.Len(t, windows[0].Files, 4)
	assert.Len(t, w.landed(), 1000)
	list, err := os.ReadFile(filepath.Join(w.root, "out/N_1.lst"))
	require.NoError(t, err)
	assert.Equal(t, 4, strings.Count(string(list), "\n"))
	first := windows[0].Files[0]
	assert.True(t, strings.HasPrefix(string(list), fmt.Sprintf("N_1_0001.csv\t%d\t%s\n", first.Bytes, first.SHA256)))
	sum, err := exec.Command("sh", "-c", "cd "+filepath.Join(w.root, "out")+" && sha256sum -c *.sha256").CombinedOutput()
	assert.NoError(t, err, string(sum))

	windows = w.ran("n")
	require.Len(t, windows, 2)
	assert.Zero(t, windows[1].Rows, "nothing is new, and there is no file")
	assert.Empty(t, windows[1].Files)
	w.numbers(1001, 1010)
	windows = w.ran("n")
	assert.Equal(t, "(1000, 1010]", Window{windows[2].Low, windows[2].High, Bounds(windows[2].Bounds)}.String())
	assert.Len(t, w.landed(), 1010)

	// A person sets the mark back, and on.
	ctx := context.Background()
	require.NoError(t, w.Ledger.SetMark(ctx, "n", "1005"))
	assert.EqualValues(t, 5, w.ran("n")[3].Rows)
	require.NoError(t, w.Ledger.SetMark(ctx, "n", ""))
	assert.EqualValues(t, 1010, w.ran("n")[4].Rows)
}

// TestWhatStartsAnExtract begins runs by the clock and after feeds, not while it is paused, and once for times that passed.
func TestWhatStartsAnExtract(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	w := New(Options{})
	due := func(when string, x ledger.Extract, loads map[string]int64) string {
		x.Name, x.Version = "n", x.Version+1
		x.Definition = "extract: n\nfrom: {table: a.b}\nfiles: {at: l, name: x.csv}\nwhen: {" + when + "}\n"
		delete(w.read, "n")
		begin, cause, is := isDue(&x, w.parsed(&x), loads, at)
		if !is {
			return ""
		}
		if !begin.Fired.IsZero() {
			cause += " " + begin.Fired.Format("15:04")
		}
		return cause
	}
	quarter := `cron: "*/15 * * * *"`
	before, later := at.Add(-time.Minute), at.Add(time.Minute)
	seen := map[string]int64{"a": 3, "b": 5}
	for _, c := range []struct {
		when  string
		x     ledger.Extract
		loads map[string]int64
		want  string
	}{
		{quarter, ledger.Extract{FiredAt: before}, nil, "schedule 12:00"},
		{quarter, ledger.Extract{FiredAt: at}, nil, ""},
		{quarter, ledger.Extract{FiredAt: at.Add(-5 * time.Hour)}, nil, "schedule 12:00"},
		{quarter, ledger.Extract{FiredAt: before, Paused: true}, nil, ""},
		{quarter, ledger.Extract{FiredAt: at, Paused: true, WantedBy: "ada"}, nil, "hand"},
		{quarter, ledger.Extract{FiredAt: before, TryAfter: &later, Problem: "away"}, nil, ""},
		{quarter, ledger.Extract{FiredAt: at, TryAfter: &before, Problem: "away"}, nil, "again"},
		{quarter, ledger.Extract{FiredAt: before, Problem: "away", Unfinished: true}, nil, "schedule 12:00"},
		{quarter, ledger.Extract{FiredAt: at, Problem: "away", Unfinished: true}, nil, ""},
		{quarter, ledger.Extract{FiredAt: at, Unfinished: true}, nil, "again"},
		{"after: {all: [a, b]}", ledger.Extract{FiredAt: at, AfterSeen: seen}, map[string]int64{"a": 4, "b": 5}, ""},
		{"after: {all: [a, b]}", ledger.Extract{FiredAt: at, AfterSeen: seen}, map[string]int64{"a": 4, "b": 6}, "after"},
		{"after: {any: [a, b]}", ledger.Extract{FiredAt: at, AfterSeen: seen}, map[string]int64{"a": 4, "b": 5}, "after"},
		{"attempts: 3", ledger.Extract{FiredAt: before}, nil, ""},
	} {
		assert.Equal(t, c.want, due(c.when, c.x, c.loads), "%s %+v", c.when, c.x)
	}
}

// proxy stands before a server, and cuts each connection after so many bytes of answers.
func proxy(t testing.TB, to string, bytes func() int64) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			go func() { _, _ = io.Copy(out, in); out.Close() }()
			go func() { _, _ = io.CopyN(in, out, bytes()); in.Close(); out.Close() }()
		}
	}()
	return l.Addr().String()
}

// TestACutConnection cuts the connection to the source anywhere. What is in the landing at the end is what is in the table, once.
func TestACutConnection(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.numbers(1, 3000)
	u, err := url.Parse(w.url)
	require.NoError(t, err)
	var after atomic.Int64
	u.Host = proxy(t, u.Host, func() int64 { return after.Swap(1 << 40) }) // once
	w.source = u.String()
	w.start()
	w.put(numbers)
	for i, bytes := range []int64{0, 200, 1000, 3000, 20_000, 100_000, 300_000} {
		after.Store(bytes)
		windows := w.ran("n")
		require.Len(t, windows, i+1)
		assert.Equal(t, ledger.RunDone, windows[i].State, windows[i].Reason)
		assert.Len(t, w.landed(), 3000*(i+1), "after %d bytes", bytes)
		require.NoError(t, w.Ledger.SetMark(context.Background(), "n", "")) // and all of it once more
	}
}

// TestAFailureIsSaid tries again, and then waits for a person or for the schedule.
func TestAFailureIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.numbers(1, 1000)
	var failures atomic.Int64
	w.deliver = func(string) error {
		if failures.Add(-1) >= 0 {
			return fmt.Errorf("the disk is full")
		}
		return nil
	}
	w.start()
	w.put(numbers)
	failures.Store(2)
	windows := w.ran("n")
	assert.Equal(t, ledger.RunDone, windows[0].State)
	assert.Equal(t, 3, windows[0].Attempts)
	assert.Len(t, w.landed(), 1000)

	w.numbers(1001, 2000)
	failures.Store(3)
	windows = w.ran("n")
	ctx := context.Background()
	x, err := w.Ledger.Extract(ctx, "n")
	require.NoError(t, err)
	assert.Equal(t, "the disk is full", x.Problem)
	assert.Equal(t, "1000", x.Mark, "the mark does not move")
	assert.Equal(t, ledger.RunRunning, windows[1].State, "its window stays")
	// What comes meanwhile is of the next window.
	w.numbers(2001, 2500)
	windows = w.ran("n")
	assert.Equal(t, "2000", windows[1].High)
	assert.Len(t, w.landed(), 2000)
	windows = w.ran("n")
	assert.Equal(t, "2500", windows[2].High)
	assert.Len(t, w.landed(), 2500)

	// What does not fit is not tried again.
	w.put(strings.Replace(numbers, "river.n}", "river.m}", 1))
	w.ran("n")
	x, err = w.Ledger.Extract(ctx, "n")
	require.NoError(t, err)
	assert.Equal(t, `relation "river.m" does not exist`, x.Problem)
	w.put(strings.Replace(numbers, "attempts: 3, pause: 10ms", "time_limit: 1ms, attempts: 1", 1))
	w.deliver = func(string) error { time.Sleep(5 * time.Millisecond); return nil }
	w.numbers(2501, 2600)
	w.ran("n")
	x, err = w.Ledger.Extract(ctx, "n")
	require.NoError(t, err)
	assert.Contains(t, x.Problem, "time limit of 1ms")
}

// TestLateCommits writes rows while others are committed late, by chance: with hold_back each comes once, with overlap at least
// once.
func TestLateCommits(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"hold_back: 300ms", "overlap: 300ms"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			w := newWorkplace(t)
			w.start()
			statements(t, w.url, "CREATE SCHEMA river; CREATE TABLE river.n (id serial, changed_at timestamptz DEFAULT now())")
			w.put(strings.Replace(strings.Replace(numbers, "by: id", "by: changed_at, "+how, 1), "split: {rows: 300}, ", "", 1))
			ctx := context.Background()
			random := rand.New(rand.NewPCG(1, 2))
			var open []pgx.Tx
			var until []time.Time
			begun := 0
			for begun < 60 || len(open) > 0 {
				if begun < 60 {
					conn, err := pgx.Connect(ctx, w.url)
					require.NoError(t, err)
					defer conn.Close(ctx)
					tx, err := conn.Begin(ctx)
					require.NoError(t, err)
					_, err = tx.Exec(ctx, "INSERT INTO river.n DEFAULT VALUES") // of the time at which the transaction began
					require.NoError(t, err)
					open, until, begun = append(open, tx), append(until, time.Now().Add(time.Duration(random.IntN(150))*time.Millisecond)), begun+1
				}
				for i := 0; i < len(open); {
					if time.Now().Before(until[i]) {
						i++
						continue
					}
					require.NoError(t, open[i].Commit(ctx))
					open, until = slices.Delete(open, i, i+1), slices.Delete(until, i, i+1)
				}
				if begun%4 == 0 || begun == 60 {
					w.ran("n")
				}
			}
			seen := map[string]int{}
			require.Eventually(t, func() bool {
				w.ran("n")
				clear(seen)
				for _, line := range w.landed() {
					seen[line]++
				}
				return len(seen) == 60
			}, 20*time.Second, 50*time.Millisecond, "none is lost")
			for line, times := range seen {
				assert.True(t, times == 1 || strings.HasPrefix(how, "overlap"), "%s came %d times", line, times)
			}
		})
	}
}

// TestAnExtractIsChangedAtWork cancels the window that is open, and begins another by what the extract is now.
func TestAnExtractIsChangedAtWork(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.numbers(1, 1000)
	reached, on := make(chan struct{}, 100), make(chan struct{})
	w.deliver = func(string) error { reached <- struct{}{}; <-on; return nil }
	stale := filepath.Join(w.Folder, "n", "77")
	require.NoError(t, os.MkdirAll(stale, 0o700))
	w.start()
	w.put(numbers)
	require.NoError(t, w.Ledger.WantExtract(context.Background(), "n", "ada"))
	<-reached
	assert.NoDirExists(t, stale, "what is of no open window is removed")
	w.put(strings.ReplaceAll(numbers, "N_", "M_"))
	close(on)
	windows := w.ran("n")
	require.Len(t, windows, 2)
	assert.Equal(t, ledger.RunCancelled, windows[0].State)
	assert.Equal(t, "the extract was changed", windows[0].Reason)
	assert.Equal(t, ledger.RunDone, windows[1].State)
	assert.Equal(t, "M_2_0001.csv", windows[1].Files[0].Name)
	assert.EqualValues(t, 1000, windows[1].Rows)
	require.Eventually(t, func() bool {
		entries, err := os.ReadDir(w.Folder)
		return err == nil && len(entries) == 0
	}, 10*time.Second, 10*time.Millisecond, "nothing is left aside")
}

// TestTwoServices share extracts: each window is written by one of them.
func TestTwoServices(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.numbers(1, 500)
	other := &workplace{t: t, url: w.url, root: w.root}
	other.open(uuid.NewString(), t.TempDir())
	w.start()
	other.start()
	for i := range 6 {
		w.put(strings.Replace(strings.ReplaceAll(numbers, "N_", fmt.Sprintf("X%d_", i)), "extract: n", fmt.Sprintf("extract: n%d", i), 1))
		require.NoError(t, w.Ledger.WantExtract(context.Background(), fmt.Sprintf("n%d", i), "ada"))
	}
	for i := range 6 {
		windows := w.atRest(fmt.Sprintf("n%d", i))
		require.Len(t, windows, 1)
		assert.Equal(t, 1, windows[0].Attempts)
	}
	assert.Len(t, w.landed(), 6*500)
}

// TestAKilledService is begun in a process of its own, which is killed at one step of a window after the other. The next service
// finishes the window: each row is in the landing once.
func TestAKilledService(t *testing.T) {
	if at := os.Getenv("MULLEIN_TEST_KILL"); at != "" {
		killAt(t, at)
		return
	}
	t.Parallel()
	const steps = 9 // deliveries of a window: four files, a checksum of each, and the list
	for step := range steps {
		t.Run(fmt.Sprint(step), func(t *testing.T) {
			t.Parallel()
			w := newWorkplace(t)
			w.numbers(1, 1000)
			w.put(numbers)
			require.NoError(t, w.Ledger.WantExtract(context.Background(), "n", "ada"))
			child := exec.Command(os.Args[0], "-test.run", "^TestAKilledService$")
			child.Env = append(os.Environ(), "MULLEIN_TEST_KILL="+fmt.Sprint(step), "MULLEIN_TEST_URL="+w.url, "MULLEIN_TEST_ROOT="+w.root,
				"MULLEIN_TEST_SERVICE="+w.Service, "MULLEIN_TEST_FOLDER="+w.Folder)
			out, err := child.CombinedOutput()
			var exit *exec.ExitError
			require.ErrorAs(t, err, &exit, string(out))
			require.Equal(t, syscall.SIGKILL, exit.Sys().(syscall.WaitStatus).Signal(), string(out))
			w.numbers(1001, 1100) // which is of the next window
			w.start()
			windows := w.atRest("n")
			require.Len(t, windows, 1)
			assert.Equal(t, ledger.RunDone, windows[0].State, windows[0].Reason)
			assert.Equal(t, 2, windows[0].Attempts)
			assert.Len(t, w.landed(), 1000)
			w.ran("n")
			assert.Len(t, w.landed(), 1100)
			entries, err := os.ReadDir(w.Folder)
			assert.NoError(t, err)
			assert.Empty(t, entries, "nothing is left aside")
		})
	}
}

// killAt works an extract, and kills its process at a delivery.
func killAt(t *testing.T, at string) {
	w := &workplace{t: t, url: os.Getenv("MULLEIN_TEST_URL"), root: os.Getenv("MULLEIN_TEST_ROOT")}
	w.open(os.Getenv("MULLEIN_TEST_SERVICE"), os.Getenv("MULLEIN_TEST_FOLDER"))
	n := -1
	w.deliver = func(string) error {
		if n++; fmt.Sprint(n) == at {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		return nil
	}
	w.start()
	<-t.Context().Done()
}

// TestARunMakesUpForDays writes each day that is over, in one run.
func TestARunMakesUpForDays(t *testing.T) {
	t.Parallel()
	w := newWorkplace(t)
	w.start()
	statements(t, w.url, "CREATE SCHEMA river; CREATE TABLE river.n (id int, at timestamptz)",
		"INSERT INTO river.n SELECT g, now() - interval '40 days' + g * interval '12 hours' FROM generate_series(1, 80) g")
	w.put("extract: n\nfrom: {table: river.n}\nnew: {day: at}\nfiles: {at: out, name: 'N_{window:%Y%m%d}.csv'}\n")
	windows := w.ran("n")
	assert.GreaterOrEqual(t, len(windows), 39) // 40 before noon
	rows := 0
	for _, line := range windows {
		rows += int(line.Rows)
	}
	assert.Len(t, w.landed(), rows)
	x, err := w.Ledger.Extract(context.Background(), "n")
	require.NoError(t, err)
	assert.Equal(t, time.Now().UTC().Format(time.DateOnly), x.Mark, "today is not over")
}
