package engine

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// part is one file on its way through a load.
type part struct {
	arrival    *ledger.Arrival
	n          int // its number in the load
	file       *landing.File
	digest     string // of its bytes; "" until it is known
	content    []byte // of a small file
	reading    *reading
	results    []check.Result
	sent       *Sent // of a rehearsal, where the file is not at the landing
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

// errChanged says that a file is not the one that was noticed any more.
var errChanged = errors.New("the file changed while it was read")

// loading is one transaction's worth of work.
type loading struct {
	w       *worker
	run     *ledger.Run
	folder  *landing.Folder
	p       *progress
	n       int      // parts in all, numbered from 0
	before  *loading // that was on its way into the target when this began
	blocked bool     // one of it is tried again, and blocks those behind it
	handed  bool     // the files are closed by whoever goes on with them
	copies  []*part  // of files of this load; what becomes of them depends on those
}

// load brings arrivals to an end, or to their next attempt. What is wrong with
// them goes to the ledger; an error is one of the feed as a whole.
func (w *worker) load(ctx context.Context, run *ledger.Run, n next) error {
	all := n.arrivals()
	grouped := n.name == "" && (len(all) > 1 || all[0].Size <= smallFile)
	begun, err := w.e.Ledger.Begin(ctx, all, run.ID, w.version, grouped)
	if err != nil || len(begun) == 0 {
		return err
	}
	p := &progress{Progress: Progress{Feed: w.feed.Name, Arrival: begun[0].ID, Path: begun[0].Path, Files: len(begun)}}
	for _, a := range begun {
		p.Size += a.Size
	}
	w.progress.Store(p)
	l := &loading{w: w, run: run, p: p, before: w.before}
	if w.before != nil {
		w.before.before = nil
	}
	w.before = l
	defer func() {
		if !l.handed {
			l.over()
		}
	}()
	var parts []*part
	for _, a := range begun {
		w.step(p, a.ID, StepClaimed)
		parts = append(parts, &part{arrival: a, marker: check.Marker{Rows: -1}, wantSum: n.sums[a.Path]})
	}
	if parts, err = l.known(ctx, parts); err != nil {
		return l.failed(ctx, parts, err)
	}
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return l.failed(ctx, parts, err)
	}
	l.folder = folder
	defer func() {
		if !l.handed {
			l.close(parts)
		}
	}()
	if grouped {
		return l.small(ctx, parts)
	}
	if err := w.settled(); err != nil { // the session is needed
		return l.giveBack(ctx, parts, err)
	}
	if n.name != "" {
		return l.delivery(ctx, parts, n)
	}
	if len(parts) > 0 {
		parts, err := l.ready(ctx, parts)
		if err != nil || len(parts) == 0 {
			return err
		}
		return l.stream(ctx, parts)
	}
	return nil
}

// over ends the progress that is told, unless that of another load is by now.
func (l *loading) over() { l.w.progress.CompareAndSwap(l.p, nil) }

func (l *loading) close(parts []*part) {
	for _, p := range parts {
		if p.file != nil {
			p.file.Close()
		}
	}
	l.folder.Close()
}

// giveBack puts arrivals back that could not be worked on for something that
// is not their fault.
func (l *loading) giveBack(ctx context.Context, parts []*part, err error) error {
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	for _, p := range open(parts) {
		err = errors.Join(err, l.back(after, p, ledger.Ready, ""))
	}
	return err
}

// step tells that an arrival has come to a step.
func (w *worker) step(p *progress, arrival int64, s Step) {
	p.step.Store(s)
	if w.e.OnStep != nil {
		w.e.OnStep(w.feed.Name, arrival, s)
	}
}

func (l *loading) step(parts []*part, s Step) {
	for _, p := range parts {
		l.w.step(l.p, p.arrival.ID, s)
	}
}

// known ends arrivals of which an earlier attempt committed without knowing,
// and finds out which were loaded before. It returns the others.
func (l *loading) known(ctx context.Context, parts []*part) ([]*part, error) {
	var out []*part
	for _, p := range parts {
		if p.arrival.Attempts > 1 || p.arrival.Generation > 1 {
			m, err := l.w.target.MarkerOf(ctx, l.w.feed.Name, p.arrival.ID)
			if err != nil {
				return parts, err
			}
			if m != nil && m.Generation >= p.arrival.Generation {
				if err := l.w.finishFromMarker(ctx, p.arrival, m); err != nil {
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

// ready opens the files that are to be read as a stream and decides what is
// to become of each. It returns those that are to be loaded; the others have
// come to their end.
func (l *loading) ready(ctx context.Context, parts []*part) ([]*part, error) {
	for _, p := range parts {
		err := l.open(ctx, p)
		if err == nil {
			var similar bool
			similar, err = l.w.e.Ledger.LoadedOfSize(ctx, l.w.feed.Name, p.arrival.Size)
			if err == nil && (similar || l.w.readsDigest()) {
				p.digest, err = digestOf(ctx, p.file)
			}
		}
		if err != nil {
			return nil, l.failed(ctx, parts, &culpritError{p, err})
		}
	}
	out, err := l.decide(ctx, parts)
	if err != nil {
		return nil, l.failed(ctx, parts, err)
	}
	return out, nil
}

// open opens the file that was noticed, and no other, and reads its marker.
func (l *loading) open(ctx context.Context, p *part) error {
	a := p.arrival
	var err error
	noticed := landing.Entry{Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}
	if a.AwayTo != "" {
		p.file, err = l.folder.OpenAway(a.AwayTo)
		if err == nil {
			noticed.Inode = p.file.Entry.Inode // it may have been moved to another disk
			p.file.Entry.Path = a.AwayTo
		}
	} else {
		p.file, err = l.folder.Open(a.Path)
	}
	if err != nil {
		return err
	}
	if !p.file.Entry.Same(noticed) {
		if touched, err := l.touched(ctx, p); err != nil || !touched {
			return cmp.Or(err, errChanged)
		}
	}
	template := l.w.feed.Landing.WholeWhen
	if template == nil || a.AwayTo != "" || a.Forced {
		return nil
	}
	const maxMarker = 64 << 10
	at := template.Expand(a.Path, l.w.feed.Landing.Files.Read(a.Captures), l.w.feed.Landing.Zone)
	text, err := l.folder.ReadSmall(at, maxMarker)
	if errors.Is(err, fs.ErrNotExist) {
		return errChanged // its marker was taken back
	}
	if err != nil {
		return err
	}
	p.marker = check.ReadMarker(string(text))
	return nil
}

// touched reports whether the file that is there has the bytes of an arrival that
// was read before: it was noticed once more, and only its time had changed.
func (l *loading) touched(ctx context.Context, p *part) (bool, error) {
	a := p.arrival
	if a.SHA256 == "" || a.AwayTo != "" {
		return false, nil
	}
	newest, err := l.w.e.Ledger.Newest(ctx, a.Feed, []string{a.Path})
	now := newest[a.Path]
	return now.CopyOf != nil && now.SHA256 == a.SHA256 && p.file.Entry.Same(landing.Entry{Size: now.Size, Modified: now.Modified.UTC(), Inode: uint64(now.Inode)}), err
}

// decide finds out which arrivals are copies or reissues of what is loaded,
// ends those that are not to be loaded, and returns the others.
func (l *loading) decide(ctx context.Context, parts []*part) ([]*part, error) {
	var paths, digests []string
	for _, p := range parts {
		paths = append(paths, p.arrival.Path)
		if p.digest != "" {
			digests = append(digests, p.digest)
		}
	}
	earlier, err := l.w.e.Ledger.Earlier(ctx, l.w.feed.Name, paths, digests)
	if err != nil {
		return nil, err
	}
	var out []*part
	var endings []ledger.Ending
	var read []ledger.Reading
	inGroup := map[string]*part{}
	for _, p := range parts {
		ending, err := l.decideOne(ctx, p, earlier)
		if err != nil {
			return nil, err
		}
		if first := inGroup[p.digest]; ending == nil && p.copies(first) && l.w.skipsCopies(p.arrival) {
			p.original = first
			l.copies = append(l.copies, p)
			continue
		}
		if ending == nil {
			out = append(out, p)
			inGroup[p.digest] = p
			continue
		}
		p.ended = true
		endings = append(endings, *ending)
		read = append(read, ledger.Reading{ID: p.arrival.ID, SHA256: p.digest})
	}
	if len(endings) == 0 {
		return out, nil
	}
	if err := l.w.e.Ledger.Staged(ctx, read); err != nil {
		return nil, err
	}
	return out, l.w.e.Ledger.Finish(ctx, endings...)
}

// decideOne tells how an arrival ends that is not to be loaded: it has the
// bytes that are loaded under its path (then only its time has changed), or
// under another name with the same captured values while the first is still
// what is loaded for them; or it is another version of what is loaded, and the
// feed does not take those. A return to an earlier content (A, B, A again) is
// no copy. For those that are to be loaded, it says what they replace.
func (l *loading) decideOne(ctx context.Context, p *part, earlier ledger.Earlier) (*ledger.Ending, error) {
	a, land := p.arrival, &l.w.feed.Landing
	if p.generation = a.Generation; p.generation == 0 && p.digest != "" {
		p.generation = 1 + earlier.Generations[ledger.GenerationKey(a.Path, p.digest)]
	}
	if p.again {
		p.replaces = []int64{a.ID}
	}
	last, isThere := earlier.ByPath[a.Path]
	isThere = isThere && last.ID != a.ID
	if isThere && !a.Forced && last.SHA256 == p.digest {
		return l.skip(a, &last.ID, fmt.Sprintf("the same bytes as arrival %d of this path; only its time has changed", last.ID)), nil
	}
	if isThere {
		switch reissue := land.Reissue; {
		case reissue == feed.ReissueReplace:
			versions, err := l.w.e.Ledger.LoadedVersions(ctx, a.Feed, a.Path)
			p.replaces = append(p.replaces, versions...)
			return nil, err
		case a.Forced:
		case reissue == feed.ReissueHold:
			return &ledger.Ending{ID: a.ID, State: ledger.Held, Reason: fmt.Sprintf("another version of this file, arrival %d, is loaded; release it to load this one", last.ID)}, nil
		case reissue == feed.ReissueSkip:
			return l.skip(a, nil, fmt.Sprintf("another version of this file, arrival %d, is loaded, and the feed skips reissues", last.ID)), nil
		}
		return nil, nil
	}
	if !l.w.skipsCopies(a) || p.digest == "" {
		return nil, nil
	}
	for i := range earlier.ByDigest {
		first := &earlier.ByDigest[i]
		if first.SHA256 != p.digest || first.ID == a.ID || !sameCaptures(a, first) {
			continue
		}
		// Where the captures name a slot they tell which file is meant; else its
		// path does.
		still, err := l.w.e.Ledger.LoadedLast(ctx, &ledger.Arrival{ID: a.ID, Feed: a.Feed, Path: first.Path, Captures: a.Captures, Slot: a.Slot}, a.Slot != nil)
		if err != nil {
			return nil, err
		}
		if still != nil && still.SHA256 == p.digest {
			return l.skipCopy(a, first), nil
		}
	}
	return nil, nil
}

// copies reports whether p, whose digest is that of first, is a copy of it. Of
// the same path it would be another version.
func (p *part) copies(first *part) bool {
	return first != nil && p.digest != "" && sameCaptures(p.arrival, first.arrival)
}

func (w *worker) skipsCopies(a *ledger.Arrival) bool { return !w.feed.Landing.LoadCopies && !a.Forced }

func (l *loading) skipCopy(a, first *ledger.Arrival) *ledger.Ending {
	return l.skip(a, &first.ID, fmt.Sprintf("a copy of arrival %d, %s", first.ID, first.Path))
}

func (l *loading) skip(a *ledger.Arrival, copyOf *int64, reason string) *ledger.Ending {
	e := ledger.Ending{ID: a.ID, State: ledger.Skipped, Reason: reason, CopyOf: copyOf}
	if copyOf != nil {
		e.Away = l.w.awayFor(ledger.Skipped)
	}
	return &e
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

// delivery loads all files of a delivery, or none.
func (l *loading) delivery(ctx context.Context, parts []*part, n next) error {
	var files []*part
	var list *part
	for _, p := range parts {
		if n.list != nil && p.arrival.ID == n.list.ID {
			list = p
		} else {
			p.n = len(files)
			files = append(files, p)
		}
	}
	var of []*ledger.Arrival
	for _, p := range parts {
		of = append(of, p.arrival)
	}
	if err := l.w.e.Ledger.Belong(ctx, of, n.name); err != nil {
		return l.failed(ctx, parts, err)
	}
	loaded := true
	if len(files) > 0 {
		var err error
		files, err = l.ready(ctx, files)
		if err == nil && len(files) > 0 {
			for i, p := range files {
				p.n = i
			}
			l.n = len(files)
			err = l.stream(ctx, files)
		}
		if err != nil {
			if list != nil {
				err = errors.Join(err, l.back(ctx, list, ledger.Ready, "its files could not be loaded"))
			}
			return err
		}
		for _, p := range files {
			loaded = loaded && p.committed
		}
	}
	for _, p := range l.copies {
		err := l.after(ctx, p, p.original)
		if err != nil {
			return err
		}
	}
	if list == nil {
		return nil
	}
	if !loaded { // they wait for another attempt, or were refused
		return l.after(ctx, list, files[0])
	}
	return l.w.e.Ledger.Finish(ctx, ledger.Ending{ID: list.arrival.ID, State: ledger.Loaded, Away: l.w.awayFor(ledger.Loaded), Reason: fmt.Sprintf("a list of %d files", len(n.sums))})
}

// after brings a part that is not loaded itself, the list of a delivery or a
// copy, to where the file has come that it belongs to.
func (l *loading) after(ctx context.Context, p, first *part) error {
	if first.committed {
		return l.w.e.Ledger.Finish(ctx, *l.skipCopy(p.arrival, first.arrival))
	}
	a, err := l.w.e.Ledger.Arrival(ctx, first.arrival.ID)
	if err != nil {
		return err
	}
	switch a.State {
	case ledger.Refused:
		return l.w.e.Ledger.Finish(ctx, ledger.Ending{ID: p.arrival.ID, State: ledger.Refused, Reason: a.Reason, Away: l.w.awayFor(ledger.Refused)})
	case ledger.Failed:
		return l.w.e.Ledger.Move(ctx, p.arrival.ID, []ledger.State{ledger.Loading}, ledger.Failed, map[string]any{
			"reason": a.Reason, "try_after": a.TryAfter, "finished_at": time.Now().UTC()})
	}
	return l.back(ctx, p, ledger.Ready, "")
}

// stream loads files that are read while they are staged, as one delivery.
func (l *loading) stream(ctx context.Context, parts []*part) error {
	err := l.tryStream(ctx, parts, true)
	if errors.Is(err, table.ErrRestage) {
		if err = parts[0].file.Rewind(); err == nil {
			err = l.tryStream(ctx, parts, false)
		}
	}
	if err == nil {
		return l.finish(ctx, parts)
	}
	return l.failed(ctx, parts, err)
}

func (l *loading) tryStream(ctx context.Context, parts []*part, skip bool) error {
	w := l.w
	load, err := w.session.Begin(ctx, w.now.fitted, l.n)
	if err != nil {
		return err
	}
	defer load.Close(ctx)
	if err := l.opened(ctx, parts); err != nil {
		return err
	}
	if err := l.replacing(ctx, load, parts); err != nil {
		return err
	}
	source := &several{parts: parts}
	var expected int64
	for _, p := range parts {
		p.reading = newReading(w, l.p, l.run, p.arrival, p.digest)
		if err := p.reading.begin(p.file.Entry, p.file, p.rewound); err != nil {
			return &culpritError{p, err}
		}
		expected += expectedRows(p.file.Entry.Path, p.file.Entry.Size)
	}
	if p := parts[0]; l.n == 1 && l.w.staysUnasked() {
		whole := table.Part{File: p.from(), Arrival: p.arrival.ID, Replaces: p.replaces}
		err := load.GoDirect(ctx, l.w.feed.Name, l.w.fence, l.run.ID, whole, expected)
		if err == nil && skip {
			err = load.SkipUnchanged(ctx, whole, expected)
		}
		if err != nil {
			return err
		}
	}
	if err := load.Stage(ctx, source, expected); err != nil {
		return err
	}
	for _, p := range parts {
		if err := p.reading.finish(); err != nil {
			return &culpritError{p, err}
		}
		p.digest = p.reading.digest()
	}
	if err := l.judge(ctx, load, parts, true); err != nil {
		return err
	}
	return l.commit(ctx, load, parts)
}

// staysUnasked reports whether nothing asks for the staged rows between reading and
// merging, so that they need not be staged.
func (w *worker) staysUnasked() bool {
	s := &w.kind().Schema
	return len(w.feed.Checks.Delivery)+len(s.UniqueKeys)+len(s.ForeignKeys) == 0 &&
		!slices.ContainsFunc(s.Fields, func(f tabular.Field) bool { return f.Constraints.Unique })
}

func (p *part) rewound() (content, error) { return p.file, p.file.Rewind() }

func (l *loading) opened(ctx context.Context, parts []*part) error {
	arrivals := make([]*ledger.Arrival, len(parts))
	for i, p := range parts {
		arrivals[i] = p.arrival
	}
	if err := l.w.e.Ledger.Opened(ctx, arrivals); err != nil {
		return err
	}
	l.step(parts, StepOpened)
	return nil
}

// told is what reading the file told.
func (p *part) told() ledger.Reading {
	return ledger.Reading{ID: p.arrival.ID, SHA256: p.digest, Columns: p.reading.header, Rejects: p.reading.rejects, Checks: p.results}
}

// from is the file that rows came from. Mended rows came from the file that
// they were rejected of.
func (p *part) from() string {
	if p.arrival.Mends != nil {
		path, _, _ := strings.Cut(p.arrival.Path, mendedMark)
		return path
	}
	return p.arrival.Path
}

// refusal returns the reason to refuse a file that was read, other than its
// rejects, or "".
func (p *part) refusal() (string, error) {
	if p.reading.read == 0 {
		return "the file holds no rows", nil
	}
	if p.wantSum != "" && p.wantSum != p.digest {
		return fmt.Sprintf("its list gives the SHA-256 %s; the file's is %s", p.wantSum, p.digest), nil
	}
	digest, err := p.digestBy(p.marker.Algorithm)
	if err != nil {
		return "", err
	}
	return p.marker.Refuse(digest, p.reading.read), nil
}

// digestBy takes a digest of the file by another algorithm than SHA-256.
func (p *part) digestBy(algorithm string) (string, error) {
	var h hash.Hash
	switch algorithm {
	case "md5":
		h = md5.New() // what suppliers send; it guards against torn files, not against malice
	case "sha1":
		h = sha1.New()
	case "sha512":
		h = sha512.New()
	default:
		return p.digest, nil
	}
	file, err := p.reading.again()
	if err != nil {
		return "", err
	}
	if _, err := io.Copy(h, file); err != nil {
		return "", fmt.Errorf("read %s: %w", p.arrival.Path, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// commit is the second half of a load, under the target's lock.
func (l *loading) commit(ctx context.Context, load *table.Load, parts []*part) error {
	w := l.w
	readings := make([]ledger.Reading, len(parts))
	for i, p := range parts {
		if p.generation == 0 { // the digest is known only now
			earlier, err := w.e.Ledger.Earlier(ctx, w.feed.Name, []string{p.arrival.Path}, nil)
			if err != nil {
				return err
			}
			p.generation = 1 + earlier.Generations[ledger.GenerationKey(p.arrival.Path, p.digest)]
		}
		readings[i] = p.told()
		readings[i].Generation = p.generation
	}
	// What a group's files told is on record when they end; before that, the
	// markers know it. Only rejects and checks could not be told again.
	if l.streamed(parts) || slices.ContainsFunc(readings, func(r ledger.Reading) bool { return len(r.Rejects) > 0 || len(r.Checks) > 0 }) {
		if err := w.e.Ledger.Staged(ctx, readings); err != nil {
			return err
		}
	}
	l.step(parts, StepStaged)
	defer l.tellHolders(ctx)()
	if err := load.Lock(ctx, w.feed.Name, w.fence); err != nil {
		return err
	}
	l.step(parts, StepLocked)
	files := make([]table.Part, l.n)
	for _, p := range parts {
		files[p.n] = table.Part{File: p.from(), Arrival: p.arrival.ID, Replaces: p.replaces, Waived: p.arrival.Waived}
	}
	counts, err := load.Merge(ctx, l.run.ID, files)
	if err != nil {
		return err
	}
	l.step(parts, StepMerged)
	markers := make([]table.Marker, len(parts))
	for i, p := range parts {
		p.balance = counts[p.n]
		p.balance.Read, p.balance.Rejected, p.balance.LeftOut = p.reading.read, p.reading.rejected, p.reading.leftOut
		if err := p.balance.Err(); err != nil {
			return err
		}
		markers[i] = table.Marker{Feed: w.feed.Name, Part: p.n, Delivery: table.DeliveryName(p.arrival.Path, p.digest), Generation: p.generation,
			Arrival: p.arrival.ID, Fence: w.fence, SHA256: p.digest, Balance: p.balance}
	}
	if err := load.Mark(ctx, markers); err != nil {
		return err
	}
	l.step(parts, StepMarked)
	for _, p := range parts {
		if p.file != nil && !p.file.Unchanged() {
			return &culpritError{p, errChanged}
		}
	}
	if err := load.Commit(ctx); err != nil {
		return err
	}
	l.step(parts, StepCommitted)
	return nil
}

// holdersAfter is how long a load takes in the target before it is asked, again
// and again, whether it waits for somebody.
const holdersAfter = 2 * time.Second

// tellHolders tells in the progress whom the load waits for, until it is stopped.
func (l *loading) tellHolders(ctx context.Context) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	session := l.w.session
	var told sync.WaitGroup
	told.Go(func() {
		defer l.p.waits.Store(nil)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(holdersAfter):
			}
			who, err := session.Holders(ctx)
			if err != nil && ctx.Err() == nil {
				l.w.e.Log.Warn("who holds the target is not known", "feed", l.w.feed.Name, "error", err)
			}
			if who == "" {
				l.p.waits.Store(nil)
			} else {
				l.p.waits.Store(&who)
			}
		}
	})
	return func() {
		cancel()
		told.Wait()
	}
}

// streamed reports whether parts are read while they are staged, as larger files
// are.
func (l *loading) streamed(parts []*part) bool { return parts[0].content == nil }

// finish tells the ledger what is committed.
func (l *loading) finish(ctx context.Context, parts []*part) error {
	endings := make([]ledger.Ending, len(parts))
	for i, p := range parts {
		p.ended, p.committed = true, true
		endings[i] = l.w.loaded(p.arrival, p.balance)
		if p.content != nil {
			endings[i].SHA256, endings[i].Generation = p.digest, p.generation
		}
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return l.w.e.Ledger.Finish(after, endings...)
}

// loaded is how an arrival ends that was loaded.
func (w *worker) loaded(a *ledger.Arrival, b balance.Balance) ledger.Ending {
	return ledger.Ending{ID: a.ID, State: ledger.Loaded, Balance: b, Away: w.away(a, ledger.Loaded), Replaces: w.feed.Landing.Reissue == feed.ReissueReplace}
}

// failed sorts out what went wrong with parts of a load: those that were
// refused are ended, those that may be tried again are put back.
func (l *loading) failed(ctx context.Context, parts []*part, err error) error {
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	reason := table.Refusal(err)
	var refused *verdict
	if errors.As(err, &refused) {
		reason = refused.reason
	}
	var absent *table.AbsentError
	if errors.As(err, &absent) {
		reason, refused = absent.Error(), &verdict{waivable: true}
	}
	var fileError *decode.FileError
	if errors.As(err, &fileError) {
		reason = fileError.Error()
	}
	var culprit *culpritError
	errors.As(err, &culprit)
	if reason != "" && ctx.Err() == nil {
		return l.refuse(after, parts, culprit, reason, refused != nil && refused.waivable)
	}
	var already *table.AlreadyLoadedError
	errors.As(err, &already)
	var whole error
	for _, p := range parts {
		if p.ended {
			continue
		}
		var one error
		switch {
		case already != nil:
			one = l.alreadyLoaded(after, p, already.Markers)
		case culprit != nil && culprit.part != p: // not its fault
			one = l.back(after, p, ledger.Ready, "")
		default:
			one = l.failedOne(ctx, after, p, err)
		}
		whole = errors.Join(whole, one)
	}
	return whole
}

func (l *loading) alreadyLoaded(ctx context.Context, p *part, markers []table.Marker) error {
	for i := range markers {
		if markers[i].Path() == p.arrival.Path {
			return l.w.finishFromMarker(ctx, p.arrival, &markers[i])
		}
	}
	return l.back(ctx, p, ledger.Ready, "")
}

func (l *loading) failedOne(ctx, after context.Context, p *part, err error) error {
	w, a := l.w, p.arrival
	var other *otherKind
	switch {
	case errors.As(err, &other):
		return w.e.Ledger.Finish(after, ledger.Ending{ID: a.ID, State: ledger.Skipped, Reason: other.why})
	case p.again && (errors.Is(err, errChanged) || errors.Is(err, fs.ErrNotExist)):
		return l.stays(after, p, "it could not be loaded again: the file is no longer there as it was; its rows stay as they are")
	case errors.Is(err, errChanged):
		known, lookErr := w.e.Ledger.Known(after, a.Feed, []string{a.Path})
		if lookErr != nil {
			return errors.Join(err, lookErr)
		}
		if newest := known[a.Path]; newest.ID != a.ID {
			return w.e.Ledger.Finish(after, ledger.Ending{ID: a.ID, State: ledger.Gone, Reason: fmt.Sprintf("another version, arrival %d, took its place before it was read", newest.ID)})
		}
		return l.back(after, p, ledger.Settling, err.Error()+"; it settles anew")
	case errors.Is(err, fs.ErrNotExist):
		return w.e.Ledger.Finish(after, ledger.Ending{ID: a.ID, State: ledger.Gone, Reason: "it vanished before it was read"})
	case errors.Is(err, table.ErrFenced), ctx.Err() != nil:
		return errors.Join(err, l.back(after, p, ledger.Ready, "the work was broken off"))
	case table.Denied(err):
		return errors.Join(err, l.back(after, p, ledger.Ready, "the target is not set up for it"))
	}
	w.e.Log.Warn("a load failed", "feed", w.feed.Name, "arrival", a.ID, "path", a.Path, "attempt", a.Attempts, "error", err)
	more := map[string]any{"reason": fmt.Sprintf("attempt %d of %d: %v", a.Attempts, w.feed.When.Attempts, err), "finished_at": time.Now().UTC(), "try_after": nil}
	if a.Attempts < w.feed.When.Attempts {
		l.blocked = true
		wait := min(w.feed.When.Pause<<(a.Attempts-1), time.Hour)
		more["try_after"] = time.Now().UTC().Add(wait)
	}
	return w.e.Ledger.Move(after, a.ID, []ledger.State{ledger.Loading}, ledger.Failed, more)
}

// back puts an arrival back to an earlier state, as if it had not been tried.
func (l *loading) back(ctx context.Context, p *part, to ledger.State, reason string) error {
	p.ended = true
	generation := 0
	if p.again {
		generation = p.arrival.Generation
	}
	err := l.w.e.Ledger.Move(ctx, p.arrival.ID, []ledger.State{ledger.Loading}, to, map[string]any{
		"reason": reason, "attempts": max(0, p.arrival.Attempts-1), "generation": generation, "opened_at": nil, "staged_at": nil})
	if errors.Is(err, ledger.ErrMoved) {
		return nil
	}
	return err
}

// stays leaves an arrival loaded that was to be loaded again, and could not.
func (l *loading) stays(ctx context.Context, p *part, reason string) error {
	p.ended = true
	return l.w.e.Ledger.Move(ctx, p.arrival.ID, []ledger.State{ledger.Loading}, ledger.Loaded, map[string]any{
		"reason": reason, "generation": p.arrival.Generation - 1, "finished_at": time.Now().UTC(), "forced": false})
}

// refuse ends all parts of a delivery, with what was counted up to then.
func (l *loading) refuse(ctx context.Context, parts []*part, culprit *culpritError, reason string, waivable bool) error {
	var endings []ledger.Ending
	var readings []ledger.Reading
	var whole error
	for _, p := range parts {
		if p.ended {
			continue
		}
		said := reason
		if culprit != nil && culprit.part != p {
			said = fmt.Sprintf("its delivery was refused for %s: %s", culprit.part.arrival.Path, reason)
		}
		if p.again {
			whole = errors.Join(whole, l.stays(ctx, p, "loading it again was refused: "+said+"; its rows stay as they are"))
			continue
		}
		r := ledger.Reading{ID: p.arrival.ID, SHA256: p.digest}
		e := ledger.Ending{ID: p.arrival.ID, State: ledger.Refused, Reason: said, Away: l.w.away(p.arrival, ledger.Refused), Waivable: waivable}
		if p.reading != nil && p.reading.bytes != nil {
			if err := p.reading.finish(); err != nil {
				return err
			}
			p.digest = p.reading.digest()
			r = p.told()
			e.Balance = balance.Refuse(p.reading.read, p.reading.rejected, p.reading.leftOut)
		}
		p.ended = true
		readings, endings = append(readings, r), append(endings, e)
	}
	if len(endings) == 0 {
		return whole
	}
	if err := l.w.e.Ledger.Staged(ctx, readings); err != nil {
		return errors.Join(whole, err)
	}
	return errors.Join(whole, l.w.e.Ledger.Finish(ctx, endings...))
}

// heldAgainstOthers makes rejects of rows whose values in a unique column, or in
// the fields of a unique key, stood in an earlier line of their file, and of
// those whose values do not stand in the table that a foreign key names.
func (w *worker) heldAgainstOthers(ctx context.Context, load *table.Load, parts []*part) error {
	schema := &w.kind().Schema
	byN := map[int]*part{}
	for _, p := range parts {
		byN[p.n] = p
	}
	reject := func(fields []string, rule, reason string, counts []int64, dropped []table.Dropped) {
		for n, p := range byN {
			p.reading.rejected += counts[n]
		}
		private := slices.ContainsFunc(fields, func(f string) bool { return slices.Contains(w.feed.Private, f) })
		for _, d := range dropped {
			if private {
				d.Value = hidden
			}
			byN[d.Part].reading.keep(ledger.Reject{Line: d.Line, ColumnName: strings.Join(fields, ", "), Rule: rule, Reason: reason, Value: d.Value})
		}
	}
	for i := range schema.Fields {
		if field := &schema.Fields[i]; field.Constraints.Unique {
			counts, dropped, err := load.DropNotUnique(ctx, []string{field.Name}, ledger.MaxRejects)
			if err != nil {
				return err
			}
			reject([]string{field.Name}, "unique", "the value stands in an earlier row too, and the column is unique", counts, dropped)
		}
	}
	for _, key := range schema.UniqueKeys {
		counts, dropped, err := load.DropNotUnique(ctx, key, ledger.MaxRejects)
		if err != nil {
			return err
		}
		reject(key, "uniqueKeys", "the values stand in an earlier row too, and are a unique key", counts, dropped)
	}
	for _, key := range schema.ForeignKeys {
		counts, dropped, err := load.DropStrangers(ctx, key, ledger.MaxRejects)
		if err != nil {
			return err
		}
		reject(key.Fields, "foreignKeys", "not in "+key.Table, counts, dropped)
	}
	for _, p := range parts {
		if err := p.reading.originals(); err != nil {
			return err
		}
	}
	return nil
}

// small loads files that share a transaction, each a delivery of its own. Each
// is decoded whole before it joins the others, while the files before them are
// on their way into the target; no key stands in two of them, so a group closes
// before a file that has a key again.
func (l *loading) small(ctx context.Context, parts []*part) error {
	l.step(parts, StepOpened)
	var expected int64
	for _, p := range parts {
		expected += expectedRows(p.arrival.Path, p.arrival.Size)
	}
	batch := table.NewPieces(l.w.now.fitted.Table, expected, l.w.now.fitted.Bytewise())
	var read []*part
	var whole error
	for _, p := range parts {
		if err := l.readSmall(ctx, p); err != nil {
			whole = errors.Join(whole, l.failed(ctx, []*part{p}, err))
			continue
		}
		p.trouble = l.decodeSmall(p, batch)
		read = append(read, p)
	}
	if err := l.w.settled(); err != nil || l.before != nil && l.before.blocked {
		return l.giveBack(ctx, read, errors.Join(whole, err)) // nothing goes ahead of what is tried again
	}
	chosen, err := l.decide(ctx, read)
	if err != nil {
		return errors.Join(whole, l.failed(ctx, read, err))
	}
	whole = errors.Join(whole, l.giveBack(ctx, l.copies, nil)) // they are looked at again when the originals have ended
	var good []*part
	for _, p := range chosen {
		if p.trouble != nil {
			whole = errors.Join(whole, l.failed(ctx, []*part{p}, p.trouble))
			continue
		}
		good = append(good, p)
	}
	if len(good) == 0 || whole != nil {
		return l.giveBack(ctx, good, whole)
	}
	l.handed = true
	l.w.meanwhile(func() error {
		defer l.over()
		defer l.close(parts)
		for _, group := range groups(good, l.w.alone()) {
			if err := l.group(ctx, group); err != nil || l.blocked {
				return l.giveBack(ctx, good, err)
			}
		}
		return nil
	})
	return nil
}

// open returns the parts that have not come to an end.
func open(parts []*part) []*part {
	return slices.DeleteFunc(slices.Clone(parts), func(p *part) bool { return p.ended })
}

func (l *loading) readSmall(ctx context.Context, p *part) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := l.open(ctx, p); err != nil {
		return err
	}
	p.content = make([]byte, p.arrival.Size)
	if _, err := io.ReadFull(p.file, p.content); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			if !p.file.Seekable() && p.file.Unchanged() {
				return &decode.FileError{Reason: "it holds fewer bytes than the directory of its zip says"}
			}
			return errChanged
		}
		return fmt.Errorf("read %s: %w", p.arrival.Path, err)
	}
	h := newHasher(bytes.NewReader(p.content), "")
	if _, err := io.Copy(io.Discard, h); err != nil {
		return err
	}
	p.digest = h.sum()
	return nil
}

// decodeSmall turns a small file into rows that are ready to be staged.
func (l *loading) decodeSmall(p *part, batch *table.Batch) error {
	p.reading = newReading(l.w, l.p, l.run, p.arrival, p.digest)
	again := func() (content, error) { return bytes.NewReader(p.content), nil }
	if err := p.reading.begin(p.file.Entry, bytes.NewReader(p.content), again); err != nil {
		return err
	}
	batch.Begin(p.n)
	for {
		err := p.reading.Fill(batch, 1<<62)
		if err == io.EOF {
			p.piece = batch.TakePiece()
			p.reading.mark()
			return nil
		}
		if err != nil {
			batch.TakePiece() // its rows join nobody
			return err
		}
	}
}

// alone reports whether each delivery needs a transaction of its own: it is held
// against the whole table, or hashes do not tell which rows have the same key.
func (w *worker) alone() bool {
	t := &w.feed.Target
	return t.Mode.Replaces() || t.Absent != feed.AbsentKeep || !w.now.fitted.Bytewise()
}

// groups puts files together, in order, as long as no key stands in two.
func groups(parts []*part, alone bool) [][]*part {
	var out [][]*part
	keys := map[uint64]bool{}
	closed := true
	for _, p := range parts {
		lonely := alone || len(p.replaces) > 0
		if closed || lonely || slices.ContainsFunc(p.piece.Hashes, func(h uint64) bool { return keys[h] }) {
			out = append(out, nil)
			clear(keys)
		}
		closed = lonely
		for _, h := range p.piece.Hashes {
			keys[h] = true
		}
		out[len(out)-1] = append(out[len(out)-1], p)
	}
	return out
}

// group commits files together. When one is to blame for a failure, it is
// taken out; when it is not known which, halves are tried until it is alone.
func (l *loading) group(ctx context.Context, parts []*part) error {
	err := l.tryGroup(ctx, parts)
	var culprit *culpritError
	var already *table.AlreadyLoadedError
	switch {
	case err == nil:
		return l.finish(ctx, parts)
	case ctx.Err() != nil || len(parts) == 1:
		return l.failed(ctx, parts, err)
	case errors.As(err, &culprit):
		rest := slices.DeleteFunc(slices.Clone(parts), func(p *part) bool { return p == culprit.part })
		return errors.Join(l.failed(ctx, []*part{culprit.part}, err), l.group(ctx, rest))
	case table.Refusal(err) != "", errors.As(err, &already):
		middle := len(parts) / 2
		return errors.Join(l.group(ctx, parts[:middle]), l.group(ctx, parts[middle:]))
	}
	// Nobody is to blame. The first is tried again, alone, and blocks the others.
	return errors.Join(l.failed(ctx, parts[:1], err), l.giveBack(ctx, parts[1:], nil))
}

func (l *loading) tryGroup(ctx context.Context, parts []*part) error {
	load, err := l.w.session.Begin(ctx, l.w.now.fitted, l.n)
	if err != nil {
		return err
	}
	defer load.Close(ctx)
	if err := l.replacing(ctx, load, parts); err != nil {
		return err
	}
	pieces := make([]table.Piece, len(parts))
	for i, p := range parts {
		pieces[i] = p.piece
	}
	if err := load.StagePieces(ctx, pieces); err != nil {
		return err
	}
	for _, p := range parts {
		p.reading.toMark()
	}
	if err := l.judge(ctx, load, parts, false); err != nil {
		return err
	}
	return l.commit(ctx, load, parts)
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

// away reports whether an arrival's file is to be put away. Mended rows lie apart
// already.
func (w *worker) away(a *ledger.Arrival, s ledger.State) ledger.Away {
	if a.Mends != nil {
		return ledger.AwayNot
	}
	return w.awayFor(s)
}

// awayFor reports whether a file is to be put away when its arrival ends so.
func (w *worker) awayFor(s ledger.State) ledger.Away {
	land := &w.feed.Landing
	switch {
	case s == ledger.Refused && land.Quarantine != nil,
		(s == ledger.Loaded || s == ledger.Skipped) && (land.Delete || land.PutAway != nil):
		return ledger.AwayWanted
	}
	return ledger.AwayNot
}

// putAwayAtOnce is how many files are put away between two runs.
const putAwayAtOnce = 1000

// putAway moves the files of loaded arrivals, copies and refused ones out of
// the landing, if the feed says so: only after the commit, and again after a
// crash.
func (w *worker) putAway(ctx context.Context) error {
	if w.awayFor(ledger.Loaded) == ledger.AwayNot && w.awayFor(ledger.Refused) == ledger.AwayNot {
		return nil
	}
	waiting, err := w.e.Ledger.ToPutAway(ctx, w.feed.Name, putAwayAtOnce)
	if err != nil || len(waiting) == 0 {
		return err
	}
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return nil // the landing is away; they wait
	}
	defer folder.Close()
	for i := range waiting {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := w.putAwayOne(ctx, folder, &waiting[i]); err != nil {
			return err
		}
	}
	return nil
}

func (w *worker) putAwayOne(ctx context.Context, folder *landing.Folder, a *ledger.Arrival) error {
	land := &w.feed.Landing
	template := land.PutAway
	if a.State == ledger.Refused {
		template = land.Quarantine
	}
	to := ""
	if template != nil {
		to = path.Join(template.Expand(a.Path, land.Files.Read(a.Captures), land.Zone), path.Base(a.Path))
		if strings.Contains(template.String(), "{name}") || strings.Contains(template.String(), "{path}") {
			to = template.Expand(a.Path, land.Files.Read(a.Captures), land.Zone)
		}
	}
	file := landing.Entry{Path: a.Path, Size: a.Size, Modified: a.Modified.UTC(), Inode: uint64(a.Inode)}
	place, err := folder.PutAway(file, a.ID, to)
	if errors.Is(err, landing.ErrReplaced) {
		return w.e.Ledger.PutAway(ctx, a, "", "")
	}
	if err == nil && a.State == ledger.Refused && place != "" {
		err = folder.Note(place+".why.txt", fmt.Sprintf("%s\nfeed %s, arrival %d, refused on %s\n\n%s\n", a.Path, a.Feed, a.ID, a.FinishedAt.UTC().Format(time.RFC3339), a.Reason))
	}
	if err != nil {
		w.e.Log.Warn("a file could not be put away", "feed", w.feed.Name, "arrival", a.ID, "error", err)
		return w.e.Ledger.PutAway(ctx, a, "", strings.TrimPrefix(a.Reason+"; ", "; ")+"it could not be put away: "+err.Error())
	}
	return w.e.Ledger.PutAway(ctx, a, place, "")
}
