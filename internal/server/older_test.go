package server_test

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/server"
	"mullein/internal/settings"
)

// TestRecordsThatAreOlderAreSaid starts a service on records that end before what it saw.
func TestRecordsThatAreOlderAreSaid(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	file := filepath.Join(home, "last-arrival")
	start := func() string {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		var log bytes.Buffer // the handler writes one line at a time
		require.NoError(t, server.Serve(ctx, server.Config{Home: home, Settings: settings.Settings{Listen: "127.0.0.1:0", Database: pgtest.Database(t)}, Out: io.Discard,
			Log: slog.New(slog.NewTextHandler(&log, nil)), Ready: func(server.Running) {
				go func() {
					defer cancel()
					assert.Eventually(t, func() bool {
						text, err := os.ReadFile(file)
						return err == nil && string(text) == "0\n"
					}, time.Minute, 10*time.Millisecond, "it notes how far they go")
				}()
			}}))
		return log.String()
	}
	assert.NotContains(t, start(), "older")
	require.NoError(t, os.WriteFile(file, []byte("100\n"), 0o600))
	assert.Contains(t, start(), "the records are older than when this service ran last, as after a restore; run: "+
		"mullein reconcile")
}
