package e2e

import (
	"context"
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
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.WindowSize(1280, 800))
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
				complain(e.Entry.Text)
			}
		}
	}))
	return b
}

const browserPatience = 60 * time.Second

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, browserPatience)
	defer cancel()
	require.NoError(b.t, chromedp.Do(ctx, steps...))
}

// sees waits until the page's text holds all of the words.
func (b *browser) sees(words ...string) {
	b.t.Helper()
	var text string
	ok := assert.Eventually(b.t, func() bool {
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
	}, browserPatience, 50*time.Millisecond)
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
	b.sees("GAUGE_K1_20260701T1200.csv", "12 read", "10 inserted", "1 duplicate", "1 rejected", "not a number", "settling", "opened", "SR0100")
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
	b.do(chromedp.Navigate(s.URL + "/feeds/gauge-readings?show=rows"))
	b.sees("from_file", "SR0307")
	b.do(chromedp.Navigate(s.URL + "/nowhere"))
	b.sees("There is no page at this address.")
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
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
