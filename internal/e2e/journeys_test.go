package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// screen is what somebody works at.
type screen struct {
	width, height int64
	theme         string
}

func (s screen) String() string { return fmt.Sprintf("%dx%d-%s", s.width, s.height, s.theme) }

// shows waits for words on a page, and demands that nothing stands beyond the edge of the screen.
func (b *browser) shows(at screen, name string, words ...string) {
	b.t.Helper()
	b.sees(words...)
	width, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](drawnWidth, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err)
	assert.LessOrEqual(b.t, width, int(at.width), name)
	b.picture(fmt.Sprintf("%s-%s", name, at))
}

// follows goes where the link with some words leads.
func (b *browser) follows(words string) {
	b.t.Helper()
	b.when(`(() => {
		const it = [...document.querySelectorAll('main a')].find((a) => (a.textContent ?? '').trim().includes(%q))
		it?.dispatchEvent(new MouseEvent('click', {bubbles: true, cancelable: true}))
		return !!it
	})()`, words)
}

// because writes the reason that is asked for.
func (b *browser) because(words string) {
	b.t.Helper()
	b.when(`(() => {
		const it = document.querySelector('dialog[open] input')
		if (!it) return false
		it.value = %q
		it.dispatchEvent(new Event('input', { bubbles: true }))
		return true
	})()`, words)
	b.when(`(() => {
		document.querySelector('dialog[open] button.primary:not([disabled])')?.click()
		return document.querySelector('dialog[open]') === null
	})()`)
}

// newest returns the newest arrival with part of a path, once it is in a state.
func (s *service) newest(text string, state string) (out api.Arrival) {
	s.t.Helper()
	s.eventually(func() bool {
		list, err := s.client.Arrivals(s.t.Context(), client.ArrivalQuery{Text: text, Most: 1})
		require.NoError(s.t, err)
		if len(list.Items) == 1 {
			out = list.Items[0]
		}
		return out.State == state
	})
	return out
}

// TestJourneys does what people do all day, at a desk by day and on a phone by night; with MULLEIN_VIEWS=all, which takes
// twice as long, also the other way round.
func TestJourneys(t *testing.T) {
	t.Parallel()
	views := map[string][]screen{"desk by day, phone by night": {{1280, 800, "light"}, {390, 844, "dark"}}}
	if os.Getenv("MULLEIN_VIEWS") == "all" {
		views["desk by night, phone by day"] = []screen{{1280, 800, "dark"}, {390, 844, "light"}}
	}
	for name, screens := range views {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			journeys(t, screens)
		})
	}
}

func journeys(t *testing.T, screens []screen) {
	s := aDay(t)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live")
	for i, at := range screens {
		b.script("localStorage.setItem('theme', %q)", at.theme)
		b.do(chromedp.EmulateViewport(at.width, at.height))
		b.do(chromedp.Navigate(s.URL + "/today"))
		b.when("document.documentElement.dataset.theme === %q", at.theme)
		morning(b, at)
		nearName(s, b, at)
		mended(s, b, at)
		recalled(s, b, at)
		newFeed(s, b, at, i)
		newVersion(s, b, at, i)
		assert.Empty(t, b.complaints, "%v", at)
	}
}

// morning: what is wrong, whose it is, since when, and what may be done about it.
func morning(b *browser, at screen) {
	b.shows(at, "morning", "Needs a person", "missing", "Upper Catchment Office", "slots, since", "that came close", "Excuse", "Today", "Now")
	b.when("document.querySelectorAll('.ruler svg').length > 0")
	b.script("document.querySelectorAll('.mark.refused, .mark.failed, .mark').item(0).dispatchEvent(new MouseEvent('click', {bubbles: true}))")
	b.when("/arrivals|ledger/.test(location.pathname)")
	b.do(chromedp.Evaluate[chromedp.Void]("history.back()"))
	b.sees("Needs a person")
}

// nearName: a missing file lies there under another name, and is taken.
func nearName(s *service, b *browser, at screen) {
	before, err := s.client.Arrivals(b.t.Context(), client.ArrivalQuery{Feed: "gauge-readings", Most: 1})
	require.NoError(b.t, err)
	b.press("Take it")
	b.shows(at, "near-name", "It is loaded as if its name were right.")
	b.because("the supplier knows")
	s.eventually(func() bool {
		list, err := s.client.Arrivals(b.t.Context(), client.ArrivalQuery{Feed: "gauge-readings", Most: 1})
		require.NoError(b.t, err)
		a := list.Items[0]
		return a.ID > before.Items[0].ID && a.State == api.ArrivalLoaded
	})
	b.sees("Done since you looked last", "owner accepted")
}

// mended: a row that was rejected is put right, and handed in.
func mended(s *service, b *browser, at screen) {
	name := fmt.Sprintf("GAUGE_K1_20260601T12%02d.csv", at.width%60)
	var text strings.Builder
	text.WriteString("Station;Time;Level;Flow;Quality;Revised\nSR0101;01.06.2026 12:00;2,4x;1,0;G;01.06.2026 12:00\n")
	for i := range 9 {
		fmt.Fprintf(&text, "SR01%02d;01.06.2026 12:00;2,4;1,0;G;01.06.2026 12:00\n", 10+i)
	}
	_, err := s.client.Deliver(b.t.Context(), "gauge-readings", name, strings.NewReader(text.String()), false)
	require.NoError(b.t, err)
	s.newest(name, api.ArrivalLoaded)
	b.do(chromedp.Navigate(s.URL + "/rejects?feed=gauge-readings&of=gauge-readings&rule=type&column=level_m"))
	b.shows(at, "rejects", "Click a row to mend it.", name)
	before, err := s.client.Arrivals(b.t.Context(), client.ArrivalQuery{Text: "(mended", Most: 100})
	require.NoError(b.t, err)
	b.when(`document.querySelector('textarea') !== null || (document.querySelector('button.mend')?.click(), false)`)
	b.script(`{
		const t = document.querySelector('textarea')
		t.value = t.value.replace(/;(\d),(\d+)x;/, ';$1,$2;')
		t.dispatchEvent(new Event('input', { bubbles: true }))
	}`)
	b.sees("1 mended")
	b.press("Hand in 1")
	b.because("an x slipped in")
	s.eventually(func() bool {
		now, err := s.client.Arrivals(b.t.Context(), client.ArrivalQuery{Text: "(mended", Most: 100})
		require.NoError(b.t, err)
		return len(now.Items) > len(before.Items)
	})
}

// recalled: what a file did is taken out again, after a look at what that does.
func recalled(s *service, b *browser, at screen) {
	list, err := s.client.Arrivals(b.t.Context(), client.ArrivalQuery{Feed: "gauge-readings", State: "loaded", Most: 5})
	require.NoError(b.t, err)
	a := list.Items[len(list.Items)-1]
	b.do(chromedp.Navigate(fmt.Sprintf("%s/arrivals/%d", s.URL, a.ID)))
	b.shows(at, "arrival", "Where every row went")
	b.follows("Recall…")
	b.shows(at, "recall", "Recall")
	b.when(`(() => { const it = document.querySelector('main button.primary:not([disabled])'); it?.click(); return document.querySelector('dialog[open] input') !== null })()`)
	b.because("the wrong day")
	s.eventually(func() bool {
		now, err := s.client.Arrival(b.t.Context(), a.ID)
		require.NoError(b.t, err)
		return now.State == api.ArrivalRecalled
	})
}

// newFeed: a feed is made of files that are dropped, with what is proposed besides, by keys.
func newFeed(s *service, b *browser, at screen, n int) {
	dir := b.t.TempDir()
	var files []string
	for day := 1; day <= 3; day++ {
		var text strings.Builder
		text.WriteString("station;read_at;level_m;grade\n")
		for i := range 100 {
			fmt.Fprintf(&text, "SR%04d;2026-07-%02dT%02d:00:00Z;%d.%02d;%s\n", i%20, day, i/20, i%7, i%100, []string{"G", "F"}[i%2])
		}
		path := filepath.Join(dir, fmt.Sprintf("DEPTHS%d_2026070%d.csv", n, day))
		require.NoError(b.t, os.WriteFile(path, []byte(text.String()), 0o644))
		files = append(files, path)
	}
	b.do(chromedp.Navigate(s.URL + "/new-feed"))
	b.sees("New feed", "Choose files")
	b.do(chromedp.SetUploadFiles(`input[type=file]`, files))
	b.shows(at, "new-feed", "100 good, 0 rejected", "It might say besides", "level_m lies between 0 and", "grade is one of F, G", "A file is due every day")
	b.when(`(() => { // by the keyboard alone
		const it = document.querySelector('button.take')
		it?.focus()
		it?.dispatchEvent(new KeyboardEvent('keydown', {key: 't', bubbles: true, cancelable: true}))
		return [...document.querySelectorAll('button.take')].every((b) => !b.ariaLabel.includes('must be there'))
	})()`)
	b.when(`(() => {
		const it = [...document.querySelectorAll('button.take')].find((b) => b.ariaLabel.includes('is due'))
		it?.click()
		return !it && document.querySelector('.cm-content').innerText.includes('cron: 0 0 * * *')
	})()`)
	b.sees("The feed file is right.")
	b.press("Put the feed")
	b.sees("Landing", "Waiting")
	s.newest(fmt.Sprintf("DEPTHS%d_20260703", n), api.ArrivalLoaded)
}

// newVersion: a supplier calls a column otherwise, the file is refused, and the feed moves to a version that reads it.
func newVersion(s *service, b *browser, at screen, n int) {
	feed := s.newest(fmt.Sprintf("DEPTHS%d_20260703", n), api.ArrivalLoaded).Feed
	name := fmt.Sprintf("DEPTHS%d_20260704.csv", n)
	_, err := s.client.Deliver(b.t.Context(), feed, name, strings.NewReader("station;read_at;level;grade\nSR0001;2026-07-04T00:00:00Z;1.5;G\n"), false)
	require.NoError(b.t, err)
	a := s.newest(name, api.ArrivalRefused)
	b.do(chromedp.Navigate(fmt.Sprintf("%s/arrivals/%d", s.URL, a.ID)))
	b.shows(at, "refused", "level_m", "Change the feed for it…")
	b.follows("Change the feed for it…")
	b.shows(at, "new-version", "It would be refused", "Read level_m from the column “level”")
	b.press("Take")
	b.sees("1 good, 0 rejected", "The feed file is right.")
	b.press("Put the change")
	b.sees("Waiting")
	b.do(chromedp.Navigate(fmt.Sprintf("%s/arrivals/%d", s.URL, a.ID)))
	b.press("Load again")
	b.because("the feed reads it now")
	s.newest(name, api.ArrivalLoaded)
}
