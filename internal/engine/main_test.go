package engine

import (
	"context"
	"log/slog"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"testing"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/table"
)

// TestMain lets the test binary be the process that fault tests kill.
func TestMain(m *testing.M) {
	if url := os.Getenv("MULLEIN_TEST_DATABASE"); url != "" {
		child(url)
		return
	}
	pgtest.Main(m, prepare)
}

func mkfifo(path string) error { return syscall.Mkfifo(path, 0o644) }

// child runs an engine until it is told to stop, or kills itself without
// notice at the step that it was told.
func child(url string) {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	l, err := ledger.Open(ctx, url)
	if err != nil {
		panic(err)
	}
	d, err := table.Open(ctx, url)
	if err != nil {
		panic(err)
	}
	left, _ := strconv.Atoi(os.Getenv("MULLEIN_TEST_AFTER"))
	e := New(Options{ID: os.Getenv("MULLEIN_TEST_SERVICE"), Env: &load.Env{AddedColumns: load.DefaultAddedColumns,
		Ledger: l, Databases: table.NewConnections(map[string]*table.Database{feed.MainConnection: d}),
		Roots: []string{os.Getenv("MULLEIN_TEST_ROOT")}, Service: "child", Progress: &load.Progresses{},
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
		OnStep: func(_ string, _ int64, step load.Step) {
			if string(step) != os.Getenv("MULLEIN_TEST_DIE_AT") {
				return
			}
			if left--; left < 0 {
				_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
				select {} // until it arrives
			}
		},
	}})
	if err := e.Run(ctx); err != nil {
		panic(err)
	}
}
