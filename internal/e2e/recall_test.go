package e2e

import (
	"context"
	"fmt"
	"net/http"
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

// TestARowAndItsLoads asks where a row came from, recalls what changed it, and
// puts it back, on the command line.
func TestARowAndItsLoads(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Feed: "gauge-readings", Text: "GAUGE_K1",
		State: api.ArrivalLoaded, Most: 5})
	require.NoError(t, err)
	correction := fmt.Sprint(list.Items[0].ID)
	station := s.oneRow(correction)
	run := func(code int, args ...string) string {
		t.Helper()
		got, out, errOut := s.mullein(args...)
		require.Equal(t, code, got, "%v: %s%s", args, out, errOut)
		return out + errOut
	}
	row := append([]string{"row", "river.gauge_reading"}, station...)
	out := run(0, row...)
	for _, want := range []string{"inserted", "updated", "GAUGE_K1_20260701T1200.csv", "level_m=", ";01.07.2026 "} {
		assert.Contains(t, out, want)
	}
	out = run(0, "recall", correction, "--preview")
	for _, want := range []string{"Preview; nothing was done", "1 row removed, 7 rows restored",
		"river.gauge_reading"} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, run(2, "recall", correction), "recall needs --because")
	assert.Contains(t, run(0, "recall", correction, "--because", "it was for another day"),
		"Done: 1 row removed, 7 rows restored")
	assert.Contains(t, run(0, row...), "updated, recalled")
	assert.Contains(t, run(1, "recall", correction, "--because", "again"),
		"is recalled; only one that is loaded can be recalled")
	assert.Contains(t, run(3, "verify", correction), "missing")
	assert.Contains(t, run(0, "recall", correction, "--undo", "--because", "it was right"),
		"Done: 0 rows removed, 7 rows restored, 1 row returned")
	assert.Contains(t, run(0, "verify", correction), "8 rows of the file stand in the table as they are")
	assert.Contains(t, run(0, "target", "river.gauge_reading"), "Level and flow from the river gauges")
	assert.Contains(t, run(1, "target", "river.nothing"), "not found")
	assert.Contains(t, run(1, "row", "river.gauge_reading", "station_id=SR0101"), "observed_at is missing")
	assert.Contains(t, run(0, "feed", "ddl", "../demo/feeds/gauge-readings.yaml"),
		`PRIMARY KEY ("station_id", "observed_at")`)
	s.commits(t)
}

// oneRow returns the key of a row that an arrival last wrote, as arguments.
func (s *service) oneRow(arrival string) []string {
	_, out, _ := s.mullein("rows", arrival, "--limit", "1", "-o", "json")
	_, rows, _ := strings.Cut(out, `"rows"`)
	cells := strings.Split(rows, `"`)
	return []string{"station_id=" + cells[1], "observed_at=" + cells[3]}
}

// commits reads the event stream again from its beginning: each commit is told.
func (s *service) commits(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+s.Token)
	request.Header.Set("Last-Event-ID", "1")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var all strings.Builder
	buffer := make([]byte, 32<<10)
	for !strings.Contains(all.String(), `"type":"mullein.recall"`) {
		n, err := response.Body.Read(buffer)
		require.NoError(t, err, all.String())
		all.Write(buffer[:n])
	}
	assert.Contains(t, all.String(), `"specversion":"1.0"`)
	assert.Contains(t, all.String(), `"type":"mullein.load"`)
	assert.Contains(t, all.String(), `"link":"`+s.URL+`/arrivals/`)
	assert.Contains(t, all.String(), `"traceparent":"00-`)
}

// TestRollupsByHand puts a rollup, looks at it and ends it.
func TestRollupsByHand(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	page, err := os.ReadFile("../../docs/the-target.md")
	require.NoError(t, err)
	_, text, _ := strings.Cut(string(page), "```yaml\nrollup: ")
	text, rest, _ := strings.Cut("rollup: "+text, "```")
	_, joined, _ := strings.Cut(rest, "```yaml\nrollup: ")
	joined, _, _ = strings.Cut("rollup: "+joined, "```")
	folder := t.TempDir()
	file := filepath.Join(folder, "daily-peaks.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "joined.yaml"), []byte(joined), 0o644))
	code, out, errOut := s.mullein("rollup", "put", file, filepath.Join(folder, "joined.yaml"))
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "it is kept in river.daily_peak")
	for _, name := range []string{"daily-peaks", "river-days"} {
		s.eventually(func() bool {
			code, out, _ = s.mullein("rollup", "verify", name)
			return code == 0 && !strings.Contains(out, " 0 rows,")
		})
	}
	code, out, _ = s.mullein("rollup", "rebuild", "daily-peaks")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "daily-peaks: ")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "max(level_m)", "max(depth)", 1)), 0o644))
	code, _, errOut = s.mullein("rollup", "put", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `column "depth" does not exist`)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "table:", "tabel:", 1)), 0o644))
	code, _, errOut = s.mullein("rollup", "put", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `daily-peaks.yaml:3:1: unknown field "tabel"`)
	for _, name := range []string{"daily-peaks", "river-days"} {
		code, _, _ = s.mullein("rollup", "remove", name)
		assert.Equal(t, 0, code)
	}
	_, out, _ = s.mullein("rollup", "list")
	assert.Contains(t, out, "There are no rollups")
}

// TestTheConsoleOfTables walks from an arrival to its table, a row of it, and
// recalls the arrival.
func TestTheConsoleOfTables(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Feed: "gauge-readings", Text: "GAUGE_K1",
		State: api.ArrivalLoaded, Most: 5})
	require.NoError(t, err)
	correction := list.Items[0].ID
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/targets/river.gauge_reading"))
	b.sees("The last loads", "Rows after", "mode upsert by station_id, observed_at", "timestamp with time zone",
		"Look for", "Greatest keys first")
	b.do(chromedp.Click(`td a[title="What happened to this row"]`))
	b.sees("A row of river.gauge_reading", "As it stands", "What happened to it", "inserted")
	b.do(chromedp.Navigate(fmt.Sprintf("%s/arrivals/%d", s.URL, correction)))
	b.sees("Recall…")
	b.do(chromedp.Click(`a.button`))
	b.sees("Nothing is done yet.", "7 restored", "1 removed", "Before and after")
	b.do(chromedp.Click(`main button.primary`))
	b.sees("one transaction; readers see the old rows or the new")
	b.because("of another day")
	b.sees("Done.", "recalled")
	b.do(chromedp.Navigate(s.URL + "/targets/river.gauge_reading"))
	b.sees("Recalls", "of another day")
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(t, b.complaints)
}
