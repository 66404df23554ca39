package draft

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/core/spelling"
)

// Into is an existing table that a feed is to end in.
type Into struct {
	Connection string // by the name that feeds know it by
	Table      string // schema.table
	Columns    []IntoColumn
	// Keys are the columns of the unique indexes. Where Primary is true, the first is the
	// primary key.
	Keys    [][]string
	Primary bool
}

// IntoColumn is a column of an existing table.
type IntoColumn struct {
	Name    string
	Type    string // as PostgreSQL writes it
	NotNull bool
}

// placed says which columns of files go into which of a table.
type placed struct {
	into    *Into
	to      []string // by the columns of the files; "" for none
	notes   []string
	lineage string
}

// sqlType is a type of PostgreSQL's, as it writes it, and what of Table Schema it takes.
type sqlType struct {
	sql *regexp.Regexp
	is  []string
}

// fieldTypes are the types of Table Schema that a column of a table can take, the first of
// which is its own.
var fieldTypes = []sqlType{
	{regexp.MustCompile(`^(bigint|integer|smallint)$`), []string{"integer"}},
	{regexp.MustCompile(`^(numeric|double precision|real)`), []string{"number", "integer"}},
	{regexp.MustCompile(`^boolean$`), []string{"boolean"}},
	{regexp.MustCompile(`^timestamp.* with time zone$`), []string{"datetime", "date"}},
	{regexp.MustCompile(`^date$`), []string{"date"}},
	{regexp.MustCompile(`^time.* without time zone$`), []string{"time"}},
	{regexp.MustCompile(`^interval$`), []string{"duration"}},
	{regexp.MustCompile(`^jsonb?$`), []string{"object", "array"}},
	{regexp.MustCompile(`^(text|character varying|character|citext)`), []string{"string"}},
	{regexp.MustCompile(`^uuid$`), []string{"string"}},
}

var length = regexp.MustCompile(`^character(?: varying)?\(([0-9]+)\)$`)

// leastLike is from which likeness on two names are taken for the same.
const leastLike = 50

// place finds the column of the table for each column of the files: by name, by likeness of
// names, and by whether its type takes the values.
func (into *Into) place(t *table, types []found) *placed {
	p := &placed{into: into, to: make([]string, len(t.columns))}
	lineage := feed.StandardLineage.Names()
	type pair struct{ source, column, like int }
	var pairs []pair
	for i, c := range t.columns {
		for j, column := range into.Columns {
			if slices.Contains(lineage, column.Name) {
				continue
			}
			if like := likeness(c.source, column.Name); like >= leastLike {
				pairs = append(pairs, pair{i, j, like})
			}
		}
	}
	slices.SortStableFunc(pairs, func(a, b pair) int { return b.like - a.like })
	filled := map[string]bool{}
	for _, m := range pairs {
		column := into.Columns[m.column]
		if p.to[m.source] != "" || filled[column.Name] {
			continue
		}
		if !p.fit(t.columns[m.source], &types[m.source], column) {
			p.notes = append(p.notes, fmt.Sprintf("uncertain: %s looks like %s, whose type %s does not take its values",
				t.columns[m.source].source, column.Name, column.Type))
			continue
		}
		p.to[m.source], filled[column.Name] = column.Name, true
		if m.like < 100 {
			types[m.source].say(fmt.Sprintf("uncertain: taken for %s by its name", column.Name))
		}
	}
	p.byType(t, types, filled, lineage)
	for i, c := range t.columns {
		if p.to[i] == "" {
			types[i].say("uncertain: " + into.Table + " has no column for " + c.source)
		}
	}
	for _, column := range into.Columns {
		switch {
		case filled[column.Name] || slices.Contains(lineage, column.Name):
		case column.NotNull:
			p.notes = append(p.notes, fmt.Sprintf("uncertain: nothing fills %s of %s, which must not be null; derive it, or "+
				"give it a default", column.Name, into.Table))
		default:
			p.notes = append(p.notes, fmt.Sprintf("nothing fills %s of %s", column.Name, into.Table))
		}
	}
	p.lineage = into.lineage()
	return p
}

// byType places a column of dates, times or truth whose name is like none, where the table has
// just one such column left.
func (p *placed) byType(t *table, types []found, filled map[string]bool, lineage []string) {
	for _, kind := range []string{"date", "datetime", "time", "boolean"} {
		var sources, columns []int
		for i := range t.columns {
			if p.to[i] == "" && types[i].kind == kind {
				sources = append(sources, i)
			}
		}
		for j, column := range p.into.Columns {
			if !filled[column.Name] && !slices.Contains(lineage, column.Name) && slices.ContainsFunc(fieldTypes,
				func(f sqlType) bool { return f.sql.MatchString(column.Type) && f.is[0] == kind }) {
				columns = append(columns, j)
			}
		}
		if len(sources) != 1 || len(columns) != 1 {
			continue
		}
		i, column := sources[0], p.into.Columns[columns[0]]
		if p.fit(t.columns[i], &types[i], column) {
			p.to[i], filled[column.Name] = column.Name, true
			types[i].say(fmt.Sprintf("uncertain: taken for %s, the only column of the table that is left for a %s",
				column.Name, kind))
		}
	}
}

// fit makes what was found of a column what the table's column takes, and reports whether
// that can be.
func (p *placed) fit(c *column, f *found, column IntoColumn) bool {
	at := slices.IndexFunc(fieldTypes, func(t sqlType) bool { return t.sql.MatchString(column.Type) })
	if at < 0 {
		return false
	}
	is := fieldTypes[at].is
	if !slices.Contains(is, f.kind) {
		try := found{kind: is[0], missing: f.missing, note: f.note, required: f.required}
		if is[0] == "string" {
			try.spec.Format = ""
		}
		if len(c.texts) > 0 && !try.holds(c) || c.native() != "" && is[0] != "string" {
			return false
		}
		*f = try
	}
	if column.Type == "uuid" {
		f.spec.Format = "uuid"
	}
	constraint := func(name string, value any) {
		if f.constraints == nil {
			f.constraints = map[string]any{}
		}
		f.constraints[name] = value
	}
	if n := length.FindStringSubmatch(column.Type); n != nil {
		most, _ := strconv.Atoi(n[1])
		constraint("maxLength", most)
	}
	if column.NotNull {
		constraint("required", true)
	}
	return true
}

// likeness says how much two names mean the same: 100 for the same words, 0 for nothing in
// common.
func likeness(a, b string) int {
	x, y := nameWords(a), nameWords(b)
	one, other := strings.Join(x, ""), strings.Join(y, "")
	switch {
	case one == "" || other == "":
		return 0
	case one == other:
		return 100
	case len(x) == len(y) && allPairs(x, y, func(v, w string) bool {
		return strings.HasPrefix(v, w) || strings.HasPrefix(w, v) || shortened(v, w) || shortened(w, v)
	}):
		return 80
	case min(len(one), len(other)) >= 4 && (strings.HasSuffix(one, other) || strings.HasSuffix(other, one) ||
		strings.HasPrefix(one, other) || strings.HasPrefix(other, one)):
		return 60
	case min(len(one), len(other)) >= 5 && spelling.Nearest(one, []string{other}) != "":
		return 55
	}
	return 0
}

func allPairs(a, b []string, ok func(v, w string) bool) bool {
	for i := range a {
		if !ok(a[i], b[i]) {
			return false
		}
	}
	return true
}

// shortened reports whether a word is another with letters left out: cstmr of customer.
func shortened(short, long string) bool {
	if len(short) < 3 || len(short)*3 < len(long) || short[0] != long[0] {
		return false
	}
	at := 0
	for i := range len(long) {
		if at < len(short) && long[i] == short[at] {
			at++
		}
	}
	return at == len(short)
}

// lineage writes the lineage columns that the table has.
func (into *Into) lineage() string {
	var has []string
	for _, name := range feed.StandardLineage.Names() {
		if slices.ContainsFunc(into.Columns, func(c IntoColumn) bool { return c.Name == name }) {
			has = append(has, name+": "+name)
		}
	}
	switch len(has) {
	case 0:
		return "none"
	case len(feed.StandardLineage.Names()):
		return "standard"
	}
	return "{" + strings.Join(has, ", ") + "}"
}

// key returns the columns of the files that make a key of the table; nil where there is none,
// or where rows were read that it would lose.
func (p *placed) key(t *table) (key []int, note string) {
	k := &keys{t: t, cache: map[string]keyTry{}}
	for n, names := range p.into.Keys {
		key = nil
		for _, name := range names {
			if at := slices.Index(p.to, name); at >= 0 {
				key = append(key, at)
			}
		}
		if len(key) < len(names) {
			continue
		}
		slices.Sort(key)
		kind := map[bool]string{true: "the primary key", false: "a unique index"}[n == 0 && p.into.Primary]
		if slices.ContainsFunc(key, func(c int) bool { return !k.filled(c) }) {
			return key, fmt.Sprintf("uncertain: %s of %s; some rows have no value there and would be rejects", kind,
				p.into.Table)
		}
		if lost := k.try(key, nil).lost; t.rows > 0 && lost > 0 {
			return key, fmt.Sprintf("uncertain: %s of %s; %d of %d rows have the key of another of their file and would "+
				"be duplicates", kind, p.into.Table, lost, t.rows)
		}
		return key, kind + " of " + p.into.Table
	}
	return nil, cmp.Or(map[bool]string{true: "uncertain: no unique index of " + p.into.Table + " is of columns that the " +
		"files have"}[len(p.into.Keys) > 0], p.into.Table+" has no unique index: every row is added")
}

// named returns the table's column for a column of the files, or what is no such column as it
// is; "" where the table has none.
func (p *placed) named(newest string, columns []string) string {
	at := slices.Index(columns, newest)
	switch {
	case at >= 0:
		return p.to[at]
	case newest == "slot" && p.lineage == "none":
		return ""
	}
	return newest
}
