package landing

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestZips lists, looks at and opens what lies in zips.
func TestZips(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "in"), 0o755))
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	add := func(name, content string, mode fs.FileMode) {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate}
		h.SetMode(mode)
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(w, content)
		require.NoError(t, err)
	}
	add("a.csv", "one", 0o644)
	add("folder/", "", fs.ModeDir|0o755)
	add("folder/b.csv", "two", 0o644)
	add("../../escape.csv", "three", 0o644)
	add(`c:\windows\d.csv`, "four", 0o644)
	add("link.csv", "/etc/passwd", fs.ModeSymlink|0o777)
	add("bomb.csv", string(make([]byte, 64<<20)), 0o644)
	require.NoError(t, z.Close())
	write := func(name string, content []byte, age time.Duration) {
		p := filepath.Join(root, "in", name)
		require.NoError(t, os.WriteFile(p, content, 0o644))
		at := time.Now().Add(-age)
		require.NoError(t, os.Chtimes(p, at, at))
	}
	write("d.zip", b.Bytes(), 0)
	write("new.zip", b.Bytes()[:b.Len()/2], 0)
	write("torn.ZIP", b.Bytes()[:b.Len()/2], time.Hour)
	write("plain.csv", []byte("x"), 0)
	list := func(zips bool) map[string]Entry {
		f, err := Open([]string{root}, "in")
		require.NoError(t, err)
		defer f.Close()
		f.Zips = zips
		out := map[string]Entry{}
		for range 2 { // the second time from memory
			clear(out)
			require.NoError(t, f.List(context.Background(), func(string) bool { return true }, func(e Entry) error {
				out[e.Path] = e
				return nil
			}))
		}
		return out
	}
	assert.Len(t, list(false), 4, "zips are files like others")
	seen := list(true)
	for p, problem := range map[string]string{
		"d.zip/a.csv": "", "d.zip/folder/b.csv": "", "d.zip/escape.csv": "", "d.zip/c:/windows/d.csv": "",
		"d.zip/link.csv": "no plain file", "d.zip/bomb.csv": "zip bomb", "torn.ZIP/": "cut short", "plain.csv": "",
	} {
		e, ok := seen[p]
		require.True(t, ok, p)
		if problem == "" {
			assert.Empty(t, e.Problem, p)
		} else {
			assert.Contains(t, e.Problem, problem, p)
		}
		delete(seen, p)
	}
	assert.Empty(t, seen, "one that is still being written is not seen yet")

	f, err := Open([]string{root}, "in")
	require.NoError(t, err)
	defer f.Close()
	f.Zips = true
	file, err := f.Open("d.zip/folder/b.csv")
	require.NoError(t, err)
	for range 2 {
		got, err := io.ReadAll(file)
		require.NoError(t, err)
		assert.Equal(t, "two", string(got))
		require.NoError(t, file.Rewind())
	}
	assert.False(t, file.Seekable())
	assert.True(t, file.Unchanged())
	write("d.zip", append(b.Bytes()[:0:0], b.Bytes()...), -time.Minute)
	assert.False(t, file.Unchanged(), "another zip took its place")
	require.NoError(t, file.Close())
	_, err = f.Open("d.zip/none.csv")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Stat("d.zip/none.csv")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open("none.zip/a.csv")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open("d.zip/link.csv")
	assert.ErrorContains(t, err, "no plain file")
	_, err = f.Open("torn.ZIP/a.csv")
	assert.ErrorContains(t, err, "cannot be read")
	packed := bytes.Clone(b.Bytes())
	packed[40] ^= 0xff
	write("bad.zip", packed, 0)
	file, err = f.Open("bad.zip/a.csv")
	if err == nil {
		_, err = io.ReadAll(file)
	}
	assert.ErrorContains(t, err, "damaged")
}

// TestMembersShareTheirZip opens many members at once, one after another zip took
// the place of theirs, and leaves no file open.
func TestMembersShareTheirZip(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "in"), 0o755))
	pack := func(of string) {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := range 300 {
			w, err := z.Create(fmt.Sprintf("m%d.csv", i))
			require.NoError(t, err)
			fmt.Fprintf(w, "%s %d", of, i)
		}
		require.NoError(t, z.Close())
		require.NoError(t, os.WriteFile(filepath.Join(root, "upload"), b.Bytes(), 0o644))
		require.NoError(t, os.Rename(filepath.Join(root, "upload"), filepath.Join(root, "in", "d.zip")))
	}
	openFiles := func() (n int) {
		list, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		for _, e := range list {
			if to, _ := os.Readlink("/proc/self/fd/" + e.Name()); strings.Contains(to, "d.zip") &&
				strings.HasPrefix(to, root) {
				n++
			}
		}
		return n
	}
	pack("old")
	f, err := Open([]string{root}, "in")
	require.NoError(t, err)
	f.Zips = true
	var wg sync.WaitGroup
	for i := range 300 {
		wg.Go(func() {
			file, err := f.Open(fmt.Sprintf("d.zip/m%d.csv", i))
			if assert.NoError(t, err) {
				got, err := io.ReadAll(file)
				assert.NoError(t, err)
				assert.Equal(t, fmt.Sprintf("old %d", i), string(got))
				assert.True(t, file.Unchanged())
				assert.NoError(t, file.Close())
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 1, openFiles(), "the zip stays open for the next member")
	before, err := f.Open("d.zip/m7.csv")
	require.NoError(t, err)
	pack("new")
	after, err := f.Open("d.zip/m7.csv")
	require.NoError(t, err)
	for file, want := range map[*File]string{before: "old 7", after: "new 7"} {
		require.NoError(t, file.Rewind())
		got, err := io.ReadAll(file)
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	assert.False(t, before.Unchanged())
	assert.True(t, after.Unchanged())
	require.NoError(t, before.Close())
	require.NoError(t, f.Close())
	require.NoError(t, after.Rewind(), "a member outlives its folder")
	got, err := io.ReadAll(after)
	require.NoError(t, err)
	assert.Equal(t, "new 7", string(got))
	require.NoError(t, after.Close())
	assert.Zero(t, openFiles())
}

// TestZipsOfStrangeNames have letters that are longer or shorter in lower case, and
// members that stand twice.
func TestZipsOfStrangeNames(t *testing.T) {
	root, f := folder(t)
	f.Zips = true
	for _, name := range []string{"ȺȺȺȺ.zip", "İSTANBUL.zip", "PLAIN.ZIP"} {
		file, err := os.Create(filepath.Join(root, "in", name))
		require.NoError(t, err)
		z := zip.NewWriter(file)
		for _, member := range []string{"a.csv", "b.csv", "b.csv"} {
			w, err := z.Create(member)
			require.NoError(t, err)
			_, err = w.Write([]byte(member))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		require.NoError(t, file.Close())
		for range 2 {
			found := map[string]string{}
			require.NoError(t, f.List(context.Background(), func(p string) bool { return strings.HasPrefix(p, name) },
				func(e Entry) error {
					assert.Empty(t, found[e.Path], "each once")
					found[e.Path] = e.Problem
					again, err := f.Stat(e.Path)
					require.NoError(t, err)
					assert.Equal(t, e, again)
					return nil
				}))
			assert.Len(t, found, 2, name)
			assert.Contains(t, found[name+"/b.csv"], "more than once")
		}
		member, err := f.Open(name + "/a.csv")
		require.NoError(t, err)
		text, err := io.ReadAll(member)
		require.NoError(t, err)
		assert.Equal(t, "a.csv", string(text))
		require.NoError(t, member.Close())
	}
	for p, want := range map[string][2]string{
		"a.zip/b.csv": {"a.zip", "b.csv"}, "a.ZIP/b": {"a.ZIP", "b"}, "Ⱥ.zip/Ⱥ.csv": {"Ⱥ.zip", "Ⱥ.csv"},
		"a.zip": {"a.zip", ""}, "zip/a": {"zip/a", ""}, "": {"", ""}, ".zi": {".zi", ""},
	} {
		archive, member := splitZip(p)
		assert.Equal(t, want, [2]string{archive, member}, p)
	}
}
