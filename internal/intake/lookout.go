package intake

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/xxh3"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/reading"
)

// lookout is one feed's landing. At most one goroutine looks at it at a time.
type lookout struct {
	in      *Intake
	feed    *feed.Feed
	created time.Time // when the feed was put first
	ctx     context.Context
	cancel  context.CancelFunc
	ended   chan struct{} // closed when nobody looks at it any more
	ending  sync.Once

	// Guarded by the intake's lock:
	at         time.Time // when it is looked at next
	place      int       // in the timetable; -1 for none
	running    bool      // somebody looks at it now
	again      bool      // and is to look at it again at once
	paths      []string  // at which something happened
	everything bool      // all of it is to be listed
	asked      []chan struct{}

	// Whoever looks at it has these:
	folder     landing.Landing // while it is looked at
	unwatch    func()          // nil where it is listed only
	away       bool            // it could not be opened the last time
	listedOnly bool            // it could not be watched
	watched    landing.Identity
	waiting    *candidates
	wholeBy    time.Time          // of the pass that makes files ready; zero between passes
	untold     bool               // the feed has not been told of files that became ready
	known      map[print]struct{} // what needs no look: what the ledger has, as it was seen last, and what is not taken
	full       bool               // there is more than may wait at a time
	list       bool               // it is to be listed as soon as that may be
	next       time.Time          // when to list without being asked
	rest       time.Time          // no listing before that, whoever asks
	filledOn   uint64             // the device on which names were seen last
	problem    string
	told       bool      // the problem is on record
	began      time.Time // when the listing at hand began
	listed     time.Time // when the landing was looked at last; zero before the first listing
	first      bool      // the landing has never been listed
	rereading  int64     // how many bytes of changed files this look may still read
	cursor     int64     // up to which arrival it was looked whether files are gone
	waits      []chan struct{}
}

// print stands for a file as it was seen: its path, size, times and inode.
type print = xxh3.Uint128

func printOf(e landing.Entry) print {
	var room [256]byte
	b := binary.BigEndian.AppendUint64(room[:0], uint64(e.Size))
	b = binary.BigEndian.AppendUint64(b, uint64(e.Modified.UnixMicro()))
	b = binary.BigEndian.AppendUint64(b, uint64(e.Changed.UnixMicro()))
	b = binary.BigEndian.AppendUint64(b, e.Inode)
	return xxh3.Hash128(append(b, e.Path...))
}

const (
	minRest = 2 * time.Second
	// restFactor makes a listing rest at least so many times as long as the
	// last one took.
	restFactor = 20
	// farRest is the least rest of a landing at a place: its listings cost somebody else, and one that fails does so at once.
	farRest = time.Second
	// idleFactor makes a landing at a place rest so many times as long while its feed's calendar expects nothing, which begins
	// idleLead before a slot again.
	idleFactor = 10
	maxIdle    = 15 * time.Minute
	idleLead   = time.Hour
	// maxWaiting bounds how many files may be about to become whole at a time.
	// What is beyond is noticed when there is room.
	maxWaiting = 50_000
	// goneAtOnce is how many arrivals a listing asks about whether they are gone.
	goneAtOnce = 20_000
)

func newLookout(in *Intake, f *feed.Feed, record ledger.Feed) *lookout {
	o := &lookout{
		in: in, feed: f, created: record.CreatedAt, place: -1, ended: make(chan struct{}),
		waiting: newCandidates(f.Landing.Settle), known: map[print]struct{}{}, first: record.ListedAt == nil,
	}
	o.ctx, o.cancel = context.WithCancel(context.Background())
	if record.ListedAt != nil {
		o.listed = *record.ListedAt
	}
	return o
}

// end releases what the lookout has, when nobody looks any more. Whoever looked last and an intake that ends may both call it.
func (o *lookout) end() {
	o.ending.Do(func() {
		if o.unwatch != nil {
			o.unwatch()
		}
		for _, done := range append(o.waits, o.asked...) {
			close(done)
		}
		o.waits, o.asked = nil, nil
		close(o.ended)
	})
}

// concerns reports whether what happened at a path may be news.
func (o *lookout) concerns(path string) bool {
	return o.feed.Landing.WholeWhen != nil || o.feed.Landing.InZip() || o.mayBelong(path)
}

// step looks at what happened, lists the landing when that is due, and makes ready
// what is whole. It returns when the next look is due.
func (o *lookout) step(ctx context.Context) time.Time {
	o.in.mu.Lock()
	paths, asked := o.paths, o.asked
	o.list = o.list || o.everything || !time.Now().Before(o.next)
	o.paths, o.asked, o.everything = nil, nil, false
	o.in.mu.Unlock()
	o.waits = append(o.waits, asked...)
	listNow := o.list && !time.Now().Before(o.rest)
	if listNow || len(paths) > 0 || len(o.waiting.byPath) > 0 {
		o.look(ctx, paths, listNow)
	}
	if o.full && len(o.waiting.byPath) < maxWaiting/2 {
		o.list = true
	}
	if len(o.waits) > 0 && !o.list && o.waiting.settling() == 0 {
		for _, done := range o.waits {
			close(done)
		}
		o.waits = nil
	}
	return o.due()
}

// due is when the landing has to be looked at again.
func (o *lookout) due() time.Time {
	at := o.next
	if o.list {
		at = o.rest
	}
	if o.away { // the files that wait there cannot be looked at
		return at
	}
	if len(o.waiting.ask) > 0 {
		return time.Now()
	}
	if whole := o.waiting.due(); !whole.IsZero() && whole.Before(at) {
		at = whole
	}
	return at
}

// look opens the landing for a look.
func (o *lookout) look(ctx context.Context, paths []string, list bool) {
	began := time.Now()
	o.rereading = rereadAtOnce
	err := o.open(ctx)
	if o.away = err != nil; !o.away {
		defer func() {
			o.folder.Close()
			o.folder = nil
		}()
	}
	switch {
	case err == nil && list:
		o.list = false
		o.listAll(ctx)
		o.waiting.askAll()
		o.waiting.listedAnew()
	case err == nil && len(paths) > 0:
		o.list = o.touched(ctx, paths) || o.list
	case list:
		o.list = false
		o.afterListing(ctx, began, time.Since(began), err)
	}
	if o.folder != nil {
		o.settle(ctx)
	}
}

// open opens the landing, and watches it when another folder has taken its place.
func (o *lookout) open(ctx context.Context) error {
	folder, err := o.in.Landing(ctx, o.feed)
	if err != nil {
		return err
	}
	o.folder = folder
	if (o.unwatch != nil || o.listedOnly) && o.watched == folder.Identity() {
		return nil
	}
	if o.unwatch != nil {
		o.unwatch()
	}
	o.watched = folder.Identity()
	stop, ok := o.in.watch(o, folder)
	o.unwatch, o.listedOnly = stop, !ok
	return nil
}

// listAll looks at the whole landing. It is what finds files when events get lost.
func (o *lookout) listAll(ctx context.Context) {
	began := time.Now()
	took, err := o.tryList(ctx)
	o.afterListing(ctx, began, took, err)
}

// idleRest returns the least rest of a landing at a place. While the feed's calendar expects nothing it is longer, up to maxIdle:
// what comes then is late or early, and can wait a little.
func idleRest(calendar *due.Calendar, least time.Duration, now time.Time) time.Duration {
	until, idle := calendar.Rests(now, idleLead)
	if !idle {
		return least
	}
	return max(least, min(idleFactor*least, maxIdle, until.Sub(now)))
}

// afterListing says when the landing is listed next, and records what is to be told
// of a listing.
func (o *lookout) afterListing(ctx context.Context, began time.Time, took time.Duration, err error) {
	var least, far time.Duration
	if o.folder != nil {
		least = o.folder.Rest()
	}
	if o.feed.Landing.IsFar() {
		far = farRest
		least = idleRest(o.feed.Due, least, time.Now())
	}
	o.rest = time.Now().Add(max(far, restFactor*took))
	o.next = o.in.nextListing(took, least)
	if ctx.Err() != nil {
		return
	}
	l := ledger.Listing{Feed: o.feed.Name, ListedOnly: o.listedOnly && !o.feed.Landing.IsFar()}
	if err != nil {
		l.Failed, l.Problem = true, err.Error()
		var away *landing.AwayError
		switch {
		case l.Problem == o.problem:
		case errors.As(err, &away):
			o.in.Log.Warn("a landing is away", "feed", o.feed.Name, "reason", l.Problem)
		default:
			o.in.Log.Error("a landing could not be listed", "feed", o.feed.Name, "error", err)
		}
	} else if o.problem != "" {
		o.in.Log.Info("a landing can be listed again", "feed", o.feed.Name)
		o.in.Back(o.feed.Name)
	}
	first := err == nil && !o.full && o.first
	if err == nil && !o.full {
		o.first, o.listed = false, began
	}
	// What an earlier service said of the feed is forgotten by the first listing.
	l.SetProblem = !o.told || l.Problem != o.problem
	if !l.SetProblem && !first {
		if !l.Failed && !o.full {
			o.in.record(l)
		}
		return
	}
	l.Failed = l.Failed || o.full
	if _, err := o.in.listings.ask(ctx, l); err == nil {
		o.problem, o.told = l.Problem, true
		if first {
			o.in.Listed(o.feed.Name)
		}
	} else {
		o.first = o.first || first
	}
}

// tryList returns how long the landing itself took to list, which is what a
// listing must not do to it too often; the ledger's part is not counted.
func (o *lookout) tryList(ctx context.Context) (took time.Duration, err error) {
	begin := time.Now()
	o.began = begin
	var chunk []landing.Entry
	var atLedger time.Duration
	seen := make(map[print]struct{}, len(o.known))
	flush := func() error {
		asked := time.Now()
		err := o.notice(ctx, chunk, seen)
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
	return took, err
}

// mayBelong reports whether a path may belong, whatever its size.
func (o *lookout) mayBelong(path string) bool {
	land := o.feed.Landing
	land.SizeFrom, land.SizeTo = 0, 0
	return land.Look(path, 1).Why == ""
}

// touched looks at paths that events named, and reports whether a listing is
// needed as well.
func (o *lookout) touched(ctx context.Context, paths []string) (list bool) {
	var entries []landing.Entry
	looked := map[string]bool{}
	for _, path := range paths {
		o.waiting.happened(path)
		if path == "." || o.feed.Landing.InZip() && strings.HasSuffix(strings.ToLower(path), ".zip") {
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
	err := o.notice(ctx, entries, o.known)
	for _, e := range entries {
		if c := o.waiting.byPath[e.Path]; c != nil {
			c.named = true
		}
	}
	return err != nil || list // a listing finds what could not be noticed now
}

// notice holds entries against the ledger: membership there decides what is new.
// What the ledger has is added to seen.
func (o *lookout) notice(ctx context.Context, entries []landing.Entry, seen map[print]struct{}) error {
	var files []ledger.File
	var open []landing.Entry
	told := map[string]bool{} // places may tell a name twice
	for _, e := range entries {
		if c := o.waiting.byPath[e.Path]; c != nil {
			c.met = o.began
			if e.Same(c.entry) {
				c.listed = o.began
			} else {
				o.waiting.moved(c, e)
			}
			continue
		}
		if e.Problem == "" && o.feed.Landing.Look(e.Path, e.Size).Why != "" {
			continue
		}
		if told[e.Path] {
			continue
		}
		told[e.Path] = true
		files, open = append(files, ledger.File{Feed: o.feed.Name, Path: e.Path}), append(open, e)
	}
	if len(open) == 0 {
		return nil
	}
	if len(o.waiting.byPath)+len(open) > maxWaiting {
		o.full = true
		return nil
	}
	known, err := o.in.known.ask(ctx, files...)
	if err != nil {
		return err
	}
	var fresh []*ledger.Arrival
	var freshEntries []landing.Entry
	for i, e := range open {
		k := known[i]
		same, later, err := o.isSame(ctx, k, e)
		if err != nil {
			return err
		}
		switch {
		case later: // the next listing has time for it
		case k != nil && (k.State == ledger.Noticed || k.State == ledger.Settling):
			o.await(k.ID, e, k.IsList)
		case same && k.State != ledger.Gone:
			seen[printOf(e)] = struct{}{}
		case k != nil && k.State == ledger.Loading:
			// a file that changes while it is loading is found out by the load
		case k != nil && k.State == ledger.Ready:
			if err := o.in.Ledger.Unsettle(ctx, k.ID); err == nil {
				o.await(k.ID, e, k.IsList)
			} else if !errors.Is(err, ledger.ErrMoved) {
				return err
			}
		default:
			fresh, freshEntries = append(fresh, o.arrival(e)), append(freshEntries, e)
		}
	}
	if _, err := o.in.notice.ask(ctx, fresh...); err != nil {
		return err
	}
	for i, a := range fresh {
		switch {
		case a.ID == 0: // another service was faster
		case a.State == ledger.Noticed || a.State == ledger.Settling:
			o.await(a.ID, freshEntries[i], a.IsList)
		default:
			seen[printOf(freshEntries[i])] = struct{}{}
		}
	}
	return nil
}

// rereadAtOnce is how many bytes of files a look reads whose change time is another than
// it was.
const rereadAtOnce = 64 << 20

func onItsWay(s ledger.State) bool {
	return s == ledger.Noticed || s == ledger.Settling || s == ledger.Ready || s == ledger.Loading
}

// isSame reports whether a file is as the ledger has it. later says that it takes longer
// than there is time for now.
func (o *lookout) isSame(ctx context.Context, k *ledger.Look, e landing.Entry) (same, later bool, err error) {
	if k == nil {
		return false, false, nil
	}
	was := entryOf(k.Path, k.Size, k.Modified, k.Changed, k.Inode)
	if e.Same(was) || !e.Alike(was) || k.State == ledger.Gone || onItsWay(k.State) {
		return e.Same(was), false, nil
	}
	if o.rereading <= 0 {
		return false, true, nil
	}
	o.rereading -= e.Size
	same, err = o.hasSameBytes(ctx, k, e)
	return same, false, err
}

// hasSameBytes reads a file that has the size and the time that it had, and another change
// time: it was rewritten, or only its rights or links have changed.
func (o *lookout) hasSameBytes(ctx context.Context, k *ledger.Look, e landing.Entry) (bool, error) {
	a, err := o.in.Ledger.Arrival(ctx, k.ID)
	if err != nil {
		return false, err
	}
	if a.SHA256 != "" {
		digest, err := o.digest(ctx, e.Path)
		switch {
		case ctx.Err() != nil:
			return false, ctx.Err()
		case err != nil: // nobody can tell; if it is gone, the next listing says so
			return true, nil
		case digest != a.SHA256:
			return false, nil
		}
	}
	return true, o.in.Ledger.Untouched(ctx, k.ID, e.Changed)
}

func (o *lookout) digest(ctx context.Context, path string) (string, error) {
	file, err := o.folder.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	return reading.DigestOf(ctx, file)
}

// entryOf is a file as the ledger has it.
func entryOf(path string, size int64, modified time.Time, changed *time.Time, inode int64) landing.Entry {
	e := landing.Entry{Path: path, Size: size, Modified: modified.UTC(), Inode: uint64(inode)}
	if changed != nil {
		e.Changed = changed.UTC()
	}
	return e
}

// changeTime is a file's change time as the ledger has it.
func changeTime(e landing.Entry) *time.Time {
	if e.Changed.IsZero() {
		return nil
	}
	return &e.Changed
}

// arrival is the first record of a file: that it is there.
func (o *lookout) arrival(e landing.Entry) *ledger.Arrival {
	now := time.Now().UTC()
	taken := o.feed.Landing.Look(e.Path, max(1, e.Size))
	a := &ledger.Arrival{
		Feed: o.feed.Name, Path: e.Path, Size: e.Size, Modified: e.Modified, Changed: changeTime(e),
		Inode: int64(e.Inode),
		State: ledger.Settling, SettlingAt: &now, IsList: taken.List, CameAt: o.came(e, now),
	}
	a.Name(taken.Captures)
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

// await begins to wait for a file to become whole. A list of files settles, whatever
// marks the files.
func (o *lookout) await(id int64, e landing.Entry, isList bool) {
	c := &candidate{id: id, entry: e, met: o.began}
	if land := &o.feed.Landing; land.WholeWhen != nil && !isList {
		c.marker = land.WholeWhen.Expand(e.Path, land.Look(e.Path, e.Size).Captures, land.Zone)
	}
	o.waiting.add(c)
}

// settle makes those candidates ready that are whole, some at a time. The feed is told
// when all are that are whole by now: a part of them would load before files whose
// turn it is.
func (o *lookout) settle(ctx context.Context) {
	o.waiting.rest(time.Now())
	defer func() { o.waiting.rest(time.Now()) }() // those that moved
	if o.wholeBy.IsZero() {
		o.wholeBy = time.Now()
	}
	var whole []*candidate
	var still []ledger.Still
	for len(whole) < lookChunk {
		c := o.waiting.next(o.wholeBy)
		if c == nil {
			break
		}
		if o.isWhole(c) {
			whole = append(whole, c)
			still = append(still, ledger.Still{ID: c.id, Size: c.entry.Size, Modified: c.entry.Modified,
				Changed: c.entry.Changed,
				Inode:   int64(c.entry.Inode)})
		}
	}
	if !o.waiting.hasNext(o.wholeBy) {
		o.wholeBy = time.Time{}
	}
	defer o.tellReady()
	if len(whole) == 0 {
		return
	}
	if _, err := o.in.settled.ask(ctx, still...); err != nil { // tried again after another settling time, or listing
		for _, c := range whole {
			if c.marker == "" {
				o.waiting.moved(c, c.entry)
			} else {
				o.list = true
			}
		}
		return
	}
	for _, c := range whole {
		o.waiting.remove(c.entry.Path)
	}
	o.untold = true
}

// tellReady tells the feed of files that became ready, unless more are about to.
func (o *lookout) tellReady() {
	if o.untold && o.wholeBy.IsZero() {
		o.untold = false
		o.in.Ready(o.feed.Name)
	}
}

// isWhole looks at a candidate again, and reports whether it is whole: whether it is as
// it was a settling time ago, or its marker is there.
func (o *lookout) isWhole(c *candidate) bool {
	if o.feed.Landing.IsFar() && c.marker == "" && !c.named {
		return o.isListedStill(c)
	}
	entry, err := o.folder.Stat(c.entry.Path)
	switch {
	case c.marker != "" && err == nil:
		c.entry = entry
		return o.isMarked(c)
	case c.marker != "": // whether it is gone, the next listing says
		return false
	case err != nil:
		o.waiting.moved(c, c.entry)
		return false
	case !entry.Same(c.entry):
		o.waiting.moved(c, entry)
		return false
	}
	return true
}

// isListedStill reports whether a candidate of a place was seen as it is by a listing that began when it had been still
// for the settling time. A look at each would be a request each.
func (o *lookout) isListedStill(c *candidate) bool {
	still := c.since.Add(o.feed.Landing.Settle)
	switch {
	case time.Now().Before(still): // it moved; its turn comes
		return false
	case !c.listed.Before(still):
		return true
	}
	o.waiting.unlisted = append(o.waiting.unlisted, c)
	o.list = true
	return false
}

// isMarked reports whether the marker of a file is there, and not older than it:
// the marker of an earlier version says nothing.
func (o *lookout) isMarked(c *candidate) bool {
	marker, err := o.folder.Stat(c.marker)
	return err == nil && marker.Problem == "" && !marker.Modified.Before(c.entry.Modified)
}

// gone marks arrivals that vanished before they were read. When the landing is
// bare, and several vanished at once or its device is another one than before,
// it is taken to be away instead.
func (o *lookout) gone(ctx context.Context, anything bool) error {
	var vanished []ledger.Awaited
	for looked := 0; ; {
		answers, err := o.in.pending.ask(ctx, ledger.After{Feed: o.feed.Name, After: o.cursor})
		if err != nil {
			return err
		}
		pending := answers[0]
		for _, a := range pending {
			o.cursor = a.ID
			if a.AwayTo != "" { // it is to be loaded again from where it was put
				continue
			}
			if c := o.waiting.byPath[a.Path]; c != nil && c.met.Equal(o.began) { // this listing saw it
				continue
			}
			if _, ok := o.known[printOf(entryOf(a.Path, a.Size, a.Modified, a.Changed, a.Inode))]; ok {
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
		o.filledOn = o.folder.Identity().Device
	} else if len(vanished) > 1 || len(vanished) == 1 && o.filledOn != 0 && o.filledOn != o.folder.Identity().Device {
		return &landing.AwayError{At: o.feed.Landing.At,
			Reason: fmt.Sprintf("all files that waited there (%d) vanished at once; they are waited for",
				len(vanished))}
	}
	if _, err := o.in.vanished.ask(ctx, vanished...); err != nil {
		return err
	}
	for _, a := range vanished {
		o.waiting.remove(a.Path)
	}
	return nil
}
