package load

import (
	"context"
	"errors"
	"slices"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// Delivery is what is to be loaded next: files that each stand alone, or several
// that belong together.
type Delivery struct {
	Alone    []*ledger.Arrival
	Together []*ledger.Arrival // of one delivery, checked and committed as one
	List     *ledger.Arrival   // that names them; nil when a slot does
	Digests  map[string]string // SHA-256 by path, as far as the list says
	Name     string            // of the delivery; "" for files that stand alone
	Repeats  string            // which lines of the list name a file again; "" for none
	First    bool              // those that stand alone are the first of their feed
}

// Arrivals returns all of them, the list among them.
func (d Delivery) Arrivals() []*ledger.Arrival {
	all := slices.Concat(d.Alone, d.Together)
	if d.List != nil {
		all = append(all, d.List)
	}
	return all
}

// Without leaves out what a run is done with. Nothing goes ahead of what was tried
// and still waits.
func (d Delivery) Without(done func(*ledger.Arrival) bool) Delivery {
	if i := slices.IndexFunc(d.Alone, done); i >= 0 {
		d.Alone = d.Alone[:i]
	}
	if d.List != nil && done(d.List) || slices.ContainsFunc(d.Together, done) {
		return Delivery{}
	}
	return d
}

// Attempt is one transaction's worth of work.
type Attempt struct {
	env          *Env
	session      *Session
	recipe       *Recipe
	run          *ledger.Run
	folder       landing.Landing
	progress     *Going
	n            int      // parts in all, numbered from 0
	before       *Attempt // that was on its way into the target when this began
	blocked      bool     // one of it is tried again, and blocks those behind it
	apart        bool     // the parts are deliveries of their own, and yet read as a stream
	inBackground bool     // the files are closed by whoever goes on with them
	copies       []*part  // of files of this attempt; what becomes of them depends on those
}

// part is one file on its way through an attempt.
type part struct {
	arrival    *ledger.Arrival
	n          int // its number in the attempt
	file       *landing.File
	digest     string // of its bytes; "" until it is known
	content    []byte // of a small file
	reading    *reading.File
	results    []check.Result
	sent       bool // it is rehearsed with, and does not lie at the landing
	piece      table.Piece
	marker     check.Marker
	wantSum    string // that a list gives
	generation int
	again      bool    // it was loaded before, and is loaded again
	replaces   []int64 // arrivals whose rows it undoes
	balance    balance.Balance
	trouble    error // why it could not be decoded
	original   *part // in the same load, of which it is a copy
	ended      bool  // the ledger knows what became of it
	committed  bool
}

// culpritError is an error that one part of a load is to blame for.
type culpritError struct {
	part *part
	err  error
}

func (e *culpritError) Error() string { return e.err.Error() }
func (e *culpritError) Unwrap() error { return e.err }

// ErrChanged says that a file is not the one that was noticed any more.
var ErrChanged = landing.ErrChanged

// smallFile is the size in bytes up to which files share a transaction.
const smallFile = 1 << 20

// Load brings the arrivals of a delivery to an end, or to their next attempt. What
// is wrong with them goes to the ledger; an error is one of the feed as a whole.
func (s *Session) Load(ctx context.Context, recipe *Recipe, run *ledger.Run, d Delivery) error {
	all := d.Arrivals()
	first := d.First && len(all) > 1
	grouped := d.Name == "" && !first && (len(all) > 1 || all[0].Size <= smallFile)
	begin := s.env.Ledger.Begin
	if grouped {
		begin = s.env.Ledger.BeginOpened
	}
	started, err := begin(ctx, all, run.ID, recipe.Version)
	if err != nil || len(started) == 0 {
		return err
	}
	l := &Attempt{env: s.env, session: s, recipe: recipe, run: run, before: s.before}
	var size int64
	for _, a := range started {
		size += a.Size
	}
	l.progress = s.env.Progress.Begin(Progress{Work: Loading, Feed: recipe.Feed.Name, Arrival: started[0].ID,
		Path: started[0].Path, Run: run.ID, Files: len(started), Size: size})
	if s.before != nil {
		s.before.before = nil
	}
	s.before = l
	defer func() {
		if !l.inBackground {
			l.over()
		}
	}()
	var parts []*part
	for _, a := range started {
		l.stepOf(a.ID, StepClaimed)
		parts = append(parts, &part{arrival: a, wantSum: d.Digests[a.Path]})
	}
	if parts, err = l.known(ctx, parts); err != nil {
		return l.failed(ctx, parts, err)
	}
	if l.folder, err = s.env.Landing(ctx, recipe.Feed); err != nil {
		return l.failed(ctx, parts, err)
	}
	defer func() {
		if !l.inBackground {
			l.close(parts)
		}
	}()
	switch {
	case len(parts) == 0:
		return nil
	case grouped:
		return l.small(ctx, parts)
	}
	if err := s.Wait(); err != nil { // the session is needed
		return l.giveBack(ctx, parts, err)
	}
	switch {
	case d.Name != "":
		return l.delivery(ctx, parts, d)
	case first:
		return l.firstFiles(ctx, parts)
	}
	parts, err = l.ready(ctx, parts)
	if err != nil || len(parts) == 0 {
		return err
	}
	return l.stream(ctx, parts)
}

// over ends the progress that is told.
func (l *Attempt) over() { l.env.Progress.End(l.progress) }

func (l *Attempt) close(parts []*part) {
	for _, p := range parts {
		if p.file != nil {
			p.file.Close()
		}
	}
	l.folder.Close()
}

// giveBack puts arrivals back that could not be worked on for something that
// is not their fault.
func (l *Attempt) giveBack(ctx context.Context, parts []*part, err error) error {
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	var first []int64
	for _, p := range open(parts) {
		if p.again {
			err = errors.Join(err, l.back(after, p, ""))
			continue
		}
		p.ended = true
		l.session.gaveBack.Store(true)
		first = append(first, p.arrival.ID)
	}
	return errors.Join(err, l.env.Ledger.PutBackAll(after, first))
}

// stepOf says that an arrival has come to a step.
func (l *Attempt) stepOf(arrival int64, s Step) {
	l.progress.Step(s)
	if l.env.OnStep != nil {
		l.env.OnStep(l.recipe.Feed.Name, arrival, s)
	}
}

func (l *Attempt) step(parts []*part, s Step) {
	for _, p := range parts {
		l.stepOf(p.arrival.ID, s)
	}
}

// known ends arrivals of which an earlier attempt committed without knowing,
// and finds out which were loaded before. It returns the others.
func (l *Attempt) known(ctx context.Context, parts []*part) ([]*part, error) {
	var out []*part
	for _, p := range parts {
		if p.arrival.Attempts > 1 || p.arrival.Generation > 1 {
			m, err := l.session.database.MarkerOf(ctx, l.recipe.Feed.Name, p.arrival.ID)
			if err != nil {
				return parts, err
			}
			if m != nil && m.Generation >= p.arrival.Generation {
				if err := l.env.FinishFromMarker(ctx, l.recipe.Feed, p.arrival, m); err != nil {
					return parts, err
				}
				continue
			}
			p.again = m != nil
		}
		p.n = len(out)
		out = append(out, p)
	}
	l.n = len(out)
	return out, nil
}

// open returns the parts that have not come to an end.
func open(parts []*part) []*part {
	return slices.DeleteFunc(slices.Clone(parts), func(p *part) bool { return p.ended })
}

// MendedMark stands between the path of a file and the number of what was
// mended of it.
const MendedMark = " (mended "
