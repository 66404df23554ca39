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

// Files are those that a rebuild wants.
type Files int

// The files of a rebuild.
const (
	AllFiles         Files = iota // where one is gone, nothing is done
	FilesThatAreLeft              // rows of those that are gone are lost
)

// Rebuild loads all arrivals of a feed that are in force afresh, in the order in
// which they were loaded, in one transaction: readers keep the old rows until it
// commits. A table that we made takes the shape that the feed wants now.
func (i *Inspector) Rebuild(ctx context.Context, name string, files Files, who, because string) (*Rebuilt, error) {
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
	r := &rebuild{i: i, feed: name, database: w.database, session: session,
		out: &Rebuilt{Feed: name, Missing: []int64{}}}
	if r.fitted, err = session.FitAnew(ctx, w.table); err != nil {
		return nil, conflictOfShape(err)
	}
	if r.recipe, err = load.NewRecipe(w.kind, w.version, r.fitted); err != nil {
		return nil, err
	}
	r.out.Table = r.fitted.String()
	if err := r.choose(ctx, files); err != nil {
		return nil, err
	}
	if err := r.load(ctx); err != nil {
		return nil, err
	}
	defer i.Changed()
	after := context.WithoutCancel(ctx)
	if err := i.Ledger.Rebuilt(after, r.afresh, who, because); err != nil {
		return nil, err
	}
	return r.out, i.Ledger.Recalled(after, r.out.Missing, nil, who, "left out of a rebuild by "+who+": "+because)
}

// rebuild is a rebuild that is under way.
type rebuild struct {
	i        *Inspector
	feed     string
	database *table.Database
	session  *table.Session
	fitted   *table.Fitted
	recipe   *load.Recipe
	loads    []table.LoadEntry // those in force
	afresh   []ledger.Afresh
	out      *Rebuilt
}

// choose finds the loads in force, and those of them whose files are gone.
func (r *rebuild) choose(ctx context.Context, files Files) error {
	others, err := r.database.OtherFeeds(ctx, r.fitted, r.feed)
	if err != nil {
		return err
	}
	if len(others) > 0 {
		return &ledger.ConflictError{Reason: fmt.Sprintf("%v end in %s too; a rebuild is for a table of one feed",
			others, r.fitted)}
	}
	if r.loads, err = r.database.InForce(ctx, r.fitted, r.feed); err != nil {
		return err
	}
	for _, l := range r.loads {
		err := r.i.WithFile(ctx, r.recipe, l.Arrival, func(*load.OpenFile) error { return nil })
		if err == nil {
			continue
		}
		why := load.NotToBeHad(err)
		if why == "" {
			return err
		}
		if files == AllFiles {
			return &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d, %s: %s; its rows would be lost. Do without it, if they may be", l.Arrival, l.Path, why)}
		}
		r.out.Missing = append(r.out.Missing, l.Arrival)
	}
	return nil
}

// load loads the files into the emptied table.
func (r *rebuild) load(ctx context.Context) error {
	into, err := r.session.Begin(ctx, r.fitted, 1)
	if err != nil {
		return err
	}
	defer into.Close(ctx)
	if err := into.LockUnfenced(ctx, r.feed); err != nil {
		return err
	}
	// What was loaded since the files were looked for would go and not come back.
	locked, err := r.database.InForce(ctx, r.fitted, r.feed)
	if err != nil {
		return err
	}
	if !slices.EqualFunc(r.loads, locked, func(a, b table.LoadEntry) bool { return a.Nth == b.Nth }) {
		return &ledger.ConflictError{Reason: fmt.Sprintf("%s was loaded or recalled meanwhile; rebuild it again",
			r.fitted)}
	}
	if err := into.EmptyOut(ctx); err != nil {
		return err
	}
	rejects := 0
	for _, l := range r.loads {
		if slices.Contains(r.out.Missing, l.Arrival) {
			continue
		}
		a, err := r.i.loadAfresh(ctx, r.recipe, into, l)
		if err != nil {
			return fmt.Errorf("arrival %d, %s: %w", l.Arrival, l.Path, err)
		}
		if rejects += len(a.Rejects); rejects > rejectsRebuilt {
			a.Rejects = nil
		}
		r.afresh = append(r.afresh, *a)
		r.out.Balance = r.out.Balance.Plus(a.Balance)
		r.out.Arrivals++
	}
	if err := into.Reshape(ctx); err != nil {
		return &ledger.ConflictError{Reason: err.Error()}
	}
	return into.Commit(ctx)
}

// loadAfresh loads one arrival within a rebuild.
func (i *Inspector) loadAfresh(ctx context.Context, recipe *load.Recipe, into *table.Load,
	of table.LoadEntry) (a *ledger.Afresh, err error) {
	err = i.WithFile(ctx, recipe, of.Arrival, func(f *load.OpenFile) error {
		rank, err := i.Rank(ctx, recipe.Feed, f.Arrival)
		if err != nil {
			return err
		}
		into.Rank(rank)
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
		a = &ledger.Afresh{ID: of.Arrival, Generation: of.Generation + 1, Balance: b,
			Rejects: load.Rejects(f.Rejects())}
		m := table.Marker{Feed: recipe.Feed.Name, Delivery: of.Delivery, Generation: a.Generation,
			Arrival: of.Arrival, SHA256: of.SHA256, Balance: b}
		if err := into.Mark(ctx, []table.Marker{m}); err != nil {
			return err
		}
		return into.Next(ctx)
	})
	return a, err
}
