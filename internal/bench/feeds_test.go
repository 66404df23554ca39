package bench

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"mullein/internal/client"
	"mullein/internal/ledger"
	"mullein/internal/localpg"
)

// feedsMany is how many feeds there are, MULLEIN_FEEDS or 5,000.
var feedsMany = func() int {
	if n, err := strconv.Atoi(os.Getenv("MULLEIN_FEEDS")); err == nil {
		return n
	}
	return 5000
}()

// service is a Mullein process of its own.
type service struct {
	process *exec.Cmd
	home    string
	log     string
	client  *client.Client
}

// serve starts a service on a database and a landing root.
func serve(b *testing.B, dir, name, url, root string) *service {
	binary, err := filepath.Abs("../../bin/mullein")
	require.NoError(b, err)
	s := &service{home: filepath.Join(dir, name), log: filepath.Join(dir, name+".log")}
	log, err := os.Create(s.log)
	require.NoError(b, err)
	s.process = exec.Command(binary, "serve", "--home", s.home, "--listen", "127.0.0.1:0", "--database", url,
		"--landing-root", root)
	s.process.Stderr = log
	require.NoError(b, s.process.Start())
	b.Cleanup(func() {
		_ = s.process.Process.Signal(syscall.SIGTERM)
		_ = s.process.Wait()
		log.Close()
	})
	return s
}

// connect waits until the service answers.
func (s *service) connect(b *testing.B) {
	for deadline := time.Now().Add(time.Minute); s.client == nil; time.Sleep(20 * time.Millisecond) {
		require.True(b, time.Now().Before(deadline), "the service does not answer; is bin/mullein built?")
		address, errAddress := os.ReadFile(filepath.Join(s.home, "address"))
		token, errToken := os.ReadFile(filepath.Join(s.home, "owner.token"))
		if errAddress == nil && errToken == nil {
			s.client = client.New(strings.TrimSpace(string(address)), strings.TrimSpace(string(token)))
		}
	}
}

// complaints returns the lines of the service's log that are warnings or errors.
func (s *service) complaints(b *testing.B) (out []string) {
	text, err := os.ReadFile(s.log)
	require.NoError(b, err)
	lines := bufio.NewScanner(bytes.NewReader(text))
	for lines.Scan() {
		if strings.Contains(lines.Text(), `"ERROR"`) || strings.Contains(lines.Text(), `"WARN"`) {
			out = append(out, lines.Text())
		}
	}
	return out
}

// processor is how many seconds of a processor a process has used, and those of its
// children that have ended.
func processor(b *testing.B, of ...int) (seconds float64) {
	const ticks = 100 // a second, as Linux tells them
	for _, pid := range of {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			continue // it has ended, and its parent has its time
		}
		fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
		for _, field := range fields[11:15] {
			n, err := strconv.ParseFloat(field, 64)
			require.NoError(b, err)
			seconds += n / ticks
		}
	}
	return seconds
}

// measure is how many seconds of a processor two services and their database have
// used.
func measure(b *testing.B, services []*service, db *pgx.Conn) (out [3]float64) {
	for i, s := range services {
		out[i] = processor(b, s.process.Process.Pid)
	}
	out[2] = processor(b, backends(b, db)...)
	return out
}

// resident is the resident memory of a process, in MB.
func resident(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	require.NoError(b, err)
	pages, err := strconv.ParseFloat(strings.Fields(string(text))[1], 64)
	require.NoError(b, err)
	return pages * float64(os.Getpagesize()) / 1e6
}

// backends are the processes of a PostgreSQL.
func backends(b *testing.B, db *pgx.Conn) (pids []int) {
	var one int
	require.NoError(b, db.QueryRow(context.Background(), "SELECT pg_backend_pid()").Scan(&one))
	parent := func(pid int) int {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return 0
		}
		n, err := strconv.Atoi(strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))[1])
		require.NoError(b, err)
		return n
	}
	postmaster := parent(one)
	all, err := os.ReadDir("/proc")
	require.NoError(b, err)
	for _, entry := range all {
		if pid, err := strconv.Atoi(entry.Name()); err == nil && (pid == postmaster || parent(pid) == postmaster) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// p95 is the time below which 95 of a hundred calls stay, in milliseconds.
func p95(b *testing.B, call func() error) float64 {
	const calls = 60
	var took []time.Duration
	for range calls {
		began := time.Now()
		require.NoError(b, call())
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took[calls*95/100].Seconds() * 1000
}

// BenchmarkManyFeeds lets two services on one PostgreSQL with its default number of
// connections work thousands of feeds over one landing root, each with a folder, a
// calendar and a table of its own.
// ownPostgres starts a PostgreSQL in a folder of its own.
func ownPostgres(b *testing.B) (dir string, pg *localpg.Server) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("/var/tmp", "mullein-bench-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(dir, 0o755))
	b.Cleanup(func() { os.RemoveAll(dir) })
	pg, err = localpg.Start(ctx, localpg.Options{Dir: dir})
	require.NoError(b, err)
	b.Cleanup(func() { _ = pg.Crash(ctx) })
	return dir, pg
}

func BenchmarkManyFeeds(b *testing.B) {
	for b.Loop() {
		manyFeeds(b)
	}
}

// waterFeeds puts feeds into records, each with a folder, a calendar and a table of its own, before a service is there.
func waterFeeds(b *testing.B, url, root string, many int) {
	ctx := context.Background()
	records, err := ledger.Open(ctx, url)
	require.NoError(b, err)
	var putting errgroup.Group
	putting.SetLimit(8)
	for n := range many {
		name := fmt.Sprintf("water-%04d", n)
		require.NoError(b, os.MkdirAll(filepath.Join(root, name), 0o755))
		putting.Go(func() error {
			_, _, err := records.PutFeed(ctx, name, fmt.Sprintf(`feed: %[1]s
supplier: {name: Office %[2]d}
landing: {at: %[1]s, files: "TEMP_{slot:%%Y%%m%%d}.csv", settle: 1s}
schema:
  fields:
    - {name: station_id, constraints: {required: true, pattern: "SR[0-9]{4}"}}
    - {name: measured_at, type: datetime}
    - {name: celsius, type: number, constraints: {minimum: -2, maximum: 40}}
  primaryKey: [station_id, measured_at]
derive: {warm: row.celsius > 20.0}
due: {cron: "0 6 * * *", late_after: 1h, missing_after: 2h}
target: {table: river.water_%04[3]d}
`, name, n%50, n), "bench")
			return err
		})
	}
	require.NoError(b, putting.Wait())
	require.NoError(b, records.Close())
}

func manyFeeds(b *testing.B) {
	ctx := context.Background()
	dir, pg := ownPostgres(b)
	root := filepath.Join(dir, "landings")
	waterFeeds(b, pg.URL(), root, feedsMany)
	db, err := pgx.Connect(ctx, pg.URL())
	require.NoError(b, err)
	defer db.Close(ctx)
	count := func(query string) (n int) {
		require.NoError(b, db.QueryRow(ctx, query).Scan(&n))
		return n
	}
	most := 0
	until := func(what string, patience time.Duration, reached func() bool) float64 {
		began := time.Now()
		for !reached() {
			require.Less(b, time.Since(began), patience, "%s", what)
			most = max(most, count("SELECT count(*) - 1 FROM pg_stat_activity WHERE backend_type = 'client backend'"))
			time.Sleep(500 * time.Millisecond) // what is asked here takes from what is measured
		}
		return time.Since(began).Seconds()
	}
	services := []*service{serve(b, dir, "one", pg.URL(), root), serve(b, dir, "two", pg.URL(), root)}
	b.ReportMetric(until("all feeds listed", 3*time.Minute, func() bool {
		return count("SELECT count(*) FROM mullein_records.feed WHERE listed_at IS NOT NULL") == feedsMany
	}), "s-start")
	for _, s := range services {
		s.connect(b)
	}
	until("half of the feeds each", time.Minute, func() bool {
		return count("SELECT min(n) FROM (SELECT count(*) AS n FROM mullein_records.feed GROUP BY lease_holder HAVING "+
			"lease_holder IS NOT NULL) h") == feedsMany/2
	})
	day := time.Now().UTC().Format("20060102")
	for n := range feedsMany {
		path := filepath.Join(root, fmt.Sprintf("water-%04d", n), "TEMP_"+day+".csv")
		content := fmt.Sprintf("station_id,measured_at,celsius\nSR%04d,2026-07-01T12:00:00Z,14.2\nSR%04d,2026-07-01T13:00:00Z,24\n", n, n)
		require.NoError(b, os.WriteFile(path+".part", []byte(content), 0o644))
		require.NoError(b, os.Rename(path+".part", path))
	}
	used := measure(b, services, db)
	b.ReportMetric(until("all files loaded", 10*time.Minute, func() bool {
		return count("SELECT coalesce(sum(n), 0) FROM mullein_records.tally WHERE state = 'loaded'") == feedsMany
	}), "s-load")
	for i, now := range measure(b, services, db) {
		b.ReportMetric(now-used[i], []string{"s-cpu-one", "s-cpu-two", "s-cpu-postgres"}[i])
	}
	b.ReportMetric(float64(most), "sessions")
	require.Equal(b, feedsMany, count("SELECT count(*) FROM mullein.load"))
	time.Sleep(20 * time.Second) // what follows a load is over
	// PostgreSQL goes over the catalogs then, which have thousands of new tables.
	quiet := 0
	until("PostgreSQL has cleaned up", 5*time.Minute, func() bool {
		quiet++
		if count("SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'autovacuum worker'") > 0 {
			quiet = 0
		}
		return quiet == 140 // it looks once a minute whether there is something to do
	})
	before := measure(b, services, db)
	const idle = time.Minute
	time.Sleep(idle)
	after := measure(b, services, db)
	for i, what := range []string{"%-idle-one", "%-idle-two", "%-idle-postgres"} {
		b.ReportMetric(100*(after[i]-before[i])/idle.Seconds(), what)
	}
	b.ReportMetric(max(resident(b, services[0].process.Process.Pid), resident(b, services[1].process.Process.Pid)),
		"MB")
	c := services[0].client
	b.ReportMetric(p95(b, func() error { _, err := c.Status(ctx); return err }), "ms-status-p95")
	b.ReportMetric(p95(b, func() error { _, err := c.Feeds(ctx, client.FeedQuery{}); return err }), "ms-feeds-p95")
	b.ReportMetric(p95(b, func() error { _, err := c.Day(ctx); return err }), "ms-today-p95")
	e := open(b, services[0])
	b.ReportMetric(e.median(func() float64 {
		e.goes("/")
		return e.number(seen(holds("water-") + "||" + holds("Office")))
	}), "ms-today-drawn")
	complaints := append(services[0].complaints(b), services[1].complaints(b)...)
	b.ReportMetric(float64(len(complaints)), "complaints")
	for _, line := range complaints[:min(10, len(complaints))] {
		b.Log(line)
	}
}
