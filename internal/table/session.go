package table

import (
	"context"
	"fmt"
	"hash/fnv"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/semaphore"
)

// Session is one connection that loads, with its staging tables. They are kept
// as long as the session and emptied at each commit, so that small loads leave
// no trace in the catalogs. One goroutine at a time uses a session.
type Session struct {
	// Limit bounds each statement of a load; 0 is no bound. The database ends what
	// takes longer, even where we are not there any more to end it.
	Limit time.Duration

	conn   *pgx.Conn
	began  time.Time // of the database's process
	idle   time.Time // since when nobody uses it
	stages map[string]bool
	db     *Database
}

// sessions is the bounded supply of sessions for loads. Who asks first is served
// first. Sessions that are given back are kept for a while for whoever asks next.
type sessions struct {
	places *semaphore.Weighted
	mu     sync.Mutex
	idle   []*Session
	closed bool
}

// loadName is what a session is called that works no feed.
const loadName = "mullein load"

// idleFor is how long a session is kept that nobody uses.
const idleFor = 10 * time.Second

// Session waits for its turn and returns a session for loads.
func (d *Database) Session(ctx context.Context) (*Session, error) {
	if err := d.sessions.places.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	s, err := d.freeSession(ctx)
	if err != nil {
		d.sessions.places.Release(1)
		return nil, err
	}
	return s, nil
}

// freeSession returns a session that was given back, or a new one.
func (d *Database) freeSession(ctx context.Context) (*Session, error) {
	for {
		s := d.sessions.take()
		if s == nil {
			return d.connect(ctx)
		}
		// It does not work the feed any more that it worked last: see [Database.end].
		if _, err := s.conn.Exec(ctx, "SELECT set_config('application_name', $1, false)", loadName); err == nil {
			return s, nil
		}
		s.disconnect()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// take returns the session that was given back last, nil for none.
func (p *sessions) take() *Session {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.idle) == 0 {
		return nil
	}
	s := p.idle[len(p.idle)-1]
	p.idle = p.idle[:len(p.idle)-1]
	return s
}

func (d *Database) connect(ctx context.Context) (*Session, error) {
	config := d.config.Copy()
	config.RuntimeParams["application_name"] = loadName
	// A table that somebody else holds is waited for so long; then the load is
	// given up and tried again later.
	config.RuntimeParams["lock_timeout"] = "20s"
	config.RuntimeParams["jit"] = "off"
	// Rows are mostly found where others were just found: by the default, of disks that turn,
	// the planner would rather read a whole target.
	config.RuntimeParams["random_page_cost"] = "1.1"
	config.RuntimeParams["temp_buffers"] = "32MB"
	config.RuntimeParams["client_min_messages"] = "error"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to the target's database: %w", err)
	}
	s := &Session{conn: conn, stages: map[string]bool{}, db: d}
	_, err = conn.Exec(ctx, `CREATE TEMPORARY TABLE mullein_plan (sid tid NOT NULL, class "char" NOT NULL, tid tid,
		digest bytea, key bigint) ON COMMIT DELETE ROWS;
		CREATE TEMPORARY TABLE mullein_candidate (sid tid NOT NULL) ON COMMIT DELETE ROWS`)
	if err == nil {
		err = conn.QueryRow(ctx,
			"SELECT backend_start FROM pg_stat_activity WHERE pid = pg_backend_pid()").Scan(&s.began)
	}
	if err != nil {
		s.disconnect()
		return nil, fmt.Errorf("make the tables of a merge: %w", err)
	}
	return s, nil
}

// Close gives the session back. A load at hand is rolled back.
func (s *Session) Close() {
	d := s.db
	s.Limit = 0
	if s.conn.IsClosed() || s.conn.PgConn().TxStatus() != 'I' || !d.sessions.keep(s) {
		s.disconnect()
	}
	d.sessions.places.Release(1)
}

// keep keeps a session for whoever asks next, for a while.
func (p *sessions) keep(s *Session) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return false
	}
	s.idle = time.Now()
	p.idle = append(p.idle, s)
	time.AfterFunc(idleFor, func() {
		p.mu.Lock()
		i := slices.Index(p.idle, s)
		// Used meanwhile and given back again, it is kept by a later call.
		if i >= 0 && time.Since(s.idle) >= idleFor {
			p.idle = slices.Delete(p.idle, i, i+1)
		} else {
			i = -1
		}
		p.mu.Unlock()
		if i >= 0 {
			s.disconnect()
		}
	})
	return true
}

// close ends the sessions that nobody uses, and those in use when they are given
// back.
func (p *sessions) close() {
	p.mu.Lock()
	idle := p.idle
	p.idle, p.closed = nil, true
	p.mu.Unlock()
	for _, s := range idle {
		s.disconnect()
	}
}

func (s *Session) disconnect() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	s.conn.Close(ctx)
}

// Holders names the sessions of the database that the session waits for, as
// "psql of ann, since 12:04:05 UTC"; "" when it waits for nobody. What they do is
// not told: it may hold values.
func (s *Session) Holders(ctx context.Context) (string, error) {
	var who string
	err := s.db.pool.QueryRow(ctx, `SELECT coalesce(string_agg(DISTINCT concat(coalesce(nullif(a.application_name,
		''), 'a session'), ' of ', a.usename,
			to_char(a.xact_start AT TIME ZONE 'UTC', '", since "HH24:MI:SS" UTC"')), '; '), '')
		FROM unnest(pg_blocking_pids($1)) b(pid) JOIN pg_stat_activity a USING (pid)`,
		int32(s.conn.PgConn().PID())).Scan(&who)
	if err != nil {
		return "", fmt.Errorf("ask who holds the target: %w", err)
	}
	return who, nil
}

// unprepared returns the arguments of a statement that is not worth preparing: it names a
// table, of which there may be thousands, and each prepared statement of a session is looked
// at whenever a table anywhere is made or changed.
func unprepared(args ...any) []any { return append([]any{pgx.QueryExecModeExec}, args...) }

// Alive reports whether the connection still stands.
func (s *Session) Alive() bool { return !s.conn.IsClosed() }

func (s *Session) pid() uint32 { return s.conn.PgConn().PID() }

// maxStages bounds the staging tables of a session: each commit goes through all of
// them.
const maxStages = 12

// stage returns the name of the staging table for own columns of such kinds,
// which it makes when the session has none yet.
func (s *Session) stage(ctx context.Context, own []Column) (string, error) {
	columns := []string{}
	h := fnv.New64a()
	for i, c := range own {
		h.Write([]byte{byte(c.Kind)})
		columns = append(columns, fmt.Sprintf("c%d %s", i, sqlTypes[c.Kind][0]))
	}
	name := fmt.Sprintf("mullein_stage_%d_%x", len(own), h.Sum64())
	if s.stages[name] {
		return name, nil
	}
	if len(s.stages) >= maxStages {
		for old := range s.stages {
			if _, err := s.conn.Exec(ctx, "DROP TABLE pg_temp."+quote(old)); err != nil {
				return "", fmt.Errorf("drop staging table: %w", err)
			}
			delete(s.stages, old)
			break
		}
	}
	columns = append(columns, "place bigint NOT NULL", "digest bytea NOT NULL", "suspect boolean NOT NULL")
	statement := "CREATE TEMPORARY TABLE " + quote(name) + " (" + strings.Join(columns, ", ") +
		") ON COMMIT DELETE ROWS"
	if _, err := s.conn.Exec(ctx, statement); err != nil {
		return "", fmt.Errorf("make staging table: %w", err)
	}
	s.stages[name] = true
	return name, nil
}

// Source hands in the rows of a delivery, piece by piece.
type Source interface {
	// Fill adds rows to the batch until it holds about size bytes. It returns
	// io.EOF with the last rows.
	Fill(b *Batch, size int) error
}

const (
	chunkSize   = 256 << 10
	chunksAhead = 4
)

// chunk is a piece of the COPY stream, or the error that ends it.
type chunk struct {
	bytes []byte
	err   error
}

// copyReader reads rows in one goroutine while another sends them, so that
// decoding and the database work side by side.
type copyReader struct {
	chunks chan chunk
	free   chan []byte
	now    []byte
	rest   []byte
	err    error // that ends the stream
	source error // of the source, once chunks are closed: a reader may outlive a COPY that fails
}

func newCopyReader(ctx context.Context, src Source, b *Batch) *copyReader {
	r := &copyReader{chunks: make(chan chunk, chunksAhead), free: make(chan []byte, chunksAhead+3)}
	for range chunksAhead + 3 {
		r.free <- make([]byte, 0, chunkSize+chunkSize/8)
	}
	go func() {
		defer close(r.chunks)
		b.buf = append(<-r.free, copyHeader...)
		for more, last := false, false; ; {
			var err error
			if !more {
				if err = src.Fill(b, chunkSize); err == io.EOF {
					last, err = true, nil
				}
			}
			if err == nil {
				more, err = b.form.flush(b, chunkSize, last)
			}
			if err == nil && last && !more {
				err = io.EOF
			}
			var next []byte
			if err == nil {
				select {
				case next = <-r.free:
				case <-ctx.Done():
					return
				}
			}
			out := b.release(next)
			if err == io.EOF {
				out = append(out, copyEnd...)
			} else {
				r.source = err
			}
			select {
			case r.chunks <- chunk{out, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return r
}

func (r *copyReader) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		if r.err != nil {
			return 0, r.err
		}
		if r.now != nil {
			r.free <- r.now[:0]
			r.now = nil
		}
		c, open := <-r.chunks
		if !open {
			return 0, io.ErrUnexpectedEOF
		}
		r.err = c.err
		if c.err != nil && c.err != io.EOF {
			return 0, c.err
		}
		r.now, r.rest = c.bytes, c.bytes
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// drain waits until the reading goroutine has ended.
func (r *copyReader) drain() {
	for range r.chunks {
	}
}
