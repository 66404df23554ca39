package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/server"
)

// keys presses keys.
func (b *browser) keys(keys string) {
	b.t.Helper()
	b.do(chromedp.KeyEvent(keys))
}

// tabsTo presses Tab until what has the focus is called so, and is seen to have it. The page may still be drawn.
func (b *browser) tabsTo(words string) {
	b.t.Helper()
	const most = 400
	focus := ""
	for range most {
		b.keys(kb.Tab)
		var err error
		focus, err = chromedp.Run(b.ctx, chromedp.Evaluate[string](`(() => {
			const it = document.activeElement
			return it && it !== document.body ? it.ariaLabel || it.innerText || it.placeholder || '' : ''
		})()`))
		require.NoError(b.t, err)
		if strings.Contains(focus, words) {
			b.when(`(() => {
				const it = document.activeElement
				const marked = (e) => e && (getComputedStyle(e).outlineStyle !== 'none' || getComputedStyle(e).boxShadow !== 'none' || getComputedStyle(e).borderColor !== 'rgba(0, 0, 0, 0)')
				return marked(it) || marked(it.parentElement) || marked(it.closest('.n-input, .n-button'))
			})()`)
			return
		}
	}
	require.Fail(b.t, "not reached by Tab", "%q; the focus is at %q", words, focus)
}

// searches goes where a hit of a search leads.
func (b *browser) searches(words, hit string) {
	b.t.Helper()
	b.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.when("document.activeElement?.type === 'search'")
	b.keys(words)
	b.when("document.querySelector('#hits')?.innerText.includes(%q)", hit)
	for range 20 {
		chosen, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf("document.querySelector('#hits [aria-selected=true]')?.innerText.includes(%q) ?? false", hit)))
		require.NoError(b.t, err)
		if chosen {
			break
		}
		b.keys(kb.ArrowDown)
	}
	b.when("document.querySelector('#hits [aria-selected=true]')?.innerText.includes(%q)", hit)
	b.keys(kb.Enter)
}

// says writes a reason where one is asked for, and confirms.
func (b *browser) says(because string) {
	b.t.Helper()
	b.when("document.activeElement?.matches('dialog input')")
	b.keys(because)
	b.keys(kb.Enter)
	b.when("document.querySelector('dialog[open]') === null")
}

// readsFolder has feeds proposed for what lies in a landing folder.
func (b *browser) readsFolder(name string) {
	b.t.Helper()
	b.searches("make a", "Make a feed")
	b.sees("New feed", "Choose files")
	b.tabsTo("Landing folder")
	b.keys(name) // over what stands there, which Tab has chosen
	b.tabsTo("Read what lies there")
	b.keys(kb.Enter)
}

// TestJourneysByKeys does what people do all day without a mouse.
func TestJourneysByKeys(t *testing.T) {
	t.Parallel()
	s := aDay(t)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live", "that came close")

	// A missing file lies there under another name.
	loaded := func() int64 {
		list, err := s.client.Arrivals(t.Context(), client.ArrivalQuery{Feed: "gauge-readings", State: api.ArrivalLoaded, Most: 1})
		require.NoError(t, err)
		return list.Items[0].ID
	}
	before := loaded()
	b.tabsTo("Take it")
	b.keys(kb.Enter)
	b.says("the supplier knows")
	s.eventually(func() bool { return loaded() > before })

	// A slot is found by its clock, and by its number.
	slot := s.aMissingSlot()
	for _, words := range []string{slot.DueAt.Local().Format("gauge 2006-01-02 15:04"), fmt.Sprint(slot.ID)} {
		b.do(chromedp.Navigate(s.URL + "/feeds"))
		b.sees("gauge-readings")
		b.searches(words, slot.DueAt.Local().Format("15:04"))
		b.when("new URLSearchParams(location.search).get('day') === %q && document.querySelector('tr[aria-current]') !== null",
			slot.DueAt.Local().Format(time.DateOnly))
	}

	// A row that was rejected is put right.
	name := "GAUGE_K1_20260601T1200.csv"
	good := strings.Repeat("SR0110;01.06.2026 12:00;2,4;1,0;G;01.06.2026 12:00\n", 9)
	_, err := s.client.Deliver(t.Context(), "gauge-readings", name, strings.NewReader("Station;Time;Level;Flow;Quality;Revised\nSR0101;01.06.2026 12:00;2,4x;1,0;G;01.06.2026 12:00\n"+good), false)
	require.NoError(t, err)
	s.newest(name, api.ArrivalLoaded)
	b.do(chromedp.Navigate(s.URL + "/rejects?feed=gauge-readings&of=gauge-readings&rule=type&column=level_m"))
	b.sees("Click a row to mend it.", name)
	b.tabsTo("2,4x")
	b.keys(kb.Enter)
	b.when("document.activeElement?.tagName === 'TEXTAREA'")
	b.do(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	b.keys("SR0101;01.06.2026 12:00;2,4;1,0;G;01.06.2026 12:00")
	b.sees("1 mended")
	b.tabsTo("Hand in 1")
	b.keys(kb.Enter)
	b.says("an x slipped in")
	s.newest("(mended", api.ArrivalLoaded)

	// A bad load is taken out again.
	bad := loaded()
	b.searches(fmt.Sprint(bad), fmt.Sprintf("Arrival %d", bad))
	b.sees("Where every row went")
	b.tabsTo("Recall…")
	b.keys(kb.Enter)
	b.sees("Some of the rows")
	b.tabsTo("Recall")
	b.keys(kb.Enter)
	b.says("the wrong day")
	s.eventually(func() bool {
		now, err := s.client.Arrival(t.Context(), bad)
		require.NoError(t, err)
		return now.State == api.ArrivalRecalled
	})

	// A feed is made of what lies in a folder.
	folder := filepath.Join(s.home, server.Landings, "depths")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	for day := 1; day <= 3; day++ {
		var text strings.Builder
		text.WriteString("station;read_at;level_m\n")
		for i := range 60 {
			fmt.Fprintf(&text, "SR%04d;2026-07-%02dT%02d:00:00Z;%d.%02d\n", i%20, day, i/20, i%7, i%100)
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("DEPTHS_2026070%d.csv", day)), []byte(text.String()), 0o644))
	}
	b.readsFolder("depths")
	b.sees("60 good, 0 rejected", "It might say besides")
	b.tabsTo("must be there")
	b.keys("t")
	b.sees("The feed file is right.")
	b.tabsTo("Put the feed")
	b.keys(kb.Enter)
	b.sees("Landing", "Waiting")
	feed := s.newest("DEPTHS_20260703", api.ArrivalLoaded).Feed

	// The supplier calls a column otherwise, and the feed moves to a version that reads it.
	_, err = s.client.Deliver(t.Context(), feed, "DEPTHS_20260704.csv", strings.NewReader("station;read_at;level\nSR0001;2026-07-04T00:00:00Z;1.5\n"), false)
	require.NoError(t, err)
	refused := s.newest("DEPTHS_20260704", api.ArrivalRefused)
	b.searches("DEPTHS_20260704", "DEPTHS_20260704")
	b.sees("Change the feed for it…")
	b.tabsTo("Change the feed for it…")
	b.keys(kb.Enter)
	b.sees("Read level_m from the column “level”")
	b.tabsTo("Read level_m from")
	b.keys(kb.Enter)
	b.sees("1 good, 0 rejected", "The feed file is right.")
	b.tabsTo("Put the change")
	b.keys(kb.Enter)
	b.sees("Waiting")
	b.searches(fmt.Sprint(refused.ID), fmt.Sprintf("Arrival %d", refused.ID))
	b.sees("Where every row went")
	b.tabsTo("Load again")
	b.keys(kb.Enter)
	b.says("the feed reads it now")
	s.newest("DEPTHS_20260704", api.ArrivalLoaded)

	// Two kinds of files in a folder become two feeds at once.
	both := filepath.Join(s.home, server.Landings, "both")
	require.NoError(t, os.MkdirAll(both, 0o755))
	for kind, head := range map[string]string{"WINDS": "mast;read_at;speed_ms", "SNOWS": "field;day;depth_cm;state"} {
		for day := 1; day <= 2; day++ {
			text := head + "\n"
			for i := range 60 {
				text += fmt.Sprintf("M%02d;2026-07-%02dT%02d:00:00Z;%d.5%s\n", i%20, day, i/20, i%9, strings.Repeat(";old", strings.Count(head, ";")-2))
			}
			require.NoError(t, os.WriteFile(filepath.Join(both, fmt.Sprintf("%s_2026070%d.csv", kind, day)), []byte(text), 0o644))
		}
	}
	b.readsFolder("both")
	b.sees("Put all 2 feeds")
	b.tabsTo("Put all 2 feeds")
	b.keys(kb.Enter)
	s.newest("WINDS_20260702", api.ArrivalLoaded)
	s.newest("SNOWS_20260702", api.ArrivalLoaded)

	// Columns are chosen, and hidden in what is saved.
	b.searches("ledger", "Ledger")
	b.sees("SNOWS_20260702.csv")
	b.tabsTo("Columns")
	b.keys(kb.Enter)
	b.when("document.querySelector('.choice input') !== null")
	b.keys(kb.Tab)
	b.keys(" ") // the first of them
	b.when("getComputedStyle(document.querySelector('[data-table=ledger] td')).display === 'none'")
	b.keys(kb.Escape)
	b.when("!document.querySelector('details[open]')")
	assert.Empty(t, b.complaints)
}
