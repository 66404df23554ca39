package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/target"
)

// Step names a point in the life of a load, in order.
type Step string

// The steps of a load.
const (
	StepClaimed   Step = "claimed"   // the attempt is on record
	StepOpened    Step = "opened"    // the file is open
	StepStaged    Step = "staged"    // its rows are in the staging table
	StepLocked    Step = "locked"    // the target is ours
	StepMerged    Step = "merged"    // the rows are in the target, not yet committed
	StepMarked    Step = "marked"    // so is the marker
	StepCommitted Step = "committed" // rows and marker are visible; the ledger does not know yet
)

// Options are what an engine needs.
type Options struct {
	Ledger  *ledger.Ledger
	Target  *target.Database
	Roots   []string // landing roots
	Service string   // this service's number, a UUID, kept over restarts
	Name    string   // this service's name, for people
	Log     *slog.Logger
	OnStep  func(feed string, arrival int64, step Step) // may be nil; called in the middle of the work
}

// Engine works all feeds of the ledger.
type Engine struct {
	Options
	changed chan struct{}
	loads   chan struct{} // one token for each load that may go on at a time

	mu      sync.Mutex
	workers map[string]*worker
}

// New makes an engine. It does nothing until [Engine.Run].
func New(o Options) *Engine {
	return &Engine{
		Options: o,
		changed: make(chan struct{}, 1),
		loads:   make(chan struct{}, max(2, runtime.NumCPU())),
		workers: map[string]*worker{},
	}
}

// grace is how long a load at hand may go on after the engine was told to
// stop, before it is rolled back.
const grace = 6 * time.Second

// refresh is how often feeds are looked up without being told of a change.
const refresh = 2 * time.Second

// Run works until ctx ends, and returns when all work has come to rest: loads
// at hand are finished, or rolled back after a few seconds.
func (e *Engine) Run(ctx context.Context) error {
	hard, kill := context.WithCancel(context.WithoutCancel(ctx))
	defer kill()
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(grace, kill) })
	defer stop()
	var wg sync.WaitGroup
	wg.Go(func() { e.keepLeases(ctx) })
	away := false
	for ctx.Err() == nil {
		err := e.lookUpFeeds(ctx, hard, &wg)
		if err != nil && ctx.Err() == nil && !away {
			e.Log.Error("the records cannot be reached; trying on", "error", err)
		} else if err == nil && away {
			e.Log.Info("the records can be reached again")
		}
		away = err != nil
		select {
		case <-ctx.Done():
		case <-e.changed:
		case <-time.After(refresh):
		}
	}
	wg.Wait()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	if err := e.Ledger.Release(last, e.Service); err != nil {
		e.Log.Warn("leases could not be given back; they run out by themselves", "error", err)
	}
	return nil
}

// Changed tells the engine that feeds were put, paused, resumed or removed.
func (e *Engine) Changed() {
	select {
	case e.changed <- struct{}{}:
	default:
	}
}

// Wake tells the engine that a run of a feed was queued.
func (e *Engine) Wake(name string) {
	e.mu.Lock()
	w := e.workers[name]
	e.mu.Unlock()
	if w == nil {
		e.Changed()
		return
	}
	w.poke()
}

// keepLeases renews the leases of this service and says that it is alive.
func (e *Engine) keepLeases(ctx context.Context) {
	for {
		err := e.Ledger.Serving(ctx, e.Service, e.Name)
		var held []string
		if err == nil {
			held, err = e.Ledger.Renew(ctx, e.Service)
		}
		if err == nil {
			e.mu.Lock()
			for name, w := range e.workers {
				w.keepLease(name, held)
			}
			e.mu.Unlock()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(ledger.LeaseTime / 4):
		}
	}
}

// lookUpFeeds starts a worker for each feed that has none, gives running ones
// their present definition, and stops those of removed feeds.
func (e *Engine) lookUpFeeds(ctx, hard context.Context, wg *sync.WaitGroup) error {
	feeds, err := e.Ledger.Feeds(ctx)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	present := map[string]bool{}
	for _, record := range feeds {
		present[record.Name] = true
		w := e.workers[record.Name]
		if w != nil && w.version == record.Version {
			w.setPaused(record.Paused)
			continue
		}
		if w != nil { // a new version: the old worker ends, the next look-up starts another
			w.stop()
			if !w.ended() {
				continue
			}
		}
		version, err := e.Ledger.Version(ctx, record.Name, record.Version)
		if err != nil {
			return err
		}
		definition, err := feed.Parse(record.Name+".yaml", []byte(version.Definition))
		var problems feed.Problems
		if errors.As(err, &problems) {
			if err := e.Ledger.SetProblem(ctx, record.Name, "its definition is not understood by this version of Mullein: "+problems.Error()); err != nil {
				return err
			}
			continue
		}
		w = newWorker(e, definition, record)
		e.workers[record.Name] = w
		w.start(ctx, hard, wg)
	}
	for name, w := range e.workers {
		if !present[name] {
			w.stop()
			if w.ended() {
				delete(e.workers, name)
			}
		}
	}
	return nil
}

// Progress is how far a load has come.
type Progress struct {
	Feed    string `json:"feed"`
	Arrival int64  `json:"arrival"`
	Path    string `json:"path"`
	Step    Step   `json:"step" enum:"claimed,opened,staged,locked,merged,marked,committed"`
	Bytes   int64  `json:"bytes" doc:"Read so far, of the packed file"`
	Size    int64  `json:"size"`
	Rows    int64  `json:"rows" doc:"Read so far"`
}

// Progress gives what is being loaded now.
func (e *Engine) Progress() []Progress {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := []Progress{}
	for _, w := range e.workers {
		if p := w.progress.Load(); p != nil {
			now := p.Progress
			now.Bytes, now.Rows = p.bytes.Load(), p.rows.Load()
			if s, ok := p.step.Load().(Step); ok {
				now.Step = s
			}
			out = append(out, now)
		}
	}
	return out
}

// Table gives the target table that a feed wants.
func Table(f *feed.Feed) (*target.Table, error) {
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return nil, fmt.Errorf("feed %s: %w", f.Name, err)
	}
	var own []target.Column
	for _, c := range columns {
		comment := c.Field.Description
		if c.Field.Title != "" {
			comment = c.Field.Title
			if c.Field.Description != "" {
				comment += ". " + c.Field.Description
			}
		}
		own = append(own, target.Column{Name: c.Field.Name, Kind: c.Kind, NotNull: c.Field.Constraints.Required, Comment: comment})
	}
	for _, d := range f.Derive {
		own = append(own, target.Column{Name: d.Name, Kind: d.Kind, Comment: "Derived: " + d.Expression})
	}
	return target.NewTable(f.Target.Schema, f.Target.Table, f.About, own, f.Schema.PrimaryKey, f.Target.Newest, target.Lineage(f.Target.Lineage)), nil
}
