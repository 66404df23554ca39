package feed

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/hamba/avro/v2"

	"mullein/internal/core/tabular"
)

// Inline puts a schema that a feed file names in the place of its name: a Table
// Schema, or an Avro schema, as JSON. read gives the content of a file by the
// name that stands there. A feed file with its own schema stays as it is.
//
// list returns the names that a glob pattern fits: a path with a capture in it
// stands for the schemas of all kinds of files.
func Inline(file string, text []byte, list func(glob string) ([]string, error),
	read func(name string) ([]byte, error)) ([]byte, error) {
	r := &reader{file: file}
	root := r.yaml(text)
	if root == nil {
		return nil, r.problems
	}
	n := root.get("schema")
	switch {
	case n == nil || n.shape != scalar && n.get("file") == nil:
		return text, nil
	case n.shape != scalar:
		return r.inlineJoined(text, root, n, read)
	}
	var schema string
	if len(capturesIn(n.text)) > 0 {
		kinds, err := inlineKinds(n.text, list, read)
		if err != nil {
			r.failAt(n, "schema: %v", err)
			return nil, r.problems
		}
		schema = kinds
	} else {
		one := r.readSchema(n, read)
		if one == nil {
			return nil, r.problems
		}
		schema = string(one)
	}
	lines := strings.SplitAfter(string(text), "\n")
	line := lines[n.line-1]
	before := line[:n.column-1]
	end := "\n"
	if !strings.HasSuffix(line, "\n") {
		end = ""
	}
	lines[n.line-1] = before + schema + " # from " + n.text + end
	return []byte(strings.Join(lines, "")), nil
}

// readSchema reads the schema file that a node names; nil where it cannot.
func (r *reader) readSchema(n *node, read func(name string) ([]byte, error)) []byte {
	content, err := read(n.text)
	if err != nil {
		r.failAt(n, "schema: %v", err)
		return nil
	}
	one, err := SchemaFile(content)
	if err != nil {
		r.failAt(n, "schema: %s: %v", n.text, err)
		return nil
	}
	return one
}

// inlineJoined puts a schema in the place of one that names a file and adds to it.
func (r *reader) inlineJoined(text []byte, root, n *node, read func(name string) ([]byte, error)) ([]byte, error) {
	file := n.get("file")
	base := r.readSchema(file, read)
	if base == nil {
		return nil, r.problems
	}
	own, _ := n.plain().(map[string]any)
	joined, err := join(base, own)
	if err != nil {
		r.failAt(file, "schema: %s: %v", file.text, err)
		return nil, r.problems
	}
	lines := strings.SplitAfter(string(text), "\n")
	from, to := 0, len(lines)
	for _, f := range root.fields {
		switch {
		case f.name == "schema":
			from = f.line - 1
		case f.line-1 > from && from > 0 && f.line-1 < to, f.line-1 > n.line && f.line-1 < to:
			to = f.line - 1
		}
	}
	for to > from+1 && isBeside(lines[to-1]) { // what stands between it and the next key belongs there
		to--
	}
	out := strings.Join(lines[:from], "") + "schema: " + string(joined) + " # from " + file.text + "\n" +
		strings.Join(lines[to:], "")
	return []byte(out), nil
}

func isBeside(line string) bool {
	line = strings.TrimSpace(line)
	return line == "" || strings.HasPrefix(line, "#")
}

// join adds to a schema: fields are joined by name, other keys take the place of what stood
// there.
func join(base []byte, own map[string]any) ([]byte, error) {
	var schema map[string]any
	if err := json.Unmarshal(base, &schema); err != nil {
		return nil, err
	}
	fields, _ := schema["fields"].([]any)
	more, _ := own["fields"].([]any)
	for _, m := range more {
		field, _ := m.(map[string]any)
		at := slices.IndexFunc(fields, func(f any) bool {
			known, _ := f.(map[string]any)
			return known["name"] == field["name"]
		})
		if at < 0 {
			fields = append(fields, field)
			continue
		}
		maps.Copy(fields[at].(map[string]any), field)
	}
	delete(own, "file")
	delete(own, "fields")
	maps.Copy(schema, own)
	schema["fields"] = fields
	return json.Marshal(schema)
}

// SchemaFile reads a Table Schema or an Avro schema and returns a Table Schema on
// one line.
func SchemaFile(content []byte) ([]byte, error) {
	var top struct {
		Type   any               `json:"type"`
		Fields []json.RawMessage `json:"fields"`
	}
	if err := json.Unmarshal(content, &top); err != nil {
		return nil, fmt.Errorf("not JSON: %w", err)
	}
	if top.Type == "record" {
		return avroSchema(content)
	}
	if len(top.Fields) == 0 {
		return nil, fmt.Errorf("it has no fields: neither a Table Schema nor an Avro record")
	}
	var out bytes.Buffer
	err := json.Compact(&out, content)
	return out.Bytes(), err
}

// avroSchema makes a Table Schema of an Avro record (Apache Avro 1.11).
func avroSchema(content []byte) ([]byte, error) {
	parsed, err := avro.ParseBytesWithCache(content, "", &avro.SchemaCache{})
	if err != nil {
		return nil, fmt.Errorf("no Avro schema: %w", err)
	}
	record, ok := parsed.(*avro.RecordSchema)
	if !ok {
		return nil, fmt.Errorf("an Avro schema of type %s, not a record", parsed.Type())
	}
	fields := []map[string]any{}
	for _, f := range record.Fields() {
		field, constraints := map[string]any{"name": f.Name()}, map[string]any{}
		if !fromAvro(f.Type(), field, constraints) {
			constraints["required"] = true
		}
		if doc := f.Doc(); doc != "" {
			field["description"] = doc
		}
		if len(constraints) > 0 {
			field["constraints"] = constraints
		}
		fields = append(fields, field)
	}
	schema := map[string]any{"fields": fields, "fieldsMatch": string(tabular.MatchEqual), "name": record.FullName()}
	if doc := record.Doc(); doc != "" {
		schema["description"] = doc
	}
	return json.Marshal(schema)
}

// fromAvro says of which type of Table Schema a type of Avro is, and reports whether it may
// be null.
func fromAvro(t avro.Schema, field, constraints map[string]any) (optional bool) {
	kind := "string"
	if ref, ok := t.(*avro.RefSchema); ok {
		t = ref.Schema()
	}
	if logical, ok := t.(avro.LogicalTypeSchema); ok && logical.Logical() != nil {
		if kind = avroLogical[logical.Logical().Type()]; kind != "" {
			field["type"] = kind
			switch l := logical.Logical().(type) {
			case *avro.DecimalLogicalSchema:
				field["description"] = fmt.Sprintf("decimal(%d, %d)", l.Precision(), l.Scale())
			default:
				if l.Type() == avro.UUID {
					field["format"] = "uuid"
				}
			}
			return false
		}
		kind = "string"
	}
	switch t := t.(type) {
	case *avro.UnionSchema:
		kinds := map[any]bool{}
		for _, member := range t.Types() {
			if member.Type() == avro.Null {
				optional = true
				continue
			}
			fromAvro(member, field, constraints)
			kinds[field["type"]] = true
		}
		if len(kinds) > 1 {
			for k := range constraints {
				delete(constraints, k)
			}
			field["type"] = "any"
		}
		return optional
	case *avro.EnumSchema:
		constraints["enum"] = t.Symbols()
	case *avro.RecordSchema, *avro.MapSchema:
		kind = "object"
	case *avro.ArraySchema:
		kind = "array"
	default:
		kind = cmp.Or(map[avro.Type]string{avro.Boolean: "boolean", avro.Int: "integer", avro.Long: "integer",
			avro.Float: "number", avro.Double: "number"}[t.Type()], "string")
	}
	field["type"] = kind
	return false
}

var avroLogical = map[avro.LogicalType]string{avro.Date: "date", avro.TimeMillis: "time", avro.TimeMicros: "time",
	avro.TimestampMillis: "datetime", avro.TimestampMicros: "datetime", avro.LocalTimestampMillis: "datetime",
	avro.LocalTimestampMicros: "datetime", avro.Decimal: "number", avro.Duration: "duration", avro.UUID: "string"}

// TableSchema writes the feed's schema as a Table Schema (Data Package v2).
func (f *Feed) TableSchema() ([]byte, error) {
	s := &f.Schema
	out := map[string]any{"$schema": "https://datapackage.org/profiles/2.0/tableschema.json",
		"fieldsMatch": string(s.FieldsMatch), "missingValues": s.MissingValues}
	// A key of which a part is derived is no key of the file.
	if len(s.PrimaryKey) > 0 && !slices.ContainsFunc(s.PrimaryKey, func(k string) bool { return s.Field(k) == nil }) {
		out["primaryKey"] = s.PrimaryKey
	}
	if len(s.UniqueKeys) > 0 {
		out["uniqueKeys"] = s.UniqueKeys
	}
	var foreign []any
	for _, k := range s.ForeignKeys {
		foreign = append(foreign, map[string]any{"fields": k.Fields,
			"reference": map[string]any{"resource": k.Table, "fields": k.Reference}})
	}
	if foreign != nil {
		out["foreignKeys"] = foreign
	}
	fields := []any{}
	for i := range s.Fields {
		fields = append(fields, tableField(&s.Fields[i]))
	}
	out["fields"] = fields
	return json.MarshalIndent(out, "", "  ")
}

func tableField(f *tabular.Field) map[string]any {
	out := map[string]any{"name": f.Name, "type": f.Type}
	set := func(key, value string) {
		if value != "" {
			out[key] = value
		}
	}
	set("source", f.Source)
	set("format", f.Format)
	set("title", f.Title)
	set("description", f.Description)
	set("decimalChar", f.DecimalChar)
	set("groupChar", f.GroupChar)
	set("itemType", f.ItemType)
	if f.Optional {
		out["optional"] = true
	}
	if f.Unstored {
		out["stored"] = false
	}
	if f.CutNanoseconds {
		out["nanoseconds"] = "cut"
	}
	set("delimiter", f.Delimiter)
	for key, list := range map[string][]string{"trueValues": f.TrueValues, "falseValues": f.FalseValues,
		"missingValues": f.MissingValues} {
		if list != nil {
			out[key] = list
		}
	}
	if !f.SoleNumber && (f.Type == "number" || f.Type == "integer") {
		out["bareNumber"] = false
	}
	k := f.Constraints
	constraints := map[string]any{}
	for key, yes := range map[string]bool{"required": k.Required, "unique": k.Unique} {
		if yes {
			constraints[key] = true
		}
	}
	for key, n := range map[string]int{"minLength": k.MinLength, "maxLength": k.MaxLength} {
		if n > 0 {
			constraints[key] = n
		}
	}
	for key, bound := range map[string]string{"minimum": k.Minimum, "maximum": k.Maximum,
		"exclusiveMinimum": k.ExclusiveMinimum, "exclusiveMaximum": k.ExclusiveMaximum} {
		if bound != "" {
			constraints[key] = json.RawMessage(numberOr(bound, f.Type))
		}
	}
	if k.Pattern != "" {
		constraints["pattern"] = k.Pattern
	}
	if k.Enum != nil {
		constraints["enum"] = k.Enum
	}
	if k.JSONSchema != "" {
		constraints["jsonSchema"] = json.RawMessage(k.JSONSchema)
	}
	if len(constraints) > 0 {
		out["constraints"] = constraints
	}
	return out
}

// numberOr writes a bound as a number where it is one.
func numberOr(text, kind string) []byte {
	if (kind == "number" || kind == "integer") && json.Valid([]byte(text)) {
		return []byte(text)
	}
	quoted, err := json.Marshal(text)
	if err != nil {
		return []byte(`""`)
	}
	return quoted
}

// AvroSchema writes the feed's columns as an Avro record.
func (f *Feed) AvroSchema() ([]byte, error) {
	types := map[string]any{
		"integer": "long", "boolean": "boolean", "year": "int",
		"number":    map[string]any{"type": "bytes", "logicalType": "decimal", "precision": 38, "scale": 9},
		"datetime":  map[string]any{"type": "long", "logicalType": "timestamp-micros"},
		"date":      map[string]any{"type": "int", "logicalType": "date"},
		"yearmonth": map[string]any{"type": "int", "logicalType": "date"},
		"time":      map[string]any{"type": "long", "logicalType": "time-micros"},
	}
	fields := []any{}
	for i := range f.Schema.Fields {
		field := &f.Schema.Fields[i]
		var t any = "string"
		if known, ok := types[field.Type]; ok {
			t = known
		}
		out := map[string]any{"name": field.Name, "type": t}
		if !field.Constraints.Required && !slices.Contains(f.Schema.PrimaryKey, field.Name) {
			out["type"], out["default"] = []any{"null", t}, nil
		}
		if field.Description != "" {
			out["doc"] = field.Description
		}
		fields = append(fields, out)
	}
	record := map[string]any{"type": "record", "name": strings.ReplaceAll(f.Name, "-", "_"), "fields": fields}
	if f.About != "" {
		record["doc"] = f.About
	}
	return json.MarshalIndent(record, "", "  ")
}
