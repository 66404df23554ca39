package bench

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// another starts one more service on the same database and landing, and returns
// what stops it.
func (h *bench) another() (stop func()) {
	binary, err := filepath.Abs("../../bin/mullein")
	require.NoError(h.b, err)
	process := exec.Command(binary, "serve", "--home", filepath.Join(h.dir, "home2"), "--listen", "127.0.0.1:0",
		"--database", h.pg.URL(), "--landing-root", filepath.Join(h.dir, "home", "landings"))
	require.NoError(h.b, process.Start())
	stop = sync.OnceFunc(func() {
		_ = process.Process.Signal(syscall.SIGTERM)
		_ = process.Wait()
	})
	h.b.Cleanup(stop)
	h.services(2)
	return stop
}

// services waits until so many are at work.
func (h *bench) services(n int) {
	require.Eventually(h.b, func() bool {
		status, err := h.client.Status(h.ctx)
		require.NoError(h.b, err)
		return len(status.Services) == n
	}, time.Minute, 50*time.Millisecond)
}

const (
	manyFiles = 10_000
	fileRows  = 100
)

// small writes files of a hundred rows into a folder, a share of them bad, and
// gives how many are.
func (h *bench) small(folder, feed string, n int) (bad int) {
	require.NoError(h.b, os.MkdirAll(folder, 0o755))
	for i := range n {
		at := time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * time.Minute)
		var text strings.Builder
		text.WriteString("Station;Time;Level;Flow;Quality;Revised\n")
		for s := range fileRows {
			fmt.Fprintf(&text, "SR%04d;%s;%d,%03d;%d,%02d;G;%s\n", s, at.Format("02.01.2006 15:04"), i%5, s, i%900, s,
				at.Format("02.01.2006 15:04"))
		}
		if i%1000 == 500 {
			text.WriteString("bad\n")
			bad++
		}
		require.NoError(h.b,
			os.WriteFile(filepath.Join(folder, fmt.Sprintf("%s_K1_%s.csv", feed, at.Format("20060102T1504"))),
				[]byte(text.String()), 0o644))
	}
	return bad
}

// taken lets files come to the landing at once, waits until all are loaded but
// the bad ones, and returns how long it took from the first notice to the last load.
func (h *bench) taken(bad int, feeds ...string) time.Duration {
	for _, feed := range feeds {
		require.NoError(h.b, os.Rename(filepath.Join(h.dir, feed), filepath.Join(h.landing(), feed)))
	}
	require.Eventually(h.b, func() bool { // seldom, since two processors have enough to do
		var open, loaded int
		require.NoError(h.b, h.db.QueryRow(h.ctx, `SELECT count(*) FILTER (WHERE finished_at IS NULL),
			count(*) FILTER (WHERE state = 'loaded') FROM mullein_records.arrival WHERE feed = ANY($1)`,
			feeds).Scan(&open, &loaded))
		return open == 0 && loaded == manyFiles-bad
	}, 5*time.Minute, time.Second)
	var took float64
	require.NoError(h.b, h.db.QueryRow(h.ctx, `SELECT extract(epoch FROM max(finished_at) - min(noticed_at))
		FROM mullein_records.arrival WHERE feed = ANY($1)`, feeds).Scan(&took))
	var rows int
	for _, feed := range feeds {
		var n int
		require.NoError(h.b, h.db.QueryRow(h.ctx, `SELECT count(*)
			FROM river.`+strings.ReplaceAll(feed, "-", "_")).Scan(&n))
		rows += n
	}
	require.Equal(h.b, (manyFiles-bad)*fileRows, rows, "each row once")
	return time.Duration(took * float64(time.Second))
}

// own returns a feed a landing of its own, so that feeds do not list each
// other's files.
func own(feed string) string {
	return strings.Replace(definition(feed, "14d"), "at: in,", "at: in/"+feed+",", 1)
}

// BenchmarkManySmallFiles loads 10,000 files of 100 rows for one feed; then for
// four feeds by one service, by two, by two, and by one again, since the ledger
// grows meanwhile.
func BenchmarkManySmallFiles(b *testing.B) {
	h := start(b)
	for b.Loop() {
		bad := h.small(filepath.Join(h.dir, "one"), "one", manyFiles)
		_, err := h.client.PutFeed(h.ctx, "one", "one.yaml", own("one"))
		require.NoError(b, err)
		took := h.taken(bad, "one")
		b.ReportMetric(manyFiles/took.Seconds(), "files/s")
		b.ReportMetric(h.memory(), "MB")
		four := func(prefix string) time.Duration {
			var feeds []string
			bad := 0
			for i := range 4 {
				feed := fmt.Sprintf("%s-%d", prefix, i)
				bad += h.small(filepath.Join(h.dir, feed), feed, manyFiles/4)
				_, err := h.client.PutFeed(h.ctx, feed, feed+".yaml", own(feed))
				require.NoError(b, err)
				feeds = append(feeds, feed)
			}
			h.quiet()
			return h.taken(bad, feeds...)
		}
		alone := four("alone")
		stop := h.another()
		both := four("both") + four("twice")
		stop()
		h.services(1)
		alone += four("again")
		b.ReportMetric(2*manyFiles/alone.Seconds(), "files/s-four-feeds")
		b.ReportMetric(alone.Seconds()/both.Seconds(), "x-two-services")
		var twice int
		require.NoError(b, h.db.QueryRow(h.ctx, `SELECT count(*) FROM (SELECT arrival FROM mullein.load
			GROUP BY arrival HAVING count(*) > 1) t`).Scan(&twice))
		require.Zero(b, twice)
	}
}

// past has four feeds that rest, and so many arrivals of theirs in the ledger.
func (h *bench) past(arrivals int) {
	feeds := []string{"gauges", "stations", "lab", "buoys"}
	for _, feed := range feeds {
		_, err := h.client.PutFeed(h.ctx, feed, feed+".yaml", definition(feed, "14d"))
		require.NoError(h.b, err)
		require.NoError(h.b, h.client.Pause(h.ctx, feed))
	}
	_, err := h.db.Exec(h.ctx, `INSERT INTO mullein_records.arrival (feed, path, size, modified, inode, sha256, state, reason, captures,
		slot, noticed_at, came_at, ready_at, finished_at, balance)
		SELECT (ARRAY['gauges','stations','lab','buoys'])[1 + i % 4], 'archive/G_K' || i % 3 || '_' || i || '.csv',
		1000 + i % 7000, t, i, md5(i::text),
			CASE WHEN i % 997 = 0 THEN 'refused' WHEN i % 101 = 0 THEN 'skipped' ELSE 'loaded'
			END, '', jsonb_build_object('catchment', 'K' || i % 3), t, t, t, t, t,
			'{"read":100,"inserted":90,"updated":10,"unchanged":0,"outdated":0,"kept":0,"deleted":0,"duplicate":0,"rejected":0,"left_out":0,"withheld":0,"removed":0}'
		FROM (SELECT i, now() - ($1 - i) * interval '5 seconds' AS t FROM generate_series(1, $1::integer) i) s`, arrivals)
	require.NoError(h.b, err)
}

// BenchmarkLargeLedger loads 10,000 files of 100 rows for one feed before there are MULLEIN_ARRIVALS arrivals of
// others in the ledger, a million if not given, and for another afterwards.
func BenchmarkLargeLedger(b *testing.B) {
	h := start(b)
	for b.Loop() {
		files := func(feed string) time.Duration {
			bad := h.small(filepath.Join(h.dir, feed), feed, manyFiles)
			h.exec("ANALYZE")
			h.quiet()
			_, err := h.client.PutFeed(h.ctx, feed, feed+".yaml", own(feed))
			require.NoError(b, err)
			return h.taken(bad, feed)
		}
		before := files("before")
		h.past(drawnArrivals)
		after := files("after")
		b.ReportMetric(manyFiles/before.Seconds(), "files/s-empty-ledger")
		b.ReportMetric(manyFiles/after.Seconds(), "files/s-large-ledger")
		b.ReportMetric(after.Seconds()/before.Seconds(), "x-as-long")
		b.ReportMetric(h.memory(), "MB")
	}
}

// BenchmarkPages asks for what pages show, over a ledger of a million
// arrivals, and reports the 95th percentile.
func BenchmarkPages(b *testing.B) {
	h := start(b)
	h.past(1_000_000)
	h.exec(`INSERT INTO mullein_records.slot (feed, due_at, name_at, per, per_key, state, files, came, late_at,
		missing_at)
		SELECT f, t, t, '{}', k, 'on time', 1, 1, t, t FROM unnest(ARRAY['gauges','stations','lab','buoys']) f,
		unnest(ARRAY['K1','K2','K3']) k,
			generate_series(now() - interval '30 days', now(), interval '15 minutes') t`)
	h.exec("ANALYZE")
	h.quiet()
	month := fmt.Sprintf("/feeds/gauges/slot-counts?from=%s&to=%s",
		time.Now().UTC().AddDate(0, 0, -30).Format("2006-01-02T15:04:05Z"),
		time.Now().UTC().Format("2006-01-02T15:04:05Z"))
	day := time.Now().UTC().AddDate(0, 0, -30)
	pages := map[string]func(before int64) string{
		"status":         func(int64) string { return "/status" },
		"day":            func(int64) string { return "/day" },
		"feed":           func(int64) string { return "/feeds/gauges" },
		"month":          func(int64) string { return month },
		"ledger":         func(before int64) string { return fmt.Sprintf("/arrivals?before=%d", before) },
		"ledger-of-feed": func(before int64) string { return fmt.Sprintf("/arrivals?feed=lab&before=%d", before) },
		"ledger-refused": func(before int64) string { return fmt.Sprintf("/arrivals?state=refused&limit=10&before=%d", before) },
		"ledger-of-a-day": func(before int64) string {
			return fmt.Sprintf("/arrivals?since=%s&until=%s&before=%d", day.Format(time.RFC3339), day.AddDate(0, 0, 1).Format(time.RFC3339),
				before)
		},
		"ledger-by-text":  func(before int64) string { return fmt.Sprintf("/arrivals?text=G_K1&before=%d", before) },
		"ledger-no-match": func(before int64) string { return fmt.Sprintf("/arrivals?text=nowhere&before=%d", before) },
		"runs":            func(before int64) string { return fmt.Sprintf("/runs?before=%d", before) },
	}
	for b.Loop() {
		for _, name := range slices.Sorted(maps.Keys(pages)) {
			var times []time.Duration
			before := int64(0)
			for range 100 { // the first page to the hundredth
				began := time.Now()
				next := h.page(pages[name](before))
				times = append(times, time.Since(began))
				if strings.HasPrefix(name, "ledger") && next > 0 {
					before = next
				}
			}
			slices.Sort(times)
			b.ReportMetric(float64(times[94].Microseconds())/1000, name+"-ms")
			b.Logf("%s: median %v, 95th percentile %v, worst %v", name, times[49], times[94], times[99])
		}
	}
}

// page asks for an address of the API and returns the number where its next page begins, 0
// for none.
func (h *bench) page(path string) int64 {
	var out struct {
		Next any `json:"next"`
	}
	require.NoError(h.b, h.client.Get(h.ctx, path, &out), path)
	next, _ := out.Next.(float64)
	return int64(next)
}
