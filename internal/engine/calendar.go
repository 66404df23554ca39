package engine

import (
	"context"
	"errors"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

const (
	// calendarBack is how far a calendar may begin before the feed was put: with
	// the first slot for which a file lay there.
	calendarBack = 48 * time.Hour
	slotsAtOnce  = 1000
	// calendarCheck is how often the calendar is looked at without news.
	calendarCheck = 30 * time.Second
	nearShown     = 5
)

// keepCalendar makes slots as they fall due, links files to them, and says how
// each stands, until ctx ends.
func (w *worker) keepCalendar(ctx context.Context) {
	for ctx.Err() == nil {
		next, err := w.calendar(ctx, time.Now())
		if err != nil && ctx.Err() == nil {
			w.e.Log.Error("the calendar could not be kept; trying on", "feed", w.feed.Name, "error", err)
		}
		wait := calendarCheck
		if !next.IsZero() {
			wait = min(wait, max(time.Until(next), 10*time.Millisecond))
		}
		select {
		case <-ctx.Done():
		case <-w.due:
		case <-time.After(wait):
		}
	}
}

// calendar brings the calendar up to now, and returns when it is to be looked at
// next.
func (w *worker) calendar(ctx context.Context, now time.Time) (next time.Time, err error) {
	record, err := w.e.Ledger.Feed(ctx, w.feed.Name)
	if err != nil || record.ListedAt == nil { // before the first listing nothing is known
		return next, err
	}
	from, err := w.calendarFrom(ctx, record, now)
	if err != nil {
		return next, err
	}
	upcoming, err := w.makeSlots(ctx, from, now)
	if err != nil {
		return next, err
	}
	if err := w.link(ctx, record.DueAfter, from, now); err != nil {
		return next, err
	}
	for {
		slots, turn, err := w.e.Ledger.SlotsToJudge(ctx, w.feed.Name, slotsAtOnce)
		if err != nil {
			return next, err
		}
		if err := w.judge(ctx, slots, now); err != nil {
			return next, err
		}
		if len(slots) < slotsAtOnce {
			next = turn
			break
		}
	}
	if !upcoming.IsZero() && (next.IsZero() || upcoming.Before(next)) {
		next = upcoming
	}
	return next, nil
}

// calendarFrom returns where the feed's calendar begins: with the first slot for
// which a file lay there when the landing was first listed, or else then.
func (w *worker) calendarFrom(ctx context.Context, record ledger.Feed, now time.Time) (time.Time, error) {
	if record.DueFrom != nil {
		return *record.DueFrom, nil
	}
	from := now
	early, err := w.e.Ledger.Unlinked(ctx, w.feed.Name, 0, 10*slotsAtOnce)
	if err != nil {
		return from, err
	}
	for i := range early {
		if s, expected := w.feed.Due.SlotOf(cameOf(&early[i])); expected && s.At.Before(from) && s.At.After(now.Add(-calendarBack)) {
			from = s.At
		}
	}
	from = from.Add(-time.Nanosecond).UTC()
	return from, w.e.Ledger.BeginCalendar(ctx, w.feed.Name, from)
}

func cameOf(a *ledger.Arrival) due.Came {
	c := due.Came{Noticed: a.NoticedAt, Captures: a.Captures}
	if a.CameAt != nil {
		c.Noticed = *a.CameAt
	}
	if a.Slot != nil {
		c.Slot = *a.Slot
	}
	return c
}

func (w *worker) slot(s due.Slot, now time.Time) ledger.Slot {
	e := w.feed.Due.Expect(s)
	turn := now.UTC()
	out := ledger.Slot{Feed: w.feed.Name, DueAt: s.At.UTC(), Per: s.Per, State: due.Open, Files: e.Files, LateAt: e.Late.UTC(), MissingAt: e.Missing.UTC(), TurnAt: &turn}
	if !s.Name.IsZero() {
		name := s.Name.UTC()
		out.NameAt = &name
	}
	return out
}

// makeSlots makes the slots that are due by now, and returns when the next is.
func (w *worker) makeSlots(ctx context.Context, from, now time.Time) (next time.Time, err error) {
	c := w.feed.Due
	if c.Times == nil {
		return w.silence(ctx, now)
	}
	last, err := w.e.Ledger.LastDue(ctx, w.feed.Name)
	if err != nil {
		return next, err
	}
	if last.Before(from) {
		last = from
	}
	var slots []ledger.Slot
	for _, s := range c.Slots(last.Add(-time.Second), now) {
		slots = append(slots, w.slot(s, now))
	}
	if len(slots) > 0 {
		err = w.e.Ledger.MakeSlots(ctx, slots)
	}
	return c.Times.Next(now), err
}

// silence makes a missing slot for each supplier who has been silent for too
// long, where no schedule is known, and returns when the next may be.
func (w *worker) silence(ctx context.Context, now time.Time) (next time.Time, err error) {
	var slots []ledger.Slot
	for _, per := range w.feed.Due.Combinations() {
		last, err := w.e.Ledger.LastCame(ctx, w.feed.Name, per)
		if err != nil {
			return next, err
		}
		if last.IsZero() {
			last = w.record.CreatedAt
		}
		if at := last.Add(w.feed.Due.QuietFor); !at.After(now) {
			s := w.slot(due.Slot{At: at.Truncate(time.Microsecond), Per: per}, now)
			s.LateAt, s.MissingAt = s.DueAt, s.DueAt
			slots = append(slots, s)
		} else if next.IsZero() || at.Before(next) {
			next = at
		}
	}
	if len(slots) > 0 {
		err = w.e.Ledger.MakeSlots(ctx, slots)
	}
	return next, err
}

// link finds the slots of files that came. A file that nobody expected gets a
// slot of its own, which is surplus.
func (w *worker) link(ctx context.Context, after int64, from, now time.Time) error {
	found := map[string]int64{} // slots by time and captures: most files share theirs with others
	for {
		arrivals, err := w.e.Ledger.Unlinked(ctx, w.feed.Name, after, slotsAtOnce)
		if err != nil || len(arrivals) == 0 {
			return err
		}
		links := map[int64]int64{}
		for i := range arrivals {
			a := &arrivals[i]
			after = a.ID
			if a.State == ledger.Gone || a.Backlog {
				continue
			}
			slot, err := w.slotFor(ctx, a, from, now, found)
			if err != nil {
				return err
			}
			if slot != 0 {
				links[a.ID] = slot
			}
		}
		if err := w.e.Ledger.Link(ctx, w.feed.Name, links, after); err != nil {
			return err
		}
	}
}

func (w *worker) slotFor(ctx context.Context, a *ledger.Arrival, from, now time.Time, known map[string]int64) (int64, error) {
	s, expected := w.feed.Due.SlotOf(cameOf(a))
	if w.feed.Due.Times == nil {
		return w.silenceEnded(ctx, s)
	}
	if s.At.Before(from) { // before the calendar begins nothing is expected, and nothing is surplus
		return 0, nil
	}
	slot := w.slot(s, now)
	if !expected {
		slot.State, slot.Files = due.Surplus, 0
	}
	key := s.At.UTC().Format(time.RFC3339Nano) + due.Key(s.Per)
	if id, ok := known[key]; ok {
		return id, nil
	}
	found, err := w.e.Ledger.SlotAt(ctx, w.feed.Name, slot.DueAt, slot.Per)
	if errors.Is(err, ledger.ErrNotFound) {
		if err := w.e.Ledger.MakeSlots(ctx, []ledger.Slot{slot}); err != nil {
			return 0, err
		}
		found, err = w.e.Ledger.SlotAt(ctx, w.feed.Name, slot.DueAt, slot.Per)
	}
	known[key] = found.ID
	return found.ID, err
}

// silenceEnded returns the slot of a silence that a file has ended, 0 for none.
func (w *worker) silenceEnded(ctx context.Context, s due.Slot) (int64, error) {
	last, err := w.e.Ledger.LastSlots(ctx, w.feed.Name)
	if err != nil {
		return 0, err
	}
	for _, slot := range last {
		if due.Key(slot.Per) == due.Key(s.Per) && slot.CompleteAt == nil && slot.DueAt.Before(s.At) {
			return slot.ID, nil
		}
	}
	return 0, nil
}

// judge says how slots stand now, and looks for near misses of those that are
// late or missing.
func (w *worker) judge(ctx context.Context, slots []ledger.Slot, now time.Time) error {
	changed := map[int64]bool{}
	var names []landing.Entry
	listed := false
	for i := range slots {
		s := &slots[i]
		before := *s
		arrivals, err := w.e.Ledger.OfSlot(ctx, s.ID, manyFiles)
		if err != nil {
			return err
		}
		came := filesOf(arrivals)
		s.Came = len(came.Noticed)
		if s.State == due.Surplus {
			s.Surplus, s.TurnAt = s.Came, nil
			changed[s.ID] = s.Surplus != before.Surplus
			continue
		}
		v := due.Expected{Files: s.Files, Late: s.LateAt, Missing: s.MissingAt}.Judge(came, now)
		s.CompleteAt, s.TurnAt, s.Surplus = pointer(v.Complete), pointer(v.Turn), v.Surplus
		if s.State != due.Excused || s.CompleteAt != nil {
			s.State = v.State
		} else {
			s.TurnAt = nil
		}
		switch {
		case s.CompleteAt != nil || s.State == due.Open:
			s.Near = []filename.Near{}
		case s.State != before.State && (s.State == due.Late || s.State == due.Missing):
			if !listed {
				if names, err = w.names(ctx); err != nil {
					return err
				}
				listed = true
			}
			s.Near = w.near(s, names)
		}
		changed[s.ID] = s.State != before.State || s.Came != before.Came || s.Surplus != before.Surplus
		if s.State == due.Missing && before.State != due.Missing {
			w.e.Log.Warn("a delivery is missing", "feed", w.feed.Name, "slot", w.slotTitle(s), "say", w.feed.Due.Say)
		}
	}
	if len(slots) == 0 {
		return nil
	}
	return w.e.Ledger.Judged(ctx, slots, changed)
}

func (w *worker) slotTitle(s *ledger.Slot) string {
	d := due.Slot{At: s.DueAt.In(w.feed.Landing.Zone), Per: s.Per}
	return d.String()
}

func pointer(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// filesOf counts what came for a slot: each path once, whatever its versions;
// copies of what is counted not at all.
func filesOf(arrivals []ledger.Arrival) due.Files {
	type file struct {
		good, refused bool
		came          time.Time
	}
	byPath := map[string]*file{}
	var order []*file
	here := map[int64]bool{}
	for i := range arrivals {
		here[arrivals[i].ID] = true
	}
	for i := range arrivals {
		a := &arrivals[i]
		if a.State == ledger.Gone || a.State == ledger.Recalled || a.State == ledger.Skipped && a.CopyOf != nil && here[*a.CopyOf] {
			continue
		}
		f := byPath[a.Path]
		if f == nil {
			f = &file{}
			byPath[a.Path] = f
			order = append(order, f)
		}
		switch {
		case a.State == ledger.Refused:
			f.refused = true
		case !f.good:
			f.good, f.came = true, cameOf(a).Noticed
		}
	}
	var out due.Files
	for _, f := range order {
		if f.good {
			out.Noticed = append(out.Noticed, f.came)
		} else if f.refused {
			out.Refused++
		}
	}
	return out
}

// names lists what lies at the landing.
func (w *worker) names(ctx context.Context) ([]landing.Entry, error) {
	folder, err := openLanding(w.e, w.feed)
	if err != nil {
		return nil, nil // it is away; the feed says so
	}
	defer folder.Close()
	const most = 50_000
	var names []landing.Entry
	full := errors.New("enough")
	err = folder.List(ctx, func(path string) bool { return filename.LeftOut(path, 1) == "" }, func(e landing.Entry) error {
		if e.Problem == "" {
			names = append(names, e)
		}
		if len(names) == most {
			return full
		}
		return nil
	})
	if errors.Is(err, full) {
		err = nil
	}
	return names, err
}

// near finds names at the landing that almost are what a slot expects: those
// that belong to no slot, and those that carry the date of the slot before but
// came when this one was due.
func (w *worker) near(s *ledger.Slot, names []landing.Entry) []filename.Near {
	land := &w.feed.Landing
	known := slotCaptures(w.feed, s)
	slot, hasSlot := known.Slot()
	if !hasSlot && len(known) == 0 {
		return []filename.Near{}
	}
	var yesterday, since time.Time
	if times := w.feed.Due.Times; hasSlot && times != nil {
		if earlier := times.Between(s.DueAt.AddDate(0, 0, -40), s.DueAt.Add(-time.Second)); len(earlier) > 0 {
			gap := s.DueAt.Sub(earlier[len(earlier)-1])
			yesterday, since = slot.Add(-gap), s.DueAt.Add(-gap/2)
		}
	}
	var strange []string
	for _, e := range names {
		taken := land.Look(e.Path, e.Size)
		of, _ := taken.Captures.Slot()
		if taken.Why != "" || !yesterday.IsZero() && of.Equal(yesterday) && e.Modified.After(since) {
			strange = append(strange, e.Path)
		}
	}
	near := land.Files.Near(known, yesterday, land.Zone, strange, nearShown)
	if near == nil {
		near = []filename.Near{}
	}
	return near
}

// slotCaptures returns what the names of a slot's files say, as far as the slot
// tells.
func slotCaptures(f *feed.Feed, s *ledger.Slot) filename.Captures {
	return f.SlotCaptures(dueSlot(s))
}

func dueSlot(s *ledger.Slot) due.Slot {
	d := due.Slot{At: s.DueAt, Per: s.Per}
	if s.NameAt != nil {
		d.Name = *s.NameAt
	}
	return d
}
