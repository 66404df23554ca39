package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// Trial is a file to be loaded on trial: at the landing, or sent from elsewhere.
type Trial struct {
	Arrival *ledger.Arrival
	Folder  landing.Landing // nil where the landing is away
	File    *landing.File   // nil for one that was sent
	Sent    SentFile        // nil for one at the landing
	Deep    bool            // the statements of the merge are executed, too
}

// SentFile is the bytes of a file that does not lie at the landing.
type SentFile interface {
	io.ReadSeeker
	io.ReaderAt
}

// TrialResult says what a load would do.
type TrialResult struct {
	Refused string
	Balance balance.Balance
	Checks  []check.Result
	Samples []table.Sample
	Rejects []ledger.Reject
	Traces  string // what the trial leaves behind
	// Warnings are what a person should look at although the file would be loaded.
	Warnings []string
}

// source is how the bytes of the file are had.
func (t *Trial) source() reading.Source {
	if t.File != nil {
		return (&part{file: t.File}).source()
	}
	return reading.Source{Bytes: t.Sent, Again: func() (reading.Content, error) {
		_, err := t.Sent.Seek(0, io.SeekStart)
		return t.Sent, err
	}}
}

// subject is what is known of the file before it is read.
func (t *Trial) subject() reading.Subject {
	a := t.Arrival
	return reading.Subject{Path: a.Path, Size: a.Size, Modified: a.Modified, Captures: a.Captures}
}

// Columns returns a feed with the columns that the file has beyond its schema,
// where the feed adds them to its target. What is wrong with the file is found out
// when it is staged.
func (e *Env) Columns(t *Trial, f *feed.Feed) (*feed.Feed, error) {
	if !f.Target.AddColumns {
		return f, nil
	}
	from := t.source()
	names, err := reading.Header(f, t.subject(), from)
	if err == nil {
		if f, err = withColumns(f, names, e.AddedColumns); err != nil {
			return nil, &ledger.ConflictError{Reason: t.Arrival.Path + ": " + err.Error()}
		}
	}
	_, err = from.Again()
	return f, err
}

// Rehearse stages, judges and compares a file, and rolls back.
func (e *Env) Rehearse(ctx context.Context, recipe *Recipe, session *table.Session, t *Trial) (*TrialResult, error) {
	begin := session.Rehearse
	if t.Deep {
		begin = session.Begin
	}
	load, err := begin(ctx, recipe.Table, 1)
	if err != nil {
		return nil, err
	}
	defer load.Close(ctx)
	work := e.Progress.Begin(Progress{Work: Rehearsing, Feed: recipe.Feed.Name, Path: t.Arrival.Path, Files: 1,
		Size: t.Arrival.Size})
	defer e.Progress.End(work)
	l := &Attempt{env: e, recipe: recipe, run: &ledger.Run{By: "rehearsal", Cause: "rehearsal",
		Feed: recipe.Feed.Name}, folder: t.Folder, progress: work, n: 1}
	one := &part{arrival: t.Arrival, file: t.File, sent: t.File == nil}
	if err := l.rank(ctx, load, []*part{one}); err != nil {
		return nil, err
	}
	err = l.stageOne(ctx, load, one, t)
	if err == nil {
		err = l.judge(ctx, load, []*part{one})
	}
	r := &TrialResult{Checks: one.results}
	var c reading.Counts
	if one.reading != nil {
		c = one.reading.Counts()
		r.Rejects = Rejects(one.reading.Rejects())
		r.Balance = balance.Refuse(c.Read, c.Rejected, c.LeftOut)
	}
	var file *decode.FileError
	var refused *verdictError
	var other *reading.OtherKindError
	switch {
	case errors.As(err, &other):
		r.Refused = "it would be skipped: " + other.Why
		return r, nil
	case errors.As(err, &file):
		r.Refused = file.Error()
		return r, nil
	case errors.As(err, &refused):
		r.Refused = refused.reason
	case err != nil:
		return nil, err
	}
	return r, l.compare(ctx, load, c, t, r)
}

// samplesShown is how many rows of each kind a rehearsal shows.
const samplesShown = 5

// compare says what the merge of the staged rows would do.
func (l *Attempt) compare(ctx context.Context, load *table.Load, c reading.Counts, t *Trial, r *TrialResult) error {
	total, samples, err := load.Compare(ctx, samplesShown)
	var absent *table.AbsentError
	if errors.As(err, &absent) && r.Refused == "" {
		r.Refused = absent.Error()
	} else if err != nil && absent == nil {
		return err
	}
	r.Samples = samples
	if r.Refused != "" {
		return nil
	}
	r.Balance = Complete(total, c)
	if w := repeatedKeys(r.Balance, l.recipe.Feed.Schema.PrimaryKey); w != "" {
		r.Warnings = append(r.Warnings, w)
	}
	if t.Deep {
		r.Traces = "rolled back; what sequences and triggers did outside of the transaction stays, and dead rows wait " +
			"in the table for the next vacuum"
		if _, err := load.Try(ctx, 0, []table.Part{{File: t.Arrival.Path}}); err != nil {
			reason := refusalOfTarget(l.blame(nil, err), l.recipe.Feed.Private)
			if reason == "" {
				return err
			}
			r.Refused = reason
		}
	}
	return r.Balance.Err()
}

// repeatedKeys warns where more than one row in a hundred has the key of another row of the
// file; "" where not.
func repeatedKeys(b balance.Balance, key []string) string {
	const share = 100
	if b.Duplicate*share <= b.Read {
		return ""
	}
	return fmt.Sprintf("%d of %d rows (%.0f %%) have the key [%s] of another row of the file and would not be loaded; if "+
		"they are rows of their own, the key lacks a column", b.Duplicate, b.Read, 100*float64(b.Duplicate)/float64(b.Read),
		strings.Join(key, ", "))
}

// stageOne reads the file of a trial into the staging table.
func (l *Attempt) stageOne(ctx context.Context, load *table.Load, one *part, t *Trial) (err error) {
	from := t.source()
	if l.recipe.Feed.ReadsDigest() {
		if one.digest, err = reading.DigestOf(ctx, from.Bytes); err != nil {
			return err
		}
		if _, err := from.Again(); err != nil {
			return err
		}
	}
	if err := l.read(one, from); err != nil {
		return err
	}
	l.progress.Step(StepOpened)
	if err := load.Stage(ctx, source{one.reading}, expectedRows(t.Arrival.Path, t.Arrival.Size)); err != nil {
		return err
	}
	if err := one.reading.Finish(); err != nil {
		return err
	}
	one.digest = one.reading.Digest()
	l.progress.Step(StepStaged)
	return nil
}
