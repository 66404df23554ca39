package settings

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// Reference returns the JSON Schema of the settings file, for editors, and its description in
// Markdown.
func Reference() (schema, text []byte, err error) {
	const defs = "#/$defs/"
	registry := huma.NewMapRegistry(defs, huma.DefaultSchemaNamer)
	root := registry.Schema(reflect.TypeFor[Settings](), false, "Settings")
	root.Description = "The settings of a service."
	known := registry.Map()
	for _, s := range known {
		s.Required = nil
	}
	root.Required = nil
	document := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "$defs": known}
	whole, err := json.Marshal(root)
	if err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(whole, &document); err != nil {
		return nil, nil, err
	}
	if schema, err = json.MarshalIndent(document, "", "  "); err != nil {
		return nil, nil, err
	}
	var b bytes.Buffer
	b.WriteString(head)
	standard := Default()
	describe(&b, "", reflect.TypeFor[Settings](), reflect.ValueOf(standard))
	return append(schema, '\n'), b.Bytes(), nil
}

const head = `# The settings

A service is told what holds for it by a file, ` + "`mullein.yaml`" + ` in its home folder (or ` + "`--settings FILE`" + `, or ` + "`MULLEIN_SETTINGS`" + `); over
that by the environment; over that by flags of ` + "`mullein serve`" + `. ` + "`mullein settings`" + ` lists what holds, and where each comes
from. What is wrong is answered with the line, and what would be right. For editors there is a [JSON Schema](settings.schema.json).

Each setting has a variable: ` + "`keep.events`" + ` is ` + "`MULLEIN_KEEP_EVENTS`" + `, ` + "`connections.mart`" + ` is ` + "`MULLEIN_CONNECTION_MART`" + `, ` +
	"`outlets.duty-mail.password`" + ` is
` + "`MULLEIN_OUTLET_DUTY_MAIL_PASSWORD`" + `; lists and mappings are written as YAML. With ` + "`_FILE`" + ` behind it, it names a file that holds the value,
for secrets. Secrets are never shown.

Outlets, ` + "`tell`" + `, ` + "`connections`" + `, ` + "`places`" + `, ` + "`queues`" + `, ` + "`sign_in`" + `, ` + "`address`" + ` and ` + "`price`" + ` are taken up while the service runs; a file that is wrong then is said in the log and in
` + "`mullein status`" + `, and what was before holds. All else needs a restart.

| setting | default | what it says |
|---|---|---|
`

// describe writes a line for each setting of a type.
func describe(b *bytes.Buffer, path string, t reflect.Type, standard reflect.Value) {
	for field := range t.Fields() {
		at, inner := under(path, field.Tag.Get("json")), field.Type
		byDefault := ""
		if standard.IsValid() {
			if v := standard.FieldByIndex(field.Index); !v.IsZero() && inner.Kind() != reflect.Struct {
				byDefault = fmt.Sprintf("`%v`", v.Interface())
			}
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", at, byDefault, strings.ReplaceAll(field.Tag.Get("doc"), "|", "\\|"))
		value := reflect.Value{}
		if standard.IsValid() && inner.Kind() == reflect.Struct {
			value = standard.FieldByIndex(field.Index)
		}
		switch inner.Kind() {
		case reflect.Map:
			inner, at = inner.Elem(), at+".NAME"
		case reflect.Slice:
			inner, at = inner.Elem(), at+"[]"
		case reflect.Pointer:
			inner = inner.Elem()
		}
		if inner.Kind() == reflect.Struct {
			describe(b, at, inner, value)
		}
	}
}
