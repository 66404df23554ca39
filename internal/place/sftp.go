package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"mullein/internal/landing"
	"mullein/internal/settings"
)

// sftpDriver is a connection by SFTP, the file transfer protocol of SSH in version 3.
type sftpDriver struct {
	client *sftp.Client
	way    *ssh.Client
	root   string
}

// dialSFTP connects to an SFTP server.
func dialSFTP(ctx context.Context, s settings.Place) (Driver, error) {
	at, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	if s.User == "" {
		return nil, errors.New("nobody to sign in as: give user")
	}
	ways, done, err := signIns(&s)
	if err != nil {
		return nil, err
	}
	defer done()
	host := net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), "22"))
	conn, err := new(net.Dialer).DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, fmt.Errorf("connect: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	keys := &hostKeys{wanted: s.HostKeys}
	c, channels, requests, err := ssh.NewClientConn(stillConn{conn}, host, &ssh.ClientConfig{User: s.User, Auth: ways, HostKeyCallback: keys.check,
		HostKeyAlgorithms: keys.algorithms()})
	if err != nil {
		conn.Close()
		switch {
		case keys.refused != nil:
			return nil, keys.refused
		case ctx.Err() != nil:
			return nil, fmt.Errorf("%s does not answer as an SSH server", host)
		}
		return nil, fmt.Errorf("sign in as %s: %w", s.User, err)
	}
	way := ssh.NewClient(c, channels, requests)
	client, err := sftp.NewClient(way)
	if err != nil {
		way.Close()
		return nil, fmt.Errorf("the server has no SFTP for %s: %w", s.User, err)
	}
	// An address without a path is where the server puts the user.
	return &sftpDriver{client, way, at.Path}, nil
}

// signIns returns the ways to sign in; done is called when they were used.
func signIns(s *settings.Place) (ways []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	if s.KeyFile != "" {
		text, err := os.ReadFile(s.KeyFile)
		if err != nil {
			return nil, done, err
		}
		key, err := ssh.ParsePrivateKey(text)
		if lacks := (*ssh.PassphraseMissingError)(nil); errors.As(err, &lacks) {
			var phrase string
			if phrase, err = s.PassphraseNow(); err == nil {
				key, err = ssh.ParsePrivateKeyWithPassphrase(text, []byte(phrase))
			}
		}
		if err != nil {
			return nil, done, fmt.Errorf("%s: %w", s.KeyFile, err)
		}
		ways = append(ways, ssh.PublicKeys(key))
	}
	if s.Agent {
		conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
		if err != nil {
			return nil, done, fmt.Errorf("the agent at SSH_AUTH_SOCK: %w", err)
		}
		done = func() { conn.Close() }
		ways = append(ways, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
	}
	password, err := s.PasswordNow()
	if err != nil {
		return nil, done, err
	}
	if password != "" {
		ways = append(ways, ssh.Password(password), ssh.KeyboardInteractive(
			func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = password
				}
				return answers, nil
			}))
	}
	return ways, done, nil
}

// hostKeys are the keys by which a host is known.
type hostKeys struct {
	wanted  []string
	refused error
}

// parsed returns the fingerprint of a wanted key and, where it is a whole key, its type.
func parsed(wanted string) (fingerprint, kind string) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(wanted))
	if err != nil {
		return wanted, ""
	}
	return ssh.FingerprintSHA256(key), key.Type()
}

// algorithms returns those of the wanted keys, so that the host shows one of them; nil for any.
func (k *hostKeys) algorithms() []string {
	var out []string
	for _, w := range k.wanted {
		switch _, kind := parsed(w); kind {
		case "":
			return nil
		case ssh.KeyAlgoRSA:
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		default:
			out = append(out, kind)
		}
	}
	return out
}

// check makes sure that a host is the one that is wanted.
func (k *hostKeys) check(_ string, _ net.Addr, key ssh.PublicKey) error {
	shown := ssh.FingerprintSHA256(key)
	for _, w := range k.wanted {
		if fingerprint, _ := parsed(w); fingerprint == shown {
			return nil
		}
	}
	if len(k.wanted) == 0 {
		k.refused = fmt.Errorf("the host is not known: it shows the key %s (%s); if its owner says the same, write it as host_keys",
			shown, key.Type())
	} else {
		k.refused = fmt.Errorf("the host shows another key than host_keys says, %s (%s): it was set up anew, or somebody stands between; "+
			"ask its owner", shown, key.Type())
	}
	return k.refused
}

func (d *sftpDriver) at(p string) string { return join(d.root, p) }

// List reads folders, one request for about a hundred names.
func (d *sftpDriver) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	return d.list(ctx, folder, 0, visit)
}

func (d *sftpDriver) list(ctx context.Context, folder string, depth int, visit func(landing.Entry) error) error {
	names, err := d.client.ReadDirContext(ctx, d.at(folder))
	if err != nil && (depth == 0 || !errors.Is(err, fs.ErrNotExist)) {
		if depth > 0 && errors.Is(err, fs.ErrPermission) {
			return visit(landing.Entry{Path: folder, Modified: time.Unix(0, 0).UTC(), Problem: "may not be listed"})
		}
		return err
	}
	for _, info := range names {
		if !inside(info.Name()) {
			continue
		}
		p := path.Join(folder, info.Name())
		switch {
		case info.IsDir():
			if depth < landing.MaxDepth && !strings.HasPrefix(info.Name(), ".") {
				err = d.list(ctx, p, depth+1, visit)
			}
		case info.Mode()&fs.ModeSymlink != 0:
			var e landing.Entry
			if e, err = d.Stat(ctx, p); err == nil && e.Problem == "" {
				err = visit(e)
			} else if isOfFile(err) {
				err = nil
			}
		default:
			err = visit(sftpEntry(p, info))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func sftpEntry(p string, info fs.FileInfo) landing.Entry {
	switch {
	case info.IsDir():
		return notAFile(p, "a folder")
	case !info.Mode().IsRegular():
		return notAFile(p, "a device or socket")
	}
	return landing.Entry{Path: p, Size: info.Size(), Modified: info.ModTime().UTC().Truncate(time.Second)}
}

// Stat looks at a file.
func (d *sftpDriver) Stat(_ context.Context, p string) (landing.Entry, error) {
	info, err := d.client.Stat(d.at(p))
	if err != nil {
		return landing.Entry{}, err
	}
	return sftpEntry(p, info), nil
}

// Open opens a file. It has no version by which another one is told, but its size and time.
func (d *sftpDriver) Open(_ context.Context, p string, from int64, of landing.Entry) (landing.Opened, error) {
	file, err := d.client.Open(d.at(p))
	if err != nil {
		return landing.Opened{}, err
	}
	info, err := file.Stat()
	if err == nil {
		e := sftpEntry(p, info)
		switch {
		case e.Problem != "":
			err = fmt.Errorf("%s %s: %w", p, e.Problem, fs.ErrPermission)
		case from > 0 && (e.Size != of.Size || !e.Modified.Equal(of.Modified)):
			err = landing.ErrChanged
		case from > 0:
			_, err = file.Seek(from, io.SeekStart)
		}
		if err == nil {
			return landing.Opened{ReadCloser: file, Entry: e}, nil
		}
	}
	file.Close()
	return landing.Opened{}, err
}

// Put writes a file.
func (d *sftpDriver) Put(_ context.Context, p string, content io.Reader) error {
	if err := d.client.MkdirAll(path.Dir(d.at(p))); err != nil {
		return fmt.Errorf("make the folder %s: %w", path.Dir(p), err)
	}
	file, err := d.client.Create(d.at(p))
	if err != nil {
		return err
	}
	if _, err = file.ReadFrom(content); err == nil {
		if err = file.Sync(); unsupported(err) {
			err = nil
		}
	}
	return errors.Join(err, file.Close())
}

func unsupported(err error) bool {
	var status *sftp.StatusError
	return errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxOpUnsupported
}

// Move renames a file, in one step.
func (d *sftpDriver) Move(ctx context.Context, from, to string) error {
	if _, err := d.client.Lstat(d.at(to)); err == nil {
		return fs.ErrExist
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := d.client.MkdirAll(path.Dir(d.at(to))); err != nil {
		return fmt.Errorf("make the folder %s: %w", path.Dir(to), err)
	}
	err := d.client.Rename(d.at(from), d.at(to))
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure {
		// A server has one code for all that is wrong.
		if _, there := d.client.Lstat(d.at(to)); there == nil {
			return fs.ErrExist
		}
		return fmt.Errorf("%w: %w", err, fs.ErrPermission)
	}
	return err
}

// Remove deletes a file.
func (d *sftpDriver) Remove(_ context.Context, p string) error { return d.client.Remove(d.at(p)) }

// Close ends the connection.
func (d *sftpDriver) Close() error {
	return errors.Join(d.way.Close(), d.client.Close())
}
