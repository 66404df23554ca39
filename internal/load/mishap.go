package load

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/decode"
	"mullein/internal/core/fate"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
	"mullein/internal/trace"
)

// refusal is why a delivery cannot be loaded as it is.
type refusal struct {
	reason string
	// waivable reports whether a person may let it in all the same: only the
	// tolerance, a check of the delivery, or the number of absent rows stands
	// against it.
	waivable bool
}

// refusalIn returns the refusal behind an error, if there is one.
func refusalIn(err error, private []string) (refusal, bool) {
	var file *decode.FileError
	var absent *table.AbsentError
	var verdict *verdictError
	switch {
	case errors.As(err, &file):
		return refusal{reason: file.Error()}, true
	case errors.As(err, &absent):
		return refusal{absent.Error(), true}, true
	case errors.As(err, &verdict):
		return refusal{verdict.reason, verdict.waivable}, true
	}
	reason := refusalOfTarget(err, private)
	return refusal{reason: reason}, reason != ""
}

// refusalOfTarget returns what the target says against the rows, with the row that it is
// about, as far as it is known; "" for other errors. Where there are private fields, it
// names no values.
func refusalOfTarget(err error, private []string) string {
	reason, detail := table.Refusal(err)
	if reason != "" && detail != "" && len(private) == 0 {
		reason += "; " + detail
	}
	var row *table.RowError
	if reason == "" || !errors.As(err, &row) {
		return reason
	}
	reason += fmt.Sprintf("; it is the row in line %d", row.Line)
	if row.Key != "" {
		reason += ", " + row.Key
	}
	return reason
}

// blame names the part whose row the target refused, where it is known.
func (l *Attempt) blame(parts []*part, err error) error {
	var row *table.RowError
	if !errors.As(err, &row) {
		return err
	}
	if len(l.recipe.Feed.Private) > 0 {
		row.Key = ""
	}
	for _, p := range parts {
		if p.n == row.Part {
			return &culpritError{p, err}
		}
	}
	return err
}

// failed sorts out what went wrong with parts of an attempt: those that were
// refused are ended, those that may be tried again are put back. What becomes of
// each is [fate.After]'s to say. It returns what is wrong with the feed as a whole.
func (l *Attempt) failed(ctx context.Context, parts []*part, err error) error {
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	err = l.orAway(after, orBroken(parts, err))
	var culprit *culpritError
	errors.As(err, &culprit)
	if r, ok := refusalIn(err, l.recipe.Feed.Private); ok && ctx.Err() == nil {
		return l.refuse(after, parts, culprit, r)
	}
	var already *table.AlreadyLoadedError
	errors.As(err, &already)
	var whole error
	for _, p := range open(parts) {
		var one error
		switch {
		case already != nil:
			one = l.alreadyLoaded(after, p, already.Markers)
		case culprit != nil && culprit.part != p:
			one = l.back(after, p, "")
		default:
			one = l.failedOne(ctx, after, p, err)
		}
		whole = errors.Join(whole, one)
	}
	return whole
}

// orBroken returns an error as it is, unless a file could not be read: what its decoder says then is not the file's fault.
func orBroken(parts []*part, err error) error {
	var culprit *culpritError
	if errors.As(err, &culprit) {
		parts = []*part{culprit.part}
	}
	for _, p := range parts {
		if p.file != nil && p.file.Err() != nil {
			return &culpritError{p, p.file.Err()}
		}
	}
	return err
}

// orAway returns an error as it is, unless a file is not there because its landing is not.
func (l *Attempt) orAway(ctx context.Context, err error) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	folder, openErr := l.env.Landing(ctx, l.recipe.Feed)
	if away := (*landing.AwayError)(nil); errors.As(openErr, &away) {
		return openErr
	}
	if openErr == nil {
		folder.Close()
	}
	return err
}

func (l *Attempt) alreadyLoaded(ctx context.Context, p *part, markers []table.Marker) error {
	for i := range markers {
		if markers[i].Path() == p.arrival.Path {
			return l.env.FinishFromMarker(ctx, l.recipe.Feed, p.arrival, &markers[i])
		}
	}
	return l.back(ctx, p, "")
}

// mishap says what went wrong. newer is the arrival that overtook it, 0 for none.
func (l *Attempt) mishap(ctx, after context.Context, p *part, err error) (m fate.Mishap, newer int64, lookErr error) {
	var other *reading.OtherKindError
	var away *landing.AwayError
	switch {
	case errors.As(err, &away):
		return fate.Away, 0, nil
	case errors.As(err, &other):
		return fate.OtherKind, 0, nil
	case errors.Is(err, ErrChanged):
		known, err := l.env.Ledger.Known(after, []ledger.File{{Feed: p.arrival.Feed, Path: p.arrival.Path}})
		if err != nil {
			return fate.Changed, 0, err
		}
		if len(known) > 0 && known[0].ID != p.arrival.ID {
			return fate.Overtaken, known[0].ID, nil
		}
		return fate.Changed, 0, nil
	case errors.Is(err, fs.ErrNotExist):
		return fate.Vanished, 0, nil
	case timeLimit(ctx) != nil:
		return fate.Error, 0, nil
	case errors.Is(err, table.ErrFenced), ctx.Err() != nil:
		return fate.BrokenOff, 0, nil
	case table.Denied(err):
		return fate.NotAllowed, 0, nil
	}
	return fate.Error, 0, nil
}

// timeLimit returns the error that ended a run that took too long; nil for none.
func timeLimit(ctx context.Context) error {
	var limit *TimeLimitError
	if errors.As(context.Cause(ctx), &limit) {
		return limit
	}
	return nil
}

// failedOne brings a part to where an error of its own leaves it.
func (l *Attempt) failedOne(ctx, after context.Context, p *part, err error) error {
	a := p.arrival
	if limit := timeLimit(ctx); limit != nil {
		err = limit
	}
	m, newer, lookErr := l.mishap(ctx, after, p, err)
	if lookErr != nil {
		return errors.Join(err, lookErr)
	}
	when := &l.recipe.Feed.When
	f := fate.After(m, fate.Attempt{Number: a.Attempts, Most: when.Attempts, Pause: when.Pause, Again: p.again})
	l.blocked = l.blocked || f.Blocks
	switch f.Outcome {
	case fate.Skip:
		return l.env.Ledger.Finish(after, ledger.Ending{ID: a.ID, State: ledger.Skipped, Reason: err.Error()})
	case fate.Stay:
		return l.stays(after, p, "it could not be loaded again: the file is no longer there as it was; its rows stay "+
			"as they are")
	case fate.Gone:
		reason := "it vanished before it was read"
		if newer != 0 {
			reason = fmt.Sprintf("another version, arrival %d, took its place before it was read", newer)
		}
		return l.env.Ledger.Finish(after, ledger.Ending{ID: a.ID, State: ledger.Gone, Reason: reason})
	case fate.Settle:
		p.ended = true
		return l.env.Ledger.SettleAnew(after, a.ID, err.Error()+"; it settles anew")
	case fate.Ready:
		reason := "the work was broken off"
		switch m {
		case fate.NotAllowed:
			reason = "the target is not set up for it"
		case fate.Away:
			reason = "the landing is away"
		}
		return errors.Join(err, l.back(after, p, reason))
	}
	l.env.Log.Warn("a load failed", "feed", l.recipe.Feed.Name, "arrival", a.ID, "path", a.Path, "attempt",
		a.Attempts, "error", err)
	reason := fmt.Sprintf("attempt %d of %d: %v", a.Attempts, when.Attempts, err)
	if f.Outcome == fate.Retry {
		again := time.Now().UTC().Add(f.Wait)
		l.session.failedUntil(again)
		return l.env.Ledger.Failed(after, a.ID, reason, &again)
	}
	if err := l.env.Ledger.Failed(after, a.ID, reason, nil); err != nil {
		return err
	}
	l.env.NeedsPerson(a, ledger.Failed, reason)
	return nil
}

// back puts an arrival back, as if it had not been tried.
func (l *Attempt) back(ctx context.Context, p *part, reason string) error {
	p.ended = true
	l.session.gaveBack.Store(true)
	generation := 0
	if p.again {
		generation = p.arrival.Generation
	}
	return l.env.Ledger.PutBack(ctx, p.arrival.ID, generation, reason)
}

// stays leaves an arrival loaded that was to be loaded again, and could not.
func (l *Attempt) stays(ctx context.Context, p *part, reason string) error {
	p.ended = true
	return l.env.Ledger.StaysLoaded(ctx, p.arrival.ID, p.arrival.Generation-1, reason)
}

// refuse ends all parts of a delivery, with what was counted up to then.
func (l *Attempt) refuse(ctx context.Context, parts []*part, culprit *culpritError, r refusal) error {
	var endings []ledger.Ending
	var readings []ledger.Reading
	var whole error
	for _, p := range open(parts) {
		reason := r.reason
		if culprit != nil && culprit.part != p {
			reason = fmt.Sprintf("its delivery was refused for %s: %s", culprit.part.arrival.Path, r.reason)
		}
		if p.again {
			whole = errors.Join(whole, l.stays(ctx, p, "loading it again was refused: "+reason+
				"; its rows stay as they are"))
			continue
		}
		told := ledger.Reading{ID: p.arrival.ID, SHA256: p.digest}
		e := ledger.Ending{ID: p.arrival.ID, State: ledger.Refused, Reason: reason,
			Away: away(l.recipe.Feed, p.arrival, ledger.Refused), Waivable: r.waivable}
		if p.reading != nil {
			if err := p.reading.Finish(); err != nil {
				return err
			}
			p.digest = p.reading.Digest()
			told = p.told()
			c := p.reading.Counts()
			e.Balance = balance.Refuse(c.Read, c.Rejected, c.LeftOut)
		}
		p.ended = true
		readings, endings = append(readings, told), append(endings, e)
	}
	if len(endings) == 0 {
		return whole
	}
	if err := l.env.Ledger.Staged(ctx, readings); err != nil {
		return errors.Join(whole, err)
	}
	if err := l.env.Ledger.Finish(ctx, endings...); err != nil {
		return errors.Join(whole, err)
	}
	for _, p := range parts {
		for _, e := range endings {
			if e.ID == p.arrival.ID {
				l.env.NeedsPerson(p.arrival, e.State, e.Reason)
			}
		}
	}
	return whole
}

// NeedsPerson writes into the log that an arrival needs somebody to look at it, and why.
func (e *Env) NeedsPerson(a *ledger.Arrival, state ledger.State, reason string) {
	id, _ := trace.Of(a)
	e.Log.Warn("a file needs a person", "feed", a.Feed, "arrival", a.ID, "trace", id.String(), "path", a.Path, "state", string(state),
		"reason", reason)
}

// FinishFromMarker records an arrival as loaded that its marker says is.
func (e *Env) FinishFromMarker(ctx context.Context, f *feed.Feed, a *ledger.Arrival, m *table.Marker) error {
	if err := e.Ledger.Recorded(ctx, a.ID, m.SHA256, m.Generation); err != nil {
		return err
	}
	return e.Ledger.Finish(ctx, loadedEnding(f, a, m.Balance))
}
