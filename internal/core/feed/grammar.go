package feed

import (
	"slices"

	"mullein/internal/core/decode"
	"mullein/internal/core/news"
)

// key is one key of the feed file. The grammar is a tree of keys; walk.go
// checks YAML against it, jsonschema.go prints it for editors, and the test of
// docs/feed-file.md demands that each of them is described there.
type key struct {
	name     string
	about    string
	kind     kind
	values   []string // choice: what may be said now
	required bool
	keys     []*key // of a mapping
	item     *key   // of a list, or of a mapping with free names
	or       *key   // another form that is allowed too
	example  string
}

type kind uint8

const (
	kText kind = iota
	kFlag
	kCount    // a whole number, 0 or more
	kSize     // 2GiB
	kDuration // 15m
	kShare    // 0.5% or a whole number
	kChoice
	kChar // one character, or "" for none where the dialect allows it
	kMap
	kFree // a mapping with names of one's own
	kList
	kAny // any single value: a bound is read by the type of its field
)

var kindWords = [...]string{"a text", "true or false", "a whole number", "a size such as 2GiB",
	"a duration such as 15m", "a number or a share such as 0.5%", "one of a few words", "one character", "a mapping",
	"a mapping", "a list", "a value"}

func text(name, about string) *key     { return &key{name: name, about: about} }
func flag(name, about string) *key     { return &key{name: name, about: about, kind: kFlag} }
func count(name, about string) *key    { return &key{name: name, about: about, kind: kCount} }
func span(name, about string) *key     { return &key{name: name, about: about, kind: kDuration} }
func char(name, about string) *key     { return &key{name: name, about: about, kind: kChar} }
func anything(name, about string) *key { return &key{name: name, about: about, kind: kAny} }
func texts(name, about string) *key    { return list(name, about, text("", "")) }
func (k *key) must() *key              { k.required = true; return k }
func (k *key) eg(example string) *key  { k.example = example; return k }
func (k *key) orElse(other *key) *key  { k.or = other; return k }

func choice(name, about string, values ...string) *key {
	return &key{name: name, about: about, kind: kChoice, values: values}
}
func group(name, about string, keys ...*key) *key {
	return &key{name: name, about: about, kind: kMap, keys: keys}
}
func free(name, about string, item *key) *key {
	return &key{name: name, about: about, kind: kFree, item: item}
}
func list(name, about string, item *key) *key {
	return &key{name: name, about: about, kind: kList, item: item}
}

// grammar returns the whole grammar of the feed file.
func grammar() *key {
	return group("", "A feed: which files, where, how to read them, what must be true, and which table they end in.",
		text("feed", "The feed's name for ever: a-z, 0-9 and -.").must().eg("gauge-readings"),
		text("about", "What the feed brings, for people."),
		text("owner", "Who answers for the feed: an e-mail address, shown where something is wrong."),
		group("supplier", "Who sends the files.", text("name", "Their name."), text("contact", "Where to reach them.")),
		landingKeys(),
		choice("format", "How the file is written: csv (all delimited text), json, jsonl (JSON Lines), parquet, avro, "+
			"xlsx (spreadsheets), fixed (fixed-width text). gzip, zstd and bzip2 are unpacked by themselves. Default: "+
			"csv.", decode.Formats()...),
		text("encoding", "The charset of text files, by its IANA name. Default: utf-8.").eg("windows-1252"),
		group("dialect", "Table Dialect: how the file is laid out.",
			text("delimiter", "Between cells, one character or several. Default: a comma."),
			flag("header", "Whether the first row names the columns. false maps them by position. Default: true; for "+
				"fixed: false."),
			char("quoteChar", "Around cells that hold delimiters or line ends. Default: a double quote. \"\" for "+
				"none."),
			char("commentChar", "Lines that begin with it are passed over. Default: none."),
			flag("doubleQuote", "Whether a doubled quote inside quotes stands for one. Default: true."),
			char("escapeChar", "Before a character that is to be taken as it is. Default: none.").eg("'\\'"),
			text("lineTerminator", "The end of a line. Default: LF and CRLF, and CR where there is neither."),
			text("nullSequence", "A text that stands for no value, besides the schema's missingValues.").eg("'\\N'"),
			flag("skipInitialSpace", "Whether spaces at the beginning of a cell are passed over. Default: false."),
			list("headerRows", "The rows that make the header, from 1; those above it are passed over. Default: the "+
				"first that is neither empty nor a comment.", count("", "")).eg("[2, 3]"),
			text("headerJoin", "Between the parts of a header of several rows. Default: a space."),
			list("commentRows", "Rows to pass over, from 1.", count("", "")).eg("[1]"),
			text("property", "json: the path of the array of records. Default: the top.").eg("data.samples"),
			choice("itemType", "json: what a record is. Default: what stands there.", "array", "object"),
			list("itemKeys", "json: the names of the items, where records are arrays. Default: the first record names "+
				"them.", text("", "")),
			count("sheetNumber", "xlsx: the sheet, from 1. Default: the first."),
			text("sheetName", "xlsx: the sheet, by name."),
		),
		text("each", "json, jsonl, parquet, avro: a row for each element of the array under this path; what stands "+
			"outside of it is repeated.").eg("results"),
		schemaKeys().must(),
		text("zone", "The time zone of times in the data that carry none. Default: UTC.").eg("Atlantic/Azores"),
		free("derive", "Columns that the file does not have, in CEL over row, file, run, feed and service.",
			text("", "")),
		text("leave_out", "Rows for which this CEL expression is true are left out, also where they "+
			"lack a value that is required.").eg("row.station_id.startsWith(\"TEST\")"),
		text("delete_when", "Rows for which this CEL expression is true delete their "+
			"key.").eg("row.status == \"withdrawn\""),
		checkKeys(),
		texts("private", "Columns whose values are never kept or shown in rejects; the original line is masked there "+
			"too.").eg("[observer]"),
		group("tolerate", "How much may be wrong before the arrival is refused.",
			&key{name: "rejects", about: "Rejected rows: a number, or a share of the file's rows. Default: none.",
				kind: kShare, example: "0.5%"}),
		targetKeys().must(),
		whenKeys(),
		tellKeys(),
		dueKeys(),
	)
}

func landingKeys() *key {
	return group("landing", "Where the files arrive and which of them belong.",
		text("at", "A folder below one of the service's landing roots; or place:NAME/FOLDER, where the settings name the place.").must().eg("landing/gauges"),
		text("files", "Which files belong, and what their names say: *, **, ?, [a-z], (a|b), {name}, {name:%Y%m%d}, "+
			"{name:#}.").must().eg("**/GAUGE_{catchment}_{slot:%Y%m%dT%H%M}.(csv|csv.gz)"),
		choice("case", "Whether the pattern looks at capitals. Default: exact.", "exact", "ignore"),
		texts("except", "Files that do not belong although their names fit. Dot-files, .tmp, .part, .filepart and "+
			"empty marker files never do."),
		group("size", "The sizes that are taken; others are left out.",
			&key{name: "from", kind: kSize, about: "At least."}, &key{name: "to", kind: kSize, about: "At most."}),
		count("with_columns", "Where a landing mixes kinds of files under one name: those with so many columns, or "+
			"with these, belong; the others are skipped.").orElse(texts("", "")).eg("[Station, Level]"),
		text("zone", "The time zone of times in names. Default: UTC.").eg("Atlantic/Azores"),
		span("settle", "A file is whole when its size and time have been still for so long. Default: 3s.").eg("3s"),
		text("whole_when", "A file is whole when this marker file is there and not older, instead of settle: a path "+
			"of {path}, {stem}, {name} and captures. A checksum or a number of rows in it is held against the "+
			"file.").eg("\"{path}.ok\""),
		text("listed_in", "delivery: list: the pattern of the files that list a delivery: a path a line, below the "+
			"list's folder, with the size and the SHA-256 after it if they are "+
			"known.").eg("\"DELIVERY_{slot:%Y%m%d}.lst\""),
		choice("delivery", "What belongs together and is loaded in one transaction: a file, the files of a list, or "+
			"all that a slot of due expects. Default: file.", "file", "list", "slot"),
		choice("backlog", "What becomes of files that lay there before the feed: they are loaded, or skipped until "+
			"`redo --backlog` takes them. Default: load.", "load", "skip"),
		choice("reissue", "What becomes of other content under a loaded path: load merges it, replace undoes what the "+
			"old version wrote and loads the new, hold waits for a person, skip leaves it. Default: load; with mode "+
			"append or merge: add, where load would add the same rows twice, replace, or hold where that cannot "+
			"be.", "load", "replace", "hold", "skip"),
		choice("copies", "What becomes of the same content under another name with the same captures. Default: skip.",
			"skip", "load"),
		flag("strict_order", "Whether a refused, failed or held file holds up those behind it. Default: false."),
		text("put_away", "What becomes of loaded files and skipped copies: leave, delete, or a folder below the "+
			"landing's root, with captures in it. Default: leave.").eg("\"done/{slot:%Y}/{catchment}\""),
		text("quarantine", "The folder below the landing's root that refused files are moved to, with a text beside "+
			"each that says why. Default: they stay where they are.").eg("quarantine/gauges"),
	).must()
}

func schemaKeys() *key {
	field := group("", "A column of the file.",
		text("name", "The column's name in the target.").must(),
		choice("type", "Its type, as Table Schema says. Default: string.", "string", "number", "integer", "boolean",
			"object", "array", "list", "datetime", "date", "time", "year", "yearmonth", "duration", "geopoint",
			"geojson", "any"),
		text("source", "Its name in the file. In json, jsonl, parquet and avro a path, such as sample.site.id or "+
			"/sample/site/id, or * for the whole record; in fixed the first and last character, such as 1-8. Default: "+
			"its name."),
		text("format", "How it is written: a POSIX strftime pattern for times; default, email, uri, binary or uuid "+
			"for strings; default, array or object for geopoints."),
		text("title", "A name for people; becomes part of the column's comment."),
		text("description", "What it means; becomes the column's comment."),
		char("decimalChar", "The decimal mark of numbers. Default: a point."),
		text("groupChar", "What stands between groups of digits. Default: nothing."),
		flag("bareNumber", "false: other text may stand around the number, as in 95%. Default: true."),
		texts("trueValues", "The texts for true. Default: true, True, TRUE, 1."),
		texts("falseValues", "The texts for false. Default: false, False, FALSE, 0."),
		texts("missingValues", "The texts for no value, in this column."),
		flag("optional", "true: files may lack the column, whatever fieldsMatch says; it is null then. Default: false."),
		flag("stored", "false: the column is read for expressions only, and the target has none for it. Default: "+
			"true."),
		choice("nanoseconds", "What becomes of times that are finer than the microseconds that the target keeps: "+
			"their rows are rejects, or the times are cut. Default: reject.", "reject", "cut"),
		choice("itemType", "The type of a list's items. Default: string.", "string", "integer", "boolean", "number",
			"datetime", "date", "time"),
		text("delimiter", "What stands between a list's items. Default: a comma."),
		list("categories", "The values of a category; others are rejects.", anything("", "")),
		flag("categoriesOrdered", "Whether the categories have an order; it is not looked at."),
		text("rdfType", "A link to what the column means; it is not looked at."),
		text("example", "An example of a value."),
		group("constraints", "What must hold of each value; a row that breaks one is a reject.",
			flag("required", "A value must be there."),
			flag("unique", "No value twice within the file; the first row stays."),
			anything("minimum", "The least value."), anything("maximum", "The greatest value."),
			anything("exclusiveMinimum", "Values must be greater."),
			anything("exclusiveMaximum", "Values must be less."),
			count("minLength", "The least length of a text, in characters."),
			count("maxLength", "The greatest length of a text, in characters."),
			text("pattern", "A regular expression (RE2) for the whole text."),
			list("enum", "The values that are allowed.", anything("", "")),
			free("jsonSchema", "A JSON Schema that objects and arrays must fit. It stands here whole: it cannot refer "+
				"to others.", nil),
		),
	)
	schema := group("schema", "Table Schema: the columns of the file.",
		text("file", "A schema file beside the feed file: a Table Schema, or an Avro schema (.avsc). What stands here "+
			"besides takes the place of what it says; fields are joined by name, and more are added. When the feed is put, "+
			"the schema stands in its place.").eg("schemas/level.avsc"),
		choice("fieldsMatch", "How the file's columns must fit the fields. Default: exact.", "exact", "equal",
			"subset", "superset", "partial"),
		list("fields", "The columns.", field),
		text("by", "Where a feed takes several kinds of files, each with columns and a table of its own: the capture "+
			"that tells them apart. It stands in target.table too.").eg("kind"),
		free("kinds", "With by: a schema for each value of the capture. A path with the capture in it, such as "+
			"schemas/{kind}.json, becomes this when the feed is put.", nil),
		list("primaryKey", "The key: one row a key is kept, the newest. A name or a list of names, of fields and "+
			"derived columns. append has none; replace and replace_part may go without.",
			text("", "")).orElse(text("", "")),
		texts("missingValues", "The texts for no value. Default: the empty text; none in json, jsonl, parquet and "+
			"avro, which have nulls of their own."),
		list("uniqueKeys", "Lists of fields whose values, together, stand once in a file; of rows that have the same, "+
			"the first stays, the others are rejects.", texts("", "")),
		list("foreignKeys", "Fields whose values, together, stand in another table of the target's database; rows "+
			"whose values do not are rejects.", group("", "A foreign key.",
			list("fields", "The fields; a name or a list of names.", text("", "")).orElse(text("", "")).must(),
			group("reference", "Where the values stand.",
				text("resource", "The table, as schema.table.").must().eg("river.station"),
				list("fields", "Its columns, in the order of the fields.", text("", "")).orElse(text("", "")).must(),
			).must(),
		)),
		text("$schema", "The profile of the schema; it is not looked at."),
		text("name", "The schema's name; it is not looked at."),
		text("title", "Its title; it becomes the table's comment."),
		text("description", "What the table holds; it becomes its comment."),
	)
	return schema.orElse(text("", ""))
}

func checkKeys() *key {
	checks := func(name, about string, otherwise ...string) *key {
		return list(name, about, group("", "A check.",
			text("name", "What it is called: a-z, 0-9 and _.").must(),
			text("must", "A CEL expression that must be true.").must(),
			choice("else", "What becomes of the rows, or of the delivery, when it is not. Default: "+otherwise[0]+".",
				otherwise...)))
	}
	return group("checks", "What must be true beyond the constraints. Every check says what it saw, also when it "+
		"holds.",
		group("file", "Of the file as a whole; a file that breaks one is refused.",
			group("rows", "How many rows.",
				count("from", "At least. Default: 1; with 0, a file with a header alone is loaded, with nothing in "+
					"it."), count("to", "At most.")),
			text("checksum", "A file beside it that holds its checksum: a path of {path}, {stem}, {name} and "+
				"captures.").eg("\"{path}.sha256\""),
			group("trailer", "A last line that is no row: it may count the rows, or sum columns.",
				text("line", "A regular expression (RE2); of its groups, rows is the number of rows, another name the "+
					"sum of that column.").must().eg("\"^TOTAL;(?P<rows>[0-9]+)$\""))),
		checks("row", "Of each row. Where a column is null that the expression cannot do without, the check holds.",
			"reject", "refuse", "warn"),
		checks("delivery", "Of a delivery as a whole, in CEL over rows, last_rows, usual_rows, blank_share('c'), "+
			"distinct_count('c'), sum('c'), smallest('c'), greatest('c'), newest_age('c'), all_in('c', "+
			"'schema.table', 'c') and last('check').", "refuse", "warn"),
	)
}

func targetKeys() *key {
	lineage := choice("lineage", "The columns that say where a row came from: standard, none, or names of one's own.",
		"standard", "none")
	own := group("", "Names of one's own for lineage columns; those that are not named are left out.")
	for _, n := range StandardLineage.Names() {
		own.keys = append(own.keys, text(n, "The column to use for "+n+"."))
	}
	own.keys = append(own.keys, text("absent_since", "The column to use for absent_since, with absent: mark."))
	modes := []string{string(Upsert), string(AddMissing), string(Append), string(Replace), string(ReplacePart)}
	merges := []string{string(Take), string(KeepFirst), string(KeepWhenBlank), string(Greatest), string(Least),
		string(Add)}
	return group("target", "The table that rows end in.",
		text("connection", "The database of the table, by the name that the service knows it by. Default: main, where "+
			"the records are."),
		text("table", "The table, as schema.table. It is created when absent.").must().eg("river.gauge_reading"),
		choice("mode", "What a delivery does to the table: upsert writes new and changed rows; add_missing writes new "+
			"keys and leaves those that exist alone; append writes every row, without a key; replace makes the table "+
			"what the delivery is; replace_part does so for the parts that the delivery has rows of. Default: "+
			"upsert.", modes...),
		text("part", "replace_part: the column that names the part, such as a day.").eg("day"),
		text("newest", "By what the newest row of a key wins, in whatever order files come: a column, slot (in the "+
			"name of the file), modified (the time of the file), or arrival (what comes last). Default: slot where "+
			"landing.files captures it, lineage is kept and nothing is merged; else arrival."),
		free("merge", "How a column's old and new value become one: take the new one, keep_first that was not null, "+
			"keep_when_blank the old one where the new one is null, the greatest, the least, or add both. Default: "+
			"take.", choice("", "", merges...)).eg("{peak_m: greatest, note: keep_when_blank}"),
		choice("absent", "What becomes of rows of the table whose key a delivery does not have, where a delivery is "+
			"the whole table: they are kept, marked with the time in absent_since, or deleted. Default: keep.",
			"keep", "mark", "delete"),
		&key{name: "absent_at_most", about: "A number of rows, or a share of the table's: a delivery that lacks more, " +
			"or that replaces so many by nothing, is refused. Needed for absent: mark and delete.", kind: kShare,
			example: "5%"},
		choice("extra_columns", "What becomes of columns that fieldsMatch lets through and that are not in the "+
			"schema: they are left out, or added to the table as text.", "ignore", "add"),
		choice("missing_columns", "What becomes of columns, lineage columns among them, that an existing table lacks "+
			"or has too narrow: they are added and widened, or the feed's files wait. Default: add in a table that "+
			"Mullein made, refuse in others.", "add", "refuse"),
		lineage.orElse(own),
		span("recall", "How long the journal keeps what loads changed, so that they can be recalled and a row's "+
			"history told; 0s keeps nothing. Default: 14d, where from_arrival is kept.").eg("14d"),
	)
}

func whenKeys() *key {
	return group("when", "What starts a run.",
		flag("arrival", "As soon as a file is whole. Default: true, unless cron or after is given."),
		text("cron", "Five fields: minute, hour, day, month, weekday.").eg("*/15 * * * *"),
		text("zone", "The time zone of cron. Default: UTC."),
		group("after", "When other feeds have loaded something new since the last such run.",
			texts("all", "All of them."), texts("any", "Any of them.")),
		count("attempts", "How often a load that fails by chance is tried. Default: 5."),
		span("pause", "Before the second attempt; it doubles. Default: 30s."),
		span("time_limit", "How long a run may take; then it ends as failed, and what it has not loaded waits for the "+
			"next."),
	)
}

func tellKeys() *key {
	return list("tell", "Who is told of what, instead of what the service's settings say of it.",
		group("", "Who is told of what.",
			list("of", "Of what. Problems: late and missing slots; refused, failed and held arrivals; rejects, more than one row in "+
				"a hundred; warning, a check that only warns; table, which does not fit; landing, which is away; database, which "+
				"cannot be reached; disk, short of room; stopped, for another reason; rollup, wrong or lagging. News: loaded, "+
				"changed.", choice("", "", told...)).must(),
			text("by", "The outlet, by its name in the service's settings.").must(),
			span("after", "Only when it has lasted so long. Default: 0.").eg("10m"),
			text("to", "By mail: owner, supplier, or an address. Default: whom the outlet names.")))
}

// told is what a feed may have told: what is of a service as a whole is none of it.
var told = slices.DeleteFunc(news.Names(), func(name string) bool {
	k := news.Kind(name)
	return k == news.Service || k == news.Outlet || k == news.Ending || k == news.Extract
})

func dueKeys() *key {
	return group("due", "What is expected, and when. A slot is one expected delivery.",
		text("cron", "The times of the slots, five fields. Where names carry {slot}, it is the slot's "+
			"time.").eg("\"*/15 * * * *\""),
		span("quiet_for", "How long a supplier may be silent, where no schedule is known.").eg("2h"),
		text("zone", "The time zone of cron. Default: UTC."),
		free("per", "A slot for each value of a capture.", texts("", "")).eg("{catchment: [K1, K2, K3]}"),
		count("files", "How many files a slot has. Default: 1."),
		span("late_after", "A slot is late so long after its time. Default: 5m."),
		span("missing_after", "A slot is missing so long after its time. Default: 1h, or late_after if that is more."),
		texts("except_days", "Days without slots, in the zone.").eg("[\"2026-12-25\"]"),
		text("say", "What to say when a slot is missing."),
	)
}
