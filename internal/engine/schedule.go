package engine

import (
	"context"
	"time"

	"mullein/internal/ledger"
)

// schedule queues a run at each time of the feed's cron, until ctx ends. A
// time at which no service was there is made up for once, and each time fires
// once, whichever services come to it.
func (w *worker) schedule(ctx context.Context) {
	times := w.feed.When.Times
	last := time.Now()
	if w.record.FiredAt != nil {
		last = *w.record.FiredAt
	}
	for {
		now := time.Now()
		next := times.Next(last)
		for later := times.Next(next); !next.IsZero() && !later.IsZero() && !later.After(now); later = times.Next(next) {
			next = later // of several that were missed, one is enough
		}
		if next.IsZero() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(min(time.Until(next), time.Minute)): // the clock may be set meanwhile
		}
		if time.Now().Before(next) {
			continue
		}
		last = next
		fires, err := w.e.Ledger.Fire(ctx, w.feed.Name, next)
		if err == nil && fires && !w.paused.Load() {
			_, err = w.e.Ledger.QueueRun(ctx, w.feed.Name, "schedule", w.e.Name, ledger.Wanted{})
		}
		if err != nil && ctx.Err() == nil {
			w.e.Log.Error("a scheduled run could not be queued", "feed", w.feed.Name, "error", err)
		}
		w.poke()
	}
}
