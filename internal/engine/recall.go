package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Recalled says what a recall does, or would do.
type Recalled struct {
	Feed     string         `json:"feed"`
	Table    string         `json:"table"`
	Key      []string       `json:"key" nullable:"false" doc:"The columns of its key"`
	Preview  bool           `json:"preview" doc:"Nothing was done"`
	Arrivals []int64        `json:"arrivals" nullable:"false" doc:"Whose loads are taken out"`
	Back     []int64        `json:"back" nullable:"false" doc:"Whose loads are put back"`
	Outcome  *table.Outcome `json:"outcome"`
	Later    []Reread       `json:"later" nullable:"false" doc:"Loads since then that may have left rows alone because of them"`
}

// Reread is a later load whose file is held against the keys of a recall.
type Reread struct {
	table.LoadEntry
	Rows int64  `json:"rows" doc:"Of its file that have one of the keys, or that lack in it"`
	Why  string `json:"why" doc:"Why its file could not be read again; what it left alone stays as it is"`
}

const (
	recallSamples = 10
	mostReread    = 1000 // files
)

// Recall takes the load of an arrival out of its target, and those of the
// arrivals that were loaded as one delivery with it. With back, it puts back
// what was recalled; with preview, it only says what would become of the rows.
func (e *Engine) Recall(ctx context.Context, id int64, back, preview bool, who, because string) (*Recalled, error) {
	a, err := e.Ledger.Arrival(ctx, id)
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
	of, err := e.Ledger.OfDelivery(ctx, &a, from)
	if err != nil {
		return nil, err
	}
	w, fitted, err := e.desk(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return nil, err
	}
	session, err := w.target.Session(ctx)
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
	if out.Later, err = w.reread(ctx, recall.Load, later); err != nil {
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
	return out, e.Ledger.Recalled(after, out.Arrivals, out.Back, who, said)
}

func conflict(err error) error {
	var cannot *table.CannotError
	if errors.As(err, &cannot) {
		return &ledger.ConflictError{Reason: cannot.Reason}
	}
	return err
}

// desk is a worker that watches nothing, for work on a feed's target and files
// that is not a run, and the target as it is.
func (e *Engine) desk(ctx context.Context, name string, of func(*feed.Feed) (*feed.Feed, error)) (*worker, *table.Fitted, error) {
	w, shape, err := e.deskOf(ctx, name, of)
	if err != nil {
		return nil, nil, err
	}
	fitted, changes, err := w.target.Look(ctx, shape)
	if err != nil {
		return nil, nil, conflictOfShape(err)
	}
	if !fitted.Exists() {
		return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("the table %s is not there", shape)}
	}
	if len(changes) > 0 {
		return nil, nil, &ledger.ConflictError{Reason: fmt.Sprintf("the next load will change the table %s first: %s", shape, strings.Join(changes, "; "))}
	}
	return w, fitted, nil
}

// deskOf is desk with the target as the feed wants it.
func (e *Engine) deskOf(ctx context.Context, name string, of func(*feed.Feed) (*feed.Feed, error)) (*worker, *table.Table, error) {
	version, err := e.Ledger.Version(ctx, name, 0)
	if err != nil {
		return nil, nil, err
	}
	f, err := feed.Parse(name, []byte(version.Definition))
	if err != nil {
		return nil, nil, err
	}
	database, err := e.TargetOf(f)
	if err != nil {
		return nil, nil, &ledger.ConflictError{Reason: err.Error()}
	}
	kind, err := of(f)
	if err != nil {
		return nil, nil, &ledger.ConflictError{Reason: err.Error()}
	}
	w := &worker{e: e, feed: f, version: version.Version, target: database}
	w.become(kind)
	shape, err := Table(kind)
	return w, shape, err
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

// reread holds the files of later loads against the keys of a recall, as far as
// they are still to be had.
func (w *worker) reread(ctx context.Context, load *table.Load, later []table.LoadEntry) ([]Reread, error) {
	out := []Reread{}
	for i, of := range later {
		r := Reread{LoadEntry: of}
		if i >= mostReread {
			r.Why = fmt.Sprintf("more than %d files; redo it to be sure", mostReread)
			out = append(out, r)
			continue
		}
		n, err := w.rereadOne(ctx, load, of)
		if err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			if r.Why = notToBeHad(err); r.Why == "" {
				return nil, err
			}
		}
		r.Rows = n
		out = append(out, r)
	}
	return out, nil
}

// notToBeHad says why a file cannot be read again; "" when that is another's
// fault.
func notToBeHad(err error) string {
	var file *decode.FileError
	var conflict *ledger.ConflictError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "its file is gone"
	case errors.Is(err, errChanged):
		return "its file is another by now"
	case errors.As(err, &file):
		return file.Error()
	case errors.As(err, &conflict):
		return conflict.Reason
	}
	return ""
}

func (w *worker) rereadOne(ctx context.Context, load *table.Load, of table.LoadEntry) (n int64, err error) {
	if of.Feed != w.feed.Name {
		return 0, &ledger.ConflictError{Reason: "it is of the feed " + of.Feed + "; redo it to be sure"}
	}
	err = w.withFile(ctx, of.Arrival, func(p *part) error {
		n, err = load.Reread(ctx, of, p.reading, expectedRows(p.file.Entry.Path, p.file.Entry.Size))
		return err
	})
	return n, err
}

// withFile opens the file of an arrival, as it was noticed, and begins to read
// it.
func (w *worker) withFile(ctx context.Context, id int64, do func(*part) error) error {
	a, err := w.e.Ledger.Arrival(ctx, id)
	if err != nil {
		return err
	}
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return err
	}
	defer folder.Close()
	a.Forced = true // markers do not matter any more
	p := &part{arrival: &a}
	run := &ledger.Run{Feed: w.feed.Name}
	if a.RunID != nil {
		if *run, err = w.e.Ledger.Run(ctx, *a.RunID); err != nil && !errors.Is(err, ledger.ErrNotFound) {
			return err
		}
	}
	if err := (&loading{w: w, folder: folder}).open(ctx, p); err != nil {
		return err
	}
	defer p.file.Close()
	p.reading = newReading(w, &progress{}, run, &a, a.SHA256)
	if err := p.reading.begin(p.file.Entry, p.file, p.rewound); err != nil {
		return err
	}
	return do(p)
}

// replacing finds out, before rows are staged, what the arrivals that parts
// replace may have kept later loads from writing.
func (l *loading) replacing(ctx context.Context, load *table.Load, parts []*part) error {
	var all []int64
	for _, p := range parts {
		all = append(all, p.replaces...)
	}
	later, err := load.Replacing(ctx, all)
	if err != nil || len(later) == 0 {
		return err
	}
	later = slices.DeleteFunc(later, func(e table.LoadEntry) bool {
		return slices.ContainsFunc(parts, func(p *part) bool { return p.arrival.ID == e.Arrival })
	})
	again, err := l.w.reread(ctx, load, later)
	for _, r := range again {
		if r.Why != "" {
			l.w.e.Log.Warn("a later load may have left rows alone because of what is replaced, and its file cannot be read again", "feed", l.w.feed.Name, "arrival", r.Arrival, "why", r.Why)
		}
	}
	return err
}

// History tells what happened to a row of a feed's target.
func (e *Engine) History(ctx context.Context, of *feed.Feed, key map[string]string) (*table.History, error) {
	w, fitted, err := e.desk(ctx, of.Name, func(f *feed.Feed) (*feed.Feed, error) { return of, nil })
	if err != nil {
		return nil, err
	}
	if len(fitted.Key) == 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s has no key: its rows have no history", fitted)}
	}
	for _, k := range fitted.Key {
		if _, given := key[k]; !given {
			return nil, &ledger.ConflictError{Reason: fmt.Sprintf("the key of %s is (%s); %s is missing", fitted, strings.Join(fitted.Key, ", "), k)}
		}
	}
	return w.target.History(ctx, fitted, key)
}

// Original returns the record of a file that stands at a line, as far as the file
// is still to be had.
func (e *Engine) Original(ctx context.Context, arrival, line int64) (text, why string, err error) {
	a, err := e.Ledger.Arrival(ctx, arrival)
	if err != nil {
		return "", "", err
	}
	w, _, err := e.desk(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return "", "", err
	}
	if len(w.feed.Private) > 0 {
		return "", "the feed has private columns; its records are not shown", nil
	}
	err = w.withFile(ctx, arrival, func(p *part) error {
		for {
			rec, err := p.reading.next()
			if err == io.EOF {
				return &ledger.ConflictError{Reason: "its file has no such line"}
			}
			if err != nil {
				return err
			}
			if rec.Line == line {
				var shown ledger.Reject
				p.reading.show(rec, &shown)
				text = shown.Original
				return nil
			}
		}
	})
	if err != nil {
		if why = notToBeHad(err); why != "" {
			err = nil
		}
	}
	return text, why, err
}

// Verify holds the file of an arrival against the target.
func (e *Engine) Verify(ctx context.Context, arrival int64) (*table.Verified, error) {
	a, err := e.Ledger.Arrival(ctx, arrival)
	if err != nil {
		return nil, err
	}
	w, fitted, err := e.desk(ctx, a.Feed, ofArrival(&a))
	if err != nil {
		return nil, err
	}
	session, err := w.target.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	load, err := session.Rehearse(ctx, fitted, 1)
	if err != nil {
		return nil, err
	}
	defer load.Close(ctx)
	var v *table.Verified
	err = w.withFile(ctx, arrival, func(p *part) error {
		if err := load.Stage(ctx, p.reading, expectedRows(p.file.Entry.Path, p.file.Entry.Size)); err != nil {
			return err
		}
		v, err = load.Verify(ctx, arrival, recallSamples)
		return err
	})
	if err == nil {
		return v, nil
	}
	if why := notToBeHad(err); why != "" {
		err = &ledger.ConflictError{Reason: why}
	}
	return nil, err
}
