package calendar

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

const (
	// back is how far a calendar may begin before the feed was put: with the first
	// slot for which a file lay there.
	back        = 48 * time.Hour
	slotsAtOnce = 1000
	// feedsAtOnce is how many feeds are looked at together.
	feedsAtOnce = 500
	// check is how often a calendar is looked at without news; turnsCheck how often it
	// is looked whether the turn of a slot has come of which nobody was told.
	check      = 10 * time.Minute
	turnsCheck = 30 * time.Second
	nearShown  = 5
	// filesOfSlot is how many files of a slot are counted.
	filesOfSlot = 10_000
)

// Options are what a keeper needs.
type Options struct {
	Ledger  *ledger.Ledger
	Landing func(context.Context, *feed.Feed) (landing.Landing, error)
	Log     *slog.Logger
	Now     func() time.Time
}

// Keeper keeps the calendars of feeds: it makes slots as they fall due, links files
// to them, and says how each stands. It may be used by several goroutines.
type Keeper struct {
	Options
	wake chan struct{}

	mu    sync.Mutex
	feeds map[string]*kept
}

// kept is a feed whose calendar is kept.
type kept struct {
	feed    *feed.Feed
	created time.Time
	at      time.Time // when to look
	touched bool      // something happened
}

// New makes a keeper. It does nothing until [Keeper.Run].
func New(o Options) *Keeper {
	return &Keeper{Options: o, wake: make(chan struct{}, 1), feeds: map[string]*kept{}}
}

// Add begins to keep the calendar of a feed, in place of the version of it that is
// kept. It does nothing for a feed without one.
func (k *Keeper) Add(f *feed.Feed, record ledger.Feed) {
	if f.Due == nil {
		k.Remove(f.Name)
		return
	}
	k.mu.Lock()
	k.feeds[f.Name] = &kept{feed: f, created: record.CreatedAt, touched: true}
	k.mu.Unlock()
	k.poke()
}

// Remove ends the keeping of a feed's calendar.
func (k *Keeper) Remove(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.feeds, name)
}

// Touch says that something happened with files of feeds.
func (k *Keeper) Touch(names ...string) {
	any := false
	k.mu.Lock()
	for _, name := range names {
		if f := k.feeds[name]; f != nil {
			f.touched, any = true, true
		}
	}
	k.mu.Unlock()
	if any {
		k.poke()
	}
}

func (k *Keeper) poke() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// gather is how long what happens is gathered, so that many feeds are looked at
// together.
const gather = 100 * time.Millisecond

const (
	// restFactor makes the keeper rest at least so many times as long as it worked,
	// up to mostRest: more is gathered, the more happens.
	restFactor = 5
	mostRest   = time.Second
)

func rest(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Run keeps calendars until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	said, turns := "", time.Now()
	for ctx.Err() == nil {
		if time.Since(turns) >= turnsCheck {
			turns = time.Now()
			if names, err := k.Ledger.FeedsToJudge(ctx, feedsAtOnce); err == nil { // else it is said below
				k.Touch(names...)
			}
		}
		due, wait := k.due(k.Now())
		if len(due) == 0 {
			select {
			case <-ctx.Done():
			case <-time.After(min(wait, turnsCheck)):
			case <-k.wake:
				select {
				case <-ctx.Done():
				case <-time.After(gather):
				}
			}
			continue
		}
		began := time.Now()
		err := k.keep(ctx, due, k.Now())
		rest(ctx, min(restFactor*time.Since(began), mostRest))
		switch {
		case err == nil:
			said = ""
		case ctx.Err() == nil:
			if said != err.Error() {
				said = err.Error()
				k.Log.Error("calendars could not be kept; trying on", "feeds", len(due), "error", err)
			}
			k.later(due)
		}
	}
}

// due takes feeds whose calendars are to be looked at, or says how long there are
// none.
func (k *Keeper) due(now time.Time) (out []*kept, wait time.Duration) {
	k.mu.Lock()
	defer k.mu.Unlock()
	next := now.Add(time.Hour)
	for _, f := range k.feeds {
		if !f.touched && f.at.After(now) {
			if f.at.Before(next) {
				next = f.at
			}
			continue
		}
		if out = append(out, f); len(out) == feedsAtOnce {
			break
		}
	}
	for _, f := range out {
		f.touched, f.at = false, now.Add(check)
	}
	return out, max(next.Sub(now), 10*time.Millisecond)
}

// later has feeds looked at again that could not be.
func (k *Keeper) later(feeds []*kept) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, f := range feeds {
		f.at = k.Now().Add(time.Second)
	}
}

// round is one look at the calendars of some feeds.
type round struct {
	*Keeper
	now   time.Time
	feeds map[string]*open
	names []string // of feeds, sorted
}

// open is a feed whose landing has been listed, so that something is known.
type open struct {
	*kept
	record ledger.Feed
	from   time.Time // where the calendar begins
	next   time.Time // when something falls due next; zero for never
}

// keep brings calendars up to now.
func (k *Keeper) keep(ctx context.Context, feeds []*kept, now time.Time) error {
	r := &round{Keeper: k, now: now, feeds: map[string]*open{}}
	var names []string
	for _, f := range feeds {
		names = append(names, f.feed.Name)
	}
	records, err := k.Ledger.FeedsNamed(ctx, names)
	if err != nil {
		return err
	}
	byName := map[string]*kept{}
	for _, f := range feeds {
		byName[f.feed.Name] = f
	}
	for _, record := range records {
		if record.ListedAt != nil { // before the first listing nothing is known
			r.feeds[record.Name] = &open{kept: byName[record.Name], record: record}
			r.names = append(r.names, record.Name)
		}
	}
	if len(r.names) == 0 {
		return nil
	}
	slices.Sort(r.names)
	for _, step := range []func(context.Context) error{r.begin, r.makeSlots, r.link, r.judgeAll} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return r.end(ctx)
}

// end notes when each calendar is to be looked at next.
func (r *round) end(ctx context.Context) error {
	turns, err := r.Ledger.NextTurns(ctx, r.names)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, f := range r.feeds {
		at := r.now.Add(check)
		for _, next := range []time.Time{f.next, turns[name]} {
			if !next.IsZero() && next.Before(at) {
				at = next
			}
		}
		f.kept.at = at
	}
	return nil
}

// begin finds out where calendars begin that have not begun: with the first slot
// for which a file lay there when the landing was first listed, or else then.
func (r *round) begin(ctx context.Context) error {
	var fresh []ledger.After
	for _, name := range r.names {
		if f := r.feeds[name]; f.record.DueFrom != nil {
			f.from = *f.record.DueFrom
		} else {
			fresh = append(fresh, ledger.After{Feed: name})
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	early, err := r.Ledger.Unlinked(ctx, fresh, 10*slotsAtOnce)
	if err != nil {
		return err
	}
	begins := map[string]time.Time{}
	for _, of := range fresh {
		f := r.feeds[of.Feed]
		from := r.now
		for i := range early[of.Feed] {
			if s, expected := f.feed.Due.SlotOf(cameOf(&early[of.Feed][i])); expected && s.At.Before(from) &&
				s.At.After(r.now.Add(-back)) {
				from = s.At
			}
		}
		f.from = from.Add(-time.Nanosecond).UTC()
		begins[of.Feed] = f.from
	}
	return r.Ledger.BeginCalendars(ctx, begins)
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

// slotOf is the record of a slot of a feed that is to be judged now.
func slotOf(f *feed.Feed, s due.Slot, now time.Time) ledger.Slot {
	e := f.Due.Expect(s)
	turn := now.UTC()
	out := ledger.Slot{Feed: f.Name, DueAt: s.At.UTC(), Per: s.Per, State: due.Open, Files: e.Files,
		LateAt: e.Late.UTC(), MissingAt: e.Missing.UTC(), TurnAt: &turn}
	if !s.Name.IsZero() {
		name := s.Name.UTC()
		out.NameAt = &name
	}
	return out
}

// makeSlots makes the slots that are due by now.
func (r *round) makeSlots(ctx context.Context) error {
	last, err := r.Ledger.LastDue(ctx, r.names)
	if err != nil {
		return err
	}
	var slots []ledger.Slot
	for _, name := range r.names {
		f := r.feeds[name]
		if f.feed.Due.Times == nil {
			silent, err := r.silence(ctx, f)
			if err != nil {
				return err
			}
			slots = append(slots, silent...)
			continue
		}
		from := f.from
		if last[name].After(from) {
			from = last[name]
		}
		for _, s := range f.feed.Due.Slots(from.Add(-time.Second), r.now) {
			slots = append(slots, slotOf(f.feed, s, r.now))
		}
		f.next = f.feed.Due.Times.Next(r.now)
	}
	if len(slots) == 0 {
		return nil
	}
	return r.Ledger.MakeSlots(ctx, slots)
}

// silence returns a missing slot for each supplier who has been silent for too
// long, where no schedule is known.
func (r *round) silence(ctx context.Context, f *open) ([]ledger.Slot, error) {
	combinations := f.feed.Due.Combinations()
	came, err := r.Ledger.LastCame(ctx, f.feed.Name, combinations)
	if err != nil {
		return nil, err
	}
	var slots []ledger.Slot
	for i, per := range combinations {
		last := came[i]
		if last.IsZero() {
			last = f.created
		}
		if at := last.Add(f.feed.Due.QuietFor); !at.After(r.now) {
			s := slotOf(f.feed, due.Slot{At: at.Truncate(time.Microsecond), Per: per}, r.now)
			s.LateAt, s.MissingAt = s.DueAt, s.DueAt
			slots = append(slots, s)
		} else if f.next.IsZero() || at.Before(f.next) {
			f.next = at
		}
	}
	return slots, nil
}

// link finds the slots of files that came. A file that nobody expected gets a
// slot of its own, which is surplus.
func (r *round) link(ctx context.Context) error {
	silences, err := r.silences(ctx)
	if err != nil {
		return err
	}
	var from []ledger.After
	for _, name := range r.names {
		from = append(from, ledger.After{Feed: name, After: r.feeds[name].record.DueAfter})
	}
	for len(from) > 0 {
		most := max(1, 10*slotsAtOnce/len(from))
		arrivals, err := r.Ledger.Unlinked(ctx, from, most)
		if err != nil {
			return err
		}
		if from, err = r.linkSome(ctx, arrivals, silences, most); err != nil {
			return err
		}
	}
	return nil
}

// linkSome links arrivals, and returns after which of them those feeds go on that may
// have more.
func (r *round) linkSome(ctx context.Context, arrivals map[string][]ledger.Arrival, silences silences,
	most int) (more []ledger.After, err error) {
	links := map[int64]int64{}
	wanted := map[int64]ledger.SlotKey{} // by arrival
	slots := map[ledger.SlotKey]ledger.Slot{}
	var looked []ledger.After
	for name, list := range arrivals {
		f := r.feeds[name]
		for i := range list {
			a := &list[i]
			if a.State == ledger.Gone || a.Backlog {
				continue
			}
			s, expected := f.feed.Due.SlotOf(cameOf(a))
			if f.feed.Due.Times == nil {
				if slot, ok := silences.endedBy(name, s.Per, s.At); ok {
					links[a.ID] = slot.ID
				}
				continue
			}
			if s.At.Before(f.from) { // before the calendar begins nothing is expected, and nothing is surplus
				continue
			}
			slot := slotOf(f.feed, s, r.now)
			if !expected {
				slot.State, slot.Files = due.Surplus, 0
			}
			key := ledger.SlotKey{Feed: name, At: slot.DueAt, Per: due.Key(s.Per)}
			wanted[a.ID], slots[key] = key, slot
		}
		upTo := ledger.After{Feed: name, After: list[len(list)-1].ID}
		if looked = append(looked, upTo); len(list) == most {
			more = append(more, upTo)
		}
	}
	if len(looked) == 0 {
		return nil, nil
	}
	found, err := r.slotsFor(ctx, slots)
	if err != nil {
		return nil, err
	}
	for arrival, key := range wanted {
		if id, ok := found[key]; ok {
			links[arrival] = id
		}
	}
	return more, r.Ledger.Link(ctx, links, looked)
}

// slotsFor finds the slots with some keys, and makes those that there are not.
func (r *round) slotsFor(ctx context.Context, slots map[ledger.SlotKey]ledger.Slot) (map[ledger.SlotKey]int64, error) {
	if len(slots) == 0 {
		return nil, nil
	}
	var keys []ledger.SlotKey
	for key := range slots {
		keys = append(keys, key)
	}
	found, err := r.Ledger.SlotsAt(ctx, keys)
	if err != nil {
		return nil, err
	}
	var missing []ledger.Slot
	for key, slot := range slots {
		if _, ok := found[key]; !ok {
			missing = append(missing, slot)
		}
	}
	if len(missing) == 0 {
		return found, nil
	}
	if err := r.Ledger.MakeSlots(ctx, missing); err != nil {
		return nil, err
	}
	return r.Ledger.SlotsAt(ctx, keys)
}

// silencesBack is among how many of the last silences of a supplier the one is that a
// file ends: where the calendar lags, the next one may have begun after it came.
const silencesBack = 10

// silences are the last silences by feed and captures, the newest first.
type silences map[ledger.SlotKey][]ledger.Slot

// endedBy returns the silence that a file ends that came at a time; ok is false where
// there is none.
func (s silences) endedBy(feed string, per map[string]string, came time.Time) (slot ledger.Slot, ok bool) {
	for _, slot := range s[ledger.SlotKey{Feed: feed, Per: due.Key(per)}] {
		if slot.DueAt.Before(came) {
			return slot, slot.CompleteAt == nil
		}
	}
	return slot, false
}

func (r *round) silences(ctx context.Context) (silences, error) {
	var quiet []string
	for _, name := range r.names {
		if r.feeds[name].feed.Due.Times == nil {
			quiet = append(quiet, name)
		}
	}
	if len(quiet) == 0 {
		return nil, nil
	}
	last, err := r.Ledger.LastSlots(ctx, quiet, silencesBack)
	out := silences{}
	for _, slot := range last {
		key := ledger.SlotKey{Feed: slot.Feed, Per: due.Key(slot.Per)}
		out[key] = append(out[key], slot)
	}
	return out, err
}

// judgeAll says how slots stand whose turn it is.
func (r *round) judgeAll(ctx context.Context) error {
	for {
		slots, err := r.Ledger.SlotsToJudge(ctx, r.names, slotsAtOnce)
		if err != nil || len(slots) == 0 {
			return err
		}
		if err := r.judge(ctx, slots); err != nil || len(slots) < slotsAtOnce {
			return err
		}
	}
}

// judge says how slots stand now, and looks for near misses of those that are
// late or missing.
func (r *round) judge(ctx context.Context, slots []ledger.Slot) error {
	of := make([]int64, len(slots))
	for i, s := range slots {
		of[i] = s.ID
	}
	arrivals, err := r.Ledger.OfSlots(ctx, of, filesOfSlot)
	if err != nil {
		return err
	}
	changed := map[int64]bool{}
	names := map[string][]landing.Entry{} // by feed
	for i := range slots {
		s := &slots[i]
		before := *s
		f := r.feeds[s.Feed].feed
		judge(s, filesOf(arrivals[s.ID]), r.now)
		switch {
		case s.State == due.Surplus:
		case s.CompleteAt != nil || s.State == due.Open:
			s.Near = []filename.Near{}
		case s.State == due.Late || s.State == due.Missing:
			r.lookAgain(s)
			if _, listed := names[s.Feed]; !listed {
				if names[s.Feed], err = r.listed(ctx, f); err != nil {
					return err
				}
			}
			if s.Near, err = r.notLoaded(ctx, f, near(f, s, names[s.Feed])); err != nil {
				return err
			}
		}
		changed[s.ID] = s.State != before.State || s.Came != before.Came || s.Surplus != before.Surplus
		if s.State != before.State {
			r.log(f, s, before.State)
		}
	}
	return r.Ledger.Judged(ctx, slots, changed)
}

const (
	// nearAgain is how often names are looked for that come close to what is missing,
	// for as long as nearFor after it was due.
	nearAgain = 5 * time.Minute
	nearFor   = 48 * time.Hour
)

// lookAgain gives a slot that is not filled another turn: a file with another name may
// come late too.
func (r *round) lookAgain(s *ledger.Slot) {
	if again := r.now.Add(nearAgain); again.Before(s.DueAt.Add(nearFor)) &&
		(s.TurnAt == nil || again.Before(*s.TurnAt)) {
		s.TurnAt = pointer(again)
	}
}

// notLoaded leaves out files that are loaded already, for this slot or another.
func (r *round) notLoaded(ctx context.Context, f *feed.Feed, near []filename.Near) ([]filename.Near, error) {
	if len(near) == 0 {
		return near, nil
	}
	files := make([]ledger.File, len(near))
	for i, n := range near {
		files[i] = ledger.File{Feed: f.Name, Path: n.Path}
	}
	known, err := r.Ledger.Known(ctx, files)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(near, func(n filename.Near) bool {
		return slices.ContainsFunc(known,
			func(k ledger.Look) bool { return k.Path == n.Path && k.State == ledger.Loaded })
	}), nil
}

// log writes down that a delivery is late or missing, and the end of that.
func (r *round) log(f *feed.Feed, s *ledger.Slot, before due.State) {
	slot := due.Slot{At: s.DueAt.In(f.Landing.Zone), Per: s.Per}.String()
	wasWrong := before == due.Missing || before == due.Late && s.CompleteAt != nil
	switch {
	case s.State == due.Missing:
		r.Log.Warn("a delivery is missing", "feed", f.Name, "slot", slot, "say", f.Due.Say)
	case s.State == due.Late && s.CompleteAt == nil:
		r.Log.Warn("a delivery is late", "feed", f.Name, "slot", slot)
	case wasWrong:
		r.Log.Info("a delivery is here or excused", "feed", f.Name, "slot", slot, "state", string(s.State))
	}
}

// judge says how a slot stands for which files came.
func judge(s *ledger.Slot, came due.Files, now time.Time) {
	s.Came = len(came.Noticed)
	if s.State == due.Surplus {
		s.Surplus, s.TurnAt = s.Came, nil
		return
	}
	v := due.Expected{Files: s.Files, Late: s.LateAt, Missing: s.MissingAt}.Judge(came, now)
	s.CompleteAt, s.TurnAt, s.Surplus = pointer(v.Complete), pointer(v.Turn), v.Surplus
	if s.State != due.Excused || s.CompleteAt != nil {
		s.State = v.State
	} else {
		s.TurnAt = nil
	}
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
		if a.State == ledger.Gone || a.State == ledger.Recalled || a.State == ledger.Skipped && a.CopyOf != nil &&
			here[*a.CopyOf] {
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

// listed lists what lies at the landing.
func (r *round) listed(ctx context.Context, f *feed.Feed) ([]landing.Entry, error) {
	folder, err := r.Landing(ctx, f)
	if err != nil {
		return nil, nil // it is away; the feed says so
	}
	defer folder.Close()
	const most = 50_000
	var names []landing.Entry
	full := errors.New("enough")
	err = folder.List(ctx, func(path string) bool { return filename.LeftOut(path, 1) == "" },
		func(e landing.Entry) error {
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
func near(f *feed.Feed, s *ledger.Slot, names []landing.Entry) []filename.Near {
	land := &f.Landing
	known := f.SlotCaptures(s.Due())
	slot, hasSlot := known.Slot()
	var yesterday, since time.Time
	if times := f.Due.Times; hasSlot && times != nil {
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
	out := land.Files.Near(known, yesterday, land.Zone, strange, nearShown)
	if out == nil {
		out = []filename.Near{}
	}
	return out
}
