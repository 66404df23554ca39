package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/rollup"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/table"
)

// totals adds up rain, keeps the peak, and notes that were given once.
const totals = `feed: totals
landing: {at: in, files: "T_{slot:%Y%m%dT%H%M}*.csv", settle: 50ms}
schema:
  fields: [{name: station}, {name: rain, type: integer}, {name: peak, type: number}, {name: note}]
  primaryKey: station
target: {table: river.total, merge: {rain: add, peak: greatest, note: keep_when_blank}}
`

const totalRows = "SELECT concat_ws('|', station, rain, peak, note, from_file) FROM river.total ORDER BY 1"

func (h *house) loadedFile(name, content string) ledger.Arrival {
	h.t.Helper()
	h.drop(name, content)
	a := h.arrival(name)
	require.Equal(h.t, ledger.Loaded, a.State, a.Reason)
	return a
}

// TestACorrectedFileIsNotAddedTwice rewrites a file, twice, beside another that adds to
// the same key.
func TestACorrectedFileIsNotAddedTwice(t *testing.T) {
	t.Parallel()
	h := newHouse(t, totals).start()
	h.loadedFile("T_20260701T0100.csv", "station,rain,peak,note\nA,10,1.5,first\n")
	h.loadedFile("T_20260701T0200.csv", "station,rain,peak,note\nA,5,0.5,\n")
	rain := func() string {
		return h.lines("SELECT concat_ws('|', station, rain, peak) FROM river.total ORDER BY 1")[0]
	}
	require.Equal(t, "A|15|1.5", rain())
	for _, c := range []struct{ content, want string }{{"A,20,1.25,first\n", "A|25|1.25"},
		{"A,20,1.25,first\nA,1,0.5,\n", "A|26|1.25"}, {"B,7,3,\n", "A|5|0.5"}} {
		h.drop("T_20260701T0100.csv", "station,rain,peak,note\n"+c.content)
		h.wait("the correction "+c.want, func() bool { return rain() == c.want })
	}
	assert.Equal(t, []string{"A|5", "B|7"}, h.lines("SELECT concat_ws('|', station, rain) FROM river.total ORDER BY 1"))
}

// TestRunningTotalsStayRight goes through a recall under later loads, its undo, a
// redo, and a load whose rows repeat.
func TestRunningTotalsStayRight(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, totals).start()
	one := h.loadedFile("T_20260701T0100.csv", "station,rain,peak,note\nA,5,1.5,first\nB,1,1.0,\n")
	two := h.loadedFile("T_20260701T0200.csv", "station,rain,peak,note\nA,3,9.5,\nA,4,2.0,twice\n")
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Duplicate: 1}, two.Balance)
	three := h.loadedFile("T_20260701T0300.csv", "station,rain,peak,note\nA,1,2.5,\nB,0,0.5,\n")
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Unchanged: 1}, three.Balance,
		"nothing added is nothing changed")
	const all = "A|13|9.5|twice|T_20260701T0300.csv"
	assert.Equal(t, []string{all, "B|1|1.0|T_20260701T0100.csv"}, h.lines(totalRows))

	preview, err := h.engine.inspect.PreviewRecall(ctx, two.ID, table.TakeOut)
	require.NoError(t, err)
	assert.EqualValues(t, 1, preview.Outcome.Restored)
	assert.Equal(t, []string{all, "B|1|1.0|T_20260701T0100.csv"}, h.lines(totalRows), "a preview does nothing")
	_, err = h.engine.inspect.Recall(ctx, two.ID, table.TakeOut, "me", "a wrong gauge")
	require.NoError(t, err)
	assert.Equal(t, "A|6|2.5|first|T_20260701T0300.csv", h.lines(totalRows)[0], "as if it had never been")
	a, err := h.ledger.Arrival(ctx, two.ID)
	require.NoError(t, err)
	assert.Equal(t, ledger.Recalled, a.State)
	assert.Equal(t, "recalled by me: a wrong gauge", a.Reason)
	_, err = h.engine.inspect.Recall(ctx, two.ID, table.TakeOut, "me", "again")
	assert.ErrorContains(t, err, "arrival 2 is recalled; only one that is loaded can be recalled")
	_, err = h.engine.inspect.Recall(ctx, two.ID, table.PutBack, "me", "it was right")
	require.NoError(t, err)
	assert.Equal(t, all, h.lines(totalRows)[0])

	_, err = h.ledger.Decide(ctx, ledger.Redo, []int64{one.ID}, "me", "see it add up")
	require.NoError(t, err)
	h.wait("the redo", func() bool {
		a, err := h.ledger.Arrival(ctx, one.ID)
		return err == nil && a.State == ledger.Loaded && a.Generation == 2
	})
	assert.Equal(t, []string{"A|13|9.5|first|T_20260701T0100.csv", "B|1|1.0|T_20260701T0100.csv"}, h.lines(totalRows),
		"nothing twice")
	found, err := h.engine.inspect.Reconcile(ctx, "totals")
	require.NoError(t, err)
	assert.Empty(t, found)

	history, err := h.engine.inspect.History(ctx, parsed(t, totals), map[string]string{"station": "A"})
	require.NoError(t, err)
	var told []string
	for _, s := range history.Steps {
		what := s.What
		if s.Load != nil && !s.Load.Active {
			what += ", recalled"
		}
		told = append(told, what)
	}
	assert.Equal(t, []string{"inserted, recalled", "inserted", "updated", "updated"}, told)
	assert.JSONEq(t, `7`, field(t, history.Steps[1].After, "rain"), "without the first generation")
	text, why, err := h.engine.inspect.Original(ctx, two.ID, 3)
	require.NoError(t, err)
	assert.Equal(t, "A,4,2.0,twice", text, why)
}

func parsed(t *testing.T, text string) *feed.Feed {
	t.Helper()
	f, err := feed.Parse("feed.yaml", []byte(text))
	require.NoError(t, err)
	return f
}

func field(t *testing.T, row []byte, name string) string {
	t.Helper()
	_, rest, ok := strings.Cut(string(row), `"`+name+`":`)
	require.True(t, ok, string(row))
	value, _, _ := strings.Cut(rest, ",")
	return value
}

// TestARecallTakesUpWhatFilesHeldBack recalls the newer row that had kept an older
// one out, with its file at hand and without, beside rows that somebody changed.
func TestARecallTakesUpWhatFilesHeldBack(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, gauges).start()
	row := func(level, revised string) string {
		return header + "SR0001;2026-07-01T12:00:00Z;" + level + ";" + revised + "\nSR0002;2026-07-01T12:00:00Z;" +
			level + ";" + revised + "\n"
	}
	newer := h.loadedFile("G_K1_20260701T1200.csv", row("3", "9"))
	older := h.loadedFile("G_K1_20260701T1300.csv", row("2", "1"))
	require.Equal(t, balance.Balance{Read: 2, Outdated: 2}, older.Balance)
	h.exec("UPDATE river.gauge SET level_m = 77 WHERE station_id = 'SR0002'")
	v, err := h.engine.inspect.Verify(ctx, newer.ID)
	require.NoError(t, err)
	assert.EqualValues(t, []int64{2, 0}, []int64{v.Same, v.Missing}, "the digest is that of the file")

	path := filepath.Join(h.root, "in", "G_K1_20260701T1300.csv")
	require.NoError(t, os.Rename(path, path+".tmp"))
	preview, err := h.engine.inspect.PreviewRecall(ctx, newer.ID, table.TakeOut)
	require.NoError(t, err)
	require.Len(t, preview.Later, 1)
	assert.Equal(t, "its file is gone", preview.Later[0].Why)
	assert.EqualValues(t, []int64{1, 1}, []int64{preview.Outcome.Removed, preview.Outcome.Left})
	require.NoError(t, os.Rename(path+".tmp", path))
	done, err := h.engine.inspect.Recall(ctx, newer.ID, table.TakeOut, "me", "the sensor was dry")
	require.NoError(t, err)
	assert.EqualValues(t, 2, done.Later[0].Rows)
	assert.EqualValues(t, []int64{0, 1, 1}, []int64{done.Outcome.Removed, done.Outcome.Restored, done.Outcome.Left})
	assert.Equal(t, []string{"SR0001|12:00|2|1|K1|f", "SR0002|12:00|77|9|K1|f"}, h.lines(contents))
}

const observers = `feed: observers
landing: {at: in, files: "O_{slot:%Y%m%d}.csv", settle: 50ms}
schema:
  fieldsMatch: subset
  fields: [{name: observer, type: integer}, {name: place}]
  primaryKey: observer
target: {table: river.observer, absent: delete, absent_at_most: 50%, extra_columns: add}
`

// TestWholeTables goes through a delivery that lacks rows, one that lacks too
// many, and one with a column more.
func TestWholeTables(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, observers).start()
	h.loadedFile("O_20260701.csv", "observer,place\n1,Ford\n2,Weir\n3,Mill\n")
	a := h.loadedFile("O_20260702.csv", "observer,place,mail\n1,Ford,a@b\n2,Weir,\n")
	assert.Equal(t, balance.Balance{Read: 2, Updated: 2, Removed: 1}, a.Balance)
	h.loadedFile("O_20260704.csv", "observer,place\n1,Ford\n4,Moor\n")
	h.drop("O_20260705.csv", "observer,place\n7,Nowhere\n")
	refused := h.arrival("O_20260705.csv")
	require.Equal(t, ledger.Refused, refused.State)
	assert.Equal(t, "2 of the 2 rows of the target are not in the delivery; absent_at_most is 50%", refused.Reason)
	_, err := h.ledger.Decide(ctx, ledger.Release, []int64{refused.ID}, "me", "they have all left")
	require.NoError(t, err)
	h.wait("the release", func() bool { return len(h.lines("SELECT place FROM river.observer")) == 1 })
	assert.Equal(t, []string{"Nowhere"}, h.lines("SELECT place FROM river.observer"))
	assert.Equal(t, []string{"text"},
		h.lines("SELECT data_type::text FROM information_schema.columns WHERE table_name = 'observer' AND column_name "+
			"= 'mail'"))
}

// TestShapesGrow puts a feed again with a wider type and a further column, over a
// table that Mullein made and over one that others made.
func TestShapesGrow(t *testing.T) {
	t.Parallel()
	h := newHouse(t).start()
	of := func(table, fields, more string) string {
		return "feed: grow\nlanding: {at: in, files: \"*.csv\", settle: 50ms}\nwhen: {attempts: 1}\nschema:\n  " +
			"fieldsMatch: partial\n  fields: " + fields + "\n  primaryKey: id\ntarget: {table: river." + table +
			more + "}\n"
	}
	const narrow, wide = "[{name: id, type: integer}, {name: n, type: integer}]",
		"[{name: id, type: integer}, {name: n, type: number}, {name: more}]"
	h.put(of("grown", narrow, ""))
	h.loadedFile("a.csv", "id,n\n1,1\n")
	h.put(of("grown", wide, ""))
	h.loadedFile("b.csv", "id,n,more\n2,2.5,x\n")
	assert.Equal(t, []string{"1|1", "2|2.5|x"},
		h.lines("SELECT concat_ws('|', id, n, more) FROM river.grown ORDER BY id"))

	h.exec("CREATE TABLE river.theirs (id bigint PRIMARY KEY, n integer)")
	h.put(of("theirs", wide, ", lineage: {from_file: src}"))
	h.drop("c.csv", "id,n,more\n3,3.5,x\n")
	h.wait("the misfit", func() bool {
		f, err := h.ledger.Feed(context.Background(), "grow")
		return err == nil && strings.Contains(f.Problem,
			`column n is integer; the feed needs numeric (ALTER TABLE "river"."theirs" ALTER COLUMN "n" TYPE numeric); column more is missing`)
	})
	h.put(of("theirs", wide, ", lineage: {from_file: src}, missing_columns: add"))
	h.wait("the load", func() bool { return len(h.lines("SELECT id::text FROM river.theirs")) == 1 })
	assert.Equal(t, []string{"3|3.5|x|c.csv"}, h.lines("SELECT concat_ws('|', id, n, more, src) FROM river.theirs"))
}

// TestATargetInAnotherDatabase has records and target apart.
func TestATargetInAnotherDatabase(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t)
	elsewhere := pgtest.Database(t)
	other, err := table.Open(ctx, elsewhere)
	require.NoError(t, err)
	t.Cleanup(other.Close)
	h.connections = map[string]*table.Database{"basin": other}
	h.start()
	h.put(strings.Replace(strings.Replace(gauges, "newest: revised", "newest: revised, connection: basin", 1),
		"feed: gauges", "feed: gauges", 1))
	a := h.loadedFile("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;1;1\n")
	assert.Equal(t, []string{"f"}, h.lines("SELECT (to_regclass('river.gauge') IS NOT NULL)::text::char"))
	v, err := h.engine.inspect.Verify(ctx, a.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, v.Same)
	found, err := h.engine.inspect.Reconcile(ctx, "gauges")
	require.NoError(t, err)
	assert.Empty(t, found)
	f, err := feed.Parse("x.yaml", []byte(strings.Replace(gauges, "newest: revised", "connection: nowhere", 1)))
	require.NoError(t, err)
	_, err = h.engine.Database(f)
	assert.ErrorContains(t, err, `knows no connection "nowhere"; name it under connections in its settings, or start it with --connection nowhere=`)
}

const peaks = `rollup: peaks
table: river.peak
key: [station_id]
select: SELECT station_id, max(level_m) AS peak, count(*) AS n FROM (SELECT station_id, level_m FROM river.gauge UNION ALL SELECT station, peak FROM river.total) g GROUP BY 1
from:
  river.gauge: {station_id: station_id}
  river.total: {station_id: station}
`

// TestRollupsFollow has a rollup over two tables follow loads, a recall, and what
// somebody else writes; a select that fails refuses no rows.
func TestRollupsFollow(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, gauges, totals).start()
	r, err := rollup.Parse("peaks.yaml", []byte(peaks))
	require.NoError(t, err)
	require.NoError(t, h.target.PutRollup(ctx, r, peaks, "me"))
	first := h.loadedFile("G_K1_20260701T1200.csv",
		header+"SR0001;2026-07-01T12:00:00Z;3;1\nSR0002;2026-07-01T12:00:00Z;1;1\n")
	h.loadedFile("T_20260701T0100.csv", "station,rain,peak,note\nSR0001,5,7.5,\n")
	const rows = "SELECT concat_ws('|', station_id, peak, n) FROM river.peak ORDER BY 1"
	follows := func(want ...string) {
		t.Helper()
		h.wait("the rollup", func() bool {
			return h.lines("SELECT (to_regclass('river.peak') IS NOT NULL)::text")[0] == "true" &&
				strings.Join(h.lines(rows), " ") == strings.Join(want, " ")
		})
	}
	follows("SR0001|7.5|2", "SR0002|1|1")
	h.loadedFile("G_K1_20260701T1300.csv", header+"SR0002;2026-07-01T13:00:00Z;8;1\n")
	follows("SR0001|7.5|2", "SR0002|8|2")
	_, err = h.engine.inspect.Recall(ctx, first.ID, table.TakeOut, "me", "a test")
	require.NoError(t, err)
	follows("SR0001|7.5|1", "SR0002|8|1")
	h.exec("DELETE FROM river.total")
	follows("SR0002|8|1")
	v, err := h.target.VerifyRollup(ctx, "peaks")
	require.NoError(t, err)
	assert.EqualValues(t, []int64{1, 1}, []int64{v.Rows, v.Same})
	h.exec("UPDATE river.peak SET peak = 0")
	v, err = h.target.VerifyRollup(ctx, "peaks")
	require.NoError(t, err)
	assert.EqualValues(t, 1, v.Wrong)
	_, err = h.target.RebuildRollup(ctx, "peaks")
	require.NoError(t, err)
	follows("SR0002|8|1")

	broken := strings.Replace(peaks, "max(level_m)", "max(1 / (level_m - 4))", 1)
	r, err = rollup.Parse("peaks.yaml", []byte(broken))
	require.NoError(t, err)
	require.NoError(t, h.target.PutRollup(ctx, r, broken, "me"))
	h.loadedFile("G_K1_20260701T1400.csv", header+"SR0003;2026-07-01T14:00:00Z;4;1\n")
	h.wait("the problem", func() bool {
		list, err := h.target.Rollups(ctx)
		return err == nil && strings.Contains(list[0].Problem, "division by zero")
	})
	wrong, err := rollup.Parse("x.yaml", []byte(strings.Replace(peaks, "max(level_m)", "max(depth)", 1)))
	require.NoError(t, err)
	assert.ErrorContains(t, h.target.CheckRollup(ctx, wrong), `column "depth" does not exist`)
	require.NoError(t, h.target.RemoveRollup(ctx, "peaks"))
	assert.Empty(t, h.lines("SELECT tgname::text FROM pg_trigger WHERE tgname LIKE 'mullein%'"))
	_, err = h.target.VerifyRollup(ctx, "peaks")
	assert.True(t, errors.Is(err, table.ErrNoRollup))
}

// TestAFeedIsRebuilt loads all arrivals afresh, after the table was spoiled, and
// does nothing where a file is gone.
func TestAFeedIsRebuilt(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, totals).start()
	h.loadedFile("T_20260701T0100.csv", "station,rain,peak,note\nA,5,1.5,first\nB,1,1.0,\n")
	two := h.loadedFile("T_20260701T0200.csv", "station,rain,peak,note\nA,3,9.5,\n")
	three := h.loadedFile("T_20260701T0300.csv", "station,rain,peak,note\nA,1,1.0,\n")
	_, err := h.engine.inspect.Recall(ctx, three.ID, table.TakeOut, "me", "wrong")
	require.NoError(t, err)
	want := h.lines(totalRows)
	h.exec("UPDATE river.total SET rain = 99; INSERT INTO river.total (station) VALUES ('Z')")
	path := filepath.Join(h.root, "in", "T_20260701T0200.csv")
	require.NoError(t, os.Rename(path, path+".tmp"))
	plan, err := h.engine.inspect.PlanRebuild(ctx, "totals")
	require.NoError(t, err)
	assert.Equal(t, &inspect.Rebuilding{Feed: "totals", Table: "river.total", There: true,
		Counted:   table.Counted{Rows: 3, Others: 1, Changed: 2},
		RowsAfter: 2, Arrivals: 1,
		Missing:    []inspect.Gone{{Arrival: two.ID, Path: two.Path, Why: "its file is gone"}},
		Superseded: []int64{}}, plan)
	run := h.rebuild("totals", ledger.Rebuilding{Because: "spoiled"})
	assert.Equal(t, ledger.RunFailed, run.State)
	assert.Contains(t, run.Reason, "1 rows of river.total were brought by no arrival, and would be lost")
	run = h.rebuild("totals", ledger.Rebuilding{WithoutOthers: true, Because: "spoiled"})
	assert.Contains(t, run.Reason, "its file is gone; its rows would be lost")
	require.NoError(t, os.Rename(path+".tmp", path))
	run = h.rebuild("totals", ledger.Rebuilding{WithoutOthers: true, Because: "spoiled"})
	assert.EqualValues(t, 2, run.Loaded)
	assert.Equal(t, "done rebuild me", fmt.Sprint(run.State, " ", run.Cause, " ", run.By))
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 2, Updated: 1}, run.Balance)
	assert.Equal(t, want, h.lines(totalRows))
	_, err = h.engine.inspect.Recall(ctx, two.ID, table.TakeOut, "me", "the journal begins anew")
	require.NoError(t, err)
	assert.Equal(t, "A|5|1.5|first|T_20260701T0100.csv", h.lines(totalRows)[0])
	h.loadedFile("T_20260701T0400.csv", "station,rain,peak,note\nB,1,5.0,\n")
}

// TestARebuildPassesOverSupersededVersions has a file rewritten, whose first version is
// gone with it, and a feed whose table is made anew without any arrival.
func TestARebuildPassesOverSupersededVersions(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, gauges).start()
	first := h.loadedFile("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;3;1\n")
	h.drop("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;4;2\nSR0002;2026-07-01T12:00:00Z;4;2\n")
	h.wait("the second version", func() bool { return len(h.loaded()) == 2 })
	plan, err := h.engine.inspect.PlanRebuild(ctx, "gauges")
	require.NoError(t, err)
	assert.Equal(t, []int64{first.ID}, plan.Superseded)
	assert.Empty(t, plan.Missing)
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 2},
		h.rebuild("gauges", ledger.Rebuilding{Because: "a try"}).Balance)
	assert.Len(t, h.lines(contents), 2)

	h.put(strings.NewReplacer("feed: gauges", "feed: bare", "river.gauge", "river.bare").Replace(gauges))
	plan, err = h.engine.inspect.PlanRebuild(ctx, "bare")
	require.NoError(t, err)
	assert.Zero(t, plan.Rows+plan.Arrivals)
	run := h.rebuild("bare", ledger.Rebuilding{Because: "a try"})
	assert.Equal(t, ledger.RunDone, run.State, run.Reason)
	assert.Zero(t, run.Loaded)
}

// rebuild does a run that loads all of a feed afresh.
func (h *house) rebuild(name string, r ledger.Rebuilding) (run ledger.Run) {
	h.t.Helper()
	run, err := h.ledger.QueueRun(ctx, name, CauseRebuild, "me", ledger.Wanted{Rebuild: &r})
	require.NoError(h.t, err)
	h.engine.Changed()
	h.wait("the rebuild", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(h.t, err)
		return run.FinishedAt != nil
	})
	return run
}

// TestARebuildIsCancelled ends one while it loads, which leaves all as it was.
func TestARebuildIsCancelled(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges).start()
	a := h.loadedFile("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.exec("CREATE FUNCTION river.slow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(600); RETURN " +
		"NEW; END $$; CREATE TRIGGER slow BEFORE INSERT ON river.gauge FOR EACH ROW EXECUTE FUNCTION river.slow()")
	run, err := h.ledger.QueueRun(ctx, "gauges", CauseRebuild, "me",
		ledger.Wanted{Rebuild: &ledger.Rebuilding{Because: "a try"}})
	require.NoError(t, err)
	h.engine.Changed()
	h.wait("its load", func() bool {
		return h.lines("SELECT count(*)::text FROM pg_stat_activity WHERE wait_event = 'PgSleep' AND datname = " +
			"current_database()")[0] == "1"
	})
	_, err = h.ledger.CancelRun(ctx, run.ID, "ada")
	require.NoError(t, err)
	h.wait("its end", func() bool {
		run, err = h.ledger.Run(ctx, run.ID)
		require.NoError(t, err)
		return run.FinishedAt != nil
	})
	assert.Equal(t, "cancelled cancelled by ada", string(run.State)+" "+run.Reason)
	h.exec("DROP TRIGGER slow ON river.gauge")
	assert.Equal(t, []string{"SR0001|12:00|1|1|K1|f"}, h.lines(contents))
	now, err := h.ledger.Arrival(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, now.Generation)
	h.loadedFile("G_K2_20260701T1200.csv", header+row(2, "1"))
}

// TestATableTakesAnotherShape puts a version of a feed with another key and a type
// that the table's cannot be widened to. Its files wait, the way out is named, and a
// rebuild goes it; a view, a rollup and somebody's right stay.
func TestATableTakesAnotherShape(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, gauges).start()
	first := h.loadedFile("G_K1_20260701T1200.csv",
		header+"SR0001;2026-07-01T12:00:00Z;3;1\nSR0002;2026-07-01T12:00:00Z;1;1\nSR0004;2026-07-01T12:00:00Z;1;v2\n")
	h.loadedFile("G_K2_20260701T1300.csv", header+"SR0001;2026-07-01T12:00:00Z;4;2\n")
	pgtest.AsSuperuser(t, h.url, "CREATE ROLE looker")
	h.exec("GRANT SELECT ON river.gauge TO looker; CREATE VIEW river.low AS SELECT station_id, level_m FROM " +
		"river.gauge WHERE level_m < 2; ALTER TABLE river.gauge ADD remark text DEFAULT 'none'")
	defer pgtest.AsSuperuser(t, h.url, "DROP OWNED BY looker; DROP ROLE looker")
	changed := strings.NewReplacer("primaryKey: [station_id, observed_at]",
		"primaryKey: [station_id, observed_at, revised]",
		"{name: revised, type: integer", "{name: revised, type: string").Replace(gauges)
	require.NotEqual(t, gauges, changed)
	assert.Equal(t, []string{"table river.gauge does not fit, and until it does files wait:",
		"column revised is bigint; the feed needs text",
		"no primary key or unique index over (station_id, observed_at, revised) (ALTER TABLE \"river\".\"gauge\" ADD " +
			"PRIMARY KEY (\"station_id\", \"observed_at\", \"revised\"))",
		"`mullein feed rebuild` gives it the new shape and loads all files into it again"},
		h.engine.inspect.Shape(ctx, parsed(t, changed)).Misfit)
	h.put(changed)
	h.drop("G_K1_20260701T1400.csv", header+"SR0003;2026-07-01T14:00:00Z;5;x\n")
	h.wait("the way out", func() bool {
		f, err := h.ledger.Feed(ctx, "gauges")
		return err == nil && strings.Contains(f.Problem, "`mullein feed rebuild` gives it the new shape and loads all "+
			"files into it again")
	})
	_, err := h.engine.inspect.PreviewRecall(ctx, first.ID, table.TakeOut)
	assert.ErrorContains(t, err, "does not fit the feed")
	assert.Equal(t, balance.Balance{Read: 4, Inserted: 4},
		h.rebuild("gauges", ledger.Rebuilding{Because: "each revision counts"}).Balance, "v2 is a text now")
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "gauges", Arrival: first.ID, Most: 10})
	require.NoError(t, err)
	assert.Empty(t, rejects)
	life, err := h.ledger.Decisions(ctx, first.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, "rebuild me each revision counts", life[0].What+" "+life[0].By+" "+life[0].Because)
	assert.Equal(t, ledger.Loaded, h.arrival("G_K1_20260701T1400.csv").State)
	assert.Equal(t, []string{"SR0001|K1|3|1|none", "SR0001|K2|4|2|none", "SR0002|K1|1|1|none", "SR0003|K1|5|x|none",
		"SR0004|K1|1|v2|none"},
		h.lines("SELECT concat_ws('|', station_id, catchment, level_m, revised, remark) FROM river.gauge ORDER BY 1"))
	assert.Equal(t, []string{"PRIMARY KEY (station_id, observed_at, revised)"},
		h.lines("SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = 'river.gauge'::regclass"))
	assert.Equal(t, []string{"true"}, h.lines("SELECT has_table_privilege('looker', 'river.gauge', 'SELECT')::text"))
	assert.Equal(t, []string{"SR0002|1", "SR0004|1"},
		h.lines("SELECT concat_ws('|', station_id, level_m) FROM river.low ORDER BY 1"))
	assert.Empty(t, h.engine.inspect.Shape(ctx, parsed(t, changed)))
	_, err = h.engine.inspect.Recall(ctx, first.ID, table.TakeOut, "me", "the journal knows the new shape")
	require.NoError(t, err)
	assert.Equal(t, []string{"SR0001|K2", "SR0003|K1"},
		h.lines("SELECT concat_ws('|', station_id, catchment) FROM river.gauge ORDER BY 1"))

	changed = strings.Replace(changed,
		`{name: level_m, type: number, decimalChar: ",", constraints: {minimum: -5, maximum: 30}}`, "{name: level_m}",
		1)
	changed = strings.Replace(changed, "  flood: row.level_m > 4.5\n", "", 1)
	h.put(changed)
	run := h.rebuild("gauges", ledger.Rebuilding{Because: "a view is in the way"})
	assert.Contains(t, run.Reason, "cannot alter type of a column used by a view or rule")
	assert.Contains(t, run.Reason, "view river.low depends on column")
	assert.Len(t, h.lines("SELECT station_id FROM river.gauge"), 2)
}

// TestPartitionsAreMadeAsDaysArrive loads into a table of days and one of months.
func TestPartitionsAreMadeAsDaysArrive(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	h.exec(`CREATE SCHEMA river; CREATE TABLE river.gauge (station_id text, observed_at timestamptz, level_m numeric,
		revised bigint, catchment text, flood boolean,
		from_file text, from_line bigint, from_arrival bigint, loaded_run bigint, loaded_at timestamptz,
		row_digest bytea, PRIMARY KEY (station_id, observed_at)) PARTITION BY RANGE (observed_at);
		CREATE TABLE river.gauge_old PARTITION OF river.gauge FOR VALUES FROM ('2026-06-01') TO ('2026-07-01')`)
	h.start()
	h.loadedFile("G_K1_20260701T1200.csv",
		header+"SR0001;2026-06-30T12:00:00Z;1;1\nSR0001;2026-07-01T12:00:00Z;1;1\nSR0001;2026-09-02T12:00:00Z;1;1\n")
	assert.Equal(t, []string{"river.gauge_old|1", "river.gauge_p202607|1", "river.gauge_p202609|1"},
		h.lines("SELECT tableoid::regclass || '|' || count(*) FROM river.gauge GROUP BY tableoid ORDER BY 1"))
	b := h.loadedFile("G_K1_20260701T1300.csv",
		header+"SR0001;2026-07-01T12:00:00Z;2;2\nSR0001;2026-07-31T12:00:00Z;1;1\n")
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 1, Updated: 1}, b.Balance)
	_, err := h.engine.inspect.Recall(context.Background(), b.ID, table.TakeOut, "me", "a test")
	require.NoError(t, err)
	assert.Equal(t, []string{"1"},
		h.lines("SELECT level_m::text FROM river.gauge WHERE observed_at = '2026-07-01 12:00Z'"))
}

const logbook = `feed: logbook
landing: {at: in, files: "{kind}_{slot:%Y%m%d}.csv", settle: 50ms}
schema:
  by: kind
  kinds:
    gauge: {fields: [{name: id, type: integer}, {name: level, type: number}], primaryKey: id}
    "rain-day": {fields: [{name: place}, {name: mm, type: number}], primaryKey: place}
target: {table: "river.log_{kind}"}
`

// TestOneFeedForManyTables takes files of two kinds, each with columns and a table
// of its own, and one of a kind that nobody knows.
func TestOneFeedForManyTables(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, logbook)
	for i, name := range []string{"gauge_20260701.csv", "rain-day_20260701.csv", "gauge_20260702.csv",
		"rain-day_20260702.csv"} {
		content := "id,level\n1,1.5\n2,2.5\n"
		if strings.HasPrefix(name, "rain") {
			content = "place,mm\nFord,3\n"
		}
		h.drop(name, strings.Replace(content, ".5", "."+string(rune('1'+i)), 1))
	}
	h.drop("snow_20260701.csv", "x\n1\n")
	h.start()
	var last ledger.Arrival
	for _, name := range []string{"gauge_20260701.csv", "rain-day_20260701.csv", "gauge_20260702.csv",
		"rain-day_20260702.csv"} {
		last = h.arrival(name)
		assert.Equal(t, ledger.Loaded, last.State, "%s: %s", name, last.Reason)
	}
	assert.Equal(t, []string{"1|1.3", "2|2.5"},
		h.lines("SELECT concat_ws('|', id, level) FROM river.log_gauge ORDER BY 1"))
	assert.Equal(t, []string{"Ford|3"}, h.lines(`SELECT concat_ws('|', place, mm) FROM river."log_rain-day"`))
	strange := h.arrival("snow_20260701.csv")
	assert.Equal(t, ledger.Refused, strange.State)
	assert.Equal(t, `its kind is "snow", and the feed has no schema for it`, strange.Reason)
	v, err := h.engine.inspect.Verify(ctx, last.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, v.Same)
	f := parsed(t, logbook)
	of := f.Ends("river", "log_rain-day")
	require.NotNil(t, of)
	history, err := h.engine.inspect.History(ctx, of, map[string]string{"place": "Ford"})
	require.NoError(t, err)
	assert.Len(t, history.Steps, 1)
	r, err := h.engine.inspect.Rehearse(ctx, f, "gauge_20260702.csv", nil)
	require.NoError(t, err)
	assert.EqualValues(t, 2, r.Balance.Unchanged)
	first := h.arrival("gauge_20260701.csv")
	_, err = h.engine.inspect.Recall(ctx, first.ID, table.TakeOut, "me", "a test")
	require.NoError(t, err)
	assert.Nil(t, f.Ends("river", "log_snow"))
}

// TestAChangeByHandIsToldFromALoad changes a row between two loads: the first is not said
// to have written what somebody else wrote.
func TestAChangeByHandIsToldFromALoad(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHouse(t, gauges).start()
	h.loadedFile("G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;3,5;1\nSR0002;2026-07-01T12:00:00Z;;1\n")
	h.exec("UPDATE river.gauge SET level_m = 99 WHERE station_id = 'SR0001'")
	h.loadedFile("G_K1_20260701T1300.csv", header+"SR0001;2026-07-01T12:00:00Z;4;2\n")
	told := func(station string) (out []string) {
		got, err := h.engine.inspect.History(ctx, h.definition(), map[string]string{"station_id": station,
			"observed_at": "2026-07-01T12:00:00Z"})
		require.NoError(t, err)
		for _, s := range got.Steps {
			var after struct {
				Level json.Number `json:"level_m"`
			}
			if s.After != nil {
				require.NoError(t, json.Unmarshal(s.After, &after))
			}
			out = append(out, s.What+" "+after.Level.String())
		}
		return out
	}
	assert.Equal(t, []string{"inserted ", "changed by hand 99", "updated 4"}, told("SR0001"))
	assert.Equal(t, []string{"inserted "}, told("SR0002"), "a null, untouched")
	h.exec("UPDATE river.gauge SET level_m = 98 WHERE station_id = 'SR0001'")
	assert.Equal(t, []string{"inserted ", "changed by hand 99", "updated ", "changed by hand 98"}, told("SR0001"))
}
