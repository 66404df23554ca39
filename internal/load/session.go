package load

import (
	"context"
	"sync/atomic"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/table"
)

// Session is the attempts of one run: one after the other, through one session of
// the target's database, under the feed's fence. One goroutine uses it.
type Session struct {
	env      *Env
	feed     *feed.Feed
	database *table.Database
	conn     *table.Session
	fence    int64
	before   *Attempt   // that was started last
	ending   chan error // of what is on its way into the target meanwhile, with conn; nil for nothing
	gaveBack atomic.Bool
	tryAfter atomic.Pointer[time.Time]
}

// OpenSession takes a session of the database of a feed's target, waiting for its
// turn, and raises the feed's fence there. A [*table.FencedError] says that somebody
// has a higher one.
func (e *Env) OpenSession(ctx context.Context, f *feed.Feed, fence int64) (*Session, error) {
	database, err := e.Database(f)
	if err != nil {
		return nil, err
	}
	if err := database.Prepare(ctx); err != nil {
		return nil, err
	}
	conn, err := database.SessionOf(ctx, f.Name, fence)
	if err != nil {
		return nil, err
	}
	conn.Limit = f.When.TimeLimit
	return &Session{env: e, feed: f, database: database, conn: conn, fence: fence}, nil
}

// Close gives the session back. What is on its way must have been waited for.
// Closing it again does nothing.
func (s *Session) Close() {
	if s.conn != nil {
		s.conn.Close()
		s.conn = nil
	}
}

// Alive reports whether the connection still stands.
func (s *Session) Alive() bool { return s.ending != nil || s.conn.Alive() }

// Outdated reports whether the feed's connection leads to another database by now, or to none.
func (s *Session) Outdated() bool {
	now, err := s.env.Database(s.feed)
	return err != nil || now != s.database
}

// Database returns the database that the session is of.
func (s *Session) Database() *table.Database { return s.database }

// GaveBack reports whether arrivals were put back to be tried again at once.
func (s *Session) GaveBack() bool { return s.gaveBack.Load() }

// TryAfter returns when the first of the arrivals that failed is tried again; the zero
// time for none.
func (s *Session) TryAfter() time.Time {
	if at := s.tryAfter.Load(); at != nil {
		return *at
	}
	return time.Time{}
}

// failedUntil notes that an arrival is tried again at a time.
func (s *Session) failedUntil(at time.Time) {
	for {
		first := s.tryAfter.Load()
		if first != nil && !at.Before(*first) || s.tryAfter.CompareAndSwap(first, &at) {
			return
		}
	}
}

// inBackground does something while the next files are read. Nothing else may be
// done so at that time: see Wait.
func (s *Session) inBackground(do func() error) {
	done := make(chan error, 1)
	s.ending = done
	go func() { done <- do() }()
}

// Wait waits for the end of what is on its way into the target.
func (s *Session) Wait() error {
	if s.ending == nil {
		return nil
	}
	err := <-s.ending
	s.ending = nil
	return err
}
