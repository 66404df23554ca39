package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/demo"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/server"
)

// aDay is a service whose landing holds a day of the sample suppliers' files.
func aDay(t *testing.T) *service {
	t.Helper()
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, demo.CatchUp(filepath.Join(home, server.Landings), time.Now()))
	s := serveWith(t, home, pgtest.Database(t)).feeds()
	require.Eventually(t, func() bool {
		status, err := s.client.Status(context.Background())
		require.NoError(t, err)
		for _, f := range status.Feeds {
			if f.Name == "gauge-readings" {
				return f.Counts.Missing >= 6 && f.Counts.Waiting == 0
			}
		}
		return false
	}, 2*time.Minute, 20*time.Millisecond, "the day is loaded and judged")
	return s
}

// named finds an element of a list by what it is called.
func named(t *testing.T, list any, key, name string) map[string]any {
	t.Helper()
	for _, item := range list.([]any) {
		if m := item.(map[string]any); m[key] == name {
			return m
		}
	}
	t.Fatalf("no %s %q", key, name)
	return nil
}

// TestADayOfDeliveries goes through what people do in the morning: what is
// missing, what came close, take it, excuse the rest.
func TestADayOfDeliveries(t *testing.T) {
	t.Parallel()
	s := aDay(t)
	ctx := context.Background()
	code, out, _ := s.mullein("due", "gauge-readings")
	assert.Equal(t, 0, code)
	for _, want := range []string{"gauge-readings K2", "X", "capitals differ", "the date is written in another order",
		"ring the duty desk", "mullein accept"} {
		assert.Contains(t, out, want)
	}
	status, err := s.client.Status(ctx)
	require.NoError(t, err)
	var misnamed, empty api.SlotView
	for _, slot := range status.Wrong {
		switch {
		case slot.State == api.SlotMissing && len(slot.Near) > 0:
			if misnamed.ID == 0 || slot.Near[0].Distance < misnamed.Near[0].Distance { // a name comes close to several slots
				misnamed = slot
			}
		case slot.State == api.SlotMissing:
			empty = slot
		}
	}
	require.NotZero(t, misnamed.ID)
	code, out, errOut := s.mullein("accept", fmt.Sprint(misnamed.ID), misnamed.Near[0].Path, "--because",
		"the date is the other way round")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "is arrival")
	assert.Eventually(t, func() bool {
		slot, err := s.client.Slot(ctx, misnamed.ID)
		require.NoError(t, err)
		return (slot.State == api.SlotOnTime || slot.State == api.SlotLate) &&
			slot.Arrivals[0].State == api.ArrivalLoaded
	}, time.Minute, 20*time.Millisecond)
	code, out, _ = s.mullein("excuse", fmt.Sprint(empty.ID), "--because", "the gauge is in the workshop")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "is excused")
	slot, err := s.client.Slot(ctx, empty.ID)
	require.NoError(t, err)
	assert.Equal(t, api.SlotExcused, slot.State)
	assert.Equal(t, "the gauge is in the workshop", slot.Decisions[0].Because)
	assert.Equal(t, "owner", slot.Decisions[0].By)

	_, day := s.ask("GET", "/day", "")
	line := named(t, day["feeds"], "feed", "gauge-readings")
	assert.Greater(t, len(line["slots"].([]any)), 90, "a bracket a quarter of an hour")
	_, out, _ = s.mullein("status")
	for _, want := range []string{"SERVICE", "alive", "is missing; expected GAUGE_K2_"} {
		assert.Contains(t, out, want)
	}
	own := filepath.Join(t.TempDir(), "mine.csv")
	require.NoError(t, os.WriteFile(own,
		[]byte("Station;Time;Level;Flow;Quality;Revised\n"+strings.Repeat("SR0101;01.07.2026 12:00;1,0;1,0;G;01.07.2026 12:00\n", 4)), 0o644))
	code, out, errOut = s.mullein("deliver", "gauge-readings", own, "--as", "by-hand/GAUGE_K1_20260701T1200.csv")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "catchment=K1")
	require.Eventually(t, func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Text: "by-hand/", Most: 1})
		require.NoError(t, err)
		return len(list.Items) == 1 && list.Items[0].State == api.ArrivalLoaded
	}, time.Minute, 20*time.Millisecond)
	code, _, errOut = s.mullein("deliver", "gauge-readings", own, "--as", "by-hand/GAUGE_K1_20260701T1200.csv")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "lies there already")
	s.curesAtOnce()
}

// TestRunWaitNamesWhatIsMissing has a feed whose newest slot is missing.
func TestRunWaitNamesWhatIsMissing(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	text, err := os.ReadFile("../demo/feeds/station-registry.yaml")
	require.NoError(t, err)
	definition := strings.NewReplacer("0 6 * * *", "* * * * *", "late_after: 30m", "late_after: 0",
		"missing_after: 2h", "missing_after: 1s", "{slot:%Y-%m-%d}", "{slot:%Y-%m-%dT%H%M}").Replace(string(text))
	_, err = s.client.PutFeed(context.Background(), "station-registry", "x.yaml", definition)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, err := s.client.Slots(context.Background(), "station-registry", time.Now().Add(-time.Hour), time.Now(),
			10)
		require.NoError(t, err)
		return len(list.Items) > 0 && list.Items[0].State == api.SlotMissing
	}, 75*time.Second, 50*time.Millisecond, "said at the minute it is missed")
	code, out, _ := s.mullein("run", "station-registry", "--wait")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "is missing; expected STATIONS_")
	assert.Contains(t, out, "The registry sends its list at six")
}

func TestDecisionsAndSlotsThroughTheAPI(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	for call, want := range map[string]struct {
		body, says string
		status     int
	}{
		"/decisions": {`{"verb": "redo", "because": "x", "arrivals": [1]}`, "", http.StatusOK},
		"/decisions#2": {`{"verb": "hold", "because": "x", "arrivals": [6]}`,
			"arrival 6 is refused; hold takes", http.StatusConflict},
		"/decisions#3": {`{"verb": "recall", "because": "x", "arrivals": [1]}`, "validation failed",
			http.StatusUnprocessableEntity},
		"/decisions#4": {`{"verb": "redo", "because": "", "arrivals": [1]}`, "validation failed",
			http.StatusUnprocessableEntity},
		"/decisions#5": {`{"verb": "redo", "because": "x", "feed": "gauge-readings"}`,
			"say which arrivals", http.StatusConflict},
		"/decisions#6": {`{"verb": "redo", "because": "x", "feed": "nowhere", "state": "held"}`,
			"not found", http.StatusNotFound},
		"/runs/1/cancel":                {``, "is done already", http.StatusConflict},
		"/slots/4711/accept":            {`{"path": "x", "because": "x"}`, "not found", http.StatusNotFound},
		"/slots/4711/excuse":            {`{"because": "x"}`, "not found", http.StatusNotFound},
		"/feeds/gauge-readings/files":   {`x`, "validation failed", http.StatusUnprocessableEntity},
		"/feeds/nowhere/reconcile":      {``, "not found", http.StatusNotFound},
		"/feeds/gauge-readings/runs":    {`{"from": "July"}`, "is no slot", http.StatusUnprocessableEntity},
		"/feeds/gauge-readings/runs#2":  {`{"from": "2026-07-01", "to": "2026-07-02"}`, "", http.StatusOK},
		"/feeds/gauge-readings/pause#2": {``, "", http.StatusNoContent},
	} {
		path, _, _ := strings.Cut(call, "#")
		status, answer := s.ask("POST", path, want.body)
		assert.Equal(t, want.status, status, call)
		if want.says != "" {
			text, err := json.Marshal(answer)
			require.NoError(t, err)
			assert.Contains(t, string(text), want.says, call)
		}
	}
	for path, want := range map[string]int{"/slots": 200, "/slots/4711": 404, "/feeds/gauge-readings/files": 200,
		"/feeds/nowhere/files": 404, "/arrivals/1/decisions": 200, "/arrivals/4711/decisions": 404,
		"/feeds/gauge-readings/slot-counts?from=2026-07-01T00:00:00Z&to=2026-07-02T00:00:00Z": 200,
		"/feeds/gauge-readings/plan?from=2026-07-01T00:00:00Z&to=2026-07-02T00:00:00Z":        200,
		"/feeds/gauge-readings/plan?from=2026-07-01T00:00:00Z&to=2036-07-02T00:00:00Z":        422} {
		status, _ := s.ask("GET", path, "")
		assert.Equal(t, want, status, path)
	}
}
