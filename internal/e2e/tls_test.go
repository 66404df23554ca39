package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// writeCertificate writes a certificate of its own authority, good until a time.
func writeCertificate(t *testing.T, dir string, number int64, until time.Time) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: "mullein.sorrel.example"},
		DNSNames: []string{"mullein.sorrel.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: until, IsCA: true,
		BasicConstraintsValid: true}
	text, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	write := func(name, kind string, bytes []byte) {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file+".new", pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: bytes}), 0o600))
		require.NoError(t, os.Rename(file+".new", file))
	}
	write("key.pem", "EC PRIVATE KEY", secret)
	write("cert.pem", "CERTIFICATE", text)
}

func TestTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	writeCertificate(t, dir, 1, time.Now().Add(24*time.Hour))
	home := filepath.Join(dir, ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte("tls: {certificate: "+dir+"/cert.pem, key: "+dir+
		"/key.pem}\noutlets: {page: {command: [/bin/cat]}}\ntell: [{of: [ending], by: page}]\n"), 0o600))
	s := serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	assert.True(t, strings.HasPrefix(s.URL, "https://"))
	code, _, errOut := s.mullein("status")
	assert.Zero(t, code, errOut)
	// A certificate that ends within two weeks is told ahead.
	s.eventually(func() bool {
		_, out, _ := s.mullein("notices", "--state", "sent")
		return strings.Contains(out, "is about to end")
	})
	// A new one is taken up, and the problem is over.
	writeCertificate(t, dir, 2, time.Now().Add(365*24*time.Hour))
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	s.eventually(func() bool {
		conn, err := tls.Dial("tcp", at.Host, &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64() == 2
	})
	s.eventually(func() bool {
		_, out, _ := s.mullein("notices", "--state", "sent")
		return strings.Contains(out, "Over: ")
	})
}

func TestWhatAShellCompletes(t *testing.T) {
	t.Parallel()
	s := serve(t).example()
	for args, want := range map[string]string{"run": "gauge-readings", "arrival": "GAUGE_K1", "redo": "GAUGE_K1", "due": "station-registry"} {
		code, out, _ := s.mullein("__complete", args, "")
		assert.Zero(t, code)
		assert.Contains(t, out, want, args)
	}
	code, _, errOut := s.mullein("arrival", "99999", "-o", "json")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `"status": 404`)
}
