package load

import (
	"context"
	"slices"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Rank returns the place of an arrival's rows in the order by which the newest row of a
// key wins, for [table.Load.Rank]. Mended rows have that of the arrival that they were
// rejected of.
func (e *Env) Rank(ctx context.Context, f *feed.Feed, a *ledger.Arrival) (int64, error) {
	if f.Target.Order == feed.OrderArrival || f.Target.Newest != "" {
		return table.Unranked, nil
	}
	if a.Mends != nil {
		of, err := e.Ledger.Arrival(ctx, *a.Mends)
		if err != nil {
			return 0, err
		}
		return e.Rank(ctx, f, &of)
	}
	switch {
	case f.Target.Order == feed.OrderModified:
		return a.Modified.UnixMicro(), nil
	case a.Slot != nil:
		return a.Slot.UnixMicro(), nil
	case a.SlotNumber != nil:
		return *a.SlotNumber, nil
	}
	return table.Unranked, nil
}

// rank tells a load the ranks of its parts.
func (l *Attempt) rank(ctx context.Context, load *table.Load, parts []*part) error {
	ranks := make([]int64, l.n)
	for n, p := range parts {
		rank, err := l.env.Rank(ctx, l.recipe.Feed, p.arrival)
		if err != nil {
			return err
		}
		if ranks[p.n] = rank; n == 0 { // of parts that are not of this group, too
			ranks = slices.Repeat([]int64{rank}, l.n)
		}
	}
	load.Rank(ranks...)
	return nil
}
