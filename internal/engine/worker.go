package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/target"
)

// worker works one version of one feed: one run at a time.
type worker struct {
	e        *Engine
	feed     *feed.Feed
	version  int
	table    *target.Table
	paused   atomic.Bool
	wake     chan struct{}
	look     chan chan struct{}
	finished chan struct{}
	cancel   context.CancelFunc
	progress atomic.Pointer[progress]

	// What only the working goroutine touches:
	session  *target.Session
	fence    int64 // 0 when the feed is not ours
	fitted   *target.Fitted
	busy     time.Time
	troubled bool          // the feed's problem is one that this worker has said
	notUntil time.Time     // after a problem of the feed as a whole
	pause    time.Duration // how long the next such problem makes it wait

	lost atomic.Bool // the lease could not be renewed
}

type progress struct {
	Progress
	step  atomic.Value
	bytes atomic.Int64
	rows  atomic.Int64
}

func newWorker(e *Engine, f *feed.Feed, record ledger.Feed) *worker {
	w := &worker{
		e: e, feed: f, version: record.Version,
		wake: make(chan struct{}, 1), look: make(chan chan struct{}), finished: make(chan struct{}),
	}
	w.paused.Store(record.Paused)
	return w
}

// start begins to watch and to work. ctx ends the beginning of new work, hard
// ends the work at hand.
func (w *worker) start(ctx, hard context.Context, wg *sync.WaitGroup) {
	ctx, w.cancel = context.WithCancel(ctx)
	var parts sync.WaitGroup
	parts.Go(func() {
		// What an earlier service said of the feed is forgotten by the first listing.
		(&lookout{e: w.e, feed: w.feed, ready: w.poke, problem: "unknown"}).run(ctx, w.look)
	})
	parts.Go(func() { w.run(ctx, hard) })
	if w.feed.When.Cron != "" {
		parts.Go(func() { w.schedule(ctx) })
	}
	wg.Go(func() {
		parts.Wait()
		if w.session != nil {
			w.session.Close()
		}
		close(w.finished)
	})
}

func (w *worker) stop() { w.cancel() }

func (w *worker) ended() bool {
	select {
	case <-w.finished:
		return true
	default:
		return false
	}
}

func (w *worker) setPaused(paused bool) {
	if w.paused.Swap(paused) != paused {
		w.poke()
	}
}

func (w *worker) poke() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

func (w *worker) keepLease(name string, held []string) {
	if !slices.Contains(held, name) {
		w.lost.Store(true)
	}
}

// run takes what waits, until ctx ends.
func (w *worker) run(ctx, hard context.Context) {
	for ctx.Err() == nil {
		more, err := w.turn(ctx, hard)
		if err != nil && ctx.Err() == nil {
			w.e.Log.Error("work failed; trying on", "feed", w.feed.Name, "error", err)
			more = false
		}
		if more {
			continue
		}
		select {
		case <-ctx.Done():
		case <-w.wake:
		case <-time.After(time.Second):
		}
	}
}

// idle is how long a feed without work keeps its connection.
const idle = 10 * time.Second

// turn does one run, if there is one to do.
func (w *worker) turn(ctx, hard context.Context) (worked bool, err error) {
	if w.feed.When.Arrival && !w.paused.Load() && time.Now().After(w.notUntil) {
		next, err := w.e.Ledger.NextWaiting(ctx, w.feed.Name)
		if err != nil {
			return false, err
		}
		if next != nil && due(next) {
			if _, err := w.e.Ledger.QueueRun(ctx, w.feed.Name, "arrival", w.e.Name); err != nil {
				return false, err
			}
		}
	}
	open, err := w.e.Ledger.HasOpenWork(ctx, w.feed.Name)
	if err != nil {
		return false, err
	}
	if !open {
		if w.session != nil && time.Since(w.busy) > idle {
			w.disown()
		}
		return false, nil
	}
	if err := w.own(ctx); err != nil || w.fence == 0 {
		return false, err
	}
	w.busy = time.Now()
	run, err := w.e.Ledger.BeginRun(ctx, w.feed.Name, w.version)
	if err != nil || run == nil {
		return false, err
	}
	state, reason := ledger.RunDone, ""
	if err := w.work(ctx, hard, run); err != nil {
		state, reason = ledger.RunFailed, err.Error()
		if ctx.Err() != nil {
			state, reason = ledger.RunCancelled, "broken off: the service stopped, or the feed was changed or removed"
		}
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	return true, w.e.Ledger.FinishRun(last, run.ID, state, reason)
}

// due tells whether an arrival may be tried now.
func due(a *ledger.Arrival) bool { return a.TryAfter == nil || time.Now().After(*a.TryAfter) }

// own makes sure that the feed is ours: a lease in the records, a raised fence
// in the target, and nothing left half done by whoever had it before.
func (w *worker) own(ctx context.Context) error {
	if w.lost.Swap(false) || (w.session != nil && w.session.Ping(ctx) != nil) {
		w.disown()
	}
	if w.fence != 0 {
		return nil
	}
	if err := w.e.Target.Prepare(ctx); err != nil {
		return w.trouble(ctx, err)
	}
	highest, err := w.e.Target.HighestFence(ctx, w.feed.Name)
	if err != nil {
		return err
	}
	fence, err := w.e.Ledger.Claim(ctx, w.feed.Name, w.e.Service, highest)
	if err != nil || fence == 0 {
		return err
	}
	session, err := w.e.Target.Session(ctx)
	if err != nil {
		return err
	}
	if err := w.e.Target.Fence(ctx, w.feed.Name, fence, session); err != nil {
		session.Close()
		return err
	}
	w.session = session
	if err := w.takeOver(ctx); err != nil {
		w.disown()
		return err
	}
	w.fence = fence
	return nil
}

func (w *worker) disown() {
	if w.session != nil {
		w.session.Close()
	}
	w.session, w.fence, w.fitted = nil, 0, nil
}

// killLimit is how often in a row a service may end while it reads a file,
// before the file is taken to be the cause and held for a person.
const killLimit = 5

// takeOver brings the ledger in line with the target's markers for arrivals
// that were being loaded when whoever had the feed before went away.
func (w *worker) takeOver(ctx context.Context) error {
	left, err := w.e.Ledger.InStates(ctx, w.feed.Name, ledger.Loading)
	if err != nil {
		return err
	}
	for i := range left {
		a := &left[i]
		m, err := w.e.Target.MarkerOf(ctx, w.feed.Name, a.ID)
		if err != nil {
			return err
		}
		switch {
		case m != nil && m.Generation > 0:
			err = w.finishFromMarker(ctx, a, m)
		case a.OpenedAt != nil && a.StagedAt == nil && a.Attempts >= killLimit:
			err = w.e.Ledger.Finish(ctx, a.ID, ledger.Held, fmt.Sprintf("the service ended %d times while it read this file; have the file looked at", a.Attempts), a.Balance, nil)
		default:
			more := map[string]any{"reason": "the service ended while it was loaded", "opened_at": nil, "staged_at": nil}
			if a.OpenedAt == nil || a.StagedAt != nil { // it was not its reading
				more["attempts"] = 0
			}
			err = w.e.Ledger.Move(ctx, a.ID, []ledger.State{ledger.Loading}, ledger.Ready, more)
		}
		if err != nil && !errors.Is(err, ledger.ErrMoved) {
			return err
		}
	}
	runs, err := w.e.Ledger.OpenRuns(ctx, w.feed.Name)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if err := w.e.Ledger.FinishRun(ctx, run.ID, ledger.RunFailed, "the service ended during the run; what it left is worked on in the next"); err != nil {
			return err
		}
	}
	return nil
}

func (w *worker) finishFromMarker(ctx context.Context, a *ledger.Arrival, m *target.Marker) error {
	if err := w.e.Ledger.Recorded(ctx, a.ID, m.SHA256, m.Generation); err != nil {
		return err
	}
	return w.e.Ledger.Finish(ctx, a.ID, ledger.Loaded, "", m.Balance, nil)
}

// work does one run: everything that waits, in order. An error is one of the
// feed as a whole; what is wrong with single arrivals is in the ledger.
func (w *worker) work(ctx, hard context.Context, run *ledger.Run) error {
	byHand := run.Cause != "arrival"
	if byHand {
		if err := w.waitForLanding(ctx); err != nil {
			return err
		}
	}
	tried := map[int64]bool{}
	for ctx.Err() == nil {
		next, err := w.e.Ledger.NextWaiting(ctx, w.feed.Name)
		if err != nil {
			return err
		}
		// A run that somebody asked for does not wait for the time of a retry,
		// but tries each arrival once only.
		if next == nil || tried[next.ID] || !byHand && (!due(next) || w.paused.Load()) {
			return nil
		}
		tried[next.ID] = true
		if w.fitted == nil {
			if err := w.fit(ctx); err != nil {
				return w.trouble(ctx, err)
			}
		}
		select {
		case w.e.loads <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		err = w.arrival(hard, run, next)
		<-w.e.loads
		if errors.Is(err, target.ErrFenced) {
			w.disown()
			return err
		}
		if err != nil {
			return w.trouble(ctx, err)
		}
		w.pause = 0
		if w.session != nil && !w.session.Alive() {
			w.disown()
			return errors.New("the connection to the target's database was lost")
		}
	}
	return ctx.Err()
}

// fit makes the target or holds it against the feed.
func (w *worker) fit(ctx context.Context) error {
	if w.table == nil {
		table, err := Table(w.feed)
		if err != nil {
			return err
		}
		w.table = table
	}
	fitted, err := w.e.Target.Fit(ctx, w.table)
	if err != nil {
		return err
	}
	w.fitted = fitted
	if !w.troubled {
		return nil
	}
	w.troubled = false
	return w.e.Ledger.SetProblem(ctx, w.feed.Name, "")
}

const (
	firstPause = time.Second
	maxPause   = time.Minute
)

// trouble keeps a feed from being tried again and again while its target does
// not fit, and tells people why it is not working.
func (w *worker) trouble(ctx context.Context, err error) error {
	w.fitted, w.troubled = nil, true
	w.pause = min(max(firstPause, 2*w.pause), maxPause)
	w.notUntil = time.Now().Add(w.pause)
	if recordErr := w.e.Ledger.SetProblem(ctx, w.feed.Name, err.Error()); recordErr != nil {
		return errors.Join(err, recordErr)
	}
	return err
}

// waitForLanding asks for a listing and waits until all that is there is still.
func (w *worker) waitForLanding(ctx context.Context) error {
	done := make(chan struct{})
	select {
	case w.look <- done:
	case <-ctx.Done():
		return ctx.Err()
	}
	limit := time.After(w.feed.Landing.Settle + time.Minute)
	select {
	case <-done:
	case <-limit: // a file that keeps growing is for the next run
	case <-ctx.Done():
	}
	return ctx.Err()
}
