package tabular

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestJSONSchemas(t *testing.T) {
	const schema = `{"type": "object", "required": ["unit"], "additionalProperties": false, "properties": {
		"unit": {"enum": ["m", "cm"]}, "depth": {"type": "number", "minimum": 0, "maximum": 30},
		"layers": {"type": "array", "maxItems": 2, "items": {"$ref": "#/$defs/layer"}}, "at": {"type": "string", "pattern": "^[0-9]{4}$"}},
		"$defs": {"layer": {"type": "object", "properties": {"n": {"type": "integer"}}}}}`
	c := column(t, Field{Type: "object", Constraints: Constraints{JSONSchema: schema}})
	for _, one := range []struct{ cell, want string }{
		{`{"unit": "m"}`, ""},
		{`{"unit": "cm", "depth": 12.5, "layers": [{"n": 1}, {"n": 2}], "at": "2026"}`, ""},
		{`{"unit": "m", "depth": 30.000000000000000001}`, "/depth breaks maximum"},
		{`{"unit": "m", "layers": [{"n": 1}, {"n": 1.5}]}`, "/layers/1/n breaks type"},
		{`{"unit": "m", "layers": [{}, {}, {}]}`, "/layers breaks maxItems"},
		{`{"unit": "ft"}`, "/unit breaks enum"},
		{`{"unit": "m", "at": "July"}`, "/at breaks pattern"},
		{`{"unit": "m", "more": 1}`, "the whole breaks additionalProperties"},
		{`{}`, "the whole breaks required"},
	} {
		var v Value
		err := c.Convert([]byte(one.cell), &v)
		if one.want == "" {
			assert.NoError(t, err, one.cell)
			continue
		}
		var broken *CellError
		require.ErrorAs(t, err, &broken, one.cell)
		assert.Equal(t, "jsonSchema", broken.Rule)
		assert.Equal(t, "does not fit its JSON Schema: "+one.want, err.Error())
		// As other formats hand it in: typed already.
		assert.Error(t, c.Take(&Value{Kind: JSON, B: []byte(one.cell)}, &v))
	}
	var v Value
	require.NoError(t, c.Convert(nil, &v), "null is not held against it")
	assert.Equal(t, Null, v.Kind)
}

func TestJSONSchemasThatCannotWork(t *testing.T) {
	for schema, want := range map[string]string{
		`{"type": "odd"}`:                          "jsonSchema",
		`{"$ref": "https://sorrel.example/other"}`: "it refers to another schema",
		`{"$ref": "file:///etc/passwd"}`:           "it refers to another schema",
		`{"pattern": "("}`:                         "jsonSchema",
		`{`:                                        "jsonSchema",
	} {
		s := Schema{Fields: []Field{{Name: "x", Type: "object", Constraints: Constraints{JSONSchema: schema}}}}
		_, err := s.CompileField(0, nil)
		assert.ErrorContains(t, err, want, schema)
	}
}
