package feed

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

func TestUnits(t *testing.T) {
	for text, want := range map[string]int64{"1B": 1, "200KiB": 200 << 10, "1.5MiB": 3 << 19, "2GiB": 2 << 30,
		"1kB": 1000, "2 GB": 2e9} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]time.Duration{"0": 0, "50ms": 50 * time.Millisecond, "3s": 3 * time.Second,
		"15m": 15 * time.Minute, "1.5h": 90 * time.Minute, "14d": 14 * 24 * time.Hour} {
		got, err := ParseSpan(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]string{"0": "none", "10": "10", "0.5%": "0.5%", "100%": "100%"} {
		got, err := parseShare(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String(), text)
	}
	for _, text := range []string{"", "5", "B", "-1B", "1XiB", "1e300GiB"} {
		_, err := ParseSize(text)
		assert.ErrorContains(t, err, "is not a size; write", text)
	}
	for _, text := range []string{"", "5", "m", "-1s", "1w", "1e300d"} {
		_, err := ParseSpan(text)
		assert.ErrorContains(t, err, "is not a duration; write", text)
	}
	for _, text := range []string{"", "-1", "101%", "x%", "1.5"} {
		_, err := parseShare(text)
		assert.ErrorContains(t, err, "neither a number of rows nor a share", text)
	}
}

const small = `feed: x
landing: {at: in, files: "*.csv"}
schema:
  fields: [{name: id, type: integer}]
  primaryKey: id
target: {table: rows}
`

func TestDefaults(t *testing.T) {
	f, err := Parse("x.yaml", []byte(small))
	require.NoError(t, err)
	assert.Equal(t, 3*time.Second, f.Landing.Settle)
	assert.Equal(t, tabular.DefaultDialect(), f.Dialect)
	assert.Equal(t, []string{"id"}, f.Schema.PrimaryKey)
	assert.Equal(t, []string{""}, f.Schema.MissingValues)
	assert.Equal(t, "public", f.Target.Schema)
	assert.Equal(t, StandardLineage, f.Target.Lineage)
	assert.Equal(t, When{Arrival: true, Attempts: 5, Pause: 30 * time.Second}, f.When)
	assert.Equal(t, "none", f.Tolerate.String())
	f, err = Parse("x.yaml", []byte(small+"when: {cron: \"0 6 * * *\", zone: Atlantic/Azores}\n"))
	require.NoError(t, err)
	assert.False(t, f.When.Arrival, "with a schedule, arrivals wait for it unless the feed says otherwise")
}

func TestLineageByOnesOwnNames(t *testing.T) {
	f, err := Parse("x.yaml",
		[]byte(strings.Replace(small, "table: rows", "table: rows, lineage: {from_file: src, row_digest: hash}", 1)))
	require.NoError(t, err)
	assert.Equal(t, []string{"src", "hash"}, f.Target.Lineage.Names())
	f, err = Parse("x.yaml", []byte(strings.Replace(small, "table: rows", "table: rows, lineage: none", 1)))
	require.NoError(t, err)
	assert.Empty(t, f.Target.Lineage.Names())
}

func TestWhatDoesNotGoTogether(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"landing:", "dialect: {header: false}\nlanding:", ""},
		{"  fields:", "  fieldsMatch: subset\n  fields:", ""},
		{"schema:\n", "dialect: {header: false}\nschema:\n  fieldsMatch: subset\n", "needs a header"},
		{"landing:", "dialect: {delimiter: \"\\\"\"}\nlanding:", "delimiter and quoteChar are both"},
		{"landing:", "dialect: {delimiter: \";;;;;;;;;\"}\nlanding:", "from 1 to 8 bytes"},
		{"landing:", "dialect: {delimiter: \"\"}\nlanding:", "a delimiter is needed"},
		{"[{name: id, type: integer}]", "[]", "from 1 to 1000 fields, not 0"},
		{"[{name: id, type: integer}]", "[{name: id}, {name: id, source: other}]",
			`column "id" is both a field and a field`},
		{"[{name: id, type: integer}]", "[{name: id}, {name: b, source: id}]", `two fields read the column "id"`},
		{"type: integer", "type: object", "which cannot be a key"},
		{"type: integer", "type: integer, constraints: {minLength: 3}", "minLength is for string"},
		{"type: integer", "type: integer, constraints: {minimum: 1, enum: [1, two]}", `enum value "two"`},
		{"type: integer", "constraints: {minLength: 5, maxLength: 3}", "minLength 5 is more than maxLength 3"},
		{"type: integer", "type: number, decimalChar: \",\", groupChar: \",\"", "decimalChar and groupChar are both"},
		{"type: integer", "type: datetime, format: any", "would have to guess"},
		{"primaryKey: id", "primaryKey: [id, id]", `names "id" twice`},
		{"table: rows", "table: a.b.c", "write it as schema.table"},
		{"table: rows", "table: \"{kind}\"", "{kind} is no capture"},
		{"table: rows", "table: pg_catalog.x", "is not for data"},
		{"at: in", "at: in, settle: 2d", "more than a day"},
		{"target:", "when: {cron: \"@daily\"}\ntarget:", "five fields only"},
		{"target:", "when: {attempts: 0}\ntarget:", "from 1 to 100"},
		{"target:", "derive: {id: feed.name}\ntarget:", `both a field and a derived column`},
		{"target:", "derive: {c: \"row.id > \"}\ntarget:", "Syntax error"},
	} {
		text := strings.Replace(small, c.old, c.new, 1)
		require.NotEqual(t, small, text, c.old)
		_, err := Parse("x.yaml", []byte(text))
		if c.want == "" {
			assert.NoError(t, err, c.new)
			continue
		}
		assert.ErrorContains(t, err, c.want, c.new)
	}
	_, err := Parse("x.yaml", []byte(strings.Repeat("#", maxFeedFile+1)))
	assert.ErrorContains(t, err, "a feed file of more than")
	_, err = Parse("x.yaml", []byte("a: "+strings.Repeat("[", 501)))
	assert.ErrorContains(t, err, "nested 501 deep")
	_, err = Parse("x.yaml", nil)
	assert.ErrorContains(t, err, "x.yaml:1:1: an empty feed file")
}

func TestASchemaFileTakesThePlaceOfItsName(t *testing.T) {
	files := map[string]string{
		"table.json": `{"name": "gauge", "fields": [{"name": "id", "type": "integer", "rdfType": "x:id"}, {"name": "kind", "categories": ["a", "b"]}], "primaryKey": "id"}`,
		"gauge.avsc": `{"type": "record", "name": "gauge", "doc": "A gauge.", "fields": [{"name": "id", "type": "long"}, {"name": "at", "type": ["null", {"type": "long", "logicalType": "timestamp-micros"}], "doc": "When"}, {"name": "more", "type": {"type": "map", "values": "int"}}]}`,
		"bad.json":   `{"fields": []}`, "worse.json": `no`,
	}
	read := func(name string) ([]byte, error) {
		if text, ok := files[name]; ok {
			return []byte(text), nil
		}
		return nil, os.ErrNotExist
	}
	of := func(name string) string {
		return "feed: x\nlanding: {at: in, files: \"*.csv\"}\nschema: " + name + "\ntarget: {table: rows}\n"
	}
	text, err := Inline("x.yaml", []byte(of("table.json")), nil, read)
	require.NoError(t, err)
	f, err := Parse("x.yaml", text)
	require.NoError(t, err, string(text))
	assert.Equal(t, []string{"a", "b"}, f.Schema.Fields[1].Constraints.Enum)
	again, err := f.TableSchema()
	require.NoError(t, err)
	files["again.json"] = string(again)
	text, err = Inline("x.yaml", []byte(of("again.json")), nil, read)
	require.NoError(t, err)
	same, err := Parse("x.yaml", text)
	require.NoError(t, err, string(text))
	assert.Equal(t, f.Schema, same.Schema, "what show --schema writes is read as the same")
	text, err = Inline("x.yaml", []byte(of("gauge.avsc")), nil, read)
	require.NoError(t, err)
	assert.Contains(t, string(text), `{"constraints":{"required":true},"name":"id","type":"integer"}`)
	assert.Contains(t, string(text), `{"description":"When","name":"at","type":"datetime"}`)
	_, err = Parse("x.yaml", text)
	assert.ErrorContains(t, err, "primaryKey is missing")
	files["schemas/trip.avsc"] = `{"type": "record", "name": "trip", "namespace": "sorrel", "fields": [
		{"name": "id", "type": "string"}, {"name": "state", "type": {"type": "enum", "name": "state", "symbols": ["OPEN", "SHUT"]}},
		{"name": "before", "type": ["null", "sorrel.state"]}, {"name": "fee", "type": {"type": "bytes", "logicalType": "decimal", "precision": 10, "scale": 2}},
		{"name": "uid", "type": {"type": "string", "logicalType": "uuid"}}]}`
	for _, schema := range []string{"{file: schemas/trip.avsc, primaryKey: [id], fields: [{name: fee, constraints: {minimum: 0}}, " +
		"{name: note}]}", "\n  file: schemas/trip.avsc\n  primaryKey: [id]\n  fields:\n    - {name: fee, constraints: {minimum: " +
		"0}}\n    # one more\n    - {name: note}\n\n# where it ends"} {
		text, err = Inline("x.yaml", []byte(of(schema)), nil, read)
		require.NoError(t, err)
		joined, err := Parse("x.yaml", text)
		require.NoError(t, err, string(text))
		fields := joined.Schema.Fields
		require.Len(t, fields, 6)
		assert.Equal(t, []string{"OPEN", "SHUT"}, fields[1].Constraints.Enum)
		assert.Equal(t, []string{"OPEN", "SHUT"}, fields[2].Constraints.Enum, "by its full name")
		assert.Equal(t, "0", fields[3].Constraints.Minimum)
		assert.Equal(t, "decimal(10, 2)", fields[3].Description)
		assert.Equal(t, "uuid", fields[4].Format)
		assert.Equal(t, []string{"id"}, joined.Schema.PrimaryKey)
		assert.Contains(t, string(text), "target: {table: rows}")
	}
	_, err = Parse("x.yaml", []byte(of("{file: schemas/trip.avsc}")))
	assert.ErrorContains(t, err, "feed put")
	avro, err := f.AvroSchema()
	require.NoError(t, err)
	assert.Contains(t, string(avro), `"name": "x"`)
	for name, want := range map[string]string{"bad.json": "x.yaml:3:9: schema: bad.json: it has no fields",
		"worse.json": "not JSON", "none.json": "not exist"} {
		_, err = Inline("x.yaml", []byte(of(name)), nil, read)
		assert.ErrorContains(t, err, want)
	}
	_, err = Parse("x.yaml", []byte(of("table.json")))
	assert.ErrorContains(t, err, "feed put")
	text, err = Inline("x.yaml", []byte(small), nil, read)
	require.NoError(t, err)
	assert.Equal(t, small, string(text))
}

func TestTargets(t *testing.T) {
	base := strings.Replace(small, "target: {table: rows}", "target: {table: rows, X}", 1)
	if base == small {
		base = strings.Replace(small, "table: rows", "table: rows, X", 1)
	}
	for _, c := range []struct{ with, want string }{
		{"mode: add_missing", ""},
		{"mode: replace, absent_at_most: 5%", ""},
		{"absent: delete, absent_at_most: 100%", ""},
		{"merge: {n: add}", "no field \"n\""},
		{"merge: {id: add}", "id is part of the key"},
		{"absent: delete", "needs absent_at_most"},
		{"absent_at_most: 1", "is for absent: mark and delete"},
		{"mode: append", "schema.primaryKey is not for mode append"},
		{"mode: replace_part", "needs target.part"},
		{"mode: replace_part, part: di", "no column \"di\"; did you mean \"id\""},
		{"part: id", "it is for replace_part"},
		{"mode: replace, merge: {}", "it does not merge rows"},
		{"recall: 3d, lineage: none", "needs the lineage column from_arrival"},
		{"extra_columns: add", "needs schema.fieldsMatch: subset or partial"},
		{"connection: B_", "use a-z, 0-9 and -"},
		{"lineage: {from_file: f, absent_since: a}", "is for absent: mark"},
	} {
		_, err := Parse("x.yaml", []byte(strings.Replace(base, "X", c.with, 1)))
		if c.want == "" {
			assert.NoError(t, err, c.with)
			continue
		}
		assert.ErrorContains(t, err, c.want, c.with)
	}
}

func TestTwoFeedsInOneTable(t *testing.T) {
	of := func(name, fields, target string) *Feed {
		f, err := Parse("x.yaml",
			[]byte("feed: "+name+"\nlanding: {at: in, files: \"*.csv\"}\nschema: "+
				"{fields: "+fields+", primaryKey: id}\ntarget: {table: river.t, "+target+"}\n"))
		require.NoError(t, err)
		return f
	}
	const one, two = "[{name: id}, {name: a}]", "[{name: id}, {name: b}]"
	own := "lineage: {from_arrival: %s_arrival}"
	for _, c := range []struct {
		a, b *Feed
		want string
	}{
		{of("x", one, "mode: upsert"), of("y", one, "mode: upsert"), "both write a; say target.newest in both"},
		{of("x", one, "newest: a"), of("y", one, "newest: a"), ""},
		{of("x", one, strings.Replace(own, "%s", "a", 1)), of("y", two, strings.Replace(own, "%s", "b", 1)), ""},
		{of("x", one, "mode: upsert"), of("y", two, "mode: upsert"), "both write from_file"},
		{of("x", one, "mode: replace"), of("y", two, "lineage: none"), "takes a delivery for the whole table"},
		{of("x", one, "newest: a"), of("x", one, "mode: upsert"), ""},
	} {
		if got := c.a.Shares(c.b); c.want == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, c.want)
		}
	}
}

func TestSchemasOfAllKinds(t *testing.T) {
	files := map[string]string{
		"s/gauge.json": `{"fields": [{"name": "id", "type": "integer"}], "primaryKey": "id"}`,
		"s/rain.json":  `{"fields": [{"name": "place"}], "primaryKey": "place"}`,
	}
	list := func(glob string) ([]string, error) {
		assert.Equal(t, "s/*.json", glob)
		return []string{"s/rain.json", "s/gauge.json"}, nil
	}
	read := func(name string) ([]byte, error) { return []byte(files[name]), nil }
	const text = "feed: x\nlanding: {at: in, files: \"{kind}_{slot:%Y}.csv\"}\nschema: s/{kind}.json\ntarget: {table: " +
		"\"log.{kind}_x\"}\n"
	whole, err := Inline("x.yaml", []byte(text), list, read)
	require.NoError(t, err)
	f, err := Parse("x.yaml", whole)
	require.NoError(t, err, string(whole))
	require.True(t, f.HasKinds())
	rain, err := f.Of(map[string]any{"kind": "rain"})
	require.NoError(t, err)
	assert.Equal(t, []string{"rain_x", "place"}, []string{rain.Target.Table, rain.Schema.PrimaryKey[0]})
	assert.Equal(t, "gauge_x", f.Ends("log", "gauge_x").Target.Table)
	assert.Nil(t, f.Ends("log", "gauge_y"))
	_, err = f.Of(map[string]any{"kind": "snow"})
	assert.ErrorContains(t, err, `its kind is "snow", and the feed has no schema for it`)
	for old, want := range map[string]string{
		"log.{kind}_x":          "put {kind} into its name",
		"{kind}_{slot:%Y}.csv":  "{kind} is no capture",
		`"type":"integer"`:      "unknown type",
		`by: "kind"`:            "schema.by is missing",
		`,"primaryKey":"place"`: "schema.primaryKey is missing",
	} {
		new := map[string]string{"log.{kind}_x": "log.x", "{kind}_{slot:%Y}.csv": "{slot:%Y}.csv",
			`"type":"integer"`: `"type":"intger"`, `by: "kind"`: `at: "kind"`, `,"primaryKey":"place"`: ""}[old]
		_, err := Parse("x.yaml", []byte(strings.Replace(string(whole), old, new, 1)))
		assert.ErrorContains(t, err, want, old)
	}
	one, err := Parse("x.yaml",
		[]byte("feed: x\nlanding: {at: in, files: \"{place}.csv\"}\nschema: {fields: [{name: id}], primaryKey: "+
			"id}\ntarget: {table: \"log.{place}\"}\n"))
	require.NoError(t, err)
	one.Target.Schema = "{place}" // what a file's name says must not lead into the bookkeeping
	_, err = one.Of(map[string]any{"place": "mullein"})
	assert.ErrorContains(t, err, "the schema mullein is not for data")
	_, err = one.Of(map[string]any{"place": "a.b"})
	assert.ErrorContains(t, err, "cannot be part of a table's name")
}

func TestWhichDerivedColumnsAreOfTheRun(t *testing.T) {
	for expression, want := range map[string]bool{
		"run.id": true, "service": true, "feed.version": true, `service + row.a`: true,
		"row.a": false, "file.name": false, "feed.name": false,
		"file.captures.service": false, `row.a + "service"`: false, `row.service`: false,
	} {
		f, err := Parse("x.yaml", []byte(`feed: x
landing: {at: x, files: "x_{service}.csv"}
schema: {fields: [{name: a}, {name: service}]}
derive: {of: 'string(`+expression+`)'}
target: {table: rows, mode: append}
`))
		require.NoError(t, err, expression)
		assert.Equal(t, want, f.Derive[0].OfRun(), expression)
	}
}

// TestWhatBecomesOfCorrectedFiles by default, and what would add their rows twice.
func TestWhatBecomesOfCorrectedFiles(t *testing.T) {
	const text = "feed: x\nlanding: {at: in, files: \"*\"R}\nschema: {fields: [{name: id}, {name: n, type: integer}], " +
		"primaryKey: id}\ntarget: {table: rows, T}\n"
	for _, c := range []struct{ reissue, target, want string }{
		{"", "mode: upsert", "load"},
		{"", "merge: {n: greatest}", "load"},
		{"", "merge: {n: add}", "replace"},
		{"", "merge: {n: add}, recall: 0", "! without target.recall nobody knows"},
		{"", "merge: {n: add}, lineage: none", "! can only be skipped"},
		{"hold", "merge: {n: add}, lineage: none", "! can only be skipped"},
		{"skip", "merge: {n: add}, lineage: none", "skip"},
		{"hold", "merge: {n: add}", "hold"},
		{"load", "merge: {n: add}", "! would add its rows twice"},
		{"skip", "merge: {n: add}", "skip"},
		{"replace", "merge: {n: add}, recall: 0", "! without target.recall nobody knows"},
		{"replace", "lineage: none", "! needs the lineage column from_arrival"},
	} {
		definition := strings.Replace(text, "T}", c.target+"}", 1)
		if c.reissue != "" {
			c.reissue = ", reissue: " + c.reissue
		}
		f, err := Parse("x.yaml", []byte(strings.Replace(definition, "R", c.reissue, 1)))
		if reason, bad := strings.CutPrefix(c.want, "! "); bad {
			assert.ErrorContains(t, err, reason, "%s %s", c.reissue, c.target)
		} else if assert.NoError(t, err, "%s %s", c.reissue, c.target) {
			assert.Equal(t, Reissue(c.want), f.Landing.Reissue, "%s %s", c.reissue, c.target)
		}
	}
}
