package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
)

// TestABackupUnderLoadIsRestored writes a back-up while files are loaded and put away, goes on,
// restores it, and demands that every row is there once and every file known.
func TestABackupUnderLoadIsRestored(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	home, database := filepath.Join(t.TempDir(), ".mullein"), pgtest.Database(t)
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, "mullein.yaml"), []byte("keep: {events: 3d}\n"), 0o600))
	s := serveWith(t, home, database)
	_, err := s.client.PutFeed(ctx, "gauges", "gauges.yaml", `feed: gauges
landing: {at: in, files: "G_{n:#}.csv", settle: 20ms, put_away: done}
schema: {fields: [{name: station}, {name: level, type: number}], primaryKey: [station]}
target: {table: river.gauge}
`)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "in"), 0o755))
	dropped := 0
	drop := func(n int) {
		for range n {
			dropped++
			name := filepath.Join(s.Root, "in", fmt.Sprintf("G_%d.csv", dropped))
			require.NoError(t, os.WriteFile(name+".tmp", fmt.Appendf(nil, "station,level\ns%d,1\n", dropped), 0o644))
			require.NoError(t, os.Rename(name+".tmp", name))
		}
	}
	conn, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	count := func(query string) (n int) {
		require.NoError(t, conn.QueryRow(ctx, query).Scan(&n))
		return n
	}
	drop(100)
	s.eventually(func() bool { return count("SELECT count(*) FROM mullein_records.arrival WHERE state = 'loaded'") > 10 })
	file := filepath.Join(t.TempDir(), "mullein.backup")
	code, out, errOut := s.mullein("backup", file)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "1 feed")
	drop(100)
	s.eventually(func() bool {
		return count("SELECT count(*) FROM mullein_records.arrival WHERE state = 'loaded' AND away = 'done'") == dropped
	})
	code, _, errOut = s.mullein("restore", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "a service works on these records")
	require.NoError(t, s.stop())
	code, out, errOut = s.mullein("restore", file)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "the target has it as loaded; the ledger does not know it")
	assert.Less(t, count("SELECT count(*) FROM mullein_records.arrival"), dropped)
	again := serveWith(t, home, database)
	code, out, _ = again.mullein("reconcile", "--mend")
	assert.Zero(t, code, out)
	again.eventually(func() bool {
		return count("SELECT count(*) FROM mullein_records.arrival WHERE state = 'loaded'") == dropped
	})
	assert.Equal(t, dropped, count("SELECT count(*) FROM river.gauge"), "every row is there once")
	assert.Equal(t, dropped, count("SELECT count(DISTINCT path) FROM mullein_records.arrival WHERE state = 'loaded'"))
	drop(1)
	again.eventually(func() bool { return count("SELECT count(*) FROM river.gauge") == dropped })
	require.NoError(t, again.stop())
	half, err := os.ReadFile(file)
	require.NoError(t, err)
	torn := filepath.Join(t.TempDir(), "torn")
	require.NoError(t, os.WriteFile(torn, half[:len(half)/2], 0o600))
	code, _, errOut = again.mullein("restore", torn)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "cut short")
	assert.Equal(t, dropped, count("SELECT count(*) FROM mullein_records.arrival WHERE state = 'loaded'"), "nothing was touched")
}
