package inspect

import (
	"context"
	"fmt"
	"time"

	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// Recalled says what a recall does, or would do.
type Recalled struct {
	Feed     string
	Table    string
	Key      []string // the columns of its key
	Preview  bool     // nothing was done
	Arrivals []int64  // whose loads are taken out
	Back     []int64  // whose loads are put back
	Outcome  *table.Outcome
	Later    []load.Reread // loads since then that may have left rows alone because of them
}

const recallSamples = 10

// Recall takes the load of an arrival out of its target, and those of the
// arrivals that were loaded as one delivery with it. With back, it puts back
// what was recalled; with preview, it only says what would become of the rows.
func (i *Inspector) Recall(ctx context.Context, id int64, back, preview bool, who, because string) (*Recalled, error) {
	a, err := i.Ledger.Arrival(ctx, id)
	if err != nil {
		return nil, err
	}
	from, to := ledger.Loaded, ledger.Recalled
	if back {
		from, to = to, from
	}
	if a.State != from {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d is %s; only one that is %s can be %s", a.ID, a.State, from, map[bool]string{false: "recalled", true: "put back"}[back])}
	}
	of, err := i.Ledger.OfDelivery(ctx, &a, from)
	if err != nil {
		return nil, err
	}
	v, err := i.view(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return nil, err
	}
	fitted := v.recipe.Table
	session, err := v.database.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	fence := int64(table.AnyFence)
	if preview {
		fence = 0
	}
	recall, err := session.BeginRecall(ctx, fitted, a.Feed, fence, of, back)
	if err != nil {
		return nil, conflict(err)
	}
	defer recall.Close(ctx)
	out := &Recalled{Feed: a.Feed, Table: fitted.String(), Key: append([]string{}, fitted.Key...), Preview: preview, Arrivals: []int64{}, Back: []int64{}}
	later, err := recall.Later(ctx)
	if err != nil {
		return nil, err
	}
	if out.Later, err = i.Reread(ctx, v.recipe, recall.Load, later); err != nil {
		return nil, err
	}
	if out.Outcome, err = recall.Outcome(ctx, recallSamples); err != nil {
		return nil, err
	}
	if out.Arrivals, out.Back, err = recall.Arrivals(ctx); err != nil || preview {
		return out, err
	}
	if err := recall.Commit(ctx, a.Feed, who, because); err != nil {
		return nil, err
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	said := fmt.Sprintf("%s by %s: %s", map[ledger.State]string{ledger.Recalled: "recalled", ledger.Loaded: "put back"}[to], who, because)
	return out, i.Ledger.Recalled(after, out.Arrivals, out.Back, who, said)
}
