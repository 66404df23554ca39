package landing

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// left is what lies below a landing root: each file with its content.
func left(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		rel, _ := filepath.Rel(root, path)
		out[rel] = string(text)
		return err
	}))
	return out
}

func entry(t *testing.T, f *Folder, path string) Entry {
	t.Helper()
	e, err := f.Stat(path)
	require.NoError(t, err)
	return e
}

func TestPuttingAway(t *testing.T) {
	const number = 7
	for name, c := range map[string]struct {
		before func(t *testing.T, root string) // what happened between noticing and putting away
		to     string
		place  string
		err    error
		after  map[string]string
	}{
		"moved":   {nil, "done/a.csv", "done/a.csv", nil, map[string]string{"done/a.csv": "one"}},
		"deleted": {nil, "", "", nil, map[string]string{}},
		"its name is taken": {func(t *testing.T, root string) {
			require.NoError(t, os.MkdirAll(root+"/done", 0o755))
			require.NoError(t, os.WriteFile(root+"/done/a.csv", []byte("older"), 0o644))
		}, "done/a.csv", "done/a-7.csv", nil, map[string]string{"done/a.csv": "older", "done/a-7.csv": "one"}},
		"another file took its place": {func(t *testing.T, root string) {
			require.NoError(t, os.WriteFile(root+"/new", []byte("two"), 0o644))
			require.NoError(t, os.Rename(root+"/new", root+"/in/a.csv"))
		}, "done/a.csv", "", ErrReplaced, map[string]string{"in/a.csv": "two"}},
		"interrupted after it was renamed aside": {func(t *testing.T, root string) {
			require.NoError(t, os.Rename(root+"/in/a.csv", root+"/in/.put-away-7"))
		}, "done/a.csv", "done/a.csv", nil, map[string]string{"done/a.csv": "one"}},
		"interrupted after it was linked": {func(t *testing.T, root string) {
			require.NoError(t, os.Rename(root+"/in/a.csv", root+"/in/.put-away-7"))
			require.NoError(t, os.MkdirAll(root+"/done", 0o755))
			require.NoError(t, os.Link(root+"/in/.put-away-7", root+"/done/a.csv"))
		}, "done/a.csv", "done/a.csv", nil, map[string]string{"done/a.csv": "one"}},
		"interrupted at the end": {func(t *testing.T, root string) {
			require.NoError(t, os.MkdirAll(root+"/done", 0o755))
			require.NoError(t, os.Rename(root+"/in/a.csv", root+"/done/a.csv"))
		}, "done/a.csv", "done/a.csv", nil, map[string]string{"done/a.csv": "one"}},
		"aside lies a newer one, caught in the rename": {func(t *testing.T, root string) {
			require.NoError(t, os.Remove(root+"/in/a.csv"))
			require.NoError(t, os.WriteFile(root+"/in/.put-away-7", []byte("newer"), 0o644))
		}, "done/a.csv", "", ErrReplaced, map[string]string{"in/a.csv": "newer"}},
		"somebody took it": {func(t *testing.T, root string) {
			require.NoError(t, os.Remove(root+"/in/a.csv"))
		}, "done/a.csv", "", nil, map[string]string{}},
	} {
		t.Run(name, func(t *testing.T) {
			root, f := folder(t)
			require.NoError(t, os.WriteFile(root+"/in/a.csv", []byte("one"), 0o644))
			file := entry(t, f, "a.csv")
			if c.before != nil {
				c.before(t, root)
			}
			place, err := f.PutAway(file, number, c.to)
			assert.ErrorIs(t, err, c.err)
			assert.Equal(t, c.place, place)
			assert.Equal(t, c.after, left(t, root))
		})
	}
}

func TestANewerFileIsNotWrittenOver(t *testing.T) {
	root, f := folder(t)
	require.NoError(t, os.WriteFile(root+"/in/a.csv", []byte("one"), 0o644))
	file := entry(t, f, "a.csv")
	require.NoError(t, os.WriteFile(root+"/in/.put-away-7", []byte("two"), 0o644))
	require.NoError(t, os.WriteFile(root+"/in/a.csv", []byte("three"), 0o644))
	_, err := f.PutAway(file, 7, "done/a.csv")
	assert.ErrorContains(t, err, "came while the file before it was put away, and lies as in/.put-away-7")
	assert.Equal(t, map[string]string{"in/a.csv": "three", "in/.put-away-7": "two"}, left(t, root), "nothing is lost")
}

func TestMovingWithoutLinks(t *testing.T) {
	root, f := folder(t)
	require.NoError(t, os.WriteFile(root+"/in/.put-away-7", []byte("one"), 0o640))
	before, err := os.Stat(root + "/in/.put-away-7")
	require.NoError(t, err)
	require.NoError(t, f.copyTo("in/.put-away-7", "a.csv"))
	after, err := os.Stat(root + "/a.csv")
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime(), "its time stays, by which it is known again")
	assert.Equal(t, map[string]string{"a.csv": "one"}, left(t, root))
}

func TestDeliveringIsWholeOrNot(t *testing.T) {
	root, f := folder(t)
	e, err := f.Deliver("sub/a.csv", strings.NewReader("one"), KeepExisting)
	require.NoError(t, err)
	assert.EqualValues(t, 3, e.Size)
	_, err = f.Deliver("sub/a.csv", strings.NewReader("two"), KeepExisting)
	assert.ErrorIs(t, err, ErrTaken)
	_, err = f.Deliver("sub/a.csv", strings.NewReader("two"), WriteOver)
	require.NoError(t, err)
	_, err = f.Deliver("sub/b.csv", io.MultiReader(strings.NewReader("half"),
		iotest.ErrReader(errors.New("the line broke"))), KeepExisting)
	assert.ErrorContains(t, err, "the line broke")
	assert.Equal(t, map[string]string{"in/sub/a.csv": "two"}, left(t, root), "nobody sees half a file")
	meanwhile := readerOnce(func() {
		require.NoError(t, os.WriteFile(filepath.Join(root, "in/sub/c.csv"), []byte("the supplier's"), 0o644))
	})
	_, err = f.Deliver("sub/c.csv", io.MultiReader(strings.NewReader("mine"), meanwhile), KeepExisting)
	assert.ErrorIs(t, err, ErrTaken, "a file that came while it was sent")
	assert.Equal(t, map[string]string{"in/sub/a.csv": "two", "in/sub/c.csv": "the supplier's"}, left(t, root))
	require.NoError(t, os.Remove(filepath.Join(root, "in/sub/c.csv")))
	_, err = f.Deliver("../../b.csv", strings.NewReader("x"), KeepExisting)
	assert.Error(t, err, "never outside of the root")
	require.NoError(t, f.Note("a.csv.why.txt", "x"))
}

// readerOnce does something when it is read, and is at its end.
type readerOnce func()

// Read does it.
func (r readerOnce) Read([]byte) (int, error) {
	r()
	return 0, io.EOF
}

func TestSmallFilesAndThoseThatWerePutAway(t *testing.T) {
	root, f := folder(t)
	require.NoError(t, os.WriteFile(root+"/in/a.ok", []byte("12345"), 0o644))
	text, err := f.ReadSmall("a.ok", 5)
	require.NoError(t, err)
	assert.Equal(t, "12345", string(text))
	_, err = f.ReadSmall("a.ok", 4)
	assert.ErrorContains(t, err, "a.ok has 5 bytes; 4 are the most")
	require.NoError(t, os.Mkdir(root+"/done", 0o755))
	require.NoError(t, os.WriteFile(root+"/done/a.csv", []byte("one"), 0o644))
	file, err := f.OpenAway("done/a.csv")
	require.NoError(t, err)
	defer file.Close()
	assert.True(t, file.Unchanged())
	require.NoError(t, os.WriteFile(root+"/done/a.csv", []byte("changed"), 0o644))
	assert.False(t, file.Unchanged())
	_, err = f.OpenAway("../x")
	assert.Error(t, err)
	_, err = f.OpenAway("done")
	assert.ErrorContains(t, err, "is not a file")
}

// TestHalvesThatWereLeftGo finds halves of files that a killed service left behind, and
// leaves those alone that may be growing, or are somebody else's.
func TestHalvesThatWereLeftGo(t *testing.T) {
	root, f := folder(t)
	old := time.Now().Add(-2 * time.Hour)
	for name, at := range map[string]time.Time{".1f.mullein.part": old, "deep/.2f.mullein.part": old,
		".3f.mullein.part": time.Now(), ".theirs.part": old, "a.csv": old} {
		path := filepath.Join(root, "in", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o644))
		require.NoError(t, os.Chtimes(path, at, at))
	}
	var seen []string
	require.NoError(t, f.List(context.Background(), func(string) bool { return true }, func(e Entry) error {
		seen = append(seen, e.Path)
		return nil
	}))
	assert.NotContains(t, seen, ".1f.mullein.part")
	assert.Contains(t, seen, "a.csv")
	assert.Equal(t, map[string]string{"in/.3f.mullein.part": "x", "in/.theirs.part": "x", "in/a.csv": "x"},
		left(t, root))
}
