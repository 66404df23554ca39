package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// worker works one version of one feed, as long as this service holds the
// feed's lease: it watches the landing, keeps the calendar, and does one run
// at a time.
type worker struct {
	e        *Engine
	feed     *feed.Feed
	version  int
	record   ledger.Feed
	target   *table.Database
	claimed  time.Time
	paused   atomic.Bool
	leaving  atomic.Bool // it is handed to another service
	wake     chan struct{}
	due      chan struct{} // wakes the calendar's keeper
	look     chan chan struct{}
	finished chan struct{}
	cancel   context.CancelFunc
	progress atomic.Pointer[progress]
	running  atomic.Int64 // the run at hand
	endRun   atomic.Pointer[context.CancelCauseFunc]

	// What only the working goroutine touches:
	fence    int64
	now      kindState
	kinds    map[string]kindState // those that were worked on before, by table
	session  *table.Session       // nil until there is work; then the feed's fence stands in the target
	busy     time.Time
	troubled bool          // the feed's problem is one that this worker has said
	notUntil time.Time     // after a problem of the feed as a whole
	pause    time.Duration // how long the next such problem makes it wait
	waits    string
	summed   time.Time
	before   *loading   // the load that was begun last
	ending   chan error // of what is on its way into the target meanwhile, with the session; nil for nothing
}

type progress struct {
	Progress
	step  atomic.Value
	waits atomic.Pointer[string] // who holds the target; nil for nobody
	bytes atomic.Int64
	rows  atomic.Int64
}

func newWorker(e *Engine, f *feed.Feed, record ledger.Feed, fence int64) *worker {
	w := &worker{
		e: e, feed: f, version: record.Version, record: record, fence: fence, claimed: time.Now(), waits: record.Waits,
		wake: make(chan struct{}, 1), due: make(chan struct{}, 1), look: make(chan chan struct{}), finished: make(chan struct{}),
	}
	w.paused.Store(record.Paused)
	return w
}

// start begins to watch and to work. ctx ends the beginning of new work, hard
// ends the work at hand.
func (w *worker) start(ctx, hard context.Context, wg *sync.WaitGroup) {
	ctx, w.cancel = context.WithCancel(ctx)
	var parts sync.WaitGroup
	o := newLookout(w.e, w.feed, w.record, w.poke)
	parts.Go(func() { o.run(ctx, w.look) })
	parts.Go(func() { w.run(ctx, hard) })
	if w.feed.When.Times != nil {
		parts.Go(func() { w.schedule(ctx) })
	}
	if w.feed.Due != nil {
		parts.Go(func() { w.keepCalendar(ctx) })
	}
	wg.Go(func() {
		parts.Wait()
		w.disown()
		close(w.finished)
	})
}

func (w *worker) stop() { w.cancel() }

// lose ends a worker whose lease is lost: the work at hand cannot be committed
// any more, so it is broken off.
func (w *worker) lose() {
	w.cancel()
	w.breakOff(table.ErrFenced)
}

// breakOff ends the run at hand.
func (w *worker) breakOff(cause error) {
	if end := w.endRun.Load(); end != nil {
		(*end)(cause)
	}
}

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

// poke wakes whoever waits for something to do with the feed.
func (w *worker) poke() {
	poke(w.wake)
	poke(w.due)
}

// cancelled says who asked for a run to end.
type cancelled struct{ by string }

func (c *cancelled) Error() string { return "cancelled by " + c.by }

func (w *worker) checkCancel() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	id := w.running.Load()
	by, err := w.e.Ledger.CancelBy(ctx, id)
	if err == nil && by != "" && w.running.Load() == id {
		w.breakOff(&cancelled{by})
	}
}

// idleCheck is how often a feed without news looks for work all the same.
const idleCheck = 5 * time.Second

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
		case <-time.After(w.rest(err)):
		}
	}
}

// rest is how long to wait when nobody wakes the worker.
func (w *worker) rest(err error) time.Duration {
	if err != nil || time.Now().Before(w.notUntil) {
		return time.Second
	}
	if w.busy.IsZero() || time.Since(w.busy) > idle {
		return idleCheck
	}
	return time.Second
}

// idle is how long a feed without work keeps its connection.
const idle = 10 * time.Second

// turn does one run, if there is one to do.
func (w *worker) turn(ctx, hard context.Context) (worked bool, err error) {
	if err := w.putAway(ctx); err != nil {
		return false, err
	}
	if err := w.queueRuns(ctx); err != nil {
		return false, err
	}
	open, err := w.e.Ledger.HasOpenWork(ctx, w.feed.Name)
	if err != nil {
		return false, err
	}
	if !open {
		if w.session != nil && time.Since(w.busy) > idle {
			w.disown()
		}
		if time.Since(w.summed) > time.Minute {
			w.summed = time.Now()
			return false, w.e.Ledger.SumTallies(ctx, w.feed.Name)
		}
		return false, nil
	}
	if err := w.own(ctx); err != nil {
		return false, err
	}
	w.busy = time.Now()
	run, err := w.e.Ledger.BeginRun(ctx, w.feed.Name, w.version)
	if err != nil || run == nil {
		return false, err
	}
	state, reason := ledger.RunDone, ""
	told, err := w.doRun(ctx, hard, run)
	var stopped *cancelled
	switch {
	case errors.As(err, &stopped):
		state, reason = ledger.RunCancelled, stopped.Error()
	case err != nil && ctx.Err() != nil && told.Slots > 0: // a run over many slots goes on where it was
		return false, w.e.Ledger.Requeue(context.WithoutCancel(ctx), run.ID)
	case err != nil && ctx.Err() != nil:
		state, reason = ledger.RunCancelled, "broken off: the service stopped, or the feed was changed, moved to another service, or removed"
	case err != nil:
		state, reason = ledger.RunFailed, err.Error()
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	return true, w.e.Ledger.FinishRun(last, run.ID, state, reason)
}

// queueRuns queues the runs that begin by themselves.
func (w *worker) queueRuns(ctx context.Context) error {
	if w.paused.Load() || time.Now().Before(w.notUntil) {
		return nil
	}
	if w.feed.When.Arrival {
		next, err := w.next(ctx, ledger.Selection{})
		if err != nil {
			return err
		}
		if len(next.arrivals()) > 0 {
			if _, err := w.e.Ledger.QueueRun(ctx, w.feed.Name, "arrival", w.e.Name, ledger.Wanted{}); err != nil {
				return err
			}
		}
	}
	if len(w.feed.When.AfterAll)+len(w.feed.When.AfterAny) == 0 {
		return nil
	}
	came, err := w.e.Ledger.After(ctx, w.feed.Name, w.feed.When.AfterAll, w.feed.When.AfterAny)
	if err == nil && came {
		_, err = w.e.Ledger.QueueRun(ctx, w.feed.Name, "after", w.e.Name, ledger.Wanted{})
	}
	return err
}

// doRun does one run within its time limit, unless somebody ends it.
func (w *worker) doRun(ctx, hard context.Context, run *ledger.Run) (ledger.Told, error) {
	limited, end := context.WithCancelCause(hard)
	defer end(nil)
	if w.feed.When.TimeLimit > 0 {
		timer := time.AfterFunc(w.feed.When.TimeLimit, func() {
			end(fmt.Errorf("the time limit of %s was reached; what was not loaded waits for the next run", w.feed.When.TimeLimit))
		})
		defer timer.Stop()
	}
	w.endRun.Store(&end)
	w.running.Store(run.ID)
	defer func() {
		w.running.Store(0)
		w.endRun.Store(nil)
	}()
	w.checkCancel()
	told, err := w.work(ctx, limited, run)
	if limited.Err() != nil && hard.Err() == nil {
		if w.session != nil && !w.session.Alive() {
			w.disown()
		}
		return told, context.Cause(limited)
	}
	return told, err
}

// retry reports whether an arrival that failed before may be tried now.
func retry(a *ledger.Arrival) bool { return a.TryAfter == nil || time.Now().After(*a.TryAfter) }

// own makes sure that the feed is ours in the target too: a raised fence, and
// nothing left half done by whoever had it before.
func (w *worker) own(ctx context.Context) error {
	if w.session != nil && w.session.Ping(ctx) != nil {
		w.disown()
	}
	if w.session != nil {
		return nil
	}
	var err error
	if w.target, err = w.e.TargetOf(w.feed); err != nil {
		return w.trouble(ctx, err)
	}
	if err := w.target.Prepare(ctx); err != nil {
		return w.trouble(ctx, err)
	}
	highest, err := w.target.HighestFence(ctx, w.feed.Name)
	if err != nil {
		return err
	}
	restored := highest > w.fence
	if restored { // the records are older than the target: they come from a back-up
		if w.fence, err = w.e.Ledger.RaiseFence(ctx, w.feed.Name, w.e.Service, highest); err != nil {
			return err
		}
		if w.fence == 0 {
			w.lose()
			return table.ErrFenced
		}
	}
	session, err := w.target.Session(ctx)
	if err != nil {
		return err
	}
	if err := w.target.Fence(ctx, w.feed.Name, w.fence, session); err != nil {
		session.Close()
		return err
	}
	w.session = session
	w.session.Limit = w.feed.When.TimeLimit
	err = w.takeOver(ctx)
	if err == nil && restored {
		_, err = w.e.Reconcile(ctx, w.feed.Name, true)
	}
	if err != nil {
		w.disown()
	}
	return err
}

func (w *worker) disown() {
	if w.session != nil {
		w.session.Close()
	}
	w.session = nil
	w.unfit()
}

// killLimit is how often in a row a service may end while it reads a file,
// before the file is taken to be the cause and held for a person.
const killLimit = 7

// leftAtOnce is how many arrivals are looked at together that were left behind.
const leftAtOnce = 1000

// takeOver brings the ledger in line with the target's markers for arrivals
// that were being loaded when whoever had the feed before went away.
func (w *worker) takeOver(ctx context.Context) error {
	for after := int64(0); ; {
		left, err := w.e.Ledger.InStates(ctx, w.feed.Name, after, leftAtOnce, ledger.Loading)
		if err != nil {
			return err
		}
		for i := range left {
			a := &left[i]
			after = a.ID
			m, err := w.target.MarkerOf(ctx, w.feed.Name, a.ID)
			if err != nil {
				return err
			}
			if err := w.takeOverOne(ctx, a, m); err != nil && !errors.Is(err, ledger.ErrMoved) {
				return err
			}
		}
		if len(left) < leftAtOnce {
			break
		}
	}
	runs, err := w.e.Ledger.OpenRuns(ctx, w.feed.Name)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if run.Wanted.Any() { // narrowed: it goes on where it was, since nothing is loaded twice
			if err := w.e.Ledger.Requeue(ctx, run.ID); err != nil {
				return err
			}
		}
		if err := w.e.Ledger.FinishRun(ctx, run.ID, ledger.RunFailed, "the service ended during the run; what it left is worked on in the next"); err != nil {
			return err
		}
	}
	return nil
}

func (w *worker) takeOverOne(ctx context.Context, a *ledger.Arrival, m *table.Marker) error {
	switch {
	case m != nil && m.Generation >= a.Generation:
		return w.finishFromMarker(ctx, a, m)
	case a.OpenedAt != nil && a.StagedAt == nil && a.Attempts >= killLimit:
		return w.e.Ledger.Finish(ctx, ledger.Ending{ID: a.ID, State: ledger.Held, Balance: a.Balance,
			Reason: fmt.Sprintf("the service ended %d times while it read this file; have the file looked at", a.Attempts)})
	}
	more := map[string]any{"reason": "the service ended while it was loaded", "opened_at": nil, "staged_at": nil}
	if a.OpenedAt == nil || a.StagedAt != nil { // it was not its reading
		more["attempts"] = 0
	}
	return w.e.Ledger.Move(ctx, a.ID, []ledger.State{ledger.Loading}, ledger.Ready, more)
}

func (w *worker) finishFromMarker(ctx context.Context, a *ledger.Arrival, m *table.Marker) error {
	if err := w.e.Ledger.Recorded(ctx, a.ID, m.SHA256, m.Generation); err != nil {
		return err
	}
	return w.e.Ledger.Finish(ctx, w.loaded(a, m.Balance))
}

// tooMany is how many slots without files a run names.
const tooMany = 1000

// work does one run: everything that waits, in order. An error is one of the
// feed as a whole; what is wrong with single arrivals is in the ledger. ctx
// ends the beginning of new work, limited the work at hand.
func (w *worker) work(ctx, limited context.Context, run *ledger.Run) (ledger.Told, error) {
	byHand := run.Cause != "arrival"
	if byHand {
		if err := w.waitForLanding(limited); err != nil {
			return run.Told, err
		}
	}
	steps, err := w.steps(run.Wanted, time.Now())
	if err != nil {
		return run.Told, err
	}
	told := ledger.Told{}
	for _, step := range steps {
		if step.name != "" {
			if told.At, told.Slots = step.name, told.Slots+1; told.Slots%100 == 1 {
				if _, err := w.e.Ledger.Tell(limited, run.ID, told); err != nil {
					return told, err
				}
			}
			if _, err := w.e.Ledger.TakeBacklog(limited, w.feed.Name, step.selection); err != nil {
				return told, err
			}
		}
		err := w.workOn(ctx, limited, run, step.selection, byHand)
		if err == nil && step.name != "" {
			var any bool
			if any, err = w.e.Ledger.AnyIn(limited, w.feed.Name, step.selection); err == nil && !any {
				if told.Empty++; len(told.Named) < tooMany {
					told.Named = append(told.Named, step.name)
				}
			}
		}
		if err != nil {
			_, tellErr := w.e.Ledger.Tell(context.WithoutCancel(ctx), run.ID, told)
			return told, errors.Join(err, tellErr)
		}
	}
	if told.Slots > 0 {
		_, err = w.e.Ledger.Tell(limited, run.ID, told)
	}
	return told, err
}

// workOn loads what waits of a selection.
func (w *worker) workOn(ctx, limited context.Context, run *ledger.Run, s ledger.Selection, byHand bool) (err error) {
	defer func() {
		last := w.settled()
		if last != nil && errors.Is(last, table.ErrFenced) {
			w.disown()
		} else if last != nil && limited.Err() == nil {
			last = w.trouble(limited, last)
		}
		err = errors.Join(err, last)
	}()
	took := map[int64]*taken{}
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := limited.Err(); err != nil {
			return err
		}
		if !byHand && w.paused.Load() {
			return nil
		}
		s.Again = byHand // a run that somebody asked for does not wait for the time of a retry
		next, err := w.next(limited, s)
		if err != nil {
			return err
		}
		next = next.without(func(a *ledger.Arrival) bool { return took[a.ID].tried(a) }) // but tries each arrival once only
		refused := false
		if next, refused, err = w.ofOneKind(limited, next); err != nil {
			return err
		}
		all := next.arrivals()
		if len(all) == 0 && refused {
			continue
		}
		if len(all) == 0 {
			return nil
		}
		for _, a := range all {
			if took[a.ID] == nil {
				took[a.ID] = &taken{attempts: a.Attempts}
			}
			took[a.ID].times++
		}
		if err := w.learnColumns(limited, all); err != nil {
			return w.trouble(limited, err)
		}
		if w.now.fitted == nil {
			if err := w.fit(limited); err != nil {
				return w.trouble(limited, err)
			}
		}
		done, err := w.room(limited, all)
		if err != nil {
			return w.trouble(limited, err)
		}
		err = w.load(limited, run, next)
		done()
		if err != nil {
			err = errors.Join(err, w.settled())
		}
		if errors.Is(err, table.ErrFenced) {
			w.disown()
			return err
		}
		if err != nil {
			return w.trouble(limited, err)
		}
		w.pause = 0
		if w.ending == nil && w.session != nil && !w.session.Alive() {
			w.disown()
			if limited.Err() != nil {
				return limited.Err()
			}
			return errors.New("the connection to the target's database was lost")
		}
	}
}

// taken says how often a run took an arrival.
type taken struct {
	times    int
	attempts int // before the first time
}

// mostTaken is how often a run takes an arrival that is put back each time for
// something that is not its fault.
const mostTaken = 10

// tried reports whether a run is done with an arrival that it took before. One
// that was put back has as many attempts as before.
func (t *taken) tried(a *ledger.Arrival) bool {
	return t != nil && (a.Attempts > t.attempts || t.times >= mostTaken)
}

// meanwhile does something while the next files are read. Nothing else may be
// done so at that time: see settled.
func (w *worker) meanwhile(do func() error) {
	done := make(chan error, 1)
	w.ending = done
	go func() { done <- do() }()
}

// settled waits for the end of what is done meanwhile.
func (w *worker) settled() error {
	if w.ending == nil {
		return nil
	}
	err := <-w.ending
	w.ending = nil
	return err
}

const (
	largeFile  = 8 << 20 // from where on a load takes one of the few places for large ones
	diskSpare  = 512 << 20
	diskFactor = 3 // a file's rows, their staging and their log, as multiples of its size
)

// room waits until there is memory for a load, and makes sure that there is
// room on the disk. done gives the memory back. Waiting is in turn, so that a
// feed with a million files does not starve one with a single file.
func (w *worker) room(ctx context.Context, arrivals []*ledger.Arrival) (done func(), err error) {
	var size int64
	for _, a := range arrivals {
		size += a.Size
	}
	if w.e.Disk != nil {
		if free, where := w.e.Disk(); free < uint64(diskSpare+diskFactor*size) {
			return nil, fmt.Errorf("only %d MiB are free on the disk of %s; the next load of %d MiB waits for %d", free>>20, where, size>>20, (diskSpare+diskFactor*size)>>20)
		}
	}
	isLarge := size >= largeFile
	if isLarge {
		select {
		case w.e.large <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	need := min(maxMemory, 16+size>>24) // the filter of keys takes a byte or two a row
	if isLarge {
		need += 96 // what the target holds already, or which row of each key wins
	}
	if err := w.e.memory.Acquire(ctx, need); err != nil {
		if isLarge {
			<-w.e.large
		}
		return nil, err
	}
	return func() {
		if isLarge {
			debug.FreeOSMemory() // what this load held is not to stand beside what the next one holds
			<-w.e.large
		}
		w.e.memory.Release(need)
	}, nil
}

// fit makes the target or holds it against the feed.
func (w *worker) fit(ctx context.Context) error {
	if w.now.table == nil {
		shape, err := Table(w.extended())
		if err != nil {
			return err
		}
		w.now.table = shape
	}
	fitted, err := w.target.Fit(ctx, w.now.table)
	if err != nil {
		return err
	}
	w.now.fitted = fitted
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
	if ctx.Err() != nil {
		return err // it was told to end; nothing is wrong with the feed
	}
	w.unfit()
	w.troubled = true
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
