package engine

import (
	"context"
	"encoding/json"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"mullein/internal/calendar"
	"mullein/internal/inspect"
	"mullein/internal/intake"
	"mullein/internal/ledger"
	"mullein/internal/load"
)

// Options are what an engine needs.
type Options struct {
	Env  *load.Env
	ID   string                             // this service's number, a UUID, kept over restarts
	Disk func() (free uint64, where string) // of the target's disk, where it is known; may be nil
	Now  func() time.Time                   // for schedules and calendars; nil for time.Now
	Keep ledger.Keep                        // how long records are kept
}

// Engine works those feeds of the ledger that fall to it; services that share
// a database share the feeds.
type Engine struct {
	*load.Env
	options Options
	now     func() time.Time

	intake   *intake.Intake
	calendar *calendar.Keeper
	inspect  *inspect.Inspector

	changed  chan struct{}       // feeds may have changed hands or form
	touched  chan struct{}       // wakes the keeper of rollups
	schedule chan struct{}       // the timetable of schedules has changed
	memory   *semaphore.Weighted // what all loads may use together
	large    chan struct{}       // a token for each large load that may go on at a time
	turns    *turns
	lifetime context.Context // ends the work at hand

	mu    sync.Mutex
	feeds map[string]*leased
	stale map[string]bool // feeds that have changed
}

// maxMemory bounds what all loads of a service use together, in MiB, beside
// what it needs to be there at all.
const maxMemory = 512

// New makes an engine. It does nothing until [Engine.Run].
func New(o Options) *Engine {
	e := &Engine{
		Env: o.Env, options: o, now: o.Now,
		changed: make(chan struct{}, 1), touched: make(chan struct{}, 1), schedule: make(chan struct{}, 1),
		memory: semaphore.NewWeighted(maxMemory), large: make(chan struct{}, max(2, runtime.NumCPU())),
		feeds: map[string]*leased{}, stale: map[string]bool{},
	}
	if e.now == nil {
		e.now = time.Now
	}
	e.turns = newTurns(e.turn)
	e.inspect = &inspect.Inspector{Env: o.Env, Changed: e.Changed}
	e.calendar = calendar.New(calendar.Options{Ledger: o.Env.Ledger, Landing: o.Env.Landing, Log: o.Env.Log,
		Now: e.now})
	e.intake = intake.New(intake.Options{Ledger: o.Env.Ledger, Landing: o.Env.Landing, Log: o.Env.Log, Ready: e.wake,
		Listed: func(feed string) { e.calendar.Touch(feed) }, Back: e.landingIsBack})
	return e
}

// Inspector looks at and mends what was loaded.
func (e *Engine) Inspector() *inspect.Inspector { return e.inspect }

// ID is the number of the engine's service.
func (e *Engine) ID() string { return e.options.ID }

// grace is how long a load at hand may go on after the engine was told to
// stop, before it is rolled back.
const grace = 6 * time.Second

// Run works until ctx ends, and returns when all work has come to rest: loads
// at hand are finished, or rolled back after a few seconds.
func (e *Engine) Run(ctx context.Context) error {
	lifetime, kill := context.WithCancel(context.WithoutCancel(ctx))
	defer kill()
	e.lifetime = lifetime
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(grace, kill) })
	defer stop()
	var wg sync.WaitGroup
	for _, part := range []func(context.Context){
		e.intake.Run, e.calendar.Run, e.turns.run, e.keepFeeds, e.keepLease, e.follow, e.sweep, e.keepSchedules,
		e.dropRecords, e.keepRollups, e.pruneJournals, e.sumTallies,
	} {
		wg.Go(func() { part(ctx) })
	}
	wg.Wait()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	if err := e.Ledger.Left(last, e.options.ID); err != nil {
		e.Log.Warn("leases could not be given back; they run out by themselves", "error", err)
	}
	return nil
}

// Changed tells the engine that feeds were put, paused, resumed or removed.
func (e *Engine) Changed() { poke(e.changed) }

// Touched tells the engine that rollups have something to do.
func (e *Engine) Touched() { poke(e.touched) }

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// wait waits for a time, or until ctx ends.
func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// keepLease says that this service is alive and what it does, by which it holds its
// feeds. Feeds that it has lost meanwhile are ended.
func (e *Engine) keepLease(ctx context.Context) {
	// What an earlier life of this service held is free.
	for ctx.Err() == nil && e.Ledger.Left(ctx, e.options.ID) != nil {
		wait(ctx, ledger.LeaseTime/8)
	}
	first := true
	for ctx.Err() == nil {
		if err := e.renew(ctx); err == nil {
			if first {
				e.Changed()
			}
			first = false
			wait(ctx, ledger.LeaseTime/4)
		} else {
			wait(ctx, ledger.LeaseTime/8)
		}
	}
}

func (e *Engine) renew(ctx context.Context) error {
	doing, err := json.Marshal(e.Progress.List())
	if err != nil {
		return err
	}
	lapsed, err := e.Ledger.Serving(ctx, e.options.ID, e.Service, string(doing))
	if err != nil || !lapsed {
		return err
	}
	held, err := e.Ledger.Held(ctx, e.options.ID)
	if err != nil {
		return err
	}
	still := map[string]bool{}
	for _, name := range held {
		still[name] = true
	}
	for _, w := range e.leased() {
		if !still[w.name] {
			w.lose()
		}
	}
	return nil
}

// Reconnected tells the engine that connections to databases have changed.
func (e *Engine) Reconnected() {
	list := e.leased()
	e.mu.Lock()
	for _, w := range list {
		e.stale[w.name] = true // what it knows is of another database
	}
	e.mu.Unlock()
	e.Changed()
	e.wakeAll()
}

// Where returns the host and port of the database behind a connection, and its name; nothing for
// one that there is not.
func (e *Engine) Where(connection string) (address, name string) {
	if d, ok := e.Databases.Get(connection); ok {
		return d.Where()
	}
	return "", ""
}
