package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheConsoleIsForEveryone opens each page in both themes, and on a phone: axe-core finds
// nothing against WCAG 2.2 AA, and nothing stands beyond the edge of the phone. Whose system asks for less motion has none.
func TestTheConsoleIsForEveryone(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	pages := []page{
		{"/today", "Needs a person"}, {"/feeds", "gauge-readings"}, {"/feeds/gauge-readings", "Waiting"},
		{"/feeds/gauge-readings?show=rows", "station_id"}, {"/feeds/gauge-readings?show=rejects", "By what they broke"},
		{"/feeds/gauge-readings?show=checks", "Checks"}, {"/feeds/gauge-readings?show=landing", "GAUGE_"},
		{"/feeds/gauge-readings?show=definition", "primaryKey"}, {"/feeds/gauge-readings/edit", "Change"},
		{"/new-feed", "Choose files"}, {"/rehearsal", "Choose a feed file"}, {"/feeds/gauge-readings/rehearsal", "It would be"},
		{"/feeds/gauge-readings?show=times", "Together"}, {"/arrivals/2/recall", "become of the rows"},
		{"/rejects", "Rejects"}, {"/ledger", "GAUGE_"}, {"/arrivals/1", "Where every row went"}, {"/due", "Due"}, {"/runs", "Services"}, {"/chains", "gauge-readings"},
		{"/targets/river.gauge_reading", "gauge_reading"}, {"/notices", "Notices"}, {"/volumes", "Volumes"}, {"/extracts", "Extracts"},
		{"/places", "Places"}, {"/settings", "Settings"}, {"/people", "Tokens"},
	}
	half := len(pages) / 2
	for name, pages := range map[string][]page{"one half": pages[:half], "the other": pages[half:]} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := serve(t).example()
			b := browse(t)
			b.do(chromedp.Navigate(s.SignIn))
			b.sees("Today", "live")
			b.movesLess(s)
			for _, p := range pages {
				b.isForEveryone(s, p, string(axe))
			}
			assert.Empty(t, b.complaints)
		})
	}
}

// page is a page of the console, and what is seen on it.
type page struct{ at, sees string }

// isForEveryone looks at one page in both themes, and at three widths.
func (b *browser) isForEveryone(s *service, page page, axe string) {
	t := b.t
	t.Helper()
	b.do(chromedp.Navigate(s.URL + page.at))
	b.sees(page.sees)
	b.when("document.querySelector('h1') !== null")
	b.script("%s", axe)
	// The button names the other theme, which differs in its colours alone.
	for _, look := range []struct{ theme, rules string }{{"Dark", `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']`}, {"Light", `['color-contrast']`}} {
		theme, rules := look.theme, look.rules
		found, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](fmt.Sprintf(audit, rules), chromedp.EvalAwaitPromise))
		require.NoError(t, err)
		assert.Empty(t, found, "%s, the theme that %s ends", page.at, theme)
		b.press(theme)
		b.when("document.documentElement.getAttribute('data-theme') === %q", strings.ToLower(theme))
	}
	for _, screen := range []int64{1920, 640, 390} { // 640 is a desk of 1280 at 200 %
		b.do(chromedp.EmulateViewport(screen, 844))
		width, err := chromedp.Run(b.ctx, chromedp.Evaluate[int64](drawnWidth, chromedp.EvalAwaitPromise))
		require.NoError(t, err)
		assert.LessOrEqual(t, width, screen, page.at)
	}
	b.picture(strings.NewReplacer("/", "_", "?", "_", "=", "_").Replace(page.at))
	b.do(chromedp.EmulateViewport(1280, 800))
}

// movesLess has the browser say that its reader asks for less motion: what moved by degrees does so no more.
func (b *browser) movesLess(s *service) {
	b.t.Helper()
	b.do(chromedp.Navigate(s.URL + "/ledger"))
	b.sees("GAUGE_K1_20260701T1200.csv")
	moving := func() int {
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`[...document.querySelectorAll('*')].filter((e) => {
			const s = getComputedStyle(e)
			return [...s.transitionDuration.split(','), ...s.animationDuration.split(',')].some((d) => parseFloat(d) > 0.001)
		}).length`))
		require.NoError(b.t, err)
		return n
	}
	assert.Positive(b.t, moving(), "fields change their colours by degrees")
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
		{Name: "prefers-reduced-motion", Value: "reduce"}}})
	require.NoError(b.t, err)
	assert.True(b.t, until(func() bool { return moving() == 0 }), "what was on its way comes to its end")
}

// TestAPageThatIsOpenForADay finds anything by a key, and does not grow with what happens.
func TestAPageThatIsOpenForADay(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live", "gauge-readings")
	b.script(`window.dispatchEvent(new KeyboardEvent('keydown', {key: 'k', ctrlKey: true}))`)
	b.do(chromedp.SendKeys(`input[type=search]`, "gauge"))
	b.picture("search")
	b.sees("river.gauge_reading", "GAUGE_")
	b.do(chromedp.SendKeys(`input[type=search]`, "\r"))
	b.sees("Upper Catchment Office")
	b.doesNotGrow(s)
	assert.Empty(t, b.complaints)
}

const (
	// audit lists what axe-core finds, once nothing moves any more.
	audit = `Promise.all(document.getAnimations().filter((a) => a.effect.getComputedTiming().iterations !== Infinity).map((a) => a.finished.catch(() => 0)))
		.then(() => axe.run(document, {runOnly: %s, resultTypes: ['violations'], preload: false}))
		.then((r) => r.violations.flatMap((v) => v.nodes.map((n) => v.id + ' ' + n.target + ' ' + (n.any[0]?.message ?? ''))))`
	// drawnWidth is how wide a page is, once it is drawn anew.
	drawnWidth = `new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => requestAnimationFrame(() =>
		done(document.documentElement.scrollWidth)))))`
)

// doesNotGrow tells Today of 10,000 changes: what it holds afterwards is no more than what it held after the first
// thousand, but for a tenth.
func (b *browser) doesNotGrow(s *service) {
	t := b.t
	t.Helper()
	b.do(chromedp.Navigate(s.URL + "/today"))
	b.sees("Today", "live", "gauge-readings")
	b.when("document.documentElement.dataset.ahead === 'done'") // the other pages are there
	db, err := pgx.Connect(t.Context(), s.database)
	require.NoError(t, err)
	defer db.Close(t.Context())
	asked := func() int {
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("performance.getEntriesByType('resource').filter((e) => e.name.includes('/api/v1/')).length"))
		require.NoError(t, err)
		return n
	}
	tell := func(events int) {
		for range events / 50 {
			_, err := db.Exec(t.Context(), `SELECT mullein_records.tell(jsonb_agg(jsonb_build_object('kind', 'arrival', 'feed', 'gauge-readings',
				'arrival', 1 + n % 8, 'run', 1, 'state', 'loaded'))) FROM generate_series(1, 50) n`)
			require.NoError(t, err)
		}
		before := asked()
		b.script("performance.clearResourceTimings()")
		_, err := db.Exec(t.Context(), `SELECT mullein_records.tell('[{"kind": "feed", "feed": "gauge-readings", "arrival": 0, "run": 0, "state": "put"}]')`)
		require.NoError(t, err)
		s.eventually(func() bool { return asked() > 0 }) // the last of them has come to the page
		assert.LessOrEqual(t, before, 250, "it asks by rounds, and not by events")
	}
	held := func() (bytes float64, elements int) {
		_, err = chromedp.Call(b.ctx, heapprofiler.CollectGarbage, cdp.Empty{})
		require.NoError(t, err)
		bytes, err = chromedp.Run(b.ctx, chromedp.Evaluate[float64]("performance.memory.usedJSHeapSize"))
		require.NoError(t, err)
		elements, err = chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.querySelectorAll('*').length"))
		require.NoError(t, err)
		return bytes, elements
	}
	tell(1000)
	bytes, elements := held()
	tell(9000)
	bytesThen, elementsThen := held()
	t.Logf("%.1f MB and %d elements after 1,000 changes, %.1f MB and %d after 10,000", bytes/1e6, elements, bytesThen/1e6, elementsThen)
	assert.Less(t, bytesThen, bytes*1.1+1e6)
	assert.LessOrEqual(t, elementsThen, elements+20)
}
