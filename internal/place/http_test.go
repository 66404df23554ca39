package place_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
	"mullein/internal/place"
	"mullein/internal/place/placetest"
	"mullein/internal/settings"
)

// shelf is files that are handed out by HTTP, with an ETag each.
type shelf struct {
	mu    sync.Mutex
	files map[string][]byte
	asked int
	cut   int64 // bytes after which an answer breaks off; 0 for never
	odd   int   // of so many requests one is turned down; 0 for none
	plain bool  // without ranges
}

func (s *shelf) put(name string, text []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.files == nil {
		s.files = map[string][]byte{}
	}
	s.files[name] = text
}

// ServeHTTP hands out a file.
func (s *shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if _, password, _ := r.BasicAuth(); password != "secret" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	s.mu.Lock()
	text, there := s.files[r.URL.Path]
	s.asked++
	odd := s.odd > 0 && s.asked%s.odd == 0
	s.mu.Unlock()
	if odd {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	if !there {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	sum := sha256.Sum256(text)
	w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:8])+`"`)
	out := http.ResponseWriter(w)
	if s.cut > 0 && r.Method == http.MethodGet {
		out = &cutting{w, s.cut}
	}
	if s.plain {
		r.Header.Del("Range")
		w.Header().Set("Content-Length", fmt.Sprint(len(text)))
		if r.Method == http.MethodGet {
			_, _ = out.Write(text)
		}
		return
	}
	http.ServeContent(out, r, "", time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), bytes.NewReader(text))
}

// cutting breaks off after some bytes.
type cutting struct {
	http.ResponseWriter
	left int64
}

// Write writes what is left.
func (c *cutting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b[:min(int64(len(b)), c.left)])
	if c.left -= int64(n); c.left == 0 && err == nil {
		panic(http.ErrAbortHandler)
	}
	return n, err
}

// TestFilesByHTTP asks for files by the names of a while, goes on where transfers break off, and tells versions apart.
func TestFilesByHTTP(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		shelf *shelf
	}{
		{"with ranges", &shelf{}}, {"breaking off", &shelf{cut: 1 << 20}}, {"without ranges", &shelf{plain: true}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(c.shelf)
			t.Cleanup(server.Close)
			p := places(t, map[string]settings.Place{"data": {Address: server.URL + "/open", User: "me", Password: "secret",
				LookBack: settings.Span(72 * time.Hour)}})
			today := time.Now().UTC()
			name := func(daysAgo int) string { return today.AddDate(0, 0, -daysAgo).Format("levels_20060102.csv") }
			large := bytes.Repeat([]byte("0123456789abcdef"), 3<<16)
			c.shelf.put("/open/by day/"+name(0), []byte("x\n1\n"))
			c.shelf.put("/open/by day/"+name(2), large)
			c.shelf.put("/open/by day/"+name(40), []byte("old"))
			f := placetest.Feed(t, "place:data/by day", "levels_{slot:%Y%m%d}.csv")
			l, err := p.Landing(t.Context(), f)
			require.NoError(t, err)
			assert.Equal(t, []string{name(2) + " 3145728 ", name(0) + " 4 "}, placetest.Listed(t, l), "no file of yesterday is a slot like any other")
			file, err := l.Open(name(2))
			require.NoError(t, err)
			got, err := io.ReadAll(file)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(large, got))
			was := file.Entry
			c.shelf.put("/open/by day/"+name(2), bytes.Repeat([]byte("0123456789abcdeF"), 3<<16))
			assert.True(t, file.Unchanged(), "what was read is one version")
			now, err := l.Stat(name(2))
			require.NoError(t, err)
			assert.Equal(t, was.Size, now.Size)
			assert.False(t, now.Same(was), "its ETag is another one, and all else as it was")
			require.NoError(t, file.Close())
			_, err = l.Open(name(1))
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = l.PutAway(now, 1, "")
			require.ErrorContains(t, err, "cannot be changed")
		})
	}
}

// TestAPlaceThatTurnsRequestsDown answers every third request with 503, and no file is lost.
func TestAPlaceThatTurnsRequestsDown(t *testing.T) {
	t.Parallel()
	s := &shelf{odd: 3}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	p := places(t, map[string]settings.Place{"data": {Address: server.URL, User: "me", Password: "secret"}})
	l, err := p.Landing(t.Context(), placetest.Feed(t, "place:data", "levels_{slot:%Y%m%d}.csv"))
	require.NoError(t, err)
	name := time.Now().UTC().Format("levels_20060102.csv")
	s.put("/"+name, []byte("x\n1\n"))
	for range 4 {
		assert.Equal(t, []string{name + " 4 "}, placetest.Listed(t, l))
		file, err := l.Open(name)
		require.NoError(t, err)
		require.NoError(t, file.Close())
	}
	// One that may not sign in says so, and nothing is gone.
	p.Set(map[string]settings.Place{"data": {Address: server.URL, User: "me", Password: "other"}})
	l, err = p.Landing(t.Context(), placetest.Feed(t, "place:data", "levels_{slot:%Y%m%d}.csv"))
	require.NoError(t, err)
	err = l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return nil })
	require.ErrorAs(t, err, new(*landing.AwayError))
	assert.Contains(t, err.Error(), "401")
	assert.Contains(t, p.List()[0].Problem, "401")
	_, err = l.Open(name)
	require.ErrorAs(t, err, new(*landing.AwayError))
	_, err = p.Landing(t.Context(), placetest.Feed(t, "place:data", "levels_*.csv"))
	require.NoError(t, err)
	l, err = p.Landing(t.Context(), placetest.Feed(t, "place:data", "levels_{station}_{slot:%Y%m%d}.csv"))
	require.NoError(t, err)
	err = l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return nil })
	require.ErrorContains(t, err, "a name cannot be written from it")
	assert.False(t, strings.Contains(err.Error(), "secret"))
}

// TestAFileTooLargeForTheSpool is read by its ranges.
func TestAFileTooLargeForTheSpool(t *testing.T) {
	t.Parallel()
	s := &shelf{cut: 900_000}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	p := place.New(place.Options{Spool: t.TempDir(), SpoolBytes: 1 << 20, Roots: []string{t.TempDir()}})
	p.Set(map[string]settings.Place{"data": {Address: server.URL, User: "me", Password: "secret"}})
	t.Cleanup(func() { p.Set(nil) })
	large := bytes.Repeat([]byte("0123456789abcdef"), 4<<16)
	s.put("/a.bin", large)
	file, err := placetest.At(t, p, "place:data").Open("a.bin")
	require.NoError(t, err)
	for range 2 {
		got, err := io.ReadAll(file)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(large, got))
		require.NoError(t, file.Rewind())
	}
	part := make([]byte, 1<<20)
	_, err = file.ReadAt(part, 1<<20)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(large[1<<20:2<<20], part))
	n, err := file.ReadAt(part, int64(len(large)-10))
	assert.Equal(t, 10, n)
	require.ErrorIs(t, err, io.EOF)
	require.NoError(t, file.Close())
	assert.True(t, file.Unchanged())
}

// certified makes a certificate for this machine that ends at a time, signed by itself, and the file of its authority.
func certified(t *testing.T, ends time.Time) (tls.Certificate, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(ends.Unix()), Subject: pkix.Name{CommonName: ends.String()}, NotBefore: ends.Add(-48 * time.Hour), NotAfter: ends, IsCA: true, BasicConstraintsValid: true,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "authority.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, file
}

// TestACertificateThatEnds makes a place away, with the reason, and no file gone; with another it is there again.
func TestACertificateThatEnds(t *testing.T) {
	t.Parallel()
	ended, authority := certified(t, time.Now().Add(-time.Hour))
	good, other := certified(t, time.Now().Add(time.Hour))
	both, err := os.ReadFile(authority)
	require.NoError(t, err)
	more, err := os.ReadFile(other)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(authority, append(both, more...), 0o600))
	var shown atomic.Pointer[tls.Certificate]
	shown.Store(&ended)
	s := &shelf{}
	server := httptest.NewUnstartedServer(s)
	server.TLS = &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		return &tls.Config{Certificates: []tls.Certificate{*shown.Load()}, NextProtos: []string{"http/1.1"}}, nil
	}}
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.StartTLS()
	t.Cleanup(server.Close)
	p := places(t, map[string]settings.Place{"data": {Address: server.URL + "/open", User: "me", Password: "secret", Authority: authority}})
	name := time.Now().UTC().Format("levels_20060102.csv")
	s.put("/open/in/"+name, []byte("x\n1\n"))
	l, err := p.Landing(t.Context(), placetest.Feed(t, "place:data/in", "levels_{slot:%Y%m%d}.csv"))
	if err == nil {
		err = l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return nil })
	}
	var away *landing.AwayError
	require.ErrorAs(t, err, &away)
	assert.ErrorContains(t, err, "certificate has expired")
	shown.Store(&good)
	require.Eventually(t, func() bool {
		l, err := p.Landing(t.Context(), placetest.Feed(t, "place:data/in", "levels_{slot:%Y%m%d}.csv"))
		if err != nil {
			return false
		}
		n := 0
		err = l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { n++; return nil })
		return err == nil && n == 1
	}, time.Minute, 50*time.Millisecond)
}
