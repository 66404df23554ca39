package engine

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

func TestSlotsOfARangeInOtherUnits(t *testing.T) {
	now := time.Date(2026, 7, 2, 12, 0, 0, 0, time.UTC)
	for form, want := range map[string][]string{
		"{slot:%Y%m}":      {"2026-06", "2026-07"},
		"{slot:%Y}":        {"2026"},
		"{slot:%Y%m%dT%H}": {"2026-06-30T00"},
		"*":                {"2026-06-01"},
		"{slot:#}":         nil,
	} {
		text := strings.Replace(gauges, "{slot:%Y%m%dT%H%M}*", form, 1)
		f, err := feed.Parse("x", []byte(text))
		require.NoError(t, err, form)
		wanted := ledger.Wanted{From: "2026-06", To: "2026-07"}
		switch form {
		case "{slot:%Y%m%dT%H}":
			wanted = ledger.Wanted{From: "2026-06-30T00"}
		case "*":
			wanted = ledger.Wanted{To: "2026-06-01"}
		case "{slot:#}":
			assert.ErrorContains(t, CheckRange(f, wanted, now),
				"is not a number; the names of this feed count their slots")
			assert.ErrorContains(t, CheckRange(f, ledger.Wanted{From: "9", To: "3"}, now),
				"from 9 to 3 are not between")
			wanted, want = ledger.Wanted{From: "9", To: "11"}, []string{"9", "10", "11"}
		}
		steps, err := slotsOf(f, wanted, now)
		require.NoError(t, err, form)
		var names []string
		for _, s := range steps {
			names = append(names, s.name)
		}
		assert.Equal(t, want, names, form)
	}
}
