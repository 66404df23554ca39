package server

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/load"
)

func TestRepeatedErrorsAreCounted(t *testing.T) {
	var out bytes.Buffer
	now := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	h, ok := CountRepeats(slog.NewTextHandler(&out, nil)).(*counting)
	require.True(t, ok)
	h.repeats.now = func() time.Time { return now }
	log := slog.New(h)
	for n := range 240 {
		log.Error("work failed", "feed", n, "error", errors.New("too many clients"))
		log.Error("work failed", "feed", n, "error", errors.New("no rights"))
		log.Info("stopping")
	}
	text := out.String()
	assert.Equal(t, 1, strings.Count(text, "too many clients"))
	assert.Equal(t, 1, strings.Count(text, "no rights"), "another error is another line")
	assert.Equal(t, 240, strings.Count(text, "stopping"), "what is no warning is not counted")
	out.Reset()
	now = now.Add(time.Minute)
	log.With("service", "one").Error("work failed", "feed", "x", "error", errors.New("too many clients"))
	assert.Contains(t, out.String(), "the same 239 times since it was said last")
	assert.Contains(t, out.String(), "service=one")
	out.Reset()
	now = now.Add(time.Minute)
	log.Error("work failed", "error", errors.New("too many clients"))
	assert.NotContains(t, out.String(), "the same")
}

// TestWhatLibrariesSayIsLogged logs a line with the files that are being loaded.
func TestWhatLibrariesSayIsLogged(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	lines, said := make(chan string), make(chan string, 1)
	log := slog.New(slog.NewTextHandler(writerFunc(func(p []byte) (int, error) {
		said <- string(p)
		return len(p), nil
	}), nil))
	done := make(chan struct{})
	go func() {
		defer close(done)
		logStray(ctx, lines, &load.Progresses{}, log)
	}()
	lines <- "parquet: warning: padded"
	assert.Contains(t, <-said, `msg="a library says" says="parquet: warning: padded" files=[]`)
	cancel()
	<-done
}

type writerFunc func(p []byte) (int, error)

func (f writerFunc) Write(p []byte) (int, error) { return f(p) }
