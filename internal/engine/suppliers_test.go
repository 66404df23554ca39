package engine

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/hamba/avro/v2/ocf"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/ledger"
)

// levels is a feed of levels in some format.
func levels(name, more string) string {
	return fmt.Sprintf(`feed: %[1]s
landing: {at: in, files: "%[1]s_{day:%%Y%%m%%d}*", settle: 50ms, zone: UTC}
%[2]s
target: {table: river.%[1]s}
`, name, more)
}

const levelFields = `schema:
  fields:
    - {name: station, constraints: {required: true}}
    - {name: at, type: datetime}
    - {name: level, type: number, constraints: {maximum: 30}}
  primaryKey: [station, at]
`

// TestSuppliersOfEveryKind loads the same three readings from files of each
// format, and demands that they end as the same rows.
func TestSuppliersOfEveryKind(t *testing.T) {
	t.Parallel()
	noon := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	type reading struct {
		Station string    `parquet:"station" avro:"station"`
		At      time.Time `parquet:"at,timestamp(millisecond)" avro:"at"`
		Level   float64   `parquet:"level" avro:"level"`
	}
	readings := []reading{{"Ä1", noon, 0.1}, {"Ä2", noon, 2.25}, {"Ä3", noon, -1}}
	var columns bytes.Buffer
	require.NoError(t, parquet.Write(&columns, readings))
	var container bytes.Buffer
	e, err := ocf.NewEncoder(`{"type": "record", "name": "r", "fields": [{"name": "station", "type": "string"}, {"name": "at", "type": {"type": "long", "logicalType": "timestamp-millis"}}, {"name": "level", "type": "double"}]}`, &container, ocf.WithCodec(ocf.Deflate))
	require.NoError(t, err)
	for _, r := range readings {
		require.NoError(t, e.Encode(r))
	}
	require.NoError(t, e.Close())
	files := map[string]struct{ more, content string }{
		"commas": {levelFields,
			"station,at,level\nÄ1,2026-07-01T12:00:00Z,0.1\nÄ2,2026-07-01T12:00:00Z,2.25\nÄ3,2026-07-01T12:00:00Z,-1\n"},
		"latin": {"encoding: iso-8859-1\ndialect: {delimiter: \"\\t\"}\n" + levelFields,
			"station\tat\tlevel\n\xc41\t2026-07-01T12:00:00Z\t0.1\n\xc42\t2026-07-01T12:00:00Z\t2.25\n\xc43\t2026-07-01T12:00:00Z\t-1\n"},
		"wide": {"encoding: utf-16\n" + levelFields,
			"\xff\xfe" + wide("station,at,level\r\nÄ1,2026-07-01T12:00:00Z,0.1\r\nÄ2,2026-07-01T12:00:00Z,2.25\r\nÄ3,2026-07-01T12:00:00Z,-1")},
		"fixed": {"format: fixed\n" + strings.NewReplacer("{name: station,", "{name: station, source: 1-2,",
			"{name: at, type: datetime", "{name: at, type: datetime, source: 3-22", "type: number,",
			"type: number, source: 23-28,").Replace(levelFields),
			"Ä12026-07-01T12:00:00Z   0.1\nÄ22026-07-01T12:00:00Z  2.25\nÄ32026-07-01T12:00:00Z    -1\n"},
		"arrays": {"format: json\ndialect: {property: data}\n" + levelFields,
			`{"data": [["station", "at", "level"], ["Ä1", "2026-07-01T12:00:00Z", 0.1], ["Ä2", "2026-07-01T12:00:00Z", 2.25], ["Ä3", "2026-07-01T12:00:00Z", -1]]}`},
		"lines": {"format: jsonl\n" + levelFields,
			`{"station": "\u00c41", "at": "2026-07-01T12:00:00Z", "level": 0.1}` + "\n" +
				`{"level": 2.25, "station": "Ä2", "at": "2026-07-01T12:00:00Z"}` + "\n" +
				`{"station": "Ä3", "at": "2026-07-01T12:00:00Z", "level": -1}`},
		"columns":   {"format: parquet\n" + levelFields, columns.String()},
		"container": {"format: avro\n" + levelFields, container.String()},
	}
	var feeds []string
	for name, f := range files {
		feeds = append(feeds, levels(name, f.more))
	}
	h := newHouse(t, feeds...)
	for name, f := range files {
		h.drop(name+"_20260701.dat", f.content)
		h.drop(name+"_20260702.gz", zipped(f.content)) // the same again, packed: nothing changes
	}
	h.start()
	for name := range files {
		plain, packed := h.arrival(name+"_20260701.dat"), h.arrival(name+"_20260702.gz")
		assert.Equal(t, balance.Balance{Read: 3, Inserted: 3}, plain.Balance, "%s: %s", name, plain.Reason)
		assert.Equal(t, balance.Balance{Read: 3, Unchanged: 3}, packed.Balance, "%s: %s", name, packed.Reason)
		assert.Equal(t, []string{"Ä1|12:00|0.1", "Ä2|12:00|2.25", "Ä3|12:00|-1"},
			h.lines("SELECT concat_ws('|', station, to_char(at AT TIME ZONE 'UTC', 'HH24:MI'), level) FROM "+
				"river."+name+" ORDER BY 1"), name)
	}
}

// wide writes a text as UTF-16, little end first.
func wide(s string) string {
	var b strings.Builder
	for _, r := range s {
		b.WriteByte(byte(r))
		b.WriteByte(byte(r >> 8))
	}
	return b.String()
}

func TestKindsOfFilesUnderOneName(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(levels("mixed", levelFields), "settle: 50ms",
		"settle: 50ms, with_columns: [station, level]", 1))
	h.drop("mixed_20260701.csv", "station,at,level\nA,2026-07-01T12:00:00Z,1\n")
	h.drop("mixed_20260702.csv", "day,rain\n2026-07-01,5\n")
	h.drop("mixed_20260703.csv", "station,at,Level_m\nA,2026-07-01T12:00:00Z,1\n")
	h.start()
	assert.Equal(t, ledger.Loaded, h.arrival("0701").State)
	for _, name := range []string{"0702", "0703"} {
		a := h.arrival(name)
		assert.Equal(t, ledger.Skipped, a.State, "another kind, not a broken one")
		assert.Contains(t, a.Reason, "which with_columns asks for")
	}
}

func TestRaggedRows(t *testing.T) {
	t.Parallel()
	const text = "station,at,level\nA,2026-07-01T12:00:00Z,1\nB,2026-07-01T12:00:00Z\nC,2026-07-01T12:00:00Z,1,5\n"
	var feeds []string
	for _, match := range []string{"equal", "superset", "subset", "partial"} {
		feeds = append(feeds, levels(match, "tolerate: {rejects: 3}\n"+strings.Replace(levelFields, "schema:\n",
			"schema:\n  fieldsMatch: "+match+"\n", 1)))
	}
	h := newHouse(t, feeds...)
	for _, match := range []string{"equal", "superset", "subset", "partial"} {
		h.drop(match+"_20260701.csv", text)
	}
	h.start()
	for match, inserted := range map[string]int64{"equal": 1, "superset": 2, "subset": 2, "partial": 3} {
		a := h.arrival(match + "_")
		assert.Equal(t, balance.Balance{Read: 3, Inserted: inserted, Rejected: 3 - inserted}, a.Balance, match)
	}
}

// TestADeliveryIsCheckedAsOne has two files in one delivery, of which each alone
// would break the check, and then one more that breaks it for both.
func TestADeliveryIsCheckedAsOne(t *testing.T) {
	t.Parallel()
	h := newHouse(t, with(`delivery: list, listed_in: "*.lst"`,
		"checks: {delivery: [{name: enough, must: rows >= 3.0}, {name: all_known, must: distinct_count('station_id') "+
			">= 3.0}]}"))
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1"))
	h.drop("G_K2_20260701T1200.csv", header+row(2, "1")+row(3, "1"))
	h.drop("a.lst", "G_K1_20260701T1200.csv\nG_K2_20260701T1200.csv\n")
	h.start()
	list := h.arrival("a.lst")
	require.Equal(t, ledger.Loaded, list.State, list.Reason)
	first := h.arrival("K1_20260701T1200")
	assert.Equal(t, "true rows = 3", h.saw(first)["enough"])
	h.drop("G_K1_20260701T1300.csv", header+row(1, "1"))
	h.drop("G_K2_20260701T1300.csv", header+row(1, "1"))
	h.drop("b.lst", "G_K1_20260701T1300.csv\nG_K2_20260701T1300.csv\n")
	refused := h.arrival("b.lst")
	assert.Equal(t, ledger.Refused, refused.State)
	other := h.arrival("K2_20260701T1300")
	assert.Equal(t, ledger.Refused, other.State)
	assert.Contains(t, other.Reason, "check enough: rows = 2")
	assert.Equal(t, "3", h.count("river.gauge"))
}

// TestTheToleranceCanBeWaived releases a file that has too many rejects.
func TestTheToleranceCanBeWaived(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "x")+row(3, "x"))
	h.start()
	a := h.arrival("G_K1")
	require.Equal(t, ledger.Refused, a.State)
	assert.Equal(t, balance.Balance{Read: 3, Rejected: 2, Withheld: 1}, a.Balance)
	require.True(t, a.Waivable)
	_, err := h.ledger.Decide(ctx, ledger.Release, []int64{a.ID}, "ada", "two gauges are in the workshop")
	require.NoError(t, err)
	h.engine.Changed()
	h.wait("its load", func() bool { return len(h.loaded()) == 1 })
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 1, Rejected: 2}, h.loaded()[0].Balance)
	assert.Equal(t, "1", h.count("river.gauge"))
}

// TestMendedRowsOfOtherFormats mends rows of each format: those that have no
// text are mended as JSON.
func TestMendedRowsOfOtherFormats(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
	type reading struct {
		Station string    `parquet:"station" avro:"station"`
		At      time.Time `parquet:"at,timestamp(millisecond)" avro:"at"`
		Level   float64   `parquet:"level" avro:"level"`
	}
	type visit struct {
		At       time.Time `parquet:"at,timestamp(millisecond)"`
		Readings []struct {
			Gauge struct {
				No string `parquet:"no"`
			} `parquet:"gauge"`
			Level float64 `parquet:"level"`
		} `parquet:"readings,list"`
	}
	visits := make([]visit, 1)
	visits[0].At = at
	for i, level := range []float64{1.5, 99} {
		visits[0].Readings = append(visits[0].Readings, struct {
			Gauge struct {
				No string `parquet:"no"`
			} `parquet:"gauge"`
			Level float64 `parquet:"level"`
		}{Level: level})
		visits[0].Readings[i].Gauge.No = string(rune('A' + i))
	}
	var columns, nested, container bytes.Buffer
	require.NoError(t, parquet.Write(&columns, []reading{{"A", at, 99}, {"B", at, 1}}))
	require.NoError(t, parquet.Write(&nested, visits))
	e, err := ocf.NewEncoder(`{"type": "record", "name": "r", "fields": [{"name": "station", "type": "string"}, {"name": "at", "type": {"type": "long", "logicalType": "timestamp-millis"}}, {"name": "level", "type": "double"}]}`, &container)
	require.NoError(t, err)
	require.NoError(t, e.Encode(reading{"A\"", at, 99}))
	require.NoError(t, e.Close())
	fixed := strings.NewReplacer("{name: station,", "{name: station, source: 1-2,", "{name: at, type: datetime",
		"{name: at, type: datetime, source: 3-22", "type: number,", "type: number, source: 23-28,").Replace(levelFields)
	within := strings.NewReplacer("{name: station,", "{name: station, source: readings.gauge.no,", "type: number,",
		"type: number, source: readings.level,").Replace(levelFields)

	for name, of := range map[string]struct {
		more, content          string
		original, marked, mend string // marked: the part of the original that is at fault
		want                   []string
	}{
		"lines": {"format: jsonl\n" + levelFields, `{"station": "99", "at": "2026-07-01T12:00:00Z", "level": 99}` +
			"\n" + `{"station": "B", "at": "2026-07-01T12:00:00Z", "level": 9}`,
			`{"station": "99", "at": "2026-07-01T12:00:00Z", "level": 99}`, `99`,
			`{"station": "99", "at": "2026-07-01T12:00:00Z", "level": 9.9}`, []string{"99|9.9|1", "B|9|2"}},
		"fixed": {"format: fixed\n" + fixed, "A12026-07-01T12:00:00Z   0.1\nA22026-07-01T12:00:00Z  two\n",
			"A22026-07-01T12:00:00Z  two", "two", "A22026-07-01T12:00:00Z     2", []string{"A1|0.1|1", "A2|2|2"}},
		"commas": {levelFields, "station,at,level\n12,2026-07-01T12:00:00Z,1\n\"12,5\",2026-07-01T12:00:00Z,12m\n",
			`"12,5",2026-07-01T12:00:00Z,12m`, "12m", `"12,5",2026-07-01T12:00:00Z,12`,
			[]string{"12,5|12|3", "12|1|2"}},
		"columns": {"format: parquet\n" + levelFields, columns.String(),
			`{"station":"A","at":"2026-07-01T12:00:00Z","level":99}`, "99",
			`{"station":"A","at":"2026-07-01T12:00:00Z","level":9.5}`, []string{"A|9.5|1", "B|1|2"}},
		"container": {"format: avro\n" + levelFields, container.String(),
			`{"station":"A\"","at":"2026-07-01T12:00:00Z","level":99}`, "99",
			`{"station":"A","at":"2026-07-01T12:00:00Z","level":0}`, []string{"A|0|1"}},
		"visits": {"format: parquet\neach: readings\n" + within, nested.String(),
			`{"readings.gauge.no":"B","at":"2026-07-01T12:00:00Z","readings.level":99}`, "99",
			`{"readings.gauge.no":"B","at":"2026-07-01T12:00:00Z","readings.level":2.25}`,
			[]string{"A|1.5|1", "B|2.25|1"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t, levels(name, "tolerate: {rejects: 5}\n"+of.more))
			h.drop(name+"_20260701", of.content)
			h.start()
			a := h.arrival(name + "_20260701")
			require.Equal(t, ledger.Loaded, a.State, a.Reason)
			rejects, err := h.ledger.Rejects(ctx, ledger.RejectFilter{Feed: name, Arrival: a.ID, Most: 10})
			require.NoError(t, err)
			require.Len(t, rejects, 1)
			assert.Equal(t, of.original, rejects[0].Original)
			assert.Equal(t, of.marked, string([]rune(of.original)[rejects[0].MarkFrom:rejects[0].MarkTo]))
			last := strings.LastIndex(of.original, of.marked)
			assert.Equal(t, last, rejects[0].MarkFrom, "the cell of the column, not another that looks like it")
			mended, err := h.engine.inspect.Mend(ctx, a.ID, []ledger.MendedRow{{Number: 1, Text: of.mend}}, "ada",
				"typed wrong")
			require.NoError(t, err)
			b := h.arrival("(mended")
			require.Equal(t, mended.ID, b.ID)
			require.Equal(t, ledger.Loaded, b.State, b.Reason)
			assert.Equal(t, of.want,
				h.lines("SELECT concat_ws('|', station, level, from_line) FROM river."+name+" ORDER BY 1"),
				"they keep the line that they came from")
			left, err := os.ReadDir(filepath.Join(h.root, ".mended", name))
			require.NoError(t, err)
			assert.Len(t, left, 1, "what was handed in is kept apart from the landing")
			text, why, err := h.engine.inspect.Original(ctx, b.ID, rejects[0].Line)
			require.NoError(t, err)
			assert.Equal(t, of.mend, text, why)
		})
	}
}

// TestColumnsOfOtherTypesRefuseTheFile refuses files whose own types can never
// become those of the schema, before the first row.
func TestColumnsOfOtherTypesRefuseTheFile(t *testing.T) {
	t.Parallel()
	h := newHouse(t, levels("columns", "format: parquet\n"+levelFields),
		levels("container", "format: avro\n"+levelFields))
	var columns, container bytes.Buffer
	require.NoError(t, parquet.Write(&columns, []struct {
		Station []string `parquet:"station,list"`
		At      string   `parquet:"at"`
		Level   bool     `parquet:"level"`
	}{{[]string{"A"}, "2026-07-01T12:00:00Z", true}}))
	e, err := ocf.NewEncoder(`{"type": "record", "name": "r", "fields": [{"name": "station", "type": ["null", "int"]}, {"name": "at", "type": {"type": "int", "logicalType": "time-millis"}}, {"name": "level", "type": ["boolean", "double"]}]}`, &container)
	require.NoError(t, err)
	require.NoError(t, e.Close())
	h.drop("columns_20260701", columns.String())
	h.drop("container_20260701", container.String())
	h.start()
	a, b := h.arrival("columns_20260701"), h.arrival("container_20260701")
	assert.Equal(t, ledger.Refused, a.State)
	assert.Contains(t, a.Reason, `column "level" is of type boolean in the file; the schema says number`)
	assert.NotContains(t, a.Reason, "station", "a list can be kept as its text")
	assert.Equal(t, ledger.Refused, b.State)
	assert.Contains(t, b.Reason, `column "at" is of type time in the file; the schema says datetime`)
	assert.NotContains(t, b.Reason, "level", "of several types one fits")
}

// TestOldRejectsAreForgotten drops the texts of rejects, and keeps what was
// counted.
func TestOldRejectsAreForgotten(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges)
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "x"))
	h.start()
	a := h.arrival("G_K1")
	h.stop()
	h.exec("UPDATE mullein_records.arrival SET finished_at = now() - interval '2 hours'")
	h.keep = time.Hour
	h.start()
	h.wait("the rejects to go", func() bool { return h.count("mullein_records.reject") == "0" })
	again, err := h.ledger.Arrival(ctx, a.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, again.Balance.Rejected)
}

// TestLoadsThatShareATransactionAreJudgedInTurn has the second of three files of
// one group break what the first made usual, and the third judged by the first.
func TestLoadsThatShareATransactionAreJudgedInTurn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, gauges+"checks: {delivery: [{name: usual_size, must: rows >= 0.5 * usual_rows}, {name: grows, "+
		"must: last('grows') <= rows + 5.0, else: warn}, {name: before, must: last_rows < 100.0}]}\n")
	h.drop("G_K1_20260701T1200.csv", header+row(1, "1")+row(2, "1")+row(3, "1")+row(4, "1"))
	h.drop("G_K2_20260701T1201.csv", header+row(5, "1"))
	h.drop("G_K3_20260701T1202.csv", header+row(6, "1")+row(7, "1"))
	h.start()
	first, second, third := h.arrival("K1"), h.arrival("K2"), h.arrival("K3")
	assert.Equal(t, ledger.Loaded, first.State, first.Reason)
	require.Equal(t, ledger.Refused, second.State)
	assert.Equal(t, "check usual_size: rows = 1; usual_rows = 4; it must be rows >= 0.5 * usual_rows", second.Reason)
	require.Equal(t, ledger.Loaded, third.State, third.Reason)
	assert.Equal(t, "true rows = 2; usual_rows = 4", h.saw(third)["usual_size"])
	assert.Equal(t, "true last_rows = 4", h.saw(third)["before"])
}
