package engine

import (
	"context"
	"time"

	"mullein/internal/core/feed"
)

// schedule queues a run at each time of the feed's cron, until ctx ends.
func (w *worker) schedule(ctx context.Context) {
	times, err := feed.ParseCron(w.feed.When.Cron)
	if err != nil {
		w.e.Log.Error("a schedule that was checked cannot be read", "feed", w.feed.Name, "error", err)
		return
	}
	for {
		next := times.Next(time.Now().In(w.feed.When.Zone))
		if next.IsZero() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(next)):
		}
		if w.paused.Load() {
			continue
		}
		if _, err := w.e.Ledger.QueueRun(ctx, w.feed.Name, "schedule", w.e.Name); err != nil {
			w.e.Log.Error("a scheduled run could not be queued", "feed", w.feed.Name, "error", err)
		}
		w.poke()
	}
}
