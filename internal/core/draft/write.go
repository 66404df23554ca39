package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"mullein/internal/core/decode"
)

// keyTry is columns that may tell one row from another.
type keyTry struct {
	columns []int
	seen    map[string]bool
	failed  bool
}

const (
	maxKeyColumns = 8 // that are tried together
	maxKeyText    = 64
)

// note holds the row that was added last against the keys that are still
// possible.
func (t *table) note() {
	if t.keys == nil {
		n := min(len(t.columns), maxKeyColumns)
		for i := range t.columns {
			t.keys = append(t.keys, keyTry{columns: []int{i}, seen: map[string]bool{}})
		}
		for i := range n {
			for k := i + 1; k < n; k++ {
				t.keys = append(t.keys, keyTry{columns: []int{i, k}, seen: map[string]bool{}})
			}
		}
		for i := range n {
			for k := i + 1; k < n; k++ {
				for m := k + 1; m < n; m++ {
					t.keys = append(t.keys, keyTry{columns: []int{i, k, m}, seen: map[string]bool{}})
				}
			}
		}
	}
	for i := range t.keys {
		k := &t.keys[i]
		if k.failed {
			continue
		}
		var b strings.Builder
		for _, c := range k.columns {
			last := t.columns[c].last
			k.failed = k.failed || last == "" || len(last) > maxKeyText
			b.WriteString(last)
			b.WriteByte(0)
		}
		if k.failed = k.failed || k.seen[b.String()]; k.failed {
			k.seen = nil
			continue
		}
		k.seen[b.String()] = true
	}
}

var plainText = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.]*$`)

// quoted writes a text for YAML, in quotes where it needs them.
func quoted(s string) string {
	if plainText.MatchString(s) {
		return s
	}
	return strconv.Quote(s)
}

// keyable reports whether columns of a type may be in a key.
func keyable(kind string) bool {
	return !slices.Contains([]string{"object", "array", "list", "geojson", "geopoint"}, kind)
}

// key chooses the columns that tell rows apart: few, to the left, and no
// measurements. There are none where no column can be in a key.
func (t *table) key(types []found, names []string) (columns []int, note string) {
	fits := func(k keyTry) bool {
		for _, c := range k.columns {
			kind := types[c].kind
			if kind == "number" || kind == "boolean" || kind == "duration" || !keyable(kind) || !types[c].required {
				return false
			}
		}
		return !k.failed
	}
	var possible []keyTry
	for _, k := range t.keys {
		if fits(k) {
			possible = append(possible, k)
		}
	}
	if len(possible) == 0 {
		for i, f := range types {
			if f.required && f.kind != "number" && keyable(f.kind) && len(columns) < maxKeyColumns {
				columns = append(columns, i)
			}
		}
		if len(columns) == 0 {
			first := slices.IndexFunc(types, func(f found) bool { return keyable(f.kind) })
			if first < 0 {
				return nil, "uncertain: no column can be a key; the rows of each file are added to those that are there"
			}
			columns = []int{first}
		}
		return columns, "uncertain: no few columns tell all rows apart; of rows alike in these, the last is kept"
	}
	best := possible[0]
	if rest := t.withoutNewest(best.columns, types); len(rest) > 0 && len(rest) < len(best.columns) {
		return rest, "rows alike in these differ in when they were revised: the newest is kept"
	}
	if at := t.timeOfFile(types); at >= 0 && !slices.Contains(best.columns, at) {
		columns = append(slices.Clone(best.columns), at)
		return columns, fmt.Sprintf("uncertain: %s is the same in all rows of the one file that was seen, and taken "+
			"for its time", names[at])
	}
	if len(best.columns) == 1 && t.rows > 1 {
		note = "uncertain where only few rows were seen"
		if t.rows >= 100 {
			note = ""
		}
	}
	var others []string
	for _, k := range possible[1:] {
		if len(k.columns) == len(best.columns) && len(others) < 3 {
			var with []string
			for _, c := range k.columns {
				with = append(with, names[c])
			}
			others = append(others, strings.Join(with, " with "))
		}
	}
	if len(others) > 0 {
		note = strings.TrimPrefix(note+"; also unique: "+strings.Join(others, "; "), "; ")
	}
	return best.columns, note
}

// withoutNewest leaves out the columns that only say which row is the newest.
func (t *table) withoutNewest(columns []int, types []found) []int {
	return slices.DeleteFunc(slices.Clone(columns), func(c int) bool {
		return revised.MatchString(t.columns[c].source) && (types[c].kind == "datetime" || types[c].kind == "date")
	})
}

// timeOfFile finds a time that is the same in all rows; -1 for none.
func (t *table) timeOfFile(types []found) int {
	for i, c := range t.columns {
		if (types[i].kind == "datetime" || types[i].kind == "date") && types[i].required && len(c.texts) == 1 &&
			t.rows > 1 && !revised.MatchString(c.source) {
			return i
		}
	}
	return -1
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// columnNames makes the columns' names of what stands in the file: of a path its
// last part, with those before it where another has the same.
func (k *kind) columnNames() []string {
	parts := make([][]string, len(k.table.columns))
	counts := map[string]int{}
	for i, c := range k.table.columns {
		parts[i] = []string{c.source}
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

// plain makes a name of small letters and digits.
func plain(s, between string) string {
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

// feedName makes a feed's name of what its files have in common.
func feedName(paths []string) string {
	pattern, _ := dated(tail(paths[0]))
	pattern = regexp.MustCompile(`\{[^}]*\}|\.(?i:zip)/`).ReplaceAllString(stem(pattern), " ")
	words := strings.FieldsFunc(pattern, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	var common []string
	for _, w := range words {
		all := true
		for _, p := range paths {
			all = all && strings.Contains(tail(p), w)
		}
		if all && strings.ContainsFunc(w, unicode.IsLetter) {
			common = append(common, w)
		}
	}
	if len(common) == 0 {
		common = []string{"files"}
	}
	return plain(strings.Join(common, " "), "-")
}

// pattern makes the pattern of the files, with what varies captured.
func (k *kind) pattern() (pattern, note string) {
	var rows [][]string
	exts := map[string]bool{}
	deep, deepInZip := false, false
	for _, p := range k.paths {
		base := tail(p)
		zip, member := inZip(p)
		deep = deep || strings.Contains(zip, "/") || zip == "" && base != p
		deepInZip = deepInZip || strings.Contains(member, "/")
		s := stem(base)
		exts[strings.TrimPrefix(base, s)] = true
		d, _ := dated(s)
		rows = append(rows, pieces.FindAllString(d, -1))
	}
	var b strings.Builder
	if deep {
		b.WriteString("**/")
	}
	captured := 0
	zip, _ := inZip(k.paths[0])
	if alike(rows) {
		captured = capture(&b, rows)
	} else if zip != "" {
		b.WriteString("*.zip/*")
		note = "uncertain: the names have no form in common"
	} else {
		slot := slices.IndexFunc(rows[0], isSlot)
		b.WriteString("*")
		if slot >= 0 {
			b.WriteString(rows[0][slot] + "*")
		}
		note = "uncertain: the names have no form in common"
	}
	var ends []string
	for e := range exts {
		ends = append(ends, literal(e))
	}
	slices.Sort(ends)
	if len(ends) == 1 {
		b.WriteString(ends[0])
	} else {
		for i := range ends {
			ends[i] = strings.TrimPrefix(ends[i], ".")
		}
		b.WriteString(".(" + strings.Join(ends, "|") + ")")
	}
	switch {
	case captured > 0:
		note = "what varies in the names is captured as part; give it its name"
	case len(k.paths) == 1 && !strings.Contains(b.String(), "{slot"):
		note = "uncertain: one file was seen, and its name carries no date"
	}
	out := b.String()
	if deepInZip {
		out = strings.Replace(out, zipped, zipped+"**/", 1)
	}
	return out, note
}

// literal writes a text as a pattern that it fits.
func literal(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch r {
		case '(', ')', '|', '*', '?', '{', '}':
			b.WriteString("[" + string(r) + "]")
		case '[', ']', '\\':
			b.WriteByte('?')
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func isSlot(piece string) bool { return strings.HasPrefix(piece, "{slot") }

// alike reports whether names have the same form: as many pieces, and the date at
// the same place.
func alike(rows [][]string) bool {
	for _, r := range rows {
		if len(r) != len(rows[0]) || slices.IndexFunc(r, isSlot) != slices.IndexFunc(rows[0], isSlot) {
			return false
		}
	}
	return true
}

// capture writes what names of one form have in common, and captures the rest.
func capture(b *strings.Builder, rows [][]string) (captured int) {
	for i, piece := range rows[0] {
		same := true
		for _, r := range rows {
			same = same && r[i] == piece
		}
		switch {
		case same && isSlot(piece):
			b.WriteString(piece)
		case same:
			b.WriteString(literal(piece))
		case captured == 0:
			b.WriteString("{part}")
			captured++
		default:
			captured++
			fmt.Fprintf(b, "{part%d}", captured)
		}
	}
	return captured
}

var revised = regexp.MustCompile(`(?i)(revis|updat|modif|chang|corrected|version)`)

// write writes the feed file.
func (k *kind) write(name, at string) string {
	t := k.table
	types := make([]found, len(t.columns))
	for i, c := range t.columns {
		types[i] = c.judge()
	}
	columns := k.columnNames()
	key, keyNote := t.key(types, columns)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	k.writeFiles(line, name, at)
	newest := k.writeFields(line, types, columns, key)
	var keys []string
	for _, c := range key {
		keys = append(keys, columns[c])
	}
	if keys != nil {
		line("  primaryKey: [%s]%s", strings.Join(keys, ", "), comment(keyNote))
	}
	line("")
	line("tolerate: {rejects: 0}")
	line("")
	line("target:")
	line("  table: public.%s", strings.ReplaceAll(name, "-", "_"))
	if keys == nil {
		line("  mode: append%s", comment(keyNote))
	} else if newest != "" {
		line("  newest: %s%s", newest, comment("by its name; of two rows with one key the newer wins"))
	}
	line("  lineage: standard")
	return b.String()
}

// printer writes a line.
type printer func(format string, args ...any)

// writeFiles writes which files belong, and how they are read.
func (k *kind) writeFiles(line printer, name, at string) {
	t := k.table
	line("# A draft from %d file(s), %d rows looked at. It works as it stands; look at each", len(k.paths), t.rows)
	line("# comment that says \"uncertain\", try it with: mullein rehearse FILE --send SAMPLE")
	line("feed: %s", name)
	line("")
	pattern, note := k.pattern()
	line("landing:")
	line("  at: %s", at)
	line("  files: %q%s", pattern, comment(note))
	line("")
	for _, n := range k.shape.notes {
		line("# %s", n)
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

// writeFields writes the schema's fields, and returns the one that says which row is
// the newest; "" for none.
func (k *kind) writeFields(line printer, types []found, columns []string, key []int) (newest string) {
	t := k.table
	line("schema:")
	if k.shape.format.Trees() {
		line("  fieldsMatch: partial%s", comment("records need not have every key"))
	}
	line("  fields:")
	for i, c := range t.columns {
		f := types[i]
		parts := []string{"name: " + columns[i]}
		if f.kind != "string" {
			parts = append(parts, "type: "+f.kind)
		}
		if k.shape.widths != nil {
			parts = append(parts, fmt.Sprintf("source: \"%d-%d\"", k.shape.widths[i].From, k.shape.widths[i].To))
		} else if c.source != columns[i] && !(k.shape.format == decode.CSV && !k.shape.dialect.Header) {
			parts = append(parts, fmt.Sprintf("source: %q", c.source))
		}
		parts = append(parts, f.options...)
		if len(f.missing) > 0 {
			parts = append(parts, fmt.Sprintf("missingValues: [\"\", %s]", quoteAll(f.missing)))
		}
		if f.required && slices.Contains(key, i) {
			parts = append(parts, "constraints: {required: true}")
		}
		line("    - {%s}%s", strings.Join(parts, ", "), comment(f.note))
		if (f.kind == "datetime" || f.kind == "date") && revised.MatchString(c.source) && newest == "" {
			newest = columns[i]
		}
	}
	return newest
}

func comment(note string) string {
	if note == "" {
		return ""
	}
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
		parts = append(parts, fmt.Sprintf("headerRows: [%d]", d.HeaderRows[0]))
	}
	return strings.Join(parts, ", ")
}
