package feed

import (
	"fmt"
	"slices"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/filename"
)

// PlannedSlot is a slot that a feed's calendar will have.
type PlannedSlot struct {
	DueAt     time.Time
	LateAt    time.Time
	MissingAt time.Time
	Per       map[string]string
	Files     int
	Expected  string // the name that is expected; * where any text may stand
}

// Plan returns the slots that are due from a time on and before another. A feed
// without a schedule has none.
func (f *Feed) Plan(from, to time.Time) []PlannedSlot {
	out := []PlannedSlot{}
	if f.Due == nil {
		return out
	}
	for _, s := range f.Due.Slots(from.Add(-time.Nanosecond), to.Add(-time.Nanosecond)) {
		e := f.Due.Expect(s)
		out = append(out, PlannedSlot{DueAt: s.At, LateAt: e.Late, MissingAt: e.Missing, Per: s.Per, Files: e.Files,
			Expected: f.Expected(s)})
	}
	return out
}

// Expected writes the name that a slot expects.
func (f *Feed) Expected(s due.Slot) string {
	return f.Landing.Files.Expected(f.SlotCaptures(s), f.Landing.Zone)
}

// SlotCaptures returns what the names of a slot's files say, as far as the slot
// tells.
func (f *Feed) SlotCaptures(s due.Slot) filename.Captures {
	known := map[string]any{}
	for name, value := range s.Per {
		known[name] = value
	}
	captures := f.Landing.Files.Read(known)
	if !s.Name.IsZero() {
		captures["slot"] = s.Name.UTC()
	}
	return captures
}

// NamesBetween returns the names that files of a while may have, the newest first and most at the most: of each slot that
// is due then, or, where nothing is due by the clock, of each unit of time that names tell apart.
func (f *Feed) NamesBetween(from, to time.Time, most int) ([]string, error) {
	pattern, zone := f.Landing.Files, f.Landing.Zone
	var known []filename.Captures
	switch unit := pattern.Unit(); {
	case f.Due != nil && f.Due.Times != nil:
		for _, s := range f.Due.Slots(from, to) {
			known = append(known, f.SlotCaptures(s))
		}
	case unit == due.NoUnit || unit == due.Number:
		known = append(known, filename.Captures{})
	default:
		for at := unit.Start(to.In(zone)); at.After(from) && len(known) < most; at = unit.Start(at.Add(-time.Nanosecond)) {
			known = append(known, filename.Captures{"slot": at})
		}
		slices.Reverse(known)
	}
	var out []string
	for _, captures := range slices.Backward(known) {
		for _, name := range pattern.Written(captures, zone) {
			if len(out) < most {
				out = append(out, name)
			}
		}
	}
	if len(known) > 0 && len(out) == 0 {
		return nil, fmt.Errorf("files %s: a name cannot be written from it, since it has parts that neither slot nor due.per tell", pattern)
	}
	return out, nil
}
