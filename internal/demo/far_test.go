package demo

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/client"
	"mullein/internal/core/feed"
	"mullein/internal/core/nudge"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

// TestWhatIsOutside starts it, looks into the bucket and the neighbour's database, and hears the bucket's events.
func TestWhatIsOutside(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	root := t.TempDir()
	b := basin{root}
	lab := filepath.Join(root, labLanding)
	require.NoError(t, os.MkdirAll(lab, 0o755))
	require.NoError(t, b.leave("lab", "LAB_2026-07-01_1.jsonl", labFile(noon, 1), noon))
	far, err := FarSide(ctx, t.TempDir(), root, pgtest.Database(t))
	require.NoError(t, err)
	s := far.Settings(settings.Settings{Connections: map[string]string{"mart": "postgres://x"}})
	assert.Contains(t, s.Connections, "mart", "what the settings name stays")
	assert.Contains(t, s.Places, buoyPlace)
	answer, err := http.Get(s.Places[labPlace].Endpoint + "/" + labBucket + "/LAB_2026-07-01_1.jsonl")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Equal(t, noon.UTC().Format(http.TimeFormat), answer.Header.Get("Last-Modified"))

	rows := func() (n int) {
		require.NoError(t, withNeighbour(ctx, s.Connections[neighbourConnection], func(conn *pgx.Conn) error {
			return conn.QueryRow(ctx, "SELECT count(*) FROM gauges.level").Scan(&n)
		}))
		return n
	}
	before := rows()
	assert.GreaterOrEqual(t, before, 97*stationsEach)
	assert.Zero(t, before%stationsEach)

	var mu sync.Mutex
	var heard []string
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var message json.RawMessage
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&message))
		list, err := nudge.Read(message, func(string) string { return "" })
		assert.NoError(t, err)
		mu.Lock()
		defer mu.Unlock()
		for _, n := range list {
			heard = append(heard, n.Bucket+"/"+n.Path)
		}
		w.WriteHeader(http.StatusAccepted)
	}))
	t.Cleanup(service.Close)
	done := make(chan error, 1)
	go func() { done <- far.Work(ctx, client.New(service.URL, "token")) }()
	require.NoError(t, b.leave("lab", "LAB_2026-07-02_1.jsonl", labFile(noon.AddDate(0, 0, 1), 1), noon))
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return strings.Join(heard, " ") == labBucket+"/LAB_2026-07-02_1.jsonl"
	}, time.Minute, 10*time.Millisecond, "only what is new")
	cancel()
	require.NoError(t, <-done)
}

// TestTheNeighboursFiles have the feed take what the extract writes.
func TestTheNeighboursFiles(t *testing.T) {
	text, err := feeds.ReadFile("far/neighbour-levels.yaml")
	require.NoError(t, err)
	f, err := feed.Parse("f.yaml", text)
	require.NoError(t, err)
	text, err = feeds.ReadFile("far/neighbour-levels-out.yaml")
	require.NoError(t, err)
	x, err := feed.ParseExtract("x.yaml", text)
	require.NoError(t, err)
	assert.Equal(t, x.Files.Landing.At, f.Landing.At)
	name := x.Files.PartName(12, 3, "", noon, time.UTC)
	assert.Empty(t, f.Landing.Look(name, 1).Why, name)
	assert.Equal(t, f.Checks.Checksum.String(), x.Files.Checksum.String())
	for _, at := range []string{labLanding, buoyLanding} {
		changed := 0
		for _, file := range []string{"feeds/lab-samples.yaml", "feeds/buoy-profiles.yaml"} {
			text, err := feeds.ReadFile(file)
			require.NoError(t, err)
			if strings.Contains(string(text), at) {
				assert.Contains(t, atPlaces(string(text)), "at: place:")
				changed++
			}
		}
		assert.Equal(t, 1, changed)
	}
}
