package landing

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALandingKeepsOffWhatIsTheServices tries to get at the service's own files from
// above, from below, and by links.
func TestALandingKeepsOffWhatIsTheServices(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	for _, dir := range []string{"landings/gauges", "postgres/base", "beside"} {
		require.NoError(t, os.MkdirAll(filepath.Join(home, dir), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(home, "owner.token"), []byte("secret"), 0o600))
	require.NoError(t, os.Symlink("../postgres", filepath.Join(home, "landings", "linked")))
	require.NoError(t, os.Symlink("postgres", filepath.Join(home, "linked")))
	guard := NewGuard(filepath.Join(home, "owner.token"), filepath.Join(home, "postgres"),
		filepath.Join(home, "not there"))
	for _, c := range []struct {
		root, at string
		held     string // "" for a good landing
	}{
		{home, "landings/gauges", ""}, {home, "landings", ""}, {home, "beside", ""},
		{filepath.Join(home, "landings"), ".", ""},
		{home, ".", "owner.token"}, {filepath.Dir(home), filepath.Base(home), "owner.token"}, {"/", ".", "owner.token"},
		{home, "postgres", "postgres"}, {home, "postgres/base", "postgres"}, {home, "linked", "postgres"},
		{home, "linked/base", "postgres"},
		{home, "landings/linked", "postgres"},
	} {
		f, err := Open([]string{c.root}, c.at)
		require.NoError(t, err, c.at)
		err = guard.Check(f)
		require.NoError(t, f.Close())
		if c.held == "" {
			assert.NoError(t, err, c.at)
			continue
		}
		var holds *OwnError
		if assert.ErrorAs(t, err, &holds, c.at) {
			assert.Equal(t, filepath.Join(home, c.held), holds.Own, c.at)
		}
	}
	_, err := Open([]string{filepath.Join(home, "landings")}, "linked")
	assert.Error(t, err, "it leads out of the root")
}
