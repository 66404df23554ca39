package engine

import (
	"context"
	"slices"
	"time"

	"mullein/internal/ledger"
)

const (
	eventsAtOnce = 1000
	// eventsGathered is how long events are gathered, so that many are read together.
	eventsGathered = 20 * time.Millisecond
)

// follow hears what other services and callers did, and wakes who it concerns.
func (e *Engine) follow(ctx context.Context) {
	news := make(chan struct{}, 1)
	e.Ledger.HearNudges(e.hearNudges)
	go e.Ledger.Follow(ctx, func() { poke(news) })
	last, known := int64(0), false
	for {
		select {
		case <-ctx.Done():
			return
		case <-news:
		}
		for ctx.Err() == nil {
			var events []ledger.Event
			var err error
			if known {
				events, err = e.Ledger.EventsAfter(ctx, last, eventsAtOnce)
			} else if last, err = e.Ledger.LastEvent(ctx); err == nil {
				known = true
			}
			if err != nil {
				break // there is news again when the database is back
			}
			if len(events) > 0 {
				last = events[len(events)-1].ID
				e.hear(events)
			}
			if len(events) < eventsAtOnce {
				break
			}
		}
		wait(ctx, eventsGathered)
	}
}

// hear wakes whom events concern.
func (e *Engine) hear(events []ledger.Event) {
	asked, touched, loaded := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, event := range events {
		switch event.Kind {
		case "feed":
			switch event.State {
			case "problem", "waits":
			case ledger.WorkWanted:
				asked[event.Feed] = true
			default:
				e.mu.Lock()
				e.stale[event.Feed] = true
				e.mu.Unlock()
				e.Changed()
			}
		case "load":
			loaded[event.Feed] = true
		case "arrival":
			touched[event.Feed] = true
		case "slot":
			touched[event.Feed] = true
		case "run":
			switch event.State {
			case string(ledger.RunQueued):
				asked[event.Feed] = true
			case ledger.Cancelling:
				if w := e.held(event.Feed); w != nil && w.running.Load() == event.Run {
					go w.checkCancel()
				}
			}
		}
	}
	for name := range touched {
		e.calendar.Touch(name)
	}
	if len(loaded) > 0 {
		e.Touched()
		e.askFollowers(loaded, asked)
	}
	for name := range asked {
		e.wake(name)
	}
}

// askFollowers adds the feeds that come after some that have loaded something.
func (e *Engine) askFollowers(loaded, asked map[string]bool) {
	any := func(name string) bool { return loaded[name] }
	for _, w := range e.leased() {
		if w.feed != nil && (slices.ContainsFunc(w.feed.When.AfterAll, any) ||
			slices.ContainsFunc(w.feed.When.AfterAny, any)) {
			asked[w.name] = true
		}
	}
}
