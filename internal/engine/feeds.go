package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// leased is a feed that this service holds, in one version of it.
type leased struct {
	e       *Engine
	name    string
	feed    *feed.Feed // nil where this version of Mullein does not understand it
	version int
	record  ledger.Feed
	paused  atomic.Bool
	ctx     context.Context // ends the beginning of new work
	cancel  context.CancelFunc
	over    chan struct{} // closed when no turn of it is under way any more
	once    sync.Once
	running atomic.Int64 // the run at hand
	left    atomic.Bool  // an earlier holder, or a run that ended badly, may have left something behind
	endRun  atomic.Pointer[context.CancelCauseFunc]

	obstacle atomic.Pointer[obstacle] // to its work, where it can be seen when it is gone
	woken    atomic.Bool              // it is to be tried at once

	// Guarded by the lock of turns:
	standing standing
	timer    *time.Timer
	timerAt  time.Time

	// Whoever has its turn has these:
	fence    int64
	waits    string
	begun    bool          // its first files had their chance to be loaded together
	tried    int64         // the queued run that met the problem
	troubled bool          // the feed's problem is one that this service has said
	said     string        // in the log
	notUntil time.Time     // after a problem of the feed as a whole
	pause    time.Duration // how long the next such problem makes it wait

	recipes recipes
}

func (e *Engine) newLeased(record ledger.Feed, f *feed.Feed) *leased {
	w := &leased{e: e, name: record.Name, feed: f, version: record.Version, record: record, fence: record.Fence,
		over: make(chan struct{}), waits: record.Waits}
	w.ctx, w.cancel = context.WithCancel(context.Background())
	w.paused.Store(record.Paused)
	return w
}

// finish says that no turn of the feed is under way any more.
func (w *leased) finish() { w.once.Do(func() { close(w.over) }) }

// lose ends the work on a feed whose lease is lost: the work at hand cannot be
// committed any more, so it is broken off.
func (w *leased) lose() {
	w.cancel()
	w.breakOff(table.ErrFenced)
	w.e.Changed()
}

// breakOff ends the run at hand.
func (w *leased) breakOff(cause error) {
	if end := w.endRun.Load(); end != nil {
		(*end)(cause)
	}
}

// leased returns the feeds that this service holds.
func (e *Engine) leased() []*leased {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Collect(maps.Values(e.feeds))
}

// held returns a feed that this service holds, nil when it does not.
func (e *Engine) held(name string) *leased {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.feeds[name]
}

// wake asks for a turn for a feed, if this service holds it.
func (e *Engine) wake(name string) {
	if w := e.held(name); w != nil && w.feed != nil {
		e.turns.ask(w)
	}
}

const (
	// lookEvery is how often it is looked, without being told of a change, how feeds
	// are spread.
	lookEvery = 2 * time.Second
	// claimAtOnce is how many feeds are leased together.
	claimAtOnce = 1000
)

// keepFeeds leases feeds, gives them back, and takes up their new versions, until ctx
// ends.
func (e *Engine) keepFeeds(ctx context.Context) {
	away := false
	for ctx.Err() == nil {
		err := e.lookUpFeeds(ctx)
		if err != nil && ctx.Err() == nil && !away {
			e.Log.Error("the records cannot be reached; trying on", "error", err)
		} else if err == nil && away {
			e.Log.Info("the records can be reached again")
			e.wakeAll()
		}
		away = err != nil
		select {
		case <-ctx.Done():
		case <-e.changed:
		case <-time.After(lookEvery):
		}
	}
	for _, w := range e.leased() {
		w.cancel()
	}
}

// lookUpFeeds takes up what has changed of the feeds that this service holds, and
// takes its share of those that nobody holds, so that feeds spread; what is left over
// when a service ends is taken by the others.
func (e *Engine) lookUpFeeds(ctx context.Context) error {
	if err := e.takeUpChanges(ctx); err != nil {
		return err
	}
	shares, err := e.Ledger.Shares(ctx)
	if err != nil {
		return err
	}
	share := (shares.Feeds + max(1, shares.Services) - 1) / max(1, shares.Services)
	have := len(e.leased())
	for have < share && shares.Free > 0 {
		claimed, err := e.Ledger.Claim(ctx, e.options.ID, min(share-have, claimAtOnce))
		if err != nil {
			return err
		}
		if len(claimed) == 0 {
			break
		}
		if err := e.begin(ctx, claimed); err != nil {
			return err
		}
		have, shares.Free = len(e.leased()), shares.Free-len(claimed)
	}
	return e.giveBack(ctx, have-share)
}

// begin begins to work feeds that were claimed.
func (e *Engine) begin(ctx context.Context, records []ledger.Feed) error {
	names := make([]string, len(records))
	for i, r := range records {
		names[i] = r.Name
	}
	err := e.beginAll(ctx, records, names)
	if err != nil { // they are claimed again, by whoever comes first
		err = errors.Join(err, e.Ledger.Release(context.WithoutCancel(ctx), e.options.ID, names...))
	}
	return err
}

func (e *Engine) beginAll(ctx context.Context, records []ledger.Feed, names []string) error {
	versions, err := e.Ledger.Present(ctx, names)
	if err != nil {
		return err
	}
	left, err := e.Ledger.FeedsLeftBehind(ctx, names)
	if err != nil {
		return err
	}
	leftBehind := map[string]bool{}
	for _, name := range left {
		leftBehind[name] = true
	}
	var fresh []ledger.Described
	for _, r := range records {
		w := e.newLeased(r, e.definition(ctx, r, versions[r.Name]))
		if w.feed != nil && r.Described != r.Version {
			fresh = append(fresh, ledger.DescribedBy(w.feed, r.Version))
		}
		w.left.Store(leftBehind[r.Name])
		e.start(w)
	}
	if len(fresh) == 0 {
		return nil
	}
	return e.Ledger.Describe(ctx, fresh)
}

// start begins to watch a feed's landing, to keep its calendar, and to give it turns.
func (e *Engine) start(w *leased) {
	e.mu.Lock()
	e.feeds[w.name] = w
	e.mu.Unlock()
	if w.feed == nil {
		return
	}
	e.intake.Add(w.feed, w.record)
	e.calendar.Add(w.feed, w.record)
	if w.feed.When.Times != nil {
		poke(e.schedule)
	}
	e.turns.ask(w)
}

// stop ends the work on a feed: no new work begins, and it has ended when over is
// closed.
func (e *Engine) stop(w *leased) {
	w.cancel()
	e.intake.Remove(w.name)
	e.calendar.Remove(w.name)
	if e.turns.idle(w) {
		w.finish()
	}
}

// definition reads a feed's present version; nil when this version of Mullein
// does not understand it, which is then the feed's problem.
func (e *Engine) definition(ctx context.Context, record ledger.Feed, version ledger.FeedVersion) *feed.Feed {
	f, err := feed.Parse(record.Name+".yaml", []byte(version.Definition))
	if err == nil {
		return f
	}
	problem := "its definition is not understood by this version of Mullein: " + err.Error()
	if err := e.Ledger.SetProblem(ctx, record.Name, ledger.Trouble{Kind: news.Stopped, Text: problem}); err != nil {
		e.Log.Warn("a feed is not understood", "feed", record.Name, "problem", problem, "error", err)
	}
	return nil
}

// takeUpChanges takes up new versions, pauses and removals of the feeds that this
// service holds.
func (e *Engine) takeUpChanges(ctx context.Context) error {
	e.mu.Lock()
	var names []string
	for name, w := range e.feeds {
		if e.stale[name] || w.ctx.Err() != nil {
			names = append(names, name)
		}
	}
	e.mu.Unlock()
	if len(names) == 0 {
		return nil
	}
	records, err := e.Ledger.FeedsNamed(ctx, names)
	if err != nil {
		return err
	}
	present := map[string]ledger.Feed{}
	for _, r := range records {
		present[r.Name] = r
	}
	for _, name := range names {
		if err := e.takeUp(ctx, name, present); err != nil {
			return fmt.Errorf("take up feed %s: %w", name, err)
		}
	}
	return nil
}

// takeUp takes up how a feed is now.
func (e *Engine) takeUp(ctx context.Context, name string, present map[string]ledger.Feed) error {
	w := e.held(name)
	record, there := present[name]
	ours := there && record.LeaseHolder != nil && *record.LeaseHolder == e.options.ID
	if ours && w.version == record.Version && w.ctx.Err() == nil {
		if w.paused.Swap(record.Paused) != record.Paused {
			e.turns.ask(w)
		}
		e.forgetStale(name)
		return nil
	}
	e.stop(w) // removed, lost, or a new version: another begins when this one has ended
	select {
	case <-w.over:
	default:
		go func() { // its turn is still under way
			<-w.over
			e.Changed()
		}()
		return nil
	}
	w.recipes.drop()
	if !ours {
		e.forget(name)
		return nil
	}
	versions, err := e.Ledger.Present(ctx, []string{name})
	if err != nil {
		return err
	}
	record.Fence = max(record.Fence, w.fence)
	fresh := e.newLeased(record, e.definition(ctx, record, versions[name]))
	fresh.left.Store(w.left.Load())
	e.start(fresh)
	e.forgetStale(name)
	return nil
}

func (e *Engine) forgetStale(name string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.stale, name)
}

func (e *Engine) forget(name string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.feeds, name)
	delete(e.stale, name)
}

// giveBack hands feeds to services that have less to do: those that are idle.
func (e *Engine) giveBack(ctx context.Context, surplus int) error {
	var names []string
	for _, w := range e.leased() {
		if len(names) >= surplus {
			break
		}
		if !e.turns.idle(w) || w.ctx.Err() != nil {
			continue
		}
		e.stop(w)
		select {
		case <-w.over:
			names = append(names, w.name)
		default: // a turn began at this moment: it is taken up again when that has ended
		}
	}
	if len(names) == 0 {
		return nil
	}
	if err := e.Ledger.Release(ctx, e.options.ID, names...); err != nil {
		return err
	}
	for _, name := range names {
		e.forget(name)
	}
	return nil
}

// sweepEvery is how often it is looked whether a feed has something to do of which
// nobody was told.
const sweepEvery = 10 * time.Second

// freeEvery is how often memory is given back at most.
const freeEvery = time.Minute

// sweep asks for turns of feeds that have something to do, whoever forgot to say so.
func (e *Engine) sweep(ctx context.Context) {
	freed := time.Now()
	for ctx.Err() == nil {
		work, err := e.Ledger.WithWork(ctx, e.options.ID)
		if err == nil {
			for _, of := range work {
				if w := e.held(of.Feed); w != nil && w.feed != nil {
					// While it has a turn, its own work is at hand; the next turn looks.
					if of.Left && e.turns.idle(w) {
						w.left.Store(true)
					}
					e.turns.ask(w)
				}
			}
		}
		for _, w := range e.leased() {
			w.recipes.dropIdle()
		}
		if time.Since(freed) > freeEvery && e.turns.rest() { // the memory of many loads is of use to others now
			debug.FreeOSMemory()
			freed = time.Now()
		}
		if err := e.lookAtObstacles(ctx); err != nil && ctx.Err() == nil {
			e.Log.Warn("it cannot be seen whether tables fit by now; looking again", "error", err)
		}
		wait(ctx, sweepEvery)
	}
}

// wakeAll has all feeds tried at once that wait after a problem.
func (e *Engine) wakeAll() {
	for _, w := range e.leased() {
		e.tryAtOnce(w)
	}
}
