package settings

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
)

var blocks = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// TestTheDocumentationIsTrue has every example be what it says it is.
func TestTheDocumentationIsTrue(t *testing.T) {
	schema, text, err := Reference()
	require.NoError(t, err)
	for file, want := range map[string][]byte{"settings.schema.json": schema, "settings.md": text} {
		got, err := os.ReadFile("../../docs/" + file)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), "docs/%s is old: make docs", file)
	}
	compiler := jsonschema.NewCompiler()
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(schema)))
	require.NoError(t, err)
	require.NoError(t, compiler.AddResource("settings.schema.json", document))
	editor, err := compiler.Compile("settings.schema.json")
	require.NoError(t, err)
	check := func(text string) {
		var plain any
		require.NoError(t, yaml.Unmarshal([]byte(text), &plain))
		again, err := json.Marshal(plain)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(again)))
		require.NoError(t, err)
		assert.NoError(t, editor.Validate(value), text)
	}
	check(whole)
	page, err := os.ReadFile("../../docs/who-is-told.md")
	require.NoError(t, err)
	rights, err := os.ReadFile("../../docs/who-may.md")
	require.NoError(t, err)
	places, err := os.ReadFile("../../docs/places.md")
	require.NoError(t, err)
	page = slices.Concat(page, rights, places)
	settings, feeds := 0, 0
	for _, b := range blocks.FindAllStringSubmatch(string(page), -1) {
		if !strings.HasPrefix(b[1], "# mullein.yaml") {
			_, err := feed.Parse("example.yaml", []byte(b[1]))
			assert.NoError(t, err)
			feeds++
			continue
		}
		l := &Loaded{Settings: Default(), sources: map[string]string{}}
		if assert.NoError(t, l.take("mullein.yaml", []byte(b[1])), b[1]) {
			assert.NoError(t, l.check(), b[1])
		}
		check(b[1])
		settings++
	}
	assert.Equal(t, []int{8, 3}, []int{settings, feeds})
}
