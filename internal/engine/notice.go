package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// lookout watches one feed's landing: it notices names, and finds out when a
// file is still. One goroutine owns it.
type lookout struct {
	e       *Engine
	feed    *feed.Feed
	folder  *landing.Folder
	unwatch func()
	events  <-chan landing.Changed
	waiting map[string]*candidate // by path
	next    time.Time             // when to list without being asked
	rest    time.Time             // no listing before that, whoever asks
	device  uint64                // on which names were seen last
	problem string
	ready   func() // called when something became ready
}

// candidate is an arrival that is not ready yet.
type candidate struct {
	id     int64
	entry  landing.Entry
	since  time.Time // still since; by the monotonic clock
	marked bool      // the ledger says settling
}

const (
	minRest = 2 * time.Second
	// restFactor makes a listing rest at least so many times as long as the
	// last one took.
	restFactor = 20
	// lookChunk is how many paths are held against the ledger at a time.
	lookChunk = 1000
)

// run watches until ctx ends. look asks for a listing now; it is closed by the
// lookout when everything that was there then is ready or gone.
func (o *lookout) run(ctx context.Context, look <-chan chan struct{}) {
	o.waiting = map[string]*candidate{}
	defer o.close()
	var asked []chan struct{}
	list := true
	for ctx.Err() == nil {
		if list && !time.Now().Before(o.rest) {
			o.list(ctx)
			list = false
		}
		o.settle(ctx)
		if len(asked) > 0 && !list && len(o.waiting) == 0 {
			for _, done := range asked {
				close(done)
			}
			asked = nil
		}
		until := o.next
		if list {
			until = o.rest
		}
		select {
		case <-ctx.Done():
		case done := <-look:
			asked, list = append(asked, done), true
		case c, open := <-o.events:
			switch {
			case !open:
				o.events = nil
			case c.Everything:
				list = true
			default:
				o.touched(ctx, c.Path)
			}
		case <-time.After(o.nextSettle()):
		case <-time.After(time.Until(until)):
			list = true
		}
	}
	for _, done := range asked {
		close(done)
	}
}

func (o *lookout) close() {
	if o.folder == nil {
		return
	}
	if o.unwatch != nil {
		o.unwatch()
	}
	o.folder.Close()
	o.folder, o.unwatch, o.events = nil, nil, nil
}

// nextSettle is how long nothing can become ready.
func (o *lookout) nextSettle() time.Duration {
	next := time.Hour
	for _, c := range o.waiting {
		next = min(next, time.Until(c.since.Add(o.feed.Landing.Settle)))
	}
	return max(next, time.Millisecond)
}

// list looks at the whole landing. It is what finds files when events get lost.
func (o *lookout) list(ctx context.Context) {
	took, err := o.tryList(ctx)
	o.rest = time.Now().Add(restFactor * took)
	o.next = time.Now().Add(max(minRest, restFactor*took))
	if ctx.Err() != nil {
		return
	}
	problem := ""
	if err != nil {
		problem = err.Error()
		var away *landing.AwayError
		if !errors.As(err, &away) {
			o.e.Log.Error("listing failed", "feed", o.feed.Name, "error", err)
		}
	}
	if problem == o.problem {
		return
	}
	if err := o.e.Ledger.SetProblem(ctx, o.feed.Name, problem); err == nil {
		o.problem = problem
	}
}

// tryList gives how long the landing itself took to list, which is what a
// listing must not do to it too often; the ledger's part is not counted.
func (o *lookout) tryList(ctx context.Context) (took time.Duration, err error) {
	begin := time.Now()
	if err := o.reopen(ctx); err != nil {
		return time.Since(begin), err
	}
	seen := map[string]bool{}
	var chunk []landing.Entry
	var atLedger time.Duration
	flush := func() error {
		asked := time.Now()
		err := o.look(ctx, chunk)
		atLedger += time.Since(asked)
		chunk = chunk[:0]
		return err
	}
	anything := false
	err = o.folder.List(ctx, func(path string) bool {
		anything = true
		_, ok := o.feed.Landing.Belongs(path)
		return ok
	}, func(e landing.Entry) error {
		seen[e.Path] = true
		if chunk = append(chunk, e); len(chunk) >= lookChunk {
			return flush()
		}
		return nil
	})
	took = time.Since(begin) - atLedger
	if err == nil {
		err = flush()
	}
	if err == nil {
		err = o.gone(ctx, seen, anything)
	}
	if err == nil {
		err = o.e.Ledger.Listed(ctx, o.feed.Name)
	}
	return took, err
}

// reopen opens the landing, or opens it anew when another folder has taken its
// place.
func (o *lookout) reopen(ctx context.Context) error {
	folder, err := landing.Open(o.e.Roots, o.feed.Landing.At)
	if err != nil {
		return err
	}
	if o.folder != nil && o.folder.Device == folder.Device && o.folder.Inode == folder.Inode {
		return folder.Close()
	}
	o.close()
	o.folder = folder
	watcher, err := folder.Watch()
	if err != nil {
		o.e.Log.Warn("no events from this landing; it is listed only", "feed", o.feed.Name, "error", err)
		return nil
	}
	events := make(chan landing.Changed)
	ctx, cancel := context.WithCancel(ctx)
	o.events, o.unwatch = events, func() {
		cancel()
		watcher.Close()
	}
	go func() {
		defer close(events)
		for {
			c, ok := watcher.Next()
			if !ok {
				return
			}
			select {
			case events <- c:
			case <-ctx.Done():
				return
			}
		}
	}()
	return nil
}

// touched looks at one path that an event named.
func (o *lookout) touched(ctx context.Context, path string) {
	if _, ok := o.feed.Landing.Belongs(path); !ok || o.folder == nil {
		return
	}
	entry, err := o.folder.Stat(path)
	if err != nil {
		return // it vanished again; the next listing says what that means
	}
	if err := o.look(ctx, []landing.Entry{entry}); err != nil && ctx.Err() == nil {
		o.e.Log.Error("noticing failed; the next listing tries again", "feed", o.feed.Name, "path", path, "error", err)
	}
}

// look holds entries against the ledger: membership there decides what is new.
func (o *lookout) look(ctx context.Context, entries []landing.Entry) error {
	var paths []string
	var open []landing.Entry
	for _, e := range entries {
		if c := o.waiting[e.Path]; c != nil {
			o.still(c, e)
			continue
		}
		paths, open = append(paths, e.Path), append(open, e)
	}
	if len(open) == 0 {
		return nil
	}
	known, err := o.e.Ledger.Known(ctx, o.feed.Name, paths)
	if err != nil {
		return err
	}
	var fresh []*ledger.Arrival
	var freshEntries []landing.Entry
	for _, e := range open {
		k, ok := known[e.Path]
		same := ok && e.Same(landing.Entry{Size: k.Size, Modified: k.Modified.UTC(), Inode: uint64(k.Inode)})
		switch {
		case ok && (k.State == ledger.Noticed || k.State == ledger.Settling):
			o.waiting[e.Path] = &candidate{id: k.ID, entry: e, since: time.Now(), marked: k.State == ledger.Settling}
		case same && k.State != ledger.Gone || ok && k.State == ledger.Loading:
			// known; a file that changes while it is loading is found out by the load
		case ok && k.State == ledger.Ready:
			if err := o.e.Ledger.Move(ctx, k.ID, []ledger.State{ledger.Ready}, ledger.Settling, nil); err == nil {
				o.waiting[e.Path] = &candidate{id: k.ID, entry: e, since: time.Now(), marked: true}
			} else if !errors.Is(err, ledger.ErrMoved) {
				return err
			}
		default:
			fresh, freshEntries = append(fresh, o.arrival(e)), append(freshEntries, e)
		}
	}
	if err := o.e.Ledger.Notice(ctx, fresh); err != nil {
		return err
	}
	for i, a := range fresh {
		if a.ID != 0 && a.State == ledger.Noticed {
			o.waiting[a.Path] = &candidate{id: a.ID, entry: freshEntries[i], since: time.Now()}
		}
	}
	return nil
}

func (o *lookout) arrival(e landing.Entry) *ledger.Arrival {
	captures, _ := o.feed.Landing.Belongs(e.Path)
	a := &ledger.Arrival{
		Feed: o.feed.Name, Path: e.Path, Size: e.Size, Modified: e.Modified, Inode: int64(e.Inode),
		State: ledger.Noticed, Captures: captures,
	}
	if slot, ok := captures.Slot(); ok {
		a.Slot = &slot
	}
	if e.Problem != "" {
		now := time.Now().UTC()
		a.State, a.Reason, a.FinishedAt = ledger.Refused, "it "+e.Problem, &now
	}
	return a
}

// still notes another look at a candidate; a change begins its wait anew.
func (o *lookout) still(c *candidate, e landing.Entry) {
	if !e.Same(c.entry) {
		c.entry, c.since = e, time.Now()
	}
}

// settle makes those candidates ready that were still long enough.
func (o *lookout) settle(ctx context.Context) {
	wait := o.feed.Landing.Settle
	for path, c := range o.waiting {
		if time.Since(c.since) < wait {
			if !c.marked {
				err := o.e.Ledger.Move(ctx, c.id, []ledger.State{ledger.Noticed}, ledger.Settling, map[string]any{"settling_at": time.Now().UTC()})
				c.marked = err == nil || errors.Is(err, ledger.ErrMoved)
			}
			continue
		}
		entry, err := o.folder.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			c.since = time.Now() // the next listing says whether it is gone
			continue
		}
		if err != nil || !entry.Same(c.entry) {
			o.still(c, entry)
			continue
		}
		err = o.e.Ledger.Move(ctx, c.id, []ledger.State{ledger.Noticed, ledger.Settling}, ledger.Ready, map[string]any{
			"size": entry.Size, "modified": entry.Modified, "inode": int64(entry.Inode), "ready_at": time.Now().UTC(),
		})
		if err != nil && !errors.Is(err, ledger.ErrMoved) {
			if ctx.Err() == nil {
				o.e.Log.Error("settling failed; trying on", "feed", o.feed.Name, "path", path, "error", err)
				c.since = time.Now()
			}
			continue
		}
		delete(o.waiting, path)
		o.ready()
	}
}

// gone marks arrivals that vanished before they were read. When the landing is
// bare, and several vanished at once or its device is another one than before,
// it is taken to be away instead.
func (o *lookout) gone(ctx context.Context, seen map[string]bool, anything bool) error {
	pending, err := o.e.Ledger.InStates(ctx, o.feed.Name, ledger.Noticed, ledger.Settling, ledger.Ready)
	if err != nil {
		return err
	}
	var vanished []ledger.Arrival
	for _, a := range pending {
		if !seen[a.Path] {
			vanished = append(vanished, a)
		}
	}
	if anything {
		o.device = o.folder.Device
	} else if len(vanished) > 1 || len(vanished) == 1 && o.device != 0 && o.device != o.folder.Device {
		return &landing.AwayError{At: o.feed.Landing.At, Reason: fmt.Sprintf("all files that waited there (%d) vanished at once; they are waited for", len(vanished))}
	}
	for _, a := range vanished {
		if _, err := o.folder.Stat(a.Path); err == nil {
			continue // it came while the listing went on
		}
		err := o.e.Ledger.Move(ctx, a.ID, []ledger.State{ledger.Noticed, ledger.Settling, ledger.Ready}, ledger.Gone, map[string]any{
			"reason": "it vanished before it was read", "finished_at": time.Now().UTC(),
		})
		if err != nil && !errors.Is(err, ledger.ErrMoved) {
			return err
		}
		delete(o.waiting, a.Path)
	}
	return nil
}
