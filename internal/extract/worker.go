package extract

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// Options are what a worker needs.
type Options struct {
	Ledger     *ledger.Ledger
	Service    string                                  // the id of the service, whose lease of it extracts follow
	Connection func(name string) (url string, ok bool) // of the settings
	Landing    func(ctx context.Context, at string) (landing.Landing, error)
	Folder     string // where files are written before they are put down; of this service alone
	Log        *slog.Logger
}

// Worker works extracts whose time has come. Several services share them.
type Worker struct {
	Options
	wake    chan struct{}
	room    chan struct{} // one for each extract that is worked now
	mu      sync.Mutex
	read    map[string]parsed
	rows    map[string]int64 // written so far, of those that are worked now
	working map[string]context.CancelCauseFunc
}

// parsed is the definition of an extract, read.
type parsed struct {
	version int
	extract *feed.Extract
	err     error
}

// The causes of runs.
const (
	CauseSchedule = "schedule"
	CauseAfter    = "after"
	CauseRequest  = "hand"
	CauseAgain    = "again"
)

const (
	atOnce    = 2 // extracts of one service
	lookEvery = time.Second
)

// New makes a worker.
func New(o Options) *Worker {
	return &Worker{Options: o, wake: make(chan struct{}, 1), room: make(chan struct{}, atOnce), read: map[string]parsed{},
		rows: map[string]int64{}, working: map[string]context.CancelCauseFunc{}}
}

// Poke has the worker look at once.
func (w *Worker) Poke() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Written returns how many rows of an extract this service has written in what it works now.
func (w *Worker) Written(name string) int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.rows[name]
}

func (w *Worker) progress(name string, rows int64) {
	w.mu.Lock()
	w.rows[name] += rows
	w.mu.Unlock()
}

// Run works extracts until ctx ends. What is at work then is given back, and is worked again from where it is whole.
func (w *Worker) Run(ctx context.Context) {
	var at sync.WaitGroup
	defer at.Wait()
	said, free := "", false
	for ctx.Err() == nil {
		var err error
		if !free {
			err = w.Ledger.ReleaseExtractsOf(ctx, w.Service)
			if err == nil {
				err = w.tidy(ctx)
			}
			free = err == nil
		}
		if free {
			err = w.look(ctx, &at)
		}
		if err != nil && ctx.Err() == nil && said != err.Error() {
			w.Log.Warn("extracts were not looked at", "error", err)
		}
		if said = ""; err != nil {
			said = err.Error()
		}
		select {
		case <-ctx.Done():
		case <-w.wake:
		case <-time.After(lookEvery):
		}
	}
}

// tidy removes what an earlier service left aside of windows that are not open any more.
func (w *Worker) tidy(ctx context.Context) error {
	folders, err := filepath.Glob(filepath.Join(w.Folder, "*", "*"))
	if err != nil {
		return err
	}
	for _, folder := range folders {
		open, is, err := w.Ledger.OpenWindow(ctx, filepath.Base(filepath.Dir(folder)))
		if err != nil {
			return err
		}
		if is && filepath.Base(folder) == strconv.FormatInt(open.Run, 10) {
			continue
		}
		if err := os.RemoveAll(folder); err != nil {
			return err
		}
		_ = os.Remove(filepath.Dir(folder)) // it stays where there is more in it
	}
	return nil
}

// look begins what is due, as far as there is room.
func (w *Worker) look(ctx context.Context, at *sync.WaitGroup) error {
	list, err := w.Ledger.Extracts(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	var feeds []string
	defined := make([]parsed, len(list))
	for i := range list {
		defined[i] = w.parsed(&list[i])
		if x := defined[i].extract; x != nil {
			feeds = append(append(feeds, x.When.AfterAll...), x.When.AfterAny...)
		}
	}
	loads, err := w.Ledger.LoadsOf(ctx, feeds)
	if err != nil {
		return err
	}
	for i := range list {
		begin, cause, due := isDue(&list[i], defined[i], loads, time.Now())
		if w.isAt(list[i].Name) {
			if !w.isOurs(&list[i]) {
				w.stop(list[i].Name) // it was changed, or another has it
			}
			continue
		}
		if !due || list[i].Working {
			continue
		}
		select {
		case w.room <- struct{}{}:
		default:
			return nil
		}
		record, ok, err := w.Ledger.ClaimExtract(ctx, &list[i], w.Service, begin)
		if err != nil || !ok {
			<-w.room
			if err != nil {
				return err
			}
			continue
		}
		working, cancel := context.WithCancelCause(ctx)
		w.mu.Lock()
		w.rows[record.Name], w.working[record.Name] = 0, cancel
		w.mu.Unlock()
		at.Go(func() {
			defer func() { cancel(nil); <-w.room; w.Poke() }()
			w.work(working, &record, defined[i], cause, list[i].WantedBy)
		})
	}
	return nil
}

func (w *Worker) isOurs(x *ledger.Extract) bool {
	return x.LeaseHolder != nil && *x.LeaseHolder == w.Service
}

// isAt reports whether this worker works an extract now.
func (w *Worker) isAt(name string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.working[name] != nil
}

func (w *Worker) stop(name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if cancel := w.working[name]; cancel != nil {
		cancel(ledger.ErrLost)
	}
}

// parsed reads a definition, once a version.
func (w *Worker) parsed(x *ledger.Extract) parsed {
	w.mu.Lock()
	defer w.mu.Unlock()
	p, known := w.read[x.Name]
	if !known || p.version != x.Version {
		p = parsed{version: x.Version}
		p.extract, p.err = feed.ParseExtract(x.Name+".yaml", []byte(x.Definition))
		w.read[x.Name] = p
	}
	return p
}

// isDue reports whether a run of an extract is to begin, and why.
func isDue(x *ledger.Extract, p parsed, loads map[string]int64, now time.Time) (begin ledger.ExtractBegin, cause string, due bool) {
	switch {
	case x.WantedBy != "":
		begin.Anew = true
		return begin, CauseRequest, true
	case x.Paused || p.extract == nil:
		return begin, "", false
	case x.TryAfter != nil:
		return begin, CauseAgain, !x.TryAfter.After(now)
	}
	when := &p.extract.When
	if when.Times != nil {
		for at := when.Times.Next(x.FiredAt); !at.IsZero() && !at.After(now); at = when.Times.Next(at) {
			begin.Fired = at // one run makes up for all that passed
		}
	}
	fresh := func(name string) bool { return loads[name] > x.AfterSeen[name] }
	after := slices.ContainsFunc(when.AfterAny, fresh) ||
		len(when.AfterAll) > 0 && !slices.ContainsFunc(when.AfterAll, func(name string) bool { return !fresh(name) })
	if after {
		begin.Seen = map[string]int64{}
		for _, name := range append(slices.Clone(when.AfterAll), when.AfterAny...) {
			begin.Seen[name] = loads[name]
		}
	}
	begin.Anew = true
	switch {
	case !begin.Fired.IsZero():
		return begin, CauseSchedule, true
	case after:
		return begin, CauseAfter, true
	}
	begin.Anew = false
	return begin, CauseAgain, x.Unfinished && x.Problem == "" // what a service left in the midst of it
}

// work works an extract that is leased, and gives it back.
func (w *Worker) work(ctx context.Context, record *ledger.Extract, p parsed, cause, by string) {
	defer func() {
		last, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		if err := w.Ledger.ReleaseExtract(last, record); err != nil {
			w.Log.Warn("an extract was not given back", "extract", record.Name, "error", err)
		}
		w.mu.Lock()
		delete(w.rows, record.Name)
		delete(w.working, record.Name)
		w.mu.Unlock()
	}()
	err := p.err
	if err == nil {
		j := &job{w: w, x: p.extract, record: record, cause: cause, by: by}
		for more := true; more && err == nil; {
			more, err = j.work(ctx)
			if more && err == nil {
				more, err = w.goesOn(ctx, record.Name, cause)
			}
		}
	}
	if ctx.Err() != nil && record.Attempts > 0 { // an end of the service is no attempt
		record.Attempts--
	}
	if err == nil || errors.Is(err, ledger.ErrLost) || ctx.Err() != nil {
		return
	}
	w.failed(ctx, record, p.extract, err)
}

// goesOn reports whether a run that makes up for several days goes on with the next: not when somebody has paused it meanwhile.
func (w *Worker) goesOn(ctx context.Context, name, cause string) (bool, error) {
	x, err := w.Ledger.Extract(ctx, name)
	return !x.Paused || cause == CauseRequest, err
}

// failed takes note that an attempt failed, and says when there is another.
func (w *Worker) failed(ctx context.Context, record *ledger.Extract, x *feed.Extract, err error) {
	var of *windowError
	var window *ledger.ExtractWindow
	if errors.As(err, &of) {
		window = of.window
	} else { // no window was fixed, and so no attempt counted
		record.Attempts++
	}
	var again *time.Time
	var unfit *UnfitError
	if x != nil && !errors.As(err, &unfit) && record.Attempts < x.When.Attempts {
		at := time.Now().Add(pauseBefore(x.When.Pause, record.Attempts))
		again = &at
	}
	w.Log.Warn("an extract failed", "extract", record.Name, "attempt", record.Attempts, "again", again, "error", err)
	if err := w.Ledger.ExtractFailed(ctx, record, window, err.Error(), again); err != nil && !errors.Is(err, ledger.ErrLost) {
		w.Log.Error("that an extract failed was not recorded", "extract", record.Name, "error", err)
	}
}

// maxPause bounds the pause between attempts.
const maxPause = time.Hour

// pauseBefore returns the pause after some attempts: the first doubles.
func pauseBefore(first time.Duration, attempts int) time.Duration {
	pause := first
	for range attempts - 1 {
		if pause *= 2; pause > maxPause {
			return maxPause
		}
	}
	return pause
}
