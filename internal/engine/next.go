package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

// next is what to load next: files that each stand alone, or one delivery of
// several.
type next struct {
	alone    []*ledger.Arrival
	together []*ledger.Arrival // of one delivery, checked and committed as one
	list     *ledger.Arrival   // that names them; nil when a slot does
	sums     map[string]string // SHA-256 by path, as far as the list says
	name     string            // of the delivery
}

// arrivals returns all of them, the list among them.
func (n next) arrivals() []*ledger.Arrival {
	all := slices.Concat(n.alone, n.together)
	if n.list != nil {
		all = append(all, n.list)
	}
	return all
}

// without leaves out what was tried. Nothing goes ahead of what was tried and
// still waits.
func (n next) without(tried func(*ledger.Arrival) bool) next {
	if i := slices.IndexFunc(n.alone, tried); i >= 0 {
		n.alone = n.alone[:i]
	}
	if n.list != nil && tried(n.list) || slices.ContainsFunc(n.together, tried) {
		return next{}
	}
	return n
}

const (
	smallFile  = 1 << 20 // up to this, files share a transaction
	groupFiles = 250
	groupBytes = 16 << 20
	manyFiles  = 10_000 // of a slot or a list
)

// next returns what a feed is to load next, nothing when nothing can be.
func (w *worker) next(ctx context.Context, s ledger.Selection) (next, error) {
	n, waits, err := w.nextOf(ctx, s)
	if err != nil {
		return next{}, err
	}
	if n, waits, err = w.unblocked(ctx, n, waits); err != nil {
		return next{}, err
	}
	if waits != w.waits {
		if err := w.e.Ledger.SetWaits(ctx, w.feed.Name, waits); err != nil {
			return next{}, err
		}
		w.waits = waits
	}
	return n, nil
}

func (w *worker) nextOf(ctx context.Context, s ledger.Selection) (n next, waits string, err error) {
	switch w.feed.Landing.Delivery {
	case feed.ByList:
		return w.nextList(ctx, s)
	case feed.BySlot:
		return w.nextSlot(ctx, s)
	}
	s.Most = groupFiles
	waiting, err := w.e.Ledger.Waiting(ctx, w.feed.Name, s)
	if err != nil {
		return n, "", err
	}
	var size int64
	for i := range waiting {
		a := &waiting[i]
		if !s.Again && !retry(a) {
			break // those behind it wait with it
		}
		isSmall := a.Size <= smallFile && a.Attempts == 0
		if i > 0 && (!isSmall || size+a.Size > groupBytes) {
			break
		}
		n.alone, size = append(n.alone, a), size+a.Size
		if !isSmall {
			break
		}
	}
	return n, "", nil
}

// unblocked holds everything back that stands behind an arrival which needs a
// person, where the feed's order is strict.
func (w *worker) unblocked(ctx context.Context, n next, waits string) (next, string, error) {
	all := n.arrivals()
	if !w.feed.Landing.StrictOrder || len(all) == 0 {
		return n, waits, nil
	}
	blocking, err := w.e.Ledger.Blocking(ctx, w.feed.Name)
	if err != nil || blocking == nil {
		return n, waits, err
	}
	said := fmt.Sprintf("strict_order: arrival %d, %s, is %s and holds up those behind it; redo, skip or release it", blocking.ID, blocking.Path, blocking.State)
	if len(n.alone) == 0 {
		if blocking.Before(all[0]) {
			return next{}, said, nil
		}
		return n, waits, nil
	}
	if i := slices.IndexFunc(n.alone, blocking.Before); i >= 0 {
		n.alone = n.alone[:i]
		waits = said
	}
	return n, waits, nil
}

// nextSlot returns the first slot of which all is there.
func (w *worker) nextSlot(ctx context.Context, s ledger.Selection) (n next, waits string, err error) {
	s.Most = manyFiles
	waiting, err := w.e.Ledger.Waiting(ctx, w.feed.Name, s)
	if err != nil {
		return n, "", err
	}
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
		if !s.Again && slices.ContainsFunc(now, func(a ledger.Arrival) bool { return !retry(&a) }) {
			return n, waits, nil // those behind it wait with it
		}
		absent, err := w.absent(ctx, *slot, now)
		if err != nil {
			return n, "", err
		}
		if len(absent) == 0 {
			n.name = w.slotName(*slot)
			for i := range now {
				n.together = append(n.together, &now[i])
			}
			return n, waits, nil
		}
		if waits == "" {
			waits = fmt.Sprintf("slot %s waits for %s", w.slotName(*slot), some(absent))
		}
	}
	return n, waits, nil
}

func (w *worker) slotName(slot time.Time) string {
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
func (w *worker) absent(ctx context.Context, slot time.Time, waiting []ledger.Arrival) ([]string, error) {
	loaded, err := w.e.Ledger.LoadedIn(ctx, w.feed.Name, slot, manyFiles)
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

// Listed is one line of a list of a delivery.
type listed struct {
	path   string
	size   int64 // -1 where the list does not say
	sha256 string
}

const maxList = 8 << 20

// readList reads a list: a path a line, below the list's folder, then, if they
// are known, its size and its SHA-256, with tabs, commas or semicolons between.
func readList(at, text string) ([]listed, error) {
	var out []listed
	for i, line := range strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		cells := strings.FieldsFunc(line, func(r rune) bool { return r == '\t' || r == ',' || r == ';' })
		if len(cells) == 0 || strings.TrimSpace(cells[0]) == "" {
			return nil, fmt.Errorf("line %d names no file", i+1)
		}
		l := listed{path: path.Join(path.Dir(at), strings.TrimSpace(cells[0])), size: -1}
		if l.path == ".." || strings.HasPrefix(l.path, "../") || strings.HasPrefix(strings.TrimSpace(cells[0]), "/") {
			return nil, fmt.Errorf("line %d: %q lies outside of the landing", i+1, cells[0])
		}
		for _, cell := range cells[1:] {
			cell = strings.ToLower(strings.TrimSpace(cell))
			switch size, err := strconv.ParseInt(cell, 10, 64); {
			case err == nil && size >= 0 && len(cell) < 20:
				l.size = size
			case len(cell) == 64 && strings.Trim(cell, "0123456789abcdef") == "":
				l.sha256 = cell
			case cell != "":
				return nil, fmt.Errorf("line %d: %q is neither a size nor a SHA-256", i+1, cell)
			}
		}
		out = append(out, l)
	}
	switch {
	case len(out) == 0:
		return nil, errors.New("it names no files")
	case len(out) > manyFiles:
		return nil, fmt.Errorf("it names %d files; %d are the most", len(out), manyFiles)
	}
	return out, nil
}

// nextList returns the first list of which all files are there.
func (w *worker) nextList(ctx context.Context, s ledger.Selection) (n next, waits string, err error) {
	s.Most, s.Lists = groupFiles, true
	lists, err := w.e.Ledger.Waiting(ctx, w.feed.Name, s)
	if err != nil {
		return n, "", err
	}
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return n, "", err
	}
	defer folder.Close()
	for i := range lists {
		list := &lists[i]
		if !s.Again && !retry(list) {
			return n, waits, nil
		}
		text, err := folder.ReadSmall(list.Path, maxList)
		if errors.Is(err, fs.ErrNotExist) {
			continue // the next listing says that it is gone
		}
		var named []listed
		if err == nil {
			named, err = readList(list.Path, string(text))
		}
		if err != nil {
			if err := w.refuseList(ctx, list, err.Error()); err != nil {
				return n, "", err
			}
			continue
		}
		together, sums, missing, err := w.members(ctx, named)
		if err != nil {
			return n, "", err
		}
		if len(missing) == 0 {
			return next{together: together, list: list, sums: sums, name: list.Path}, waits, nil
		}
		if waits == "" {
			waits = fmt.Sprintf("%s waits for %s", list.Path, some(missing))
		}
	}
	n.alone, err = w.strays(ctx, s, lists)
	return n, waits, err
}

// strays returns files that a person wants loaded and whose list is done with:
// they are loaded on their own.
func (w *worker) strays(ctx context.Context, s ledger.Selection, lists []ledger.Arrival) ([]*ledger.Arrival, error) {
	s.Lists, s.Forced, s.Most = false, true, manyFiles
	forced, err := w.e.Ledger.Waiting(ctx, w.feed.Name, s)
	if err != nil {
		return nil, err
	}
	for i := range forced {
		a := &forced[i]
		if !a.IsList && a.Delivery != "" && (s.Again || retry(a)) && !slices.ContainsFunc(lists, func(l ledger.Arrival) bool { return l.Path == a.Delivery }) {
			return []*ledger.Arrival{a}, nil
		}
	}
	return nil, nil
}

func (w *worker) refuseList(ctx context.Context, list *ledger.Arrival, reason string) error {
	return w.e.Ledger.Move(ctx, list.ID, []ledger.State{ledger.Ready, ledger.Failed}, ledger.Refused,
		map[string]any{"reason": "the list cannot be read: " + reason, "finished_at": time.Now().UTC(), "try_after": nil, "away": w.awayFor(ledger.Refused)})
}

// members finds the arrivals of a list's files: those that wait are to be
// loaded, those that are loaded already are there too, and the rest is missing.
func (w *worker) members(ctx context.Context, named []listed) (together []*ledger.Arrival, sums map[string]string, missing []string, err error) {
	paths := make([]string, len(named))
	for i, l := range named {
		paths[i] = l.path
	}
	newest, err := w.e.Ledger.Newest(ctx, w.feed.Name, paths)
	if err != nil {
		return nil, nil, nil, err
	}
	sums = map[string]string{}
	for _, l := range named {
		a, ok := newest[l.path]
		sums[l.path] = l.sha256
		switch {
		case !ok:
			taken := w.feed.Landing.Look(l.path, max(1, l.size))
			if taken.Why != "" {
				missing = append(missing, fmt.Sprintf("%s (%s)", l.path, taken.Why))
			} else {
				missing = append(missing, l.path)
			}
		case l.size >= 0 && a.Size != l.size:
			missing = append(missing, fmt.Sprintf("%s with %d bytes; the one that is there has %d", l.path, l.size, a.Size))
		case a.State == ledger.Loaded:
			if l.sha256 != "" && a.SHA256 != l.sha256 {
				missing = append(missing, fmt.Sprintf("%s with the digest %.12s…; the one that is loaded has another", l.path, l.sha256))
			}
		case a.State == ledger.Ready || a.State == ledger.Failed && a.TryAfter != nil:
			together = append(together, &a)
		case a.State == ledger.Skipped && a.CopyOf != nil:
		default:
			missing = append(missing, fmt.Sprintf("%s, which is %s", l.path, a.State))
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

// step is a part of a run: a slot, or all of it.
type step struct {
	name      string
	selection ledger.Selection
}

// maxSteps bounds the slots of one run.
const maxSteps = 1_000_000

// steps returns the slots that a run goes through, in order.
func (w *worker) steps(wanted ledger.Wanted, now time.Time) ([]step, error) {
	if wanted.From == "" && wanted.To == "" {
		return []step{{selection: ledger.Selection{Paths: wanted.Paths}}}, nil
	}
	return slotsOf(w.feed, wanted, now)
}

// CheckRange says what is wrong with the range of a run, if anything is.
func CheckRange(f *feed.Feed, wanted ledger.Wanted, now time.Time) error {
	_, err := slotsOf(f, wanted, now)
	return err
}

// slotsOf returns the slots that a run over a range goes through.
func slotsOf(f *feed.Feed, wanted ledger.Wanted, now time.Time) ([]step, error) {
	unit, zone := f.Landing.Files.Unit(), f.Landing.Zone
	if wanted.From == "" {
		wanted.From = wanted.To
	}
	if wanted.To == "" {
		wanted.To = wanted.From
	}
	if unit == due.Number {
		return numbers(wanted)
	}
	from, _, err := parseSlot(wanted.From, now.In(zone))
	if err != nil {
		return nil, err
	}
	_, to, err := parseSlot(wanted.To, now.In(zone))
	if err != nil {
		return nil, err
	}
	if !from.Before(to) {
		return nil, fmt.Errorf("the range ends before it begins: %s to %s", wanted.From, wanted.To)
	}
	byModified := unit == due.NoUnit
	if byModified {
		unit = due.Day
	}
	if unit == due.Minute { // by the hour: the minutes within are in order anyway
		unit = due.Hour
	}
	layout := map[due.Unit]string{due.Hour: "2006-01-02T15", due.Day: "2006-01-02", due.Month: "2006-01", due.Year: "2006"}[unit]
	var out []step
	for at := unit.Start(from); at.Before(to); at = unit.Next(at) {
		if len(out) == maxSteps {
			return nil, fmt.Errorf("more than %d slots from %s to %s", maxSteps, wanted.From, wanted.To)
		}
		begin, end := at, unit.Next(at)
		if begin.Before(from) {
			begin = from
		}
		if end.After(to) {
			end = to
		}
		out = append(out, step{at.Format(layout), ledger.Selection{From: begin.UTC(), To: end.UTC(), ByModified: byModified, Paths: wanted.Paths}})
	}
	return out, nil
}

func numbers(wanted ledger.Wanted) ([]step, error) {
	from, err := strconv.ParseInt(wanted.From, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is not a number; the names of this feed count their slots", wanted.From)
	}
	to, err := strconv.ParseInt(wanted.To, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is not a number; the names of this feed count their slots", wanted.To)
	}
	if to < from || to-from >= maxSteps {
		return nil, fmt.Errorf("from %d to %d are not between 1 and %d slots", from, to, maxSteps)
	}
	var out []step
	for n := from; n <= to; n++ {
		out = append(out, step{strconv.FormatInt(n, 10), ledger.Selection{FromNumber: &n, ToNumber: &n, Paths: wanted.Paths}})
	}
	return out, nil
}

// parseSlot reads a year, a month, a day, an hour, a minute, yesterday or
// today, and returns where it begins and where the next begins.
func parseSlot(text string, now time.Time) (from, to time.Time, err error) {
	switch text {
	case "today":
		text = now.Format(time.DateOnly)
	case "yesterday":
		text = now.AddDate(0, 0, -1).Format(time.DateOnly)
	}
	for _, form := range []struct {
		layout string
		unit   due.Unit
	}{{"2006", due.Year}, {"2006-01", due.Month}, {"2006-01-02", due.Day}, {"2006-01-02T15", due.Hour}, {"2006-01-02 15", due.Hour}, {"2006-01-02T15:04", due.Minute}, {"2006-01-02 15:04", due.Minute}} {
		if t, err := time.ParseInLocation(form.layout, text, now.Location()); err == nil {
			return t, form.unit.Next(t), nil
		}
	}
	return from, to, fmt.Errorf("%q is no slot; write a year, 2026-07, 2026-07-01, 2026-07-01T06, today or yesterday", text)
}
