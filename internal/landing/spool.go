package landing

import (
	"bytes"
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"
	"time"
)

// farSource is the bytes of a file of a place, from anywhere. A transfer that breaks off goes on where it was.
type farSource struct {
	far    *far
	at     string // below the place
	opened Opened
}

// brokenPauses are before the further attempts at a transfer that broke off without moving any byte.
var brokenPauses = []time.Duration{200 * time.Millisecond, time.Second, 3 * time.Second}

// whole reads the file.
func (s *farSource) whole() ([]byte, error) {
	var out bytes.Buffer
	out.Grow(int(s.opened.Entry.Size))
	if err := s.copyTo(s.far.ctx, &out, s.opened.ReadCloser, 0); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// copyTo writes all bytes from an offset on, and closes from, which begins there. What it wrote is whole only
// where the size agrees, and the sum, where the place gives one.
func (s *farSource) copyTo(ctx context.Context, w io.Writer, from io.ReadCloser, at int64) error {
	e := s.opened.Entry
	var sum hash.Hash
	if at == 0 && len(s.opened.MD5) > 0 {
		sum = md5.New()
		w = io.MultiWriter(w, sum)
	}
	for failed := 0; ; {
		n, err := io.Copy(struct{ io.Writer }{w}, from)
		from.Close()
		at += n
		var local *fs.PathError
		switch {
		case at > e.Size:
			return ErrChanged // it grew
		case err == nil && at == e.Size:
			if sum != nil && !bytes.Equal(sum.Sum(nil), s.opened.MD5) {
				return fmt.Errorf("%s: the bytes do not have the MD5 sum that the place gives", path.Join(s.far.at, e.Path))
			}
			return nil
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.As(err, &local) && local.Op == "write":
			return err
		case err == nil:
			err = fmt.Errorf("it ended after %d of %d bytes", at, e.Size)
		}
		for {
			if failed++; n > 0 {
				failed, n = 0, 0
			} else if failed > len(brokenPauses) {
				return s.broken(at, err)
			} else if !wait(ctx, brokenPauses[failed-1]) {
				return context.Cause(ctx)
			}
			again, openErr := s.reopen(ctx, at)
			if openErr == nil {
				from = again
				break
			}
			if errors.Is(openErr, ErrChanged) || errors.Is(openErr, fs.ErrNotExist) {
				return openErr
			}
			err = openErr
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

// broken says that a transfer broke off for good: the place is away.
func (s *farSource) broken(at int64, err error) error {
	return s.far.away(fmt.Errorf("reading %s broke off at byte %d of %d: %w", s.opened.Entry.Path, at, s.opened.Entry.Size, err))
}

// reopen opens the file again from an offset on, as long as it is the same.
func (s *farSource) reopen(ctx context.Context, at int64) (io.ReadCloser, error) {
	again, err := s.far.store.Open(ctx, s.at, at, s.opened.Entry)
	if err != nil {
		return nil, err
	}
	again.Entry.Path = s.opened.Entry.Path
	if !again.Entry.Same(s.opened.Entry) {
		again.Close()
		return nil, ErrChanged
	}
	return again.ReadCloser, nil
}

// spool is a file of a place whose bytes come into a local file while they are read. The local file has no name,
// and ends with the process.
type spool struct {
	file     *os.File
	size     int64
	cancel   context.CancelFunc
	done     chan struct{}
	giveBack func()

	mu   sync.Mutex
	come *sync.Cond
	have int64 // bytes that came
	err  error // why no more come
	at   int64 // where Read goes on
}

func newSpool(s *farSource, folder string, giveBack func()) (*spool, error) {
	file, err := os.CreateTemp(folder, "spool-")
	if err != nil {
		return nil, fmt.Errorf("keep the bytes of %s: %w", s.opened.Entry.Path, err)
	}
	if err := os.Remove(file.Name()); err != nil {
		file.Close()
		return nil, fmt.Errorf("keep the bytes of %s: %w", s.opened.Entry.Path, err)
	}
	ctx, cancel := context.WithCancel(s.far.ctx)
	p := &spool{file: file, size: s.opened.Entry.Size, cancel: cancel, done: make(chan struct{}), giveBack: giveBack}
	p.come = sync.NewCond(&p.mu)
	stop := context.AfterFunc(ctx, func() { s.opened.Close() })
	go func() {
		defer close(p.done)
		defer stop()
		err := s.copyTo(ctx, p, s.opened.ReadCloser, 0)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.err = err; err == nil {
			p.err = io.EOF
		}
		p.come.Broadcast()
	}()
	return p, nil
}

// Write takes bytes that came.
func (p *spool) Write(b []byte) (int, error) {
	n, err := p.file.Write(b)
	p.mu.Lock()
	p.have += int64(n)
	p.mu.Unlock()
	p.come.Broadcast()
	return n, err
}

// reach waits until bytes up to an offset are there, or no more come, and returns how many are.
func (p *spool) reach(to int64) (have int64, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.have < to && p.err == nil {
		p.come.Wait()
	}
	if p.have < to && p.err != io.EOF {
		return p.have, p.err
	}
	return p.have, nil
}

// Read reads on. The last bytes come only when the whole file is known to be good.
func (p *spool) Read(b []byte) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	have, err := p.reach(p.at + 1)
	if err != nil && have <= p.at {
		return 0, err
	}
	if p.at >= p.size {
		p.mu.Lock()
		defer p.mu.Unlock()
		for p.err == nil {
			p.come.Wait()
		}
		return 0, p.err
	}
	n, err := p.file.ReadAt(b[:min(int64(len(b)), have-p.at)], p.at)
	p.at += int64(n)
	return n, err
}

// ReadAt waits for the bytes that it reads.
func (p *spool) ReadAt(b []byte, at int64) (int, error) {
	if _, err := p.reach(min(at+int64(len(b)), p.size)); err != nil {
		return 0, err
	}
	return p.file.ReadAt(b, at)
}

// Seek goes to another offset.
func (p *spool) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.at
	case io.SeekEnd:
		offset += p.size
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	p.at = offset
	return offset, nil
}

// Close drops the bytes.
func (p *spool) Close() error {
	p.cancel()
	<-p.done
	p.giveBack()
	return p.file.Close()
}

// ranged is a file of a place that is too large to be kept: each part of it is asked for when it is read.
type ranged struct {
	source *farSource
	pipe   *io.PipeReader // from at on; nil where nothing is on its way
	stop   context.CancelFunc
	at     int64
}

func newRanged(s *farSource) *ranged {
	s.opened.Close() // it is opened where it is read
	return &ranged{source: s}
}

// Read reads on.
func (r *ranged) Read(b []byte) (int, error) {
	if r.pipe == nil {
		if r.at >= r.source.opened.Entry.Size {
			return 0, io.EOF
		}
		from, err := r.source.reopen(r.source.far.ctx, r.at)
		if err != nil {
			return 0, r.source.broken(r.at, err)
		}
		ctx, cancel := context.WithCancel(r.source.far.ctx)
		in, out := io.Pipe()
		r.pipe, r.stop = in, cancel
		at := r.at
		go func() { out.CloseWithError(r.source.copyTo(ctx, out, from, at)) }()
	}
	n, err := r.pipe.Read(b)
	r.at += int64(n)
	return n, err
}

// ReadAt asks for a part of the file.
func (r *ranged) ReadAt(b []byte, at int64) (int, error) {
	size := r.source.opened.Entry.Size
	if at >= size {
		return 0, io.EOF
	}
	want := b[:min(int64(len(b)), size-at)]
	have := 0
	for failed := 0; have < len(want); failed++ {
		from, err := r.source.reopen(r.source.far.ctx, at+int64(have))
		if err == nil {
			var n int
			n, err = io.ReadFull(from, want[have:])
			from.Close()
			have += n
		}
		if err != nil && (failed >= len(brokenPauses) || errors.Is(err, ErrChanged) ||
			!wait(r.source.far.ctx, brokenPauses[failed])) {
			return have, r.source.broken(at+int64(have), err)
		}
	}
	if have < len(b) {
		return have, io.EOF
	}
	return have, nil
}

// Seek goes to another offset.
func (r *ranged) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.source.opened.Entry.Size
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	if offset != r.at {
		r.end()
	}
	r.at = offset
	return offset, nil
}

// end stops what is on its way.
func (r *ranged) end() {
	if r.pipe != nil {
		r.stop()
		r.pipe.Close()
		r.pipe = nil
	}
}

// Close closes the file.
func (r *ranged) Close() error {
	r.end()
	return nil
}
