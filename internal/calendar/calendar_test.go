package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mullein/internal/core/due"
	"mullein/internal/ledger"
)

// TestWhatCountsForASlot goes through what may lie there.
func TestWhatCountsForASlot(t *testing.T) {
	at := func(minute int) *time.Time { t := time.Date(2026, 7, 1, 12, minute, 0, 0, time.UTC); return &t }
	one := int64(1)
	for name, c := range map[string]struct {
		arrivals []ledger.Arrival
		want     due.Files
	}{
		"on its way counts": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Settling, CameAt: at(1)}},
			due.Files{Noticed: []time.Time{*at(1)}}},
		"another version once": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Recalled, CameAt: at(1)},
			{ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(9)}}},
		"a correction of a loaded one": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)},
			{ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one that counts": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)},
			{ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one, CameAt: at(2)}},
			due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one of another slot": {[]ledger.Arrival{{ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one,
			CameAt: at(2)}}, due.Files{Noticed: []time.Time{*at(2)}}},
		"refused": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)}},
			due.Files{Refused: 1}},
		"refused, then better": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)},
			{ID: 2, Path: "a", State: ledger.Ready, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(3)}}},
		"a worse correction": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)},
			{ID: 2, Path: "a", State: ledger.Refused, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"gone": {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Gone, CameAt: at(1)}},
			due.Files{}},
	} {
		assert.Equal(t, c.want, filesOf(c.arrivals), name)
	}
}

// TestWhichSilenceAFileEnds has a calendar that lags: the next silence is made before
// the file is seen that ended the one before it.
func TestWhichSilenceAFileEnds(t *testing.T) {
	at := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	key := ledger.SlotKey{Feed: "gauges", Per: due.Key(map[string]string{"catchment": "K1"})}
	s := silences{key: {{ID: 2, DueAt: at.Add(2 * time.Hour)}, {ID: 1, DueAt: at}}}
	ended := func(came time.Time, catchment string) int64 {
		slot, ok := s.endedBy("gauges", map[string]string{"catchment": catchment}, came)
		if !ok {
			return 0
		}
		return slot.ID
	}
	assert.EqualValues(t, 1, ended(at.Add(time.Hour), "K1"), "not the one that began after it came")
	assert.EqualValues(t, 2, ended(at.Add(3*time.Hour), "K1"))
	assert.Zero(t, ended(at.Add(-time.Hour), "K1"), "it came before both")
	assert.Zero(t, ended(at.Add(time.Hour), "K2"), "another supplier's")
	s[key][1].CompleteAt = &at
	assert.Zero(t, ended(at.Add(time.Hour), "K1"), "it is over already")
}

// TestWhatIsMissingIsLookedForAgain gives slots that are not filled turns, for two days.
func TestWhatIsMissingIsLookedForAgain(t *testing.T) {
	due := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	r := &round{now: due.Add(time.Hour)}
	s := &ledger.Slot{DueAt: due}
	r.lookAgain(s)
	assert.Equal(t, r.now.Add(nearAgain), *s.TurnAt)
	sooner := r.now.Add(time.Minute)
	s.TurnAt = &sooner
	r.lookAgain(s)
	assert.Equal(t, sooner, *s.TurnAt)
	old := &ledger.Slot{DueAt: due}
	r.now = due.Add(nearFor)
	r.lookAgain(old)
	assert.Nil(t, old.TurnAt)
}
