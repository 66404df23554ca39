package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"mullein/internal/landing"
	"mullein/internal/settings"
)

// Driver is one connection to a place, or what stands for one. Paths are below the place. Its errors are as
// [landing.Store] says; after any other error it is closed. Closing it ends what it is doing.
type Driver interface {
	List(ctx context.Context, folder string, visit func(landing.Entry) error) error
	Stat(ctx context.Context, path string) (landing.Entry, error)
	Open(ctx context.Context, path string, from int64, of landing.Entry) (landing.Opened, error)
	Put(ctx context.Context, path string, content io.Reader) error
	Move(ctx context.Context, from, to string) error
	Remove(ctx context.Context, path string) error
	Close() error
}

// Dial connects to a place.
type Dial func(ctx context.Context, s settings.Place) (Driver, error)

const (
	// dialLimit bounds how long it may take to connect.
	dialLimit = 20 * time.Second
	// idleLimit is how long a connection is kept that nobody uses.
	idleLimit = 30 * time.Second
	// maxSick bounds how long a place is left alone after it could not be reached.
	maxSick = 30 * time.Second
	// patience is how often a request is made again that the place turned down for the moment.
	patience = 4

	defaultConnections = 4
)

// Place is a named location outside of this machine.
type Place struct {
	Name     string
	settings settings.Place
	dial     Dial
	renames  bool
	spool    *spoolRoom

	slots    chan struct{} // a place for each connection
	requests *rate.Limiter
	bytes    *rate.Limiter // nil for no limit

	asked atomic.Int64 // requests

	mu      sync.Mutex
	idle    []idle
	closed  bool
	trouble error // what it was asked last failed with; nil where it was good
	sick    error // why it could not be reached
	sickFor time.Duration
	sickTo  time.Time
}

type idle struct {
	Driver
	since time.Time
}

// ThrottledError says that a place wants to be asked later.
type ThrottledError struct{ Reason string }

func (e *ThrottledError) Error() string { return "it wants to be asked later: " + e.Reason }

func newPlace(name string, s settings.Place, dial Dial, spool *spoolRoom) *Place {
	n := s.Connections
	if n == 0 {
		n = defaultConnections
	}
	p := &Place{Name: name, settings: s, dial: dial, spool: spool, slots: make(chan struct{}, n),
		renames: !s.IsObjects() && !s.IsHTTP(), requests: rate.NewLimiter(rate.Inf, 1)}
	if s.RequestsPerMin > 0 {
		p.requests = rate.NewLimiter(rate.Limit(float64(s.RequestsPerMin)/60), max(1, s.RequestsPerMin/10))
	}
	if s.BytesASecond > 0 {
		p.bytes = rate.NewLimiter(rate.Limit(s.BytesASecond), int(max(256<<10, s.BytesASecond)))
	}
	return p
}

// Requests returns how many requests were made so far.
func (p *Place) Requests() int64 { return p.asked.Load() }

// isOfFile reports whether an error is of a file, and the connection is good.
func isOfFile(err error) bool {
	for _, of := range []error{fs.ErrNotExist, fs.ErrExist, fs.ErrPermission, landing.ErrChanged} {
		if errors.Is(err, of) {
			return true
		}
	}
	return false
}

// take returns a connection that is free, or a new one. reused says that it may have been cut meanwhile.
func (p *Place) take(ctx context.Context) (d Driver, reused bool, err error) {
	select {
	case p.slots <- struct{}{}:
	case <-ctx.Done():
		return nil, false, context.Cause(ctx)
	}
	if d = p.takeIdle(); d != nil {
		return d, true, nil
	}
	if d, err = p.connect(ctx); err != nil {
		<-p.slots
	}
	return d, false, err
}

func (p *Place) takeIdle() Driver {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.idle) > 0 {
		last := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		if time.Since(last.since) < idleLimit {
			return last.Driver
		}
		last.Close()
	}
	return nil
}

// connect connects, unless that could not be done a moment ago.
func (p *Place) connect(ctx context.Context) (Driver, error) {
	p.mu.Lock()
	sick, closed := p.sick, p.closed
	if time.Now().After(p.sickTo) {
		sick = nil
	}
	p.mu.Unlock()
	switch {
	case closed:
		return nil, errors.New("the settings name it no more, or otherwise")
	case sick != nil:
		return nil, sick
	}
	limited, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	d, err := p.dial(limited, p.settings)
	if err != nil && ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		p.sickFor = min(max(time.Second, 2*p.sickFor), maxSick)
		p.sick, p.sickTo = err, time.Now().Add(p.sickFor)
		return nil, err
	}
	p.sick, p.sickFor = nil, 0
	return d, nil
}

// give returns a connection after use, with the error that it was used with.
func (p *Place) give(d Driver, err error) {
	defer func() { <-p.slots }()
	if err != nil && !isOfFile(err) && !errors.As(err, new(*ThrottledError)) && !errors.Is(err, errStop) {
		d.Close()
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		d.Close()
		return
	}
	p.idle = append(p.idle, idle{d, time.Now()})
}

// note keeps how what was asked ended.
func (p *Place) note(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return // it was broken off
	}
	if isOfFile(err) || errors.Is(err, errStop) {
		err = nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.trouble = err
}

// errStop is what visits of a listing end it with.
var errStop = errors.New("stop")

// do asks something of the place. What a connection that had been idle fails with may be its own end: then it is
// asked once more, as long as again allows it.
func (p *Place) do(ctx context.Context, again func() bool, ask func(context.Context, Driver) error) error {
	for failed := 0; ; failed++ {
		if err := p.requests.Wait(ctx); err != nil {
			return err
		}
		d, reused, err := p.take(ctx)
		if err != nil {
			p.note(ctx, err)
			return err
		}
		p.asked.Add(1)
		stop := context.AfterFunc(ctx, func() { d.Close() })
		err = ask(ctx, d)
		stop()
		p.give(d, err)
		p.note(ctx, err)
		throttled := errors.As(err, new(*ThrottledError))
		switch {
		case err == nil || isOfFile(err) || ctx.Err() != nil || errors.Is(err, errStop) || !again():
			return err
		case throttled && failed < patience:
			if !wait(ctx, time.Duration(1<<failed)*250*time.Millisecond) {
				return context.Cause(ctx)
			}
		case !reused && failed > 0 || failed >= patience:
			return err
		}
	}
}

func wait(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func always() bool { return true }

// List visits the files of a folder and below it.
func (p *Place) List(ctx context.Context, folder string, visit func(landing.Entry) error) error {
	visited := false
	var ended error
	err := p.do(ctx, func() bool { return !visited }, func(ctx context.Context, d Driver) error {
		return d.List(ctx, folder, func(e landing.Entry) error {
			visited = true
			if ended = visit(e); ended != nil {
				return errStop
			}
			return nil
		})
	})
	if ended != nil {
		return ended
	}
	return err
}

// Stat looks at a file.
func (p *Place) Stat(ctx context.Context, path string) (e landing.Entry, err error) {
	err = p.do(ctx, always, func(ctx context.Context, d Driver) error {
		e, err = d.Stat(ctx, path)
		return err
	})
	return e, err
}

// Open opens a file from an offset on. It has a connection of its own until it is closed.
func (p *Place) Open(ctx context.Context, path string, from int64, of landing.Entry) (landing.Opened, error) {
	for failed := 0; ; failed++ {
		if err := p.requests.Wait(ctx); err != nil {
			return landing.Opened{}, err
		}
		d, reused, err := p.take(ctx)
		if err != nil {
			p.note(ctx, err)
			return landing.Opened{}, err
		}
		p.asked.Add(1)
		stop := context.AfterFunc(ctx, func() { d.Close() })
		opened, err := d.Open(ctx, path, from, of)
		p.note(ctx, err)
		if err == nil {
			opened.ReadCloser = &transfer{ReadCloser: opened.ReadCloser, ctx: ctx, place: p, driver: d, stop: stop}
			return opened, nil
		}
		stop()
		p.give(d, err)
		switch {
		case isOfFile(err) || ctx.Err() != nil || failed >= patience:
			return opened, err
		case errors.As(err, new(*ThrottledError)):
			if !wait(ctx, time.Duration(1<<failed)*250*time.Millisecond) {
				return opened, context.Cause(ctx)
			}
		case !reused && failed > 0:
			return opened, err
		}
	}
}

// transfer is a file that is being read.
type transfer struct {
	io.ReadCloser
	ctx    context.Context
	place  *Place
	driver Driver
	stop   func() bool
	once   sync.Once
	err    error // what reading failed with
}

// Read reads no faster than the place allows.
func (t *transfer) Read(b []byte) (int, error) {
	if limit := t.place.bytes; limit != nil {
		b = b[:min(len(b), limit.Burst())]
	}
	n, err := t.ReadCloser.Read(b)
	if err != nil && err != io.EOF {
		t.err = err
	}
	if limit := t.place.bytes; limit != nil && n > 0 {
		if waitErr := limit.WaitN(t.ctx, n); waitErr != nil && err == nil {
			err = waitErr
		}
	}
	return n, err
}

// WriteTo writes all that comes, in the driver's own way where there is one and no limit.
func (t *transfer) WriteTo(w io.Writer) (int64, error) {
	if from, is := t.ReadCloser.(io.WriterTo); is && t.place.bytes == nil {
		n, err := from.WriteTo(w)
		t.err = err
		return n, err
	}
	return io.CopyBuffer(w, struct{ io.Reader }{t}, make([]byte, 256<<10))
}

// Close returns the connection to the place.
func (t *transfer) Close() error {
	var err error
	t.once.Do(func() {
		err = t.ReadCloser.Close()
		t.stop()
		t.place.give(t.driver, errors.Join(t.err, err))
	})
	return err
}

// Put writes a file.
func (p *Place) Put(ctx context.Context, path string, content io.Reader) error {
	read := &counted{Reader: content}
	return p.do(ctx, func() bool { return read.n == 0 }, func(ctx context.Context, d Driver) error {
		return d.Put(ctx, path, read)
	})
}

type counted struct {
	io.Reader
	n int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n += int64(n)
	return n, err
}

// Move renames a file.
func (p *Place) Move(ctx context.Context, from, to string) error {
	return p.do(ctx, always, func(ctx context.Context, d Driver) error { return d.Move(ctx, from, to) })
}

// Remove deletes a file.
func (p *Place) Remove(ctx context.Context, path string) error {
	return p.do(ctx, always, func(ctx context.Context, d Driver) error { return d.Remove(ctx, path) })
}

// Renames reports whether a move is one step.
func (p *Place) Renames() bool { return p.renames }

// Rest returns the least time between two listings of a folder.
func (p *Place) Rest() time.Duration {
	switch {
	case p.settings.Every > 0:
		return time.Duration(p.settings.Every)
	case p.renames:
		return 2 * time.Second
	}
	return 15 * time.Second
}

// Room takes room on the local disk.
func (p *Place) Room(bytes int64) (giveBack func(), ok bool) { return p.spool.take(bytes) }

// Folder is where bytes are kept while they are read.
func (p *Place) Folder() string { return p.spool.folder }

// tidy closes connections that nobody used for a while; all of them, where the place is closed.
func (p *Place) tidy(all bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = p.closed || all
	kept := p.idle[:0]
	for _, i := range p.idle {
		if all || time.Since(i.since) >= idleLimit {
			i.Close()
		} else {
			kept = append(kept, i)
		}
	}
	p.idle = kept
}

// join returns a path of a place as its driver's server has it, below the root of its address.
func join(root, p string) string {
	if root == "" {
		return path.Clean(p)
	}
	return path.Join(root, p)
}

// inside reports whether a name of a listing is one of a file or folder in it.
func inside(name string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\x00")
}

// notAFile says what an entry is that is no file.
func notAFile(p, what string) landing.Entry {
	return landing.Entry{Path: p, Modified: time.Unix(0, 0).UTC(), Problem: fmt.Sprintf("is %s, not a file", what)}
}
