package shapes

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/cli"
	"mullein/internal/core/feed"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/server"
)

// TestMain is a service where it is started as one.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "serve" {
		serve := func(ctx context.Context, o cli.ServeOptions) error {
			return server.Serve(ctx, server.Config{Home: o.Home, Settings: o.Settings.Settings, Out: os.Stdout,
				Log: slog.New(slog.NewTextHandler(os.Stderr, nil))})
		}
		os.Exit(cli.Run(context.Background(), cli.Program{Serve: serve}, os.Args[1:], os.Stdout, os.Stderr))
	}
	pgtest.Main(m, nil)
}

func TestAMatrix(t *testing.T) {
	t.Parallel()
	few, many := Matrix(2_000_000), Matrix(20_000_000)
	assert.Less(t, len(few), len(many))
	names := map[string]bool{}
	for _, s := range many {
		assert.False(t, names[s.String()], "%s is there twice", s)
		names[s.String()] = true
		f, err := feed.Parse("shape.yaml", []byte(definition(s, "shape", "shape")))
		require.NoError(t, err, s)
		assert.Len(t, f.Schema.Fields, len(columnsOf(s)))
		if s.Columns != Six {
			assert.Len(t, f.Schema.Fields, 100)
		}
	}
	for _, s := range few {
		assert.LessOrEqual(t, s.Before, 2_000_000)
		assert.LessOrEqual(t, s.Files*s.Rows, 2_000_000+150*13_000)
	}
}

// TestAFewShapes measures small tables, each way that differs in how files and tables are made,
// and leaves nothing behind.
func TestAFewShapes(t *testing.T) {
	ctx := context.Background()
	url := pgtest.Database(t)
	db, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer db.Close(ctx)
	program, err := os.Executable()
	require.NoError(t, err)
	small := Shape{Before: 500, Key: TextAndInteger, Order: ByArrival, Columns: Six, Format: "csv", Files: 1, Rows: 100, Rounds: 1}
	with := func(by func(*Shape)) Shape {
		s := small
		by(&s)
		return s
	}
	list := []Shape{
		with(func(s *Shape) { s.Change, s.Rounds = ChangedRandom, 2 }),
		with(func(s *Shape) { s.Key, s.Order, s.Change = UUID, ByColumn, ChangedTenth }),
		with(func(s *Shape) { s.Key, s.Order, s.Change = BigInteger, BySlot, ChangedSorted }),
		with(func(s *Shape) {
			s.Before, s.Columns, s.Format, s.Change, s.Files = 0, MostlyTimes, "parquet", AllNew, 3
		}),
		with(func(s *Shape) { s.Before, s.Columns, s.Format, s.Change = 0, MostlyText, "jsonl", AllNew }),
		with(func(s *Shape) { s.Change, s.Alone = NoneChanged, true }),
	}
	dir := t.TempDir()
	var out strings.Builder
	require.NoError(t, Run(ctx, Options{Program: program, Server: url, Dir: dir, Shapes: list, Rounds: 2, Out: &out}))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 2+len(list)+2, "and that the role may not make a CHECKPOINT")
	for i, s := range list {
		assert.Contains(t, lines[2+i], fmt.Sprintf("| %d | %s | %s | %s | ", s.Before, s.Key, s.Order, s.Columns))
		assert.Contains(t, lines[2+i], " | "+s.Change+" | ")
		measured := ` \d+\.\d\d \| \d+\.\d\d \|`
		if s.Alone {
			measured = `  \|  \|`
		}
		assert.Regexp(t, ` \d+\.\d\d \|`+measured+` \d\d+ \| \d+\.\d \|$`, lines[2+i], "times, memory and journal")
	}
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	var databases int
	require.NoError(t, db.QueryRow(ctx, "SELECT count(*) FROM pg_database WHERE datname LIKE 'mullein_shapes_%' AND datname LIKE "+
		"'%'||$1||'%'", fmt.Sprint(os.Getpid())).Scan(&databases))
	assert.Zero(t, databases)
	err = Run(ctx, Options{Program: filepath.Join(dir, "none"), Server: url, Dir: dir, Shapes: list})
	assert.ErrorContains(t, err, "start a service")
}

// TestBothLoadTheSame holds what Mullein has loaded against what the script has.
func TestBothLoadTheSame(t *testing.T) {
	ctx := context.Background()
	program, err := os.Executable()
	require.NoError(t, err)
	m, err := startMachine(ctx, Options{Program: program, Server: pgtest.Database(t), Dir: t.TempDir()})
	require.NoError(t, err)
	defer func() { assert.NoError(t, m.close()) }()
	for _, order := range []string{ByArrival, ByColumn} {
		s := Shape{Before: 300, Key: TextAndInteger, Order: order, Columns: Six, Format: "csv", Files: 1, Rows: 200}
		at := &tables{machine: m, name: "both_" + order}
		require.NoError(t, at.fill(ctx, s))
		for _, change := range []string{AllNew, ChangedRandom, ChangedSorted, ChangedTenth, NoneChanged} {
			s.Change = change
			_, err := at.measure(ctx, s, 1)
			require.NoError(t, err)
			var differ, rows int
			columns := "site, n, level, flow, quality, at"
			require.NoError(t, m.db.QueryRow(ctx, "SELECT count(*) FROM (SELECT "+columns+" FROM "+qualified(at.mine)+
				" EXCEPT SELECT "+columns+" FROM "+qualified(at.script)+") d").Scan(&differ))
			assert.Zero(t, differ, change)
			require.NoError(t, m.db.QueryRow(ctx, "SELECT (SELECT count(*) FROM "+qualified(at.mine)+") - (SELECT count(*) FROM "+
				qualified(at.script)+")").Scan(&rows))
			assert.Zero(t, rows, change)
		}
	}
}
