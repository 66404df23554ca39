package e2e

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/demo"
)

func shell(t *testing.T, line string) {
	t.Helper()
	out, err := exec.Command("/bin/sh", "-c", line).CombinedOutput()
	require.NoError(t, err, "%s: %s", line, out)
}

// browser is a page of a headless Chromium, and what it complained about.
type browser struct {
	t   *testing.T
	ctx context.Context

	mu         sync.Mutex
	complaints []string
}

func browse(t *testing.T) *browser {
	t.Helper()
	flags := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.WindowSize(1280, 800))
	allocated, cancel := chromedp.NewExecAllocator(context.Background(), flags...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocated)
	t.Cleanup(cancel)
	b := &browser{t: t, ctx: ctx}
	require.NoError(t, chromedp.Do(ctx))
	complain := func(what string) {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.complaints = append(b.complaints, what)
	}
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			if e.Type == "error" || e.Type == "warning" {
				for _, a := range e.Args {
					complain(string(a.Value))
				}
			}
		case *runtime.EventExceptionThrown:
			complain(e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			// A 401 answers the question whether somebody is signed in.
			if e.Entry.Level == "error" && !strings.Contains(e.Entry.Text, "401") {
				complain(e.Entry.Text + " " + e.Entry.URL)
			}
		}
	}))
	return b
}

const (
	browserPatience = 60 * time.Second
	looksEvery      = 100 * time.Millisecond // at most: to write a page's text takes the browser a while
)

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, browserPatience)
	defer cancel()
	require.NoError(b.t, chromedp.Do(ctx, steps...))
}

// until asks at once, and then again and again, whether something is so, and reports whether it was in time.
func until(ok func() bool) bool {
	end := time.Now().Add(browserPatience)
	for wait := 5 * time.Millisecond; !ok(); wait = min(2*wait, looksEvery) {
		if time.Now().After(end) {
			return false
		}
		time.Sleep(wait)
	}
	return true
}

// sees waits until the page's text holds all of the words.
func (b *browser) sees(words ...string) {
	b.t.Helper()
	var text string
	ok := until(func() bool {
		var err error
		text, err = chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		if err != nil {
			return false
		}
		for _, w := range words {
			if !strings.Contains(text, w) {
				return false
			}
		}
		return true
	})
	if !ok {
		b.t.Fatalf("the page does not show %q but:\n%s", words, text)
	}
}

func TestTheConsole(t *testing.T) {
	t.Parallel()
	s := serve(t)
	b := browse(t)
	b.do(chromedp.Navigate(s.URL + "/ledger"))
	b.sees("sign in with a token")
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "No feeds yet", "live")
	s.feeds()
	b.sees("gauge-readings", "Nothing does.") // without a reload

	b.do(chromedp.Navigate(s.URL + "/ledger"))
	b.sees("Nothing has arrived yet.")
	require.NoError(t, demo.Example(context.Background(), s.client, s.Root))
	b.sees("loaded", "refused", "skipped", "a copy of arrival 2", "the gzip is cut short")
	b.do(chromedp.Navigate(s.URL + "/ledger?state=refused"))
	b.sees("GAUGE_K3_20260701T1200.csv.gz")
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	require.NoError(t, err)
	assert.NotContains(t, text, "GAUGE_K2", "the filter in the address holds")

	b.do(chromedp.Navigate(s.URL + "/arrivals/2"))
	b.sees("GAUGE_K1_20260701T1200.csv", "12 read", "10 inserted", "1 duplicate", "1 rejected", "not a number",
		"settling", "opened", "SR0100")
	marked, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.querySelector('mark').innerText"))
	require.NoError(t, err)
	assert.Equal(t, "2,4x", marked, "the bad cell is marked in the original line")

	b.do(chromedp.Navigate(s.URL + "/feeds"))
	b.sees("station-registry", "river.station", "Upper Catchment Office")
	b.do(chromedp.Navigate(s.URL + "/feeds/gauge-readings?show=definition"))
	b.sees("feed: gauge-readings", "The last loads")
	b.do(chromedp.Click(`button.n-button--primary-type`))
	b.sees("A run is queued.")
	b.do(chromedp.Navigate(s.URL + "/runs"))
	b.sees("asked for by owner")
	b.do(chromedp.Navigate(s.URL + "/notices"))
	b.sees("What is wrong", "GAUGE_K", "None, so nobody is told.", "None was sent yet.")
	b.do(chromedp.Navigate(s.URL + "/volumes"))
	b.sees("Time of work", "gauge-readings", "By feed, the most expensive first")
	b.do(chromedp.Navigate(s.URL + "/feeds/gauge-readings?show=rows"))
	b.sees("from_file", "SR0307")
	b.mu.Lock()
	assert.Empty(t, b.complaints)
	b.mu.Unlock()
	b.do(chromedp.Navigate(s.URL + "/nowhere")) // the browser complains of its 404
	b.sees("There is no page at this address.")
}

// TestTheConsoleOfADay looks at a day of deliveries, takes a misnamed file for
// its slot, drops a file on the feed's page and holds an arrival.
func TestTheConsoleOfADay(t *testing.T) {
	t.Parallel()
	s := aDay(t)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Needs a person", "missing", "capitals differ", "the date is written in another order",
		"ring the duty desk", "Take it", "Upper Catchment Office")
	require.Eventually(t, func() bool {
		gaps, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.querySelectorAll('rect.gap.missing').length"))
		return err == nil && gaps >= 2
	}, browserPatience, looksEvery, "gaps are seen as gaps")
	press := func(label string) {
		b.do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`[...document.querySelectorAll('button')].find((b) => b.innerText.trim() === %q).click()`, label)))
	}
	b.when(`(() => {
		const it = [...document.querySelectorAll('li')].find((l) => l.innerText.includes('capitals differ'))
		it?.querySelector('button')?.click()
		return !!it
	})()`)
	b.sees("It is loaded as if its name were right.")
	b.because("the supplier knows")
	require.Eventually(t, func() bool {
		list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Text: "gauge_k2_", Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1 && list.Items[0].State == api.ArrivalLoaded
	}, browserPatience, looksEvery)

	b.do(chromedp.Navigate(s.URL + "/due?feed=gauge-readings&day=" + s.aMissingSlot().DueAt.Local().Format(time.DateOnly)))
	b.sees("on time", "to come", "5m", "Sun", "Excuse")
	b.do(chromedp.Navigate(s.URL + "/feeds/gauge-readings?show=landing"))
	b.sees("Drop files here", "does not fit the pattern", "catchment K1")
	b.do(chromedp.Evaluate[chromedp.Void](`{
		const d = new DataTransfer()
		d.items.add(new File(["Station;Time;Level;Flow;Quality;Revised\n" + [1, 2, 3, 4].map((n) => "SR010" + n + ";01.07.2026 12:00;1,0;1,0;G;01.07.2026 12:00\n").join("")], "GAUGE_K1_20260701T1200.csv"))
		d.items.add(new File(["x"], "strange.csv"))
		document.querySelector('main .page').dispatchEvent(new DragEvent('drop', { dataTransfer: d, bubbles: true, cancelable: true }))
	}`))
	b.sees("GAUGE_K1_20260701T1200.csv lies at the landing.", "strange.csv would not be taken")
	require.Eventually(t, func() bool {
		list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Text: "GAUGE_K1_20260701T1200",
			Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1 && list.Items[0].State == api.ArrivalLoaded
	}, browserPatience, looksEvery)
	b.do(chromedp.Navigate(s.URL + "/arrivals/1"))
	b.sees("Load again", "Where every row went")
	press("Load again")
	b.because("to see it")
	b.sees("What people decided", "to see it")
	b.do(chromedp.Navigate(s.URL + "/ledger?text=K1*0&day=2026-01-01"))
	b.sees("No arrival is like that.")
	b.do(chromedp.Navigate(s.URL + "/runs"))
	b.sees("Services", "alive")
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, complaint := range b.complaints {
		assert.Contains(t, complaint, "422", "the file that was not taken")
	}
}

// aMissingSlot returns a slot of the gauges that was missed: shortly after midnight, one of yesterday.
func (s *service) aMissingSlot() api.SlotView {
	s.t.Helper()
	slots, err := s.client.Slots(s.t.Context(), "gauge-readings", time.Now().Add(-24*time.Hour), time.Now(), 1000)
	require.NoError(s.t, err)
	for _, slot := range slots.Items {
		if slot.State == "missing" {
			return slot
		}
	}
	s.t.Fatal("no slot is missing")
	return api.SlotView{}
}

// TestSeveralPagesShareOneStream opens more pages than a browser opens
// connections to a service; each of them is live.
func TestSeveralPagesShareOneStream(t *testing.T) {
	t.Parallel()
	s := serve(t)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live")
	pages := []*browser{b}
	for range 7 {
		ctx, cancel := chromedp.NewContext(b.ctx)
		t.Cleanup(cancel)
		page := &browser{t: t, ctx: ctx}
		require.NoError(t, chromedp.Do(ctx))
		page.do(chromedp.Navigate(s.URL + "/feeds"))
		page.sees("No feeds yet", "live")
		pages = append(pages, page)
	}
	s.feeds()
	for _, page := range pages {
		page.sees("gauge-readings", "station-registry")
	}
}
