package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// Rehearsal is what a load of a file would do.
type Rehearsal struct {
	Feed    string          `json:"feed"`
	Path    string          `json:"path"`
	Refused string          `json:"refused" doc:"Why the file would be refused; empty when it would be loaded"`
	Known   string          `json:"known" doc:"What became of this very file already; empty when the ledger does not know it, or when it waits"`
	Balance balance.Balance `json:"balance"`
	Checks  []check.Result  `json:"checks"`
	Shape   []string        `json:"shape" doc:"What would be made or does not fit"`
	Columns []string        `json:"columns" doc:"Of the samples"`
	Samples []table.Sample  `json:"samples"`
	Rejects []ledger.Reject `json:"rejects" doc:"The first of them"`
	Deep    bool            `json:"deep" doc:"The statements were executed and rolled back"`
	Traces  string          `json:"traces" doc:"What the rehearsal leaves behind; empty for nothing"`
	Took    float64         `json:"took" doc:"Seconds"`
}

// Sent is a file that does not lie at the landing.
type Sent struct {
	Name string
	Size int64
	File interface {
		io.ReadSeeker
		io.ReaderAt
	}
}

const (
	samplesShown = 5
	rejectsShown = 20
)

// Rehearse says what a load of a file would do to the real table, and does
// nothing: in a read-only snapshot, without locks. at is the file's path below
// the landing, "" for the file that would be next; sent is a file from
// elsewhere, nil for none. deep executes the statements too and rolls back.
func (e *Engine) Rehearse(ctx context.Context, f *feed.Feed, at string, sent *Sent, deep bool) (*Rehearsal, error) {
	began := time.Now()
	w := &worker{e: e, feed: f, version: 0}
	p := &progress{}
	l := &loading{w: w, p: p, n: 1, run: &ledger.Run{By: "rehearsal", Cause: "rehearsal", Feed: f.Name}}
	folder, err := openLanding(e, f)
	if err != nil && sent == nil {
		return nil, err
	}
	if err == nil {
		l.folder = folder
		defer folder.Close()
	}
	one, err := l.subject(ctx, f, at, sent)
	if err != nil {
		return nil, err
	}
	known := ""
	if one.file != nil {
		defer one.file.Close()
		if known, err = e.became(ctx, f.Name, one.file.Entry); err != nil {
			return nil, err
		}
	}
	kind, err := f.Of(one.arrival.Captures)
	if err != nil {
		return nil, &ledger.ConflictError{Reason: one.arrival.Path + ": " + err.Error()}
	}
	w.become(kind)
	if err := l.learnFrom(one); err != nil {
		return nil, err
	}
	shape, err := Table(w.extended())
	if err != nil {
		return nil, err
	}
	r := &Rehearsal{Feed: f.Name, Path: one.arrival.Path, Known: known, Checks: []check.Result{}, Shape: []string{}, Columns: w.extended().OwnColumns(), Samples: []table.Sample{}, Rejects: []ledger.Reject{}, Deep: deep}
	var misfit *table.MisfitError
	if w.target, err = e.TargetOf(f); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	fitted, changes, err := w.target.Look(ctx, shape)
	if err != nil && !errors.As(err, &misfit) {
		return nil, err
	}
	r.Shape = append(r.Shape, changes...)
	if misfit != nil {
		r.Shape, r.Refused = misfit.Differences, misfit.Error()
		return r, nil
	}
	if deep && len(changes) > 0 {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("a deep rehearsal needs %s as it will be, and a load would make or change it first; rehearse without --deep", shape)}
	}
	session, err := w.target.Session(ctx)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	err = l.rehearse(ctx, session, fitted, one, r)
	r.Took = time.Since(began).Seconds()
	return r, err
}

// became says what became of a file that has come to its end already.
func (e *Engine) became(ctx context.Context, feed string, file landing.Entry) (string, error) {
	newest, err := e.Ledger.Newest(ctx, feed, []string{file.Path})
	a, known := newest[file.Path]
	if err != nil || !known || a.FinishedAt == nil || !file.Same(landing.Entry{Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}) {
		return "", err
	}
	if a.Reason == "" {
		return fmt.Sprintf("it is arrival %d, which is %s", a.ID, a.State), nil
	}
	return fmt.Sprintf("it is arrival %d, which is %s: %s", a.ID, a.State, a.Reason), nil
}

// subject finds the file to rehearse with.
func (l *loading) subject(ctx context.Context, f *feed.Feed, at string, sent *Sent) (*part, error) {
	e := l.w.e
	if sent != nil {
		if f.Landing.InZip() && strings.HasSuffix(strings.ToLower(sent.Name), ".zip") {
			name, content, err := landing.Take(sent.Name, sent.File, sent.Size, func(p string) bool { return f.Landing.Look(p, 1).Why == "" })
			if err != nil {
				return nil, &ledger.ConflictError{Reason: err.Error()}
			}
			sent = &Sent{Name: name, Size: int64(len(content)), File: bytes.NewReader(content)}
		}
		a := &ledger.Arrival{Feed: f.Name, Path: sent.Name, Size: sent.Size, Modified: time.Now().UTC()}
		if taken := f.Landing.Look(sent.Name, max(1, sent.Size)); taken.Captures != nil {
			a.Captures = taken.Captures
		}
		return &part{arrival: a, marker: check.Marker{Rows: -1}, sent: sent}, nil
	}
	if at == "" {
		waiting, err := e.Ledger.Waiting(ctx, f.Name, ledger.Selection{Most: 1, Again: true})
		if err != nil {
			return nil, err
		}
		if len(waiting) == 0 {
			if waiting, _, err = e.Ledger.Arrivals(ctx, ledger.Filter{Feed: f.Name, Most: 1}); err != nil {
				return nil, err
			}
		}
		if len(waiting) > 0 {
			at = waiting[0].Path
		} else if at, err = e.first(ctx, f); err != nil {
			return nil, err
		}
	}
	if !fs.ValidPath(at) {
		return nil, &NotTakenError{at, "is not a plain path below the landing"}
	}
	file, err := l.folder.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &ledger.ConflictError{Reason: fmt.Sprintf("%s is not at the landing %s", at, f.Landing.At)}
	}
	if err != nil {
		return nil, err
	}
	taken := f.Landing.Look(at, file.Entry.Size)
	a := &ledger.Arrival{Feed: f.Name, Path: at, Size: file.Entry.Size, Modified: file.Entry.Modified, Captures: taken.Captures}
	return &part{arrival: a, file: file, marker: check.Marker{Rows: -1}}, nil
}

// first finds a file at the landing that the feed takes.
func (e *Engine) first(ctx context.Context, f *feed.Feed) (string, error) {
	const most = 1000
	list, _, err := e.Which(ctx, f, most)
	if err != nil {
		return "", err
	}
	for _, s := range list {
		if s.Taken {
			return s.Path, nil
		}
	}
	return "", &ledger.ConflictError{Reason: fmt.Sprintf("no file at the landing %s belongs to the feed; say which with a path, or send one", f.Landing.At)}
}

// rehearse stages, judges and compares, and rolls back.
func (l *loading) rehearse(ctx context.Context, session *table.Session, fitted *table.Fitted, one *part, r *Rehearsal) error {
	begin := session.Rehearse
	if r.Deep {
		begin = session.Begin
	}
	load, err := begin(ctx, fitted, 1)
	if err != nil {
		return err
	}
	defer load.Close(ctx)
	err = l.stageOne(ctx, load, one)
	if err == nil {
		err = l.judge(ctx, load, []*part{one}, true)
	}
	r.Checks = append(r.Checks, one.results...)
	if one.reading != nil {
		rejects := one.reading.rejects
		r.Rejects = append(r.Rejects, rejects[:min(len(rejects), rejectsShown)]...)
		r.Balance = balance.Refuse(one.reading.read, one.reading.rejected, one.reading.leftOut)
	}
	var file *decode.FileError
	var refused *verdict
	var other *otherKind
	switch {
	case errors.As(err, &other):
		r.Refused = "it would be skipped: " + other.why
		return nil
	case errors.As(err, &file):
		r.Refused = file.Error()
		return nil
	case errors.As(err, &refused):
		r.Refused = refused.reason
	case err != nil:
		return err
	}
	total, samples, err := load.Compare(ctx, samplesShown)
	var absent *table.AbsentError
	if errors.As(err, &absent) && r.Refused == "" {
		r.Refused = absent.Error()
	} else if err != nil && absent == nil {
		return err
	}
	r.Samples = append(r.Samples, samples...)
	if r.Refused != "" {
		return nil
	}
	total.Read, total.Rejected, total.LeftOut = one.reading.read, one.reading.rejected, one.reading.leftOut
	r.Balance = total
	if r.Deep {
		r.Traces = "rolled back; what sequences and triggers did outside of the transaction stays, and dead rows wait in the table for the next vacuum"
		if _, err := load.Try(ctx, 0, []table.Part{{File: one.arrival.Path}}); err != nil {
			reason := table.Refusal(err)
			if reason == "" {
				return err
			}
			r.Refused = reason
		}
	}
	return total.Err()
}

// contentOf returns the bytes of a file that is rehearsed with, and how to have them
// once more.
func contentOf(one *part) (bytes content, again func() (content, error)) {
	if one.sent == nil {
		return one.file, one.rewound
	}
	return one.sent.File, func() (content, error) {
		_, err := one.sent.File.Seek(0, io.SeekStart)
		return one.sent.File, err
	}
}

// learnFrom makes columns that the file has beyond the schema fields of the
// feed, where the feed adds them to its target. What is wrong with the file is
// found out when it is staged.
func (l *loading) learnFrom(one *part) error {
	if !l.w.feed.Target.AddColumns {
		return nil
	}
	bytes, again := contentOf(one)
	entry := landing.Entry{Path: one.arrival.Path, Size: one.arrival.Size}
	if rows, err := decode.Open(source(entry, bytes, bytes), l.w.how(false)); err == nil {
		if names, err := rows.Header(); err == nil {
			if err := l.w.addFields(names); err != nil {
				return &ledger.ConflictError{Reason: one.arrival.Path + ": " + err.Error()}
			}
		}
	}
	_, err := again()
	return err
}

func (l *loading) stageOne(ctx context.Context, load *table.Load, one *part) error {
	entry := landing.Entry{Path: one.arrival.Path, Size: one.arrival.Size, Modified: one.arrival.Modified}
	bytes, again := contentOf(one)
	if l.w.readsDigest() {
		h := newHasher(bytes, "")
		if _, err := io.Copy(io.Discard, h); err != nil {
			return err
		}
		one.digest = h.sum()
		if _, err := again(); err != nil {
			return err
		}
	}
	one.reading = newReading(l.w, l.p, l.run, one.arrival, one.digest)
	if err := one.reading.begin(entry, bytes, again); err != nil {
		return err
	}
	if err := load.Stage(ctx, one.reading, expectedRows(path.Base(entry.Path), entry.Size)); err != nil {
		return err
	}
	if err := one.reading.finish(); err != nil {
		return err
	}
	one.digest = one.reading.digest()
	return nil
}
