package tabular

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/spelling"
)

// Schema is a Table Schema: the columns of a file and what must hold of them.
type Schema struct {
	FieldsMatch   FieldsMatch
	Fields        []Field
	PrimaryKey    []string   // names of fields; one row a key is kept
	MissingValues []string   // texts that stand for no value
	UniqueKeys    [][]string // names of fields that, together, stand once in a file
	ForeignKeys   []ForeignKey
}

// FieldsMatch says how a file's columns must fit the schema's fields.
type FieldsMatch string

// The ways, as the standard names them.
const (
	MatchExact    FieldsMatch = "exact"    // the same, in the same order
	MatchEqual    FieldsMatch = "equal"    // the same, in any order
	MatchSubset   FieldsMatch = "subset"   // all fields are there; the file may have more
	MatchSuperset FieldsMatch = "superset" // nothing but fields is there; the file may have fewer
	MatchPartial  FieldsMatch = "partial"  // at least one field is there
)

// Field is one column of a file.
type Field struct {
	Optional      bool `json:"-"` // files may lack the column, whatever fieldsMatch says
	Name          string
	Title         string
	Description   string
	Type          string
	Format        string
	Source        string // the column's name in the file; empty: Name
	DecimalChar   string // empty: "."
	GroupChar     string
	SoleNumber    bool     // bareNumber: nothing but the number stands in the cell
	TrueValues    []string // nil: true True TRUE 1
	FalseValues   []string // nil: false False FALSE 0
	MissingValues []string // nil: the schema's
	ItemType      string   // list
	Delimiter     string   // list; empty: ","
	// Unstored fields are read for expressions only: the target has no column for them.
	Unstored bool
	// CutNanoseconds has times cut that are finer than a microsecond, which no column
	// of the target keeps; otherwise they are rejects.
	CutNanoseconds bool
	Constraints    Constraints
}

// Constraints are what must hold of each value of a field. Bounds and enum
// are written as in the file and read by the field's own type.
type Constraints struct {
	Required, Unique                   bool
	Minimum, Maximum                   string
	ExclusiveMinimum, ExclusiveMaximum string
	MinLength, MaxLength               int // 0: no bound
	Pattern                            string
	Enum                               []string
	JSONSchema                         string // as JSON; empty: none
}

// SourceName is the column's name in the file.
func (f *Field) SourceName() string {
	if f.Source != "" {
		return f.Source
	}
	return f.Name
}

// Field finds a field by name; nil when there is none.
func (s *Schema) Field(name string) *Field {
	for i := range s.Fields {
		if s.Fields[i].Name == name {
			return &s.Fields[i]
		}
	}
	return nil
}

// Compile makes the converters of all fields. Times without an offset are in
// zone. The error names the field.
func (s *Schema) Compile(zone *time.Location) ([]*Column, error) {
	columns := make([]*Column, len(s.Fields))
	for i := range s.Fields {
		c, err := s.CompileField(i, zone)
		if err != nil {
			return nil, fmt.Errorf("field %s: %w", s.Fields[i].Name, err)
		}
		columns[i] = c
	}
	return columns, nil
}

// Types lists the types of Table Schema.
func Types() []string {
	return []string{"string", "number", "integer", "boolean", "object", "array", "list", "datetime", "date", "time",
		"year", "yearmonth", "duration", "geopoint", "geojson", "any"}
}

// MatchHeader holds the names of a file's columns against the schema and returns,
// for each field, the index of its column, or -1 where the file has none. The
// error lists each difference, and the column that a missing one looks like.
func (s *Schema) MatchHeader(header []string) ([]int, error) {
	index := map[string]int{}
	twice := ""
	for i, name := range header {
		if first, known := index[name]; known {
			twice = cmp.Or(twice, fmt.Sprintf("the header names column %q twice, as columns %d and %d", name, first+1,
				i+1))
			continue
		}
		index[name] = i
	}
	positions := make([]int, len(s.Fields))
	known := map[string]bool{}
	var missing []string
	found := 0
	for i := range s.Fields {
		name := s.Fields[i].SourceName()
		known[name] = true
		at, ok := index[name]
		if !ok {
			positions[i] = -1
			if !s.Fields[i].Optional {
				missing = append(missing, name)
			}
			continue
		}
		positions[i] = at
		found++
	}
	var extra []string
	for _, name := range header {
		if !known[name] {
			extra = append(extra, name)
		}
	}
	if found == 0 {
		return nil, fmt.Errorf("none of the schema's columns is in the header %s; is the header line missing, or the "+
			"delimiter another one?", quoteList(header))
	}
	if twice != "" {
		return nil, errors.New(twice)
	}
	return positions, s.judge(header, positions, missing, extra)
}

// MatchKeys holds the keys at the top of records, which are trees, against the
// schema. tops are the keys that the fields reach into, "" for the whole
// record; also are keys that are known besides. Their order says nothing. It
// gives which fields may have a value.
func (s *Schema) MatchKeys(keys, tops, also []string) ([]bool, error) {
	there := map[string]bool{}
	for _, k := range keys {
		there[k] = true
	}
	known := map[string]bool{}
	for _, k := range also {
		known[k] = true
	}
	has := make([]bool, len(tops))
	var missing, extra []string
	found, whole := 0, false
	for i, top := range tops {
		has[i] = top == "" || there[top]
		whole = whole || top == ""
		if has[i] {
			found++
		} else if !known[top] && !s.Fields[i].Optional {
			missing = append(missing, top)
		}
		known[top] = true
	}
	for _, k := range keys {
		if !known[k] && !whole { // who keeps the whole record misses nothing
			extra = append(extra, k)
		}
	}
	if found == 0 {
		return nil, fmt.Errorf("none of the schema's columns is in the records; they have %s", quoteList(keys))
	}
	return has, s.judge(keys, nil, missing, extra)
}

func (s *Schema) judge(header []string, positions []int, missing, extra []string) error {
	match := s.FieldsMatch
	var says []string
	mayMiss := match == MatchSuperset || match == MatchPartial
	mayAdd := match == MatchSubset || match == MatchPartial
	for _, name := range missing {
		if mayMiss && !s.required(name) {
			continue
		}
		text := fmt.Sprintf("column %q is gone", name)
		if like := spelling.Nearest(name, extra); like != "" {
			text += fmt.Sprintf("; %q is new and looks like it", like)
		}
		says = append(says, text)
	}
	if !mayAdd {
		for _, name := range extra {
			says = append(says, fmt.Sprintf("column %q is not in the schema", name))
		}
	}
	if len(says) > 0 {
		return fmt.Errorf("the columns do not fit the schema (fieldsMatch: %s): %s", match, strings.Join(says, "; "))
	}
	there := slices.DeleteFunc(slices.Clone(positions), func(at int) bool { return at < 0 })
	if match == MatchExact && !slices.IsSorted(there) {
		want := make([]string, len(s.Fields))
		for i := range s.Fields {
			want[i] = s.Fields[i].SourceName()
		}
		return fmt.Errorf("the columns stand in another order than the schema's (fieldsMatch: exact): found %s, "+
			"expected %s; fieldsMatch: equal takes any order", quoteList(header), quoteList(want))
	}
	return nil
}

func (s *Schema) required(source string) bool {
	for i := range s.Fields {
		f := &s.Fields[i]
		if f.SourceName() == source || strings.HasPrefix(f.SourceName(), source+".") {
			return f.Constraints.Required || slices.Contains(s.PrimaryKey, f.Name)
		}
	}
	return false
}

func quoteList(names []string) string {
	const most = 12
	quoted := make([]string, 0, most)
	for i, n := range names {
		if i == most {
			quoted = append(quoted, fmt.Sprintf("and %d more", len(names)-most))
			break
		}
		if len(n) > 60 {
			n = n[:60] + "..."
		}
		quoted = append(quoted, fmt.Sprintf("%q", n))
	}
	return strings.Join(quoted, ", ")
}
