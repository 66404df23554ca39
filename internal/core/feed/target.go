package feed

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
)

// Target is the table that rows end in.
type Target struct {
	Connection    string // the name of a database of the service
	Schema, Table string
	Mode          Mode
	Part          string // of [ReplacePart]: the column that names the part
	Newest        string // the column by which the newest row of a key wins; "" where Order says it
	Order         Order
	Merge         map[string]Merge // by column; those that are not named are taken
	Absent        Absent
	AbsentAtMost  check.Tolerance // of the table's rows, where HasAbsentAtMost
	// HasAbsentAtMost distinguishes a bound of none from no bound.
	HasAbsentAtMost bool
	AddColumns      bool // columns that are not in the schema are added
	MissingColumns  MissingColumns
	Lineage         Lineage
	Recall          time.Duration // how long the journal is kept; 0 for no journal
}

// MainConnection is the database where the records are.
const MainConnection = "main"

// Mode is what a delivery does to the table.
type Mode string

// The modes.
const (
	Upsert      Mode = "upsert"       // new and changed rows are written
	AddMissing  Mode = "add_missing"  // new keys are written, others left alone
	Append      Mode = "append"       // every row is written; there is no key
	Replace     Mode = "replace"      // the table becomes what the delivery is
	ReplacePart Mode = "replace_part" // so do the parts that the delivery has rows of
)

// Replaces reports whether rows go that a delivery does not have.
func (m Mode) Replaces() bool { return m == Replace || m == ReplacePart }

// Order is by what the newest row of a key wins where no column says it. Ties go to what
// arrived later.
type Order string

// The orders.
const (
	OrderArrival  Order = "arrival"  // what comes last
	OrderSlot     Order = "slot"     // the slot in the name of the file
	OrderModified Order = "modified" // the time of the file
)

// Merge is how a column's old and new value become one.
type Merge string

// The merges.
const (
	Take          Merge = "take"
	KeepFirst     Merge = "keep_first"      // the first value that is not null
	KeepWhenBlank Merge = "keep_when_blank" // the last value that is not null
	Greatest      Merge = "greatest"
	Least         Merge = "least"
	Add           Merge = "add"
)

// Absent is what becomes of rows whose key a delivery does not have.
type Absent string

// The ways to take absent rows.
const (
	AbsentKeep   Absent = "keep"
	AbsentMark   Absent = "mark"
	AbsentDelete Absent = "delete"
)

// MissingColumns is what becomes of columns that an existing table lacks, or has
// too narrow.
type MissingColumns string

// The ways to take a table that does not fit.
const (
	AddToOwn          MissingColumns = ""       // a table that Mullein made is changed
	AddMissingColumns MissingColumns = "add"    // so is one that others made
	RefuseMissing     MissingColumns = "refuse" // none is
)

// Lineage names the columns that say where a row came from; "" leaves one out.
type Lineage struct {
	FromFile, FromLine, FromArrival, LoadedRun, LoadedAt, RowDigest string
	AbsentSince                                                     string // with [AbsentMark] only
}

// StandardLineage is what `lineage: standard` means.
var StandardLineage = Lineage{FromFile: "from_file", FromLine: "from_line", FromArrival: "from_arrival",
	LoadedRun: "loaded_run", LoadedAt: "loaded_at", RowDigest: "row_digest"}

// Names lists the lineage columns that are kept, in order.
func (l Lineage) Names() []string {
	var names []string
	for _, n := range []string{l.FromFile, l.FromLine, l.FromArrival, l.LoadedRun, l.LoadedAt, l.RowDigest,
		l.AbsentSince} {
		if n != "" {
			names = append(names, n)
		}
	}
	return names
}

var connectionName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

const standardRecall = 14 * 24 * time.Hour

func (r *reader) target(root *node, f *Feed) Target {
	n := root.get("target")
	t := Target{
		Connection: n.str("connection", MainConnection), Schema: "public", Table: n.str("table", ""),
		Mode: Mode(n.str("mode", string(Upsert))), Part: n.str("part", ""), Newest: n.str("newest", ""),
		Absent: Absent(n.str("absent", string(AbsentKeep))), AddColumns: n.str("extra_columns", "ignore") == "add",
		MissingColumns: MissingColumns(n.str("missing_columns", "")), Lineage: StandardLineage,
	}
	if !connectionName.MatchString(t.Connection) {
		r.failAt(n.get("connection"), "target.connection %q: use a-z, 0-9 and -", t.Connection)
	}
	table := n.get("table")
	for _, c := range capturesIn(t.Table) {
		if names := f.Landing.Files.Names(); !slices.Contains(names, c) || f.Landing.Files.Kinds()[c] == '%' {
			r.failAt(table, "target.table: {%s} is no capture of a text or a number in the pattern of the files%s", c,
				suggestion(c, names))
		}
	}
	if schema, name, two := strings.Cut(t.Table, "."); two {
		t.Schema, t.Table = schema, name
	}
	for _, part := range []string{t.Schema, t.Table} {
		if part == "" || len(part) > 63 || strings.ContainsAny(part, ".\x00") {
			r.failAt(table, "target.table %q: write it as schema.table, each up to 63 bytes", n.str("table", ""))
			break
		}
	}
	if notForData(t.Schema) {
		r.failAt(table, "target.table: the schema %s is not for data; choose another", t.Schema)
	}
	r.lineage(n.get("lineage"), &t)
	r.mode(root, f, &t)
	r.primaryKey(root, &f.Schema, t.Mode)
	r.merge(root, f, &t)
	r.newest(root, f, &t)
	r.absent(n, f, &t)
	if t.Lineage.FromArrival != "" {
		t.Recall = n.span("recall", standardRecall)
	} else if n.span("recall", 0) > 0 {
		r.failAt(n.get("recall"), "target.recall needs the lineage column from_arrival, to know which rows a load "+
			"wrote")
	}
	if t.AddColumns && (f.Format != decode.CSV && f.Format != decode.XLSX || !f.Dialect.Header) {
		r.failAt(n.get("extra_columns"), "target.extra_columns: add is for csv and xlsx with a header")
	}
	if t.AddColumns && !slices.Contains([]tabular.FieldsMatch{tabular.MatchSubset, tabular.MatchPartial},
		f.Schema.FieldsMatch) {
		r.failAt(n.get("extra_columns"), "target.extra_columns: add needs schema.fieldsMatch: subset or partial; %s "+
			"lets no further columns through", f.Schema.FieldsMatch)
	}
	return t
}

// notForData distinguishes schemas of the database and of ours from those of tables.
func notForData(schema string) bool {
	return schema == "mullein" || schema == "mullein_records" || schema == "information_schema" ||
		strings.HasPrefix(schema, "pg_")
}

func (r *reader) lineage(n *node, t *Target) {
	switch {
	case n == nil:
	case n.shape == mapping:
		t.Lineage = Lineage{
			n.str("from_file", ""), n.str("from_line", ""), n.str("from_arrival", ""),
			n.str("loaded_run", ""), n.str("loaded_at", ""), n.str("row_digest", ""), n.str("absent_since", ""),
		}
	case n.text == "none":
		t.Lineage = Lineage{}
	}
	if t.Absent == AbsentMark && t.Lineage.AbsentSince == "" {
		t.Lineage.AbsentSince = "absent_since"
	} else if t.Absent != AbsentMark && t.Lineage.AbsentSince != "" {
		r.failAt(n.get("absent_since"), "target.lineage.absent_since is for absent: mark")
	}
}

// mode refuses what means nothing in a mode.
func (r *reader) mode(root *node, f *Feed, t *Target) {
	n := root.get("target")
	not := func(at *node, what, why string) {
		if at != nil {
			r.failAt(at, "%s is not for mode %s: %s", what, t.Mode, why)
		}
	}
	if t.Mode != Upsert {
		not(root.get("delete_when"), "delete_when", "only upsert deletes by key")
	}
	if t.Mode == Append {
		not(root.get("schema").get("primaryKey"), "schema.primaryKey",
			"it writes every row; add_missing leaves keys alone that exist")
		not(n.get("newest"), "target.newest", "it has no key")
	}
	if t.Mode == Append || t.Mode.Replaces() {
		not(n.get("merge"), "target.merge", "it does not merge rows")
		not(n.get("absent"), "target.absent", "append keeps and replace removes what is absent")
	}
	if t.Mode != ReplacePart {
		not(n.get("part"), "target.part", "it is for replace_part")
		return
	}
	var names []string
	for i := range f.Schema.Fields {
		names = append(names, f.Schema.Fields[i].Name)
	}
	if derive := root.get("derive"); derive != nil {
		for _, d := range derive.fields {
			names = append(names, d.name)
		}
	}
	switch {
	case t.Part == "":
		r.failAt(n, "mode replace_part needs target.part, the column that names the part")
	case !slices.Contains(names, t.Part) && slices.Contains(f.Landing.Files.Names(), t.Part):
		r.failAt(n.get("part"), "target.part: %s is a capture and not a column; make it one:  derive: {%s: "+
			"file.captures.%s}", t.Part, t.Part, t.Part)
	case !slices.Contains(names, t.Part):
		r.failAt(n.get("part"), "target.part: no column %q%s", t.Part, suggestion(t.Part, names))
	}
}

var unordered = []string{"object", "array", "list", "geojson", "geopoint"}

// primaryKey holds the key's columns against the fields and the names of derived
// columns; the types of those are known later: see [reader.derive].
func (r *reader) primaryKey(root *node, s *tabular.Schema, m Mode) {
	var names, derived []string
	for i := range s.Fields {
		names = append(names, s.Fields[i].Name)
	}
	if d := root.get("derive"); d != nil {
		for _, c := range d.fields {
			derived = append(derived, c.name)
		}
	}
	n := root.get("schema")
	at := n.get("primaryKey")
	if at == nil || len(s.PrimaryKey) == 0 {
		if m == Upsert || m == AddMissing {
			r.failAt(n, "schema.primaryKey is missing: mode %s needs the columns that tell one row from another", m)
		}
		return
	}
	for i, k := range s.PrimaryKey {
		place := at
		if len(at.items) > i {
			place = at.items[i]
		}
		field := s.Field(k)
		switch {
		case slices.Contains(s.PrimaryKey[:i], k):
			r.failAt(place, "schema.primaryKey names %q twice", k)
		case field == nil && !slices.Contains(derived, k):
			r.failAt(place, "schema.primaryKey: no field %q%s", k, suggestion(k, append(names, derived...)))
		case field != nil && slices.Contains(unordered, field.Type):
			r.failAt(place, "schema.primaryKey: %s is of type %s, which cannot be a key", k, field.Type)
		}
	}
}

// newest finds out by what the newest row of a key wins: a column, the slot, the time of
// the file, or its arrival. A column that is called like one of the words comes first.
func (r *reader) newest(root *node, f *Feed, t *Target) {
	n := root.get("target")
	at, said := n.get("newest"), t.Newest
	t.Newest, t.Order = "", OrderArrival
	hasSlot := false
	if f.Landing.Files != nil { // else that is what is wrong
		kind := f.Landing.Files.Kinds()["slot"]
		hasSlot = kind == '%' || kind == '#'
	}
	switch order := Order(said); {
	case said == "":
		// Merged columns take from every row; an older one has something to say too.
		if hasSlot && t.Lineage.FromArrival != "" && len(t.Merge) == 0 && t.Mode != Append && t.Mode != AddMissing {
			t.Order = OrderSlot
		}
	case slices.Contains(f.OwnColumns(), said) || r.derives(root, said):
		t.Newest = said
		r.newestColumn(at, f, t)
	case order == OrderArrival:
	case order != OrderSlot && order != OrderModified:
		words := []string{string(OrderSlot), string(OrderModified), string(OrderArrival)}
		r.failAt(at, "target.newest: no column %q, and it is none of %s%s", said, strings.Join(words, ", "),
			suggestion(said, append(f.OwnColumns(), words...)))
	case order == OrderSlot && !hasSlot:
		r.failAt(at, "target.newest: slot needs a {slot:...} in landing.files that is a time or a number")
	case t.Lineage.FromArrival == "":
		r.failAt(at, "target.newest: %s needs the lineage column from_arrival, to know which file a row came from",
			said)
	case t.Mode == AddMissing:
		r.failAt(at, "target.newest is not for mode add_missing: rows whose key exists are left alone")
	default:
		t.Order = order
	}
}

// derives reports whether a feed derives a column.
func (r *reader) derives(root *node, name string) bool {
	d := root.get("derive")
	return d != nil && slices.ContainsFunc(d.fields, func(f field) bool { return f.name == name })
}

func (r *reader) newestColumn(at *node, f *Feed, t *Target) {
	switch field := f.Schema.Field(t.Newest); {
	case field != nil && slices.Contains(unordered, field.Type):
		r.failAt(at, "target.newest: %s is of type %s, which has no order", t.Newest, field.Type)
	case len(f.Schema.PrimaryKey) == 0:
		r.failAt(at, "target.newest needs schema.primaryKey: it chooses one row of a key")
	}
}

// Cautions says what a feed does that people may not expect, a line each.
func (f *Feed) Cautions() []string {
	if f.Target.Mode == Replace && f.Landing.Delivery == ByFile {
		return []string{"mode replace with a file a delivery: each file takes the place of the whole table; say  " +
			"landing.delivery: slot  or list  where several files make the table together"}
	}
	return nil
}

// LeavesBehind returns what putting f in place of an earlier version of it leaves behind, a line
// each: files, rows or keys that it no longer sees.
func (f *Feed) LeavesBehind(before *Feed) []string {
	var out []string
	if f.Landing.At != before.Landing.At {
		out = append(out, fmt.Sprintf("landing.at: %s instead of %s; files at %s are looked at no more, and those "+
			"that wait there stay in the ledger as they are",
			f.Landing.At, before.Landing.At, before.Landing.At))
	}
	now, then := f.Target.Schema+"."+f.Target.Table, before.Target.Schema+"."+before.Target.Table
	if now != then || f.Target.Connection != before.Target.Connection {
		out = append(out, fmt.Sprintf("target.table: %s instead of %s; rows that were loaded stay in %s, and what the "+
			"ledger has as loaded is not loaded into %s by itself (mullein feed rebuild does that)",
			now, then, then, now))
	}
	if !slices.Equal(f.Schema.PrimaryKey, before.Schema.PrimaryKey) {
		key := func(of *Feed) string {
			if len(of.Schema.PrimaryKey) == 0 {
				return "none"
			}
			return "(" + strings.Join(of.Schema.PrimaryKey, ", ") + ")"
		}
		out = append(out, fmt.Sprintf("schema.primaryKey: %s instead of %s; the table needs the new key, and its rows "+
			"were chosen by the old one (mullein feed rebuild loads all files again)",
			key(f), key(before)))
	}
	return out
}

// WhoWins says in a line which row wins for a key, and why.
func (f *Feed) WhoWins() string {
	t := &f.Target
	key := "for each " + strings.Join(f.Schema.PrimaryKey, ", ")
	if len(f.Schema.PrimaryKey) == 0 {
		key = "in the table"
	}
	switch {
	case t.Mode == Append:
		return "every row is kept: the mode is append"
	case t.Mode == AddMissing:
		return key + ", the row that came first is kept: the mode is add_missing"
	case t.Newest != "" && !t.Mode.Replaces():
		return key + ", the row with the greatest " + t.Newest + " wins, then what arrived last: target.newest says so"
	case t.Order == OrderSlot:
		return key + ", the newest slot wins, in whatever order files come: their names carry it"
	case t.Order == OrderModified:
		return key + ", the file that was modified last wins, in whatever order files come: target.newest says so"
	}
	return key + ", what arrived last wins" + t.whyArrival(f)
}

// whyArrival says why the order is that of arrival.
func (t *Target) whyArrival(f *Feed) string {
	switch {
	case !slices.Contains(f.Landing.Files.Names(), "slot"):
		return ": the names of the files carry no {slot}"
	case len(t.Merge) > 0:
		return ": merged columns take from every row"
	case t.Lineage.FromArrival == "":
		return ": without the lineage column from_arrival nobody knows which file a row came from"
	}
	return ": target.newest says so"
}

func (r *reader) merge(root *node, f *Feed, t *Target) {
	n := root.get("target").get("merge")
	if n == nil {
		return
	}
	t.Merge = map[string]Merge{}
	for _, m := range n.fields {
		field := f.Schema.Field(m.name)
		merge := Merge(m.value.text)
		switch {
		case field == nil:
			r.failAt(m.value, "target.merge: no field %q%s", m.name, suggestion(m.name, f.OwnColumns()))
			continue
		case slices.Contains(f.Schema.PrimaryKey, m.name):
			r.failAt(m.value, "target.merge: %s is part of the key", m.name)
		case merge == Add && !slices.Contains([]string{"number", "integer", "duration"}, field.Type):
			r.failAt(m.value, "target.merge: add is for numbers and durations; %s is of type %s", m.name, field.Type)
		case (merge == Greatest || merge == Least) && (slices.Contains(unordered, field.Type) ||
			field.Type == "boolean"):
			r.failAt(m.value, "target.merge: %s is of type %s, which has no order", m.name, field.Type)
		}
		if merge != Take {
			t.Merge[m.name] = merge
		}
	}
	if t.Mode == AddMissing && len(t.Merge) > 0 {
		r.failAt(n, "target.merge is not for mode add_missing: rows whose key exists are left alone")
	}
}

func (r *reader) absent(n *node, f *Feed, t *Target) {
	if at := n.get("absent_at_most"); at != nil {
		t.AbsentAtMost, _ = parseShare(at.text) // the walk has checked it
		t.HasAbsentAtMost = true
		if t.Absent == AbsentKeep && !t.Mode.Replaces() {
			r.failAt(at, "target.absent_at_most is for absent: mark and delete, and for replace and replace_part")
		}
		return
	}
	if t.Absent != AbsentKeep {
		r.failAt(n.get("absent"), "target.absent: %s needs absent_at_most, so that half a file does not empty the "+
			"table; 100%% is no bound", t.Absent)
	}
}

// Adds reports whether loading the same rows again adds to what is there, and how.
func (t *Target) Adds() (how string, ok bool) {
	if t.Mode == Append {
		return "mode append", true
	}
	for _, m := range t.Merge {
		if m == Add {
			return "merge: add", true
		}
	}
	return "", false
}

// Undoes reports whether what a load did to the target can be undone where loading again
// adds: see [Target.Adds].
func (t *Target) Undoes() bool {
	return t.Lineage.FromArrival != "" && (t.Mode == Append || t.Recall > 0)
}

// CannotUndo says why not.
func (t *Target) CannotUndo() string {
	if t.Lineage.FromArrival == "" {
		return "without the lineage column from_arrival nobody knows which rows a file has added"
	}
	return "without target.recall nobody knows what a file has added"
}

// reissue says what becomes of corrected files, and refuses what would add their rows
// to those of the version that they correct, or could not be undone.
func (r *reader) reissue(root *node, f *Feed) {
	l, t := &f.Landing, &f.Target
	at := root.get("landing").get("reissue")
	how, adds := t.Adds()
	switch {
	case adds && !t.Undoes() && l.Reissue != ReissueSkip:
		if at == nil {
			at = root.get("landing")
		}
		r.failAt(at, "landing.reissue: with %s, a corrected file can only be skipped: %s; say  reissue: skip, or keep "+
			"it", how, t.CannotUndo())
	case adds && at == nil:
		l.Reissue = ReissueReplace
	case adds && l.Reissue == ReissueLoad:
		r.failAt(at, "landing.reissue: with %s, replace, hold or skip: loading a file again on top of itself would "+
			"add its rows twice", how)
	case l.Reissue == ReissueReplace && t.Lineage.FromArrival == "":
		r.failAt(at, "landing.reissue: replace needs the lineage column from_arrival, to know which rows the old "+
			"version wrote")
	}
}

// Shares says why a feed and another one cannot end in the same table, or ""
// when they can: they append, or the newest row wins in both, or they write
// different columns.
func (f *Feed) Shares(o *Feed) string {
	a, b := &f.Target, &o.Target
	if a.Connection != b.Connection || a.Schema != b.Schema || a.Table != b.Table || f.Name == o.Name {
		return ""
	}
	head := "feed " + o.Name + " ends in " + a.Schema + "." + a.Table + " too, and "
	if a.Mode == Append && b.Mode == Append {
		return ""
	}
	for _, t := range []*Target{a, b} {
		if t.Mode.Replaces() || t.Absent != AbsentKeep {
			return head + "one of them takes a delivery for the whole table, so it would take the other's rows away"
		}
	}
	if !slices.Equal(f.Schema.PrimaryKey, o.Schema.PrimaryKey) {
		return head + "its key is another: (" + strings.Join(o.Schema.PrimaryKey, ", ") + ")"
	}
	if a.Newest == b.Newest && a.Order == b.Order && (a.Newest != "" || a.Order != OrderArrival) {
		return ""
	}
	theirs := append(o.OwnColumns(), b.Lineage.Names()...)
	for _, c := range append(f.OwnColumns(), a.Lineage.Names()...) {
		if slices.Contains(theirs, c) && !slices.Contains(f.Schema.PrimaryKey, c) {
			return head + "both write " + c + "; say target.newest in both, so that the newer row wins, or let them " +
				"write different columns, lineage columns too"
		}
	}
	return ""
}
