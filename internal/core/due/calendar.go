package due

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/timeformat"
)

// State is the state of a slot.
type State string

// The states of a slot.
const (
	Open    State = "open"    // due, and not yet late
	OnTime  State = "on time" // all that was expected came in time
	Late    State = "late"    // not all came in time; Complete reports whether it is here by now
	Missing State = "missing" // it did not come
	Refused State = "refused" // it came, and was refused
	Excused State = "excused" // a person said that it need not come
	Surplus State = "surplus" // files that nobody expected
)

// Unit is how finely names tell slots apart.
type Unit string

// The units. A feed whose names tell no time has no unit.
const (
	NoUnit Unit = ""
	Minute Unit = "minute"
	Hour   Unit = "hour"
	Day    Unit = "day"
	Month  Unit = "month"
	Year   Unit = "year"
	Number Unit = "number"
)

// Start returns the beginning of the unit that a time lies in.
func (u Unit) Start(t time.Time) time.Time {
	y, m, d := t.Date()
	switch u {
	case Minute:
		return t.Truncate(time.Minute)
	case Hour:
		return timeformat.Instant(y, m, d, t.Hour(), 0, 0, 0, t.Location())
	case Day:
		return timeformat.Instant(y, m, d, 0, 0, 0, 0, t.Location())
	case Month:
		return timeformat.Instant(y, m, 1, 0, 0, 0, 0, t.Location())
	case Year:
		return timeformat.Instant(y, 1, 1, 0, 0, 0, 0, t.Location())
	}
	return t
}

// Next returns the beginning of the unit after the one that begins at t.
func (u Unit) Next(t time.Time) time.Time {
	switch u {
	case Minute:
		return t.Add(time.Minute)
	case Hour:
		return u.Start(t.Add(time.Hour))
	case Day:
		return u.Start(t.Add(36 * time.Hour)) // the clock may have changed
	case Month:
		return u.Start(t.AddDate(0, 0, 45-t.Day()))
	}
	return u.Start(t.AddDate(1, 0, 45-t.YearDay()))
}

// Group is a capture whose values have slots of their own.
type Group struct {
	Capture string
	Values  []string
}

// Calendar says when deliveries are expected.
type Calendar struct {
	Times    *Times        // nil where no schedule is known; then QuietFor counts
	QuietFor time.Duration // how long a supplier may be silent
	Per      []Group       // a slot for each combination of values
	Files    int           // that a slot has, 1 or more
	Late     time.Duration // after a slot's time
	Missing  time.Duration // after a slot's time, not less than Late
	Except   map[string]bool
	Say      string
	Unit     Unit           // of the slot that names carry
	NameZone *time.Location // of the times in names
}

// Slot is one expected delivery.
type Slot struct {
	At   time.Time         // when it is due
	Name time.Time         // the time that its files carry in their names; zero without a unit
	Per  map[string]string // the captures that tell it from others at the same time
}

// String names a slot for people.
func (s Slot) String() string {
	at := s.At
	if !s.Name.IsZero() {
		at = s.Name
	}
	text := at.Format("2006-01-02 15:04")
	for _, name := range slices.Sorted(maps.Keys(s.Per)) {
		text += " " + s.Per[name]
	}
	return text
}

// Expect returns what is expected of a slot.
func (c *Calendar) Expect(s Slot) Expected {
	return Expected{Files: c.Files, Late: s.At.Add(c.Late), Missing: s.At.Add(c.Missing)}
}

// Expected is what is expected of one slot, and from when on it is late and
// missing.
type Expected struct {
	Files         int
	Late, Missing time.Time
}

// Rests returns until when nothing is expected: from when the last slot counts as missing until a lead before the next one. ok is
// false at times at which something is, and where no schedule is known.
func (c *Calendar) Rests(now time.Time, lead time.Duration) (until time.Time, ok bool) {
	if c == nil || c.Times == nil {
		return time.Time{}, false
	}
	next := c.Times.Next(now.Add(-c.Missing))
	if next.IsZero() || !next.Add(-lead).After(now) {
		return time.Time{}, false
	}
	return next.Add(-lead), true
}

// Slots returns the slots that are due after from and up to to, in order. A
// feed without a schedule has none.
func (c *Calendar) Slots(from, to time.Time) []Slot {
	if c.Times == nil {
		return nil
	}
	var out []Slot
	named := map[time.Time]bool{}
	for _, at := range c.Times.Between(from, to) {
		if c.Except[at.In(c.Times.zone).Format(time.DateOnly)] {
			continue
		}
		name := c.name(at)
		if !name.IsZero() { // names that cannot tell two times apart make one slot
			if named[name] {
				continue
			}
			named[name] = true
		}
		for _, per := range c.Combinations() {
			out = append(out, Slot{At: at, Name: name, Per: per})
		}
	}
	return out
}

func (c *Calendar) name(at time.Time) time.Time {
	if c.Unit == NoUnit || c.Unit == Number {
		return time.Time{}
	}
	return c.Unit.Start(at.In(c.NameZone)).UTC()
}

// Combinations returns the captures of the slots at one time: one empty set when
// there is no Per.
func (c *Calendar) Combinations() []map[string]string {
	out := []map[string]string{{}}
	for _, g := range c.Per {
		var next []map[string]string
		for _, have := range out {
			for _, v := range g.Values {
				with := maps.Clone(have)
				with[g.Capture] = v
				next = append(next, with)
			}
		}
		out = next
	}
	return out
}

// Came is what is known of a file: when it was noticed and what its name says.
type Came struct {
	Noticed  time.Time
	Slot     time.Time // zero when its name tells none
	Captures map[string]any
}

// SlotOf returns the slot that a file belongs to: the one its name tells, or,
// where names tell no time, the one that is due nearest to when it came.
// Expected is false when nobody expected such a file.
func (c *Calendar) SlotOf(f Came) (s Slot, expected bool) {
	s = Slot{At: f.Noticed, Name: f.Slot, Per: map[string]string{}}
	expected = true
	for _, g := range c.Per {
		value := fmt.Sprint(f.Captures[g.Capture])
		s.Per[g.Capture] = value
		expected = expected && slices.Contains(g.Values, value)
	}
	if c.Times == nil {
		return s, expected
	}
	if c.Unit != NoUnit && c.Unit != Number && !f.Slot.IsZero() {
		s.At = f.Slot
		begin := c.Unit.Start(f.Slot.In(c.NameZone))
		for _, at := range c.Times.Between(begin.Add(-time.Nanosecond), c.Unit.Next(begin).Add(-time.Nanosecond)) {
			if !c.Except[at.In(c.Times.zone).Format(time.DateOnly)] {
				s.At, s.Name = at, begin.UTC()
				return s, expected
			}
		}
		return s, false
	}
	after := c.Times.Next(f.Noticed.Add(-time.Nanosecond))
	before := c.before(f.Noticed)
	s.At, s.Name = after, time.Time{}
	if !before.IsZero() && (after.IsZero() || f.Noticed.Sub(before) <= after.Sub(f.Noticed)) {
		s.At = before
	}
	return s, expected && !s.At.IsZero()
}

// before returns the last time of the calendar before an instant, looking back
// up to a year.
func (c *Calendar) before(t time.Time) time.Time {
	for _, back := range []time.Duration{2 * time.Hour, 32 * 24 * time.Hour, 366 * 24 * time.Hour} {
		if found := c.Times.Between(t.Add(-back), t); len(found) > 0 {
			return found[len(found)-1]
		}
	}
	return time.Time{}
}

// Files is what came for a slot. Another version of a file, and a copy of one
// that is counted, do not count again.
type Files struct {
	Noticed []time.Time // when each file came that is loaded or on its way
	Refused int         // files of which only refused versions are there
}

// Verdict is what to think of a slot.
type Verdict struct {
	State    State
	Complete time.Time // when the last file that was needed came; zero while some are missing
	Surplus  int       // files beyond what was expected
	Turn     time.Time // when it changes by itself; zero when it does not
}

// Judge says how a slot stands at a time.
func (e Expected) Judge(came Files, now time.Time) Verdict {
	v := Verdict{State: Open}
	if len(came.Noticed) >= e.Files {
		slices.SortFunc(came.Noticed, time.Time.Compare)
		v.Complete, v.Surplus = came.Noticed[e.Files-1], len(came.Noticed)-e.Files
		v.State = OnTime
		if v.Complete.After(e.Late) {
			v.State = Late
		}
		return v
	}
	switch {
	case came.Refused > 0:
		v.State = Refused
	case !now.Before(e.Missing):
		v.State = Missing
	case !now.Before(e.Late):
		v.State, v.Turn = Late, e.Missing
	default:
		v.Turn = e.Late
	}
	return v
}

// Key writes the captures of a slot in one way, so that they can be compared.
func Key(per map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(per)) {
		parts = append(parts, name+"="+per[name])
	}
	return strings.Join(parts, ",")
}
