package place_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
	"mullein/internal/localssh"
	"mullein/internal/place"
	"mullein/internal/place/placetest"
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
func places(t *testing.T, of map[string]settings.Place) *place.Places {
	t.Helper()
	p := place.New(place.Options{Spool: t.TempDir(), SpoolBytes: 64 << 20, Roots: []string{t.TempDir()}})
	p.Set(of)
	t.Cleanup(func() { p.Set(nil) })
	return p
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
			placetest.IsALanding(t, p, "upper", true, func(name string, content []byte) { write(t, root, name, content) })
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
	l := placetest.At(t, p, "place:upper")
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
	file, err := placetest.At(t, p, "place:upper").Open("large.bin")
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
