package feed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

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
	if n == nil || n.shape != scalar {
		return text, nil
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
		content, err := read(n.text)
		if err != nil {
			r.failAt(n, "schema: %v", err)
			return nil, r.problems
		}
		one, err := schemaFile(content)
		if err != nil {
			r.failAt(n, "schema: %s: %v", n.text, err)
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

// schemaFile reads a Table Schema or an Avro schema and returns a Table Schema on
// one line.
func schemaFile(content []byte) ([]byte, error) {
	var top struct {
		Type   string            `json:"type"`
		Doc    string            `json:"doc"`
		Fields []json.RawMessage `json:"fields"`
	}
	if err := json.Unmarshal(content, &top); err != nil {
		return nil, fmt.Errorf("not JSON: %w", err)
	}
	if len(top.Fields) == 0 {
		return nil, fmt.Errorf("it has no fields: neither a Table Schema nor an Avro record")
	}
	if top.Type != "record" {
		var out bytes.Buffer
		err := json.Compact(&out, content)
		return out.Bytes(), err
	}
	fields := []map[string]any{}
	for _, raw := range top.Fields {
		var f struct {
			Name string `json:"name"`
			Doc  string `json:"doc"`
			Type any    `json:"type"`
		}
		if err := json.Unmarshal(raw, &f); err != nil {
			return nil, err
		}
		kind, optional := fromAvro(f.Type)
		field := map[string]any{"name": f.Name, "type": kind}
		if f.Doc != "" {
			field["description"] = f.Doc
		}
		if !optional {
			field["constraints"] = map[string]any{"required": true}
		}
		fields = append(fields, field)
	}
	schema := map[string]any{"fields": fields, "fieldsMatch": string(tabular.MatchEqual)}
	if top.Doc != "" {
		schema["description"] = top.Doc
	}
	return json.Marshal(schema)
}

// fromAvro returns the type of Table Schema for a type of Avro, and whether it may
// be null.
func fromAvro(t any) (kind string, optional bool) {
	switch t := t.(type) {
	case []any:
		for _, member := range t {
			if member == "null" {
				optional = true
			} else if k, _ := fromAvro(member); kind == "" {
				kind = k
			} else if kind != k {
				kind = "any"
			}
		}
		return kind, optional
	case map[string]any:
		logical, _ := t["logicalType"].(string)
		switch {
		case logical == "date":
			return "date", false
		case strings.HasPrefix(logical, "time-"):
			return "time", false
		case strings.Contains(logical, "timestamp-"):
			return "datetime", false
		case logical == "decimal":
			return "number", false
		case logical == "duration":
			return "duration", false
		}
		return fromAvro(t["type"])
	case string:
		switch t {
		case "boolean":
			return "boolean", false
		case "int", "long":
			return "integer", false
		case "float", "double":
			return "number", false
		case "record", "map":
			return "object", false
		case "array":
			return "array", false
		}
	}
	return "string", false
}

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
