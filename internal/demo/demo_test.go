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

// TestTheSuppliersMisbehave looks for each kind of mishap in a day and in what
// comes after it.
func TestTheSuppliersMisbehave(t *testing.T) {
	b := landing(t)
	text, err := feeds.ReadFile("feeds/gauge-readings.yaml")
	require.NoError(t, err)
	f, err := feed.Parse("gauge-readings.yaml", text)
	require.NoError(t, err)
	require.NoError(t, CatchUp(b.root, noon))
	day := b.files(t)
	assert.Equal(t, 96*3-3+1, len(day), "a day of quarters, three files missing, one twice")
	strange := 0
	for name := range day {
		if f.Landing.Look(name, 1).Why != "" {
			strange++
		}
	}
	assert.Equal(t, 2, strange, "a date the other way round, and other capitals")
	last, err := b.lastDelivered()
	require.NoError(t, err)
	require.NoError(t, CatchUp(b.root, noon.Add(time.Hour)))
	assert.Equal(t, len(day)+4*3, len(b.files(t)), "a demo that is started again goes on from there, without mishaps")
	seen := map[string]bool{}
	for n := 1; n <= 30; n++ {
		require.NoError(t, b.correct(last, n, noon))
	}
	for name, content := range b.files(t) {
		if old, known := day[name]; known && old != content {
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
	assert.Equal(t, map[string]bool{"correction": true, "copy": true, "bad row": true, "row twice": true}, seen)
}

func TestWorkStopsWhenToldTo(t *testing.T) {
	b := landing(t)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.NoError(t, Work(ctx, b.root))
	require.Error(t, Work(ctx, t.TempDir()), "a landing that is missing is said")
}
