package e2e

import (
	"context"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"mullein/internal/demo"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

func TestArrivalsAreTraced(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	spans := map[string]*otlp.Span{} // by their numbers
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		var of collector.ExportTraceServiceRequest
		assert.NoError(t, proto.Unmarshal(body, &of))
		mu.Lock()
		defer mu.Unlock()
		for _, resource := range of.ResourceSpans {
			for _, scope := range resource.ScopeSpans {
				for _, span := range scope.Spans {
					spans[string(span.SpanId)] = span
				}
			}
		}
	}))
	t.Cleanup(server.Close)
	hook := newHook(t)
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte("traces: "+server.URL+"/v1/traces\noutlets: {mart: {hook: \""+
		hook.URL+"\", secret: "+hookSecret+"}}\ntell: [{of: [loaded, refused], by: mart}]\n"), 0o600))
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}}).feeds()
	require.NoError(t, demo.Example(context.Background(), s.client, s.Root))
	of := func(path, state string) *otlp.Span {
		mu.Lock()
		defer mu.Unlock()
		for _, span := range spans {
			said := map[string]string{}
			for _, a := range span.Attributes {
				said[a.Key] = a.Value.GetStringValue()
			}
			if strings.HasSuffix(said["file.path"], path) && said["mullein.state"] == state {
				return span
			}
		}
		return nil
	}
	s.eventually(func() bool {
		return of("GAUGE_K2_20260701T1200.csv.gz", "loaded") != nil && of("PROFILE_20260701T1200.parquet", "loaded") != nil
	})
	whole := of("GAUGE_K2_20260701T1200.csv.gz", "loaded")
	mu.Lock()
	steps := map[string]bool{}
	for _, span := range spans {
		if string(span.ParentSpanId) == string(whole.SpanId) {
			assert.Equal(t, whole.TraceId, span.TraceId)
			assert.GreaterOrEqual(t, span.StartTimeUnixNano, whole.StartTimeUnixNano)
			assert.LessOrEqual(t, span.EndTimeUnixNano, whole.EndTimeUnixNano)
			steps[span.Name] = true
		}
	}
	mu.Unlock()
	assert.Equal(t, map[string]bool{"settle": true, "wait": true, "read": true, "write": true}, steps)
	// The events of loads name the trace.
	s.eventually(func() bool { return len(hook.of("mullein.load")) > 3 })
	hook.mu.Lock()
	defer hook.mu.Unlock()
	named := map[string]bool{}
	for _, parent := range hook.traces {
		parts := strings.Split(parent, "-")
		require.Len(t, parts, 4)
		named[parts[1]] = true
	}
	assert.True(t, named[hex.EncodeToString(whole.TraceId)])
}
