package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
)

const (
	smallFile  = 1 << 20 // up to this, files share a transaction
	groupFiles = 250
	groupBytes = 16 << 20
	firstFrom  = 4 << 20 // from so many bytes on, the first files of a feed go into their target together
	firstBytes = 4 << 30
	firstWait  = 5 * time.Second // for others that settle
	firstAgain = 200 * time.Millisecond
	manyFiles  = 10_000 // of a slot or a list
)

// upNext is what a feed is to load next.
type upNext struct {
	load.Delivery
	all   bool      // there was nothing else that waited
	waits string    // what a delivery still waits for
	again time.Time // when what stands first is tried again; zero for nothing
}

// next returns what a feed is to load next, nothing when nothing can be.
func (w *leased) next(ctx context.Context, s ledger.Selection) (upNext, error) {
	n, err := w.nextOf(ctx, s)
	if err != nil {
		return upNext{}, err
	}
	if n, err = w.unblocked(ctx, n); err != nil {
		return upNext{}, err
	}
	if n.waits != w.waits {
		if err := w.e.Ledger.SetWaits(ctx, w.name, n.waits); err != nil {
			return upNext{}, err
		}
		w.waits = n.waits
	}
	if !n.again.IsZero() {
		w.e.turns.later(w, n.again)
	}
	return n, nil
}

func (w *leased) nextOf(ctx context.Context, s ledger.Selection) (n upNext, err error) {
	switch w.feed.Landing.Delivery {
	case feed.ByList:
		return w.nextList(ctx, s)
	case feed.BySlot:
		return w.nextSlot(ctx, s)
	}
	s.Most = groupFiles
	waiting, err := w.e.Ledger.Waiting(ctx, w.name, s)
	if err != nil {
		return n, err
	}
	first, wait, err := w.firstFiles(ctx, waiting, !s.Again)
	switch {
	case err != nil:
		return n, err
	case wait:
		n.again = time.Now().Add(firstAgain)
		return n, nil
	case len(first) > 1:
		n.Alone, n.First, n.all = first, true, len(first) == len(waiting) && len(waiting) < groupFiles
		return n, nil
	}
	var size int64
	for i := range waiting {
		a := &waiting[i]
		if !s.Again && !retry(a) {
			n.again, n.waits = *a.TryAfter, waitsFor(a, len(waiting)-i-1)
			break // those behind it wait with it
		}
		isSmall := a.Size <= smallFile && a.Attempts == 0
		if i > 0 && (!isSmall || size+a.Size > groupBytes) {
			break
		}
		n.Alone, size = append(n.Alone, a), size+a.Size
		if !isSmall {
			break
		}
	}
	n.all = len(n.Alone) == len(waiting) && len(waiting) < groupFiles
	return n, nil
}

// firstFiles returns those of the files that wait which may go into an empty target together:
// none of a feed that has loaded anything, nor a second time, nor of a place, which takes few
// files to be open at a time. wait says to ask again in a moment, where that may be.
func (w *leased) firstFiles(ctx context.Context, waiting []ledger.Arrival, mayWait bool) (first []*ledger.Arrival, wait bool,
	err error) {
	if w.begun || len(waiting) == 0 {
		return nil, false, nil
	}
	loaded := w.feed.Landing.IsFar()
	if !loaded {
		if loaded, err = w.e.Ledger.HasLoaded(ctx, w.name); err != nil {
			return nil, false, err
		}
	}
	if !loaded && mayWait {
		if wait, err = w.firstSettle(ctx, waiting); err != nil || wait {
			return nil, wait, err
		}
	}
	if w.begun = true; loaded {
		return nil, false, nil
	}
	var size int64
	paths := map[string]bool{}
	for i := range waiting {
		a := &waiting[i]
		if a.Attempts > 0 || a.Generation > 0 || a.Mends != nil || paths[a.Path] || size+a.Size > firstBytes {
			break
		}
		first, size, paths[a.Path] = append(first, a), size+a.Size, true
	}
	if len(first) < 2 || size < firstFrom {
		return nil, false, nil
	}
	return first, false, nil
}

// firstSettle reports whether others settle that came with the first files of a feed, so that
// all may go into the target together: they are waited for as long as it takes to settle, and
// not for long.
func (w *leased) firstSettle(ctx context.Context, waiting []ledger.Arrival) (bool, error) {
	if waiting[0].ReadyAt == nil || waiting[0].Attempts > 0 ||
		time.Since(*waiting[0].ReadyAt) > min(w.feed.Landing.Settle, firstWait) {
		return false, nil
	}
	size, err := w.e.Ledger.Settling(ctx, w.name)
	if size > 0 {
		for i := range waiting {
			size += waiting[i].Size
		}
	}
	return size >= firstFrom, err
}

// retry reports whether an arrival that failed before may be tried now.
func retry(a *ledger.Arrival) bool { return a.TryAfter == nil || time.Now().After(*a.TryAfter) }

// waitsFor says for what an arrival waits, and until when, and how many wait with it.
func waitsFor(a *ledger.Arrival, others int) string {
	const mostReason = 200
	reason := a.Reason
	if len(reason) > mostReason {
		reason = strings.ToValidUTF8(reason[:mostReason], "") + "..."
	}
	said := fmt.Sprintf("arrival %d, %s, is tried again at %s (%s)", a.ID, a.Path,
		a.TryAfter.UTC().Format("15:04:05 UTC"), reason)
	switch {
	case others >= groupFiles-1:
		said += fmt.Sprintf("; %d others or more wait with it", others)
	case others > 0:
		said += fmt.Sprintf("; %d others wait with it", others)
	}
	return said
}

// unblocked holds everything back that stands behind an arrival which needs a
// person, where the feed's order is strict.
func (w *leased) unblocked(ctx context.Context, n upNext) (upNext, error) {
	all := n.Arrivals()
	if !w.feed.Landing.StrictOrder || len(all) == 0 {
		return n, nil
	}
	blocking, err := w.e.Ledger.Blocking(ctx, w.name)
	if err != nil || blocking == nil {
		return n, err
	}
	said := fmt.Sprintf("strict_order: arrival %d, %s, is %s and holds up those behind it; redo, skip or release it",
		blocking.ID, blocking.Path, blocking.State)
	if len(n.Alone) == 0 {
		if blocking.Before(all[0]) {
			return upNext{waits: said}, nil
		}
		return n, nil
	}
	if i := slices.IndexFunc(n.Alone, blocking.Before); i >= 0 {
		n.Alone = n.Alone[:i]
		n.waits = said
	}
	return n, nil
}

// nextSlot returns the first slot of which all is there.
func (w *leased) nextSlot(ctx context.Context, s ledger.Selection) (n upNext, err error) {
	s.Most = manyFiles
	waiting, err := w.e.Ledger.Waiting(ctx, w.name, s)
	if err != nil {
		return n, err
	}
	var waits []string
	for len(waiting) > 0 {
		slot := waiting[0].Slot
		end := slices.IndexFunc(waiting, func(a ledger.Arrival) bool {
			return (a.Slot == nil) != (slot == nil) || slot != nil && !a.Slot.Equal(*slot)
		})
		if end < 0 {
			end = len(waiting)
		}
		now := waiting[:end]
		waiting = waiting[end:]
		if slot == nil {
			continue // its name tells no slot: it can only have been accepted, and waits for a redo
		}
		if i := slices.IndexFunc(now, func(a ledger.Arrival) bool { return !retry(&a) }); i >= 0 && !s.Again {
			n.again, n.waits = *now[i].TryAfter, waitsFor(&now[i], len(now)-1+len(waiting))
			return n, nil // those behind it wait with it
		}
		absent, err := w.absent(ctx, *slot, now)
		if err != nil {
			return n, err
		}
		if len(absent) == 0 {
			n.Name = w.slotName(*slot)
			for i := range now {
				n.Together = append(n.Together, &now[i])
			}
			return n, nil
		}
		waits = append(waits, fmt.Sprintf("slot %s waits for %s", w.slotName(*slot), some(absent)))
		n.waits = allWaiting(waits)
	}
	return n, nil
}

// allWaiting names the first of the deliveries that wait, and counts the others.
func allWaiting(waits []string) string {
	const shown = 3
	if len(waits) <= shown {
		return strings.Join(waits, "; ")
	}
	return fmt.Sprintf("%s; and %d more deliveries wait", strings.Join(waits[:shown], "; "), len(waits)-shown)
}

func (w *leased) slotName(slot time.Time) string {
	return slot.In(w.feed.Landing.Zone).Format("2006-01-02 15:04")
}

// some names the first of many.
func some(names []string) string {
	const shown = 5
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shown], ", "), len(names)-shown)
}

// absent names what a slot still expects. Files that are loaded count.
func (w *leased) absent(ctx context.Context, slot time.Time, waiting []ledger.Arrival) ([]string, error) {
	loaded, err := w.e.Ledger.LoadedIn(ctx, w.name, slot, manyFiles)
	if err != nil {
		return nil, err
	}
	count := map[string]map[string]bool{}
	c := w.feed.Due
	for _, a := range slices.Concat(loaded, waiting) {
		s, _ := c.SlotOf(due.Came{Slot: slot, Captures: a.Captures})
		key := due.Key(s.Per)
		if count[key] == nil {
			count[key] = map[string]bool{}
		}
		count[key][a.Path] = true
	}
	var absent []string
	for _, per := range c.Combinations() {
		if have := len(count[due.Key(per)]); have < c.Files {
			captures := map[string]any{"slot": slot}
			for name, value := range per {
				captures[name] = value
			}
			name := w.feed.Landing.Files.Expected(captures, w.feed.Landing.Zone)
			if c.Files > 1 {
				name = fmt.Sprintf("%d of %d: %s", c.Files-have, c.Files, name)
			}
			absent = append(absent, name)
		}
	}
	return absent, nil
}

// nextList returns the first list of which all files are there.
func (w *leased) nextList(ctx context.Context, s ledger.Selection) (n upNext, err error) {
	s.Most, s.Lists = groupFiles, true
	lists, err := w.e.Ledger.Waiting(ctx, w.name, s)
	if err != nil {
		return n, err
	}
	folder, err := w.e.Landing(ctx, w.feed)
	if err != nil {
		return n, err
	}
	defer folder.Close()
	var waits []string
	listed := map[string]bool{}
	for i := range lists {
		list := &lists[i]
		if !s.Again && !retry(list) {
			n.again, n.waits = *list.TryAfter, waitsFor(list, len(lists)-i-1)
			return n, nil
		}
		text, err := folder.ReadSmall(list.Path, landing.MaxList)
		if errors.Is(err, fs.ErrNotExist) {
			continue // the next listing says that it is gone
		}
		var named []landing.Listed
		if err == nil {
			named, err = landing.ReadList(list.Path, string(text), manyFiles)
		}
		if err != nil {
			if err := w.refuseList(ctx, list, err.Error()); err != nil {
				return n, err
			}
			continue
		}
		for _, l := range named {
			listed[l.Path] = true
		}
		together, sums, missing, err := w.members(ctx, named)
		if err != nil {
			return n, err
		}
		if len(missing) == 0 {
			n.Delivery = load.Delivery{Together: together, List: list, Digests: sums, Name: list.Path,
				Repeats: repeats(named)}
			return n, nil
		}
		waits = append(waits, fmt.Sprintf("%s waits for %s", list.Path, some(missing)))
		n.waits = allWaiting(waits)
	}
	if n.Alone, err = w.strays(ctx, s, lists); err != nil || len(n.Alone) > 0 || len(lists) == groupFiles {
		return n, err
	}
	unnamed, err := w.unnamed(ctx, listed)
	if len(unnamed) > 0 {
		n.waits = strings.TrimPrefix(n.waits+"; no list names "+some(unnamed), "; ")
	}
	return n, err
}

// unnamed returns files that wait and that no list names.
func (w *leased) unnamed(ctx context.Context, listed map[string]bool) ([]string, error) {
	waiting, err := w.e.Ledger.Waiting(ctx, w.name, ledger.Selection{Most: manyFiles})
	if err != nil {
		return nil, err
	}
	var out []string
	for i := range waiting {
		if a := &waiting[i]; !a.IsList && !listed[a.Path] {
			out = append(out, a.Path)
		}
	}
	return out, nil
}

// repeats says which lines of a list name a file again; "" for none.
func repeats(named []landing.Listed) string {
	var again []string
	for _, l := range named {
		for _, line := range l.Again {
			again = append(again, fmt.Sprintf("line %d names %s again", line, l.Path))
		}
	}
	return some(again)
}

// strays returns files that a person wants loaded and whose list is done with:
// they are loaded on their own.
func (w *leased) strays(ctx context.Context, s ledger.Selection, lists []ledger.Arrival) ([]*ledger.Arrival, error) {
	s.Lists, s.Forced, s.Most = false, true, manyFiles
	forced, err := w.e.Ledger.Waiting(ctx, w.name, s)
	if err != nil {
		return nil, err
	}
	for i := range forced {
		a := &forced[i]
		if !a.IsList && a.Delivery != "" && (s.Again || retry(a)) &&
			!slices.ContainsFunc(lists, func(l ledger.Arrival) bool { return l.Path == a.Delivery }) {
			return []*ledger.Arrival{a}, nil
		}
	}
	return nil, nil
}

func (w *leased) refuseList(ctx context.Context, list *ledger.Arrival, reason string) error {
	return w.e.Ledger.RefuseWaiting(ctx, list.ID, "the list cannot be read: "+reason,
		load.AwayOf(w.feed, ledger.Refused))
}

// members finds the arrivals of a list's files: those that wait are to be
// loaded, those that are loaded already are there too, and the rest is missing.
func (w *leased) members(ctx context.Context, named []landing.Listed) (together []*ledger.Arrival,
	sums map[string]string, missing []string, err error) {
	paths := make([]string, len(named))
	for i, l := range named {
		paths[i] = l.Path
	}
	newest, err := w.e.Ledger.Newest(ctx, w.name, paths)
	if err != nil {
		return nil, nil, nil, err
	}
	sums = map[string]string{}
	for _, l := range named {
		a, ok := newest[l.Path]
		sums[l.Path] = l.SHA256
		switch {
		case !ok:
			taken := w.feed.Landing.Look(l.Path, max(1, l.Size))
			if taken.Why != "" {
				missing = append(missing, fmt.Sprintf("%s (%s)", l.Path, taken.Why))
			} else {
				missing = append(missing, l.Path)
			}
		case l.Size >= 0 && a.Size != l.Size:
			missing = append(missing, fmt.Sprintf("%s with %d bytes; the one that is there has %d", l.Path, l.Size,
				a.Size))
		case a.State == ledger.Loaded:
			if l.SHA256 != "" && a.SHA256 != l.SHA256 {
				missing = append(missing, fmt.Sprintf("%s with the digest %.12s…; the one that is loaded has another",
					l.Path, l.SHA256))
			}
		case a.State == ledger.Ready || a.State == ledger.Failed && a.TryAfter != nil:
			together = append(together, &a)
		case a.State == ledger.Skipped && a.CopyOf != nil:
		default:
			missing = append(missing, fmt.Sprintf("%s, which is %s", l.Path, a.State))
		}
	}
	slices.SortFunc(together, func(a, b *ledger.Arrival) int {
		if a.Before(b) {
			return -1
		}
		return 1
	})
	return together, sums, missing, nil
}
