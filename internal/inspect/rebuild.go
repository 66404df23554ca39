package inspect

import (
	"context"
	"fmt"
	"slices"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Rebuilding says what a rebuild would do.
type Rebuilding struct {
	Feed  string
	Table string
	There bool // the table; else it would be made
	table.Counted
	RowsAfter  int64 // as far as the balances of the loads tell
	Arrivals   int64 // that would be loaded afresh
	Missing    []Gone
	Superseded []int64 // arrivals whose files are gone, and that later versions of them took the place of
}

// Gone is an arrival whose file is not to be had any more.
type Gone struct {
	Arrival int64
	Path    string
	Why     string
}

// PlanRebuild says what a rebuild would do, and does nothing.
func (i *Inspector) PlanRebuild(ctx context.Context, name string) (*Rebuilding, error) {
	w, err := i.wanted(ctx, name, oneTable)
	if err != nil {
		return nil, err
	}
	found, err := w.database.Find(ctx, w.table)
	if err != nil {
		return nil, err
	}
	out := &Rebuilding{Feed: name, Table: found.String(), There: found.Exists(), Missing: []Gone{},
		Superseded: []int64{}}
	if !out.There {
		return out, nil
	}
	r := &rebuild{i: i, feed: name, database: w.database, fitted: found}
	if r.recipe, err = load.NewRecipe(w.kind, w.version, found); err != nil {
		return nil, err
	}
	if err := r.choose(ctx, &ledger.Rebuilding{WithoutMissing: true, WithoutOthers: true}); err != nil {
		return nil, err
	}
	out.Missing, out.Superseded = append(out.Missing, r.gone...), append(out.Superseded, r.superseded...)
	for _, l := range r.loads {
		if r.left(l) {
			out.Arrivals++
			out.RowsAfter += l.Balance.Inserted - l.Balance.Deleted - l.Balance.Removed
		}
	}
	out.Counted, err = w.database.Count(ctx, found, r.loads)
	return out, err
}

// oneTable refuses feeds that end in several tables.
func oneTable(f *feed.Feed) (*feed.Feed, error) {
	if f.HasKinds() {
		return nil, &ledger.ConflictError{Reason: f.Name + " ends in several tables; a rebuild is for a feed of one"}
	}
	return f, nil
}

// rejectsRebuilt bounds the rejects of a rebuild that are held in memory: those of
// later files stay as they were.
const rejectsRebuilt = 100_000

// Rebuild loads all arrivals of a feed that are in force afresh, in the order in
// which they were loaded, in one transaction: readers keep the old rows until it
// commits. A table that we made takes the shape that the feed wants now. It is the work
// of a run that says what to do without; where there is more, nothing is done.
func (i *Inspector) Rebuild(ctx context.Context, run *ledger.Run) error {
	name := run.Feed
	w, err := i.wanted(ctx, name, oneTable)
	if err != nil {
		return err
	}
	if err := w.database.Prepare(ctx); err != nil {
		return err
	}
	session, err := w.database.Session(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	r := &rebuild{i: i, feed: name, run: run.ID, database: w.database, session: session}
	if r.fitted, err = session.FitAnew(ctx, w.table); err != nil {
		return conflictOfShape(err)
	}
	if r.recipe, err = load.NewRecipe(w.kind, w.version, r.fitted); err != nil {
		return err
	}
	if err := r.choose(ctx, run.Wanted.Rebuild); err != nil {
		return err
	}
	if err := r.load(ctx); err != nil {
		return err
	}
	defer i.Changed()
	after, because := context.WithoutCancel(ctx), run.Wanted.Rebuild.Because
	if err := i.Ledger.Rebuilt(after, run.ID, r.afresh, run.By, because); err != nil {
		return err
	}
	left := slices.Clone(r.superseded)
	for _, g := range r.gone {
		left = append(left, g.Arrival)
	}
	return i.Ledger.Recalled(after, left, nil, run.By, "left out of a rebuild by "+run.By+": "+because)
}

// rebuild is a rebuild that is under way.
type rebuild struct {
	i        *Inspector
	feed     string
	run      int64
	database *table.Database
	session  *table.Session
	fitted   *table.Fitted
	recipe   *load.Recipe
	loads    []table.LoadEntry // those in force
	gone     []Gone            // of those
	afresh   []ledger.Afresh

	superseded []int64 // arrivals that are gone, and that later versions of their files took the place of
	work       *load.Going
}

// left reports whether the file of a load is left.
func (r *rebuild) left(l table.LoadEntry) bool {
	return !slices.Contains(r.superseded, l.Arrival) && !slices.ContainsFunc(r.gone,
		func(g Gone) bool { return g.Arrival == l.Arrival })
}

// choose finds the loads in force, and those of them whose files are gone.
func (r *rebuild) choose(ctx context.Context, without *ledger.Rebuilding) error {
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
	if !without.WithoutOthers {
		rows, err := r.database.Count(ctx, r.fitted, r.loads)
		if err != nil {
			return err
		}
		if rows.Others > 0 {
			return &ledger.ConflictError{Reason: fmt.Sprintf("%d rows of %s were brought by no arrival, and would be "+
				"lost (--without-others)", rows.Others, r.fitted)}
		}
	}
	for _, l := range r.loads {
		err := r.i.WithFile(ctx, r.recipe, l.Arrival, &load.Going{}, func(*load.OpenFile) error { return nil })
		if err == nil {
			continue
		}
		why := load.NotToBeHad(err)
		if why == "" {
			return err
		}
		if slices.ContainsFunc(r.loads, func(o table.LoadEntry) bool {
			return o.Path == l.Path && o.Nth > l.Nth &&
				o.Arrival != l.Arrival
		}) {
			r.superseded = append(r.superseded, l.Arrival)
			continue
		}
		if !without.WithoutMissing {
			return &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d, %s: %s; its rows would be lost "+
				"(--without-missing)", l.Arrival, l.Path, why)}
		}
		r.gone = append(r.gone, Gone{l.Arrival, l.Path, why})
	}
	return nil
}

// load loads the files into the emptied table.
func (r *rebuild) load(ctx context.Context) error {
	if err := r.begin(ctx); err != nil {
		return err
	}
	defer r.i.Progress.End(r.work)
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
		if !r.left(l) {
			continue
		}
		r.work.At(l.Path)
		r.work.Step(load.StepOpened)
		a, err := r.loadAfresh(ctx, into, l)
		if err != nil {
			return fmt.Errorf("arrival %d, %s: %w", l.Arrival, l.Path, err)
		}
		if rejects += len(a.Rejects); rejects > rejectsRebuilt {
			a.Rejects = nil
		}
		r.afresh = append(r.afresh, *a)
	}
	if err := into.Reshape(ctx); err != nil {
		return &ledger.ConflictError{Reason: err.Error()}
	}
	r.work.Step(load.StepMarked)
	return into.Commit(ctx)
}

// begin has the rebuild listed among what goes on.
func (r *rebuild) begin(ctx context.Context) error {
	what := load.Progress{Work: load.Rebuilding, Feed: r.feed, Run: r.run}
	var of []int64
	for _, l := range r.loads {
		if r.left(l) {
			of = append(of, l.Arrival)
		}
	}
	size, err := r.i.Ledger.SizeOf(ctx, of)
	if err != nil {
		return err
	}
	what.Files, what.Size = len(of), size
	r.work = r.i.Progress.Begin(what)
	return nil
}

// loadAfresh loads one arrival within a rebuild.
func (r *rebuild) loadAfresh(ctx context.Context, into *table.Load, of table.LoadEntry) (a *ledger.Afresh, err error) {
	recipe := r.recipe
	err = r.i.WithFile(ctx, recipe, of.Arrival, r.work, func(f *load.OpenFile) error {
		rank, err := r.i.Rank(ctx, recipe.Feed, f.Arrival)
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
		r.work.Step(load.StepStaged)
		counts, err := into.Merge(ctx, r.run, []table.Part{{File: f.From, Arrival: of.Arrival, Waived: true}})
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
