package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
)

// ask calls the API as a program does, and returns the status and the answer.
func (s *service) ask(method, path, body string) (int, map[string]any) {
	s.t.Helper()
	answer := s.request(method, "/api/v1"+path, func(r *http.Request) {
		r.Header.Set("Authorization", "Bearer "+s.Token)
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(body)), int64(len(body))
	})
	text, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	out := map[string]any{}
	if len(text) > 0 {
		require.NoError(s.t, json.Unmarshal(text, &out), "%s", text)
	}
	return answer.StatusCode, out
}

func TestWrongFeedsAreProblemsWithPlaces(t *testing.T) {
	t.Parallel()
	s := serve(t)
	body, err := json.Marshal(map[string]string{"file": "x.yaml", "definition": "feed: x\nlandng: {}\n"})
	require.NoError(t, err)
	for _, call := range [][2]string{{"POST", "/feed-check"}, {"PUT", "/feeds/x"}} {
		status, problem := s.ask(call[0], call[1], string(body))
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		assert.Equal(t, "the feed file is wrong", problem["detail"])
		first := problem["errors"].([]any)[0].(map[string]any)
		assert.NotEmpty(t, first["message"])
		assert.Regexp(t, `^x\.yaml:\d+:\d+$`, first["location"])
	}
	definition, err := os.ReadFile("../demo/feeds/station-registry.yaml")
	require.NoError(t, err)
	body, err = json.Marshal(map[string]string{"file": "x.yaml", "definition": string(definition)})
	require.NoError(t, err)
	status, problem := s.ask("PUT", "/feeds/x", string(body))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Equal(t, `the file is of feed "station-registry", not of "x"`, problem["detail"])
	status, checked := s.ask("POST", "/feed-check", string(body))
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "river.station", checked["table"])
	status, schema := s.ask("GET", "/feed-schema", "")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "https://json-schema.org/draft/2020-12/schema", schema["$schema"])
}

func TestWhatIsNotThereIsSaid(t *testing.T) {
	t.Parallel()
	s := serve(t)
	for _, path := range []string{"/feeds/nowhere", "/feeds/nowhere/versions", "/feeds/nowhere/rows",
		"/feeds/nowhere/rejects", "/arrivals/99", "/arrivals/99/rows", "/arrivals/99/rejects", "/runs/99", "/nothing"} {
		status, problem := s.ask("GET", path, "")
		assert.Equal(t, http.StatusNotFound, status, path)
		assert.NotEmpty(t, problem["detail"], path)
	}
	for _, call := range [][2]string{{"POST", "/feeds/nowhere/runs"}, {"POST", "/feeds/nowhere/pause"},
		{"DELETE", "/feeds/nowhere"}} {
		status, _ := s.ask(call[0], call[1], "")
		assert.Equal(t, http.StatusNotFound, status, call)
	}
	for _, path := range []string{"/arrivals?limit=0", "/arrivals?limit=1001", "/arrivals/zero", "/runs?before=-1"} {
		status, _ := s.ask("GET", path, "")
		assert.Equal(t, http.StatusUnprocessableEntity, status, path)
	}
}

func TestRowsAndRejectsThroughTheAPI(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	ctx := context.Background()
	_, page := s.ask("GET", "/arrivals/1/rows?limit=2&after_line=20", "")
	rows := page["rows"].([]any)
	require.Len(t, rows, 2)
	columns := page["columns"].([]any)
	line := -1
	for i, c := range columns {
		if c == "from_line" {
			line = i
		}
	}
	assert.Equal(t, "21", rows[0].([]any)[line], "keyset paging by line")
	_, refused := s.ask("GET", "/arrivals/6/rows", "")
	assert.Empty(t, refused["rows"])
	list, err := s.client.Rejects(ctx, "gauge-readings", 0, api.Reject{}, 1)
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.False(t, list.More)
	assert.Equal(t, "GAUGE_K1_20260701T1200.csv", list.Items[0].Path)
	after, err := s.client.Rejects(ctx, "", 2, list.Items[0].Reject, 1)
	require.NoError(t, err)
	assert.Empty(t, after.Items)

	_, day := s.ask("GET", "/day", "")
	require.Len(t, day["feeds"], 6)
	marked := 0.0
	for _, mark := range named(t, day["feeds"], "feed", "gauge-readings")["marks"].([]any) {
		marked += mark.(map[string]any)["count"].(float64)
	}
	assert.EqualValues(t, 6, marked, "every arrival is in a mark")
	assert.Empty(t, day["needs"], "the torn file came again, whole")
	_, status := s.ask("GET", "/status", "")
	gauges := named(t, status["feeds"], "name", "gauge-readings")
	assert.Equal(t, "river.gauge_reading", gauges["table"])
	assert.EqualValues(t, 0, gauges["counts"].(map[string]any)["waiting"])
}

// TestRowsOfAFeedOfSeveralTables browses the tables of a feed that ends in more
// than one.
func TestRowsOfAFeedOfSeveralTables(t *testing.T) {
	t.Parallel()
	s := serve(t)
	ctx := context.Background()
	const logbook = `feed: logbook
landing: {at: landing, files: "{kind}_{slot:%Y%m%d}.csv", settle: 50ms}
schema:
  by: kind
  kinds:
    gauge: {fields: [{name: id, type: integer}, {name: level, type: number}], primaryKey: id}
    rain: {fields: [{name: place}, {name: mm, type: number}], primaryKey: place}
target: {table: "river.log_{kind}"}
`
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landing"), 0o755))
	for name, content := range map[string]string{"gauge_20260701.csv": "id,level\n1,1.5\n",
		"rain_20260701.csv": "place,mm\nFord,3\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(s.Root, "landing", name), []byte(content), 0o644))
	}
	_, err := s.client.PutFeed(ctx, "logbook", "logbook.yaml", logbook)
	require.NoError(t, err)
	s.eventually(func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "logbook", State: api.ArrivalLoaded, Most: 5})
		require.NoError(t, err)
		return len(list.Items) == 2
	})
	for _, c := range []struct {
		args         string
		code         int
		stdout, fail string
	}{
		{"rows logbook --table river.log_rain", 0, "Ford", ""},
		{"rows logbook --table river.log_gauge", 0, "1.5", ""},
		{"rows logbook --table river.log_snow", 1, "", "logbook does not end in the table river.log_snow"},
		{"rows logbook", 1, "", "ends in several tables; say which table"},
		{"target river.log_rain", 0, "place", ""},
	} {
		code, stdout, stderr := s.mullein(strings.Fields(c.args)...)
		assert.Equal(t, c.code, code, "%s: %s", c.args, stderr)
		assert.Contains(t, stdout, c.stdout, c.args)
		assert.Contains(t, stderr, c.fail, c.args)
	}
}

// TestWhatTheCommandLineDraftsTheServiceDoes drafts from a folder of the service, by both.
func TestWhatTheCommandLineDraftsTheServiceDoes(t *testing.T) {
	t.Parallel()
	s := serve(t)
	dir := filepath.Join(s.Root, "water")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, day := range []string{"20260701", "20260702"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "TEMP_"+day+".csv"),
			[]byte("station_id,measured_at,celsius\nSR0101,2026-07-01T12:00:00Z,14.2\nSR0102,2026-07-01T12:00:00Z,15.1\n"), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "README.md"), []byte("# Readings\n"), 0o644))
	drafts, err := s.client.Draft(context.Background(), api.DraftWanted{At: "water"})
	require.NoError(t, err)
	code, out, errOut := s.mullein("feed", "draft", dir, "--at", "water", "-o", "json")
	require.Zero(t, code, errOut)
	var byHand api.Drafts
	require.NoError(t, json.Unmarshal([]byte(out), &byHand))
	assert.Equal(t, byHand, drafts)
	require.Len(t, drafts.Feeds, 1)
	assert.Equal(t, "README.md", drafts.LeftOut[0].File)
	_, err = s.client.Draft(context.Background(), api.DraftWanted{At: "../.."})
	assert.ErrorContains(t, err, "no such folder")
	_, err = s.client.Draft(context.Background(), api.DraftWanted{At: "water", Into: "river.nothing"})
	assert.ErrorContains(t, err, "there is no table river.nothing")

	text, err := json.Marshal(api.FeedText{File: "temp.yaml", Definition: drafts.Feeds[0].Definition})
	require.NoError(t, err)
	status, checked := s.ask("POST", "/feed-check", string(text))
	assert.Equal(t, 200, status)
	file := filepath.Join(t.TempDir(), "temp.yaml")
	require.NoError(t, os.WriteFile(file, []byte(drafts.Feeds[0].Definition), 0o644))
	_, out, _ = s.mullein("feed", "ddl", file, "-o", "json")
	var ddl []any
	require.NoError(t, json.Unmarshal([]byte(out), &ddl))
	assert.Equal(t, ddl, checked["ddl"])
}
