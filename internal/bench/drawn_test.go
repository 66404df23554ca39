package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/css"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

const (
	drawnFeeds  = 2000
	drawnRows   = 50_000 // of the table that is scrolled
	drawnSample = 5000   // rows of the file that a feed is made from
	drawnRounds = 7
)

// drawnArrivals is how many arrivals there are, MULLEIN_ARRIVALS or a million.
var drawnArrivals = func() int {
	if n, err := strconv.Atoi(os.Getenv("MULLEIN_ARRIVALS")); err == nil {
		return n
	}
	return 1_000_000
}()

// eyes is a Chromium in which the console of a service is open.
type eyes struct {
	b   *testing.B
	ctx context.Context
	url string
}

// open starts a Chromium and signs in.
func open(b *testing.B, s *service) *eyes {
	flags := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true), chromedp.WindowSize(1280, 800))
	allocated, stop := chromedp.NewExecAllocator(context.Background(), flags...)
	b.Cleanup(stop)
	ctx, stop := chromedp.NewContext(allocated)
	b.Cleanup(stop)
	address, err := os.ReadFile(filepath.Join(s.home, "address"))
	require.NoError(b, err)
	token, err := os.ReadFile(filepath.Join(s.home, "owner.token"))
	require.NoError(b, err)
	e := &eyes{b: b, ctx: ctx, url: strings.TrimSpace(string(address))}
	e.goes("/healthz")
	// People have no developer's tools open, which follow each node and each style sheet.
	for _, off := range []cdp.Command[cdp.Empty, cdp.Empty]{css.Disable, dom.Disable, network.Disable, log.Disable} {
		_, err := chromedp.Call(ctx, off, cdp.Empty{})
		require.NoError(b, err)
	}
	e.number(fmt.Sprintf(`fetch('/api/v1/session', {method: 'POST', headers: {'Content-Type': 'application/json'},
		body: JSON.stringify({token: %q})}).then((r) => r.status)`, strings.TrimSpace(string(token))))
	return e
}

func (e *eyes) goes(path string) {
	e.b.Helper()
	require.NoError(e.b, chromedp.Do(e.ctx, chromedp.Navigate(e.url+path)))
}

// number is what a script ends with.
func (e *eyes) number(script string) float64 {
	e.b.Helper()
	ctx, cancel := context.WithTimeout(e.ctx, time.Minute)
	defer cancel()
	n, err := chromedp.Run(ctx, chromedp.Evaluate[float64]("(async () => { return await ("+script+") })()", chromedp.EvalAwaitPromise))
	require.NoError(e.b, err, script)
	return n
}

// seen is a script that ends with the time of the page at which something is drawn.
func seen(is string) string {
	return `new Promise((done) => {
		const look = () => ` + is + ` ? requestAnimationFrame(() => done(performance.now())) : setTimeout(look, 2)
		look()
	})`
}

// holds is a script for whether the page's main part holds a text.
func holds(text string) string {
	return fmt.Sprintf("(document.querySelector('main')?.textContent ?? '').includes(%q)", text)
}

// reports reports a figure, also where a later one is not reached.
func (e *eyes) reports(name string, figure float64) {
	e.b.Logf("%s: %.1f", name, figure)
	e.b.ReportMetric(figure, name)
}

// median measures something some times.
func (e *eyes) median(measure func() float64) float64 {
	var took []float64
	for range drawnRounds {
		took = append(took, measure())
	}
	slices.Sort(took)
	return took[len(took)/2]
}

// BenchmarkDrawn looks at the console of a service with 2,000 feeds and 1,000,000 arrivals: how long its pages take
// until they are drawn, from the call of the first and from the click of the others, in milliseconds; how an edit of a
// feed file shows in a sample of 5,000 rows; and how 50,000 rows scroll.
func BenchmarkDrawn(b *testing.B) {
	for b.Loop() {
		drawnPages(open(b, large(b)))
	}
}

func drawnPages(e *eyes) {
	e.goes("/today")
	e.number(seen(holds("water-")))
	e.reports("KB-of-JavaScript", e.number(`performance.getEntriesByType('resource').filter((r) => /\.js$/.test(r.name)).reduce((n, r) => n + r.encodedBodySize, 0)`)/1000)
	for _, p := range []struct{ name, page, drawn string }{
		{"feeds", "Feeds", holds("water-0010")}, {"ledger", "Ledger", holds("TEMP_")}, {"rejects", "Rejects", holds("rejected")},
		{"due", "Due", `document.querySelector('.month td')`}, {"runs", "Runs", holds("Services")}, {"chains", "Chains", holds("water")},
		{"notices", "Notices", holds("Outlets")}, {"volumes", "Volumes", `document.querySelector('canvas') && ` + holds("By time")},
		{"extracts", "Extracts", holds("Extracts")}, {"places", "Places", holds("Places")}, {"today", "Today", holds("water-")},
	} {
		e.reports("ms-"+p.name, e.median(func() float64 {
			e.goes("/people")
			e.number(seen(holds("Tokens")))
			time.Sleep(3 * time.Second) // as a person who looks before the click
			return e.number(fmt.Sprintf(`(() => {
				const began = performance.now()
				;[...document.querySelectorAll('header a')].find((a) => a.textContent === %q).click()
				return %s.then((at) => at - began)
			})()`, p.page, seen(p.drawn)))
		}))
	}
	e.reports("ms-first", e.median(func() float64 {
		e.goes("/today")
		return e.number(seen(holds("water-") + ` && document.querySelector('.ruler, svg')`))
	}))
	e.reports("ms-typing", typing(e))
	worst, usual := scrolling(e)
	e.reports("ms-frame-p95", usual)
	e.reports("ms-frame-worst", worst)
}

// typing measures from a key in the editor of a feed file until the sample shows what it changes.
func typing(e *eyes) float64 {
	var file strings.Builder
	file.WriteString("station_id,measured_at,celsius,note\n")
	for i := range drawnSample {
		fmt.Fprintf(&file, "SR%04d,2026-07-01T%02d:%02d:%02dZ,%d.%d,as usual\n", i%97, i/3600, i/60%60, i%60, i%30, i%10)
	}
	text, err := json.Marshal(file.String())
	require.NoError(e.b, err)
	e.goes("/new-feed")
	e.number(seen("document.querySelector('input[type=file]')"))
	e.number(fmt.Sprintf(`(() => {
		const list = new DataTransfer()
		list.items.add(new File([%s], 'TEMP_20260701.csv'))
		const input = document.querySelector('input[type=file]')
		input.files = list.files
		input.dispatchEvent(new Event('change'))
		return %s
	})()`, text, seen(`document.querySelectorAll('.sample tbody tr').length > 10`)))
	derived := "[...document.querySelectorAll('.sample th')].some((h) => h.textContent.includes('warm_now'))"
	return e.median(func() float64 {
		took := e.number(fmt.Sprintf(`(() => {
			const at = document.querySelector('.cm-content')
			at.focus()
			getSelection().setPosition(at.querySelector('.cm-line'), 0)
			const began = performance.now()
			document.execCommand('insertText', false, 'derive: {warm_now: row.celsius > 20.0}\n')
			return %s.then((at) => at - began)
		})()`, seen(derived)))
		e.number(fmt.Sprintf(`(() => {
			document.querySelector('.cm-content').dispatchEvent(new KeyboardEvent('keydown', {key: 'z', keyCode: 90, ctrlKey: true, bubbles: true, cancelable: true}))
			return %s
		})()`, seen("!"+derived)))
		time.Sleep(time.Second) // between two keys
		return took
	})
}

// scrolling measures the time between the frames while the rows of a large table go by, in milliseconds.
func scrolling(e *eyes) (worst, usual float64) {
	e.goes("/targets/river.levels?order=ascending")
	e.number(seen("document.querySelector('table[data-table=\"river.levels\"] tbody td')"))
	e.number(`(async () => {
		const more = [...document.querySelectorAll('button')].find((b) => b.textContent.includes('More rows'))
		more.click()
		const wait = (ms) => new Promise((done) => setTimeout(done, ms))
		for (let still = 0, last = 0; still < 100; ) {
			const box = document.querySelector('.high')
			if (box) box.scrollTop = box.scrollHeight
			await wait(50)
			const now = box?.scrollHeight ?? 0
			still = now === last ? still + 1 : 0
			last = now
		}
		return 0
	})()`)
	rows := e.number(`Math.round(document.querySelector('.high').scrollHeight / 29)`)
	require.Greater(e.b, rows, float64(drawnRows)*0.98, "all rows are there")
	frames := func(of string) float64 {
		return e.number(`(async () => {
			const box = document.querySelector('.high')
			const frame = () => new Promise(requestAnimationFrame)
			const took = []
			box.scrollTop = 0
			await frame()
			let last = await frame()
			for (let i = 0; i < 240; i++) {
				box.scrollTop += i % 60 === 59 ? 300000 : 900
				const now = await frame()
				took.push(now - last)
				last = now
			}
			took.sort((a, b) => a - b)
			return took[` + of + `]
		})()`)
	}
	return frames("239"), frames("228")
}

// large starts a service over records of 2,000 feeds with a million arrivals, and one table with rows.
func large(b *testing.B) *service {
	ctx := context.Background()
	dir, pg := ownPostgres(b)
	root := filepath.Join(dir, "landings")
	waterFeeds(b, pg.URL(), root, drawnFeeds)
	db, err := pgx.Connect(ctx, pg.URL())
	require.NoError(b, err)
	defer db.Close(ctx)
	do := func(sql string, args ...any) {
		_, err := db.Exec(ctx, sql, args...)
		require.NoError(b, err)
	}
	do(`INSERT INTO mullein_records.arrival (feed, path, size, modified, inode, sha256, state, reason, captures,
		slot, noticed_at, came_at, ready_at, finished_at, balance)
		SELECT 'water-' || lpad((i % $1)::text, 4, '0'), 'TEMP_' || i || '.csv', 1000 + i % 7000, t, i, md5(i::text),
			CASE WHEN i % 9973 = 0 THEN 'refused' WHEN i % 101 = 0 THEN 'skipped' ELSE 'loaded' END, '', '{}', t, t, t, t, t,
			'{"read":100,"inserted":90,"updated":10,"unchanged":0,"outdated":0,"kept":0,"deleted":0,"duplicate":0,"rejected":0,"left_out":0,"withheld":0,"removed":0}'
		FROM (SELECT i, now() - ($2 - i) * interval '5 seconds' AS t FROM generate_series(1, $2) i) s`, drawnFeeds, drawnArrivals)
	do(`INSERT INTO mullein_records.slot (feed, due_at, name_at, per, per_key, state, files, came, late_at, missing_at)
		SELECT 'water-' || lpad(n::text, 4, '0'), t, t, '{}', '', CASE WHEN n % 97 = 0 AND t > now() - interval '1 day' THEN 'missing' ELSE 'on time' END, 1, 1, t, t
		FROM generate_series(0, $1 - 1) n, generate_series(date_trunc('day', now()) - interval '29 days 18 hours', now(), interval '1 day') t
		ON CONFLICT DO NOTHING`, drawnFeeds)
	do("INSERT INTO mullein_records.volume (feed, hour, files, bytes, read, written, seconds) SELECT 'water-' || lpad(n::text, 4, '0'), date_trunc('hour', now()) - h * interval '1 hour', 2, 4000, 200, 200, 1 FROM generate_series(0, $1 - 1) n, generate_series(0, 23, 3) h", drawnFeeds)
	do("UPDATE mullein_records.feed SET due_after = $1", drawnArrivals) // arrivals were held against slots when they came
	do("VACUUM ANALYZE")                                                // not while it is measured
	s := serve(b, dir, "one", pg.URL(), root)
	s.connect(b)
	require.NoError(b, os.MkdirAll(filepath.Join(root, "levels"), 0o755))
	var file strings.Builder
	file.WriteString("station_id,day,level_m\n")
	for i := range drawnRows {
		fmt.Fprintf(&file, "SR%05d,2026-07-01,%d.%d\n", i, i%9, i%10)
	}
	require.NoError(b, os.WriteFile(filepath.Join(root, "levels", "LEVELS.csv"), []byte(file.String()), 0o644))
	_, err = s.client.PutFeed(ctx, "levels", "levels.yaml", `feed: levels
landing: {at: levels, files: LEVELS.csv, settle: 100ms}
schema: {fields: [{name: station_id}, {name: day, type: date}, {name: level_m, type: number}], primaryKey: [station_id]}
target: {table: river.levels}
`)
	require.NoError(b, err)
	for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(time.Second) {
		var listed, loaded int
		require.NoError(b, db.QueryRow(ctx, "SELECT count(*) FROM mullein_records.feed WHERE listed_at IS NOT NULL").Scan(&listed))
		require.NoError(b, db.QueryRow(ctx, "SELECT count(*) FROM mullein_records.arrival WHERE feed = 'levels' AND state = 'loaded'").Scan(&loaded))
		if listed == drawnFeeds+1 && loaded == 1 {
			break
		}
		require.True(b, time.Now().Before(deadline), "%d feeds are listed, %d files loaded", listed, loaded)
	}
	time.Sleep(40 * time.Second) // what follows a start is over
	return s
}
