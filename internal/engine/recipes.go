package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// recipes are what a feed's loads were made ready with, by table, kept for a while.
// Its zero value is ready for use.
type recipes struct {
	mu      sync.Mutex
	of      *table.Database // they were made for
	byTable map[string]*load.Recipe
	wider   map[string]*feed.Feed // with the columns that files have beyond the schema
	used    time.Time
}

// recipesKept is how long recipes are kept that nobody uses.
const recipesKept = 3 * time.Second

func (r *recipes) find(in *table.Database, name string) (*load.Recipe, *feed.Feed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.used = time.Now()
	if r.of != in {
		r.of, r.byTable = in, map[string]*load.Recipe{}
	}
	return r.byTable[name], r.wider[name]
}

func (r *recipes) keep(name string, recipe *load.Recipe) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.byTable == nil {
		r.byTable = map[string]*load.Recipe{}
	}
	if r.wider == nil {
		r.wider = map[string]*feed.Feed{}
	}
	r.byTable[name], r.wider[name] = recipe, recipe.Feed
}

// drop forgets recipes: the tables may not be what they were. Columns that were
// learned from files stay known.
func (r *recipes) drop() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.byTable = nil
}

// dropIdle forgets recipes that were not used for a while.
func (r *recipes) dropIdle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.used) > recipesKept {
		r.byTable, r.wider = nil, nil
	}
}

func tableName(f *feed.Feed) string { return f.Target.Schema + "." + f.Target.Table }

// recipe returns the recipe for a delivery, all files of which end in one table.
func (r *running) recipe(ctx context.Context, d load.Delivery) (*load.Recipe, error) {
	kind := r.feed
	if r.feed.HasKinds() {
		for _, a := range d.Arrivals() {
			if d.List == nil || a.ID != d.List.ID {
				var err error
				if kind, err = r.feed.Of(a.Captures); err != nil {
					return nil, err
				}
				break
			}
		}
	}
	recipe, wider := r.recipes.find(r.session.Database(), tableName(kind))
	if wider == nil {
		wider = kind
	}
	f, err := r.e.LearnColumns(ctx, wider, d.Arrivals())
	if err != nil {
		return nil, err
	}
	if recipe != nil && f == recipe.Feed {
		return recipe, nil
	}
	if err := r.session.Wait(); err != nil { // what is on its way has the columns that it has
		return nil, err
	}
	wanted, err := load.Wanted(f)
	if err != nil {
		return nil, err
	}
	fitted, err := r.session.Database().Fit(ctx, wanted)
	if err != nil {
		return nil, err
	}
	if recipe, err = load.NewRecipe(f, r.version, fitted); err != nil {
		return nil, err
	}
	r.recipes.keep(tableName(kind), recipe)
	return recipe, nil
}

// ofOneKind leaves those of the next arrivals that end in the same table as the
// first of them. Arrivals of no kind that the feed knows are refused.
func (r *running) ofOneKind(ctx context.Context, d load.Delivery) (out load.Delivery, refused bool, err error) {
	if !r.feed.HasKinds() {
		return d, false, nil
	}
	var chosen *feed.Feed
	unknown, mixed := map[int64]error{}, false
	for _, a := range d.Arrivals() {
		of, err := r.feed.Of(a.Captures)
		switch {
		case d.List != nil && a.ID == d.List.ID:
		case err != nil:
			unknown[a.ID] = err
		case chosen == nil:
			chosen = of
		case tableName(of) != tableName(chosen):
			mixed = true
		}
	}
	if mixed && d.Name != "" {
		for _, a := range d.Arrivals() {
			unknown[a.ID] = errors.New("its delivery has files of several kinds, which end in several tables; one " +
				"delivery is for one table")
		}
	}
	for _, a := range d.Arrivals() {
		if why := unknown[a.ID]; why != nil {
			if err := r.e.Ledger.RefuseWaiting(ctx, a.ID, why.Error(), ledger.AwayNot); err != nil {
				return d, false, fmt.Errorf("refuse arrival %d: %w", a.ID, err)
			}
			r.e.NeedsPerson(a, ledger.Refused, why.Error())
		}
	}
	d = d.Without(func(a *ledger.Arrival) bool {
		of, err := r.feed.Of(a.Captures)
		return unknown[a.ID] != nil || chosen != nil && (d.List == nil || a.ID != d.List.ID) &&
			(err != nil || tableName(of) != tableName(chosen))
	})
	return d, len(unknown) > 0, nil
}
