package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/localssh"
	"mullein/internal/settings"
)

// description is the API's own OpenAPI document.
type description struct {
	Paths map[string]map[string]struct {
		Responses map[string]struct {
			Content map[string]struct{ Schema json.RawMessage }
		}
	}
}

// pointer writes names as a JSON Pointer (RFC 6901), as it stands in an address.
func pointer(names ...string) string {
	out := ""
	for _, n := range names {
		out += "/" + url.PathEscape(strings.NewReplacer("~", "~0", "/", "~1").Replace(n))
	}
	return out
}

// TestAnswersAreAsDescribed asks everything that can be asked of the API, over the
// example, and holds each answer against the document that describes it.
func TestAnswersAreAsDescribed(t *testing.T) {
	t.Parallel()
	far, err := localssh.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, far.Stop()) })
	s := serveFrom(t, settings.From{Home: filepath.Join(t.TempDir(), ".mullein"), Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0",
		fmt.Sprintf("MULLEIN_PLACES={upper: {address: 'sftp://%s%s', user: %s, key_file: %s, host_keys: ['%s']}}", far.Address, t.TempDir(), far.User,
			far.KeyFile, far.HostKey),
		"MULLEIN_DATABASE=" + pgtest.Database(t), "MULLEIN_OUTLETS={x: {command: [/bin/cat]}}",
		"MULLEIN_TELL=[{of: [loaded], by: x}]"}}).feeds().example()
	s.eventually(func() bool {
		list, err := s.client.Notices(context.Background(), "", "", "sent", 0, 1)
		return err == nil && len(list.Items) > 0
	})
	answer := s.request("GET", "/api/openapi.json",
		func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) })
	require.Equal(t, http.StatusOK, answer.StatusCode)
	document, err := jsonschema.UnmarshalJSON(answer.Body)
	require.NoError(t, err)
	const at = "file:///openapi.json"
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource(at, document))
	text, err := json.Marshal(document)
	require.NoError(t, err)
	var described description
	require.NoError(t, json.Unmarshal(text, &described))

	list, err := s.client.Arrivals(context.Background(), client.ArrivalQuery{Feed: "gauge-readings", Text: "GAUGE_K1",
		State: api.ArrivalLoaded, Most: 1})
	require.NoError(t, err)
	arrival := fmt.Sprint(list.Items[0].ID)
	key := s.oneRow(arrival)
	_, slots := s.ask("GET", "/slots?feed=gauge-readings&limit=1", "")
	slot := "1"
	if items := slots["items"].([]any); len(items) > 0 {
		b, err := json.Marshal(items[0].(map[string]any)["id"])
		require.NoError(t, err)
		slot = string(b)
	}
	_, err = s.client.PutExtract(context.Background(), "stations-out", "x.yaml", "extract: stations-out\nfrom: {table: river.station}\n"+
		"files: {at: landing/registry, name: 'out/x_{run}.csv'}\n")
	require.NoError(t, err)
	require.Zero(t, first(s.mullein("extract", "run", "stations-out", "--wait")))
	values := map[string]string{
		"{extract}": "stations-out",
		"{feed}":    "gauge-readings", "{check}": "usual_size", "{place}": "upper", "{rollup}": "daily-peaks",
		"{table}": "river.gauge_reading", "/arrivals/{id}": "/arrivals/" + arrival, "/runs/{id}": "/runs/1",
		"/slots/{id}": "/slots/" + slot, "/notices/{id}": "/notices/1",
	}
	queries := map[string]string{
		"/api/v1/arrivals/{id}/original":   "?line=3",
		"/api/v1/feeds/{feed}/plan":        "?from=2026-07-01T00:00:00Z&to=2026-07-02T00:00:00Z",
		"/api/v1/feeds/{feed}/slot-counts": "?from=2026-07-01T00:00:00Z&to=2026-07-02T00:00:00Z",
		"/api/v1/targets/{table}/row":      "?key=" + url.QueryEscape(key[0]) + "&key=" + url.QueryEscape(key[1]),
	}
	var asked []string
	for path, operations := range described.Paths {
		get, can := operations["get"]
		if _, isJSON := get.Responses["200"].Content["application/json"]; !can || !isJSON {
			continue
		}
		asked = append(asked, path)
		real := strings.TrimPrefix(path, "/api/v1")
		for from, to := range values {
			real = strings.ReplaceAll(real, from, to)
		}
		status, got := s.ask("GET", real+queries[path], "")
		if path == "/api/v1/slots/{id}" && status == http.StatusNotFound {
			continue // the example's day has no slots yet
		}
		if !assert.Equal(t, http.StatusOK, status, "%s: %v", real, got["detail"]) {
			continue
		}
		schema, err := compiler.Compile(at + "#" + pointer("paths", path, "get", "responses", "200", "content",
			"application/json", "schema"))
		if assert.NoError(t, err, path) {
			assert.NoError(t, schema.Validate(any(got)), real)
		}
	}
	assert.Greater(t, len(asked), 25)
	assert.Contains(t, asked, "/api/v1/targets/{table}/row")
}

// TestWatchTellsWhatHappened reads the events of the example again, of all feeds
// and of one, for people and for programs.
func TestWatchTellsWhatHappened(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds().example()
	code, out, errOut := s.mullein("watch", "--after", "0", "--limit", "80")
	require.Equal(t, 0, code, errOut)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 80)
	for _, want := range []string{"GAUGE_K1_20260701T1200.csv  12 read = 10 inserted + 1 duplicate + 1 rejected",
		"run 1 ", "station-registry", "settling", "loaded"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "\x1b", "no colours in a pipe")
	code, again, errOut := s.mullein("watch", "--since", "1h", "--limit", "80")
	require.Equal(t, 0, code, errOut)
	assert.Equal(t, out, again, "from a time on the same")

	code, out, errOut = s.mullein("watch", "gauge-readings", "--after", "1", "--limit", "5", "-o", "json")
	require.Equal(t, 0, code, errOut)
	last := int64(1)
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var e api.Event
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		assert.Equal(t, "gauge-readings", e.Feed)
		assert.Greater(t, e.ID, last)
		last = e.ID
		if e.Kind == "arrival" {
			assert.NotEmpty(t, e.Path)
			assert.Equal(t, "river.gauge_reading", e.Table)
			require.NotNil(t, e.Slot)
			assert.NotNil(t, e.Slot.At)
		}
	}
	_, out, _ = s.mullein("watch", "--after", "0", "--limit", "80", "-o", "json")
	told := map[string]api.Event{}
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var e api.Event
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		told[e.Kind+" "+e.State+" "+e.Path] = e
	}
	load := told["load loaded GAUGE_K1_20260701T1200.csv"]
	require.NotNil(t, load.Balance)
	assert.NotZero(t, load.Balance.Read)
	code, _, errOut = s.mullein("watch", "nowhere")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `feed "nowhere": not found`)
}
