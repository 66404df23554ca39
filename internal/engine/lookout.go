package engine

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/zeebo/xxh3"

	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// lookout watches one feed's landing: it notices names, and finds out when a
// file is whole. One goroutine owns it.
type lookout struct {
	e       *Engine
	feed    *feed.Feed
	ready   func() // called when something became ready
	folder  *landing.Folder
	unwatch func()
	events  <-chan landing.Changed
	waiting map[string]*candidate // by path
	known   map[print]struct{}    // what needs no look: what the ledger has, as it was seen last, and what is not taken
	full    bool                  // there is more than may wait at a time
	next    time.Time             // when to list without being asked
	rest    time.Time             // no listing before that, whoever asks
	device  uint64                // on which names were seen last
	problem string
	listed  time.Time // when the landing was looked at last; zero before the first listing
	first   bool      // the landing has never been listed
	created time.Time // when the feed was put first
	cursor  int64     // up to which arrival it was looked whether files are gone
}

// print stands for a file as it was seen: its path, size, time and inode.
type print = xxh3.Uint128

func printOf(e landing.Entry) print {
	var room [256]byte
	b := binary.BigEndian.AppendUint64(room[:0], uint64(e.Size))
	b = binary.BigEndian.AppendUint64(b, uint64(e.Modified.UnixMicro()))
	b = binary.BigEndian.AppendUint64(b, e.Inode)
	return xxh3.Hash128(append(b, e.Path...))
}

// candidate is an arrival that is not ready yet.
type candidate struct {
	id    int64
	entry landing.Entry
	since time.Time // still since; by the monotonic clock
	list  bool      // it settles, whatever marks other files
}

const (
	minRest = 2 * time.Second
	// restFactor makes a listing rest at least so many times as long as the
	// last one took.
	restFactor = 20
	// lookChunk is how many paths are held against the ledger at a time.
	lookChunk = 1000
	// maxWaiting bounds how many files may be about to become whole at a time.
	// What is beyond is noticed when there is room.
	maxWaiting = 50_000
	// goneAtOnce is how many arrivals a listing asks about whether they are gone.
	goneAtOnce = 20_000
)

func newLookout(e *Engine, f *feed.Feed, record ledger.Feed, ready func()) *lookout {
	o := &lookout{
		e: e, feed: f, ready: ready, created: record.CreatedAt, waiting: map[string]*candidate{}, known: map[print]struct{}{},
		problem: "unknown", // what an earlier service said of the feed is forgotten by the first listing
	}
	if record.ListedAt != nil {
		o.listed = *record.ListedAt
	}
	o.first = record.ListedAt == nil
	return o
}

// run watches until ctx ends. look asks for a listing now; it is closed by the
// lookout when everything that was there then is ready or gone.
func (o *lookout) run(ctx context.Context, look <-chan chan struct{}) {
	defer o.close()
	var asked []chan struct{}
	list := true
	for ctx.Err() == nil {
		if list && !time.Now().Before(o.rest) {
			o.list(ctx)
			list = false
		}
		o.settle(ctx)
		if o.full && len(o.waiting) < maxWaiting/2 {
			list = true
		}
		if len(asked) > 0 && !list && o.still() == 0 {
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
				list = o.touched(ctx, append([]string{c.Path}, o.pending()...)) || list
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

// pending takes the paths of events that are there already, so that a burst of
// files is noticed together.
func (o *lookout) pending() []string {
	var paths []string
	for len(paths) < lookChunk {
		select {
		case c, open := <-o.events:
			if !open {
				o.events = nil
				return paths
			}
			if c.Everything {
				c.Path = "."
			}
			paths = append(paths, c.Path)
		default:
			return paths
		}
	}
	return paths
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

// still counts the candidates that become ready by themselves; those that wait
// for a marker may do so for ever.
func (o *lookout) still() int {
	n := 0
	for _, c := range o.waiting {
		if o.settles(c) {
			n++
		}
	}
	return n
}

func (o *lookout) settles(c *candidate) bool { return o.feed.Landing.WholeWhen == nil || c.list }

// nextSettle is how long nothing can become ready.
func (o *lookout) nextSettle() time.Duration {
	next := time.Hour
	for _, c := range o.waiting {
		if o.settles(c) {
			next = min(next, time.Until(c.since.Add(o.feed.Landing.Settle)))
		}
	}
	return max(next, time.Millisecond)
}

// list looks at the whole landing. It is what finds files when events get lost.
func (o *lookout) list(ctx context.Context) {
	began := time.Now()
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
	} else if !o.full {
		if o.first {
			poke(o.begun())
		}
		o.first, o.listed = false, began
	}
	if problem == o.problem {
		return
	}
	if err := o.e.Ledger.SetProblem(ctx, o.feed.Name, problem); err == nil {
		o.problem = problem
	}
}

// begun returns whom to tell that the landing was listed for the first time.
func (o *lookout) begun() chan struct{} {
	if w := o.e.worker(o.feed.Name); w != nil {
		return w.due
	}
	return make(chan struct{}, 1)
}

// tryList returns how long the landing itself took to list, which is what a
// listing must not do to it too often; the ledger's part is not counted.
func (o *lookout) tryList(ctx context.Context) (took time.Duration, err error) {
	begin := time.Now()
	if err := o.reopen(ctx); err != nil {
		return time.Since(begin), err
	}
	var chunk []landing.Entry
	var atLedger time.Duration
	seen := make(map[print]struct{}, len(o.known))
	flush := func() error {
		asked := time.Now()
		err := o.look(ctx, chunk, seen)
		atLedger += time.Since(asked)
		chunk = chunk[:0]
		return err
	}
	anything := false
	o.full = false
	err = o.folder.List(ctx, func(string) bool {
		anything = true
		return true
	}, func(e landing.Entry) error {
		p := printOf(e)
		if _, ok := o.known[p]; ok {
			seen[p] = struct{}{}
			return nil
		}
		if !o.mayBelong(e.Path) { // it is not looked at again, as long as it stays as it is
			seen[p] = struct{}{}
			return nil
		}
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
		o.known = seen
		err = o.gone(ctx, anything)
	}
	if err == nil && !o.full {
		err = o.e.Ledger.Listed(ctx, o.feed.Name)
	}
	return took, err
}

// mayBelong reports whether a path may belong, whatever its size.
func (o *lookout) mayBelong(path string) bool {
	land := o.feed.Landing
	land.SizeFrom, land.SizeTo = 0, 0
	return land.Look(path, 1).Why == ""
}

// reopen opens the landing, or opens it anew when another folder has taken its
// place.
func (o *lookout) reopen(ctx context.Context) error {
	folder, err := openLanding(o.e, o.feed)
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
	events := make(chan landing.Changed, lookChunk)
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

// touched looks at paths that events named, and reports whether a listing is
// needed as well.
func (o *lookout) touched(ctx context.Context, paths []string) (list bool) {
	if o.folder == nil {
		return false
	}
	var entries []landing.Entry
	looked := map[string]bool{}
	for _, path := range paths {
		if path == "." || o.folder.Zips && strings.HasSuffix(strings.ToLower(path), ".zip") {
			list = true
		}
		if looked[path] || !o.mayBelong(path) {
			continue
		}
		looked[path] = true
		if entry, err := o.folder.Stat(path); err == nil { // else it vanished again; the next listing says what that means
			entries = append(entries, entry)
		}
	}
	if err := o.look(ctx, entries, o.known); err != nil && ctx.Err() == nil {
		o.e.Log.Error("noticing failed; the next listing tries again", "feed", o.feed.Name, "error", err)
	}
	return list
}

// look holds entries against the ledger: membership there decides what is new.
// What the ledger has is added to seen.
func (o *lookout) look(ctx context.Context, entries []landing.Entry, seen map[print]struct{}) error {
	var paths []string
	var open []landing.Entry
	for _, e := range entries {
		if c := o.waiting[e.Path]; c != nil {
			o.changed(c, e)
			continue
		}
		if e.Problem == "" && o.feed.Landing.Look(e.Path, e.Size).Why != "" {
			continue
		}
		paths, open = append(paths, e.Path), append(open, e)
	}
	if len(open) == 0 {
		return nil
	}
	if len(o.waiting)+len(open) > maxWaiting {
		o.full = true
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
			o.waiting[e.Path] = &candidate{id: k.ID, entry: e, since: time.Now(), list: k.IsList}
		case same && k.State != ledger.Gone:
			seen[printOf(e)] = struct{}{}
		case ok && k.State == ledger.Loading:
			// a file that changes while it is loading is found out by the load
		case ok && k.State == ledger.Ready:
			if err := o.e.Ledger.Move(ctx, k.ID, []ledger.State{ledger.Ready}, ledger.Settling, nil); err == nil {
				o.waiting[e.Path] = &candidate{id: k.ID, entry: e, since: time.Now(), list: k.IsList}
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
		switch {
		case a.ID == 0: // another service was faster
		case a.State == ledger.Noticed || a.State == ledger.Settling:
			o.waiting[a.Path] = &candidate{id: a.ID, entry: freshEntries[i], since: time.Now(), list: a.IsList}
		default:
			seen[printOf(freshEntries[i])] = struct{}{}
		}
	}
	return nil
}

// named records what an arrival's name says.
func named(a *ledger.Arrival, captures filename.Captures) {
	a.Captures = captures
	if slot, ok := captures.Slot(); ok {
		a.Slot = &slot
	}
	if n, ok := captures["slot"].(int64); ok {
		a.SlotNumber = &n
	}
}

// arrival is the first record of a file: that it is there.
func (o *lookout) arrival(e landing.Entry) *ledger.Arrival {
	now := time.Now().UTC()
	taken := o.feed.Landing.Look(e.Path, max(1, e.Size))
	a := &ledger.Arrival{
		Feed: o.feed.Name, Path: e.Path, Size: e.Size, Modified: e.Modified, Inode: int64(e.Inode),
		State: ledger.Settling, SettlingAt: &now, IsList: taken.List, CameAt: o.came(e, now),
	}
	named(a, taken.Captures)
	switch {
	case e.Problem != "":
		a.State, a.Reason, a.FinishedAt = ledger.Refused, "it "+e.Problem, &now
	case o.first && o.feed.Landing.SkipBacklog && !e.Modified.After(o.created):
		a.State, a.Reason, a.FinishedAt, a.Backlog = ledger.Skipped, "backlog: it lay there before the feed", &now, true
	case o.feed.Landing.WholeWhen != nil && !taken.List:
		a.State, a.SettlingAt = ledger.Noticed, nil // until its marker is there
	}
	if a.State != ledger.Settling {
		a.SettlingAt = nil
	}
	return a
}

// came returns when a file came, as far as is known: not before the landing was
// looked at last, and, between then and now, at the file's own time.
func (o *lookout) came(e landing.Entry, now time.Time) *time.Time {
	came := e.Modified
	if came.Before(o.listed) {
		came = o.listed
	}
	if came.After(now) || e.Problem != "" {
		came = now
	}
	return &came
}

// changed notes another look at a candidate; a change begins its wait anew.
func (o *lookout) changed(c *candidate, e landing.Entry) {
	if !e.Same(c.entry) {
		c.entry, c.since = e, time.Now()
	}
}

// settle makes those candidates ready that are whole.
func (o *lookout) settle(ctx context.Context) {
	var whole []ledger.Still
	var paths []string
	for path, c := range o.waiting {
		if o.settles(c) && time.Since(c.since) < o.feed.Landing.Settle {
			continue
		}
		entry, err := o.folder.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			c.since = time.Now() // the next listing says whether it is gone
			continue
		}
		if err != nil || !entry.Same(c.entry) {
			o.changed(c, entry)
			if o.settles(c) {
				continue
			}
		}
		if !o.settles(c) && !o.marked(c) {
			continue
		}
		whole = append(whole, ledger.Still{ID: c.id, Size: entry.Size, Modified: entry.Modified, Inode: int64(entry.Inode)})
		if paths = append(paths, path); len(whole) == lookChunk {
			break
		}
	}
	if len(whole) == 0 {
		return
	}
	if err := o.e.Ledger.Settled(ctx, whole); err != nil {
		if ctx.Err() == nil {
			o.e.Log.Error("settling failed; trying on", "feed", o.feed.Name, "error", err)
		}
		for _, path := range paths {
			o.waiting[path].since = time.Now()
		}
		return
	}
	for _, path := range paths {
		delete(o.waiting, path)
	}
	o.ready()
}

// marked reports whether the marker of a file is there, and not older than it:
// the marker of an earlier version says nothing.
func (o *lookout) marked(c *candidate) bool {
	land := &o.feed.Landing
	marker, err := o.folder.Stat(land.WholeWhen.Expand(c.entry.Path, land.Look(c.entry.Path, c.entry.Size).Captures, land.Zone))
	return err == nil && marker.Problem == "" && !marker.Modified.Before(c.entry.Modified)
}

// gone marks arrivals that vanished before they were read. When the landing is
// bare, and several vanished at once or its device is another one than before,
// it is taken to be away instead.
func (o *lookout) gone(ctx context.Context, anything bool) error {
	var vanished []ledger.Awaited
	for looked := 0; ; {
		pending, err := o.e.Ledger.Pending(ctx, o.feed.Name, o.cursor, lookChunk)
		if err != nil {
			return err
		}
		for _, a := range pending {
			o.cursor = a.ID
			if a.AwayTo != "" { // it is to be loaded again from where it was put
				continue
			}
			if _, ok := o.known[printOf(landing.Entry{Path: a.Path, Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)})]; ok {
				continue
			}
			if _, err := o.folder.Stat(a.Path); errors.Is(err, fs.ErrNotExist) {
				vanished = append(vanished, a)
			}
		}
		if looked += len(pending); len(pending) < lookChunk {
			o.cursor = 0 // the next listing begins anew
			break
		}
		if looked >= goneAtOnce {
			break
		}
	}
	if anything {
		o.device = o.folder.Device
	} else if len(vanished) > 1 || len(vanished) == 1 && o.device != 0 && o.device != o.folder.Device {
		return &landing.AwayError{At: o.feed.Landing.At, Reason: fmt.Sprintf("all files that waited there (%d) vanished at once; they are waited for", len(vanished))}
	}
	for _, a := range vanished {
		to, more := ledger.Gone, map[string]any{"reason": "it vanished before it was read", "finished_at": time.Now().UTC()}
		if a.Generation > 1 { // it was to be loaded again
			to, more = ledger.Loaded, map[string]any{"reason": "it could not be loaded again: the file is no longer there; its rows stay as they are", "generation": a.Generation - 1, "finished_at": time.Now().UTC()}
		}
		err := o.e.Ledger.Move(ctx, a.ID, []ledger.State{ledger.Noticed, ledger.Settling, ledger.Ready}, to, more)
		if err != nil && !errors.Is(err, ledger.ErrMoved) {
			return err
		}
		delete(o.waiting, a.Path)
	}
	return nil
}
