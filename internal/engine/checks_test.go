package engine

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
)

// saw returns what the checks of an arrival saw.
func (h *house) saw(a ledger.Arrival) map[string]string {
	h.t.Helper()
	results, err := h.ledger.ChecksOf(ctx, a.ID)
	require.NoError(h.t, err)
	out := map[string]string{}
	for _, r := range results {
		out[r.Name] = fmt.Sprintf("%v %s", r.Held, r.Saw)
	}
	return out
}

func TestChecksOfRows(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges+`leave_out: row.station_id == "SR9999"
delete_when: row.revised == -1
checks:
  row:
    - {name: even, must: row.revised % 2 == 0}
    - {name: low, must: row.level_m < 20, else: warn}
    - {name: sane, must: row.level_m > -4, else: refuse}
`)
	h.drop("G_K1_20260701T1200.csv",
		header+"SR0001;2026-07-01T12:00:00Z;1;2\nSR0002;2026-07-01T12:00:00Z;25;4\nSR0003;2026-07-01T12:00:00Z;1;3\nSR9999;2026-07-01T12:00:00Z;1;3\nSR0004;2026-07-01T12:00:00Z;;\n"+
			"SR9999;;1;2\n")
	h.start()
	a := h.arrival("G_K1_20260701T1200.csv")
	assert.Equal(t, balance.Balance{Read: 6, Inserted: 3, Rejected: 1, LeftOut: 2}, a.Balance, a.Reason)
	assert.Equal(t, map[string]string{"even": "false 1 of 6 rows break row.revised % 2 == 0; the first in line 4",
		"low": "false 1 of 6 rows break row.level_m < 20; the first in line 3", "sane": "true all 6 rows hold"},
		h.saw(a))
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "gauges", Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	require.Len(t, rejects, 1)
	assert.Equal(t, "even", rejects[0].Rule)
	h.drop("G_K1_20260701T1300.csv",
		header+"SR0001;2026-07-01T12:00:00Z;;-1\nSR0007;2026-07-01T12:00:00Z;;-1\nSR0002;2026-07-01T12:00:00Z;3;6\n")
	b := h.arrival("1300.csv")
	assert.Equal(t, balance.Balance{Read: 3, Updated: 1, Unchanged: 1, Outdated: 1}, b.Balance,
		"SR0001's deletion carries an older revision than its row: %s", b.Reason)
	h.drop("G_K1_20260701T1400.csv", header+"SR0008;2026-07-01T12:00:00Z;-5;2\n")
	c := h.arrival("1400.csv")
	assert.Equal(t, ledger.Refused, c.State)
	assert.Contains(t, c.Reason, "line 2: check sane: this row breaks row.level_m > -4")
	assert.False(t, c.Waivable)
}

func TestDeletions(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, ", newest: revised", "", 1)+"delete_when: row.revised == -1\n")
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "1"))
	h.start()
	h.arrival("1200.csv")
	h.drop("G_K1_20260701T1300.csv",
		header+"SR0001;2026-07-01T12:00:00Z;;-1\nSR0009;2026-07-01T12:00:00Z;;-1\n"+row(3, "1"))
	a := h.arrival("1300.csv")
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 1, Unchanged: 1, Deleted: 1}, a.Balance, a.Reason)
	assert.Equal(t, "2", h.count("river.gauge"))
}

// TestAKeyOfDerivedColumns keeps apart the same stations and times of two
// catchments, which only the names of the files tell.
func TestAKeyOfDerivedColumns(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.NewReplacer("[station_id, observed_at]", "[station_id, catchment, half]",
		"  flood:", "  half: row.revised % 2\n  flood:").Replace(gauges)).start()
	h.loadedFile("G_K1_20260701T1200.csv", header+row(1, "1"))
	two := h.loadedFile("G_K2_20260701T1200.csv", header+row(1, "2")+strings.Replace(row(2, "2"), ";1\n", ";\n", 1))
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 1, Rejected: 1}, two.Balance, two.Reason)
	assert.Equal(t, balance.Balance{Read: 1, Updated: 1},
		h.loadedFile("G_K1_20260701T1300.csv", header+row(1, "3")).Balance)
	assert.Equal(t, []string{"K1|1|3", "K2|1|2"},
		h.lines("SELECT concat_ws('|', catchment, half, level_m) FROM river.gauge ORDER BY 1"))
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "gauges", Arrival: two.ID, Most: 10})
	require.NoError(t, err)
	assert.Equal(t, "half derive a part of the key has no value",
		rejects[0].ColumnName+" "+rejects[0].Rule+" "+rejects[0].Reason)
	v, err := h.engine.inspect.Verify(ctx, two.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, v.Same)
	history, err := h.engine.inspect.History(ctx, h.definition(), map[string]string{"station_id": "SR0001",
		"catchment": "K1", "half": "1"})
	require.NoError(t, err)
	assert.Len(t, history.Steps, 2)
}

func TestChecksOfFiles(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "attempts: 3", "attempts: 1", 1)+`checks:
  file:
    rows: {from: 2, to: 3}
    checksum: "{path}.md5"
    trailer: {line: "^TOTAL;(?P<rows>[0-9]+);(?P<level_m>[0-9,]+)$"}
`)
	const rows = "SR0001;2026-07-01T12:00:00Z;1,5;2\nSR0002;2026-07-01T12:00:00Z;2,25;2\n"
	write := func(name, content, sum string) {
		if sum != "" {
			h.drop(name+".md5", sum+"  "+name+"\n")
		}
		h.drop(name, content)
	}
	write("G_K1_20260701T1200.csv", header+rows+"TOTAL;2;3,75\n", "4c8ab44a2cbd9a39b9a3b2fa6c0cf5a4")
	write("G_K1_20260701T1201.csv", header+rows+"TOTAL;3;3,75\n", "")
	write("G_K1_20260701T1202.csv", header+rows, "x")
	h.start()
	a := h.arrival("1200.csv")
	require.Equal(t, ledger.Refused, a.State)
	sum := strings.Fields(a.Reason)
	require.Contains(t, a.Reason, "gives the md5 4c8ab44a2cbd9a39b9a3b2fa6c0cf5a4; the file's is ")
	assert.Equal(t, ledger.Failed, h.arrival("1201.csv").State, "its checksum may come yet")
	assert.Contains(t, h.arrival("1201.csv").Reason, "G_K1_20260701T1201.csv.md5 is not there")
	assert.Contains(t, h.arrival("1202.csv").Reason, "holds no checksum")
	write("G_K1_20260701T1203.csv", header+rows+"TOTAL;2;3,75\n", sum[len(sum)-1])
	b := h.arrival("1203.csv")
	require.Equal(t, ledger.Loaded, b.State, b.Reason)
	assert.Equal(t, map[string]string{
		"rows":     "true 2 rows; from 2 to 3 are expected",
		"checksum": "true the md5 of G_K1_20260701T1203.csv.md5 agrees",
		"trailer": "true rows: the trailer says 2, the file has 2; level_m: the trailer says 3.75, the file has 3.75, " +
			"line 4",
	}, h.saw(b))
}

func TestChecksOfDeliveries(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges+`checks:
  delivery:
    - {name: few_blanks, must: blank_share('level_m') <= 0.5}
    - {name: usual_size, must: rows >= 0.5 * usual_rows}
    - {name: known, must: "all_in('station_id', 'river.known', 'id')", else: warn}
    - {name: spread, must: "greatest('level_m') - smallest('level_m') < 10.0 && distinct_count('station_id') >= 1 && sum('level_m') > 0"}
    - {name: steady, must: "greatest('level_m') < last('spread') + 20.0"}
    - {name: recent, must: "newest_age('observed_at') < duration('100000h')"}
`)
	h.exec("CREATE SCHEMA IF NOT EXISTS river; CREATE TABLE river.known (id text); INSERT INTO river.known VALUES " +
		"('SR0001'), ('SR0002')")
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "3")+row(3, "")+row(4, "4"))
	h.start()
	a := h.arrival("1200.csv")
	require.Equal(t, ledger.Loaded, a.State, a.Reason)
	saw := h.saw(a)
	assert.Equal(t, "true blank_share('level_m') = 0.25", saw["few_blanks"])
	assert.Equal(t, "true rows = 4; usual_rows not known yet", saw["usual_size"])
	assert.Equal(t, "false all_in('station_id', 'river.known', 'id') = false (2 not in river.known: SR0003, SR0004)",
		saw["known"])
	assert.Equal(t, "true greatest('level_m') = 4; smallest('level_m') = 1; distinct_count('station_id') = 4; "+
		"sum('level_m') = 8", saw["spread"])
	h.drop("G_K1_20260701T1300.csv", header+row(1, "2"))
	b := h.arrival("1300.csv")
	require.Equal(t, ledger.Refused, b.State)
	assert.Equal(t, "check usual_size: rows = 1; usual_rows = 4; it must be rows >= 0.5 * usual_rows", b.Reason)
	assert.Equal(t, balance.Balance{Read: 1, Withheld: 1}, b.Balance)
	require.True(t, b.Waivable)
	_, err := h.ledger.Decide(ctx, ledger.Release, []int64{b.ID}, "ada", "one gauge only, said the supplier")
	require.NoError(t, err)
	h.engine.Changed()
	h.wait("the released arrival", func() bool { return len(h.loaded()) == 2 })
	assert.Equal(t, "false rows = 1; usual_rows = 4", h.saw(b)["usual_size"], "it did not hold, and was let in")
	history, err := h.ledger.CheckHistory(ctx, "gauges", "usual_size", 0, 10)
	require.NoError(t, err)
	require.Len(t, history, 2)
	assert.Equal(t, 1.0, *history[0].Value)
	h.drop("G_K1_20260701T1400.csv", "")
	c := h.arrival("1400.csv")
	_, err = h.ledger.Decide(ctx, ledger.Release, []int64{c.ID}, "ada", "let it in")
	assert.ErrorContains(t, err, "cannot be released: the file is empty")
}

func TestRejectsAreMended(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	h.drop("G_K1_20260701T1200.csv",
		header+row(1, "1")+"SR0002;2026-07-01T12:00:00Z;high;2\nbroken;2026-07-01T12:00:00Z;1;2\n")
	h.put(strings.Replace(gauges, "rejects: 1", "rejects: 5", 1))
	h.start()
	a := h.arrival("1200.csv")
	require.Equal(t, balance.Balance{Read: 3, Inserted: 1, Rejected: 2}, a.Balance)
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "gauges", Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	assert.Equal(t, "high", rejects[0].Original[rejects[0].MarkFrom:rejects[0].MarkTo])
	for text, want := range map[string]string{rejects[0].Original: "is as it was", "": "an empty row"} {
		_, err = h.engine.inspect.Mend(ctx, a.ID, []ledger.MendedRow{{Number: 1, Text: text}}, "ada", "typed wrong")
		assert.ErrorContains(t, err, want)
	}
	mended, err := h.engine.inspect.Mend(ctx, a.ID,
		[]ledger.MendedRow{{Number: 2, Text: "SR0003;2026-07-01T12:00:00Z;1,75;2"},
			{Number: 1, Text: "SR0002;2026-07-01T12:00:00Z;2,5;2"}}, "ada", "typed wrong")
	require.NoError(t, err)
	b := h.arrival("(mended")
	require.Equal(t, mended.ID, b.ID)
	require.Equal(t, balance.Balance{Read: 2, Inserted: 2}, b.Balance, b.Reason)
	assert.Equal(t, []string{"SR0001|G_K1_20260701T1200.csv|2|K1", "SR0002|G_K1_20260701T1200.csv|3|K1",
		"SR0003|G_K1_20260701T1200.csv|4|K1"},
		h.lines("SELECT concat_ws('|', station_id, from_file, from_line, catchment) FROM river.gauge ORDER BY 1"),
		"they keep the file and the line that they came from")
	assert.Equal(t, []string{fmt.Sprint(b.ID)},
		h.lines("SELECT from_arrival::text FROM river.gauge WHERE station_id = 'SR0003'"))
	decisions, err := h.ledger.Decisions(ctx, b.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, "ada", decisions[0].By)
	_, err = h.engine.inspect.Mend(ctx, a.ID, []ledger.MendedRow{{Number: 1, Text: "x"}}, "ada", "again")
	assert.ErrorContains(t, err, "was mended already")
	groups, err := h.ledger.RejectGroups(ctx, "gauges", 0, a.NoticedAt)
	require.NoError(t, err)
	require.Len(t, groups, 2)
	assert.Zero(t, groups[0].Open+groups[1].Open)
}

func TestPrivateColumnsAreNotKept(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges+"private: [station_id]\n")
	h.drop("G_K1_20260701T1200.csv", header+"secret;2026-07-01T12:00:00Z;1;2\n"+row(1, "1"))
	h.start()
	a := h.arrival("1200.csv")
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "gauges", Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	require.Len(t, rejects, 1)
	assert.Equal(t, "•••", rejects[0].Value)
	assert.Equal(t, "•••;2026-07-01T12:00:00Z;1;2", rejects[0].Original)
	_, err = h.engine.inspect.Mend(ctx, a.ID,
		[]ledger.MendedRow{{Number: 1, Text: "SR0002;2026-07-01T12:00:00Z;1;2"}}, "ada", "mended")
	assert.ErrorContains(t, err, "private values")
}

// TestPrivateColumnsAreNotKeptOfKeys hides the values of private columns in the
// rejects that the database finds: of unique columns, unique keys and foreign
// keys.
func TestPrivateColumnsAreNotKeptOfKeys(t *testing.T) {
	t.Parallel()
	h := newHouse(t, `feed: observers
landing: {at: in, files: "*.csv", settle: 20ms}
schema:
  fields:
    - {name: id, type: integer}
    - {name: card, constraints: {unique: true}}
    - {name: mail}
    - {name: site}
  primaryKey: id
  uniqueKeys: [[mail, site]]
  foreignKeys: [{fields: mail, reference: {resource: river.known, fields: mail}}]
private: [card, mail]
tolerate: {rejects: 90%}
target: {table: river.observer}
`)
	h.exec("CREATE SCHEMA river; CREATE TABLE river.known (mail text); INSERT INTO river.known VALUES " +
		"('a@sorrel.example'), ('b@sorrel.example')")
	h.drop("o.csv", "id,card,mail,site\n1,C1,a@sorrel.example,N\n2,C1,b@sorrel.example,N\n3,C3,a@sorrel.example,N\n4,C4,z@sorrel.example,S\n5,C5,b@sorrel.example,S\n")
	h.start()
	a := h.arrival("o.csv")
	require.Equal(t, balance.Balance{Read: 5, Inserted: 2, Rejected: 3}, a.Balance, a.Reason)
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "observers", Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	require.Len(t, rejects, 3)
	for i, rule := range []string{"unique", "uniqueKeys", "foreignKeys"} {
		r := rejects[i]
		assert.Equal(t, rule, r.Rule)
		assert.True(t, r.Masked)
		kept := r.Value + r.Original + r.Reason
		assert.NotContains(t, kept, "sorrel.example", rule)
		assert.NotContains(t, kept, "C1", rule)
		assert.Zero(t, r.MarkTo)
	}
	assert.Equal(t, "3,•••,•••,N", rejects[1].Original)
}

const formats = `feed: %[1]s
landing: {at: in, files: "%[1]s_*", settle: 50ms}
format: %[2]s
schema:
  fieldsMatch: %[4]s
  fields:
    - {name: id, type: integer, source: "%[3]s"}
    - {name: level_m, type: number}
    - {name: tags, type: array}
  primaryKey: [id]
target: {table: river.%[1]s}
`

func TestFilesOfOtherFormats(t *testing.T) {
	t.Parallel()
	h := newHouse(t, fmt.Sprintf(formats, "lines", "jsonl\neach: rows", "rows.n", "exact"),
		fmt.Sprintf(formats, "docs", "json", "key.id", "superset"))
	h.drop("lines_a", `{"rows": [{"n": 1}, {"n": 2}], "level_m": 0.1, "tags": ["x"]}`+"\n"+`{"rows": [{"n": 3}], "level_m": "many", "tags": null}`+"\n"+`{"rows": [{"n": "4"}], "level_m": 2.50, "tags": []}`+"\n")
	h.drop("docs_a.gz", zipped(`[{"key": {"id": 7}, "level_m": 1}, {"key": {"id": 8}}]`))
	h.drop("docs_b", `[{"key": {"id": 7}, "level": 1}]`)
	h.start()
	a := h.arrival("lines_a")
	assert.Equal(t, ledger.Refused, a.State)
	assert.Contains(t, a.Reason, "1 of 4 rows were rejected")
	rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: "lines", Arrival: a.ID, Most: 10})
	require.NoError(t, err)
	require.Len(t, rejects, 1)
	assert.Equal(t, "many", rejects[0].Value)
	require.NoError(t, os.Remove(filepath.Join(h.root, "in", "lines_a")))
	h.drop("lines_b", `{"rows": [{"n": 1}, {"n": 2}], "level_m": 0.1, "tags": ["x"]}`+"\n"+`{"rows": [{"n": "4"}, {"n": 4}], "level_m": 2.50, "tags": []}`+"\n")
	b := h.arrival("lines_b")
	require.Equal(t, balance.Balance{Read: 4, Inserted: 3, Duplicate: 1}, b.Balance, b.Reason)
	assert.Equal(t, []string{`1|0.1|["x"]|1`, `2|0.1|["x"]|1`, "4|2.50|[]|2"},
		h.lines("SELECT concat_ws('|', id, level_m, tags, from_line) FROM river.lines ORDER BY id"))
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 2}, h.arrival("docs_a.gz").Balance)
	assert.Contains(t, h.arrival("docs_b").Reason, `column "level" is not in the schema`)
}

func TestARehearsalLeavesNoTrace(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "arrival: true", "arrival: false", 1)+"delete_when: row.revised == "+
		"-1\nchecks:\n  delivery: [{name: few, must: rows < 10.0}]\n").start()
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "2"))
	r, err := h.engine.inspect.Rehearse(ctx, h.definition(), "", nil)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 2}, r.Balance)
	assert.Contains(t, strings.Join(r.Shape, "\n"), "CREATE TABLE", "the table would be made")
	assert.Equal(t, []string{"0"}, h.lines("SELECT count(*)::text FROM pg_class WHERE relname = 'gauge'"),
		"and was not")
	_, err = h.engine.inspect.RehearseDeep(ctx, h.definition(), "", nil)
	assert.ErrorContains(t, err, "needs river.gauge as it will be")
	assert.Empty(t, r.Known, "it waits")
	h.run(ledger.Wanted{})
	r, err = h.engine.inspect.Rehearse(ctx, h.definition(), "G_K1_20260701T1200.csv", nil)
	require.NoError(t, err)
	assert.Contains(t, r.Known, "which is loaded")
	assert.EqualValues(t, 2, r.Balance.Unchanged)
	before := h.lines("SELECT concat_ws('|', xmin, ctid, station_id, level_m, loaded_at) FROM river.gauge ORDER BY 1")
	h.drop("G_K1_20260701T1300.csv",
		header+"SR0001;2026-07-01T12:00:00Z;7;2\nSR0002;2026-07-01T12:00:00Z;;-1\nSR0003;2026-07-01T12:00:00Z;1;1\nbad;2026-07-01T12:00:00Z;1;1\n"+row(3, "1"))
	for _, deep := range []bool{false, true} {
		rehearse := h.engine.inspect.Rehearse
		if deep {
			rehearse = h.engine.inspect.RehearseDeep
		}
		r, err = rehearse(ctx, h.definition(), "G_K1_20260701T1300.csv", nil)
		require.NoError(t, err)
		assert.Empty(t, r.Refused)
		assert.Equal(t, balance.Balance{Read: 5, Inserted: 1, Updated: 1, Outdated: 1, Duplicate: 1, Rejected: 1},
			r.Balance, "the deletion carries an older revision")
		require.Len(t, r.Samples, 3)
		assert.Equal(t, "updated", r.Samples[1].What)
		assert.Equal(t, []int{2, 3, 5}, r.Samples[1].Changed)
		assert.Equal(t, "1", *r.Samples[1].Before[2])
		assert.Equal(t, "rows = 5", r.Checks[0].Saw)
		assert.Len(t, r.Rejects, 1)
		assert.Equal(t, deep, r.Traces != "")
	}
	assert.Equal(t, before,
		h.lines("SELECT concat_ws('|', xmin, ctid, station_id, level_m, loaded_at) FROM river.gauge ORDER BY 1"))
	sent := &inspect.Sent{Name: "G_K9_20260701T1200.csv", Size: int64(len(header)), File: strings.NewReader(header)}
	r, err = h.engine.inspect.Rehearse(ctx, h.definition(), "", sent)
	require.NoError(t, err)
	assert.Equal(t, "the file holds no rows", r.Refused)
	list, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Most: 10})
	require.NoError(t, err)
	for _, a := range list {
		assert.NotEqual(t, sent.Name, a.Path)
	}
	_, err = h.engine.inspect.Rehearse(ctx, h.definition(), "none.csv", nil)
	assert.ErrorContains(t, err, "none.csv is not at the landing")
}

// TestARehearsalOfAnotherShape rehearses what comes after a wider type, a further
// field, and a column that only the file has, against the rows that are there;
// the table stays as it is.
func TestARehearsalOfAnotherShape(t *testing.T) {
	t.Parallel()
	h := newHouse(t).start()
	of := func(fields string) *feed.Feed {
		text := "feed: grow\nlanding: {at: in, files: \"*.csv\", settle: 50ms}\nwhen: {arrival: false}\nschema:\n  " +
			"fieldsMatch: subset\n  fields: " + fields + "\n  primaryKey: id\ntarget: {table: river.grown, " +
			"extra_columns: add}\n"
		h.put(text)
		f, err := feed.Parse("x", []byte(text))
		require.NoError(t, err)
		return f
	}
	of("[{name: id, type: integer}, {name: n, type: integer}]")
	h.drop("a.csv", "id,n\n1,1\n2,2\n")
	_, err := h.ledger.QueueRun(ctx, "grow", "hand", "test", ledger.Wanted{})
	require.NoError(t, err)
	require.Equal(t, ledger.Loaded, h.arrival("a.csv").State)
	wider := of("[{name: id, type: integer}, {name: n, type: number}, {name: more}]")
	sent := func() *inspect.Sent {
		const content = "id,n,more,colour\n1,1,,brown\n2,2.5,x,clear\n3,3,y,\n"
		return &inspect.Sent{Name: "b.csv", Size: int64(len(content)), File: strings.NewReader(content)}
	}
	shape := "SELECT concat_ws(' ', column_name, data_type) FROM information_schema.columns WHERE table_name = " +
		"'grown' ORDER BY 1"
	before := h.lines(shape)
	r, err := h.engine.inspect.Rehearse(ctx, wider, "", sent())
	require.NoError(t, err)
	assert.Empty(t, r.Refused)
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 1, Updated: 2}, r.Balance)
	assert.Equal(t, []string{"id", "n", "more", "colour"}, r.Columns)
	require.Len(t, r.Shape, 3)
	assert.Contains(t, r.Shape[0],
		`column n is bigint; the feed needs numeric (ALTER TABLE "river"."grown" ALTER COLUMN "n" TYPE numeric)`)
	assert.Contains(t, r.Shape[1], `column more is missing (ALTER TABLE "river"."grown" ADD COLUMN "more" text)`)
	assert.Contains(t, r.Shape[2], "column colour is missing")
	require.Len(t, r.Samples, 3)
	assert.Equal(t, []int{3}, r.Samples[1].Changed, "of the first row, the colour is new")
	assert.Equal(t, []int{1, 2, 3}, r.Samples[2].Changed)
	assert.Equal(t, "2", *r.Samples[2].Before[1])
	assert.Nil(t, r.Samples[2].Before[2])
	assert.Equal(t, before, h.lines(shape))
	_, err = h.engine.inspect.RehearseDeep(ctx, wider, "", sent())
	assert.ErrorContains(t, err, "a load would make or change it first")
	_, err = h.engine.inspect.History(ctx, wider, map[string]string{"id": "1"})
	assert.ErrorContains(t, err, "the next load will change the table river.grown first: column n is bigint")
}

func TestZipsAreFolders(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, `"**/G_{catchment}_{slot:%Y%m%dT%H%M}*.(csv|csv.gz)"`,
		`"*.zip/**/G_{catchment}_{slot:%Y%m%dT%H%M}.(csv|csv.gz)"`, 1))
	archive := func(members ...string) string {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := 0; i < len(members); i += 2 {
			w, err := z.Create(members[i])
			require.NoError(t, err)
			_, err = io.WriteString(w, members[i+1])
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		return b.String()
	}
	whole := archive("a/G_K1_20260701T1200.csv", header+row(1, "1"), "../../G_K2_20260701T1200.csv.gz",
		zipped(header+row(2, "2")), "readme.txt", "nothing", "G_K3_20260701T1200.csv", header+row(3, "high"))
	h.drop("d.zip", whole)
	h.start()
	assert.Equal(t, ledger.Loaded, h.arrival("d.zip/a/G_K1_20260701T1200.csv").State)
	assert.Equal(t, ledger.Loaded, h.arrival("d.zip/G_K2_20260701T1200.csv.gz").State, "what a name says stays inside")
	bad := h.arrival("d.zip/G_K3_20260701T1200.csv")
	assert.Equal(t, []string{"SR0001|d.zip/a/G_K1_20260701T1200.csv|2", "SR0002|d.zip/G_K2_20260701T1200.csv.gz|2"},
		h.lines("SELECT concat_ws('|', station_id, from_file, from_line) FROM river.gauge ORDER BY 1"))
	assert.Equal(t, balance.Balance{Read: 1, Rejected: 1}, bad.Balance, bad.Reason)
	h.drop("d.zip", archive("a/G_K1_20260701T1200.csv", header+row(1, "1"), "G_K4_20260701T1200.csv",
		header+row(4, "4")))
	assert.Equal(t, ledger.Loaded, h.arrival("K4").State, "a zip that came again")
	same := h.arrival("a/G_K1_20260701T1200.csv", bad.ID)
	assert.Contains(t, same.Reason, "only its time has changed")
	h.drop("torn.zip", whole[:len(whole)/2])
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(h.root, "in", "torn.zip"), past, past))
	torn := h.arrival("torn.zip")
	assert.Equal(t, ledger.Refused, torn.State)
	assert.Contains(t, torn.Reason, "cut short")
	damaged := []byte(whole)
	damaged[70] ^= 0x55
	h.drop("e.zip", string(damaged))
	assert.Contains(t, h.arrival("e.zip/a/G_K1").Reason, "damaged in e.zip")
	list, _, err := h.engine.inspect.Which(ctx, h.definition(), 100)
	require.NoError(t, err)
	assert.Equal(t, "d.zip/G_K4_20260701T1200.csv", list[0].Path)
	for of, want := range map[string]string{whole: "", whole[:len(whole)/2]: "is no zip that can be read",
		archive("x.txt", "x"): "holds no file that the pattern takes", string(damaged): "cannot be unpacked"} {
		r, err := h.engine.inspect.Rehearse(ctx, h.definition(), "",
			&inspect.Sent{Name: "sent.zip", Size: int64(len(of)), File: strings.NewReader(of)})
		if want != "" {
			assert.ErrorContains(t, err, want)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "sent.zip/a/G_K1_20260701T1200.csv", r.Path)
		assert.EqualValues(t, 1, r.Balance.Read, r.Refused)
	}
}

// TestADayWithoutData loads a file with a header alone where the feed allows it, beside
// others and as a large one would be, and counts it for its slot.
func TestADayWithoutData(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with("", "checks: {file: {rows: {from: 0}}}"))
	h.drop("G_K1_20260701T1200.csv", header)
	h.drop("G_K2_20260701T1200.csv", header+row(1, "1"))
	h.start()
	empty := h.arrival("G_K1_20260701T1200.csv")
	assert.Equal(t, ledger.Loaded, empty.State, empty.Reason)
	assert.Equal(t, balance.Balance{}, empty.Balance)
	assert.Equal(t, ledger.Loaded, h.arrival("G_K2_20260701T1200.csv").State)
	assert.Equal(t, "1", h.count("river.gauge"))
	assert.Equal(t, "2", h.count("mullein.load"), "it has its marker")
	h.drop("G_K3_20260701T1200.csv", "")
	assert.Equal(t, ledger.Refused, h.arrival("G_K3_20260701T1200.csv").State,
		"without a header nobody knows what it is")
}

// TestColumnsThatCannotBeAdded refuses the files that have them, and nothing else.
func TestColumnsThatCannotBeAdded(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "feed: grow\nlanding: {at: in, files: \"*.csv\", settle: 50ms}\nschema: {fieldsMatch: subset, "+
		"fields: [{name: id, type: integer}], primaryKey: id}\ntarget: {table: river.grown, extra_columns: "+
		"add}\n").start()
	many := make([]string, 101)
	for i := range many {
		many[i] = fmt.Sprintf("c%d", i)
	}
	for n, c := range []struct{ column, why string }{
		{"from_file", `a column "from_file" beyond the schema, and the table has one of that name already`},
		{strings.Repeat("n", 70), "from 1 to 63 bytes"},
		{"ctid", "PostgreSQL keeps that name for itself"},
		{strings.Join(many, ","), "more than 100 columns that its table does not have"}, {"ID", ""}, {"colour", ""},
	} {
		name := fmt.Sprintf("f%d.csv", n)
		h.drop(name, "id,"+c.column+"\n1,x"+strings.Repeat(",x", strings.Count(c.column, ","))+"\n")
		a := h.arrival(name)
		if c.why == "" {
			assert.Equal(t, ledger.Loaded, a.State, a.Reason)
			continue
		}
		assert.Equal(t, ledger.Refused, a.State, a.Reason)
		assert.Contains(t, a.Reason, c.why)
	}
	assert.Equal(t, []string{"colour", "ID"},
		h.lines("SELECT attname::text FROM pg_attribute WHERE attrelid = 'river.grown'::regclass AND attname IN "+
			"('ID', 'colour') ORDER BY attname COLLATE \"en-x-icu\""))
	grown, err := h.ledger.Feed(ctx, "grow")
	require.NoError(t, err)
	assert.Empty(t, grown.Problem)
}

// TestGroupsOfRejectsCountAll has more rejects than are kept, of two kinds, and cells
// beyond the header.
func TestGroupsOfRejectsCountAll(t *testing.T) {
	t.Parallel()
	h := newHouse(t, `feed: probes
landing: {at: in, files: "P_*.csv", settle: 50ms}
schema:
  fieldsMatch: partial
  fields:
    - {name: code, constraints: {required: true, maxLength: 5}}
    - {name: level, type: number}
  primaryKey: [code]
tolerate: {rejects: 5000}
target: {table: river.probe}
`)
	var b strings.Builder
	b.WriteString("code,level\n")
	for i := range 1500 {
		fmt.Fprintf(&b, "c%04d,x\ntoo-long-%d,1\n", i, i)
	}
	b.WriteString("good,1,beyond,it\nshort\n")
	h.drop("P_1.csv", b.String())
	h.start()
	a := h.arrival("P_1.csv")
	assert.Equal(t, balance.Balance{Read: 3002, Inserted: 2, Rejected: 3000}, a.Balance)
	groups, err := h.ledger.RejectGroups(ctx, "probes", a.ID, time.Time{})
	require.NoError(t, err)
	require.Len(t, groups, 2)
	for _, g := range groups {
		assert.Equal(t, []int64{1500, 1500, 500, 1}, []int64{g.Count, g.Open, g.Kept, g.Arrivals}, g.Rule)
		assert.NotEmpty(t, g.Reason)
	}
	assert.Equal(t, []string{"2 cells of 1 rows were left out, as fieldsMatch says; the first in line 3002"},
		h.lines("SELECT saw FROM mullein_records.check_result WHERE name = 'cells beyond the header'"))
}

// TestFieldsThatAreReadForExpressionsOnly has no columns for them, and tells what is wrong
// with them all the same.
func TestFieldsThatAreReadForExpressionsOnly(t *testing.T) {
	t.Parallel()
	h := newHouse(t, `feed: levels
landing: {at: in, files: "L_{slot:%Y%m%d}.csv", settle: 50ms}
schema:
  fields:
    - {name: unit, stored: false}
    - {name: id}
    - {name: level, type: number, stored: false}
    - {name: note}
  primaryKey: [id]
derive: {level_m: "row.unit == 'cm' ? row.level / 100 : row.level"}
leave_out: row.unit == 'none'
checks: {delivery: [{name: low, must: "greatest('level_m') < 10"}]}
tolerate: {rejects: 5}
target: {table: river.level}
`)
	h.drop("L_20260701.csv", "unit,id,level,note\ncm,a,125,x\nm,b,2.5,y\nnone,c,1,z\nm,d,much,w\nnone,,1,z\nm,,1,v\n")
	h.start()
	a := h.arrival("L_20260701.csv")
	assert.Equal(t, balance.Balance{Read: 6, Inserted: 2, Rejected: 2, LeftOut: 2}, a.Balance)
	assert.Equal(t, []string{"a|x|1.25", "b|y|2.5"},
		h.lines("SELECT concat_ws('|', id, note, level_m) FROM river.level ORDER BY 1"))
	assert.Equal(t, []string{"id,note,level_m,from_file"},
		h.lines("SELECT string_agg(attname, ',' ORDER BY attnum) FROM pg_attribute WHERE attrelid = "+
			"'river.level'::regclass AND attnum BETWEEN 1 AND 4"))
	v, err := h.engine.inspect.Verify(ctx, a.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 2, v.Same)
	h.drop("L_20260702.csv", "unit,id,level,note\nm,a,1.250,x\nm,b,2.6,y\n")
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Unchanged: 1}, h.arrival("L_20260702.csv").Balance,
		"another unit is the same row")
}
