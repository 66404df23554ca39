package doctor

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

// find returns what was found of a thing.
func find(t *testing.T, list []Finding, of string) Finding {
	t.Helper()
	for _, f := range list {
		if f.Of == of {
			return f
		}
	}
	t.Fatalf("nothing is said of %s", of)
	return Finding{}
}

func TestEachIsSaidWithTheWayOut(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, "owner.token"), nil, 0o644))
	require.NoError(t, os.Chmod(filepath.Join(home, "owner.token"), 0o644))
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	text := "landing_roots: [" + home + ", /nowhere]\nconnections: {mart: \"postgres://x:hunter2@" + closed.Addr().String() +
		"/mart\"}\noutlets:\n  mail: {mail: \"" + closed.Addr().String() + "\", tls: none, from: a@sorrel.example, to: [b@sorrel.example]}\n" +
		"  page: {command: [/nowhere/page]}\n  cat: {command: [/bin/cat]}\n" +
		"places:\n  upper: {address: \"sftp://" + closed.Addr().String() + "/out\", user: me}\n  lab: {address: \"s3://lab\"}\n  keyless: {address: " +
		"\"sftp://127.0.0.1/out\", user: me, key_file: /nowhere/key}\n"
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte(text), 0o600))
	said, err := settings.Read(settings.From{Home: home})
	require.NoError(t, err)
	list := Look(context.Background(), home, said, pgtest.Database(t), nil)
	for of, good := range map[string]bool{"home folder": false, "settings": true, "database": true, "records": false,
		"connection mart": false, "landing root " + home: true, "landing root /nowhere": false, "outlet mail": false, "outlet page": false,
		"outlet cat": true, "place upper": false, "place lab": true, "place keyless": false, "service": false} {
		f := find(t, list, of)
		assert.Equal(t, good, f.Good, "%s: %s", of, f.Saw)
		assert.Equal(t, good, f.Way == "", "%s: a way out", of)
		assert.NotContains(t, f.Saw, "hunter2")
	}
	assert.Contains(t, find(t, list, "home folder").Saw, "others can read owner.token")
	require.NoError(t, os.Chmod(filepath.Join(home, "owner.token"), 0o600))
	assert.True(t, find(t, Look(context.Background(), home, said, "", assert.AnError), "home folder").Good)
	assert.True(t, strings.HasPrefix(find(t, list, "database").Saw, "PostgreSQL "))
}
