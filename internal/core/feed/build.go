package feed

import (
	"errors"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/expression"
	"mullein/internal/core/filename"
	"mullein/internal/core/tabular"
)

// Parse reads a feed file. file is the name that errors carry. The error is of
// type [Problems].
func Parse(file string, text []byte) (*Feed, error) {
	r := &reader{file: file}
	root := r.yaml(text)
	if root == nil {
		return nil, r.problems
	}
	r.walk(root, grammar(), "")
	if len(r.problems) > 0 {
		return nil, r.sorted()
	}
	f := r.feed(root)
	if len(r.problems) > 0 {
		return nil, r.sorted()
	}
	return f, nil
}

func (r *reader) sorted() Problems {
	slices.SortStableFunc(r.problems, func(a, b Problem) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return r.problems
}

var feedName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

func (r *reader) feed(root *node) *Feed {
	f := &Feed{
		Name:     root.str("feed", ""),
		About:    root.str("about", ""),
		Owner:    root.str("owner", ""),
		Supplier: Supplier{root.get("supplier").str("name", ""), root.get("supplier").str("contact", "")},
		Zone:     r.zone(root.get("zone")),
	}
	if !feedName.MatchString(f.Name) {
		r.failAt(root.get("feed"), "%q cannot be a feed's name; use a-z, 0-9 and -, up to 63 characters", f.Name)
	}
	f.Landing = r.landing(root.get("landing"))
	f.Dialect = r.dialect(root.get("dialect"))
	f.Schema = r.schema(root.get("schema"), f)
	if t := root.get("tolerate").get("rejects"); t != nil {
		f.Tolerate, _ = parseShare(t.text) // the walk has checked it
	}
	f.Target = r.target(root.get("target"), f)
	f.When = r.when(root.get("when"), f)
	f.Due = r.due(root.get("due"), f)
	if f.Landing.Delivery == BySlot && f.Due == nil {
		r.failAt(root.get("landing").get("delivery"), "landing.delivery: slot needs due, which says what a slot expects")
	}
	if f.Landing.Reissue == ReissueReplace && f.Target.Lineage.FromArrival == "" {
		r.failAt(root.get("landing").get("reissue"), "landing.reissue: replace needs the lineage column from_arrival, to know which rows the old version wrote")
	}
	if len(r.problems) == 0 {
		f.Derive = r.derive(root.get("derive"), f)
	}
	r.columns(root, f)
	return f
}

func (n *node) str(name, byDefault string) string {
	if v := n.get(name); v != nil {
		return v.text
	}
	return byDefault
}

func (n *node) flag(name string, byDefault bool) bool {
	if v := n.get(name); v != nil {
		return v.text == "true"
	}
	return byDefault
}

func (n *node) count(name string) int {
	if v := n.get(name); v != nil {
		i, _ := strconv.Atoi(v.text) // the walk has checked it
		return i
	}
	return 0
}

func (n *node) span(name string, byDefault time.Duration) time.Duration {
	if v := n.get(name); v != nil {
		d, _ := parseDuration(v.text) // the walk has checked it
		return d
	}
	return byDefault
}

// texts gives a list's items, a single value as a list of one, nil when absent.
func (n *node) texts(name string) []string {
	v := n.get(name)
	if v == nil {
		return nil
	}
	if v.shape == scalar {
		return []string{v.text}
	}
	out := make([]string, 0, len(v.items))
	for _, item := range v.items {
		out = append(out, item.text)
	}
	return out
}

func (r *reader) zone(n *node) *time.Location {
	if n == nil {
		return time.UTC
	}
	zone, err := time.LoadLocation(n.text)
	if err != nil || n.text == "Local" || n.text == "" {
		r.failAt(n, "unknown time zone %q; write a name of the IANA list, such as Atlantic/Azores or UTC", n.text)
		return time.UTC
	}
	return zone
}

// maxSettle keeps a typing error from holding files for ever.
const maxSettle = 24 * time.Hour

func (r *reader) landing(n *node) Landing {
	l := Landing{At: n.str("at", ""), Zone: r.zone(n.get("zone")), Settle: n.span("settle", 3*time.Second)}
	at := n.get("at")
	switch {
	case strings.Contains(l.At, "://"):
		r.failAt(at, "landing.at: %s: not yet; this version of Mullein takes folders only", l.At)
	case l.At == "" || path.IsAbs(l.At) || path.Clean(l.At) != strings.TrimSuffix(l.At, "/") || strings.HasPrefix(l.At, "..") || strings.ContainsAny(l.At, "\\\x00"):
		r.failAt(at, "landing.at %q must be a plain path below a landing root, such as landing/gauges, without \"..\" and not beginning with /", l.At)
	}
	l.At = strings.TrimSuffix(l.At, "/")
	if l.Settle > maxSettle {
		r.failAt(n.get("settle"), "landing.settle: more than a day")
	}
	fold := n.str("case", "exact") == "ignore"
	l.Files = r.pattern(n.get("files"), fold)
	for _, item := range n.get("except").list() {
		if p := r.pattern(item, fold); p != nil {
			l.Except = append(l.Except, p)
		}
	}
	l.SizeFrom, l.SizeTo = n.get("size").size("from"), n.get("size").size("to")
	if l.SizeTo > 0 && l.SizeTo < l.SizeFrom {
		r.failAt(n.get("size"), "landing.size: from is more than to")
	}
	l.Delivery = Delivery(n.str("delivery", string(ByFile)))
	l.SkipBacklog = n.str("backlog", "load") == "skip"
	l.Reissue = Reissue(n.str("reissue", string(ReissueLoad)))
	l.LoadCopies = n.str("copies", "skip") == "load"
	l.StrictOrder = n.flag("strict_order", false)
	if l.Files == nil {
		return l
	}
	l.WholeWhen = r.template(n.get("whole_when"), &l)
	r.lists(n, &l, fold)
	switch n.str("put_away", "leave") {
	case "leave":
	case "delete":
		l.Delete = true
	default:
		l.PutAway = r.folder(n.get("put_away"), &l)
	}
	l.Quarantine = r.folder(n.get("quarantine"), &l)
	return l
}

func (r *reader) lists(n *node, l *Landing, fold bool) {
	listed := n.get("listed_in")
	switch {
	case listed != nil && l.Delivery == ByList:
		l.ListedIn = r.pattern(listed, fold)
	case listed != nil:
		r.failAt(listed, "landing.listed_in is for delivery: list")
	case l.Delivery == ByList:
		r.failAt(n.get("delivery"), "landing.delivery: list needs listed_in, the pattern of the lists")
	case l.Delivery == BySlot && !l.Files.HasSlot():
		r.failAt(n.get("delivery"), "landing.delivery: slot needs {slot:...} in files, which says what belongs together")
	}
}

func (r *reader) template(n *node, l *Landing) *filename.Template {
	if n == nil {
		return nil
	}
	t, err := filename.CompileTemplate(n.text, l.Files.Kinds())
	var syntax *filename.SyntaxError
	if errors.As(err, &syntax) {
		r.failAt(n, "%s", strings.Replace(syntax.Error(), "file pattern", "path", 1))
	}
	return t
}

// folder reads a folder that files are moved to. Inside the landing it must
// begin with a name of its own, or what lies there would be taken again.
func (r *reader) folder(n *node, l *Landing) *filename.Template {
	t := r.template(n, l)
	if t != nil && (t.Fixed() == "" || l.At == t.Fixed() || strings.HasPrefix(l.At+"/", t.Fixed()+"/")) {
		r.failAt(n, "the folder %q must begin with a name of its own, as in done/{slot:%%Y}; it is below the landing's root, beside the landing or inside it", n.text)
	}
	return t
}

func (n *node) size(name string) int64 {
	if v := n.get(name); v != nil {
		size, _ := parseSize(v.text) // the walk has checked it
		return size
	}
	return 0
}

func (r *reader) pattern(n *node, fold bool) *filename.Pattern {
	compile := filename.Compile
	if fold {
		compile = filename.CompileFold
	}
	p, err := compile(n.text)
	var syntax *filename.SyntaxError
	if errors.As(err, &syntax) {
		r.failAt(n, "%s", syntax.Error())
	}
	return p
}

func (r *reader) dialect(n *node) tabular.Dialect {
	d := tabular.DefaultDialect()
	if n == nil {
		return d
	}
	d.Delimiter = n.char("delimiter", d.Delimiter)
	d.QuoteChar = n.char("quoteChar", d.QuoteChar)
	d.CommentChar = n.char("commentChar", 0)
	d.Header = n.flag("header", true)
	if err := d.Check(); err != nil {
		r.failAt(n, "dialect: %v", err)
	}
	return d
}

func (n *node) char(name string, byDefault byte) byte {
	v := n.get(name)
	switch {
	case v == nil:
		return byDefault
	case v.text == "":
		return 0
	}
	return v.text[0]
}

const maxFields = 1000

func (r *reader) schema(n *node, f *Feed) tabular.Schema {
	if n.shape == scalar {
		r.failAt(n, "schema: a file by name: not yet; write the schema here, with fields")
		return tabular.Schema{}
	}
	s := tabular.Schema{
		FieldsMatch:   tabular.FieldsMatch(n.str("fieldsMatch", string(tabular.MatchExact))),
		MissingValues: n.texts("missingValues"),
		PrimaryKey:    n.texts("primaryKey"),
	}
	if s.MissingValues == nil {
		s.MissingValues = []string{""}
	}
	items := n.get("fields").items
	if len(items) == 0 || len(items) > maxFields {
		r.failAt(n.get("fields"), "schema.fields: from 1 to %d fields, not %d", maxFields, len(items))
	}
	sources := map[string]bool{}
	for _, item := range items {
		field := readField(item)
		s.Fields = append(s.Fields, field)
		if source := field.SourceName(); sources[source] {
			r.failAt(item, "two fields read the column %q of the file", source)
		} else {
			sources[source] = true
		}
	}
	for i, item := range items {
		if _, err := s.CompileField(i, f.Zone); err != nil {
			r.failAt(item, "field %s: %v", s.Fields[i].Name, err)
		}
		r.fieldOptions(item, &s.Fields[i])
	}
	if f.Dialect.Header || s.FieldsMatch == tabular.MatchExact {
		r.primaryKey(n, &s)
		return s
	}
	r.failAt(n.get("fieldsMatch"), "schema.fieldsMatch: %s needs a header; without one, columns are taken by position: exact", s.FieldsMatch)
	return s
}

func readField(n *node) tabular.Field {
	f := tabular.Field{
		Name: n.str("name", ""), Title: n.str("title", ""), Description: n.str("description", ""),
		Type: n.str("type", "string"), Format: n.str("format", ""), Source: n.str("source", ""),
		DecimalChar: n.str("decimalChar", ""), GroupChar: n.str("groupChar", ""), SoleNumber: n.flag("bareNumber", true),
		TrueValues: n.texts("trueValues"), FalseValues: n.texts("falseValues"), MissingValues: n.texts("missingValues"),
		ItemType: n.str("itemType", ""), Delimiter: n.str("delimiter", ""),
	}
	k := n.get("constraints")
	f.Constraints = tabular.Constraints{
		Required: k.flag("required", false), Unique: k.flag("unique", false),
		Minimum: k.str("minimum", ""), Maximum: k.str("maximum", ""),
		ExclusiveMinimum: k.str("exclusiveMinimum", ""), ExclusiveMaximum: k.str("exclusiveMaximum", ""),
		MinLength: k.count("minLength"), MaxLength: k.count("maxLength"),
		Pattern: k.str("pattern", ""), Enum: k.texts("enum"),
	}
	return f
}

// fieldOptions refuses options that mean nothing for the field's type, which
// would otherwise be taken silently.
func (r *reader) fieldOptions(n *node, f *tabular.Field) {
	numeric := f.Type == "number" || f.Type == "integer"
	texts := f.Type == "string" || f.Type == "any"
	only := func(key string, ok bool, types string) {
		at := n.get(key)
		if at == nil {
			at = n.get("constraints").get(key)
		}
		if at != nil && !ok {
			r.failAt(at, "field %s: %s is for %s, not for %s", f.Name, key, types, f.Type)
		}
	}
	only("decimalChar", f.Type == "number", "number")
	only("groupChar", numeric, "number and integer")
	only("bareNumber", numeric, "number and integer")
	only("trueValues", f.Type == "boolean", "boolean")
	only("falseValues", f.Type == "boolean", "boolean")
	only("itemType", f.Type == "list", "list")
	only("delimiter", f.Type == "list", "list")
	only("pattern", texts, "string")
	only("minLength", texts, "string")
	only("maxLength", texts, "string")
	ordered := !slices.Contains([]string{"string", "any", "boolean", "object", "array", "list", "geopoint", "geojson"}, f.Type)
	for _, bound := range []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum"} {
		only(bound, ordered, "numbers and times")
	}
	only("format", slices.Contains([]string{"string", "any", "datetime", "date", "time", "yearmonth", "geopoint", "geojson"}, f.Type) || n.str("format", "default") == "default", "strings, times and geopoints")
	if k := f.Constraints; k.MaxLength > 0 && k.MinLength > k.MaxLength {
		r.failAt(n, "field %s: minLength %d is more than maxLength %d", f.Name, k.MinLength, k.MaxLength)
	}
	if f.DecimalChar != "" && f.DecimalChar == f.GroupChar {
		r.failAt(n, "field %s: decimalChar and groupChar are both %q", f.Name, f.DecimalChar)
	}
}

func (r *reader) primaryKey(n *node, s *tabular.Schema) {
	names := make([]string, len(s.Fields))
	for i := range s.Fields {
		names[i] = s.Fields[i].Name
	}
	at := n.get("primaryKey")
	if at == nil || len(s.PrimaryKey) == 0 {
		r.failAt(n, "schema.primaryKey is missing: mode upsert needs the columns that tell one row from another")
		return
	}
	for i, k := range s.PrimaryKey {
		place := at
		if len(at.items) > i {
			place = at.items[i]
		}
		field := s.Field(k)
		switch {
		case field == nil:
			r.failAt(place, "schema.primaryKey: no field %q%s", k, suggestion(k, names))
		case slices.Contains([]string{"object", "array", "list", "geojson", "geopoint"}, field.Type):
			r.failAt(place, "schema.primaryKey: %s is of type %s, which cannot be a key", k, field.Type)
		case slices.Contains(s.PrimaryKey[:i], k):
			r.failAt(place, "schema.primaryKey names %q twice", k)
		}
	}
}

func (r *reader) target(n *node, f *Feed) Target {
	t := Target{Schema: "public", Table: n.str("table", ""), Newest: n.str("newest", ""), Lineage: StandardLineage}
	table := n.get("table")
	if strings.ContainsAny(t.Table, "{}") {
		r.failAt(table, "target.table: {captures}: not yet; name one table")
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
	if t.Schema == "mullein" || t.Schema == "mullein_records" || strings.HasPrefix(t.Schema, "pg_") {
		r.failAt(table, "target.table: the schema %s is not for data; choose another", t.Schema)
	}
	if t.Newest != "" {
		switch field := f.Schema.Field(t.Newest); {
		case field == nil:
			r.failAt(n.get("newest"), "target.newest: no field %q%s", t.Newest, suggestion(t.Newest, f.OwnColumns()))
		case slices.Contains([]string{"object", "array", "list", "geojson", "geopoint"}, field.Type):
			r.failAt(n.get("newest"), "target.newest: %s is of type %s, which has no order", t.Newest, field.Type)
		}
	}
	switch l := n.get("lineage"); {
	case l == nil:
	case l.shape == mapping:
		t.Lineage = Lineage{
			l.str("from_file", ""), l.str("from_line", ""), l.str("from_arrival", ""),
			l.str("loaded_run", ""), l.str("loaded_at", ""), l.str("row_digest", ""),
		}
	case l.text == "none":
		t.Lineage = Lineage{}
	}
	return t
}

func (r *reader) times(n *node, key string) *due.Times {
	cron := n.get("cron")
	if cron == nil {
		return nil
	}
	t, err := due.ParseTimes(cron.text, r.zone(n.get("zone")))
	if err != nil {
		r.failAt(cron, "%s %q: %v", key, cron.text, err)
	}
	return t
}

func (r *reader) when(n *node, f *Feed) When {
	after := n.get("after")
	w := When{
		Times: r.times(n, "when.cron"), AfterAll: after.texts("all"), AfterAny: after.texts("any"),
		Attempts: 5, Pause: n.span("pause", 30*time.Second), TimeLimit: n.span("time_limit", 0),
	}
	w.Arrival = n.flag("arrival", n.get("cron") == nil && after == nil)
	if after != nil && len(w.AfterAll)+len(w.AfterAny) == 0 {
		r.failAt(after, "when.after names no feed; write all: [...] or any: [...]")
	}
	if slices.Contains(w.AfterAll, f.Name) || slices.Contains(w.AfterAny, f.Name) {
		r.failAt(after, "when.after: a feed cannot come after itself")
	}
	if n.get("attempts") != nil {
		w.Attempts = n.count("attempts")
		if w.Attempts < 1 || w.Attempts > 100 {
			r.failAt(n.get("attempts"), "when.attempts: from 1 to 100")
		}
	}
	return w
}

// maxSlots bounds the slots of one time.
const maxSlots = 10_000

func (r *reader) due(n *node, f *Feed) *due.Calendar {
	if n == nil || f.Landing.Files == nil {
		return nil
	}
	late := n.span("late_after", 5*time.Minute)
	c := &due.Calendar{
		Times: r.times(n, "due.cron"), QuietFor: n.span("quiet_for", 0), Files: 1, Late: late, Missing: n.span("missing_after", max(time.Hour, late)),
		Except: map[string]bool{}, Say: n.str("say", ""), Unit: f.Landing.Files.Unit(), NameZone: f.Landing.Zone,
	}
	if (n.get("cron") == nil) == (n.get("quiet_for") == nil) {
		r.failAt(n, "due takes cron, where a schedule is known, or quiet_for, where none is")
	}
	if n.get("files") != nil {
		if c.Files = n.count("files"); c.Files < 1 || c.Files > maxSlots {
			r.failAt(n.get("files"), "due.files: from 1 to %d", maxSlots)
		}
	}
	if c.Missing < c.Late {
		r.failAt(n.get("missing_after"), "due.missing_after is less than late_after")
	}
	for _, day := range n.get("except_days").list() {
		if _, err := time.Parse(time.DateOnly, day.text); err != nil {
			r.failAt(day, "due.except_days: %q is no day; write it as 2026-12-25", day.text)
		}
		c.Except[day.text] = true
	}
	slots := 1
	if per := n.get("per"); per != nil {
		for _, g := range per.fields {
			if kind, ok := f.Landing.Files.Kinds()[g.name]; !ok || kind == '%' {
				r.fail(g.line, g.column, "due.per: {%s} is not a text or a number that landing.files captures%s", g.name, suggestion(g.name, f.Landing.Files.Names()))
			}
			values := per.texts(g.name)
			c.Per = append(c.Per, due.Group{Capture: g.name, Values: values})
			slots *= max(1, len(values))
		}
	}
	if slots > maxSlots {
		r.failAt(n.get("per"), "due.per makes %d slots at a time; %d are the most", slots, maxSlots)
	}
	return c
}

func (r *reader) derive(n *node, f *Feed) []Derived {
	if n == nil {
		return nil
	}
	scope, err := f.Scope()
	if err != nil {
		r.failAt(n, "derive: %v", err)
		return nil
	}
	var out []Derived
	for _, d := range n.fields {
		p, err := scope.Compile(d.value.text)
		var syntax *expression.SyntaxError
		if errors.As(err, &syntax) {
			column := d.value.column
			if syntax.Line == 1 {
				column += syntax.Column - 1
				if d.value.quoted {
					column++
				}
			}
			r.fail(d.value.line+syntax.Line-1, column, "derive.%s: %s", d.name, syntax.Problem)
			continue
		}
		out = append(out, Derived{d.name, d.value.text, p.Kind})
	}
	return out
}

// columns makes sure that the columns of the target have names of their own.
func (r *reader) columns(root *node, f *Feed) {
	taken := map[string]string{}
	claim := func(n *node, name, as string) {
		if name == "" || len(name) > 63 || strings.ContainsRune(name, 0) {
			r.failAt(n, "%q cannot be a column's name: from 1 to 63 bytes", name)
		}
		if by, twice := taken[name]; twice {
			hint := ""
			if as == "a lineage column" {
				hint = "; rename the field and give its name in the file as source, or name the lineage columns yourself"
			}
			r.failAt(n, "column %q is both %s and %s%s", name, by, as, hint)
		}
		taken[name] = as
	}
	for _, item := range root.get("schema").get("fields").list() {
		claim(item, item.str("name", ""), "a field")
	}
	if derive := root.get("derive"); derive != nil {
		for _, d := range derive.fields {
			claim(d.value, d.name, "a derived column")
		}
	}
	at := root.get("target").get("lineage")
	for _, name := range f.Target.Lineage.Names() {
		place := at
		if place == nil {
			place = root.get("target")
			for _, item := range root.get("schema").get("fields").list() {
				if item.str("name", "") == name {
					place = item
				}
			}
		}
		claim(place, name, "a lineage column")
	}
}

func (n *node) list() []*node {
	if n == nil {
		return nil
	}
	return n.items
}
