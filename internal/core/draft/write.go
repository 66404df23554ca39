package draft

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
)

var plainText = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.]*$`)

// quoted writes a text for YAML, in quotes where it needs them.
func quoted(s string) string {
	if plainText.MatchString(s) {
		return s
	}
	return strconv.Quote(s)
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// systemColumns are names that every table of PostgreSQL has columns of.
var systemColumns = []string{"tableoid", "xmin", "cmin", "xmax", "cmax", "ctid"}

// columnNames makes the columns' names of what stands in the file: of a path its
// last part, with those before it where another has the same.
func (k *kind) columnNames() []string {
	parts := make([][]string, len(k.table.columns))
	counts := map[string]int{}
	for i, c := range k.table.columns {
		parts[i] = []string{c.source}
		if c.source == "*" {
			parts[i] = []string{"record"}
			counts["record"]++
			continue
		}
		if k.shape.format.Trees() {
			below := strings.TrimPrefix(c.source, k.shape.each)
			parts[i] = strings.FieldsFunc(below, func(r rune) bool {
				return r == '/' || r == '.' &&
					!strings.HasPrefix(c.source, "/")
			})
		}
		if len(parts[i]) == 0 {
			parts[i] = []string{""}
		}
		counts[parts[i][len(parts[i])-1]]++
	}
	out, taken := make([]string, len(parts)), map[string]bool{}
	for _, name := range slices.Concat(feed.StandardLineage.Names(), systemColumns) {
		taken[name] = true
	}
	for i, p := range parts {
		name := plain(p[len(p)-1], "_")
		if counts[p[len(p)-1]] > 1 {
			name = plain(strings.Join(p, "_"), "_")
		}
		out[i] = name
		for n := 2; taken[out[i]]; n++ {
			out[i] = fmt.Sprintf("%s_%d", name, n)
		}
		taken[out[i]] = true
	}
	return out
}

// humps is where a capital begins a word.
var humps = regexp.MustCompile(`([a-z])([A-Z])`)

// plain makes a name of small letters and digits.
func plain(s, between string) string {
	s = humps.ReplaceAllString(s, "${1} ${2}")
	s = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "é", "e", "è", "e").Replace(strings.ToLower(s))
	var b strings.Builder
	for _, r := range s {
		if r > unicode.MaxASCII {
			r = '_'
		}
		b.WriteRune(r)
	}
	name := strings.Trim(notName.ReplaceAllString(b.String(), between), between)
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		name = strings.Trim("c"+between+name, between)
	}
	return strings.Trim(name[:min(len(name), 50)], between)
}

// decided is what a feed file says of a kind.
type decided struct {
	types   []found
	columns []string // their names in the table
	key     keyChoice
	keys    []string // the names of the key's columns
	derive  []string // lines of derived columns
	trailer string   // a regular expression; "" for none
	about   string   // beside the trailer
	at      *placed  // in a table that is there; nil to make one
	lineage string
}

// decide finds out what the feed file says. schema lies beside the files; nil for none.
func (k *kind) decide(o Options, schema *given) *decided {
	t := k.table
	d := &decided{types: make([]found, len(t.columns)), lineage: "standard"}
	for i, c := range t.columns {
		d.types[i] = c.judge()
		if t.headers > 0 {
			d.types[i].missing = append(d.types[i].missing, c.source)
		}
	}
	d.columns = k.columnNames()
	d.key = t.chooseKey(d.types, d.columns, &k.naming)
	if schema != nil {
		k.follow(schema, d)
	}
	if o.Into != nil {
		k.goInto(o.Into, d)
	}
	d.trailer, d.about = t.trailer(d.types, d.columns)
	if strings.HasPrefix(d.about, "uncertain") {
		k.shape.notes = append(k.shape.notes, d.about)
	}
	for _, c := range d.key.columns {
		d.keys = append(d.keys, d.columns[c])
	}
	derived, lines := k.derived(d.key, d.columns)
	d.keys, d.derive = append(d.keys, derived...), lines
	return d
}

// follow takes types and key of a schema that lies beside the files.
func (k *kind) follow(schema *given, d *decided) {
	schema.apply(k.table.columns, d.types)
	k.shape.notes = append(k.shape.notes, "types and constraints are those of "+schema.path)
	if own, note := schema.keyOf(k.table); own != nil {
		d.key.columns, d.key.captures, d.key.notes = own, nil, []string{note}
	} else if note != "" {
		d.key.notes = append(d.key.notes, note)
	}
}

// goInto has the feed end in a table that is there.
func (k *kind) goInto(into *Into, d *decided) {
	d.at = into.place(k.table, d.types)
	d.lineage = d.at.lineage
	k.shape.notes = append(k.shape.notes, d.at.notes...)
	own, note := d.at.key(k.table)
	d.key = keyChoice{columns: own, notes: []string{note}, newest: d.at.named(d.key.newest, d.columns), reason: d.key.reason}
	for i, to := range d.at.to {
		d.columns[i] = cmp.Or(to, d.columns[i])
	}
}

// write writes the feed file, and what of it is sure. schema lies beside the files; nil for
// none.
func (k *kind) write(name string, o Options, schema *given) (Feed, error) {
	d := k.decide(o, schema)
	if d.at != nil && !slices.ContainsFunc(d.at.to, func(to string) bool { return to != "" }) {
		return Feed{}, fmt.Errorf("no column of %s is like one of %s", k.paths[0], o.Into.Table)
	}
	leaveOut, why := k.leaveOut(d)
	out := Feed{Name: name, Table: "public." + strings.ReplaceAll(name, "-", "_"), Files: k.paths, Rows: k.table.rows}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	k.writeFiles(line, name, o.At, d.reissue())
	k.writeFields(line, d)
	line("")
	if len(d.derive) > 0 {
		line("derive:")
		for _, derived := range d.derive {
			line("  %s", derived)
		}
		line("")
	}
	if leaveOut != "" {
		line("leave_out: %s%s", leaveOut, comment(why))
		line("")
	}
	if d.trailer != "" {
		line("checks:")
		line("  file:")
		line("    trailer: {line: %s}%s", single(d.trailer), comment(d.about))
		line("")
	}
	line("tolerate: {rejects: 0}")
	line("")
	line("target:")
	if o.Into != nil {
		out.Table = o.Into.Table
		if o.Into.Connection != feed.MainConnection {
			line("  connection: %s", o.Into.Connection)
		}
	}
	line("  table: %s", out.Table)
	k.writeTarget(line, d.key, len(d.keys) > 0)
	line("  lineage: %s", d.lineage)
	out.Text = b.String()
	k.summary(&out, d)
	return out, nil
}

// reissue says what becomes of a file that comes again, where rows have no key; "" where they
// have one.
func (d *decided) reissue() string {
	switch {
	case len(d.keys) > 0:
		return ""
	case d.lineage == "standard" || strings.Contains(d.lineage, "from_arrival"):
		return "replace" + comment("rows have no key: a file that comes again takes the place of what it was")
	}
	return "skip" + comment("rows have no key, and no lineage says which rows are whose: a file that comes again is left")
}

// leaveOut returns the expression that leaves out rows without any value; "" where there are
// none. A header that comes again is one, as the names of columns stand for no value then.
func (k *kind) leaveOut(d *decided) (expression, why string) {
	var what []string
	if n := k.table.headers; n > 0 {
		what = append(what, fmt.Sprintf("%d say the header again", n))
	}
	if n := k.table.hollow; n > 0 {
		what = append(what, fmt.Sprintf("%d have nothing but delimiters", n))
	}
	if len(what) == 0 {
		return "", ""
	}
	var blank []string
	for _, c := range d.columns {
		blank = append(blank, fmt.Sprintf("row.%s == null", c))
	}
	return single(strings.Join(blank, " && ")), "rows without a value: " + strings.Join(what, ", ")
}

// derived returns the columns that only the names of files tell and that are part of the
// key, and their lines.
func (k *kind) derived(key keyChoice, columns []string) (names, lines []string) {
	for _, c := range key.captures {
		name, value := c, "file.captures."+c
		if c == "slot" {
			switch {
			case k.naming.slot == "%Y":
				name, value = "year", value+".getFullYear()"
			default:
				name = "file_time"
			}
		}
		for n := 2; slices.Contains(columns, name) || slices.Contains(names, name); n++ {
			name = fmt.Sprintf("%s_%d", strings.TrimRight(name, "_0123456789"), n)
		}
		names = append(names, name)
		lines = append(lines, fmt.Sprintf("%s: %s%s", name, value, comment("only the name of the file tells it")))
	}
	return names, lines
}

func (k *kind) writeTarget(line printer, key keyChoice, keyed bool) {
	if !keyed {
		line("  mode: append%s", comment(strings.Join(key.notes, "; ")))
		for _, n := range key.near {
			line("  # as a key, %s", n)
		}
		return
	}
	if key.newest != "" {
		line("  newest: %s%s", key.newest, comment(key.reason))
	}
	if key.absent != "" {
		line("  absent: keep%s", comment(key.absent))
	}
}

// printer writes a line.
type printer func(format string, args ...any)

// writeFiles writes which files belong, and how they are read.
func (k *kind) writeFiles(line printer, name, at, reissue string) {
	line("# A draft from %s. Look at each comment that says \"uncertain\".", k.looked())
	line("feed: %s", name)
	line("")
	line("landing:")
	line("  at: %s", quoted(at))
	line("  files: %q%s", k.naming.pattern.String(), comment(strings.Join(k.naming.notes, "; ")))
	if k.naming.fold {
		line("  case: ignore")
	}
	if k.withColumns != "" {
		line("  with_columns: %s%s", k.withColumns, comment("files of another kind come under the same names"))
	}
	if reissue != "" {
		line("  reissue: %s", reissue)
	}
	line("")
	for _, n := range k.shape.notes {
		line("%s", strings.TrimSpace(comment(n)))
	}
	line("format: %s", k.shape.format)
	if k.shape.charset != "" {
		line("encoding: %s", k.shape.charset)
	}
	if d := k.dialect(); d != "" {
		line("dialect: {%s}", d)
	}
	if k.shape.each != "" {
		line("each: %s%s", quoted(k.shape.each), comment("a row for each element; the rest of the record is repeated"))
	}
	line("")
}

// looked says how much was looked at.
func (k *kind) looked() string {
	files := fmt.Sprintf("%d files", len(k.paths))
	if len(k.paths) == 1 {
		files = "one file"
	}
	if n := len(k.table.files); n < len(k.paths) {
		files = fmt.Sprintf("%d of %d files", n, len(k.paths))
	}
	rows := fmt.Sprintf("all %d rows", k.table.rows)
	if k.table.rows == 1 {
		rows = "one row"
	}
	switch {
	case k.table.partly && len(k.table.files) == 1:
		rows = fmt.Sprintf("its first %d rows", k.table.rows)
	case k.table.partly:
		rows = fmt.Sprintf("the first rows of each, %d in all", k.table.rows)
	}
	return files + ", " + rows
}

// fieldsMatch says how files fit the schema; "" for the default.
func (k *kind) fieldsMatch() (match, note string) {
	switch {
	case k.shape.format == decode.JSON || k.shape.format == decode.Lines:
		return "subset", "further keys of records are passed over"
	case k.shape.format.Native() && k.shape.format.Trees():
		return "equal", "a column that is renamed or missing refuses the file"
	case k.drifts || k.order:
		return "equal", "files have their columns in other orders, or lack some"
	}
	return "", ""
}

// writeFields writes the schema.
func (k *kind) writeFields(line printer, d *decided) {
	line("schema:")
	if match, note := k.fieldsMatch(); match != "" {
		line("  fieldsMatch: %s%s", match, comment(note))
	}
	line("  fields:")
	byPosition := k.shape.format == decode.CSV && !k.shape.dialect.Header
	for i, c := range k.table.columns {
		f := d.types[i]
		parts := []string{"name: " + d.columns[i]}
		if f.kind != "string" {
			parts = append(parts, "type: "+f.kind)
		}
		if k.shape.widths != nil {
			parts = append(parts, fmt.Sprintf("source: \"%d-%d\"", k.shape.widths[i].From, k.shape.widths[i].To))
		} else if c.source != d.columns[i] && !byPosition {
			parts = append(parts, fmt.Sprintf("source: %s", strconv.Quote(c.source)))
		}
		parts = append(parts, f.options()...)
		if k.optional(c) {
			parts = append(parts, "optional: true")
		}
		if d.at != nil && d.at.to[i] == "" {
			parts = append(parts, "stored: false")
		}
		constraints := maps.Clone(f.constraints)
		if slices.Contains(d.key.columns, i) && k.table.headers+k.table.hollow == 0 {
			if constraints == nil {
				constraints = map[string]any{}
			}
			constraints["required"] = true
		}
		if len(constraints) > 0 {
			parts = append(parts, "constraints: "+flow(constraints))
		}
		line("    - {%s}%s", strings.Join(parts, ", "), comment(f.note))
	}
	if len(d.keys) > 0 {
		line("  primaryKey: [%s]%s", strings.Join(d.keys, ", "), comment(strings.Join(d.key.notes, "; ")))
	}
}

// flow writes constraints on one line.
func flow(constraints map[string]any) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(constraints)) {
		value, err := json.Marshal(constraints[name])
		if err == nil {
			parts = append(parts, name+": "+string(value))
		}
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// optional reports whether files may lack a column.
func (k *kind) optional(c *column) bool {
	return c.absent > 0 || c.node != nil && c.node.rare
}

// summary says in a few words what is sure and what is not.
func (k *kind) summary(out *Feed, d *decided) {
	out.Sure = append(out.Sure, k.looked()+" read as "+string(k.shape.format))
	where := "no key: rows are added"
	if len(d.keys) > 0 {
		where = fmt.Sprintf("the key [%s] loses none of them", strings.Join(d.keys, ", "))
	}
	out.Sure = append(out.Sure, where)
	unsure := func(at, note string) {
		for _, part := range strings.Split(note, "; ") {
			if text, is := strings.CutPrefix(part, "uncertain: "); is {
				out.Unsure = append(out.Unsure, at+": "+text)
			}
		}
	}
	for _, n := range k.naming.notes {
		unsure("files", n)
	}
	for _, n := range k.shape.notes {
		unsure("format", n)
	}
	for i, f := range d.types {
		unsure(d.columns[i], f.note)
	}
	for _, n := range d.key.notes {
		unsure("key", n)
	}
	if k.table.partly && len(d.keys) > 0 {
		out.Unsure = append(out.Unsure, "key: further rows were not looked at")
	}
	if len(d.keys) == 0 && k.table.rows > 0 {
		out.Unsure = append(out.Unsure, "key: "+d.key.notes[0])
	}
	if d.key.absent != "" {
		out.Unsure = append(out.Unsure, "absent: "+d.key.absent)
	}
}

// single writes a text for YAML in single quotes.
func single(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

func comment(note string) string {
	if note == "" {
		return ""
	}
	note = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError || r == '\u2028' || r == '\u2029' || r == '\uFEFF' {
			return ' '
		}
		return r
	}, note)
	return "  # " + strings.Join(strings.Fields(note), " ")
}

// dialect writes what is not as the standard has it.
func (k *kind) dialect() string {
	d := k.shape.dialect
	var parts []string
	if k.shape.format == decode.CSV {
		if d.Delimiter != "," {
			parts = append(parts, fmt.Sprintf("delimiter: %q", d.Delimiter))
		}
		if d.CommentChar != 0 {
			parts = append(parts, fmt.Sprintf("commentChar: %q", string(d.CommentChar)))
		}
		if d.SkipInitialSpace {
			parts = append(parts, "skipInitialSpace: true")
		}
		if !d.Header {
			parts = append(parts, "header: false")
		}
		if d.CommentRows != nil {
			parts = append(parts, "commentRows: "+numbers(d.CommentRows))
		}
	}
	if k.shape.format == decode.Fixed {
		if d.CommentChar != 0 {
			parts = append(parts, fmt.Sprintf("commentChar: %q", string(d.CommentChar)))
		}
		if d.Header {
			parts = append(parts, "header: true")
		}
	}
	if d.HeaderRows != nil {
		parts = append(parts, "headerRows: "+numbers(d.HeaderRows))
	}
	return strings.Join(parts, ", ")
}

func numbers(of []int) string { return strings.Join(strings.Fields(fmt.Sprint(of)), ", ") }
