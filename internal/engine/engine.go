package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
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
	Ledger      *ledger.Ledger
	Target      *table.Database
	Connections map[string]*table.Database // further databases of targets, by name
	Roots       []string                   // landing roots
	Service     string                     // this service's number, a UUID, kept over restarts
	Name        string                     // this service's name, for people
	Log         *slog.Logger
	KeepRejects time.Duration                               // how long rejects are kept; 0 for ever
	Disk        func() (free uint64, where string)          // of the target's disk, where it is known; may be nil
	OnStep      func(feed string, arrival int64, step Step) // may be nil; called in the middle of the work
}

// Engine works those feeds of the ledger that fall to it; services that share
// a database share the feeds.
type Engine struct {
	Options
	changed chan struct{}
	touched chan struct{}       // wakes the keeper of rollups
	memory  *semaphore.Weighted // what all loads may use together
	large   chan struct{}       // a token for each large load that may go on at a time

	mu      sync.Mutex
	workers map[string]*worker
}

// maxMemory bounds what all loads of a service use together, in MiB, beside
// what it needs to be there at all.
const maxMemory = 512

// New makes an engine. It does nothing until [Engine.Run].
func New(o Options) *Engine {
	return &Engine{
		Options: o,
		changed: make(chan struct{}, 1),
		touched: make(chan struct{}, 1),
		memory:  semaphore.NewWeighted(maxMemory),
		large:   make(chan struct{}, max(2, runtime.NumCPU())),
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
	wg.Go(func() { e.follow(ctx) })
	wg.Go(func() { e.forget(ctx) })
	wg.Go(func() { e.keepRollups(ctx) })
	wg.Go(func() { e.pruneJournals(ctx) })
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
	if err := e.Ledger.Left(last, e.Service); err != nil {
		e.Log.Warn("leases could not be given back; they run out by themselves", "error", err)
	}
	return nil
}

// forget drops rejects that are older than they are kept, in small steps.
func (e *Engine) forget(ctx context.Context) {
	const atOnce, rest = 1000, 10 * time.Minute
	for e.KeepRejects > 0 && ctx.Err() == nil {
		n, err := e.Ledger.DropRejects(ctx, time.Now().Add(-e.KeepRejects), atOnce)
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("old rejects could not be dropped; trying again later", "error", err)
		}
		if n == atOnce {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(rest):
		}
	}
}

// databases returns those of all targets.
func (e *Engine) databases() []*table.Database {
	return append([]*table.Database{e.Target}, slices.Collect(maps.Values(e.Connections))...)
}

// rollupsAtLeast is how often rollups are looked at without being told of a load:
// others may write to the tables that they read.
const rollupsAtLeast = 2 * time.Second

// keepRollups brings rollups in step with what was loaded.
func (e *Engine) keepRollups(ctx context.Context) {
	said := ""
	for ctx.Err() == nil {
		var whole error
		for _, d := range e.databases() {
			if err := d.Prepare(ctx); err != nil {
				continue // no load there is possible either, and is said so
			}
			_, err := d.KeepRollups(ctx)
			whole = errors.Join(whole, err)
		}
		if whole != nil && ctx.Err() == nil && whole.Error() != said {
			said = whole.Error()
			e.Log.Warn("rollups could not be kept; trying on", "error", whole)
		}
		select {
		case <-ctx.Done():
		case <-e.touched:
		case <-time.After(rollupsAtLeast):
		}
	}
}

// Touched tells the engine that rollups have something to do.
func (e *Engine) Touched() { poke(e.touched) }

// pruneJournals drops what feeds keep of their loads for too long, in small
// steps.
func (e *Engine) pruneJournals(ctx context.Context) {
	const atOnce, rest = 5000, 10 * time.Minute
	for ctx.Err() == nil {
		records, err := e.Ledger.Feeds(ctx)
		for _, record := range records {
			err = errors.Join(err, e.pruneJournal(ctx, record, atOnce))
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Warn("old journals could not be dropped; trying again later", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(rest):
		}
	}
}

func (e *Engine) pruneJournal(ctx context.Context, record ledger.Feed, atOnce int) error {
	f, err := e.definition(ctx, record)
	if err != nil || f == nil {
		return err
	}
	targets, err := e.TargetOf(f)
	if err != nil {
		return nil // it is said as the feed's problem
	}
	for n := int64(atOnce); n >= int64(atOnce) && err == nil; {
		n, err = targets.Prune(ctx, f.Name, time.Now().Add(-f.Target.Recall), atOnce)
	}
	return err
}

// Changed tells the engine that feeds were put, paused, resumed or removed.
func (e *Engine) Changed() { poke(e.changed) }

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (e *Engine) worker(name string) *worker {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.workers[name]
}

// keepLeases says that this service is alive and what it does, and renews its
// leases. Workers of feeds that it has lost are ended.
func (e *Engine) keepLeases(ctx context.Context) {
	for {
		doing, err := json.Marshal(e.Progress())
		if err == nil {
			err = e.Ledger.Serving(ctx, e.Service, e.Name, string(doing))
		}
		var held []string
		if err == nil {
			held, err = e.Ledger.Renew(ctx, e.Service)
		}
		if err == nil {
			e.mu.Lock()
			for name, w := range e.workers {
				if !slices.Contains(held, name) && time.Since(w.claimed) > ledger.LeaseTime {
					w.lose()
				}
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

const eventsAtOnce = 1000

// follow hears what other services and callers did, and wakes who it concerns.
func (e *Engine) follow(ctx context.Context) {
	news := make(chan struct{}, 1)
	go e.Ledger.Follow(ctx, func() { poke(news) })
	last := int64(-1)
	for {
		select {
		case <-ctx.Done():
			return
		case <-news:
		}
		for {
			var events []ledger.Event
			var err error
			if last < 0 {
				last, err = e.Ledger.LastEvent(ctx)
				e.wakeAll()
			} else {
				events, err = e.Ledger.EventsAfter(ctx, last, eventsAtOnce)
			}
			if err != nil {
				break // there is news again when the database is back
			}
			e.tell(events)
			if len(events) > 0 {
				last = events[len(events)-1].ID
			}
			if len(events) < eventsAtOnce {
				break
			}
		}
	}
}

func (e *Engine) wakeAll() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, w := range e.workers {
		w.poke()
	}
}

func (e *Engine) tell(events []ledger.Event) {
	touched, loaded, runs := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, event := range events {
		touched[event.Feed] = true
		switch event.Kind {
		case "feed":
			if event.State != "problem" && event.State != "waits" {
				e.Changed()
			}
		case "load":
			loaded[event.Feed] = true
			e.Touched()
		case "run":
			runs[event.Feed] = true
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, w := range e.workers {
		if runs[name] && w.running.Load() != 0 {
			go w.checkCancel()
		}
		if touched[name] || slices.ContainsFunc(w.feed.When.AfterAll, func(f string) bool { return loaded[f] }) || slices.ContainsFunc(w.feed.When.AfterAny, func(f string) bool { return loaded[f] }) {
			w.poke()
		}
	}
}

// lookUpFeeds starts a worker for each feed that falls to this service, gives
// running ones their present definition, and stops those of feeds that were
// removed or that another service has taken over.
func (e *Engine) lookUpFeeds(ctx, hard context.Context, wg *sync.WaitGroup) error {
	records, err := e.Ledger.Feeds(ctx)
	if err != nil {
		return err
	}
	leases, err := e.Ledger.Leases(ctx, e.Service)
	if err != nil {
		return err
	}
	feeds := map[string]ledger.Feed{}
	for _, r := range records {
		feeds[r.Name] = r
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, w := range e.workers {
		record, there := feeds[name]
		if w.leaving.Load() { // whoever hands it over forgets it too
			continue
		}
		if there && w.version == record.Version && !w.ended() {
			w.setPaused(record.Paused)
			continue
		}
		w.stop() // removed, or a new version: another worker begins when this one has ended
		if w.ended() {
			delete(e.workers, name)
		}
	}
	// Each service takes its share, so that feeds spread; what is left over when
	// one ends is taken by the others.
	share := (leases.Feeds + max(1, leases.Living) - 1) / max(1, leases.Living)
	for _, name := range leases.Mine { // left by this service's own earlier life, or by a worker that has ended
		if e.workers[name] == nil {
			if err := e.startWorker(ctx, hard, wg, feeds[name]); err != nil {
				return err
			}
		}
	}
	for _, name := range leases.Free {
		if len(e.workers) >= share {
			break
		}
		if e.workers[name] == nil {
			if err := e.startWorker(ctx, hard, wg, feeds[name]); err != nil {
				return err
			}
		}
	}
	e.giveUp(ctx, len(e.workers)-share)
	return nil
}

// giveUp hands feeds to services that have less to do: those that are idle.
func (e *Engine) giveUp(ctx context.Context, surplus int) {
	for name, w := range e.workers {
		if surplus <= 0 {
			return
		}
		if w.leaving.Load() || w.progress.Load() == nil {
			surplus--
		}
		if w.progress.Load() == nil && w.leaving.CompareAndSwap(false, true) {
			w.stop()
			go func() {
				<-w.finished
				if err := e.Ledger.Release(context.WithoutCancel(ctx), name, e.Service); err != nil {
					e.Log.Warn("a lease could not be given back; it runs out by itself", "feed", name, "error", err)
				}
				e.mu.Lock()
				delete(e.workers, name)
				e.mu.Unlock()
				e.Changed()
			}()
		}
	}
}

func (e *Engine) startWorker(ctx, hard context.Context, wg *sync.WaitGroup, record ledger.Feed) error {
	if record.Name == "" { // removed between two looks
		return nil
	}
	definition, err := e.definition(ctx, record)
	if err != nil || definition == nil {
		return err
	}
	fence, err := e.Ledger.Claim(ctx, record.Name, e.Service)
	if err != nil || fence == 0 {
		return err
	}
	w := newWorker(e, definition, record, fence)
	e.workers[record.Name] = w
	w.start(ctx, hard, wg)
	return nil
}

// definition reads a feed's present version; nil when this version of Mullein
// does not understand it, which is then the feed's problem.
func (e *Engine) definition(ctx context.Context, record ledger.Feed) (*feed.Feed, error) {
	version, err := e.Ledger.Version(ctx, record.Name, record.Version)
	if err != nil {
		return nil, err
	}
	definition, err := feed.Parse(record.Name+".yaml", []byte(version.Definition))
	var problems feed.Problems
	if errors.As(err, &problems) {
		return nil, e.Ledger.SetProblem(ctx, record.Name, "its definition is not understood by this version of Mullein: "+problems.Error())
	}
	return definition, nil
}

// Progress is how far a load has come.
type Progress struct {
	Feed    string `json:"feed"`
	Arrival int64  `json:"arrival"`
	Path    string `json:"path"`
	Files   int    `json:"files" doc:"That are loaded together"`
	Step    Step   `json:"step" enum:"claimed,opened,staged,locked,merged,marked,committed"`
	Bytes   int64  `json:"bytes" doc:"Read so far, of the packed file"`
	Size    int64  `json:"size"`
	Rows    int64  `json:"rows" doc:"Read so far"`
	Waits   string `json:"waits" doc:"Who holds the target, when the load waits for somebody"`
}

// Where says in a few words where the load is.
func (p *Progress) Where() string {
	if p.Waits == "" {
		return string(p.Step)
	}
	return fmt.Sprintf("%s, waits for %s", p.Step, p.Waits)
}

// Progress returns what is being loaded now.
func (e *Engine) Progress() []Progress {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := []Progress{}
	for _, w := range e.workers {
		if p := w.progress.Load(); p != nil {
			now := p.Progress
			now.Bytes, now.Rows = p.bytes.Load(), p.rows.Load()
			if who := p.waits.Load(); who != nil {
				now.Waits = *who
			}
			if s, ok := p.step.Load().(Step); ok {
				now.Step = s
			}
			out = append(out, now)
		}
	}
	return out
}

// Table returns the target table that a feed wants.
func Table(f *feed.Feed) (*table.Table, error) {
	columns, err := f.Schema.Compile(f.Zone)
	if err != nil {
		return nil, fmt.Errorf("feed %s: %w", f.Name, err)
	}
	var own []table.Column
	for _, c := range columns {
		comment := c.Field.Description
		if c.Field.Title != "" {
			comment = c.Field.Title
			if c.Field.Description != "" {
				comment += ". " + c.Field.Description
			}
		}
		own = append(own, table.Column{Name: c.Field.Name, Kind: c.Kind, NotNull: c.Field.Constraints.Required, Comment: comment, MaxLength: c.Field.Constraints.MaxLength})
	}
	for _, d := range f.Derive {
		own = append(own, table.Column{Name: d.Name, Kind: d.Kind, Comment: "Derived: " + d.Expression})
	}
	t := table.NewTable(f.Target.Schema, f.Target.Table, f.About, own, f.Schema.PrimaryKey, f.Target.Newest, f.Target.Lineage)
	t.Deletes = f.DeleteWhen != ""
	t.Mode, t.Part, t.Merge, t.Journal = f.Target.Mode, f.Target.Part, f.Target.Merge, f.Target.Recall > 0
	t.Missing = f.Target.MissingColumns
	if f.Target.AddColumns && t.Missing == feed.AddToOwn {
		t.Missing = feed.AddMissingColumns
	}
	t.Absent, t.AbsentAtMost, t.HasAbsentAtMost = f.Target.Absent, f.Target.AbsentAtMost, f.Target.HasAbsentAtMost
	return t, nil
}

// shapePatience is how long putting a feed waits for the target's database to say
// how its table is.
const shapePatience = 5 * time.Second

// Shape says, for people, what stands between a feed and its table as it is: what
// a load would change first, or why it could not load. It is "" when nothing does,
// when the table is still to be made, and of feeds of several tables.
func (e *Engine) Shape(ctx context.Context, f *feed.Feed) string {
	if f.HasKinds() {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, shapePatience)
	defer cancel()
	shape, err := Table(f)
	if err != nil {
		return err.Error()
	}
	database, err := e.TargetOf(f)
	if err != nil {
		return err.Error()
	}
	fitted, changes, err := database.Look(ctx, shape)
	switch {
	case err != nil:
		return err.Error()
	case !fitted.Exists() || len(changes) == 0:
		return ""
	}
	return fmt.Sprintf("the next load changes table %s: %s", shape, strings.Join(changes, "; "))
}

// TargetOf returns the database of a feed's target.
func (e *Engine) TargetOf(f *feed.Feed) (*table.Database, error) {
	if f.Target.Connection == feed.MainConnection {
		return e.Target, nil
	}
	if d, ok := e.Connections[f.Target.Connection]; ok {
		return d, nil
	}
	return nil, fmt.Errorf("the service knows no connection %q; start it with --connection %[1]s=postgres://..., or set MULLEIN_CONNECTION_%s", f.Target.Connection, strings.ToUpper(strings.ReplaceAll(f.Target.Connection, "-", "_")))
}

// openLanding opens the landing of a feed.
func openLanding(e *Engine, f *feed.Feed) (*landing.Folder, error) {
	folder, err := landing.Open(e.Roots, f.Landing.At)
	if err == nil {
		folder.Zips = f.Landing.InZip()
	}
	return folder, err
}
