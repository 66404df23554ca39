package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheConsoleIsForEveryone opens each page in both themes, and on a phone: axe-core finds
// nothing against WCAG 2.2 AA, and nothing stands beyond the edge of the phone.
func TestTheConsoleIsForEveryone(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	s := serve(t).example()
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live")
	pages := []struct{ at, sees string }{
		{"/today", "Needs a person"}, {"/feeds", "gauge-readings"}, {"/feeds/gauge-readings", "Waiting"},
		{"/feeds/gauge-readings?show=rows", "station_id"}, {"/feeds/gauge-readings?show=rejects", "Reason"},
		{"/feeds/gauge-readings?show=checks", "Check"}, {"/feeds/gauge-readings?show=landing", "Captures"},
		{"/feeds/gauge-readings?show=definition", "version"}, {"/feeds/gauge-readings/edit", "Change"},
		{"/new-feed", "Choose files"}, {"/rehearsal", "Choose a feed file"}, {"/feeds/gauge-readings/rehearsal", "It would be"},
		{"/rejects", "Rejects"}, {"/ledger", "GAUGE_"}, {"/arrivals/1", "Where every row went"}, {"/due", "Due"}, {"/runs", "Services"},
		{"/targets/river.gauge_reading", "gauge_reading"}, {"/notices", "Notices"}, {"/volumes", "Volumes"}, {"/extracts", "Extracts"},
		{"/places", "Places"}, {"/people", "People"},
	}
	for _, phone := range []bool{false, true} {
		if phone {
			b.do(chromedp.EmulateViewport(390, 844))
		}
		for _, theme := range []string{"light", "dark"} {
			b.script("localStorage.setItem('theme', %q)", theme)
			for _, page := range pages {
				what := fmt.Sprintf("%s, %s, phone: %v", page.at, theme, phone)
				b.do(chromedp.Navigate(s.URL + page.at))
				b.sees(page.sees)
				b.picture(strings.NewReplacer("/", "_", "?", "_", "=", "_").Replace(fmt.Sprintf("%s-%s-%v", page.at, theme, phone)))
				if phone {
					width, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.documentElement.scrollWidth"))
					require.NoError(t, err)
					assert.LessOrEqual(t, width, 390, what)
					continue
				}
				b.script("%s", axe)
				found, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](`axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']})
					.then((r) => r.violations.flatMap((v) => v.nodes.map((n) => v.id + ' ' + n.target + ' ' + (n.any[0]?.message ?? ''))))`,
					chromedp.EvalAwaitPromise))
				require.NoError(t, err)
				assert.Empty(t, found, what)
			}
		}
	}
	assert.Empty(t, b.complaints)
}
