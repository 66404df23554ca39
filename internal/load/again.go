package load

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"mullein/internal/core/decode"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// OpenFile is the file of an arrival that is read once more.
type OpenFile struct {
	*reading.File
	Arrival  *ledger.Arrival
	From     string // the file that its rows are said to come from
	Expected int64  // about how many rows it has
}

// Source hands its rows to the target. Where the bytes turn out to be others than those
// that were loaded, it ends with [ErrChanged].
func (f *OpenFile) Source() table.Source { return sameSource{f} }

type sameSource struct{ *OpenFile }

// Fill adds rows to the batch.
func (s sameSource) Fill(b *table.Batch, size int) error {
	err := s.File.Fill(b, size)
	if err != io.EOF {
		return err
	}
	if err := s.Finish(); err != nil {
		return err
	}
	if s.Digest() != s.Arrival.SHA256 {
		return ErrChanged
	}
	return io.EOF
}

// WithFile opens the file of an arrival, as it was noticed and wherever it lies by
// now, and begins to read it. [NotToBeHad] reports whether an error says that it
// cannot be had any more. What is read of it is counted by the work that it is part of.
func (e *Env) WithFile(ctx context.Context, recipe *Recipe, id int64, work *Going, do func(*OpenFile) error) error {
	a, err := e.Ledger.Arrival(ctx, id)
	if err != nil {
		return err
	}
	run := &ledger.Run{Feed: recipe.Feed.Name}
	if a.RunID != nil {
		if *run, err = e.Ledger.Run(ctx, *a.RunID); err != nil && !errors.Is(err, ledger.ErrNotFound) {
			return err
		}
	}
	folder, err := e.Landing(ctx, recipe.Feed)
	if err != nil {
		return err
	}
	defer folder.Close()
	a.Forced = true // markers do not matter any more
	p := &part{arrival: &a}
	if recipe.Feed.ReadsDigest() {
		p.digest = a.SHA256
	}
	l := &Attempt{env: e, recipe: recipe, run: run, folder: folder, progress: work}
	if err := l.openMoving(ctx, p); err != nil {
		return err
	}
	defer p.file.Close()
	if err := l.read(p, p.source()); err != nil {
		return err
	}
	return do(&OpenFile{File: p.reading, Arrival: &a, From: p.from(),
		Expected: expectedRows(p.file.Entry.Path, p.file.Entry.Size)})
}

// A file that is being put away is where the ledger does not know it to be, for a moment.
const (
	movingPause = 50 * time.Millisecond
	movingMost  = 40 // pauses
)

// openMoving opens a part's file, and waits for where it lies while it is being put away.
func (l *Attempt) openMoving(ctx context.Context, p *part) error {
	for range movingMost {
		err := l.open(ctx, p)
		if !errors.Is(err, fs.ErrNotExist) || p.arrival.Away != ledger.AwayWanted {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(movingPause):
		}
		now, err := l.env.Ledger.Arrival(ctx, p.arrival.ID)
		if err != nil {
			return err
		}
		p.arrival.Away, p.arrival.AwayTo = now.Away, now.AwayTo
	}
	return l.open(ctx, p)
}

// NotToBeHad returns why a file cannot be read again; "" when that is another's
// fault.
func NotToBeHad(err error) string {
	var file *decode.FileError
	var conflict *ledger.ConflictError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "its file is gone"
	case errors.Is(err, ErrChanged):
		return "its file is another by now"
	case errors.As(err, &file):
		return file.Error()
	case errors.As(err, &conflict):
		return conflict.Reason
	}
	return ""
}

// Reread is a later load whose file is held against the keys of what is undone.
type Reread struct {
	table.LoadEntry
	Rows int64  // of its file that have one of the keys, or that lack in it
	Why  string // why its file could not be read again; what it left alone stays as it is
}

// mostReread is how many files are read again at the most.
const mostReread = 1000

// Reread holds the files of later loads against the keys of what a load undoes, as
// far as they are still to be had.
func (e *Env) Reread(ctx context.Context, recipe *Recipe, load *table.Load, later []table.LoadEntry,
	work *Going) ([]Reread, error) {
	out := []Reread{}
	for i, of := range later {
		r := Reread{LoadEntry: of}
		if i >= mostReread {
			r.Why = fmt.Sprintf("more than %d files; redo it to be sure", mostReread)
			out = append(out, r)
			continue
		}
		n, err := e.rereadOne(ctx, recipe, load, of, work)
		if err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			if r.Why = NotToBeHad(err); r.Why == "" {
				return nil, err
			}
		}
		r.Rows = n
		out = append(out, r)
	}
	return out, nil
}

func (e *Env) rereadOne(ctx context.Context, recipe *Recipe, load *table.Load, of table.LoadEntry,
	work *Going) (n int64, err error) {
	if of.Feed != recipe.Feed.Name {
		return 0, &ledger.ConflictError{Reason: "it is of the feed " + of.Feed + "; redo it to be sure"}
	}
	work.At(of.Path)
	err = e.WithFile(ctx, recipe, of.Arrival, work, func(f *OpenFile) error {
		n, err = load.Reread(ctx, of, f.Source(), f.Expected)
		return err
	})
	return n, err
}

// replacing finds out, before rows are staged, which loads since then may have left rows
// unwritten because of the arrivals that parts replace.
func (l *Attempt) replacing(ctx context.Context, load *table.Load, parts []*part) ([]table.LoadEntry, error) {
	var all []int64
	for _, p := range parts {
		all = append(all, p.replaces...)
	}
	later, err := load.Replacing(ctx, all)
	return slices.DeleteFunc(later, func(e table.LoadEntry) bool {
		return slices.ContainsFunc(parts, func(p *part) bool { return p.arrival.ID == e.Arrival })
	}), err
}

// rereadLater has the files of such loads read again.
func (l *Attempt) rereadLater(ctx context.Context, load *table.Load, later []table.LoadEntry) error {
	if len(later) == 0 {
		return nil
	}
	// A plan's programs have scratch space, and other files may be read meanwhile.
	recipe, err := NewRecipe(l.recipe.Feed, l.recipe.Version, l.recipe.Table)
	if err != nil {
		return err
	}
	again, err := l.env.Reread(ctx, recipe, load, later, &Going{})
	for _, r := range again {
		if r.Why != "" {
			l.env.Log.Warn("a later load may have left rows alone because of what is replaced, and its file cannot be "+
				"read again", "feed", l.recipe.Feed.Name, "arrival", r.Arrival, "why", r.Why)
		}
	}
	return err
}
