package landing

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestAllNamesAreListed lists folders with more names than are read at once, long
// and odd ones among them, and what is not a file.
func TestAllNamesAreListed(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	in := filepath.Join(root, "in")
	want := map[string]string{}
	write := func(name string) {
		path := filepath.Join(in, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(name), 0o644))
		want[name] = ""
	}
	for n := range 3000 {
		write(fmt.Sprintf("many/a name with spaces %04d.csv", n))
	}
	write(strings.Repeat("x", 251) + ".csv")
	write("añb.csv")
	write("a\nb.csv")
	write("one/two/three/x.csv")
	write("..two-dots.csv")
	require.NoError(t, unix.Mkfifo(filepath.Join(in, "pipe.csv"), 0o600))
	require.NoError(t, os.Symlink("nothing", filepath.Join(in, "dangling.csv")))
	require.NoError(t, os.Symlink("one/two/three/x.csv", filepath.Join(in, "link.csv")))
	require.NoError(t, os.Mkdir(filepath.Join(in, "folder.csv"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(in, ".hidden/deep"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(in, ".hidden/deep/x.csv"), nil, 0o644))
	want["pipe.csv"], want["dangling.csv"], want["folder.csv"], want["link.csv"] = "is a named pipe, not a file",
		"is a symbolic link to nothing", "is a folder, not a file", ""
	folder, err := Open([]string{root}, "in")
	require.NoError(t, err)
	defer folder.Close()
	got := map[string]string{}
	asked := 0
	list := func(wanted func(string) bool) {
		clear(got)
		require.NoError(t, folder.List(context.Background(), func(p string) bool {
			asked++
			return wanted(p)
		}, func(e Entry) error {
			_, twice := got[e.Path]
			require.False(t, twice, e.Path)
			got[e.Path] = e.Problem
			if e.Problem == "" && e.Path != "link.csv" {
				require.EqualValues(t, len(e.Path), e.Size)
				require.NotZero(t, e.Inode)
			}
			return nil
		}))
	}
	list(func(p string) bool { return strings.HasSuffix(p, ".csv") })
	assert.Equal(t, want, got)
	assert.Greater(t, asked, len(want), "folders are asked about too")
	list(func(string) bool { return false })
	assert.Empty(t, got, "what is not wanted is not looked at")
	ended, end := context.WithCancel(context.Background())
	end()
	assert.ErrorIs(t, folder.List(ended, func(string) bool { return true }, func(Entry) error { return nil }),
		context.Canceled)
}

// TestNamesAreReadInPieces reads a folder through a space that holds only a few
// names.
func TestNamesAreReadInPieces(t *testing.T) {
	t.Parallel()
	in := t.TempDir()
	for n := range 100 {
		require.NoError(t, os.WriteFile(filepath.Join(in, fmt.Sprintf("file_%03d", n)), nil, 0o644))
	}
	dir, err := os.Open(in)
	require.NoError(t, err)
	defer dir.Close()
	names := namesOf(dir)
	names.buf = make([]byte, 200)
	var all []string
	for {
		some, err := names.next()
		require.NoError(t, err)
		if len(some) == 0 {
			break
		}
		assert.Less(t, len(some), 10)
		for _, n := range some {
			all = append(all, n.name)
		}
	}
	slices.Sort(all)
	require.Len(t, slices.Compact(all), 100)
	assert.Equal(t, "file_000", all[0])
}

// TestNamesThatCannotBeRecorded are said, and nothing else suffers.
func TestNamesThatCannotBeRecorded(t *testing.T) {
	root, f := folder(t)
	strange := "caf\xe9.csv"
	require.NoError(t, os.WriteFile(filepath.Join(root, "in", strange), []byte("x"), 0o644))
	deep := filepath.Join(root, "in")
	for range 10 {
		deep = filepath.Join(deep, strings.Repeat("d", 240))
		require.NoError(t, os.Mkdir(deep, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(deep, "a.csv"), []byte("x"), 0o644))
	within := filepath.Join(root, "in", "\xff")
	require.NoError(t, os.Mkdir(within, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(within, "b.csv"), []byte("x"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "in", "good.csv"), []byte("x"), 0o644))
	problems := map[string]string{}
	require.NoError(t, f.List(context.Background(), func(p string) bool { return strings.HasSuffix(p, ".csv") },
		func(e Entry) error {
			assert.True(t, utf8.ValidString(e.Path), e.Path)
			assert.LessOrEqual(t, len(e.Path), MaxPath)
			if strings.HasPrefix(e.Path, "d") {
				e.Path = e.Path[:10]
			}
			problems[e.Path] = e.Problem
			return nil
		}))
	assert.Equal(t, map[string]string{
		"good.csv":    "",
		`caf\xe9.csv`: "has a name that is not UTF-8; have it renamed",
		`\xff/b.csv`:  "has a name that is not UTF-8; have it renamed",
		"dddddddddd":  "has a path of 2415 bytes; 2000 are the most",
	}, problems)
	e, err := f.Stat(strange)
	require.NoError(t, err)
	assert.Equal(t, `caf\xe9.csv`, e.Path, "an event names it the same")
	assert.Equal(t, "has a name that is not UTF-8; have it renamed", e.Problem)
}
