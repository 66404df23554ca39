package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// running is a run that is under way.
type running struct {
	*leased
	run     *ledger.Run
	session *load.Session
	opened  time.Time // when the session was taken
	first   upNext    // what is known already to be next
}

// cancelled says who asked for a run to end.
type cancelled struct{ by string }

func (c *cancelled) Error() string { return "cancelled by " + c.by }

// checkCancel ends the run at hand if somebody has asked for that.
func (w *leased) checkCancel() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	id := w.running.Load()
	by, err := w.e.Ledger.CancelBy(ctx, id)
	if err == nil && by != "" && w.running.Load() == id {
		w.breakOff(&cancelled{by})
	}
}

// do does the run and records how it ended.
func (r *running) do(ctx context.Context) error {
	state, reason := ledger.RunDone, ""
	seen, err := r.within(ctx)
	if err != nil {
		r.left.Store(true) // the ledger may not know how the work ended
	}
	var stopped *cancelled
	switch {
	case errors.As(err, &stopped):
		state, reason = ledger.RunCancelled, stopped.Error()
	case err != nil && ctx.Err() != nil && seen.Slots > 0: // a run over many slots goes on where it was
		return r.e.Ledger.Requeue(context.WithoutCancel(ctx), r.run.ID)
	case errors.Is(err, table.ErrFenced):
		state, reason = ledger.RunFailed, err.Error()
	case err != nil && ctx.Err() != nil:
		state, reason = ledger.RunCancelled, "broken off: the service stopped, or the feed was changed, moved to "+
			"another service, or removed"
	case err != nil:
		state, reason = ledger.RunFailed, err.Error()
		r.e.turns.later(r.leased, r.tryAgain())
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	if err := r.e.Ledger.FinishRun(last, r.run.ID, state, reason); err != nil {
		r.left.Store(true)
		return err
	}
	return nil
}

// within does the run within its time limit, unless somebody ends it.
func (r *running) within(ctx context.Context) (ledger.RunSlots, error) {
	workCtx, end := context.WithCancelCause(r.e.lifetime)
	defer end(nil)
	if limit := r.feed.When.TimeLimit; limit > 0 {
		timer := time.AfterFunc(limit, func() {
			end(&load.TimeLimitError{Limit: limit})
		})
		defer timer.Stop()
	}
	r.endRun.Store(&end)
	r.running.Store(r.run.ID)
	defer func() {
		r.running.Store(0)
		r.endRun.Store(nil)
	}()
	if r.run.Cause != causeArrival {
		r.checkCancel() // since before it was known to be running
	}
	seen, err := r.work(ctx, workCtx)
	if workCtx.Err() != nil && r.e.lifetime.Err() == nil {
		return seen, context.Cause(workCtx)
	}
	return seen, err
}

// namedEmpty is how many slots without files a run names.
const namedEmpty = 1000

// work does everything that waits, in order. An error is one of the feed as a whole;
// what is wrong with single arrivals is in the ledger. ctx ends the beginning of new
// work, workCtx the work at hand.
func (r *running) work(ctx, workCtx context.Context) (ledger.RunSlots, error) {
	if r.run.Wanted.Rebuild != nil {
		return ledger.RunSlots{}, r.e.inspect.Rebuild(workCtx, r.run)
	}
	steps, err := stepsOf(r.feed, r.run.Wanted, r.e.now())
	if err != nil {
		return r.run.Told, err
	}
	seen := ledger.RunSlots{}
	for _, step := range steps {
		if err := r.workOnStep(ctx, workCtx, step, &seen); err != nil {
			_, recordErr := r.e.Ledger.RecordSlots(context.WithoutCancel(ctx), r.run.ID, seen)
			return seen, errors.Join(err, recordErr)
		}
	}
	if seen.Slots > 0 {
		_, err = r.e.Ledger.RecordSlots(workCtx, r.run.ID, seen)
	}
	return seen, err
}

// workOnStep goes through one slot of a run, or all of it where it has no slots.
func (r *running) workOnStep(ctx, workCtx context.Context, step step, seen *ledger.RunSlots) error {
	if step.name == "" {
		return r.workOn(ctx, workCtx, step.selection)
	}
	if seen.At, seen.Slots = step.name, seen.Slots+1; seen.Slots%100 == 1 {
		if _, err := r.e.Ledger.RecordSlots(workCtx, r.run.ID, *seen); err != nil {
			return err
		}
	}
	if _, err := r.e.Ledger.TakeBacklog(workCtx, r.name, step.selection); err != nil {
		return err
	}
	if err := r.workOn(ctx, workCtx, step.selection); err != nil {
		return err
	}
	any, err := r.e.Ledger.AnyIn(workCtx, r.name, step.selection)
	if err == nil && !any {
		if seen.Empty++; len(seen.Named) < namedEmpty {
			seen.Named = append(seen.Named, step.name)
		}
	}
	return err
}

// workOn loads what waits of a selection.
func (r *running) workOn(ctx, workCtx context.Context, s ledger.Selection) (err error) {
	defer func() {
		last := r.session.Wait()
		if last != nil && !errors.Is(last, table.ErrFenced) && workCtx.Err() == nil {
			last = r.trouble(workCtx, last)
		}
		if err = errors.Join(err, last); errors.Is(err, table.ErrFenced) {
			r.lose()
		}
	}()
	byHand := r.run.Cause != causeArrival
	s.Again = byHand // a run that somebody asked for does not wait for the time of a retry
	took := map[int64]*taken{}
	for {
		if err := errors.Join(ctx.Err(), workCtx.Err()); err != nil {
			return err
		}
		if !byHand && r.paused.Load() {
			return nil
		}
		next := r.first
		r.first = upNext{}
		if len(next.Arrivals()) == 0 {
			if next, err = r.next(workCtx, s); err != nil {
				return err
			}
		}
		d := next.Without(func(a *ledger.Arrival) bool { return took[a.ID].tried(a) }) // each arrival is tried once only
		d, refused, err := r.ofOneKind(workCtx, d)
		if err != nil {
			return err
		}
		all := d.Arrivals()
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
		if err := r.loadOne(workCtx, d); err != nil {
			return err
		}
		if next.all && len(all) == len(next.Arrivals()) && !byHand { // what came meanwhile has the next turn
			if err := r.session.Wait(); err != nil || !r.session.GaveBack() {
				return err
			}
		}
	}
}

// loadOne loads one delivery.
func (r *running) loadOne(workCtx context.Context, d load.Delivery) error {
	if err := r.ownTurn(workCtx); err != nil {
		return err
	}
	recipe, err := r.recipe(workCtx, d)
	var unfit *load.ColumnsError
	for errors.As(err, &unfit) {
		if d, err = r.refuseColumns(workCtx, d, unfit); err != nil {
			break
		}
		if len(d.Arrivals()) == 0 {
			return nil
		}
		recipe, err = r.recipe(workCtx, d)
	}
	if err != nil {
		return r.trouble(workCtx, errors.Join(err, r.session.Wait()))
	}
	done, err := r.e.room(workCtx, recipe.Feed, d.Arrivals())
	if err != nil {
		return r.trouble(workCtx, err)
	}
	err = r.session.Load(workCtx, recipe, r.run, d)
	done()
	if err != nil {
		err = errors.Join(err, r.session.Wait())
	}
	if errors.Is(err, table.ErrFenced) {
		return err
	}
	if err != nil {
		return r.trouble(workCtx, err)
	}
	if err := r.untroubled(workCtx); err != nil {
		return err
	}
	if r.session.Alive() {
		return nil
	}
	if workCtx.Err() != nil {
		return workCtx.Err()
	}
	return errors.New("the connection to the target's database was lost")
}

// refuseColumns refuses a file whose columns cannot be added to its target, with its
// whole delivery, and returns the others.
func (r *running) refuseColumns(ctx context.Context, d load.Delivery, unfit *load.ColumnsError) (load.Delivery, error) {
	goes := func(a *ledger.Arrival) bool { return d.Name != "" || a.ID == unfit.Arrival }
	for _, a := range d.Arrivals() {
		if !goes(a) {
			continue
		}
		if err := r.e.Ledger.RefuseWaiting(ctx, a.ID, unfit.Reason, load.AwayOf(r.feed, ledger.Refused)); err != nil {
			return d, fmt.Errorf("refuse arrival %d: %w", a.ID, err)
		}
		r.e.NeedsPerson(a, ledger.Refused, unfit.Reason)
	}
	return d.Without(goes), nil
}

// turnTime is how long a run has the session before it lets others have their turn.
const turnTime = 3 * time.Second

// ownTurn hands the session back after a while, and takes one again when its turn
// comes, so that a feed with a million files does not starve one with a single file.
// So it does at once where the feed's connection leads elsewhere by now.
func (r *running) ownTurn(ctx context.Context) error {
	if time.Since(r.opened) < turnTime && !r.session.Outdated() {
		return nil
	}
	if err := r.session.Wait(); err != nil {
		return err
	}
	r.session.Close()
	session, err := r.open(ctx)
	if err != nil {
		return err
	}
	r.session, r.opened = session, time.Now()
	return nil
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

const (
	largeFile  = 8 << 20 // from where on a load takes one of the few places for large ones
	diskSpare  = 512 << 20
	diskFactor = 3 // a file's rows, their staging and their log, as multiples of its size
)

// room waits until there is memory for a load, and makes sure that there is
// room on the disk. done gives the memory back.
func (e *Engine) room(ctx context.Context, f *feed.Feed, arrivals []*ledger.Arrival) (done func(), err error) {
	var size, held int64
	for _, a := range arrivals {
		size += a.Size
		held = max(held, decode.Held(f.Format, a.Path, a.Size, !f.Landing.InZip()))
	}
	if e.options.Disk != nil {
		need := uint64(diskSpare + diskFactor*size)
		if free, where := e.options.Disk(); free < need {
			return nil, &noRoomError{free: free, need: need, where: where, size: size}
		}
	}
	isLarge := size >= largeFile
	if isLarge {
		select {
		case e.large <- struct{}{}:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	need := 16 + size>>24 + held>>20 // the filter of keys takes a byte or two a row
	if isLarge {
		need += 96 // what the table holds already, or which row of each key wins
	}
	need = min(maxMemory, need)
	if err := e.memory.Acquire(ctx, need); err != nil {
		if isLarge {
			<-e.large
		}
		return nil, err
	}
	return func() {
		if isLarge {
			debug.FreeOSMemory() // what this load held is not to stand beside what the next one holds
			<-e.large
		}
		e.memory.Release(need)
	}, nil
}
