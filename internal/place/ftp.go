package place

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"mullein/internal/landing"
	"mullein/internal/settings"
)

// ftpDriver is a control connection of FTP (RFC 959), with MLSD and MLST (RFC 3659) where the server has them.
type ftpDriver struct {
	conn *ftp.ServerConn
	ways *connections
	root string // absolute
}

// connections are those of a driver, closed together: the protocol's library knows no context.
type connections struct {
	mu     sync.Mutex
	open   map[net.Conn]struct{}
	closed bool
}

func (c *connections) add(conn net.Conn) (net.Conn, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		conn.Close()
		return nil, net.ErrClosed
	}
	c.open[conn] = struct{}{}
	return &ownConn{stillConn{conn}, c}, nil
}

func (c *connections) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	for conn := range c.open {
		conn.Close()
	}
	clear(c.open)
}

// stillLimit is how long a server that is in use may say nothing before it is taken to be gone.
const stillLimit = time.Minute

// stillConn is a connection that fails when nothing comes for stillLimit.
type stillConn struct{ net.Conn }

func (c stillConn) Read(b []byte) (int, error) {
	if err := c.SetReadDeadline(time.Now().Add(stillLimit)); err != nil {
		return 0, err
	}
	return c.Conn.Read(b)
}

// ownConn is one of the connections of a driver.
type ownConn struct {
	net.Conn
	of *connections
}

func (c *ownConn) Close() error {
	c.of.mu.Lock()
	delete(c.of.open, c.Conn.(stillConn).Conn)
	c.of.mu.Unlock()
	return c.Conn.Close()
}

// dialFTP connects to an FTP server.
func dialFTP(ctx context.Context, s settings.Place) (Driver, error) {
	at, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return nil, err
	}
	secure, err := tlsOf(&s, at.Hostname())
	if err != nil {
		return nil, err
	}
	secure.MaxVersion = tls.VersionTLS12 // servers want the session of the control connection for the others: one of TLS 1.3 is not taken
	implicit, plain := s.Kind() == settings.FTPS, s.TLS == "none"
	host := net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), map[bool]string{true: "990", false: "21"}[implicit]))
	ways := &connections{open: map[net.Conn]struct{}{}}
	first := true
	dialing := ctx
	dial := func(network, address string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(dialing, dialLimit)
		defer cancel()
		if first {
			address = host
		}
		conn, err := new(net.Dialer).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		if conn, err = ways.add(conn); err != nil {
			return nil, err
		}
		// Of explicit TLS the library begins that of the control connection.
		if implicit || !plain && !first {
			conn = tls.Client(conn, secure)
		}
		first = false
		return conn, nil
	}
	options := []ftp.DialOption{ftp.DialWithDialFunc(dial), ftp.DialWithLocation(zone), ftp.DialWithShutTimeout(stillLimit)}
	if !implicit && !plain {
		options = append(options, ftp.DialWithExplicitTLS(secure))
	}
	stop := context.AfterFunc(ctx, ways.close)
	defer stop()
	conn, err := ftp.Dial(host, options...)
	if err != nil {
		ways.close()
		return nil, fmt.Errorf("connect: %w", err)
	}
	d := &ftpDriver{conn: conn, ways: ways}
	if err := d.signIn(&s, at.Path); err != nil {
		ways.close()
		return nil, err
	}
	dialing = context.WithoutCancel(ctx) // that of each transfer is bounded by its own
	return d, nil
}

func (d *ftpDriver) signIn(s *settings.Place, folder string) error {
	password, err := s.PasswordNow()
	if err != nil {
		return err
	}
	if err := d.conn.Login(cmp.Or(s.User, "anonymous"), cmp.Or(password, "anonymous")); err != nil {
		var said *textproto.Error
		if errors.As(err, &said) {
			return fmt.Errorf("sign in as %s: the server says %d %s", cmp.Or(s.User, "anonymous"), said.Code, said.Msg)
		}
		return fmt.Errorf("sign in as %s: %w", cmp.Or(s.User, "anonymous"), err)
	}
	if d.root = folder; d.root == "" {
		if d.root, err = d.conn.CurrentDir(); err != nil {
			return fmt.Errorf("where am I: %w", err)
		}
	}
	return nil
}

func (d *ftpDriver) at(p string) string { return join(d.root, p) }

// ftpError makes of what the server says an error that others know.
func ftpError(p string, err error) error {
	var said *textproto.Error
	if !errors.As(err, &said) {
		return err
	}
	text := strings.ToLower(said.Msg)
	switch {
	case said.Code == ftp.StatusFileUnavailable && (strings.Contains(text, "permission") || strings.Contains(text, "denied") ||
		strings.Contains(text, "not allowed")):
		return fmt.Errorf("%s: %s: %w", p, said.Msg, fs.ErrPermission)
	case said.Code == ftp.StatusFileUnavailable:
		return fmt.Errorf("%s: %s: %w", p, said.Msg, fs.ErrNotExist)
	case said.Code == ftp.StatusNotAvailable || said.Code == ftp.StatusFileActionIgnored || said.Code == ftp.StatusActionAborted:
		return &ThrottledError{fmt.Sprintf("%d %s", said.Code, said.Msg)}
	}
	return err
}

// List reads folders one after the other. A folder is entered first: of one that is not there, servers list nothing
// without a word.
func (d *ftpDriver) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	return d.list(ctx, folder, 0, visit)
}

func (d *ftpDriver) list(ctx context.Context, folder string, depth int, visit func(landing.Entry) error) error {
	entries, err := d.entries(folder)
	switch {
	case err == nil:
	case depth > 0 && errors.Is(err, fs.ErrNotExist):
		return nil
	case depth > 0 && errors.Is(err, fs.ErrPermission):
		return visit(landing.Entry{Path: folder, Modified: time.Unix(0, 0).UTC(), Problem: "may not be listed"})
	default:
		return err
	}
	for _, e := range entries {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !inside(e.Name) {
			continue
		}
		p := path.Join(folder, e.Name)
		switch e.Type {
		case ftp.EntryTypeFolder:
			if depth < landing.MaxDepth && !strings.HasPrefix(e.Name, ".") {
				err = d.list(ctx, p, depth+1, visit)
			}
		case ftp.EntryTypeFile:
			err = visit(ftpEntry(p, e))
		default: // where a link leads is not said
			err = visit(notAFile(p, "a link"))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *ftpDriver) entries(folder string) ([]*ftp.Entry, error) {
	if err := d.conn.ChangeDir(d.at(folder)); err != nil {
		return nil, ftpError(folder, err)
	}
	entries, err := d.conn.List("")
	return entries, ftpError(folder, err)
}

func ftpEntry(p string, e *ftp.Entry) landing.Entry {
	if e.Type == ftp.EntryTypeFolder {
		return notAFile(p, "a folder")
	}
	return landing.Entry{Path: p, Size: int64(e.Size), Modified: e.Time.UTC().Truncate(time.Second)}
}

// Stat looks at a file in the same way as a listing does, so that both say the same time.
func (d *ftpDriver) Stat(_ context.Context, p string) (landing.Entry, error) {
	if d.conn.IsTimePreciseInList() {
		e, err := d.conn.GetEntry(d.at(p))
		if err != nil {
			return landing.Entry{}, ftpError(p, err)
		}
		return ftpEntry(p, e), nil
	}
	entries, err := d.entries(path.Dir(p))
	if err != nil {
		return landing.Entry{}, err
	}
	for _, e := range entries {
		if e.Name == path.Base(p) {
			return ftpEntry(p, e), nil
		}
	}
	return landing.Entry{}, fmt.Errorf("%s: %w", p, fs.ErrNotExist)
}

// Open opens a file from an offset on.
func (d *ftpDriver) Open(ctx context.Context, p string, from int64, of landing.Entry) (landing.Opened, error) {
	e, err := d.Stat(ctx, p)
	switch {
	case err != nil:
		return landing.Opened{}, err
	case e.Problem != "":
		return landing.Opened{}, fmt.Errorf("%s %s: %w", p, e.Problem, fs.ErrPermission)
	case from > 0 && (e.Size != of.Size || !e.Modified.Equal(of.Modified)):
		return landing.Opened{}, landing.ErrChanged
	}
	body, err := d.conn.RetrFrom(d.at(p), uint64(from))
	if err != nil {
		return landing.Opened{}, ftpError(p, err)
	}
	return landing.Opened{ReadCloser: body, Entry: e}, nil
}

// Put writes a file.
func (d *ftpDriver) Put(_ context.Context, p string, content io.Reader) error {
	d.makeFolders(path.Dir(p))
	return ftpError(p, d.conn.Stor(d.at(p), content))
}

// makeFolders makes folders that lack. What cannot be made, or is there, shows when it is used.
func (d *ftpDriver) makeFolders(folder string) {
	if folder == "." || d.conn.ChangeDir(d.at(folder)) == nil {
		return
	}
	d.makeFolders(path.Dir(folder))
	_ = d.conn.MakeDir(d.at(folder))
}

// Move renames a file. The protocol does not say what becomes of a file that has the name, so it is looked at first.
func (d *ftpDriver) Move(ctx context.Context, from, to string) error {
	if _, err := d.Stat(ctx, to); err == nil {
		return fs.ErrExist
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err // nobody knows whether one has it
	}
	d.makeFolders(path.Dir(to))
	return ftpError(from, d.conn.Rename(d.at(from), d.at(to)))
}

// Remove deletes a file.
func (d *ftpDriver) Remove(_ context.Context, p string) error {
	return ftpError(p, d.conn.Delete(d.at(p)))
}

// Close ends the connection.
func (d *ftpDriver) Close() error {
	d.ways.close()
	return nil
}
