package feed

import (
	"errors"
	"net/mail"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/due"
	"mullein/internal/core/expression"
	"mullein/internal/core/filename"
	"mullein/internal/core/news"
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
	if root.get("schema").get("kinds") != nil {
		f := r.kinds(root)
		if len(r.problems) > 0 {
			return nil, r.sorted()
		}
		return f, nil
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
	f.Format = decode.Format(root.str("format", string(decode.CSV)))
	f.Encoding = r.encoding(root, f.Format)
	r.nullSequence = root.get("dialect").str("nullSequence", "")
	f.Dialect = r.dialect(root.get("dialect"), f.Format)
	f.Each = r.each(root.get("each"), f.Format)
	f.Schema = r.schema(root.get("schema"), f)
	if t := root.get("tolerate").get("rejects"); t != nil {
		f.Tolerate, _ = parseShare(t.text) // the walk has checked it
	}
	f.Target = r.target(root, f)
	f.When = r.when(root.get("when"), f)
	f.Due = r.due(root.get("due"), f)
	f.Tell = r.tell(root.get("tell"))
	if f.Landing.Delivery == BySlot && f.Due == nil {
		r.failAt(root.get("landing").get("delivery"),
			"landing.delivery: slot needs due, which says what a slot expects")
	}
	r.reissue(root, f)
	f.Private = r.private(root.get("private"), f)
	if len(r.problems) == 0 {
		scope, err := f.Scope()
		if err != nil {
			r.failAt(root, "%v", err)
			return f
		}
		f.Derive = r.derive(root.get("derive"), scope, f.Schema.PrimaryKey)
		r.newestDerived(root, f)
		r.unstored(root, f)
		r.checks(root, f, scope)
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
		d, _ := ParseSpan(v.text) // the walk has checked it
		return d
	}
	return byDefault
}

// texts returns a list's items, a single value as a list of one, nil when absent.
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

// at checks where a landing is, which the key of a name says.
func (r *reader) at(at *node, name string, l *Landing) {
	switch {
	case l.IsFar():
		r.place(at, name, l)
	case l.At == "" || path.IsAbs(l.At) || path.Clean(l.At) != strings.TrimSuffix(l.At, "/") ||
		strings.HasPrefix(l.At, "..") || strings.ContainsAny(l.At, "\\\x00"):
		r.failAt(at, "%s %q must be a plain path below a landing root, such as landing/gauges, without \"..\" "+
			"and not beginning with /", name, l.At)
	}
	l.At = strings.TrimSuffix(l.At, "/")
}

// maxSettle keeps a typing error from holding files for ever.
const maxSettle = 24 * time.Hour

func (r *reader) landing(n *node) Landing {
	l := Landing{At: n.str("at", ""), Zone: r.zone(n.get("zone")), Settle: n.span("settle", 3*time.Second)}
	r.at(n.get("at"), "landing.at", &l)
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
	if with := n.get("with_columns"); with != nil {
		if with.shape == sequence {
			l.WithNames = n.texts("with_columns")
		} else if l.WithCount = n.count("with_columns"); l.WithCount == 0 {
			r.failAt(with, "landing.with_columns: a number of columns, or their names")
		}
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
	for _, key := range []string{"put_away", "quarantine"} {
		if at := n.get(key); at != nil && l.InZip() && at.text != "leave" {
			r.failAt(at, "landing.%s: the members of a zip cannot be moved out of it; leave them", key)
		}
	}
	if _, _, named := SplitPlace(l.At); l.IsFar() && !named && (l.PutAway != nil || l.Quarantine != nil) {
		r.failAt(n.get("at"), "landing.at: where files are put away, write it by the name of its place, as in place:upper-catchment/outgoing")
	}
	if l.IsFar() && l.InZip() {
		r.failAt(n.get("files"), "landing.files: zips at a place are not looked into; only those in a folder of this machine are")
	}
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
		r.failAt(n.get("delivery"), "landing.delivery: slot needs {slot:...} in files, which says what belongs "+
			"together")
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
	if t != nil && (t.Fixed() == "" || l.below() == t.Fixed() || strings.HasPrefix(l.below()+"/", t.Fixed()+"/")) {
		r.failAt(n, "the folder %q must begin with a name of its own, as in done/{slot:%%Y}; it is below the "+
			"landing's root, beside the landing or inside it", n.text)
	}
	return t
}

func (n *node) size(name string) int64 {
	if v := n.get(name); v != nil {
		size, _ := ParseSize(v.text) // the walk has checked it
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

func (r *reader) dialect(n *node, format decode.Format) tabular.Dialect {
	d := tabular.DefaultDialect()
	d.Header = format != decode.Fixed
	if n == nil {
		return d
	}
	d.Delimiter = n.str("delimiter", d.Delimiter)
	d.QuoteChar = n.char("quoteChar", d.QuoteChar)
	d.CommentChar, d.EscapeChar = n.char("commentChar", 0), n.char("escapeChar", 0)
	d.Header, d.DoubleQuote, d.SkipInitialSpace = n.flag("header", d.Header), n.flag("doubleQuote", true),
		n.flag("skipInitialSpace", false)
	d.LineTerminator, d.HeaderJoin = n.str("lineTerminator", ""), n.str("headerJoin", d.HeaderJoin)
	d.HeaderRows, d.CommentRows = n.get("headerRows").counts(), n.get("commentRows").counts()
	d.Property, d.ItemType, d.ItemKeys = n.str("property", ""), n.str("itemType", ""), n.texts("itemKeys")
	d.SheetName, d.SheetNumber = n.str("sheetName", ""), n.count("sheetNumber")
	if err := d.Check(); err != nil {
		r.failAt(n, "dialect: %v", err)
	}
	r.dialectFits(n, format)
	return d
}

// dialectOf says which keys of a dialect mean something for which formats.
var dialectOf = map[string][]decode.Format{
	"delimiter": {decode.CSV}, "quoteChar": {decode.CSV}, "doubleQuote": {decode.CSV}, "escapeChar": {decode.CSV},
	"skipInitialSpace": {decode.CSV},
	"lineTerminator":   {decode.CSV, decode.Fixed}, "nullSequence": {decode.CSV, decode.Fixed, decode.XLSX},
	"header":     {decode.CSV, decode.Fixed, decode.XLSX, decode.JSON, decode.Lines},
	"headerRows": {decode.CSV, decode.Fixed, decode.XLSX},
	"headerJoin": {decode.CSV, decode.XLSX}, "commentRows": {decode.CSV, decode.Fixed, decode.XLSX},
	"commentChar": {decode.CSV, decode.Fixed, decode.XLSX},
	"property":    {decode.JSON}, "itemType": {decode.JSON, decode.Lines}, "itemKeys": {decode.JSON, decode.Lines},
	"sheetNumber": {decode.XLSX}, "sheetName": {decode.XLSX},
}

// dialectFits refuses keys that mean nothing for the format.
func (r *reader) dialectFits(n *node, format decode.Format) {
	for _, f := range n.fields {
		formats := dialectOf[f.name]
		if !slices.Contains(formats, format) {
			var names []string
			for _, of := range formats {
				names = append(names, string(of))
			}
			r.fail(f.line, f.column, "dialect.%s is for %s, not for %s", f.name, strings.Join(names, ", "), format)
		}
	}
}

func (n *node) counts() []int {
	var out []int
	for _, item := range n.list() {
		c, _ := strconv.Atoi(item.text) // the walk has checked it
		out = append(out, c)
	}
	return out
}

func (r *reader) encoding(root *node, format decode.Format) string {
	n := root.get("encoding")
	if n == nil {
		return ""
	}
	if _, err := decode.Charset(n.text); err != nil {
		r.failAt(n, "encoding: %v", err)
	}
	if format == decode.Parquet || format == decode.Avro || format == decode.XLSX {
		r.failAt(n, "encoding is for text; %s says itself how its texts are written", format)
	}
	return n.text
}

func (r *reader) each(n *node, format decode.Format) string {
	if n == nil {
		return ""
	}
	if !format.Trees() {
		r.failAt(n, "each is for json, jsonl, parquet and avro, whose records hold arrays; not for %s", format)
	}
	if n.text == "" || n.text == "*" {
		r.failAt(n, "each is the path of an array within a record, such as results")
	}
	return n.text
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

// MaxFields is how many columns a file may have at most.
const MaxFields = 1000

func (r *reader) schema(n *node, f *Feed) tabular.Schema {
	if n.shape == scalar {
		r.failAt(n, "schema: %q is a file beside the feed file; `mullein feed put` and `feed check` read it and put "+
			"it in this place", n.text)
		return tabular.Schema{}
	}
	if file := n.get("file"); file != nil {
		r.failAt(file, "schema.file: %q is a file beside the feed file; `mullein feed put` and `feed check` read it and put "+
			"its schema in this place", file.text)
		return tabular.Schema{}
	}
	s := tabular.Schema{
		FieldsMatch:   tabular.FieldsMatch(n.str("fieldsMatch", string(tabular.MatchExact))),
		MissingValues: n.texts("missingValues"),
		PrimaryKey:    n.texts("primaryKey"),
	}
	if s.MissingValues == nil && f.Format.Trees() {
		s.MissingValues = []string{} // formats with nulls of their own mean "" when they write it
	} else if s.MissingValues == nil {
		s.MissingValues = []string{""}
	}
	null := r.nullSequence
	if null != "" {
		s.MissingValues = append(s.MissingValues, null)
	}
	if n.get("by") != nil {
		r.failAt(n.get("by"), "schema.by goes with schema.kinds, a schema for each kind")
	}
	if n.get("fields") == nil {
		r.failAt(n, "key \"fields\" is missing in schema")
		return s
	}
	items := n.get("fields").items
	if len(items) == 0 || len(items) > MaxFields {
		r.failAt(n.get("fields"), "schema.fields: from 1 to %d fields, not %d", MaxFields, len(items))
	}
	sources := map[string]bool{}
	for _, item := range items {
		field := readField(item)
		if field.MissingValues != nil && null != "" {
			field.MissingValues = append(field.MissingValues, null)
		}
		s.Fields = append(s.Fields, field)
		if source := field.SourceName(); sources[source] {
			r.failAt(item, "two fields read the column %q of the file", source)
		} else {
			sources[source] = true
		}
	}
	r.furtherKeys(n, &s)
	for i, item := range items {
		if _, err := s.CompileField(i, f.Zone); err != nil {
			r.failAt(item, "field %s: %v", s.Fields[i].Name, err)
		}
		r.fieldOptions(item, &s.Fields[i])
		r.source(item, &s.Fields[i], f)
	}
	if f.Dialect.Header && f.Format != decode.Fixed || f.Format.Trees() || s.FieldsMatch == tabular.MatchExact {
		return s
	}
	r.failAt(n.get("fieldsMatch"), "schema.fieldsMatch: %s needs a header; without one, columns are taken by "+
		"position: exact", s.FieldsMatch)
	return s
}

// furtherKeys reads unique and foreign keys.
func (r *reader) furtherKeys(n *node, s *tabular.Schema) {
	names := make([]string, len(s.Fields))
	for i := range s.Fields {
		names[i] = s.Fields[i].Name
	}
	known := func(at *node, key string, fields []string) {
		if len(fields) == 0 {
			r.failAt(at, "schema.%s: a key without fields", key)
		}
		for i, name := range fields {
			switch field := s.Field(name); {
			case field == nil:
				r.failAt(at, "schema.%s: no field %q%s", key, name, suggestion(name, names))
			case slices.Contains(unordered, field.Type):
				r.failAt(at, "schema.%s: %s is of type %s, which cannot be a key", key, name, field.Type)
			case slices.Contains(fields[:i], name):
				r.failAt(at, "schema.%s names %q twice", key, name)
			}
		}
	}
	for _, item := range n.get("uniqueKeys").list() {
		var fields []string
		for _, f := range item.items {
			fields = append(fields, f.text)
		}
		known(item, "uniqueKeys", fields)
		s.UniqueKeys = append(s.UniqueKeys, fields)
	}
	for _, item := range n.get("foreignKeys").list() {
		to := item.get("reference")
		k := tabular.ForeignKey{Fields: item.texts("fields"), Table: to.str("resource", ""),
			Reference: to.texts("fields")}
		known(item, "foreignKeys", k.Fields)
		if len(k.Fields) != len(k.Reference) {
			r.failAt(item, "schema.foreignKeys: %d fields, and %d columns that they refer to", len(k.Fields),
				len(k.Reference))
		}
		if schema, table, two := strings.Cut(k.Table, "."); !two || schema == "" || table == "" {
			r.failAt(item, "schema.foreignKeys: the resource is a table as schema.table, such as river.station, not "+
				"%q", k.Table)
		}
		s.ForeignKeys = append(s.ForeignKeys, k)
	}
}

// source holds a field's source against the format.
func (r *reader) source(n *node, field *tabular.Field, f *Feed) {
	switch {
	case f.Format == decode.Fixed:
		w, err := decode.ParseWidth(field.Source)
		if err != nil {
			r.failAt(n, "field %s: %v", field.Name, err)
		}
		f.Widths = append(f.Widths, w)
	case f.Format.Trees():
		if err := decode.CheckSource(field.SourceName()); err != nil {
			r.failAt(n, "field %s: %v", field.Name, err)
		}
	}
}

func readField(n *node) tabular.Field {
	f := tabular.Field{
		Name: n.str("name", ""), Title: n.str("title", ""), Description: n.str("description", ""),
		Type: n.str("type", "string"), Format: n.str("format", ""), Source: n.str("source", ""),
		DecimalChar: n.str("decimalChar", ""), GroupChar: n.str("groupChar", ""),
		SoleNumber: n.flag("bareNumber", true),
		TrueValues: n.texts("trueValues"), FalseValues: n.texts("falseValues"), MissingValues: n.texts("missingValues"),
		ItemType: n.str("itemType", ""), Delimiter: n.str("delimiter", ""),
		CutNanoseconds: n.str("nanoseconds", "") == "cut",
		Unstored:       !n.flag("stored", true), Optional: n.flag("optional", false),
	}
	k := n.get("constraints")
	f.Constraints = tabular.Constraints{
		Required: k.flag("required", false), Unique: k.flag("unique", false),
		Minimum: k.str("minimum", ""), Maximum: k.str("maximum", ""),
		ExclusiveMinimum: k.str("exclusiveMinimum", ""), ExclusiveMaximum: k.str("exclusiveMaximum", ""),
		MinLength: k.count("minLength"), MaxLength: k.count("maxLength"),
		Pattern: k.str("pattern", ""), Enum: k.texts("enum"), JSONSchema: k.get("jsonSchema").json(),
	}
	if f.Constraints.Enum == nil {
		f.Constraints.Enum = n.texts("categories")
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
	only("nanoseconds", f.Type == "datetime" || f.Type == "time", "datetime and time")
	only("itemType", f.Type == "list", "list")
	only("delimiter", f.Type == "list", "list")
	only("jsonSchema", f.Type == "object" || f.Type == "array", "object and array")
	only("pattern", texts, "string")
	only("minLength", texts, "string")
	only("maxLength", texts, "string")
	ordered := !slices.Contains([]string{"string", "any", "boolean", "object", "array", "list", "geopoint",
		"geojson"}, f.Type)
	for _, bound := range []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum"} {
		only(bound, ordered, "numbers and times")
	}
	only("format", slices.Contains([]string{"string", "any", "datetime", "date", "time", "yearmonth", "geopoint",
		"geojson"}, f.Type) || n.str("format", "default") == "default", "strings, times and geopoints")
	if k := f.Constraints; k.MaxLength > 0 && k.MinLength > k.MaxLength {
		r.failAt(n, "field %s: minLength %d is more than maxLength %d", f.Name, k.MinLength, k.MaxLength)
	}
	if f.DecimalChar != "" && f.DecimalChar == f.GroupChar {
		r.failAt(n, "field %s: decimalChar and groupChar are both %q", f.Name, f.DecimalChar)
	}
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

// maxRoutes bounds who is told by one feed.
const maxRoutes = 50

func (r *reader) tell(n *node) (out []news.Route) {
	if len(n.list()) > maxRoutes {
		r.failAt(n, "tell: at most %d entries", maxRoutes)
		return nil
	}
	for _, at := range n.list() {
		route := news.Route{By: at.str("by", ""), To: at.str("to", ""), After: at.span("after", 0)}
		for _, k := range at.texts("of") {
			route.Of = append(route.Of, news.Kind(k))
		}
		if _, err := mail.ParseAddress(route.To); err != nil && route.To != "" && route.To != news.ToOwner &&
			route.To != news.ToSupplier {
			r.failAt(at.get("to"), "tell.to: %q is neither owner nor supplier nor a mail address", route.To)
		}
		out = append(out, route)
	}
	return out
}

// maxSlots bounds the slots of one time.
const maxSlots = 10_000

func (r *reader) due(n *node, f *Feed) *due.Calendar {
	if n == nil || f.Landing.Files == nil {
		return nil
	}
	late := n.span("late_after", 5*time.Minute)
	c := &due.Calendar{
		Times: r.times(n, "due.cron"), QuietFor: n.span("quiet_for", 0), Files: 1, Late: late,
		Missing: n.span("missing_after", max(time.Hour, late)),
		Except:  map[string]bool{}, Say: n.str("say", ""), Unit: f.Landing.Files.Unit(), NameZone: f.Landing.Zone,
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
				r.fail(g.line, g.column, "due.per: {%s} is not a text or a number that landing.files captures%s",
					g.name, suggestion(g.name, f.Landing.Files.Names()))
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

func (r *reader) derive(n *node, scope *expression.Scope, key []string) []Derived {
	if n == nil {
		return nil
	}
	var out []Derived
	for _, d := range n.fields {
		if p := r.expression(d.value, scope, "derive."+d.name); p != nil {
			c := Derived{Name: d.name, Expression: d.value.text, Kind: p.Kind, Reads: p.Reads}
			if slices.Contains(key, c.Name) && c.OfRun() {
				r.failAt(d.value, "derive.%s says something of the run, so it cannot be part of the key: each run "+
					"would have rows of its own", c.Name)
			}
			out = append(out, c)
		}
	}
	return out
}

// unstored refuses to do with fields that are not stored, of a feed and of each of its
// kinds, what needs their column.
func (r *reader) unstored(root *node, f *Feed) {
	for _, kind := range f.ByKind {
		r.unstoredOf(root, &Feed{Schema: kind.Schema, Derive: f.Derive, Target: f.Target})
	}
	if len(f.Schema.Fields) > 0 {
		r.unstoredOf(root, f)
	}
}

func (r *reader) unstoredOf(root *node, f *Feed) {
	for _, name := range f.Unstored() {
		why := ""
		switch {
		case slices.Contains(f.Schema.PrimaryKey, name):
			why = "schema.primaryKey"
		case f.Target.Newest == name:
			why = "target.newest"
		case f.Target.Part == name:
			why = "target.part"
		case f.Target.Merge[name] != "":
			why = "target.merge"
		case f.Schema.Field(name).Constraints.Unique:
			why = "its constraint unique"
		case slices.ContainsFunc(f.Schema.UniqueKeys, func(k []string) bool { return slices.Contains(k, name) }):
			why = "schema.uniqueKeys"
		case slices.ContainsFunc(f.Schema.ForeignKeys,
			func(k tabular.ForeignKey) bool { return slices.Contains(k.Fields, name) }):
			why = "schema.foreignKeys"
		}
		if why != "" {
			r.failAt(root.get("schema"), "field %s: stored is false, and %s needs its column; derive one of it, or "+
				"store it", name, why)
		}
	}
	if len(f.OwnColumns()) == 0 {
		r.failAt(root.get("schema"), "no field is stored, and nothing is derived: the target would have no columns")
	}
}

// newestDerived refuses derived columns by which no newest row can be told.
func (r *reader) newestDerived(root *node, f *Feed) {
	for _, d := range f.Derive {
		if d.Name != f.Target.Newest {
			continue
		}
		if d.OfRun() {
			r.failAt(root.get("target").get("newest"),
				"target.newest: %s says something of the run, not of the row; write  newest: arrival", d.Name)
		}
	}
}

// expression compiles one; nil when something is wrong with it.
func (r *reader) expression(n *node, scope *expression.Scope, as string) *expression.Program {
	if n == nil {
		return nil
	}
	p, err := scope.Compile(n.text)
	if err != nil {
		r.expressionError(n, as, err)
		return nil
	}
	return p
}

func (r *reader) expressionError(n *node, as string, err error) {
	var syntax *expression.SyntaxError
	if !errors.As(err, &syntax) {
		r.failAt(n, "%s: %v", as, err)
		return
	}
	column := n.column
	if syntax.Line == 1 {
		column += syntax.Column - 1
		if n.quoted {
			column++
		}
	}
	r.fail(n.line+syntax.Line-1, column, "%s: %s", as, syntax.Problem)
}

// truth compiles an expression that must be true or false and returns its text.
func (r *reader) truth(n *node, scope *expression.Scope, as string) string {
	p := r.expression(n, scope, as)
	if p == nil {
		return ""
	}
	if p.Kind != tabular.Boolean {
		r.failAt(n, "%s must be true or false; this gives %s", as, p.Kind)
	}
	return n.text
}

var checkName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// checks reads all that stands under checks, leave_out and delete_when.
func (r *reader) checks(root *node, f *Feed, scope *expression.Scope) {
	f.LeaveOut = r.truth(root.get("leave_out"), scope, "leave_out")
	f.DeleteWhen = r.truth(root.get("delete_when"), scope, "delete_when")
	n := root.get("checks")
	file := n.get("file")
	c := &f.Checks
	c.RowsFrom, c.RowsTo = int64(file.get("rows").count("from")), int64(file.get("rows").count("to"))
	c.MayBeEmpty = file.get("rows").get("from") != nil && c.RowsFrom == 0
	if c.RowsTo > 0 && c.RowsTo < c.RowsFrom {
		r.failAt(file.get("rows"), "checks.file.rows: from is more than to")
	}
	c.Checksum = r.template(file.get("checksum"), &f.Landing)
	if line := file.get("trailer").get("line"); line != nil {
		c.Trailer = r.trailer(line, f)
	}
	taken := []string{"rows", "checksum", "trailer"}
	named := func(item *node, byDefault check.Else) check.Check {
		k := check.Check{Name: item.str("name", ""), Must: item.str("must", ""),
			Else: check.Else(item.str("else", string(byDefault)))}
		if !checkName.MatchString(k.Name) {
			r.failAt(item.get("name"), "%q cannot be a check's name; use a-z, 0-9 and _", k.Name)
		}
		if slices.Contains(taken, k.Name) {
			r.failAt(item.get("name"), "two checks are called %q", k.Name)
		}
		taken = append(taken, k.Name)
		return k
	}
	for _, item := range n.get("row").list() {
		k := named(item, check.Reject)
		r.truth(item.get("must"), scope, "checks.row."+k.Name)
		c.Row = append(c.Row, k)
	}
	kinds, err := f.ColumnKinds()
	if err != nil {
		return
	}
	for _, item := range n.get("delivery").list() {
		k := named(item, check.Refuse)
		if _, err := check.Compile(k, kinds, taken); err != nil {
			r.expressionError(item.get("must"), "checks.delivery."+k.Name, err)
		}
		c.Delivery = append(c.Delivery, k)
	}
	if len(c.Row)+len(c.Delivery) > maxChecks {
		r.failAt(n, "checks: %d of rows and deliveries; %d are the most", len(c.Row)+len(c.Delivery), maxChecks)
	}
}

const maxChecks = 200

func (r *reader) trailer(n *node, f *Feed) *regexp.Regexp {
	re, err := regexp.Compile(n.text)
	if err != nil {
		r.failAt(n, "checks.file.trailer.line: %v", err)
		return nil
	}
	if f.Format != decode.CSV && f.Format != decode.Fixed && f.Format != decode.Lines {
		r.failAt(n, "checks.file.trailer is for files made of lines, not for %s", f.Format)
	}
	for _, g := range re.SubexpNames() {
		if g == "" {
			continue
		}
		if field := f.Schema.Field(g); g != "rows" && (field == nil || field.Type != "number" &&
			field.Type != "integer") {
			r.failAt(n, "checks.file.trailer.line: the group %q is neither rows nor a field of numbers", g)
		}
	}
	return re
}

func (r *reader) private(n *node, f *Feed) []string {
	var out []string
	for _, item := range n.list() {
		if f.Schema.Field(item.text) == nil {
			var names []string
			for i := range f.Schema.Fields {
				names = append(names, f.Schema.Fields[i].Name)
			}
			r.failAt(item, "private: no field %q%s", item.text, suggestion(item.text, names))
		}
		out = append(out, item.text)
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
		if IsSystemColumn(name) {
			r.failAt(n, "column %q: every table of PostgreSQL has one of that name for itself; choose another, and "+
				"give the name in the file as source", name)
		}
		if by, twice := taken[name]; twice {
			hint := ""
			if as == "a lineage column" {
				hint = "; rename the field and give its name in the file as source, or name the lineage columns " +
					"yourself"
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

// IsSystemColumn reports whether PostgreSQL keeps a column's name for itself.
func IsSystemColumn(name string) bool {
	return slices.Contains([]string{"ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"}, name)
}

func (n *node) list() []*node {
	if n == nil {
		return nil
	}
	return n.items
}
