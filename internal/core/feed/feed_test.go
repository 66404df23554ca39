package feed

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
	"mullein/internal/core/tabular"
)

func gauge(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile("../../demo/feeds/gauge-readings.yaml")
	require.NoError(t, err)
	without, _, _ := strings.Cut(string(text), "\ndue:")
	before, rest, _ := strings.Cut(without, "\nchecks:")
	_, after, _ := strings.Cut(rest, "\ntolerate:")
	return before + "\ntolerate:" + after + "\n"
}

func TestParseFillsInEverything(t *testing.T) {
	f, err := Parse("gauge-readings.yaml", []byte(gauge(t)))
	require.NoError(t, err)
	assert.Equal(t, "gauge-readings", f.Name)
	assert.Equal(t, time.Second, f.Landing.Settle)
	assert.Equal(t, tabular.Dialect{Delimiter: ";", DoubleQuote: true, HeaderJoin: " ", Header: true, QuoteChar: '"',
		CommentChar: '#'}, f.Dialect)
	assert.Equal(t, tabular.MatchExact, f.Schema.FieldsMatch)
	assert.Equal(t, []string{"station_id", "observed_at"}, f.Schema.PrimaryKey)
	assert.Equal(t, []Derived{{"catchment", "file.captures.catchment", tabular.Text,
		[]string{"file.captures.catchment"}}, {"flood", "row.level_m > 4.5", tabular.Boolean,
		[]string{"row.level_m"}}}, f.Derive)
	assert.Equal(t, "15%", f.Tolerate.String())
	assert.Equal(t, "river", f.Target.Schema)
	assert.Equal(t, StandardLineage, f.Target.Lineage)
	assert.True(t, f.When.Arrival)
	assert.Equal(t, 5, f.When.Attempts)
	taken := f.Landing.Look("2026/GAUGE_K1_20260701T1215.csv.gz", 1)
	require.Empty(t, taken.Why)
	assert.Equal(t, "K1", taken.Captures["catchment"])
	slot, _ := taken.Captures.Slot()
	assert.Equal(t, "2026-07-01T12:15:00Z", slot.UTC().Format(time.RFC3339))
	for _, path := range []string{"test_GAUGE_K1_20260701T1215.csv", ".GAUGE_K1_20260701T1215.csv",
		"GAUGE_K1_20260701T1215.csv.part", "GAUGE_K1_20260231T1215.csv"} {
		assert.NotEmpty(t, f.Landing.Look(path, 1).Why, path)
	}
}

func TestProblemsCarryPlaceAndWayOut(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"type: datetime, source: Time", "type: datetme, source: Time",
			`gauge-readings.yaml:21:33: unknown type "datetme"; did you mean "datetime"?`},
		{"landing:\n", "landng:\n", `:6:1: unknown key "landng"; did you mean "landing"?`},
		{"  at: landing/gauges\n", "", `:7:3: key "at" is missing in landing, as in`},
		{"settle: 1s", "settle: 1 second", `:11:11: landing.settle: "1 second" is not a duration; write 3s`},
		{"tolerate:", "leave_out: row.flow_m3s + 1.0\ntolerate:", "leave_out must be true or false; this gives number"},
		{"settle: 1s", "settle: 1s\n  delivery: list", "landing.delivery: list needs listed_in"},
		{"settle: 1s", "settle: 1s\n  delivery: slot", "landing.delivery: slot needs due"},
		{"settle: 1s", "settle: 1s\n  listed_in: \"*.lst\"", "listed_in is for delivery: list"},
		{"settle: 1s", "settle: 1s\n  whole_when: \"{nobody}.ok\"", "{nobody} is not captured by files"},
		{"settle: 1s", "settle: 1s\n  put_away: \"{catchment}/done\"", "must begin with a name of its own"},
		{"settle: 1s", "settle: 1s\n  put_away: landing", "must begin with a name of its own"},
		{"settle: 1s", "settle: 1s\n  quarantine: \"../out\"", "never leaves the landing roots"},
		{"settle: 1s", "settle: 1s\n  size: {from: 2GiB, to: 1B}", "from is more than to"},
		{"tolerate:", "due: {late_after: 5m}\ntolerate:", "due takes cron, where a schedule is known, or quiet_for"},
		{"tolerate:", "due: {cron: \"0 6 * * *\", quiet_for: 2h}\ntolerate:",
			"due takes cron, where a schedule is known, or quiet_for"},
		{"tolerate:", "due: {cron: \"0 6 * * *\", per: {catchmnt: [K1]}}\ntolerate:", "did you mean \"catchment\"?"},
		{"tolerate:", "due: {cron: \"0 6 * * *\", late_after: 2h, missing_after: 1h}\ntolerate:",
			"missing_after is less than late_after"},
		{"tolerate:", "due: {cron: \"0 6 * * *\", except_days: [\"25.12.2026\"]}\ntolerate:", "is no day"},
		{"arrival: true", "after: {all: [gauge-readings]}", "a feed cannot come after itself"},
		{"arrival: true", "after: {}", "when.after names no feed"},
		{"format: csv", "format: parquet", "dialect.delimiter is for csv, not for parquet"},
		{"format: csv", "format: cvs", `unknown value "cvs"; did you mean "csv"?`},
		{"format: csv", "format: csv\nencoding: latin-42", `unknown charset "latin-42"`},
		{"format: csv", "format: csv\neach: results", "each is for json"},
		{"tolerate:", "private: [sation_id]\ntolerate:", `did you mean "station_id"?`},
		{"tolerate:", "checks: {row: [{name: a, must: row.flow_m3s}]}\ntolerate:",
			"checks.row.a must be true or false"},
		{"tolerate:", "checks: {row: [{name: a, must: row.nothing > 1}]}\ntolerate:", `unknown name "row.nothing"`},
		{"tolerate:", "checks: {row: [{name: a, must: true, else: reject}, {name: a, must: true}]}\ntolerate:",
			`two checks are called "a"`},
		{"tolerate:", "checks: {delivery: [{name: a, must: true, else: reject}]}\ntolerate:", `unknown value "reject"`},
		{"tolerate:", "checks: {delivery: [{name: a, must: blank_share('lvl_m') < 0.5}]}\ntolerate:",
			`no column "lvl_m"; did you mean "level_m"?`},
		{"tolerate:", "checks: {delivery: [{name: a, must: sum('station_id') < 0.5}]}\ntolerate:",
			"sum is for numbers; station_id holds text"},
		{"tolerate:", "checks: {delivery: [{name: a, must: rows > 'x'}]}\ntolerate:", "no matching overload"},
		{"tolerate:", "checks: {delivery: [{name: a, must: \"all_in('station_id', 'station', 'id')\"}]}\ntolerate:",
			"as schema.table"},
		{"tolerate:", "checks: {delivery: [{name: a, must: \"last('b') > 1.0\"}]}\ntolerate:", `there is no check "b"`},
		{"tolerate:", "checks: {file: {trailer: {line: '^TOTAL;(?P<quality>.*)$'}}}\ntolerate:",
			"neither rows nor a field of numbers"},
		{"tolerate:", "checks: {file: {rows: {from: 3, to: 2}}}\ntolerate:", "from is more than to"},
		{"format: csv", "format: cvs", `unknown value "cvs"; did you mean "csv"?`},
		{"at: landing/gauges", "at: ../secrets", "without \"..\""},
		{"at: landing/gauges", "at: /etc", "plain path below a landing root"},
		{"at: landing/gauges", "at: sftp://me@upper/x", "no user, no secret and no parameters"},
		{"zone: Atlantic/Azores\n\nschema", "zone: Atlantic/Azors\n\nschema",
			`:15:7: unknown time zone "Atlantic/Azors"`},
		{"[station_id, observed_at]", "[station_id, observed]", `no field "observed"; did you mean "observed_at"?`},
		{"  primaryKey: [station_id, observed_at]\n", "", "schema.primaryKey is missing"},
		{"observed_at]\n", "observed_at, catchmnt]\n",
			`schema.primaryKey: no field "catchmnt"; did you mean "catchment"?`},
		{"observed_at]\n  missingValues: [\"\", \"-999\"]\n\nderive:\n",
			"observed_at, by]\n\nderive:\n  by: run.by\n",
			"derive.by says something of the run, so it cannot be part of the key"},
		{"  primaryKey:", "  uniqueKeys: [[station_id, levl_m]]\n  primaryKey:",
			`schema.uniqueKeys: no field "levl_m"; did you mean "level_m"?`},
		{"  primaryKey:", "  uniqueKeys: [[]]\n  primaryKey:", "a key without fields"},
		{"  primaryKey:", "  uniqueKeys: [[quality, quality]]\n  primaryKey:", `names "quality" twice`},
		{"  primaryKey:", "  foreignKeys: [{fields: station_id}]\n  primaryKey:", `key "reference" is missing`},
		{"  primaryKey:", "  foreignKeys: [{fields: station_id, reference: {resource: station, fields: id}}]\n  " +
			"primaryKey:", "the resource is a table as schema.table"},
		{"  primaryKey:", "  foreignKeys: [{fields: [station_id, quality], reference: {resource: river.station, " +
			"fields: id}}]\n  primaryKey:", "2 fields, and 1 columns that they refer to"},
		{"constraints: {enum: [G, F, E]}", "constraints: {jsonSchema: {type: string}}",
			"jsonSchema is for object and array, not for string"},
		{"  primaryKey:", "    - {name: more, type: object, constraints: {jsonSchema: {type: odd}}}\n  primaryKey:",
			"constraint jsonSchema"},
		{"  primaryKey:", "    - {name: more, type: object, constraints: {jsonSchema: {$ref: " +
			"\"https://sorrel.example/x\"}}}\n  primaryKey:", "it refers to another schema"},
		{"row.level_m > 4.5", "row.levl_m > 4.5",
			`derive.flood: unknown name "row.levl_m"; did you mean "row.level_m"?`},
		{"row.level_m > 4.5", "row.quality > 4.5", "derive.flood: found no matching overload"},
		{"{rejects: 15%}", "{rejects: 115%}", "neither a number of rows nor a share"},
		{"newest: revised_at", "newest: revised", `did you mean "revised_at"?`},
		{"table: river.gauge_reading", "table: mullein.feed", "is not for data"},
		{"name: quality, ", "name: from_line, ",
			`column "from_line" is both a field and a lineage column; rename the field`},
		{"name: quality, ", "name: flood, ", `column "flood" is both a field and a derived column`},
		{"arrival: true", "cron: \"61 * * * *\"", "when.cron"},
		{"arrival: true", "arrival: yes", "when.arrival takes true or false"},
		{"decimalChar: \",\", description: Cubic", "trueValues: [j], description: Cubic",
			"trueValues is for boolean, not for number"},
		{"maximum: 30", "maximum: high", `bound "high": not a number`},
		{"pattern: \"SR[0-9]{4}\"", "pattern: \"SR[0-9{4}\"", "constraint pattern"},
		{"{slot:%Y%m%dT%H%M}", "{slot:%Y%Q}", "unknown token %Q"},
		{"feed: gauge-readings", "feed: Gauge Readings", "cannot be a feed's name"},
		{"feed: gauge-readings", "feed: &a gauge-readings", "anchors, aliases and tags"},
		{"feed: gauge-readings", "feed: a\nfeed: b", "not YAML"},
		{"format: csv", "format: [csv", "not YAML"},
		{"format: csv", "format:", "has no value"},
		{"format: csv", "---\nformat: csv", "a second document"},
	} {
		text := strings.Replace(gauge(t), c.old, c.new, 1)
		require.NotEqual(t, gauge(t), text, "nothing replaced: %s", c.old)
		_, err := Parse("gauge-readings.yaml", []byte(text))
		var problems Problems
		require.ErrorAs(t, err, &problems, c.new)
		assert.Contains(t, err.Error(), c.want)
	}
}

func TestWhatALandingTakes(t *testing.T) {
	text := strings.Replace(gauge(t), "settle: 1s", `case: ignore
  size: {from: 2B, to: 1KiB}
  whole_when: "{path}.ok"
  delivery: list
  listed_in: "DELIVERY_{slot:%Y%m%d}.lst"
  backlog: skip
  reissue: replace
  copies: load
  put_away: "landing/gauges/done/{slot:%Y}"
  quarantine: bad/gauges`, 1) + "due: {cron: \"*/15 * * * *\", zone: Atlantic/Azores, per: {catchment: [K1]}, files: " +
		"2}\n"
	f, err := Parse("x.yaml", []byte(text))
	require.NoError(t, err)
	const name = "gauge_k1_20260701T1215.csv"
	for path, want := range map[string]string{
		name: "", "DELIVERY_20260701.lst": "", name + ".ok": "a marker that says",
		"done/2026/" + name: "in the folder landing/gauges/done",
		"test_" + name:      "does not fit", "a/test_/" + name: "", ".x/" + name: "a dot-file",
		"other.csv": "does not fit the pattern",
	} {
		got := f.Landing.Look(path, 10)
		assert.Equal(t, want == "", got.Why == "", "%s: %s", path, got.Why)
		assert.Contains(t, got.Why, want, path)
	}
	assert.True(t, f.Landing.Look("DELIVERY_20260701.lst", 10).List)
	assert.Contains(t, f.Landing.Look(name, 1).Why, "size.from is 2")
	assert.Contains(t, f.Landing.Look(name, 2000).Why, "size.to is 1024")
	assert.Equal(t, due.Minute, f.Due.Unit)
	assert.Equal(t, 2, f.Due.Files)
	assert.Equal(t, time.Hour, f.Due.Missing)
	assert.True(t, f.Landing.SkipBacklog && f.Landing.LoadCopies && f.Landing.Reissue == ReissueReplace)
	arrival, err := Parse("x.yaml", []byte(strings.Replace(gauge(t), "arrival: true", "after: {any: [other]}", 1)))
	require.NoError(t, err)
	assert.False(t, arrival.When.Arrival, "a feed that comes after others does not run on arrival unless it says so")
}

func TestJSONSchemaIsPublished(t *testing.T) {
	schema, err := JSONSchema()
	require.NoError(t, err)
	require.True(t, json.Valid(schema))
	published, err := os.ReadFile("../../../docs/feed.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(schema)+"\n", string(published), "docs/feed.schema.json is old: make docs")
}

func TestTheReferenceDescribesEveryKey(t *testing.T) {
	page, err := os.ReadFile("../../../docs/feed-file.md")
	require.NoError(t, err)
	for _, key := range Reference() {
		assert.True(t, bytes.Contains(page, []byte("`"+key.Path+"`")),
			"docs/feed-file.md does not describe %s: make docs", key.Path)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(gauge(f))
	f.Add("feed: [[[[")
	f.Add("a: &x [*x]")
	f.Fuzz(func(t *testing.T, text string) {
		_, err := Parse("x.yaml", []byte(text))
		var problems Problems
		if err != nil {
			require.ErrorAs(t, err, &problems)
			require.NotEmpty(t, problems)
		}
	})
}

// TestFieldsThatAreNotStored are for expressions only, and nothing may need their columns.
func TestFieldsThatAreNotStored(t *testing.T) {
	const text = `feed: levels
landing: {at: in, files: "L_{slot:%Y%m%d}.csv"}
schema:
  fields:
    - {name: id}
    - {name: unit, stored: false}
    - {name: cm, type: number, stored: false}
  primaryKey: [id]
derive: {m: row.cm / 100}
leave_out: row.unit != 'cm'
target: {table: river.level}
`
	f, err := Parse("levels.yaml", []byte(text))
	require.NoError(t, err)
	assert.Equal(t, []string{"id", "m"}, f.OwnColumns())
	assert.Equal(t, []string{"unit", "cm"}, f.Unstored())
	for old, c := range map[string]struct{ with, want string }{
		"primaryKey: [id]": {"primaryKey: [id, unit]",
			"stored is false, and schema.primaryKey needs its column"},
		"table: river.level": {"table: river.level, newest: cm", `target.newest: no column "cm"`},
		"{name: unit, stored: false}": {"{name: unit, stored: false, constraints: {unique: true}}",
			"its constraint unique needs its column"},
		"{name: id}": {"{name: id, stored: false}", "schema.primaryKey needs its column"},
	} {
		_, err := Parse("levels.yaml", []byte(strings.Replace(text, old, c.with, 1)))
		assert.ErrorContains(t, err, c.want)
	}
	kinds, err := os.ReadFile("../../../docs/examples/several-kinds.yaml")
	require.NoError(t, err)
	changed := strings.Replace(string(kinds), "{name: ship, type: integer}",
		"{name: ship, type: integer, stored: false}", 1)
	require.NotEqual(t, string(kinds), changed)
	_, err = Parse("kinds.yaml", []byte(changed))
	assert.ErrorContains(t, err, "field ship: stored is false, and schema.primaryKey needs its column",
		"of a kind, too")
}
