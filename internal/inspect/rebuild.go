package inspect

import (
	"context"
	"fmt"
	"slices"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Rebuilt says what a rebuild did.
type Rebuilt struct {
	Feed     string
	Table    string
	Arrivals int64           // that were loaded afresh
	Missing  []int64         // arrivals whose files are not to be had any more
	Balance  balance.Balance // the sum of the loads
}

// rejectsRebuilt bounds the rejects of a rebuild that are held in memory: those of
// later files stay as they were.
const rejectsRebuilt = 100_000

// Rebuild loads all arrivals of a feed that are in force afresh, in the order in
// which they were loaded, in one transaction: readers keep the old rows until it
// commits. A table that we made takes the shape that the feed wants now. Where a
// file is gone, it does nothing, unless the caller can do without.
func (i *Inspector) Rebuild(ctx context.Context, name string, without bool, who, because string) (*Rebuilt, error) {
	w, err := i.wanted(ctx, name, func(f *feed.Feed) (*feed.Feed, error) {
		if f.HasKinds() {
			return nil, fmt.Errorf("%s ends in several tables; a rebuild is for a feed of one", f.Name)
		}
		return f, nil
	})
	if err != nil {
		return nil, err
	}
	if err := w.database.Prepare(ctx); err != nil {
		return nil, err
	}
	session, err := w.database.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	fitted, err := session.FitAnew(ctx, w.table)
	if err != nil {
		return nil, conflictOfShape(err)
	}
	recipe, err := load.NewRecipe(w.kind, w.version, fitted)
	if err != nil {
		return nil, err
	}
	others, err := w.database.OtherFeeds(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	if len(others) > 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%v end in %s too; a rebuild is for a table of one feed", others, fitted)}
	}
	loads, err := w.database.InForce(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	out := &Rebuilt{Feed: name, Table: fitted.String(), Missing: []int64{}}
	for _, l := range loads {
		err := i.WithFile(ctx, recipe, l.Arrival, func(*load.OpenFile) error { return nil })
		if err == nil {
			continue
		}
		why := load.NotToBeHad(err)
		if why == "" {
			return nil, err
		}
		if !without {
			return nil, &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d, %s: %s; its rows would be lost. Do without it, if they may be", l.Arrival, l.Path, why)}
		}
		out.Missing = append(out.Missing, l.Arrival)
	}
	rebuilt, err := session.Begin(ctx, fitted, 1)
	if err != nil {
		return nil, err
	}
	defer rebuilt.Close(ctx)
	if err := rebuilt.Lock(ctx, name, table.AnyFence); err != nil {
		return nil, err
	}
	// What was loaded since the files were looked for would go and not come back.
	locked, err := w.database.InForce(ctx, fitted, name)
	if err != nil {
		return nil, err
	}
	if !slices.EqualFunc(loads, locked, func(a, b table.LoadEntry) bool { return a.Nth == b.Nth }) {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s was loaded or recalled meanwhile; rebuild it again", fitted)}
	}
	if err := rebuilt.EmptyOut(ctx); err != nil {
		return nil, err
	}
	var afresh []ledger.Afresh
	rejects := 0
	for _, l := range loads {
		a, err := i.loadAfresh(ctx, recipe, rebuilt, l)
		if load.NotToBeHad(err) != "" && without {
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
	if err := rebuilt.Reshape(ctx); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	if err := rebuilt.Commit(ctx); err != nil {
		return nil, err
	}
	defer i.Changed()
	after := context.WithoutCancel(ctx)
	if err := i.Ledger.Rebuilt(after, afresh, who, because); err != nil {
		return nil, err
	}
	return out, i.Ledger.Recalled(after, out.Missing, nil, who, "left out of a rebuild by "+who+": "+because)
}

// loadAfresh loads one arrival within a rebuild.
func (i *Inspector) loadAfresh(ctx context.Context, recipe *load.Recipe, into *table.Load, of table.LoadEntry) (a *ledger.Afresh, err error) {
	err = i.WithFile(ctx, recipe, of.Arrival, func(f *load.OpenFile) error {
		if err := into.Stage(ctx, f.Source(), f.Expected); err != nil {
			return err
		}
		if err := f.Finish(); err != nil {
			return err
		}
		counts, err := into.Merge(ctx, of.Run, []table.Part{{File: f.From, Arrival: of.Arrival, Waived: true}})
		if err != nil {
			return err
		}
		b := load.Complete(counts[0], f.Counts())
		if err := b.Err(); err != nil {
			return err
		}
		a = &ledger.Afresh{ID: of.Arrival, Generation: of.Generation + 1, Balance: b, Rejects: load.Rejects(f.Rejects())}
		m := table.Marker{Feed: recipe.Feed.Name, Delivery: of.Delivery, Generation: a.Generation, Arrival: of.Arrival, SHA256: of.SHA256, Balance: b}
		if err := into.Mark(ctx, []table.Marker{m}); err != nil {
			return err
		}
		return into.Next(ctx)
	})
	return a, err
}
