package tabular

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// noSchemas keeps JSON Schemas from reaching for others: there is no network,
// and no file beside a feed.
type noSchemas struct{}

// Load refuses.
func (noSchemas) Load(url string) (any, error) {
	return nil, errors.New("it refers to another schema; write that out under $defs")
}

// compileJSONSchema reads a JSON Schema (draft 2020-12, unless it says another).
func compileJSONSchema(text string) (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(noSchemas{})
	const here = "file:///schema.json"
	if err := c.AddResource(here, doc); err != nil {
		return nil, err
	}
	return c.Compile(here)
}

// fits holds a JSON value against the column's JSON Schema. The error says where
// and by which keyword it does not fit, and nothing of the value itself.
func (c *Column) fits(value []byte) error {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(value))
	if err != nil {
		return breaks("jsonSchema", "not JSON")
	}
	err = c.jsonSchema.Validate(doc)
	if err == nil {
		return nil
	}
	var e *jsonschema.ValidationError
	if !errors.As(err, &e) {
		return breaks("jsonSchema", "does not fit its JSON Schema")
	}
	for len(e.Causes) > 0 {
		e = e.Causes[0]
	}
	at := "the whole"
	if len(e.InstanceLocation) > 0 {
		at = "/" + strings.Join(e.InstanceLocation, "/")
	}
	const most = 200
	return breaks("jsonSchema", "does not fit its JSON Schema: %.*s breaks %s", most, at,
		strings.Join(e.ErrorKind.KeywordPath(), "/"))
}

// A ForeignKey says that what stands in some fields of a row stands in another
// table too. Rows with a null among them are not held against it.
type ForeignKey struct {
	Fields    []string
	Table     string   // as schema.table, of the target's database
	Reference []string // its columns, in the order of the fields
}

// String names the key for people.
func (k ForeignKey) String() string {
	return fmt.Sprintf("%s in %s (%s)", strings.Join(k.Fields, ", "), k.Table, strings.Join(k.Reference, ", "))
}
