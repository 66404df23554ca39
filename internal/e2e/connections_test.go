package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// TestConnectionsAreTakenUp names a connection, and gives it another database, while the service runs.
func TestConnectionsAreTakenUp(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	file := filepath.Join(home, settings.FileName)
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write("{}\n")
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
	dropped := 0
	drop := func(name string) {
		dropped++
		require.NoError(t, os.WriteFile(filepath.Join(s.Root, "in", name), fmt.Appendf(nil, "station,level\ns%d,1\n", dropped), 0o644))
	}
	drop("G_1.csv")
	put := func() error {
		_, err := s.client.PutFeed(ctx, "gauges", "gauges.yaml", `feed: gauges
landing: {at: in, files: "G_*.csv", settle: 50ms}
schema: {fields: [{name: station}, {name: level, type: number}], primaryKey: [station]}
target: {connection: mart, table: river.gauge}
`)
		return err
	}
	assert.ErrorContains(t, put(), `the service knows no connection "mart"; name it under connections in its settings`)
	rows := func(database string) (n int) {
		db, err := pgx.Connect(ctx, database)
		require.NoError(t, err)
		defer db.Close(ctx)
		_ = db.QueryRow(ctx, "SELECT count(*) FROM river.gauge").Scan(&n) // none while there is no table
		return n
	}
	first, second := pgtest.Database(t), pgtest.Database(t)
	write("connections: {mart: \"" + first + "\"}\n")
	s.eventually(func() bool { return put() == nil })
	s.eventually(func() bool { return rows(first) == 1 })
	write("connections: {mart: \"" + second + "\"}\n")
	next := func() { // a file, when those before it are loaded
		if rows(first)+rows(second) == dropped {
			drop(fmt.Sprintf("G_%d.csv", dropped+1))
		}
	}
	s.eventually(func() bool {
		next()
		return rows(second) >= 1
	})
	write("connections: {}\n")
	s.eventually(func() bool {
		next()
		_, out, _ := s.mullein("status")
		return strings.Contains(out, `the service knows no connection "mart"`)
	})
}
