package cli

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/settings"
)

func TestTablesLineUp(t *testing.T) {
	var b bytes.Buffer
	tab := &grid{head: []string{"PATH", "READ"}}
	tab.add(text("ä.csv"), integer(1234567))
	tab.add(cell{text: "loaded", color: "32"}, integer(-5))
	tab.write(&b)
	assert.Equal(t, "PATH         READ\nä.csv   1\u00a0234\u00a0567\nloaded         -5\n", b.String())
}

func TestNumbersAndTexts(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1\u00a0000", -1000: "-1\u00a0000",
		1234567: "1\u00a0234\u00a0567"} {
		assert.Equal(t, want, grouped(n))
	}
	assert.Equal(t, "a b", shorten("a\n  b", 10))
	assert.Equal(t, "äö…", shorten("äöüß", 3))
	assert.Equal(t, "-", when(nil).text)
	assert.Equal(t, "12 read = 10 inserted + 1 duplicate + 1 rejected; 3 removed from the table",
		balanceLine(api.Balance{Read: 12, Inserted: 10, Duplicate: 1, Rejected: 1, Removed: 3}))
	assert.Equal(t, "0 read", balanceLine(api.Balance{}))
}

func run(t *testing.T, p Program, args ...string) (int, string, string) {
	t.Helper()
	var out, errOut bytes.Buffer
	code := Run(context.Background(), p, args, &out, &errOut)
	return code, out.String(), errOut.String()
}

func TestWithoutAService(t *testing.T) {
	t.Setenv("MULLEIN_SERVER", "")
	t.Setenv("MULLEIN_TOKEN", "")
	home := t.TempDir()
	code, _, stderr := run(t, Program{}, "status", "--home", home)
	assert.Equal(t, exitError, code)
	assert.Contains(t, stderr, "no service was started with the home folder")
	t.Setenv("MULLEIN_SERVER", "http://127.0.0.1:1")
	code, _, stderr = run(t, Program{}, "status", "--home", home)
	assert.Equal(t, exitError, code)
	assert.Contains(t, stderr, "set MULLEIN_TOKEN")
	t.Setenv("MULLEIN_TOKEN", "mu_x")
	code, _, stderr = run(t, Program{}, "status", "--home", home)
	assert.Equal(t, exitError, code)
	assert.Contains(t, stderr, "no service answers")
	code, stdout, _ := run(t, Program{}, "--help")
	assert.Equal(t, exitGood, code)
	assert.Contains(t, stdout, "mullein feed put FILE")
}

func TestServeIsCalledWithItsFlags(t *testing.T) {
	t.Setenv("MULLEIN_DATABASE", "postgres://from-the-environment")
	var got ServeOptions
	p := Program{Serve: func(_ context.Context, o ServeOptions) error { got = o; return nil },
		Demo: func(context.Context, ServeOptions) error { return errors.New("no demo") }}
	code, _, _ := run(t, p, "serve", "--home", "h", "--listen", ":0", "--landing-root", "a", "--landing-root", "b",
		"--keep-events", "2d", "--connection", "mart=postgres://mart")
	assert.Equal(t, exitGood, code)
	assert.Equal(t, "h", got.Home)
	want := settings.Default()
	want.Listen, want.Database, want.LandingRoots = ":0", "postgres://from-the-environment", []string{"a", "b"}
	want.Keep.Events = settings.Span(48 * time.Hour)
	want.Connections = map[string]string{"mart": "postgres://mart"}
	assert.Equal(t, want, got.Settings.Settings)
	code, _, stderr := run(t, p, "demo", "--once")
	assert.Equal(t, exitError, code)
	assert.Contains(t, stderr, "no demo")
}

func TestFeedFilesAreFound(t *testing.T) {
	dir := t.TempDir()
	_, err := feedFiles([]string{dir})
	assert.ErrorContains(t, err, "holds no .yaml files")
	for _, name := range []string{"b.yaml", "a.yml", "c.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	files, err := feedFiles([]string{dir})
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(dir, "a.yml"), filepath.Join(dir, "b.yaml")}, files)
	_, err = feedFiles([]string{filepath.Join(dir, "missing")})
	assert.ErrorIs(t, err, os.ErrNotExist)
	code, stdout, _ := run(t, Program{}, "feed", "check", dir)
	assert.Equal(t, exitWrong, code)
	assert.Equal(t, 2, strings.Count(stdout, "an empty feed file"))
	code, stdout, _ = run(t, Program{}, "feed", "check", dir, "-o", "json")
	assert.Equal(t, exitWrong, code)
	assert.Contains(t, stdout, `"problems"`)
}
