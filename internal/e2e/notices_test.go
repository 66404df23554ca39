package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// hookServer keeps the events that are posted to it, by type.
type hookServer struct {
	*httptest.Server
	mu     sync.Mutex
	events map[string][]map[string]any
	traces []string // that events name
}

func newHook(t *testing.T) *hookServer {
	h := &hookServer{events: map[string][]map[string]any{}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var e map[string]any
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.NoError(t, json.Unmarshal(body, &e))
		h.mu.Lock()
		defer h.mu.Unlock()
		if parent, is := e["traceparent"].(string); is {
			h.traces = append(h.traces, parent)
		}
		h.events[e["type"].(string)] = append(h.events[e["type"].(string)], e["data"].(map[string]any))
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hookServer) of(kind string) []map[string]any {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.events[kind]
}

const hookSecret = "whsec_MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE="

func TestPeopleAndProgramsAreTold(t *testing.T) {
	t.Parallel()
	hook := newHook(t)
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	file := filepath.Join(home, settings.FileName)
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	outlets := "outlets:\n  mart: {hook: \"" + hook.URL + "\", secret: " + hookSecret + "}\n"
	write(outlets + "tell: [{of: [refused, loaded, changed, computed], by: mart}]\n")
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0",
		"MULLEIN_DATABASE=" + pgtest.Database(t)}})
	put, err := s.client.PutFeed(context.Background(), "gauges", "gauges.yaml", `feed: gauges
landing: {at: in, files: "G_*.csv", settle: 50ms}
schema: {fields: [{name: station}, {name: level, type: number}], primaryKey: [station]}
target: {table: river.gauge}
tell: [{of: [held], by: nobody}]
`)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(put.Notes, "\n"), `tell: there is no outlet "nobody"; known are mart`)
	drop := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(s.Root, "in", name), []byte(text), 0o644))
	}
	drop("G_1.csv", "station,level\na,1\nb,2\n")
	s.eventually(func() bool { return len(hook.of("mullein.load")) == 1 })
	load := hook.of("mullein.load")[0]
	assert.Equal(t, "river.gauge", load["table"])
	assert.EqualValues(t, 2, load["written"])
	assert.Equal(t, map[string]any{"station": map[string]any{"from": "a", "to": "b"}}, load["key_range"])
	// A rollup that follows is told of when it is computed, live too.
	require.NoError(t, s.client.PutRollup(context.Background(), "levels", "levels.yaml", `rollup: levels
table: river.level
key: [station]
select: SELECT station, max(level) AS highest FROM river.gauge GROUP BY 1
from: {river.gauge: {station: station}}
`))
	s.eventually(func() bool { return len(hook.of("mullein.rollup")) >= 1 })
	assert.Equal(t, "levels", hook.of("mullein.rollup")[0]["rollup"])
	seen := errors.New("seen")
	require.ErrorIs(t, s.client.Watch(context.Background(), 0, time.Time{}, func(e api.Event) error {
		if e.Rollup == "levels" && e.Table == "river.level" && e.Keys == 2 {
			return seen
		}
		return nil
	}, nil), seen)
	drop("G_2.csv", "station,level\na,much\n")
	s.eventually(func() bool { return len(hook.of("mullein.refused")) == 1 })
	assert.Equal(t, "gauges: G_2.csv was refused", hook.of("mullein.refused")[0]["heading"])
	code, out, _ := s.mullein("problems")
	assert.Zero(t, code)
	assert.Contains(t, out, "G_2.csv")
	drop("G_2.csv", "station,level\na,3\n") // put right
	s.eventually(func() bool { return len(hook.of("mullein.refused.healed")) == 1 })
	// What the hook took is recorded as sent a moment later.
	for _, want := range []string{"gauges: G_1.csv loaded", "Over: gauges: G_2.csv was refused", "gauges: its definition was put"} {
		s.eventually(func() bool {
			code, out, _ = s.mullein("notices", "--state", "sent")
			return code == 0 && strings.Contains(out, want)
		})
	}
	code, out, _ = s.mullein("outlet", "test", "mart")
	assert.Zero(t, code, out)
	assert.Len(t, hook.of("mullein.test"), 1)
	code, out, _ = s.mullein("notice", "rehearse", "gauges", "--as", "refused")
	assert.Zero(t, code, out)
	assert.Len(t, hook.of("mullein.refused.rehearsed"), 1)
	code, _, stderr := s.mullein("notice", "rehearse", "gauges", "--as", "disk")
	assert.Equal(t, 1, code)
	assert.Contains(t, stderr, `nobody is told of "disk" of gauges`)
	list, err := s.client.Notices(context.Background(), "", "gauges", "", 0, 1)
	require.NoError(t, err)
	require.NotZero(t, list.Next)
	code, out, _ = s.mullein("notice", "show", "1")
	assert.Zero(t, code)
	assert.Contains(t, out, "http")
	code, out, _ = s.mullein("notice", "again", "1")
	assert.Zero(t, code, out)
	// Settings that are wrong are said, and the old ones hold; others are taken up.
	write(outlets + "tell: [{of: [refusd], by: mart}]\n")
	s.eventually(func() bool {
		_, out, _ := s.mullein("status")
		return strings.Contains(out, `did you mean "refused"?`)
	})
	code, _, _ = s.mullein("outlet", "test", "mart")
	assert.Zero(t, code)
	write(outlets + "  second: {command: [/bin/cat]}\n")
	s.eventually(func() bool {
		_, out, _ := s.mullein("outlet", "list")
		return strings.Contains(out, "second")
	})
	code, out, _ = s.mullein("outlet", "test", "second")
	assert.Zero(t, code, out)
	assert.NotContains(t, out, hookSecret)
}
