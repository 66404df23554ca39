package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// kindState is what a worker has made ready for one kind of files: one table.
type kindState struct {
	feed     *feed.Feed // nil for the feed itself
	wider    *feed.Feed // the feed with the columns that files have beyond its schema; nil for none
	compiled *compiled
	table    *table.Table
	fitted   *table.Fitted
}

// kind is the feed of the kind of files at hand.
func (w *worker) kind() *feed.Feed {
	if w.now.feed != nil {
		return w.now.feed
	}
	return w.feed
}

// unfit forgets that targets fit.
func (w *worker) unfit() {
	w.now.fitted = nil
	for name, k := range w.kinds {
		k.fitted = nil
		w.kinds[name] = k
	}
}

// become makes the worker ready for a kind of files.
func (w *worker) become(f *feed.Feed) {
	if w.kinds == nil {
		w.kinds = map[string]kindState{}
	}
	if w.now.feed != nil {
		w.kinds[tableName(w.now.feed)] = w.now
	}
	state, known := w.kinds[tableName(f)]
	if !known {
		state = kindState{feed: f}
	}
	w.now = state
}

func tableName(f *feed.Feed) string { return f.Target.Schema + "." + f.Target.Table }

// ofOneKind leaves those of the next arrivals that end in the same table as the
// first of them, and makes the worker ready for it. Arrivals of no kind that the
// feed knows are refused.
func (w *worker) ofOneKind(ctx context.Context, n next) (out next, refused bool, err error) {
	if !w.feed.HasKinds() {
		return n, false, nil
	}
	var chosen *feed.Feed
	unknown, mixed := map[int64]error{}, false
	for _, a := range n.arrivals() {
		of, err := w.feed.Of(a.Captures)
		switch {
		case n.list != nil && a.ID == n.list.ID:
		case err != nil:
			unknown[a.ID] = err
		case chosen == nil:
			chosen = of
		case tableName(of) != tableName(chosen):
			mixed = true
		}
	}
	if mixed && n.name != "" {
		for _, a := range n.arrivals() {
			unknown[a.ID] = errors.New("its delivery has files of several kinds, which end in several tables; one delivery is for one table")
		}
	}
	for _, a := range n.arrivals() {
		if err := unknown[a.ID]; err != nil {
			if err := w.e.Ledger.Move(ctx, a.ID, []ledger.State{ledger.Ready, ledger.Failed}, ledger.Refused, map[string]any{"reason": err.Error(), "finished_at": time.Now().UTC()}); err != nil {
				return n, false, fmt.Errorf("refuse arrival %d: %w", a.ID, err)
			}
		}
	}
	n = n.without(func(a *ledger.Arrival) bool {
		of, err := w.feed.Of(a.Captures)
		return unknown[a.ID] != nil || chosen != nil && (n.list == nil || a.ID != n.list.ID) && (err != nil || tableName(of) != tableName(chosen))
	})
	if chosen == nil || w.now.feed != nil && tableName(w.now.feed) == tableName(chosen) {
		return n, len(unknown) > 0, nil
	}
	if err := w.settled(); err != nil { // what is on its way ends in another table
		return n, false, err
	}
	w.before = nil
	w.become(chosen)
	return n, len(unknown) > 0, nil
}
