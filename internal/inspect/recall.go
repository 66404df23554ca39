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

// Recall takes the load of an arrival out of its target, or puts it back, and those
// of the arrivals that were loaded as one delivery with it.
func (i *Inspector) Recall(ctx context.Context, id int64, aim table.Aim, who, because string) (*Recalled, error) {
	r, err := i.recalling(ctx, id, aim, load.Recalling, (*table.Session).BeginRecall)
	if err != nil {
		return nil, err
	}
	defer r.close(ctx)
	if err := r.recall.Commit(ctx, r.out.Feed, who, because); err != nil {
		return nil, conflict(err)
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	done := map[table.Aim]string{table.TakeOut: "recalled", table.PutBack: "put back"}[aim]
	return r.out, i.Ledger.Recalled(after, r.out.Arrivals, r.out.Back, who,
		fmt.Sprintf("%s by %s: %s", done, who, because))
}

// PreviewRecall says what would become of the rows of a recall.
func (i *Inspector) PreviewRecall(ctx context.Context, id int64, aim table.Aim) (*Recalled, error) {
	r, err := i.recalling(ctx, id, aim, load.Previewing, (*table.Session).PreviewRecall)
	if err != nil {
		return nil, err
	}
	r.close(ctx)
	r.out.Preview = true
	return r.out, nil
}

// recalling is a recall that is worked out, and not committed yet.
type recalling struct {
	session *table.Session
	recall  *table.Recall
	out     *Recalled
	over    func() // it is not listed any more among what goes on
}

func (r *recalling) close(ctx context.Context) {
	defer r.over()
	if r.recall != nil {
		r.recall.Close(ctx)
	}
	r.session.Close()
}

// recalling works a recall out, up to its commit.
func (i *Inspector) recalling(ctx context.Context, id int64, aim table.Aim, what load.Work,
	begin func(*table.Session, context.Context, *table.Fitted, string, table.Aim, []int64) (*table.Recall,
		error)) (_ *recalling, err error) {
	a, err := i.Ledger.Arrival(ctx, id)
	if err != nil {
		return nil, err
	}
	of, err := i.recallable(ctx, &a, aim)
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
	work := i.Progress.Begin(load.Progress{Work: what, Feed: a.Feed, Arrival: a.ID, Path: a.Path, Files: len(of)})
	r := &recalling{session: session, over: func() { i.Progress.End(work) }}
	defer func() {
		if err != nil {
			r.close(ctx)
		}
	}()
	fitted := v.recipe.Table
	if r.recall, err = begin(session, ctx, fitted, a.Feed, aim, of); err != nil {
		return nil, conflict(err)
	}
	r.out = &Recalled{Feed: a.Feed, Table: fitted.String(), Key: append([]string{}, fitted.Key...),
		Arrivals: []int64{}, Back: []int64{}}
	work.Step(load.StepListed)
	later, err := r.recall.Later(ctx)
	if err != nil {
		return nil, err
	}
	if r.out.Later, err = i.Reread(ctx, v.recipe, r.recall.Load, later, work); err != nil {
		return nil, err
	}
	work.Step(load.StepReread)
	if r.out.Outcome, err = r.recall.Outcome(ctx, recallSamples); err != nil {
		return nil, err
	}
	work.Step(load.StepCompared)
	r.out.Arrivals, r.out.Back, err = r.recall.Arrivals(ctx)
	return r, err
}

// recallable returns the arrivals that are recalled with one, or put back.
func (i *Inspector) recallable(ctx context.Context, a *ledger.Arrival, aim table.Aim) ([]int64, error) {
	from, done := ledger.Loaded, "recalled"
	if aim == table.PutBack {
		from, done = ledger.Recalled, "put back"
	}
	if a.State != from {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("arrival %d is %s; only one that is %s can be %s", a.ID,
			a.State, from, done)}
	}
	return i.Ledger.OfDelivery(ctx, a, from)
}
