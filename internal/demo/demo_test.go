package demo

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
)

func landing(t *testing.T) basin {
	t.Helper()
	b := basin{t.TempDir()}
	for _, folder := range []string{"gauges", "registry"} {
		require.NoError(t, os.MkdirAll(filepath.Join(b.root, "landing", folder), 0o755))
	}
	return b
}

func (b basin) files(t *testing.T) map[string]string {
	t.Helper()
	files := map[string]string{}
	entries, err := os.ReadDir(filepath.Join(b.root, "landing/gauges"))
	require.NoError(t, err)
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(b.root, "landing/gauges", e.Name()))
		require.NoError(t, err)
		files[e.Name()] = string(text)
	}
	return files
}

var noon = time.Date(2026, 7, 1, 12, 0, 0, 0, azores)

func TestTheSameTimeGivesTheSameNumbers(t *testing.T) {
	assert.Equal(t, readings(1, noon, 0, noon), readings(1, noon, 0, noon))
	assert.NotEqual(t, readings(1, noon, 0, noon), readings(2, noon, 0, noon))
	assert.Equal(t, registryFile(noon), registryFile(noon))
	assert.Len(t, readings(0, noon, 0, noon), stationsEach)
}

// TestTheSuppliersMisbehave goes through a hundred rounds and looks for each
// kind of mishap.
func TestTheSuppliersMisbehave(t *testing.T) {
	b := landing(t)
	text, err := feeds.ReadFile("feeds/gauge-readings.yaml")
	require.NoError(t, err)
	f, err := feed.Parse("gauge-readings.yaml", text)
	require.NoError(t, err)
	seen := map[string]bool{}
	before := map[string]string{}
	for n := 1; n <= 100; n++ {
		at := noon.Add(time.Duration(n) * quarter)
		require.NoError(t, b.deliver(at, n))
		now := b.files(t)
		for name, content := range now {
			belongs := f.Landing.Look(name, 1).Why == ""
			require.True(t, belongs, name)
			if before[name] == content {
				continue
			}
			if _, known := before[name]; known && strings.HasSuffix(name, ".gz") {
				seen["torn, then whole"] = true
			} else if known {
				seen["correction"] = true
			}
			if strings.Contains(name, "(1)") {
				seen["copy"] = true
			}
			if strings.Contains(content, ";2,4x;") {
				seen["bad row"] = true
			}
			rows := map[string]bool{}
			for _, line := range strings.Split(strings.TrimSpace(content), "\n") {
				if rows[line] {
					seen["row twice"] = true
				}
				rows[line] = true
			}
		}
		before = now
	}
	assert.Equal(t, map[string]bool{"torn, then whole": true, "correction": true, "copy": true, "bad row": true, "row twice": true}, seen)
	last, err := b.lastDelivered()
	require.NoError(t, err)
	assert.False(t, last.Before(noon.Add(98*quarter)), "a demo that is started again goes on from there")
}

func TestWorkStopsWhenToldTo(t *testing.T) {
	b := landing(t)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.NoError(t, Work(ctx, b.root))
	assert.GreaterOrEqual(t, len(b.files(t)), int(backlog/quarter)*len(catchments), "the backlog is there at once")
	require.Error(t, Work(ctx, t.TempDir()), "a landing that is missing is said")
}
