package feed

import "encoding/json"

// JSONSchema returns the grammar of feed files as a JSON Schema (draft 2020-12), for editors.
func JSONSchema() ([]byte, error) { return schemaOf(grammar(), "Mullein feed file") }

// ExtractJSONSchema returns the grammar of extracts' files as a JSON Schema (draft 2020-12), for editors.
func ExtractJSONSchema() ([]byte, error) { return schemaOf(extractGrammar(), "Mullein extract file") }

func schemaOf(grammar *key, title string) ([]byte, error) {
	root := grammar.jsonSchema()
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = title
	return json.MarshalIndent(root, "", "  ")
}

func (k *key) jsonSchema() map[string]any {
	out := map[string]any{}
	switch k.kind {
	case kText, kAny, kChar:
		out["type"] = "string"
		if k.kind == kChar {
			out["maxLength"] = 1
		}
		if k.kind == kAny {
			out["type"] = []string{"string", "number", "boolean"}
		}
	case kFlag:
		out["type"] = "boolean"
	case kCount:
		out["type"], out["minimum"] = "integer", 0
	case kSize:
		out["type"], out["pattern"] = "string", `^[0-9.]+ *([KMGT]i?B|kB|B)$`
	case kDuration:
		out["type"], out["pattern"] = []string{"string", "integer"}, `^([0-9.]+(ms|s|m|h|d)|0)$`
	case kShare:
		out["type"], out["pattern"] = []string{"string", "integer"}, `^[0-9.]+%?$`
	case kChoice:
		out["enum"] = k.values
	case kFree:
		out["type"] = "object"
		if k.item != nil {
			out["additionalProperties"] = k.item.jsonSchema()
		}
	case kList:
		out["type"], out["items"] = "array", k.item.jsonSchema()
	case kMap:
		out["type"], out["additionalProperties"] = "object", false
		properties, required := map[string]any{}, []string{}
		for _, child := range k.keys {
			properties[child.name] = child.jsonSchema()
			if child.required {
				required = append(required, child.name)
			}
		}
		out["properties"] = properties
		if len(required) > 0 {
			out["required"] = required
		}
	}
	if k.or != nil {
		out = map[string]any{"anyOf": []any{out, k.or.jsonSchema()}}
	}
	if k.about != "" {
		out["description"] = k.about
	}
	return out
}

// Reference lists every key of the grammar, as "landing.files", with what it
// means; it is what docs/feed-file.md is held against.
func Reference() []KeyReference { return reference(grammar()) }

// ExtractReference lists every key of the grammar of extracts' files.
func ExtractReference() []KeyReference { return reference(extractGrammar()) }

func reference(grammar *key) []KeyReference {
	var out []KeyReference
	var visit func(k *key, path string)
	visit = func(k *key, path string) {
		for _, child := range k.keys {
			p := child.name
			if path != "" {
				p = path + "." + child.name
			}
			out = append(out, KeyReference{p, child.about, child.words(), child.required})
			visit(child, p)
		}
		if k.item != nil && len(k.item.keys) > 0 {
			visit(k.item, path)
		}
		if k.or != nil {
			visit(k.or, path)
		}
	}
	visit(grammar, "")
	return out
}

// KeyReference describes one key of the feed file.
type KeyReference struct {
	Path, About, Takes string
	Required           bool
}
