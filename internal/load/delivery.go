package load

import (
	"context"
	"errors"
	"fmt"

	"mullein/internal/core/balance"
	"mullein/internal/ledger"
)

// delivery loads all files of a delivery, or none, and brings its list and the
// copies among its files to where they belong.
func (l *Attempt) delivery(ctx context.Context, parts []*part, d Delivery) error {
	var files []*part
	var list *part
	var of []*ledger.Arrival
	for _, p := range parts {
		of = append(of, p.arrival)
		if d.List != nil && p.arrival.ID == d.List.ID {
			list = p
			continue
		}
		files = append(files, p)
	}
	if err := l.env.Ledger.Belong(ctx, of, d.Name); err != nil {
		return l.failed(ctx, parts, err)
	}
	left, err := l.files(ctx, files)
	for _, p := range open(l.copies) {
		err = errors.Join(err, l.after(ctx, p, p.original))
	}
	switch {
	case list == nil:
		return err
	case err != nil:
		return errors.Join(err, l.back(context.WithoutCancel(ctx), list, "its files could not be loaded"))
	case left != nil: // they wait for another attempt, or were refused
		return l.after(ctx, list, left)
	}
	var total balance.Balance
	for _, p := range files {
		total = total.Plus(p.balance)
	}
	reason := fmt.Sprintf("a list of %d files: %s", len(d.Digests), total)
	if d.Repeats != "" {
		reason += "; " + d.Repeats
	}
	return l.env.Ledger.Finish(ctx, ledger.Ending{ID: list.arrival.ID, State: ledger.Loaded,
		Away: AwayOf(l.recipe.Feed, ledger.Loaded), Reason: reason})
}

// files loads the files of a delivery. It returns one that was to be loaded and is
// not, nil where there is none.
func (l *Attempt) files(ctx context.Context, files []*part) (left *part, err error) {
	if len(files) == 0 {
		return nil, nil
	}
	if files, err = l.ready(ctx, files); err != nil || len(files) == 0 {
		return nil, err
	}
	for i, p := range files {
		p.n = i
	}
	l.n = len(files)
	if err := l.stream(ctx, files); err != nil {
		return nil, err
	}
	for _, p := range files {
		if !p.committed {
			return p, nil
		}
	}
	return nil, nil
}

// after brings a part that is not loaded itself, the list of a delivery or a
// copy, to where the file has come that it belongs to.
func (l *Attempt) after(ctx context.Context, p, first *part) error {
	ctx = context.WithoutCancel(ctx)
	p.ended = true
	if first.committed {
		return l.env.Ledger.Finish(ctx, l.skipCopy(p.arrival, first.arrival))
	}
	a, err := l.env.Ledger.Arrival(ctx, first.arrival.ID)
	if err != nil {
		return err
	}
	switch a.State {
	case ledger.Refused:
		return l.env.Ledger.Finish(ctx, ledger.Ending{ID: p.arrival.ID, State: ledger.Refused, Reason: a.Reason,
			Away: AwayOf(l.recipe.Feed, ledger.Refused)})
	case ledger.Failed:
		return l.env.Ledger.Failed(ctx, p.arrival.ID, a.Reason, a.TryAfter)
	}
	return l.back(ctx, p, "")
}
