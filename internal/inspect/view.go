package inspect

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Inspector looks at, and mends, what was loaded.
type Inspector struct {
	*load.Env
	Changed func() // called when feeds have something to do; never nil
}

// view is the present version of a feed, or of a kind of its files, with its target
// as it is.
type view struct {
	feed     *feed.Feed // as it was put
	recipe   *load.Recipe
	database *table.Database
}

// wanted is a view of which the target is not held against the feed yet.
type wanted struct {
	feed     *feed.Feed // as it was put
	kind     *feed.Feed
	version  int
	table    *table.Table
	database *table.Database
}

// Definition returns a feed's present version.
func (i *Inspector) Definition(ctx context.Context, name string) (*feed.Feed, int, error) {
	version, err := i.Ledger.Version(ctx, name, 0)
	if err != nil {
		return nil, 0, err
	}
	f, err := feed.Parse(name, []byte(version.Definition))
	return f, version.Version, err
}

func (i *Inspector) wanted(ctx context.Context, name string, of func(*feed.Feed) (*feed.Feed, error)) (*wanted, error) {
	f, version, err := i.Definition(ctx, name)
	if err != nil {
		return nil, err
	}
	w := &wanted{feed: f, version: version}
	if w.database, err = i.Database(f); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	if w.kind, err = of(f); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	w.table, err = load.Wanted(w.kind)
	return w, err
}

// view holds the target of a feed against it, and demands that it is there as the
// feed wants it.
func (i *Inspector) view(ctx context.Context, name string, of func(*feed.Feed) (*feed.Feed, error)) (*view, error) {
	w, err := i.wanted(ctx, name, of)
	if err != nil {
		return nil, err
	}
	fitted, changes, err := w.database.Look(ctx, w.table)
	if err != nil {
		return nil, conflictOfShape(err)
	}
	if !fitted.Exists() {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("the table %s is not there", w.table)}
	}
	if len(changes) > 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("the next load will change the table %s first: %s",
			w.table, strings.Join(changes, "; "))}
	}
	recipe, err := load.NewRecipe(w.kind, w.version, fitted)
	return &view{w.feed, recipe, w.database}, err
}

// ofArrival chooses the kind of files that an arrival is of.
func ofArrival(a *ledger.Arrival) func(*feed.Feed) (*feed.Feed, error) {
	return func(f *feed.Feed) (*feed.Feed, error) { return f.Of(a.Captures) }
}

func conflictOfShape(err error) error {
	var misfit *table.MisfitError
	if errors.As(err, &misfit) {
		return &ledger.ConflictError{Reason: misfit.Error()}
	}
	return err
}

func conflict(err error) error {
	var cannot *table.CannotError
	if errors.As(err, &cannot) {
		return &ledger.ConflictError{Reason: cannot.Reason}
	}
	return err
}
