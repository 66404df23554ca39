package landing

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func folder(t *testing.T) (string, *Folder) {
	t.Helper()
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "in/deep"), 0o755))
	f, err := Open([]string{filepath.Join(root, "nowhere"), root}, "in")
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return root, f
}

func list(t *testing.T, f *Folder) map[string]string {
	t.Helper()
	seen := map[string]string{}
	require.NoError(t, f.List(context.Background(), func(string) bool { return true }, func(e Entry) error {
		seen[e.Path] = e.Problem
		return nil
	}))
	return seen
}

func TestNothingOutsideOfTheRootsIsOpened(t *testing.T) {
	root, f := folder(t)
	secret := filepath.Join(t.TempDir(), "secret.csv")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(root, "in/link.csv")))
	require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(root, "in/dir")))
	require.NoError(t, os.Symlink("deep/x.csv", filepath.Join(root, "in/inside.csv")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "in/deep/x.csv"), []byte("x"), 0o644))
	require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(root, "out")))
	for _, path := range []string{"link.csv", "dir/secret.csv", "../../" + filepath.Base(secret), "../in/link.csv",
		secret} {
		_, err := f.Open(path)
		assert.Error(t, err, path)
	}
	for _, at := range []string{"out", "..", "../..", "/etc", "in/../../etc"} {
		_, err := Open([]string{root}, at)
		var away *AwayError
		assert.ErrorAs(t, err, &away, at)
	}
	seen := list(t, f)
	assert.Contains(t, seen["link.csv"], "cannot be looked at")
	assert.Empty(t, seen["inside.csv"], "links within the landing are followed")
	assert.NotContains(t, seen, "dir/secret.csv")
}

func TestWhatIsNoFileIsSaid(t *testing.T) {
	root, f := folder(t)
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "in/pipe.csv"), 0o644))
	require.NoError(t, os.Symlink("nothing", filepath.Join(root, "in/dangling.csv")))
	assert.Equal(t, map[string]string{"deep": "is a folder, not a file", "pipe.csv": "is a named pipe, not a file",
		"dangling.csv": "is a symbolic link to nothing"}, list(t, f))
	_, err := f.Open("pipe.csv")
	assert.ErrorContains(t, err, "is not a file", "opening a pipe does not wait for its writer")
	_, err = f.Open("missing.csv")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Stat("missing.csv")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestAnOpenFileKnowsWhetherItIsStillTheOne(t *testing.T) {
	root, f := folder(t)
	path := filepath.Join(root, "in/a.csv")
	require.NoError(t, os.WriteFile(path, []byte("one"), 0o644))
	file, err := f.Open("a.csv")
	require.NoError(t, err)
	defer file.Close()
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.Equal(t, "one", string(text))
	assert.True(t, file.Unchanged())
	require.NoError(t, os.WriteFile(path+".new", []byte("two"), 0o644))
	require.NoError(t, os.Chtimes(path+".new", file.Entry.Modified, file.Entry.Modified))
	require.NoError(t, os.Rename(path+".new", path))
	assert.False(t, file.Unchanged(), "same size and time, another file")
}

func TestTheWatcherHearsOfFilesInNewFolders(t *testing.T) {
	root, f := folder(t)
	w, err := NewWatcher()
	require.NoError(t, err)
	heard := make(chan string, 100)
	stop, err := w.Watch(f, func(c Changed) {
		if c.Everything {
			heard <- "everything"
		} else {
			heard <- c.Path
		}
	})
	require.NoError(t, err)
	defer stop()
	go w.Run(t.Context())
	require.NoError(t, os.WriteFile(filepath.Join(root, "in/deep/a.csv"), []byte("a"), 0o644))
	assert.Equal(t, "deep/a.csv", <-heard)
	require.NoError(t, os.Mkdir(filepath.Join(root, "in/new"), 0o755))
	for h := range heard {
		if h == "everything" {
			break
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "in/new/b.csv"), []byte("b"), 0o644))
	for h := range heard {
		if h == "new/b.csv" {
			break
		}
	}
	names := []string{}
	for path := range list(t, f) {
		names = append(names, path)
	}
	sort.Strings(names)
	assert.Equal(t, []string{"deep", "deep/a.csv", "new", "new/b.csv"}, names)
}
