package place_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"mullein/internal/settings"
)

// passwordServer is an SFTP server of our own, since one of the system asks the system for passwords. It asks for them in either
// way, or for a key.
func passwordServer(t *testing.T, ask bool, key ssh.PublicKey) settings.Place {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	host, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	wrong := errors.New("wrong")
	c := &ssh.ServerConfig{}
	switch {
	case key != nil:
		c.PublicKeyCallback = func(_ ssh.ConnMetadata, shown ssh.PublicKey) (*ssh.Permissions, error) {
			if string(shown.Marshal()) == string(key.Marshal()) {
				return nil, nil
			}
			return nil, wrong
		}
	case ask:
		c.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, question ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := question("", "", []string{"Password: "}, []bool{false})
			if err != nil || len(answers) != 1 || answers[0] != "open sesame" {
				return nil, wrong
			}
			return nil, nil
		}
	default:
		c.PasswordCallback = func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if string(password) != "open sesame" {
				return nil, wrong
			}
			return nil, nil
		}
	}
	c.AddHostKey(host)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serveSSH(conn, c)
		}
	}()
	root := t.TempDir()
	write(t, root, "a.csv", []byte("x\n"))
	return settings.Place{Address: "sftp://" + l.Addr().String() + root, User: "supplier", HostKeys: []string{string(ssh.MarshalAuthorizedKey(host.PublicKey()))}}
}

func serveSSH(conn net.Conn, c *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, c)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for wanted := range channels {
		channel, asked, err := wanted.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				_ = r.Reply(r.Type == "subsystem", nil)
			}
		}()
		server, err := sftp.NewServer(channel)
		if err != nil {
			return
		}
		go func() { _ = server.Serve() }()
	}
}

// TestWaysToSignIn signs in by a password, asked for or not, from a file, and by an agent.
func TestWaysToSignIn(t *testing.T) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	dir := t.TempDir()
	keys := agent.NewKeyring()
	require.NoError(t, keys.Add(agent.AddedKey{PrivateKey: private}))
	socket, err := net.Listen("unix", filepath.Join(dir, "agent"))
	require.NoError(t, err)
	t.Cleanup(func() { socket.Close() })
	go func() {
		for {
			conn, err := socket.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(keys, conn) }()
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", filepath.Join(dir, "agent"))
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("open sesame\n"), 0o600))
	for name, c := range map[string]struct {
		ask  bool
		key  ssh.PublicKey
		with func(*settings.Place)
		good bool
	}{
		"a password":           {with: func(p *settings.Place) { p.Password = "open sesame" }, good: true},
		"asked for a password": {ask: true, with: func(p *settings.Place) { p.Password = "open sesame" }, good: true},
		"from a file":          {with: func(p *settings.Place) { p.PasswordFile = secret }, good: true},
		"a wrong one":          {with: func(p *settings.Place) { p.Password = "open" }},
		"an agent":             {key: key, with: func(p *settings.Place) { p.Agent = true }, good: true},
		"no way":               {key: key, with: func(*settings.Place) {}},
	} {
		t.Run(name, func(t *testing.T) {
			s := passwordServer(t, c.ask, c.key)
			c.with(&s)
			steps, err := places(t, map[string]settings.Place{"upper": s}).Test(context.Background(), "upper")
			require.NoError(t, err)
			for _, step := range steps {
				assert.Equal(t, c.good, step.Good, step.Said)
				assert.NotContains(t, step.Said, "open sesame")
			}
		})
	}
}
