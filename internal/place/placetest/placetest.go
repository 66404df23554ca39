// Package placetest holds kinds of places against what a landing has to do.
package placetest

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/place"
	"mullein/internal/settings"
)

// Feed returns a feed at a landing.
func Feed(t testing.TB, at, files string) *feed.Feed {
	t.Helper()
	f, err := feed.Parse("f.yaml", []byte(fmt.Sprintf("feed: f\nlanding: {at: %q, files: %q}\nschema: {fields: [{name: a}]}\ntarget: {table: t, mode: append}\n",
		at, files)))
	require.NoError(t, err)
	return f
}

// Documented returns the places of the first example of docs/places.md.
func Documented(t *testing.T, page string) map[string]settings.Place {
	t.Helper()
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	block := regexp.MustCompile("(?s)```yaml\n(# mullein.yaml\nplaces:.*?)```").FindSubmatch(text)
	require.NotNil(t, block)
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), block[1], 0o600))
	l, err := settings.Read(settings.From{Home: home})
	require.NoError(t, err)
	return l.Places
}

// At opens a landing at a place.
func At(t *testing.T, p *place.Places, at string) landing.Landing {
	t.Helper()
	l, err := p.Landing(t.Context(), Feed(t, at, "**"))
	require.NoError(t, err)
	return l
}

// Listed returns the files of a landing, each with its size and what is wrong with it.
func Listed(t *testing.T, l landing.Landing) []string {
	t.Helper()
	var out []string
	require.NoError(t, l.List(t.Context(), func(string) bool { return true }, func(e landing.Entry) error {
		out = append(out, fmt.Sprintf("%s %d %s", e.Path, e.Size, e.Problem))
		return nil
	}))
	slices.Sort(out)
	return out
}

// IsALanding has a place do what a folder does. folders says that it has folders of its own; write puts a file at the place as
// its suppliers do.
func IsALanding(t *testing.T, p *place.Places, name string, folders bool, write func(file string, content []byte)) {
	t.Helper()
	write("out/a b.csv", []byte("x,y\n1,2\n"))
	write("out/deep/er/c.csv", []byte("x\n"))
	write("out/.hidden/d.csv", []byte("x\n"))
	write("other/e.csv", []byte("x\n"))
	large := make([]byte, 3<<20)
	for i := range large {
		large[i] = byte(rand.IntN(256))
	}
	write("out/large.bin", large)
	l := At(t, p, "place:"+name+"/out")
	assert.Equal(t, []string{"a b.csv 8 ", "deep/er/c.csv 2 ", "large.bin 3145728 "}, Listed(t, l))

	enough := errors.New("enough")
	require.ErrorIs(t, l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return enough }), enough)
	files, more, err := p.Browse(t.Context(), name, "out", 2)
	require.NoError(t, err)
	assert.Len(t, files, 2)
	assert.True(t, more)

	e, err := l.Stat("a b.csv")
	require.NoError(t, err)
	assert.EqualValues(t, 8, e.Size)
	assert.WithinDuration(t, time.Now(), e.Modified, 2*time.Minute)
	_, err = l.Stat("nothing.csv")
	require.ErrorIs(t, err, fs.ErrNotExist)
	folder, err := l.Stat("deep")
	if folders {
		require.NoError(t, err)
		assert.NotEmpty(t, folder.Problem)
	} else {
		require.ErrorIs(t, err, fs.ErrNotExist, "object stores have no folders")
	}

	for file, want := range map[string][]byte{"a b.csv": []byte("x,y\n1,2\n"), "large.bin": large} {
		file, err := l.Open(file)
		require.NoError(t, err)
		for range 2 { // and once more from the beginning
			got, err := io.ReadAll(file)
			require.NoError(t, err)
			assert.Equal(t, sha256.Sum256(want), sha256.Sum256(got), name)
			require.NoError(t, file.Rewind())
		}
		part := make([]byte, 4)
		_, err = file.ReadAt(part, int64(len(want)-4))
		require.NoError(t, err)
		assert.Equal(t, want[len(want)-4:], part)
		assert.True(t, file.Unchanged())
		require.NoError(t, file.Close())
	}
	_, err = l.Open("nothing.csv")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = At(t, p, "place:"+name+"/nowhere").Open("a.csv")
	require.Error(t, err)
	assert.Equal(t, folders, errors.As(err, new(*landing.AwayError)), "a folder that is not there has lost no file")

	text, err := l.ReadSmall("a b.csv", 100)
	require.NoError(t, err)
	assert.Equal(t, "x,y\n1,2\n", string(text))
	_, err = l.ReadSmall("a b.csv", 3)
	require.Error(t, err)

	// Put away: moved, taken back, deleted, and never what has taken the file's place.
	place, err := l.PutAway(e, 7, "done/2026/a b.csv")
	require.NoError(t, err)
	assert.Equal(t, "done/2026/a b.csv", place)
	again, err := l.PutAway(e, 7, "done/2026/a b.csv")
	require.NoError(t, err, "after an interruption")
	assert.Equal(t, place, again)
	file, err := l.OpenAway(place)
	require.NoError(t, err)
	assert.True(t, file.Unchanged())
	require.NoError(t, file.Close())
	require.NoError(t, l.TakeBack(place, "a b.csv"))
	write("out/a b.csv", []byte("another one\n"))
	_, err = l.PutAway(e, 8, "")
	require.ErrorIs(t, err, landing.ErrReplaced)
	c, err := l.Stat("deep/er/c.csv")
	require.NoError(t, err)
	write("done/c.csv", []byte("taken"))
	place, err = l.PutAway(c, 9, "done/c.csv")
	require.NoError(t, err)
	assert.Equal(t, "done/c-9.csv", place)

	// Delivered whole, and not over what is there.
	delivered, err := l.Deliver("new/f.csv", strings.NewReader("x\n1\n"), landing.KeepExisting)
	require.NoError(t, err)
	assert.EqualValues(t, 4, delivered.Size)
	_, err = l.Deliver("new/f.csv", strings.NewReader("y\n"), landing.KeepExisting)
	require.ErrorIs(t, err, landing.ErrTaken)
	_, err = l.Deliver("new/f.csv", strings.NewReader("y\n2\n3\n"), landing.WriteOver)
	require.NoError(t, err)
	text, err = l.ReadSmall("new/f.csv", 100)
	require.NoError(t, err)
	assert.Equal(t, "y\n2\n3\n", string(text))
	require.NoError(t, l.Note("done/a.why.txt", "because"))
	require.NoError(t, l.RemoveNote("done/a.why.txt"))
	require.NoError(t, l.Note(landing.Mended+"/f/1", "rows"), "stays on this machine")
	_, err = l.Stat("../" + landing.Mended + "/f/1")
	require.ErrorIs(t, err, fs.ErrNotExist)
	file, err = l.OpenAway(landing.Mended + "/f/1")
	require.NoError(t, err)
	got, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.Equal(t, "rows", string(got))
	require.NoError(t, file.Close())
}
