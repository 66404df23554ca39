package inspect

import (
	"context"
	"fmt"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// History returns what happened to a row of a feed's target.
func (i *Inspector) History(ctx context.Context, of *feed.Feed, key map[string]string) (*table.History, error) {
	v, err := i.view(ctx, of.Name, func(f *feed.Feed) (*feed.Feed, error) { return of, nil })
	if err != nil {
		return nil, err
	}
	fitted := v.recipe.Table
	if len(fitted.Key) == 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s has no key: its rows have no history", fitted)}
	}
	for _, k := range fitted.Key {
		if _, given := key[k]; !given {
			return nil, &ledger.ConflictError{Reason: fmt.Sprintf("the key of %s is (%s); %s is missing", fitted,
				strings.Join(fitted.Key, ", "), k)}
		}
	}
	history, err := v.database.History(ctx, fitted, key)
	if err != nil {
		return nil, conflict(err)
	}
	return history, i.tellHands(ctx, v, history)
}

// tellHands tells the changes by hand in a history that its loads can tell: those by the
// feed's present version, since the digests of earlier ones may be of other columns.
func (i *Inspector) tellHands(ctx context.Context, v *view, h *table.History) error {
	var arrivals []int64
	for _, s := range h.Steps {
		if s.Load != nil && s.Load.Feed == v.recipe.Feed.Name {
			arrivals = append(arrivals, s.Load.Arrival)
		}
	}
	known, err := i.Ledger.ByNumber(ctx, arrivals)
	if err != nil {
		return err
	}
	h.Hands(v.recipe.Table, v.recipe.Plan.Digested(), func(l *table.LoadEntry) bool {
		a, there := known[l.Arrival]
		return there && a.Version == v.recipe.Version
	})
	return nil
}

// Original returns the record of a file that stands at a line, as far as the file
// is still to be had.
func (i *Inspector) Original(ctx context.Context, arrival, line int64) (text, why string, err error) {
	a, err := i.Ledger.Arrival(ctx, arrival)
	if err != nil {
		return "", "", err
	}
	v, err := i.view(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return "", "", err
	}
	if len(v.feed.Private) > 0 {
		return "", "the feed has private columns; its records are not shown", nil
	}
	err = i.WithFile(ctx, v.recipe, arrival, &load.Going{}, func(f *load.OpenFile) error {
		shown, found, err := f.RowAt(line)
		if err == nil && !found {
			err = &ledger.ConflictError{Reason: "its file has no such line"}
		}
		text = shown
		return err
	})
	if err != nil {
		if why = load.NotToBeHad(err); why != "" {
			err = nil
		}
	}
	return text, why, err
}

// Loads returns the loads of an arrival, one for each generation, as its target has them.
func (i *Inspector) Loads(ctx context.Context, arrival int64) ([]table.LoadEntry, error) {
	a, err := i.Ledger.Arrival(ctx, arrival)
	if err != nil {
		return nil, err
	}
	f, _, err := i.Definition(ctx, a.Feed)
	if err != nil {
		return nil, err
	}
	database, err := i.Database(f)
	if err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	return database.LoadsOf(ctx, a.Feed, arrival)
}

// Verify holds the file of an arrival against the target.
func (i *Inspector) Verify(ctx context.Context, arrival int64) (*table.Verified, error) {
	a, err := i.Ledger.Arrival(ctx, arrival)
	if err != nil {
		return nil, err
	}
	v, err := i.view(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return nil, err
	}
	session, err := v.database.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	staging, err := session.Rehearse(ctx, v.recipe.Table, 1)
	if err != nil {
		return nil, err
	}
	defer staging.Close(ctx)
	work := i.Progress.Begin(load.Progress{Work: load.Verifying, Feed: a.Feed, Arrival: a.ID, Path: a.Path, Files: 1,
		Size: a.Size})
	defer i.Progress.End(work)
	var out *table.Verified
	err = i.WithFile(ctx, v.recipe, arrival, work, func(f *load.OpenFile) error {
		work.Step(load.StepOpened)
		if err := staging.Stage(ctx, f.Source(), f.Expected); err != nil {
			return err
		}
		work.Step(load.StepStaged)
		out, err = staging.Verify(ctx, arrival, recallSamples)
		return err
	})
	if err == nil {
		return out, nil
	}
	if why := load.NotToBeHad(err); why != "" {
		err = &ledger.ConflictError{Reason: why}
	}
	return nil, err
}
