package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// press clicks the button with some words, once it may be clicked.
func (b *browser) press(words string) {
	b.t.Helper()
	b.when(`(() => {
		const it = [...document.querySelectorAll('button')].find((b) => b.innerText.trim() === %q && !b.disabled)
		it?.click()
		return !!it
	})()`, words)
}

// when waits until something is true in the page.
func (b *browser) when(format string, args ...any) {
	b.t.Helper()
	what := fmt.Sprintf(format, args...)
	require.True(b.t, until(func() bool {
		yes, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](what))
		return err == nil && yes
	}), what)
}

// script runs JavaScript in the page.
func (b *browser) script(format string, args ...any) {
	b.t.Helper()
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(format, args...)+"; true"))
	require.NoError(b.t, err)
}

// chooses chooses a value of a list.
func (b *browser) chooses(selector, value string) {
	b.t.Helper()
	b.do(chromedp.SetValue(selector, value))
	b.script("document.querySelector(%q).dispatchEvent(new Event('change'))", selector)
}

// writes writes at the top of the editor of a feed file; takesBack takes that back.
func (b *browser) writes(text string) {
	b.t.Helper()
	b.script(`const at = document.querySelector('.cm-content')
		at.focus()
		getSelection().setPosition(at.querySelector('.cm-line'), 0)`)
	b.script("document.execCommand('insertText', false, %q)", text)
}

func (b *browser) takesBack() {
	b.t.Helper()
	b.script(`document.querySelector('.cm-content').dispatchEvent(new KeyboardEvent('keydown', {key: 'z', keyCode: 90, ctrlKey: true, bubbles: true, cancelable: true}))`)
}

// proposals counts what a feed file might say besides.
func (b *browser) proposals() int {
	b.t.Helper()
	n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.querySelectorAll('button.take').length"))
	require.NoError(b.t, err)
	return n
}

// picture keeps what the page looks like, where MULLEIN_PICTURES names a folder for it.
func (b *browser) picture(name string) {
	b.t.Helper()
	folder := os.Getenv("MULLEIN_PICTURES")
	if folder == "" {
		return
	}
	time.Sleep(400 * time.Millisecond) // what moves comes to rest
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644))
}

// TestAFeedIsMadeOfDroppedFiles makes a feed in the console of files that a supplier sends: it
// is proposed, a column's type is changed in the sample, a mistake in the feed file is said at its
// line, and once it is put, its first files are loaded. Then the feed is changed.
func TestAFeedIsMadeOfDroppedFiles(t *testing.T) {
	t.Parallel()
	s := serve(t)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
	dir := t.TempDir()
	var files []string
	for day := 1; day <= 3; day++ {
		var text strings.Builder
		text.WriteString("Station;Time;Level;Grade\n")
		for i := range 200 {
			fmt.Fprintf(&text, "SR01%02d;%02d.07.2026 %02d:%02d;%d,%02d;%s\n", i%20, day, i/20, i%4*15, 1+i%3, i*7%100, []string{"G", "G", "F"}[i%3])
		}
		path := filepath.Join(dir, fmt.Sprintf("LEVELS_K1_202607%02d.csv", day))
		require.NoError(t, os.WriteFile(path, []byte(text.String()), 0o644))
		files = append(files, path)
	}
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("No feeds yet", "Drop a file here", "live")
	b.picture("1-nothing-yet")
	b.do(chromedp.Navigate(s.URL + "/new-feed"))
	b.sees("New feed", "Choose files")
	b.do(chromedp.SetUploadFiles(`input[type=file]`, files))
	b.sees("200 rows read", "200 good, 0 rejected", "The feed file is right.", "primaryKey")
	b.picture("2-proposed")

	// A type in the head of the sample; the rows that do not fit are marked.
	b.do(chromedp.Click(`button[title="Change grade"]`), chromedp.WaitVisible(`form.column`))
	b.picture("3-a-column")
	b.chooses(`form.column select`, "integer")
	b.sees("200 rejected", "0 good")
	b.chooses(`form.column select`, "string")
	b.sees("200 good, 0 rejected")
	b.press("Apply")
	b.when("document.querySelector('form.column') === null")

	// A mistake in the file is said at its line.
	b.writes("zzz: 1\n")
	b.sees(`unknown key "zzz"`)
	b.takesBack()
	b.sees("The feed file is right.")

	// What it might say besides, by the keys alone.
	b.sees("It might say besides", "level lies between 0 and", "grade is one of F, G", "A file is due every day")
	b.script("document.querySelector('section[aria-label=Proposals]').scrollIntoView({block: 'center'})")
	b.picture("4-besides")
	for _, key := range []string{"t", "l"} {
		before := b.proposals()
		b.script(`{
			const it = document.querySelector('button.take')
			it.focus()
			it.dispatchEvent(new KeyboardEvent('keydown', {key: %q, bubbles: true, cancelable: true}))
		}`, key)
		b.when("document.querySelectorAll('button.take').length === %d", before-1)
	}
	b.when(`(() => {
		[...document.querySelectorAll('button.take')].find((b) => b.ariaLabel.includes('is due'))?.click()
		return document.querySelector('.cm-content').innerText.includes('cron: 0 0 * * *')
	})()`)
	b.sees("The feed file is right.")

	b.press("Rehearse")
	b.sees("It would be loaded into the real table")
	b.script("scrollTo(0, 0)")
	b.picture("5-rehearsed")
	b.press("Put the feed")
	b.sees("Landing", "Waiting") // the page of the feed
	var list []api.Arrival
	s.eventually(func() bool {
		page, err := s.client.Arrivals(t.Context(), client.ArrivalQuery{State: "loaded", Most: 10})
		require.NoError(t, err)
		list = page.Items
		return len(list) == 3
	})
	b.sees("LEVELS_K1_20260703.csv")
	b.picture("6-loaded")
	for _, a := range list {
		assert.EqualValues(t, 200, a.Balance.Inserted)
	}

	b.do(chromedp.Navigate(s.URL + "/feeds/" + list[0].Feed + "/edit"))
	b.sees("Change "+list[0].Feed, "The feed file is right.")
	b.writes("about: Levels, as the catchment office sends them.\n")
	b.sees("The feed file is right.")
	b.script("document.querySelector('.n-checkbox').click()") // mark what differs
	b.when("document.querySelector('.cm-changedLine, .cm-insertedLine') !== null")
	b.press("Put the change")
	s.eventually(func() bool {
		feed, err := s.client.Feed(t.Context(), list[0].Feed)
		require.NoError(t, err)
		return feed.Version == 2
	})
	b.sees("Waiting", "Levels, as the catchment office sends them.") // the page of the feed
	b.readsTheLanding(s)
	assert.Empty(t, b.complaints)
}

// readsTheLanding proposes a feed for what lies in a landing folder, and shows the beginning of a file there.
func (b *browser) readsTheLanding(s *service) {
	b.t.Helper()
	b.do(chromedp.Navigate(s.URL + "/new-feed"))
	b.press("Read what lies there")
	b.sees("feed: levels", "LEVELS_K1_20260701.csv", "200 good, 0 rejected")
}
