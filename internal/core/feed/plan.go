package feed

import (
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
