package place_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mullein/internal/settings"
)

// certificateOf makes a certificate for this machine, and returns its files and its sum.
func certificateOf(t *testing.T) (certificate, key, sum string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	raw, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "upper"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true,
		BasicConstraintsValid: true}, &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "upper"}}, &private.PublicKey, private)
	require.NoError(t, err)
	text, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	dir := t.TempDir()
	certificate, key = filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: text}), 0o600))
	of := sha256.Sum256(raw)
	return certificate, key, hex.EncodeToString(of[:])
}

// ftpServer starts Debian's proftpd for a folder, with more in its configuration.
func ftpServer(t *testing.T, more string) (settings.Place, string) {
	t.Helper()
	const program = "/usr/sbin/proftpd"
	dir, root := t.TempDir(), t.TempDir()
	me, err := user.Current()
	require.NoError(t, err)
	salted, err := exec.Command("perl", "-e", `print crypt("secret", "\$6\$sorrel\$")`).Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), fmt.Appendf(nil, "supplier:%s:%s:%s::%s:/bin/sh\n", bytes.TrimSpace(salted),
		me.Uid, me.Gid, root), 0o600))
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(free.Addr().String())
	free.Close()
	configuration := fmt.Sprintf(`ServerType standalone
DefaultAddress 127.0.0.1
Port %s
User %s
RootLogin on
RequireValidShell off
AuthOrder mod_auth_file.c
AuthUserFile %s/users
PidFile %[3]s/pid
ScoreboardFile none
DelayEngine off
UseReverseDNS off
WtmpLog off
TransferLog none
SystemLog %[3]s/log
AllowOverwrite on
AllowStoreRestart on
AllowRetrieveRestart on
TimesGMT on
MaxInstances 50
%s
`, port, me.Username, dir, more)
	file := filepath.Join(dir, "proftpd.conf")
	require.NoError(t, os.WriteFile(file, []byte(configuration), 0o600))
	var said bytes.Buffer
	server := exec.Command(program, "-n", "-q", "-c", file)
	server.Stdout, server.Stderr, server.WaitDelay = &said, &said, time.Second
	require.NoError(t, server.Start(), "install Debian's proftpd-core and proftpd-mod-crypto")
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	address := "127.0.0.1:" + port
	require.Eventually(t, func() bool {
		conn, err := new(net.Dialer).DialContext(context.Background(), "tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "%s", &said)
	return settings.Place{Address: "ftp://" + address, User: "supplier", Password: "secret", TLS: "none"}, root
}

// secureFTP is a server that wants TLS, for the control connection and all others, with the same session.
func secureFTP(t *testing.T, implicit bool) (settings.Place, string) {
	t.Helper()
	certificate, key, sum := certificateOf(t)
	options := ""
	if implicit {
		options = "TLSOptions UseImplicitSSL\n"
	}
	s, root := ftpServer(t, fmt.Sprintf(`LoadModule mod_tls.c
TLSEngine on
TLSRequired on
TLSECCertificateFile %s
TLSECCertificateKeyFile %s
TLSRenegotiate none
%s`, certificate, key, options))
	s.TLS = ""
	if implicit {
		s.Address, s.Certificate = "ftps"+s.Address[len("ftp"):], sum
	} else {
		s.Authority = certificate
	}
	return s, root
}
