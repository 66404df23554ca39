package e2e

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
)

// TestTheDebianPackage builds packages of two versions, and installs, starts, upgrades and removes them
// below a folder, where no system's own users and services are touched.
func TestTheDebianPackage(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("dpkg-deb"); err != nil {
		t.Skip("this is no Debian")
	}
	if _, err := os.Stat("../../bin/mullein"); err != nil {
		t.Skip("bin/mullein is not built: make build")
	}
	folder, root := t.TempDir(), t.TempDir()
	build := func(version string) string {
		out, err := exec.Command("../../setup/deb.sh", folder, version, "none").CombinedOutput()
		require.NoError(t, err, string(out))
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		return lines[len(lines)-1]
	}
	for _, dir := range []string{"updates", "info", "triggers"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg", dir), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	dpkg := func(args ...string) string {
		t.Helper()
		cmd := exec.Command("dpkg", append([]string{"--root=" + root, "--force-script-chrootless", "--force-not-root", "--force-depends"}, args...)...)
		cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	in := func(path string) string { return filepath.Join(root, path) }
	first := build("1.0")
	dpkg("--install", first)
	for _, path := range []string{"usr/bin/mullein", "usr/lib/systemd/system/mullein.service", "usr/share/man/man1/mullein-feed-draft.1.gz",
		"usr/share/bash-completion/completions/mullein", "etc/mullein/mullein.yaml", "var/lib/mullein"} {
		_, err := os.Stat(in(path))
		assert.NoError(t, err, path)
	}
	page, err := exec.Command("gzip", "-dc", in("usr/share/man/man1/mullein-feed-draft.1.gz")).Output()
	require.NoError(t, err)
	assert.Contains(t, string(page), "mullein feed draft")

	// The settings that somebody changed are kept by an upgrade.
	settings := in("etc/mullein/mullein.yaml")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	own := strings.Replace(string(text), "listen: 127.0.0.1:8471", "listen: 127.0.0.1:0", 1)
	require.NotEqual(t, string(text), own)
	require.NoError(t, os.WriteFile(settings, []byte(own), 0o640))
	start := func() *exec.Cmd {
		address := in("var/lib/mullein/address")
		_ = os.Remove(address)
		cmd := exec.Command(in("usr/bin/mullein"), "serve")
		cmd.Env = append(os.Environ(), "MULLEIN_HOME="+in("var/lib/mullein"), "MULLEIN_SETTINGS="+settings, "MULLEIN_DATABASE="+pgtest.Database(t))
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool {
			url, err := os.ReadFile(address)
			if err != nil {
				return false
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSpace(string(url))+"/readyz", nil)
			if err != nil {
				return false
			}
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				return false
			}
			answer.Body.Close()
			return answer.StatusCode == http.StatusOK
		}, browserPatience, looksEvery)
		return cmd
	}
	stop := func(cmd *exec.Cmd) {
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		assert.NoError(t, cmd.Wait())
	}
	stop(start())
	dpkg("--install", build("1.1"))
	kept, err := os.ReadFile(settings)
	require.NoError(t, err)
	assert.Equal(t, own, string(kept))
	stop(start())

	dpkg("--remove", "mullein")
	assert.NoFileExists(t, in("usr/bin/mullein"))
	assert.FileExists(t, settings)
	said := dpkg("--purge", "mullein")
	assert.NoFileExists(t, settings)
	assert.Contains(t, said, "The records stay in /var/lib/mullein")
	assert.DirExists(t, in("var/lib/mullein"))

	again, err := os.ReadFile(first)
	require.NoError(t, err)
	require.NoError(t, os.Remove(first))
	anew, err := os.ReadFile(build("1.0"))
	require.NoError(t, err)
	assert.Equal(t, len(again), len(anew))
	assert.Equal(t, again, anew, "the same sources make the same package")

	if tool, err := exec.LookPath("systemd-analyze"); err == nil {
		out, err := exec.Command(tool, "security", "--offline=yes", "--threshold=25", "../../setup/deb/mullein.service").CombinedOutput()
		assert.NoError(t, err, string(out))
	}
}
