package api

import (
	"time"
)

// Slot is one expected delivery and what became of it.
type Slot struct {
	ID         int64             `json:"id"`
	Feed       string            `json:"feed"`
	DueAt      time.Time         `json:"due_at"`
	NameAt     *time.Time        `json:"name_at" doc:"The time that its files carry in their names"`
	Per        map[string]string `json:"per" doc:"The captures that tell it from others at the same time"`
	State      string            `json:"state" enum:"open,on time,late,missing,refused,excused,surplus"`
	Files      int               `json:"files" doc:"Expected"`
	Came       int               `json:"came"`
	Surplus    int               `json:"surplus" doc:"Files beyond what was expected"`
	LateAt     time.Time         `json:"late_at"`
	MissingAt  time.Time         `json:"missing_at"`
	CompleteAt *time.Time        `json:"complete_at" doc:"When the last file that was needed came"`
	ChangedAt  time.Time         `json:"changed_at"`
	Near       []NearName        `json:"near" nullable:"false" doc:"Files at the landing with names that come close, nearest first"`
}

// SlotView is a slot with what its files would be called.
type SlotView struct {
	Slot
	Expected string `json:"expected" doc:"The name that is expected, of a slot that is not complete; * where any text may stand"`
	Say      string `json:"say"`
	Zone     string `json:"zone" doc:"In which its calendar is written, as tz names it"`
}

// SlotList is slots, in order.
type SlotList struct {
	Items []SlotView `json:"items" nullable:"false"`
	More  bool       `json:"more" doc:"There are more; ask for a shorter span"`
}

// SlotCount is how many slots of a quarter of an hour are in a state.
type SlotCount struct {
	At    time.Time `json:"at" doc:"Where the quarter of an hour begins"`
	State string    `json:"state" enum:"open,on time,late,missing,refused,excused,surplus"`
	N     int       `json:"n"`
}

// SlotCountList is counts of slots, in order of time.
type SlotCountList struct {
	Items []SlotCount `json:"items" nullable:"false"`
}

// SlotDetail is a slot, what came for it, and what people decided.
type SlotDetail struct {
	SlotView
	Arrivals  []Arrival  `json:"arrivals" nullable:"false"`
	Decisions []Decision `json:"decisions" nullable:"false"`
}

// NearName is a name that comes close to one that is expected.
type NearName struct {
	Path     string  `json:"path"`
	Why      string  `json:"why" doc:"In what it differs"`
	Distance float64 `json:"distance" doc:"Smaller is nearer"`
}

// AcceptFile takes a file for a slot.
type AcceptFile struct {
	Path     string `json:"path" minLength:"1" maxLength:"4096" doc:"Below the landing"`
	Because  string `json:"because" minLength:"1" maxLength:"1000"`
	Although bool   `json:"although,omitempty" doc:"Also when the file is loaded already, perhaps for another slot"`
}

// PlannedSlot is a slot that a feed's calendar will have.
type PlannedSlot struct {
	DueAt     time.Time         `json:"due_at"`
	LateAt    time.Time         `json:"late_at"`
	MissingAt time.Time         `json:"missing_at"`
	Per       map[string]string `json:"per"`
	Files     int               `json:"files"`
	Expected  string            `json:"expected" doc:"The name that is expected; * where any text may stand"`
}

// Plan is what a calendar will have in a span.
type Plan struct {
	Zone  string        `json:"zone"`
	Items []PlannedSlot `json:"items" nullable:"false"`
}
