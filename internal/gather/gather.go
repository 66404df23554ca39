// Package gather takes the rows of senders without files, and gathers them into files, which go the usual way.
//
// Rows lie on the disk before their sender is told that they were taken: in the service's home folder, in a file for each
// feed. A file that is large or old enough is delivered into the feed's landing, whole at once, under a name that the
// feed's pattern takes. The name is chosen when the file is begun, so that a service that was killed in between delivers it
// once. Start at [Gatherer.Take].
package gather

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"mullein/internal/landing"
)

// Limits say when a file is delivered: whatever comes first.
type Limits struct {
	After time.Duration // since its first row
	Rows  int
	Bytes int64
}

// Options are what a gatherer needs.
type Options struct {
	Folder string // its own; other services have others
	Limits func() Limits
	// Name returns a name that a feed's pattern takes; unique tells it from others.
	Name func(ctx context.Context, feed string, at time.Time, unique string) (string, error)
	// Deliver puts a file into a feed's landing. Where one of the name lies there the error is [landing.ErrTaken].
	Deliver func(ctx context.Context, feed, name string, content io.Reader) error
	Log     *slog.Logger
}

// Gatherer gathers rows. It may be used by several goroutines.
type Gatherer struct {
	Options
	mu    sync.Mutex
	feeds map[string]*feedRows
	wake  chan struct{}
}

// feedRows is what was taken of a feed and is not delivered.
type feedRows struct {
	mu      sync.Mutex
	now     *rowsFile   // that rows are added to; nil for none
	full    []*rowsFile // to be delivered, the oldest first
	waiting *batch      // rows that come while others are written
}

// rowsFile is a file of gathered rows.
type rowsFile struct {
	*os.File
	name  string // under which it is delivered
	began time.Time
	rows  int
	bytes int64
}

// maxFull bounds the files of a feed that wait to be delivered, as when its landing is away.
const maxFull = 1000

// batch is rows that are written together.
type batch struct {
	text []byte
	rows int
	done chan struct{}
	err  error
}

// MaxWaiting bounds the bytes of a feed that wait to be written.
const MaxWaiting = 64 << 20

// BusyError says that rows come faster than they are written.
type BusyError struct{}

func (BusyError) Error() string {
	return "more rows wait than can be written; send them again a little later"
}

// New makes a gatherer.
func New(o Options) *Gatherer {
	return &Gatherer{Options: o, feeds: map[string]*feedRows{}, wake: make(chan struct{}, 1)}
}

func (g *Gatherer) of(feed string) *feedRows {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.feeds[feed] == nil {
		g.feeds[feed] = &feedRows{}
	}
	return g.feeds[feed]
}

// Take takes rows of a feed, JSON objects that end with a line feed each, and returns when they are on the disk. Rows that
// come while others are written are written together.
func (g *Gatherer) Take(ctx context.Context, feed string, text []byte, rows int) error {
	f := g.of(feed)
	g.mu.Lock()
	b := f.waiting
	if b != nil && len(b.text)+len(text) > MaxWaiting {
		g.mu.Unlock()
		return BusyError{}
	}
	first := b == nil
	if first {
		b = &batch{done: make(chan struct{})}
		f.waiting = b
	}
	b.text, b.rows = append(b.text, text...), b.rows+rows
	g.mu.Unlock()
	if first {
		go g.write(context.WithoutCancel(ctx), feed, f)
	}
	select {
	case <-b.done:
		return b.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// write writes the rows that wait. Until it has its turn, more join them.
func (g *Gatherer) write(ctx context.Context, feed string, f *feedRows) {
	f.mu.Lock()
	defer f.mu.Unlock()
	g.mu.Lock()
	b := f.waiting
	f.waiting = nil
	g.mu.Unlock()
	b.err = g.append(ctx, feed, f, b)
	close(b.done)
	if b.err == nil && f.now.isDue(g.Limits()) {
		g.poke()
	}
}

// append writes rows to the disk; of those that could not be written whole, nothing stays.
func (g *Gatherer) append(ctx context.Context, feed string, f *feedRows, b *batch) error {
	if f.now == nil {
		var err error
		if len(f.full) >= maxFull {
			return BusyError{}
		}
		if f.now, err = g.begin(ctx, feed); err != nil {
			return err
		}
	}
	_, err := f.now.WriteAt(b.text, f.now.bytes)
	if err == nil {
		err = f.now.Sync()
	}
	if err != nil {
		return errors.Join(fmt.Errorf("keep rows of %s: %w", feed, err), f.now.Truncate(f.now.bytes))
	}
	f.now.bytes, f.now.rows = f.now.bytes+int64(len(b.text)), f.now.rows+b.rows
	return nil
}

// begin begins a file.
func (g *Gatherer) begin(ctx context.Context, feed string) (*rowsFile, error) {
	now := time.Now()
	name, err := g.Name(ctx, feed, now, now.UTC().Format("20060102T150405.000000"))
	if err != nil {
		return nil, err
	}
	folder := filepath.Join(g.Folder, feed)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("keep rows of %s: %w", feed, err)
	}
	file, err := os.OpenFile(filepath.Join(folder, url.PathEscape(name)), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("the pattern of %s gives the name %s again; let it tell times to the second, or take any text", feed, name)
	}
	if err == nil {
		err = syncFolder(folder)
	}
	if err != nil {
		return nil, fmt.Errorf("keep rows of %s: %w", feed, err)
	}
	return &rowsFile{File: file, name: name, began: now}, nil
}

// isDue reports whether a file is large or old enough. A nil file is not.
func (r *rowsFile) isDue(l Limits) bool {
	return r != nil && (r.rows >= l.Rows || r.bytes >= l.Bytes || time.Since(r.began) >= l.After)
}

// syncFolder makes sure that the names of a folder are on the disk.
func syncFolder(folder string) error {
	dir, err := os.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (g *Gatherer) poke() {
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

// look is how often it is looked whether files are old enough.
const look = 250 * time.Millisecond

// Run delivers what is large or old enough, until ctx ends; first what an earlier service left. What is on its way then is
// delivered by the next.
func (g *Gatherer) Run(ctx context.Context) {
	for said := ""; ; {
		err := g.left(ctx)
		if err == nil || ctx.Err() != nil {
			break
		}
		if said != err.Error() {
			said = err.Error()
			g.Log.Warn("rows that were taken before wait to be delivered", "error", err)
		}
		wait(ctx, 5*time.Second)
	}
	said := map[string]string{}
	for ctx.Err() == nil {
		g.mu.Lock()
		feeds := make(map[string]*feedRows, len(g.feeds))
		for name, f := range g.feeds {
			feeds[name] = f
		}
		g.mu.Unlock()
		for name, f := range feeds {
			err := g.due(ctx, name, f)
			if err != nil && said[name] != err.Error() {
				g.Log.Warn("rows that were taken wait to be delivered", "feed", name, "error", err)
			}
			if said[name] = ""; err != nil {
				said[name] = err.Error()
			}
		}
		select {
		case <-ctx.Done():
		case <-g.wake:
		case <-time.After(look):
		}
	}
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// due delivers the file of a feed if it is large or old enough.
func (g *Gatherer) due(ctx context.Context, feed string, f *feedRows) error {
	f.mu.Lock()
	if f.now.isDue(g.Limits()) {
		f.full, f.now = append(f.full, f.now), nil
	}
	full := f.full
	f.mu.Unlock()
	for _, r := range full { // while more rows are taken
		if r.rows > 0 {
			if err := g.deliver(ctx, feed, r.name, io.NewSectionReader(r, 0, r.bytes)); err != nil {
				return err
			}
		}
		f.mu.Lock()
		f.full = f.full[1:]
		f.mu.Unlock()
		if err := errors.Join(r.Close(), os.Remove(r.Name())); err != nil {
			return err
		}
	}
	return nil
}

// deliver puts a file into the landing. One that lies there under its name is itself, delivered before a service ended.
func (g *Gatherer) deliver(ctx context.Context, feed, name string, content io.Reader) error {
	err := g.Deliver(ctx, feed, name, content)
	if errors.Is(err, landing.ErrTaken) {
		return nil
	}
	return err
}

// left delivers the files that an earlier service left. Of the last row, a part may be there, which nobody was told was
// taken.
func (g *Gatherer) left(ctx context.Context) error {
	files, err := filepath.Glob(filepath.Join(g.Folder, "*", "*"))
	if err != nil {
		return err
	}
	var whole error
	for _, file := range files {
		feed := filepath.Base(filepath.Dir(file))
		if g.isOpen(feed, file) {
			continue
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		text = text[:bytes.LastIndexByte(text, '\n')+1]
		name, err := url.PathUnescape(filepath.Base(file))
		if err == nil && len(text) > 0 {
			err = g.deliver(ctx, feed, name, bytes.NewReader(text))
		}
		if err == nil {
			err = os.Remove(file)
		}
		if err != nil {
			whole = errors.Join(whole, fmt.Errorf("%s of %s: %w", strings.TrimSpace(name), feed, err))
		}
	}
	return whole
}

// isOpen reports whether a file is one that rows are being added to.
func (g *Gatherer) isOpen(feed, file string) bool {
	f := g.of(feed)
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.now != nil && f.now.Name() == file || slices.ContainsFunc(f.full, func(r *rowsFile) bool { return r.Name() == file })
}
