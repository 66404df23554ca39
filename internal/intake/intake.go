package intake

import (
	"container/heap"
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

// Options are what an intake needs.
type Options struct {
	Ledger  *ledger.Ledger
	Landing func(context.Context, *feed.Feed) (landing.Landing, error)
	Log     *slog.Logger
	Ready   func(feed string) // called when something became ready; must not wait
	Listed  func(feed string) // called when a landing was listed for the first time; must not wait
	Back    func(feed string) // called when a landing can be listed again; must not wait
}

// Intake watches the landings of feeds. It may be used by several goroutines.
type Intake struct {
	Options
	watcher *landing.Watcher // nil where the system has none
	wake    chan struct{}
	slots   chan struct{} // a place for each feed that is looked at at a time

	known    together[ledger.File, *ledger.Look]
	notice   together[*ledger.Arrival, struct{}]
	settled  together[ledger.Still, struct{}]
	pending  together[ledger.After, []ledger.Awaited]
	vanished together[ledger.Awaited, struct{}]
	listings together[ledger.Listing, struct{}]

	mu         sync.Mutex
	feeds      map[string]*lookout
	timetable  timetable
	cost       time.Duration // of a listing, on average
	saidLimit  bool          // that the limit of watches is reached
	unrecorded map[string]ledger.Listing
}

const (
	// lookedAtOnce is how many feeds are looked at at a time.
	lookedAtOnce = 128
	// slow is how long a look may take its place: a share that hangs must not keep
	// other feeds from being looked at.
	slow = 5 * time.Second
	// recordEvery is how often it is recorded when landings were listed.
	recordEvery = 10 * time.Second
	// lookChunk is how many paths are held against the ledger at a time.
	lookChunk = 1000
)

// New makes an intake. It does nothing until [Intake.Run].
func New(o Options) *Intake {
	in := &Intake{Options: o, wake: make(chan struct{}, 1), slots: make(chan struct{}, lookedAtOnce),
		feeds: map[string]*lookout{}, unrecorded: map[string]ledger.Listing{}}
	in.known.most, in.known.do = lookChunk, in.askKnown
	in.notice.most, in.notice.do = lookChunk, func(ctx context.Context, a []*ledger.Arrival) ([]struct{}, error) {
		return make([]struct{}, len(a)), o.Ledger.Notice(ctx, a)
	}
	in.settled.most, in.settled.do = lookChunk, func(ctx context.Context, s []ledger.Still) ([]struct{}, error) {
		return make([]struct{}, len(s)), o.Ledger.Settled(ctx, s)
	}
	in.pending.most, in.pending.do = lookChunk, in.askPending
	in.vanished.most, in.vanished.do = lookChunk, func(ctx context.Context, a []ledger.Awaited) ([]struct{}, error) {
		return make([]struct{}, len(a)), o.Ledger.Vanished(ctx, a)
	}
	in.listings.most, in.listings.do = lookChunk, func(ctx context.Context, l []ledger.Listing) ([]struct{}, error) {
		return make([]struct{}, len(l)), o.Ledger.Listed(ctx, l)
	}
	return in
}

func (in *Intake) askKnown(ctx context.Context, files []ledger.File) ([]*ledger.Look, error) {
	looks, err := in.Ledger.Known(ctx, files)
	if err != nil {
		return nil, err
	}
	byFile := make(map[ledger.File]*ledger.Look, len(looks))
	for i := range looks {
		byFile[looks[i].File] = &looks[i]
	}
	out := make([]*ledger.Look, len(files))
	for i, f := range files {
		out[i] = byFile[f]
	}
	return out, nil
}

func (in *Intake) askPending(ctx context.Context, from []ledger.After) ([][]ledger.Awaited, error) {
	list, err := in.Ledger.Pending(ctx, from, lookChunk)
	if err != nil {
		return nil, err
	}
	byFeed := map[string][]ledger.Awaited{}
	for _, a := range list {
		byFeed[a.Feed] = append(byFeed[a.Feed], a)
	}
	out := make([][]ledger.Awaited, len(from))
	for i, f := range from {
		out[i] = byFeed[f.Feed]
	}
	return out, nil
}

// Add begins to watch the landing of a feed, in place of the version of it that is
// watched.
func (in *Intake) Add(f *feed.Feed, record ledger.Feed) {
	in.Remove(f.Name)
	o := newLookout(in, f, record)
	in.mu.Lock()
	defer in.mu.Unlock()
	in.feeds[f.Name] = o
	in.schedule(o, time.Time{})
}

// Remove ends the watching of a feed's landing, and waits until it has ended.
func (in *Intake) Remove(name string) {
	in.mu.Lock()
	o := in.feeds[name]
	if o == nil {
		in.mu.Unlock()
		return
	}
	delete(in.feeds, name)
	delete(in.unrecorded, name)
	o.cancel()
	if o.place >= 0 {
		heap.Remove(&in.timetable, o.place)
	}
	running := o.running
	in.mu.Unlock()
	if running {
		<-o.ended
	} else {
		o.end()
	}
}

// Look lists the landing of a feed, and waits until everything that is there is
// ready or gone.
func (in *Intake) Look(ctx context.Context, name string) error {
	done := make(chan struct{})
	in.mu.Lock()
	o := in.feeds[name]
	if o == nil {
		in.mu.Unlock()
		return fmt.Errorf("the landing of %s is not watched", name)
	}
	o.asked, o.everything = append(o.asked, done), true
	in.schedule(o, time.Time{})
	in.mu.Unlock()
	select {
	case <-done:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Run watches until ctx ends.
func (in *Intake) Run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	watcher, err := landing.NewWatcher()
	if err != nil {
		in.Log.Warn("no events from landings; they are listed only", "error", err)
	} else {
		in.mu.Lock()
		in.watcher = watcher
		in.mu.Unlock()
		wg.Go(func() { watcher.Run(ctx) })
	}
	wg.Go(func() { in.keepRecords(ctx) })
	for {
		o, wait := in.next()
		if o != nil {
			select {
			case in.slots <- struct{}{}:
				wg.Go(func() { in.step(ctx, o) })
				continue
			case <-ctx.Done():
			}
		}
		select {
		case <-ctx.Done():
			in.endAll(o)
			return
		case <-in.wake:
		case <-time.After(wait):
		}
	}
}

// endAll ends what is not running; what runs ends by itself.
func (in *Intake) endAll(taken *lookout) {
	in.mu.Lock()
	defer in.mu.Unlock()
	for _, o := range in.feeds {
		o.cancel()
		if !o.running || o == taken {
			o.end()
		}
	}
}

// next takes the feed whose turn it is, or says how long nobody's is.
func (in *Intake) next() (*lookout, time.Duration) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if len(in.timetable) == 0 {
		return nil, time.Hour
	}
	o := in.timetable[0]
	if wait := time.Until(o.at); wait > 0 {
		return nil, wait
	}
	heap.Pop(&in.timetable)
	o.running = true
	return o, 0
}

// step looks at one feed. It gives its place back when it takes too long.
func (in *Intake) step(ctx context.Context, o *lookout) {
	var once sync.Once
	leave := func() { once.Do(func() { <-in.slots }) }
	timer := time.AfterFunc(slow, leave)
	defer leave()
	defer timer.Stop()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(o.ctx, cancel)
	defer stop()
	at := o.step(ctx)
	in.mu.Lock()
	o.running = false
	if o.ctx.Err() == nil && ctx.Err() == nil {
		again := o.again
		o.again = false
		if again {
			at = time.Time{}
		}
		in.schedule(o, at)
		in.mu.Unlock()
		return
	}
	in.mu.Unlock()
	o.end()
}

// schedule has a feed looked at, at a time or at once. in.mu is held.
func (in *Intake) schedule(o *lookout, at time.Time) {
	switch {
	case o.running:
		o.again = true
		return
	case o.place < 0:
		o.at = at
		heap.Push(&in.timetable, o)
	case at.Before(o.at):
		o.at = at
		heap.Fix(&in.timetable, o.place)
	default:
		return
	}
	if o.place == 0 {
		select {
		case in.wake <- struct{}{}:
		default:
		}
	}
}

// heard notes that something happened at a landing.
func (in *Intake) heard(o *lookout, c landing.Changed) {
	if !c.Everything && !o.concerns(c.Path) {
		return
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	if c.Everything || len(o.paths) >= mostPaths {
		o.everything, o.paths = true, nil
	} else {
		o.paths = append(o.paths, c.Path)
	}
	in.schedule(o, time.Time{})
}

// Nudge has a path of a feed's landing looked at, as if something had happened there.
func (in *Intake) Nudge(name, path string) {
	in.mu.Lock()
	o := in.feeds[name]
	in.mu.Unlock()
	if o != nil {
		in.heard(o, landing.Changed{Path: path})
	}
}

// mostPaths is how many paths are remembered of a feed whose turn has not come.
const mostPaths = 10 * lookChunk

// share is which part of a processor listings may take.
const share = 100

// nextListing is when a landing is listed again after a listing that took so long, least the rest that it needs. All
// listings together take a hundredth of the time. Landings are listed together, so
// that what they ask of the ledger is asked together.
func (in *Intake) nextListing(took, least time.Duration) time.Time {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.cost += (took - in.cost) / 16
	rest := max(minRest, least, restFactor*took)
	together := max(minRest, share*in.cost*time.Duration(len(in.feeds))).Round(minRest)
	return time.Now().Add(rest).Truncate(together).Add(together)
}

// watch begins to watch a landing. It reports whether that could be done.
func (in *Intake) watch(o *lookout, at landing.Landing) (stop func(), ok bool) {
	folder, here := at.(*landing.Folder)
	if !here {
		return nil, false
	}
	in.mu.Lock()
	watcher := in.watcher
	in.mu.Unlock()
	if watcher == nil {
		return nil, false
	}
	stop, err := watcher.Watch(folder, func(c landing.Changed) { in.heard(o, c) })
	if err == nil {
		return stop, true
	}
	in.mu.Lock()
	said := in.saidLimit
	in.saidLimit = true
	in.mu.Unlock()
	if !said {
		in.Log.Warn("no events from this landing and others; they are listed only, and `mullein feed list --all` "+
			"marks them", "feed", o.feed.Name, "error", err)
	}
	return nil, false
}

// record notes a listing that is to be recorded some time.
func (in *Intake) record(l ledger.Listing) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.feeds[l.Feed] != nil {
		in.unrecorded[l.Feed] = l
	}
}

// keepRecords records now and then when landings were listed.
func (in *Intake) keepRecords(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(recordEvery):
		}
		in.mu.Lock()
		list := make([]ledger.Listing, 0, len(in.unrecorded))
		for _, l := range in.unrecorded {
			list = append(list, l)
		}
		clear(in.unrecorded)
		in.mu.Unlock()
		for len(list) > 0 && ctx.Err() == nil {
			n := min(len(list), lookChunk)
			if err := in.Ledger.Listed(ctx, list[:n]); err != nil {
				break // the next listings are recorded
			}
			list = list[n:]
		}
	}
}

// timetable is the feeds by when they are looked at next: a heap.
type timetable []*lookout

func (t timetable) Len() int           { return len(t) }
func (t timetable) Less(i, j int) bool { return t[i].at.Before(t[j].at) }
func (t timetable) Swap(i, j int) {
	t[i], t[j] = t[j], t[i]
	t[i].place, t[j].place = i, j
}

// Push adds a feed.
func (t *timetable) Push(x any) {
	o := x.(*lookout)
	o.place = len(*t)
	*t = append(*t, o)
}

// Pop takes the last one.
func (t *timetable) Pop() any {
	old := *t
	o := old[len(old)-1]
	old[len(old)-1] = nil
	o.place = -1
	*t = old[:len(old)-1]
	return o
}
