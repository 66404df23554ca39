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
		"on its way counts":             {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Settling, CameAt: at(1)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"another version once":          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Recalled, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(9)}}},
		"a correction of a loaded one":  {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Loaded, CameAt: at(9)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one that counts":     {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one, CameAt: at(2)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"a copy of one of another slot": {[]ledger.Arrival{{ID: 2, Path: "b", State: ledger.Skipped, CopyOf: &one, CameAt: at(2)}}, due.Files{Noticed: []time.Time{*at(2)}}},
		"refused":                       {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)}}, due.Files{Refused: 1}},
		"refused, then better":          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Refused, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Ready, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(3)}}},
		"a worse correction":            {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Loaded, CameAt: at(1)}, {ID: 2, Path: "a", State: ledger.Refused, CameAt: at(3)}}, due.Files{Noticed: []time.Time{*at(1)}}},
		"gone":                          {[]ledger.Arrival{{ID: 1, Path: "a", State: ledger.Gone, CameAt: at(1)}}, due.Files{}},
	} {
		assert.Equal(t, c.want, filesOf(c.arrivals), name)
	}
}
