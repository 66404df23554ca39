package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/demo"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// lineageSchemas compiles what run events and their facets have to be like: testdata/openlineage.json
// has, by address, the parts of OpenLineage's schemas that run events use.
func lineageSchemas(t *testing.T) *jsonschema.Compiler {
	text, err := os.ReadFile("testdata/openlineage.json")
	require.NoError(t, err)
	var all map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &all))
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	for address, text := range all {
		of, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
		require.NoError(t, err)
		require.NoError(t, c.AddResource(address, of))
	}
	return c
}

// facetsOf calls f with each facet of a run event.
func facetsOf(event map[string]any, f func(name string, facet map[string]any)) {
	take := func(of any, key string) {
		facets, _ := of.(map[string]any)[key].(map[string]any)
		for name, facet := range facets {
			f(name, facet.(map[string]any))
		}
	}
	take(event["run"], "facets")
	take(event["job"], "facets")
	for _, key := range []string{"inputs", "outputs"} {
		for _, of := range event[key].([]any) {
			take(of, "facets")
			take(of, strings.TrimSuffix(key, "s")+"Facets")
		}
	}
}

func TestLineageIsToldAsOpenLineageSays(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	posted := map[string][]string{} // types of events, by file
	var events []string
	catalog := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.Equal(t, "Bearer a-key", r.Header.Get("Authorization"))
		assert.Equal(t, "/api/v1/lineage", r.URL.Path)
		var e struct {
			EventType string
			Inputs    []struct{ Name string }
		}
		assert.NoError(t, json.Unmarshal(text, &e))
		mu.Lock()
		defer mu.Unlock()
		events = append(events, string(text))
		if len(e.Inputs) > 0 {
			posted[e.Inputs[0].Name] = append(posted[e.Inputs[0].Name], e.EventType)
		}
	}))
	t.Cleanup(catalog.Close)
	home := filepath.Join(t.TempDir(), ".mullein")
	file := filepath.Join(home, "lineage.jsonl")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte(`outlets:
  catalog: {lineage: "`+catalog.URL+`/api/v1/lineage", secret: a-key, namespace: observatory}
  file: {lineage: `+file+`}
tell: [{of: [loaded], by: catalog}, {of: [loaded], by: file}]
`), 0o600))
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}}).feeds()
	require.NoError(t, demo.Example(context.Background(), s.client, s.Root))
	code, out, errOut := s.mullein("outlet", "test", "file")
	assert.Zero(t, code, out+errOut)
	of := func(name string) []string {
		mu.Lock()
		defer mu.Unlock()
		for path, types := range posted {
			if strings.HasSuffix(path, name) {
				return types
			}
		}
		return nil
	}
	want := map[string][]string{"/GAUGE_K1_20260701T1200.csv": {"START", "COMPLETE"}, "/GAUGE_K3_20260701T1200.csv.gz": {"START", "FAIL"},
		"/GAUGE_K1_20260701T1200 (1).csv": {"START", "ABORT"}} // which is a copy
	for name, types := range want {
		s.eventually(func() bool { return len(of(name)) >= len(types) })
		assert.Equal(t, types, of(name)[:2], name)
	}

	schemas := lineageSchemas(t)
	hold := func(schema string, value any) {
		t.Helper()
		compiled, err := schemas.Compile(schema)
		require.NoError(t, err)
		assert.NoError(t, compiled.Validate(value))
	}
	ended := func(text string) bool { // each run that began
		count := func(of string) int { return strings.Count(text, `"eventType":"`+of+`"`) }
		return count("START") == count("COMPLETE")+count("FAIL")+count("ABORT")
	}
	s.eventually(func() bool {
		mu.Lock()
		defer mu.Unlock()
		return ended(strings.Join(events, "\n"))
	})
	s.eventually(func() bool {
		text, err := os.ReadFile(file)
		if err == nil && !ended(string(text)) {
			return false
		}
		return err == nil && strings.Count(string(text), "COMPLETE") >= 3 && strings.Contains(string(text), "OTHER")
	})
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	mu.Lock()
	lines := append(strings.Split(strings.TrimSpace(string(text)), "\n"), events...)
	mu.Unlock()
	runs, facets := map[string][]string{}, map[string]int{}
	for _, line := range lines {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
		require.NoError(t, err, line)
		event := value.(map[string]any)
		hold(event["schemaURL"].(string), value)
		facetsOf(event, func(name string, facet map[string]any) {
			hold(facet["_schemaURL"].(string), facet)
			facets[name]++
		})
		job := event["job"].(map[string]any)
		if job["namespace"] == "observatory" {
			id := event["run"].(map[string]any)["runId"].(string)
			runs[id] = append(runs[id], event["eventType"].(string))
		}
	}
	for _, types := range runs {
		assert.Len(t, types, 2, "the begin and the end of a run have one number")
		assert.Equal(t, "START", types[0])
	}
	for _, name := range []string{"schema", "columnLineage", "inputStatistics", "outputStatistics", "errorMessage", "nominalTime", "version",
		"storage", "jobType", "ownership", "documentation"} {
		assert.Positive(t, facets[name], name)
	}
}
