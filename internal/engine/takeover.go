package engine

import (
	"context"
	"errors"
	"fmt"

	"mullein/internal/core/fate"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// leftAtOnce is how many arrivals are looked at together that were left behind.
const leftAtOnce = 1000

// takeOver brings the ledger in line with the target's markers for arrivals
// that were being loaded when whoever had the feed before went away.
func (w *leased) takeOver(ctx context.Context) error {
	session, err := w.open(ctx) // whoever had it cannot commit any more
	if err != nil {
		return err
	}
	defer session.Close()
	database, err := w.e.Database(w.feed)
	if err != nil {
		return err
	}
	for after := int64(0); ; {
		left, err := w.e.Ledger.InStates(ctx, w.name, after, leftAtOnce, ledger.Loading)
		if err != nil {
			return err
		}
		for i := range left {
			a := &left[i]
			after = a.ID
			m, err := database.MarkerOf(ctx, w.name, a.ID)
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
	if err := w.takeOverRuns(ctx); err != nil {
		return err
	}
	w.left.Store(false)
	return nil
}

// takeOverRuns ends runs that were left running. Those that are narrowed go on where
// they were, since nothing is loaded twice. A rebuild did nothing, or all.
func (w *leased) takeOverRuns(ctx context.Context) error {
	runs, err := w.e.Ledger.OpenRuns(ctx, w.name)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if !run.Wanted.IsZero() && run.Wanted.Rebuild == nil {
			if err := w.e.Ledger.Requeue(ctx, run.ID); err != nil {
				return err
			}
		}
		if run.Wanted.Rebuild != nil { // it may have ended just after its commit
			if err := w.e.inspect.MendFromMarkers(ctx, w.name); err != nil {
				return err
			}
		}
		if err := w.e.Ledger.FinishRun(ctx, run.ID, ledger.RunFailed,
			"the service ended during the run; what it left is worked on in the next"); err != nil {
			return err
		}
	}
	return nil
}

// takeOverOne says what becomes of an arrival that was left loading: it is loaded
// when its marker says so, and else tried again, unless it may be what ends services.
func (w *leased) takeOverOne(ctx context.Context, a *ledger.Arrival, m *table.Marker) error {
	if m != nil && m.Generation >= a.Generation {
		return w.e.FinishFromMarker(ctx, w.feed, a, m)
	}
	f, attempts := fate.AfterCrash(a.OpenedAt != nil && a.StagedAt == nil, a.Attempts)
	if f.Outcome == fate.Hold {
		return w.e.Ledger.Finish(ctx, ledger.Ending{ID: a.ID, State: ledger.Held, Balance: a.Balance,
			Reason: fmt.Sprintf("the service ended %d times while it read this file; have the file looked at",
				a.Attempts)})
	}
	return w.e.Ledger.LeftBehind(ctx, a.ID, attempts)
}
