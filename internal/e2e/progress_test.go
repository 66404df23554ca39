package e2e

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// hold locks the table of the readings against everybody, until the returned function is called.
func (s *service) hold() (release func()) {
	s.t.Helper()
	db, err := pgx.Connect(s.t.Context(), s.database)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = db.Close(s.t.Context()) })
	_, err = db.Exec(s.t.Context(), "BEGIN; LOCK TABLE river.gauge_reading IN ACCESS EXCLUSIVE MODE")
	require.NoError(s.t, err)
	return func() {
		s.t.Helper()
		_, err := db.Exec(s.t.Context(), "ROLLBACK")
		require.NoError(s.t, err)
	}
}

// readings returns how many rows the table of the readings has.
func (s *service) readings() (n int64) {
	s.t.Helper()
	db, err := pgx.Connect(s.t.Context(), s.database)
	require.NoError(s.t, err)
	defer db.Close(s.t.Context())
	require.NoError(s.t, db.QueryRow(s.t.Context(), "SELECT count(*) FROM river.gauge_reading").Scan(&n))
	return n
}

// works reports whether a kind of work goes on, as the service tells it.
func (s *service) works(kind string) bool {
	s.t.Helper()
	status, err := s.client.Status(s.t.Context())
	require.NoError(s.t, err)
	for _, l := range status.Loads {
		if l.Work == kind {
			return true
		}
	}
	return false
}

// oldest returns for how long the work that began first goes on.
func (s *service) oldest() time.Duration {
	s.t.Helper()
	status, err := s.client.Status(s.t.Context())
	require.NoError(s.t, err)
	if len(status.Loads) == 0 {
		return 0
	}
	return time.Since(status.Loads[0].BeganAt)
}

// TestLongWorkIsSeenAndCancelled has a recall, its preview, a comparison, a rehearsal and a rebuild wait for a table, looks how far each
// has come, and cancels it: nothing of it is left, and nothing was changed.
func TestLongWorkIsSeenAndCancelled(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today", "live")
	a := s.newest("GAUGE_K1_20260701T1200.csv", "loaded")
	rows := s.readings()

	release := s.hold()
	b.do(chromedp.Navigate(s.URL + "/arrivals/2/recall"))
	b.sees("The rows are looked at", "finding its rows", "Cancel")
	b.picture("recall-waits")
	s.eventually(func() bool { return s.works("preview") && s.oldest() > 6*time.Second }) // a call may take longer than its body
	b.press("Cancel")
	b.sees("Cancelled; nothing was done.")
	s.eventually(func() bool { return !s.works("preview") })
	release()
	b.press("Look again")
	b.sees("This is what would become of the rows", "removed")

	release = s.hold()
	b.press("Recall")
	b.because("it was a rehearsal of the supplier's")
	b.sees("The rows are being written", "finding its rows")
	s.eventually(func() bool { return s.works("recall") })
	b.press("Cancel")
	b.sees("Cancelled. Nothing was changed")
	s.eventually(func() bool { return !s.works("recall") })
	release()
	s.newest("GAUGE_K1_20260701T1200.csv", "loaded")
	assert.Equal(t, rows, s.readings())

	release = s.hold()
	ctx, cancel := context.WithCancel(t.Context())
	gone := make(chan error, 1)
	go func() {
		_, err := s.client.Verify(ctx, a.ID)
		gone <- err
	}()
	s.eventually(func() bool { return s.works("verify") })
	cancel()
	require.ErrorIs(t, <-gone, context.Canceled)
	s.eventually(func() bool { return !s.works("verify") })
	b.do(chromedp.Navigate(s.URL + "/feeds/gauge-readings/rehearsal?path=GAUGE_K1_20260701T1200.csv"))
	s.eventually(func() bool { return s.works("rehearsal") })
	b.sees("comparing the rows")
	b.press("Cancel")
	b.sees("Cancelled. A rehearsal changes nothing.")
	s.eventually(func() bool { return !s.works("rehearsal") })
	release()

	release = s.hold()
	_, err := s.client.Rebuild(t.Context(), "gauge-readings", api.Rebuild{Because: "the disk was changed", Without: true, WithoutOthers: true})
	require.NoError(t, err)
	b.do(chromedp.Navigate(s.URL + "/today"))
	b.sees("loading afresh", "gauge-readings", "about to begin", "Cancel")
	b.picture("rebuild-waits")
	b.do(chromedp.Navigate(s.URL + "/runs"))
	b.sees("loaded afresh", "about to begin")
	b.press("Cancel")
	b.sees("cancelled by owner")
	s.eventually(func() bool { return !s.works("rebuild") })
	release()
	assert.Equal(t, rows, s.readings())
	_, err = s.client.Verify(t.Context(), a.ID)
	require.NoError(t, err)
	runs, err := s.client.Runs(t.Context(), client.RunQuery{Feed: "gauge-readings", Ascending: true, Most: 100})
	require.NoError(t, err)
	last := runs.Items[len(runs.Items)-1]
	assert.Equal(t, "cancelled", last.State, last.Reason)
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
}
