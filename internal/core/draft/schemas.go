package draft

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// given is a schema that lies beside the files: a Table Schema, an Avro schema, or a
// statement that creates one table.
type given struct {
	path   string
	Fields []givenField `json:"fields"`
	Key    stringList   `json:"primaryKey"`
}

type givenField struct {
	Name        string         `json:"name"`
	Type        string         `json:"type"`
	Format      string         `json:"format"`
	Constraints map[string]any `json:"constraints"`
}

// stringList is a list of texts, or one.
type stringList []string

// UnmarshalJSON implements [json.Unmarshaler].
func (l *stringList) UnmarshalJSON(text []byte) error {
	var one string
	if json.Unmarshal(text, &one) == nil {
		*l = stringList{one}
		return nil
	}
	return json.Unmarshal(text, (*[]string)(l))
}

const maxSchemaFile = 1 << 20

// schemasOf takes the schema files out of the samples.
func schemasOf(samples []Sample) (data []Sample, schemas []given, left []Left) {
	for _, s := range samples {
		g, err := schemaOf(s)
		switch {
		case err != nil:
			left = append(left, Left{s.Path, err.Error(), false})
		case g != nil:
			schemas = append(schemas, *g)
			left = append(left, Left{s.Path, "a schema: it is used for the files that fit it", false})
		default:
			data = append(data, s)
		}
	}
	return data, schemas, left
}

// schemaOf reads a schema file; nil for a file that is none.
func schemaOf(s Sample) (*given, error) {
	end := strings.ToLower(path.Ext(s.Path))
	if !slices.Contains([]string{".avsc", ".json", ".sql"}, end) {
		return nil, nil
	}
	source, done, err := s.Open()
	if err != nil {
		return nil, nil // said when it is looked at
	}
	defer done()
	content, err := io.ReadAll(io.LimitReader(source.Bytes, maxSchemaFile+1))
	if err != nil || len(content) > maxSchemaFile {
		return nil, nil
	}
	g := &given{path: s.Path}
	if end == ".sql" {
		return g, g.fromSQL(string(content))
	}
	if end == ".json" && !isTableSchema(content) {
		return nil, nil
	}
	table, err := feed.SchemaFile(content)
	if err != nil {
		return nil, fmt.Errorf("a schema that cannot be read: %w", err)
	}
	return g, json.Unmarshal(table, g)
}

// isTableSchema reports whether a JSON document is a schema rather than data: it has fields
// with names and types.
func isTableSchema(content []byte) bool {
	if !bytes.Contains(content, []byte(`"fields"`)) {
		return false
	}
	var top struct {
		Fields []struct {
			Name string `json:"name"`
			Type any    `json:"type"`
		} `json:"fields"`
	}
	if json.Unmarshal(content, &top) != nil || len(top.Fields) == 0 {
		return false
	}
	for _, f := range top.Fields {
		if f.Name == "" || f.Type == nil {
			return false
		}
	}
	return true
}

var (
	createTable = regexp.MustCompile(`(?is)\bcreate\s+(?:temp\w*\s+|unlogged\s+)?table\s+(?:if\s+not\s+exists\s+)?[\w."]+\s*\(`)
	sqlComment  = regexp.MustCompile(`(?m)--.*$|/\*(?s:.*?)\*/`)
	sqlColumn   = regexp.MustCompile(`(?is)^("[^"]+"|\w+)\s+([a-z]+(?:\s+(?:precision|varying|with(?:out)?\s+time\s+zone))*)\s*(?:\(([0-9]+)(?:\s*,\s*([0-9]+))?\))?(.*)$`)
	sqlKey      = regexp.MustCompile(`(?is)^(?:constraint\s+[\w"]+\s+)?primary\s+key\s*\(([^)]*)\)`)
	sqlOther    = regexp.MustCompile(`(?i)^(constraint|unique|foreign|check|exclude|like|index|key)\b`)
)

// sqlTypes are the types of Table Schema for those of SQL, by how they begin.
var sqlTypes = []struct{ sql, is string }{{"bigint", "integer"}, {"bigserial", "integer"}, {"int", "integer"},
	{"smallint", "integer"}, {"serial", "integer"}, {"numeric", "number"}, {"decimal", "number"}, {"real", "number"},
	{"double", "number"}, {"float", "number"}, {"bool", "boolean"}, {"timestamp", "datetime"}, {"datetime", "datetime"},
	{"date", "date"}, {"time", "time"}, {"interval", "duration"}, {"json", "object"}}

// fromSQL reads a statement that creates one table.
func (g *given) fromSQL(text string) error {
	text = sqlComment.ReplaceAllString(text, "")
	places := createTable.FindAllStringIndex(text, -1)
	if len(places) != 1 {
		return fmt.Errorf("SQL that creates %d tables; one is used as a schema", len(places))
	}
	for _, part := range parenthesized(text[places[0][1]:]) {
		part = strings.TrimSpace(part)
		if key := sqlKey.FindStringSubmatch(part); key != nil {
			for _, name := range strings.Split(key[1], ",") {
				g.Key = append(g.Key, strings.Trim(strings.TrimSpace(name), `"`))
			}
			continue
		}
		column := sqlColumn.FindStringSubmatch(part)
		if column == nil || sqlOther.MatchString(part) {
			continue
		}
		f := givenField{Name: strings.Trim(column[1], `"`), Type: "string", Constraints: map[string]any{}}
		kind := strings.ToLower(column[2])
		for _, t := range sqlTypes {
			if strings.HasPrefix(kind, t.sql) {
				f.Type = t.is
				break
			}
		}
		if n, err := strconv.Atoi(column[3]); err == nil && strings.Contains(kind, "char") {
			f.Constraints["maxLength"] = n
		}
		if kind == "uuid" {
			f.Format = "uuid"
		}
		rest := strings.ToLower(column[5])
		if strings.Contains(rest, "primary key") {
			g.Key = append(g.Key, f.Name)
		}
		if strings.Contains(rest, "not null") {
			f.Constraints["required"] = true
		}
		g.Fields = append(g.Fields, f)
	}
	if len(g.Fields) == 0 {
		return fmt.Errorf("SQL whose table has no columns that could be read")
	}
	return nil
}

// parenthesized cuts what stands up to a closing parenthesis at its commas.
func parenthesized(text string) (parts []string) {
	depth, from := 0, 0
	quote := rune(0)
	for i, r := range text {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '\'' || r == '"':
			quote = r
		case r == '(':
			depth++
		case r == ')' && depth == 0:
			return append(parts, text[from:i])
		case r == ')':
			depth--
		case r == ',' && depth == 0:
			parts = append(parts, text[from:i])
			from = i + 1
		}
	}
	return append(parts, text[from:])
}

// fits reports whether a schema is that of files with these columns.
func (g *given) fits(header []string) bool {
	common := 0
	for _, f := range g.Fields {
		if slices.ContainsFunc(header, func(h string) bool { return strings.EqualFold(h, f.Name) }) {
			common++
		}
	}
	return common > 0 && common*10 >= len(g.Fields)*8 && common*10 >= len(header)*8
}

// schemaFor finds the schema of a kind; nil for none.
func (k *kind) schemaFor(schemas []given) *given {
	var header []string
	for _, c := range k.table.columns {
		header = append(header, c.source)
	}
	for i := range schemas {
		if schemas[i].fits(header) {
			return &schemas[i]
		}
	}
	return nil
}

// apply takes the types of a schema for those that were found, where what was read fits
// them.
func (g *given) apply(columns []*column, types []found) {
	for i, c := range columns {
		at := slices.IndexFunc(g.Fields, func(f givenField) bool { return strings.EqualFold(f.Name, c.source) })
		if at < 0 {
			types[i].say("uncertain: " + g.path + " does not know it")
			continue
		}
		f := g.Fields[at]
		if f.Type == types[i].kind && f.Constraints == nil {
			continue
		}
		try := found{kind: f.Type, missing: types[i].missing, note: types[i].note}
		try.spec.Format = f.Format
		if f.Type == types[i].kind {
			try.spec = types[i].spec
		}
		if !try.holds(c) {
			types[i].say(fmt.Sprintf("uncertain: %s says %s, which the values are not", g.path, f.Type))
			continue
		}
		try.constraints, try.required = f.Constraints, types[i].required
		types[i] = try
	}
}

// holds reports whether all values that were seen can be read so.
func (f *found) holds(c *column) bool {
	compiled := f.column()
	if compiled == nil {
		return false
	}
	if c.native() != "" {
		return true // held against the file's own types when it is loaded
	}
	var v tabular.Value
	for text := range c.texts {
		if compiled.Convert([]byte(text), &v) != nil {
			return false
		}
	}
	return true
}

// keyOf returns the columns of a schema's key; nil where it has none, or where rows were read
// that it would lose.
func (g *given) keyOf(t *table) (key []int, note string) {
	for _, name := range g.Key {
		at := slices.IndexFunc(t.columns, func(c *column) bool { return strings.EqualFold(c.source, name) })
		if at < 0 {
			return nil, ""
		}
		key = append(key, at)
	}
	k := &keys{t: t, cache: map[string]keyTry{}}
	for _, c := range key {
		if !k.filled(c) {
			return nil, fmt.Sprintf("uncertain: the key of %s has rows without a value", g.path)
		}
	}
	if key != nil && t.rows > 0 {
		if lost := k.try(key, nil).lost; lost > 0 {
			return nil, fmt.Sprintf("uncertain: the key of %s would lose %d of %d rows", g.path, lost, t.rows)
		}
	}
	return key, "the key of " + g.path
}
