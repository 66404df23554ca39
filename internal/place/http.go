package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/settings"
)

// httpDriver asks for files by their addresses (RFC 9110): ETag or Last-Modified tell a version, ranges go on where
// a transfer broke off. It lists nothing, and changes nothing.
type httpDriver struct {
	client   *http.Client
	base     *url.URL
	settings settings.Place
}

// dialHTTP makes a driver; the first request connects.
func dialHTTP(_ context.Context, s settings.Place) (Driver, error) {
	at, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	secure, err := tlsOf(&s, at.Hostname())
	if err != nil {
		return nil, err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig, transport.ResponseHeaderTimeout, transport.DisableCompression = secure, stillLimit, true
	return &httpDriver{client: &http.Client{Transport: transport, CheckRedirect: sameHost}, base: at, settings: s}, nil
}

// sameHost follows redirects within a host: elsewhere nobody vouches for the bytes, nor for the secret.
func sameHost(r *http.Request, via []*http.Request) error {
	if r.URL.Host != via[0].URL.Host || r.URL.Scheme != via[0].URL.Scheme || len(via) > 5 {
		return fmt.Errorf("it redirects to %s", r.URL.Host)
	}
	return nil
}

// ask sends a request for a file.
func (d *httpDriver) ask(ctx context.Context, method, p string, header http.Header) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, method, d.base.JoinPath(strings.Split(p, "/")...).String(), nil)
	if err != nil {
		return nil, err
	}
	if header != nil {
		r.Header = header
	}
	password, err := d.settings.PasswordNow()
	switch {
	case err != nil:
		return nil, err
	case d.settings.User != "":
		r.SetBasicAuth(d.settings.User, password)
	case password != "":
		r.Header.Set("Authorization", "Bearer "+password)
	}
	answer, err := d.client.Do(r)
	if err != nil {
		var whole *url.Error
		if errors.As(err, &whole) { // the address says nothing that people do not know
			err = whole.Err
		}
		return nil, err
	}
	if err := statusError(p, answer); err != nil {
		answer.Body.Close()
		return nil, err
	}
	return answer, nil
}

func statusError(p string, answer *http.Response) error {
	switch code := answer.StatusCode; {
	case code < 300:
		return nil
	case code == http.StatusNotFound || code == http.StatusGone:
		return fmt.Errorf("%s: %s: %w", p, answer.Status, fs.ErrNotExist)
	case code == http.StatusForbidden:
		return fmt.Errorf("%s: %s: %w", p, answer.Status, fs.ErrPermission)
	case code == http.StatusPreconditionFailed || code == http.StatusRequestedRangeNotSatisfiable:
		return fmt.Errorf("%s: %s: %w", p, answer.Status, landing.ErrChanged)
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable:
		return &ThrottledError{answer.Status}
	}
	return fmt.Errorf("%s: the server answers %s", p, answer.Status)
}

// entryOfHeader makes an entry of what the headers say.
func entryOfHeader(p string, h http.Header, size int64) landing.Entry {
	e := landing.Entry{Path: p, Size: size, Modified: time.Unix(0, 0).UTC(), Inode: landing.VersionInode(h.Get("ETag"))}
	if at, err := http.ParseTime(h.Get("Last-Modified")); err == nil {
		e.Modified = at.UTC()
	}
	if size < 0 {
		e.Size, e.Problem = 0, "is sent without its length"
	}
	return e
}

// List says that nothing can be listed.
func (d *httpDriver) List(context.Context, string, func(landing.Entry) error) error {
	return errors.New("files are asked for by name; nothing can be listed")
}

// Stat asks for a file's headers.
func (d *httpDriver) Stat(ctx context.Context, p string) (landing.Entry, error) {
	answer, err := d.ask(ctx, http.MethodHead, p, nil)
	if err != nil {
		return landing.Entry{}, err
	}
	answer.Body.Close()
	return entryOfHeader(p, answer.Header, answer.ContentLength), nil
}

// Open opens a file from an offset on.
func (d *httpDriver) Open(ctx context.Context, p string, from int64, of landing.Entry) (landing.Opened, error) {
	header := http.Header{}
	if from > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	answer, err := d.ask(ctx, http.MethodGet, p, header)
	if err != nil {
		return landing.Opened{}, err
	}
	size := answer.ContentLength
	if from > 0 && answer.StatusCode == http.StatusPartialContent {
		_, whole, _ := strings.Cut(answer.Header.Get("Content-Range"), "/")
		if size, err = strconv.ParseInt(whole, 10, 64); err != nil {
			size = -1
		}
	}
	e := entryOfHeader(p, answer.Header, size)
	switch {
	case e.Problem != "":
		err = fmt.Errorf("%s %s: %w", p, e.Problem, fs.ErrPermission)
	case from > 0 && !e.Same(landing.Entry{Size: of.Size, Modified: of.Modified, Inode: of.Inode}):
		err = landing.ErrChanged
	case from > 0 && answer.StatusCode != http.StatusPartialContent: // it knows no ranges
		_, err = io.CopyN(io.Discard, answer.Body, from)
	}
	if err != nil {
		answer.Body.Close()
		return landing.Opened{}, err
	}
	return landing.Opened{ReadCloser: answer.Body, Entry: e}, nil
}

// errFixed says that a place cannot be changed.
var errFixed = fmt.Errorf("files that are asked for by HTTP cannot be changed; write put_away: leave: %w", fs.ErrPermission)

// Put fails.
func (d *httpDriver) Put(context.Context, string, io.Reader) error { return errFixed }

// Move fails.
func (d *httpDriver) Move(context.Context, string, string) error { return errFixed }

// Remove fails.
func (d *httpDriver) Remove(context.Context, string) error { return errFixed }

// Close ends idle connections.
func (d *httpDriver) Close() error {
	d.client.CloseIdleConnections()
	return nil
}

// named is a place whose files a feed asks for by name: by the names that its pattern gives for the slots of a
// while, or for each day, hour or minute where nothing is due.
type named struct {
	*Place
	feed *feed.Feed
}

// maxNames bounds how many names are asked for in one listing.
const maxNames = 500

// defaultLookBack is how far back names are asked for where the settings do not say it.
const defaultLookBack = 72 * time.Hour

// List asks for the names.
func (n named) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	back := cmp.Or(time.Duration(n.settings.LookBack), defaultLookBack)
	names, err := n.feed.NamesBetween(time.Now().Add(-back), time.Now(), maxNames)
	if err != nil {
		return err
	}
	for _, name := range names {
		e, err := n.Stat(ctx, join(folder, name))
		switch {
		case errors.Is(err, fs.ErrNotExist): // its slot is as any other that nothing came for
			continue
		case errors.Is(err, fs.ErrPermission):
			e = landing.Entry{Path: join(folder, name), Modified: time.Unix(0, 0).UTC(), Problem: "may not be read"}
		case err != nil:
			return err
		}
		if err := visit(e); err != nil {
			return err
		}
	}
	return nil
}
