package engine

import (
	"context"
	"fmt"
	"slices"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Rebuilt says what a rebuild did.
type Rebuilt struct {
	Feed     string          `json:"feed"`
	Table    string          `json:"table"`
	Arrivals int64           `json:"arrivals" doc:"That were loaded afresh"`
	Missing  []int64         `json:"missing" nullable:"false" doc:"Arrivals whose files are not to be had any more"`
	Balance  balance.Balance `json:"balance" doc:"The sum of the loads"`
}

// rejectsRebuilt bounds the rejects of a rebuild that are held in memory: those of
// later files stay as they were.
const rejectsRebuilt = 100_000

// Rebuild loads all arrivals of a feed that are in force afresh, in the order in
// which they were loaded, in one transaction: readers keep the old rows until it
// commits. A table that we made takes the shape that the feed wants now. Where a
// file is gone, it does nothing, unless the caller can do without.
func (e *Engine) Rebuild(ctx context.Context, name string, without bool, who, because string) (*Rebuilt, error) {
	w, shape, err := e.deskOf(ctx, name, func(f *feed.Feed) (*feed.Feed, error) {
		if f.HasKinds() {
			return nil, fmt.Errorf("%s ends in several tables; a rebuild is for a feed of one", f.Name)
		}
		return f, nil
	})
	if err != nil {
		return nil, err
	}
	if err := w.target.Prepare(ctx); err != nil {
		return nil, err
	}
	session, err := w.target.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	fitted, err := session.FitAnew(ctx, shape)
	if err != nil {
		return nil, conflictOfShape(err)
	}
	others, err := w.target.OtherFeeds(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	if len(others) > 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%v end in %s too; a rebuild is for a table of one feed", others, fitted)}
	}
	loads, err := w.target.InForce(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	out := &Rebuilt{Feed: name, Table: fitted.String(), Missing: []int64{}}
	for _, l := range loads {
		err := w.withFile(ctx, l.Arrival, func(*part) error { return nil })
		if err == nil {
			continue
		}
		why := notToBeHad(err)
		if why == "" {
			return nil, err
		}
		if !without {
			return nil, &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d, %s: %s; its rows would be lost. Do without it, if they may be", l.Arrival, l.Path, why)}
		}
		out.Missing = append(out.Missing, l.Arrival)
	}
	load, err := session.Begin(ctx, fitted, 1)
	if err != nil {
		return nil, err
	}
	defer load.Close(ctx)
	if err := load.Lock(ctx, name, table.AnyFence); err != nil {
		return nil, err
	}
	// What was loaded since the files were looked for would go and not come back.
	locked, err := w.target.InForce(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	if !slices.EqualFunc(loads, locked, func(a, b table.LoadEntry) bool { return a.Nth == b.Nth }) {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s was loaded or recalled meanwhile; rebuild it again", fitted)}
	}
	if err := load.EmptyOut(ctx); err != nil {
		return nil, err
	}
	var afresh []ledger.Afresh
	rejects := 0
	for _, l := range loads {
		a, err := w.again(ctx, load, l)
		if notToBeHad(err) != "" && without {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("arrival %d, %s: %w", l.Arrival, l.Path, err)
		}
		if rejects += len(a.Rejects); rejects > rejectsRebuilt {
			a.Rejects = nil
		}
		afresh = append(afresh, *a)
		out.Balance = out.Balance.Plus(a.Balance)
		out.Arrivals++
	}
	if err := load.Reshape(ctx); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	if err := load.Commit(ctx); err != nil {
		return nil, err
	}
	defer e.Changed()
	after := context.WithoutCancel(ctx)
	if err := e.Ledger.Rebuilt(after, afresh, who, because); err != nil {
		return nil, err
	}
	return out, e.Ledger.Recalled(after, out.Missing, nil, who, "left out of a rebuild by "+who+": "+because)
}

// again loads one arrival within a rebuild.
func (w *worker) again(ctx context.Context, load *table.Load, of table.LoadEntry) (a *ledger.Afresh, err error) {
	err = w.withFile(ctx, of.Arrival, func(p *part) error {
		if err := load.Stage(ctx, p.reading, expectedRows(p.file.Entry.Path, p.file.Entry.Size)); err != nil {
			return err
		}
		if err := p.reading.finish(); err != nil {
			return err
		}
		counts, err := load.Merge(ctx, of.Run, []table.Part{{File: p.from(), Arrival: of.Arrival, Waived: true}})
		if err != nil {
			return err
		}
		b := counts[0]
		b.Read, b.Rejected, b.LeftOut = p.reading.read, p.reading.rejected, p.reading.leftOut
		if err := b.Err(); err != nil {
			return err
		}
		a = &ledger.Afresh{ID: of.Arrival, Generation: of.Generation + 1, Balance: b, Rejects: append([]ledger.Reject{}, p.reading.rejects...)}
		m := table.Marker{Feed: w.feed.Name, Delivery: of.Delivery, Generation: a.Generation, Arrival: of.Arrival, SHA256: of.SHA256, Balance: b}
		if err := load.Mark(ctx, []table.Marker{m}); err != nil {
			return err
		}
		return load.Next(ctx)
	})
	return a, err
}
