package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
)

// dropAt leaves a file with a time of its own.
func (h *house) dropAt(name, content string, modified time.Time) {
	h.t.Helper()
	temporary := filepath.Join(h.root, "upload")
	require.NoError(h.t, os.WriteFile(temporary, []byte(content), 0o644))
	require.NoError(h.t, os.Chtimes(temporary, modified, modified))
	require.NoError(h.t, os.Rename(temporary, filepath.Join(h.root, "in", name)))
}

// slots returns the states of the feed's slots in order, with what came.
func (h *house) slots() []string {
	h.t.Helper()
	list, err := h.ledger.SlotsBetween(ctx, ledger.SlotFilter{Feed: "gauges", From: time.Now().Add(-72 * time.Hour),
		To: time.Now().Add(time.Hour), Most: 1000})
	require.NoError(h.t, err)
	var out []string
	for _, s := range list {
		out = append(out, fmt.Sprintf("%s %s %d", s.PerKey, s.State, s.Came))
	}
	return out
}

// TestTheCalendarOfALanding lays out a landing whose last hours went as they
// go, and lets the engine judge them: files are known by their own times.
func TestTheCalendarOfALanding(t *testing.T) {
	t.Parallel()
	hour := time.Now().UTC().Add(-30 * time.Minute).Truncate(time.Minute) // the newest slot is beyond its missing_after
	h := newHouse(t, with("zone: UTC",
		fmt.Sprintf(`due: {cron: "%d * * * *", per: {catchment: [K1]}, late_after: 5m, missing_after: 20m, say: ring the duty desk}`, hour.Minute())))
	at := func(back int) time.Time { return hour.Add(-time.Duration(back) * time.Hour) }
	name := func(back int, form string) string { return "G_K1_" + at(back).Format(form) + ".csv" }
	const form = "20060102T1504"
	h.dropAt(name(7, form), header+row(7, "1"), at(7).Add(time.Minute))
	h.dropAt(name(6, form), header+row(6, "1"), at(6).Add(10*time.Minute)) // late
	h.dropAt(name(5, "02012006T1504"), header+row(5, "1"), at(5))          // the date the other way round
	h.dropAt(name(4, form), header, at(4))                                 // refused
	h.dropAt(name(3, form), header+row(3, "1"), at(3))
	h.dropAt(strings.TrimSuffix(name(3, form), ".csv")+" (1).csv", header+row(3, "1"), at(3)) // a copy
	h.dropAt(strings.TrimSuffix(name(2, form), ".csv")+"_a.csv", header+row(2, "1"), at(2))
	h.dropAt(strings.TrimSuffix(name(2, form), ".csv")+"_b.csv", header+row(1, "1"),
		at(2)) // one too many
	h.dropAt("G_K9_"+at(1).Format(form)+".csv", header+row(9, "1"),
		at(1)) // nobody expects K9
	h.dropAt("g_k1_"+strings.ToLower(at(0).Format(form))+".csv", header+row(0, "1"),
		hour.Add(time.Minute)) // other capitals
	h.start()
	defer func() {
		if t.Failed() {
			t.Log(h.slots())
		}
	}()
	want := []string{"catchment=K1 on time 1", "catchment=K1 late 1", "catchment=K1 missing 0",
		"catchment=K1 refused 0", "catchment=K1 on time 1", "catchment=K1 on time 2", "catchment=K1 missing 0",
		"catchment=K9 surplus 1", "catchment=K1 missing 0"}
	h.wait("the calendar", func() bool { return strings.Join(h.slots(), "\n") == strings.Join(want, "\n") })
	wrong, err := h.ledger.WrongSlots(ctx, "gauges", 10)
	require.NoError(t, err)
	require.Len(t, wrong, 4)
	assert.Equal(t, "capitals differ", wrong[0].Near[0].Why)
	misnamed := wrong[3]
	require.NotEmpty(t, misnamed.Near)
	assert.Equal(t, name(5, "02012006T1504"), misnamed.Near[0].Path)
	assert.Equal(t, "the date is written in another order", misnamed.Near[0].Why)
	assert.Equal(t, "G_K1_"+at(5).Format(form)+"*.csv", inspect.Expected(h.definition(), &misnamed))

	a, err := h.engine.inspect.Accept(ctx, h.definition(), misnamed.Near[0].Path, misnamed, inspect.RefuseLoaded,
		"ada", "the date is the other way round")
	require.NoError(t, err)
	h.wait("the accepted file", func() bool {
		s, err := h.ledger.Slot(ctx, misnamed.ID)
		require.NoError(t, err)
		return s.State == due.OnTime
	})
	h.wait("its load", func() bool { now, _ := h.ledger.Arrival(ctx, a.ID); return now.State == ledger.Loaded })
	assert.Equal(t, []string{"K1"}, h.lines("SELECT catchment FROM river.gauge WHERE station_id = 'SR0005'"),
		"its captures are the slot's")

	_, err = h.engine.inspect.Accept(ctx, h.definition(), misnamed.Near[0].Path, wrong[2], inspect.RefuseLoaded,
		"ada", "x")
	assert.ErrorContains(t, err, fmt.Sprintf("is loaded already for slot %d, as arrival %d; --although takes it",
		misnamed.ID, a.ID))

	h.dropAt(name(1, form), header+row(11, "1"), time.Now())
	h.wait("the missing one that comes after all", func() bool { return h.slots()[6] == "catchment=K1 late 1" })
	h.dropAt(name(4, form), header+row(4, "1"), time.Now())
	h.wait("the refused one that comes again", func() bool { return h.slots()[3] == "catchment=K1 late 1" })
	_, err = h.engine.inspect.Accept(ctx, h.definition(), "nowhere.csv", misnamed, inspect.RefuseLoaded, "ada", "x")
	assert.ErrorIs(t, err, ledger.ErrNotFound)
}

func TestSilenceIsSaid(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("zone: UTC", "due: {quiet_for: 1s, per: {catchment: [K1, K2]}}")).start()
	h.wait("both silences", func() bool {
		return strings.Join(h.slots(), ",") == "catchment=K1 missing 0,catchment=K2 missing 0"
	})
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.wait("its end", func() bool { return strings.HasPrefix(h.slots()[0], "catchment=K1 late 1") })
	h.wait("the next silence",
		func() bool { return len(h.slots()) == 3 && strings.Contains(h.slots()[2], "catchment=K1 missing 0") })
}
