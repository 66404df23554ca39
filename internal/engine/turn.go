package engine

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/core/news"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// turn is one turn of a feed: at most one run.
func (e *Engine) turn(w *leased) {
	if w.ctx.Err() != nil || w.feed == nil {
		return
	}
	more, err := w.turn(w.ctx)
	if err != nil && w.ctx.Err() == nil {
		e.Log.Error("work failed; trying on", "feed", w.name, "error", err)
		e.turns.later(w, w.tryAgain())
		return
	}
	if more {
		e.turns.ask(w)
	}
}

// tryAgain is when a feed is tried again whose turn failed.
func (w *leased) tryAgain() time.Time {
	if now := time.Now(); !w.notUntil.After(now) {
		return now.Add(time.Second)
	}
	return w.notUntil
}

// turn does one run, if there is one to do.
func (w *leased) turn(ctx context.Context) (worked bool, err error) {
	if w.woken.Swap(false) {
		w.notUntil = time.Time{}
	}
	if err := w.putAway(ctx); err != nil {
		return false, err
	}
	if w.left.Load() {
		if err := w.takeOver(ctx); err != nil {
			return false, err
		}
	}
	queued, err := w.e.Ledger.QueuedRun(ctx, w.name)
	if err != nil {
		return false, err
	}
	var begin func() (*ledger.Run, error)
	var first upNext
	if queued != nil {
		if time.Now().Before(w.notUntil) && w.tried == queued.ID {
			w.e.turns.later(w, w.notUntil)
			return false, nil
		}
		w.tried = queued.ID
		if queued.Wanted.Rebuild != nil {
			return w.rebuild(ctx)
		}
		if queued.Cause != causeArrival {
			if err := w.waitForLanding(ctx); err != nil {
				return false, err
			}
		}
		begin = func() (*ledger.Run, error) { return w.e.Ledger.BeginRun(ctx, w.name, w.version) }
	} else {
		if first, err = w.byItself(ctx); err != nil {
			return false, err
		}
		if len(first.Arrivals()) == 0 {
			return w.comesAfter(ctx)
		}
		begin = func() (*ledger.Run, error) {
			return w.e.Ledger.StartRun(ctx, w.name, w.version, causeArrival, w.e.Service)
		}
	}
	session, err := w.open(ctx)
	if err != nil {
		return false, err
	}
	r := &running{leased: w, session: session, opened: time.Now(), first: first}
	defer func() { r.session.Close() }()
	if r.run, err = begin(); err != nil || r.run == nil {
		return false, err
	}
	err = r.do(ctx)
	if at := r.session.TryAfter(); !at.IsZero() {
		w.e.turns.later(w, at)
	}
	if err != nil {
		return true, err
	}
	return queued != nil, w.putAway(ctx) // of what comes by itself, nothing was left
}

// putAwayPause is how long files wait to be put away whose landing is away.
const putAwayPause = 30 * time.Second

// putAway puts files away. Those of a landing that is away wait.
func (w *leased) putAway(ctx context.Context) error {
	err := w.e.PutAway(ctx, w.feed)
	if errors.As(err, new(*landing.AwayError)) {
		w.e.turns.later(w, time.Now().Add(putAwayPause))
		return nil
	}
	return err
}

// rebuild does a run that loads all afresh. It has a session of its own.
func (w *leased) rebuild(ctx context.Context) (worked bool, err error) {
	run, err := w.e.Ledger.BeginRun(ctx, w.name, w.version)
	if err != nil || run == nil {
		return false, err
	}
	return true, (&running{leased: w, run: run}).do(ctx)
}

// The causes of runs.
const (
	causeArrival  = "arrival"
	causeSchedule = "schedule"
	causeAfter    = "after"
	CauseRebuild  = "rebuild"
)

// byItself returns what a feed is to load without being asked.
func (w *leased) byItself(ctx context.Context) (upNext, error) {
	if w.paused.Load() || time.Now().Before(w.notUntil) || !w.feed.When.Arrival {
		return upNext{}, nil
	}
	return w.next(ctx, ledger.Selection{})
}

// comesAfter queues a run of a feed that comes after others, when those have loaded
// something.
func (w *leased) comesAfter(ctx context.Context) (bool, error) {
	when := &w.feed.When
	if len(when.AfterAll)+len(when.AfterAny) == 0 || w.paused.Load() || time.Now().Before(w.notUntil) {
		return false, nil
	}
	came, err := w.e.Ledger.After(ctx, w.name, when.AfterAll, when.AfterAny)
	if err != nil || !came {
		return false, err
	}
	_, err = w.e.Ledger.QueueRun(ctx, w.name, causeAfter, w.e.Service, ledger.Wanted{})
	return err == nil, err
}

// open takes a session of the target's database under the feed's fence. Where the
// target knows a higher fence than the records, these come from a back-up: they are
// brought in line with the target's markers.
func (w *leased) open(ctx context.Context) (*load.Session, error) {
	s, err := w.e.OpenSession(ctx, w.feed, w.fence)
	var fenced *table.FencedError
	if errors.As(err, &fenced) && fenced.Highest > w.fence {
		if w.fence, err = w.e.Ledger.RaiseFence(ctx, w.name, w.e.options.ID, fenced.Highest); err != nil {
			return nil, err
		}
		if w.fence == 0 {
			w.lose()
			return nil, table.ErrFenced
		}
		if s, err = w.e.OpenSession(ctx, w.feed, w.fence); err == nil {
			if err = w.e.inspect.MendFromMarkers(ctx, w.name); err != nil {
				s.Close()
			}
		}
	}
	if errors.Is(err, table.ErrFenced) {
		w.lose()
		return nil, err
	}
	if err != nil {
		return nil, w.trouble(ctx, err)
	}
	return s, nil
}

const (
	firstPause = time.Second
	maxPause   = 5 * time.Minute
)

// trouble keeps a feed from being tried again and again while its target does
// not fit, and tells people why it is not working.
func (w *leased) trouble(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return err // it was told to end; nothing is wrong with the feed
	}
	w.recipes.drop()
	if problem := err.Error(); !w.troubled || problem != w.said {
		w.said = problem
		w.e.Log.Warn("a feed does not work", "feed", w.name, "reason", problem)
	}
	w.troubled = true
	w.pause = min(max(firstPause, 2*w.pause), maxPause)
	w.notUntil = time.Now().Add(w.pause)
	w.obstacle.Store(w.obstacleOf(ctx, err))
	if recordErr := w.e.Ledger.SetProblem(ctx, w.name, w.troubleOf(err)); recordErr != nil {
		return errors.Join(err, recordErr)
	}
	return err
}

// untroubled says that a feed works again.
func (w *leased) untroubled(ctx context.Context) error {
	w.pause, w.notUntil = 0, time.Time{}
	w.obstacle.Store(nil)
	if !w.troubled {
		return nil
	}
	w.troubled = false
	w.e.Log.Info("a feed works again", "feed", w.name)
	return w.e.Ledger.SetProblem(ctx, w.name, ledger.Trouble{})
}

// troubleOf says of what kind an error is that keeps a feed from working.
func (w *leased) troubleOf(err error) ledger.Trouble {
	t := ledger.Trouble{Kind: news.Stopped, Text: err.Error()}
	var full *noRoomError
	var away *landing.AwayError
	var misfit *table.MisfitError
	var unreachable *pgconn.ConnectError
	switch {
	case errors.As(err, &full):
		t.Kind, t.Of = news.Disk, full.where
	case errors.As(err, &away):
		t.Kind = news.Landing
	case errors.As(err, &misfit):
		t.Kind, t.Of = news.Table, misfit.Table
	case errors.As(err, &unreachable):
		t.Kind, t.Of = news.Database, w.feed.Target.Connection
	}
	return t
}

// waitForLanding asks for a listing and waits until all that is there is still,
// while other feeds have their turns.
func (w *leased) waitForLanding(ctx context.Context) error {
	return w.e.turns.aside(ctx, func() error {
		lookCtx, cancel := context.WithTimeout(ctx, w.feed.Landing.Settle+time.Minute)
		defer cancel()
		err := w.e.intake.Look(lookCtx, w.name)
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			return nil // a file that keeps growing is for the next run
		}
		return err
	})
}
