package place

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/localssh"
	"mullein/internal/settings"
)

// sshServer is a server with the folder that its place has.
func sshServer(t *testing.T) (*localssh.Server, settings.Place, string) {
	t.Helper()
	s, err := localssh.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop()) })
	root := t.TempDir()
	return s, settings.Place{Address: "sftp://" + s.Address + root, User: s.User, KeyFile: s.KeyFile, HostKeys: []string{s.HostKey}}, root
}

// places are those of some settings.
func places(t *testing.T, of map[string]settings.Place) *Places {
	t.Helper()
	p := New(Options{Spool: t.TempDir(), SpoolBytes: 64 << 20, Roots: []string{t.TempDir()}})
	p.Set(of)
	t.Cleanup(func() { p.Set(nil) })
	return p
}

func feedAt(t *testing.T, at, files string) *feed.Feed {
	t.Helper()
	f, err := feed.Parse("f.yaml", []byte(fmt.Sprintf("feed: f\nlanding: {at: %q, files: %q}\nschema: {fields: [{name: a}]}\ntarget: {table: t, mode: append}\n",
		at, files)))
	require.NoError(t, err)
	return f
}

func open(t *testing.T, p *Places, at string) landing.Landing {
	t.Helper()
	l, err := p.Landing(t.Context(), feedAt(t, at, "**"))
	require.NoError(t, err)
	return l
}

func listed(t *testing.T, l landing.Landing) []string {
	t.Helper()
	var out []string
	require.NoError(t, l.List(t.Context(), func(string) bool { return true }, func(e landing.Entry) error {
		out = append(out, fmt.Sprintf("%s %d %s", e.Path, e.Size, e.Problem))
		return nil
	}))
	slices.Sort(out)
	return out
}

func write(t *testing.T, root, name string, content []byte) {
	t.Helper()
	file := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, content, 0o644))
}

// kindOfPlace is a kind of place that the same is asked of.
type kindOfPlace struct {
	name  string
	begin func(t *testing.T) (settings.Place, string)
}

var kindsOfPlaces = []kindOfPlace{
	{"sftp", func(t *testing.T) (settings.Place, string) {
		_, s, root := sshServer(t)
		return s, root
	}},
	{"ftp", func(t *testing.T) (settings.Place, string) { return ftpServer(t, "") }},
	{"ftp without MLSD", func(t *testing.T) (settings.Place, string) { return ftpServer(t, "FactsAdvertise off") }},
	{"ftp with TLS", func(t *testing.T) (settings.Place, string) { return secureFTP(t, false) }},
	{"ftps", func(t *testing.T) (settings.Place, string) { return secureFTP(t, true) }},
}

// TestAPlaceIsALanding has each kind of place do what a folder does.
func TestAPlaceIsALanding(t *testing.T) {
	t.Parallel()
	for _, kind := range kindsOfPlaces {
		t.Run(kind.name, func(t *testing.T) {
			t.Parallel()
			s, root := kind.begin(t)
			p := places(t, map[string]settings.Place{"upper": s})
			write(t, root, "out/a b.csv", []byte("x,y\n1,2\n"))
			write(t, root, "out/deep/er/c.csv", []byte("x\n"))
			write(t, root, "out/.hidden/d.csv", []byte("x\n"))
			write(t, root, "other/e.csv", []byte("x\n"))
			large := make([]byte, 3<<20)
			for i := range large {
				large[i] = byte(rand.IntN(256))
			}
			write(t, root, "out/large.bin", large)
			l := open(t, p, "place:upper/out")
			assert.Equal(t, []string{"a b.csv 8 ", "deep/er/c.csv 2 ", "large.bin 3145728 "}, listed(t, l))

			e, err := l.Stat("a b.csv")
			require.NoError(t, err)
			assert.EqualValues(t, 8, e.Size)
			assert.WithinDuration(t, time.Now(), e.Modified, 2*time.Minute)
			_, err = l.Stat("nothing.csv")
			require.ErrorIs(t, err, fs.ErrNotExist)
			folder, err := l.Stat("deep")
			require.NoError(t, err)
			assert.NotEmpty(t, folder.Problem)

			for name, want := range map[string][]byte{"a b.csv": []byte("x,y\n1,2\n"), "large.bin": large} {
				file, err := l.Open(name)
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
			_, err = open(t, p, "place:upper/nowhere").Open("a.csv")
			require.ErrorAs(t, err, new(*landing.AwayError), "a folder that is not there has lost no file")

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
			write(t, root, "out/a b.csv", []byte("another one\n"))
			_, err = l.PutAway(e, 8, "")
			require.ErrorIs(t, err, landing.ErrReplaced)
			c, err := l.Stat("deep/er/c.csv")
			require.NoError(t, err)
			write(t, root, "done/c.csv", []byte("taken"))
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
			assert.NoFileExists(t, filepath.Join(root, landing.Mended, "f/1"))
			file, err = l.OpenAway(landing.Mended + "/f/1")
			require.NoError(t, err)
			got, err := io.ReadAll(file)
			require.NoError(t, err)
			assert.Equal(t, "rows", string(got))
			require.NoError(t, file.Close())
		})
	}
}

// TestAnUnknownHost is not spoken with, and says how to know it.
func TestAnUnknownHost(t *testing.T) {
	t.Parallel()
	server, s, _ := sshServer(t)
	shown := s.HostKeys[0]
	s.HostKeys = nil
	other := s
	other.HostKeys = []string{"SHA256:" + strings.Repeat("A", 43)}
	p := places(t, map[string]settings.Place{"unknown": s, "other": other})
	steps, err := p.Test(t.Context(), "unknown")
	require.NoError(t, err)
	assert.False(t, steps[0].Good)
	assert.Contains(t, steps[0].Said, "the host is not known: it shows the key "+shown)
	steps, err = p.Test(t.Context(), "other")
	require.NoError(t, err)
	assert.Contains(t, steps[0].Said, "another key than host_keys says")
	_, err = p.Test(t.Context(), "unknwn")
	require.ErrorContains(t, err, `did you mean "unknown"?`)
	s.HostKeys = []string{server.HostKey}
	p.Set(map[string]settings.Place{"unknown": s})
	steps, err = p.Test(t.Context(), "unknown")
	require.NoError(t, err)
	assert.True(t, steps[0].Good && steps[1].Good, steps)
}

// TestABrokenTransferGoesOn kills the server in the midst of a file, and starts it again.
func TestABrokenTransferGoesOn(t *testing.T) {
	t.Parallel()
	server, s, root := sshServer(t)
	s.BytesASecond = 8 << 20 // so that it takes a while
	p := places(t, map[string]settings.Place{"upper": s})
	large := bytes.Repeat([]byte("0123456789abcdef"), 1<<20)
	write(t, root, "large.bin", large)
	l := open(t, p, "place:upper")
	file, err := l.Open("large.bin")
	require.NoError(t, err)
	defer file.Close()
	_, err = io.CopyN(io.Discard, file, 4<<20)
	require.NoError(t, err)
	require.NoError(t, server.Stop())
	require.NoError(t, server.Again(t.Context()))
	rest, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(large[4<<20:], rest))
	require.NoError(t, server.Stop())
	_, err = l.Open("large.bin")
	require.ErrorAs(t, err, new(*landing.AwayError))
	err = l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return nil })
	require.ErrorAs(t, err, new(*landing.AwayError))
	_, err = l.Stat("large.bin")
	assert.False(t, errors.Is(err, fs.ErrNotExist), "nobody can say that it is gone")
	require.NoError(t, server.Again(t.Context()))
}

// TestAChangedFileIsNotMixed has a file change while it is read.
func TestAChangedFileIsNotMixed(t *testing.T) {
	t.Parallel()
	server, s, root := sshServer(t)
	s.BytesASecond = 8 << 20
	p := places(t, map[string]settings.Place{"upper": s})
	write(t, root, "large.bin", bytes.Repeat([]byte("a"), 16<<20))
	file, err := open(t, p, "place:upper").Open("large.bin")
	require.NoError(t, err)
	defer file.Close()
	_, err = io.CopyN(io.Discard, file, 2<<20)
	require.NoError(t, err)
	write(t, root, "large.bin", bytes.Repeat([]byte("b"), 15<<20))
	require.NoError(t, server.Stop())
	require.NoError(t, server.Again(t.Context()))
	_, err = io.ReadAll(file)
	require.ErrorIs(t, err, landing.ErrChanged)
	assert.False(t, file.Unchanged())
}
