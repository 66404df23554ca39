package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/decode"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/target"
)

// outcome is what became of one attempt to load an arrival.
type outcome struct {
	state   ledger.State
	reason  string
	balance balance.Balance
	copyOf  *int64
}

// errChanged says that a file is not the one that was noticed any more.
var errChanged = errors.New("the file changed while it was read")

// arrival brings one arrival to an end, or to its next attempt. What is wrong
// with it goes to the ledger; an error is one of the feed as a whole.
func (w *worker) arrival(ctx context.Context, run *ledger.Run, a *ledger.Arrival) error {
	if err := w.e.Ledger.Begin(ctx, a, run.ID, w.version); err != nil {
		if errors.Is(err, ledger.ErrMoved) {
			return nil
		}
		return err
	}
	p := &progress{Progress: Progress{Feed: w.feed.Name, Arrival: a.ID, Path: a.Path, Size: a.Size}}
	w.progress.Store(p)
	defer w.progress.Store(nil)
	w.step(p, StepClaimed)
	if a.Attempts > 1 { // an earlier attempt may have committed without knowing
		m, err := w.e.Target.MarkerOf(ctx, w.feed.Name, a.ID)
		if err == nil && m != nil {
			return w.finishFromMarker(ctx, a, m)
		}
		if err != nil {
			return w.failed(ctx, a, err)
		}
	}
	out, err := w.load(ctx, p, run, a)
	if err != nil {
		return w.failed(ctx, a, err)
	}
	return w.e.Ledger.Finish(ctx, a.ID, out.state, out.reason, out.balance, out.copyOf)
}

func (w *worker) step(p *progress, s Step) {
	p.step.Store(s)
	if w.e.OnStep != nil {
		w.e.OnStep(w.feed.Name, p.Arrival, s)
	}
}

// failed sorts out an error of an attempt: back to the landing, refused, tried
// again later, or up to a person.
func (w *worker) failed(ctx context.Context, a *ledger.Arrival, err error) error {
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	back := func(to ledger.State, reason string) error {
		return w.e.Ledger.Move(after, a.ID, []ledger.State{ledger.Loading}, to, map[string]any{"reason": reason, "attempts": max(0, a.Attempts-1), "opened_at": nil, "staged_at": nil})
	}
	var already *target.AlreadyLoadedError
	switch {
	case errors.As(err, &already):
		return w.finishFromMarker(after, a, &already.Marker)
	case errors.Is(err, errChanged):
		known, lookErr := w.e.Ledger.Known(after, a.Feed, []string{a.Path})
		if lookErr != nil {
			return errors.Join(err, lookErr)
		}
		if newest := known[a.Path]; newest.ID != a.ID {
			return w.e.Ledger.Finish(after, a.ID, ledger.Gone, fmt.Sprintf("another version, arrival %d, took its place before it was read", newest.ID), balance.Balance{}, nil)
		}
		return back(ledger.Settling, err.Error()+"; it settles anew")
	case errors.Is(err, fs.ErrNotExist):
		return w.e.Ledger.Finish(after, a.ID, ledger.Gone, "it vanished before it was read", balance.Balance{}, nil)
	case errors.Is(err, target.ErrFenced), ctx.Err() != nil:
		return errors.Join(err, back(ledger.Ready, "the work was broken off"))
	case target.Denied(err):
		return errors.Join(err, back(ledger.Ready, "the target is not set up for it"))
	}
	w.e.Log.Warn("a load failed", "feed", w.feed.Name, "arrival", a.ID, "path", a.Path, "attempt", a.Attempts, "error", err)
	more := map[string]any{"reason": fmt.Sprintf("attempt %d of %d: %v", a.Attempts, w.feed.When.Attempts, err), "finished_at": time.Now().UTC(), "try_after": nil}
	if a.Attempts < w.feed.When.Attempts {
		wait := min(w.feed.When.Pause<<(a.Attempts-1), time.Hour)
		more["try_after"] = time.Now().UTC().Add(wait)
	}
	return w.e.Ledger.Move(after, a.ID, []ledger.State{ledger.Loading}, ledger.Failed, more)
}

// load is one attempt. An outcome is final; errors are for failed to sort out.
func (w *worker) load(ctx context.Context, p *progress, run *ledger.Run, a *ledger.Arrival) (outcome, error) {
	folder, err := landing.Open(w.e.Roots, w.feed.Landing.At)
	if err != nil {
		return outcome{}, err
	}
	defer folder.Close()
	file, err := open(folder, a)
	if err != nil {
		return outcome{}, err
	}
	defer file.Close()
	digest := ""
	similar, err := w.e.Ledger.LoadedWithSize(ctx, a, "")
	if err != nil {
		return outcome{}, err
	}
	if len(similar) > 0 || w.readsDigest() {
		if digest, err = digestOf(ctx, file); err != nil {
			return outcome{}, err
		}
		if out, found, err := w.copyOf(ctx, a, digest); err != nil || found {
			return out, err
		}
	}
	l, err := w.session.Begin(ctx, w.fitted)
	if err != nil {
		return outcome{}, err
	}
	defer l.Close(ctx)
	if err := w.e.Ledger.Opened(ctx, a.ID); err != nil {
		return outcome{}, err
	}
	w.step(p, StepOpened)
	r := newReading(w, p, run, a, digest)
	if err := r.begin(file); err != nil {
		return w.refuse(ctx, a, r, err)
	}
	if err := l.Stage(ctx, r, r.expectedRows(file.Entry)); err != nil {
		return w.refuse(ctx, a, r, err)
	}
	if err := r.finish(); err != nil {
		return outcome{}, err
	}
	if err := w.dropNotUnique(ctx, l, r); err != nil {
		return outcome{}, err
	}
	if !file.Unchanged() {
		return outcome{}, errChanged
	}
	if reason := r.judge(w.feed.Tolerate); reason != "" {
		return w.refuse(ctx, a, r, &decode.FileError{Reason: reason})
	}
	generation, err := w.e.Ledger.Generation(ctx, a, r.digest())
	if err != nil {
		return outcome{}, err
	}
	if err := w.e.Ledger.Staged(ctx, a.ID, r.digest(), generation, r.rejects); err != nil {
		return outcome{}, err
	}
	w.step(p, StepStaged)
	counts, err := w.commit(ctx, p, run, a, file, r, l, generation)
	if reason := target.Refusal(err); reason != "" {
		return w.refuse(ctx, a, r, &decode.FileError{Reason: reason})
	}
	return outcome{state: ledger.Loaded, balance: counts}, err
}

// commit is the second half of a load, under the target's lock.
func (w *worker) commit(ctx context.Context, p *progress, run *ledger.Run, a *ledger.Arrival, file *landing.File, r *reading, l *target.Load, generation int) (balance.Balance, error) {
	if err := l.Lock(ctx, w.feed.Name, w.fence); err != nil {
		return balance.Balance{}, err
	}
	w.step(p, StepLocked)
	counts, err := l.Merge(ctx, target.Origin{File: a.Path, Arrival: a.ID, Run: run.ID})
	if err != nil {
		return balance.Balance{}, err
	}
	w.step(p, StepMerged)
	counts.Read, counts.Rejected = r.read, r.rejected
	if err := counts.Err(); err != nil {
		return balance.Balance{}, err
	}
	err = l.Mark(ctx, target.Marker{
		Feed: w.feed.Name, Delivery: a.Path + " " + r.digest(), Generation: generation,
		Arrival: a.ID, Fence: w.fence, SHA256: r.digest(), Balance: counts,
	})
	if err != nil {
		return balance.Balance{}, err
	}
	w.step(p, StepMarked)
	if !file.Unchanged() {
		return balance.Balance{}, errChanged
	}
	if err := l.Commit(ctx); err != nil {
		return balance.Balance{}, err
	}
	w.step(p, StepCommitted)
	return counts, nil
}

// open opens the file that was noticed, and no other.
func open(folder *landing.Folder, a *ledger.Arrival) (*landing.File, error) {
	file, err := folder.Open(a.Path)
	if err != nil {
		return nil, err
	}
	noticed := landing.Entry{Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}
	if !file.Entry.Same(noticed) {
		file.Close()
		return nil, errChanged
	}
	return file, nil
}

// copyOf finds out whether the bytes are loaded already: under the same path
// (then only its time has changed), or under another name with the same
// captured values, and the first is still what is loaded for them. A return to
// an earlier content (A, B, A again) is no copy.
func (w *worker) copyOf(ctx context.Context, a *ledger.Arrival, digest string) (outcome, bool, error) {
	skip := func(first *ledger.Arrival, reason string) (outcome, bool, error) {
		err := w.e.Ledger.Recorded(ctx, a.ID, digest, 0)
		return outcome{state: ledger.Skipped, reason: reason, copyOf: &first.ID}, true, err
	}
	last, err := w.e.Ledger.LastLoadedOf(ctx, a, false)
	if err != nil {
		return outcome{}, false, err
	}
	if last != nil {
		if last.SHA256 == digest {
			return skip(last, fmt.Sprintf("the same bytes as arrival %d of this path; only its time has changed", last.ID))
		}
		return outcome{}, false, nil
	}
	alike, err := w.e.Ledger.LoadedWithSize(ctx, a, digest)
	if err != nil {
		return outcome{}, false, err
	}
	for i := range alike {
		first := &alike[i]
		if !sameCaptures(a, first) {
			continue
		}
		// Where the captures name a slot they tell which file is meant; else its
		// path does.
		still, err := w.e.Ledger.LastLoadedOf(ctx, &ledger.Arrival{ID: a.ID, Feed: a.Feed, Path: first.Path, Captures: a.Captures, Slot: a.Slot}, a.Slot != nil)
		if err != nil {
			return outcome{}, false, err
		}
		if still != nil && still.SHA256 == digest {
			return skip(first, fmt.Sprintf("a copy of arrival %d, %s", first.ID, first.Path))
		}
	}
	return outcome{}, false, nil
}

func sameCaptures(a, b *ledger.Arrival) bool {
	if len(a.Captures) != len(b.Captures) {
		return false
	}
	for name, value := range a.Captures {
		if fmt.Sprint(value) != fmt.Sprint(b.Captures[name]) {
			return false
		}
	}
	return true
}

// refuse turns an error over the file's content into an outcome, with what was
// counted up to then, and passes on any other error.
func (w *worker) refuse(ctx context.Context, a *ledger.Arrival, r *reading, err error) (outcome, error) {
	var fileError *decode.FileError
	if !errors.As(err, &fileError) {
		return outcome{}, err
	}
	if err := r.finish(); err != nil {
		return outcome{}, err
	}
	if err := w.e.Ledger.Staged(ctx, a.ID, r.digest(), 0, r.rejects); err != nil {
		return outcome{}, err
	}
	return outcome{state: ledger.Refused, reason: fileError.Error(), balance: balance.Refuse(r.read, r.rejected, 0)}, nil
}

// dropNotUnique makes rejects of rows whose value in a unique column stood in
// an earlier line.
func (w *worker) dropNotUnique(ctx context.Context, l *target.Load, r *reading) error {
	for _, c := range r.columns {
		if !c.Field.Constraints.Unique {
			continue
		}
		n, repeats, err := l.DropNotUnique(ctx, c.Field.Name, ledger.MaxRejects)
		if err != nil {
			return err
		}
		r.rejected += n
		for _, repeat := range repeats {
			r.keep(ledger.Reject{Line: repeat.Line, ColumnName: c.Field.Name, Reason: "the value stands in an earlier row too, and the column is unique", Value: repeat.Value})
		}
	}
	return r.originals()
}

func (w *worker) readsDigest() bool {
	for _, d := range w.feed.Derive {
		if strings.Contains(d.Expression, "file.digest") {
			return true
		}
	}
	return false
}

// digestOf reads the whole file once and goes back to its beginning.
func digestOf(ctx context.Context, file *landing.File) (string, error) {
	h := newHasher(file, "")
	if _, err := io.Copy(io.Discard, &untilDone{ctx, h}); err != nil {
		return "", fmt.Errorf("read %s: %w", file.Entry.Path, err)
	}
	return h.sum(), file.Rewind()
}

// untilDone stops reading when the context ends.
type untilDone struct {
	ctx context.Context
	r   io.Reader
}

func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}
