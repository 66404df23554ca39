package localpg

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLifeOfAPrivateServer makes it, leaves it behind as a killed service
// does, adopts it, crashes it, and finds everything again.
func TestLifeOfAPrivateServer(t *testing.T) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("/var/tmp", "mullein-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	first, err := Start(ctx, Options{Dir: dir})
	require.NoError(t, err)
	assert.False(t, first.Adopted)
	assert.False(t, first.Moved)
	conn, err := pgx.Connect(ctx, first.URL())
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "CREATE TABLE kept AS SELECT 1")
	require.NoError(t, err)
	var address, collation string
	require.NoError(t, conn.QueryRow(ctx, "SELECT current_setting('listen_addresses'), datcollate FROM pg_database "+
		"WHERE datname = current_database()").Scan(&address, &collation))
	assert.Equal(t, "127.0.0.1", address)
	assert.Equal(t, "C", collation)
	for _, forbidden := range []string{"SELECT pg_read_file('/etc/hostname')", "COPY kept TO PROGRAM 'cat'",
		"CREATE ROLE another SUPERUSER",
		"GRANT pg_execute_server_program TO mullein", "SELECT rolpassword FROM pg_authid"} {
		_, err = conn.Exec(ctx, forbidden)
		assert.ErrorContains(t, err, "SQLSTATE 42501", forbidden) // insufficient privilege
	}
	require.NoError(t, conn.Close(ctx))

	again, err := Start(ctx, Options{Dir: dir})
	require.NoError(t, err)
	assert.True(t, again.Adopted)
	assert.Equal(t, first.URL(), again.URL())
	require.NoError(t, again.Crash(ctx))

	last, err := Start(ctx, Options{Dir: dir})
	require.NoError(t, err)
	conn, err = pgx.Connect(ctx, last.URL())
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "SELECT * FROM kept")
	assert.NoError(t, err)
	require.NoError(t, last.Stop(ctx))
}

// TestAFolderOutOfReach shows that PostgreSQL's user gets a folder that it can
// reach when root's own is closed to it.
func TestAFolderOutOfReach(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root lends the server to another user")
	}
	dir := filepath.Join(t.TempDir(), "closed")
	require.NoError(t, os.Mkdir(dir, 0o700))
	s, err := Start(context.Background(), Options{Dir: dir})
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(s.Data) })
	assert.True(t, s.Moved)
	assert.NotContains(t, s.Data, dir)
	require.NoError(t, s.Crash(context.Background()))
}

// TestTheServerIsNotGivenSecrets looks at what of our environment the server has.
func TestTheServerIsNotGivenSecrets(t *testing.T) {
	assert.Equal(t, []string{"HOME=/data", "PATH=/bin", "LC_ALL=C.UTF-8", "TZ=UTC"},
		environment([]string{"MULLEIN_TOKEN=secret",
			"MULLEIN_DATABASE=postgres://u:p@h/d", "PATH=/bin", "LC_ALL=C.UTF-8", "PGPASSWORD=secret", "HOME=/home/me",
			"TZ=UTC"}, "/data"))
}
