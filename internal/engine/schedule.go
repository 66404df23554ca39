package engine

import (
	"context"
	"time"

	"mullein/internal/ledger"
)

// keepSchedules queues a run of a feed at each time of its cron, until ctx ends: one
// timetable for all feeds. A time at which no service was there is made up for once,
// and each time fires once, whichever services come to it.
func (e *Engine) keepSchedules(ctx context.Context) {
	last := map[*leased]time.Time{} // the time up to which each feed's schedule is done
	for ctx.Err() == nil {
		now := e.now()
		due := map[string]time.Time{}
		next := now.Add(time.Minute) // the clock may be set meanwhile
		held := map[*leased]bool{}
		for _, w := range e.leased() {
			if w.feed == nil || w.feed.When.Times == nil || w.ctx.Err() != nil {
				continue
			}
			held[w] = true
			from, known := last[w]
			if !known {
				if from = now; w.record.FiredAt != nil {
					from = *w.record.FiredAt
				}
				last[w] = from
			}
			switch at := lastMissed(w, from, now); {
			case at.IsZero():
			case !at.After(now):
				due[w.name], last[w] = at, at
			case at.Before(next):
				next = at
			}
		}
		for w := range last {
			if !held[w] {
				delete(last, w)
			}
		}
		if len(due) > 0 {
			e.fire(ctx, due)
			continue
		}
		select {
		case <-ctx.Done():
		case <-e.schedule:
		case <-time.After(next.Sub(now)):
		}
	}
}

// lastMissed is the next time of a feed's schedule after another: of several that have
// passed by now, the last one, since one run makes up for all. It is zero when there is
// none.
func lastMissed(w *leased, from, now time.Time) time.Time {
	times := w.feed.When.Times
	next := times.Next(from)
	for later := times.Next(next); !next.IsZero() && !later.IsZero() && !later.After(now); later = times.Next(next) {
		next = later
	}
	return next
}

// fire queues runs of feeds whose time has come.
func (e *Engine) fire(ctx context.Context, due map[string]time.Time) {
	fires, err := e.Ledger.Fire(ctx, due)
	for _, name := range fires {
		w := e.held(name)
		if w == nil || w.paused.Load() {
			continue
		}
		if _, queueErr := e.Ledger.QueueRun(ctx, name, causeSchedule, e.Service, ledger.Wanted{}); queueErr != nil {
			err = queueErr
			continue
		}
		e.turns.ask(w)
	}
	if err != nil && ctx.Err() == nil {
		e.Log.Error("scheduled runs could not be queued", "error", err)
	}
}
