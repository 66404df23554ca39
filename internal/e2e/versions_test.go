package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// previous is the last commit of the version before this one.
const previous = "c74dd2e"

// buildPrevious builds the program of the version before. It skips the test where its sources are not
// at hand.
func buildPrevious(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	sources, err := exec.Command("git", "-C", "../..", "archive", previous).Output()
	if err != nil {
		t.Skipf("the sources of %s are not at hand: %v", previous, err)
	}
	unpack := exec.Command("tar", "-x", "-C", dir)
	unpack.Stdin = bytes.NewReader(sources)
	require.NoError(t, unpack.Run())
	program := filepath.Join(dir, "mullein")
	build := exec.Command("go", "build", "-o", program, "./cmd/mullein")
	build.Dir = dir
	if out, err := build.CombinedOutput(); err != nil {
		t.Skipf("the sources of %s cannot be built here: %v: %s", previous, err, out)
	}
	return program
}

// TestTwoVersionsShareADatabase has the version before work on while this one brings the records to
// its form and joins in, and alone again after it.
func TestTwoVersionsShareADatabase(t *testing.T) {
	t.Parallel()
	program := buildPrevious(t)
	database, root := pgtest.Database(t), t.TempDir()
	home := filepath.Join(t.TempDir(), "older")
	logFile, err := os.Create(filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	older := exec.Command(program, "serve", "--home", home, "--database", database, "--listen", "127.0.0.1:0", "--landing-root", root)
	older.Stdout, older.Stderr = logFile, logFile
	require.NoError(t, older.Start())
	t.Cleanup(func() { _ = older.Process.Kill(); _ = older.Wait() })
	require.Eventually(t, func() bool {
		address, err := os.ReadFile(filepath.Join(home, "address"))
		if err != nil {
			return false
		}
		answer, err := http.Get(strings.TrimSpace(string(address)) + "/readyz")
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == http.StatusOK
	}, browserPatience, looksEvery)

	newer := filepath.Join(t.TempDir(), "newer")
	s := serveFrom(t, settings.From{Home: newer, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + database,
		"MULLEIN_LANDING_ROOTS=[" + root + "]"}})
	const feeds = 6
	put := func(round int) {
		for n := range feeds {
			dir := filepath.Join(root, fmt.Sprint("in", n))
			require.NoError(t, os.MkdirAll(dir, 0o755))
			for file := range 5 {
				name := filepath.Join(dir, fmt.Sprintf("G_%d_%d.csv", round, file))
				require.NoError(t, os.WriteFile(name, fmt.Appendf(nil, "station,level\na%d%d,1\nb%d%d,2\n", round, file, round, file), 0o644))
			}
		}
	}
	for n := range feeds {
		_, err := s.client.PutFeed(context.Background(), fmt.Sprint("gauges-", n), "gauges.yaml", fmt.Sprintf(`feed: gauges-%d
landing: {at: in%d, files: "G_*.csv", settle: 50ms}
schema: {fields: [{name: station}, {name: level, type: number}], primaryKey: [station]}
target: {table: river.gauge_%d}
`, n, n, n))
		require.NoError(t, err)
	}
	db, err := pgx.Connect(context.Background(), database)
	require.NoError(t, err)
	defer db.Close(context.Background())
	loaded := func(want int) func() bool {
		return func() bool {
			var files int
			err := db.QueryRow(context.Background(), "SELECT count(*) FROM mullein_records.arrival WHERE state = 'loaded'").Scan(&files)
			return err == nil && files == want
		}
	}
	put(1)
	s.eventually(loaded(feeds * 5))
	services, err := s.client.Status(context.Background())
	require.NoError(t, err)
	assert.Len(t, services.Services, 2)
	require.NoError(t, s.stop())
	put(2) // the version before goes on alone, with the records as they are now
	s.eventually(loaded(feeds * 10))
	var rows, markers int
	for n := range feeds {
		var r int
		require.NoError(t, db.QueryRow(context.Background(), fmt.Sprintf("SELECT count(*) FROM river.gauge_%d", n)).Scan(&r))
		rows += r
	}
	require.NoError(t, db.QueryRow(context.Background(), "SELECT count(*) FROM mullein.load").Scan(&markers))
	assert.Equal(t, feeds*20, rows)
	assert.Equal(t, feeds*10, markers, "each file was loaded once")
	require.NoError(t, older.Process.Signal(syscall.SIGTERM))
	_ = older.Wait()
	said, err := os.ReadFile(logFile.Name())
	require.NoError(t, err)
	assert.NotContains(t, string(said), `"level":"ERROR"`)
	// What it had prepared is of the tables as they were; it is said once, and tried again.
	assert.NotContains(t, strings.ReplaceAll(string(said), "(SQLSTATE 0A000)", ""), "SQLSTATE")
}
