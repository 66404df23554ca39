package feed

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryKeyHasAnExample reads the examples of docs, and demands that every
// key that works stands in one of them.
func TestEveryKeyHasAnExample(t *testing.T) {
	files, err := filepath.Glob("../../../docs/examples/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	shown := map[string]bool{}
	var visit func(n *node, path string)
	visit = func(n *node, path string) {
		for _, f := range n.fields {
			p := strings.TrimPrefix(path+"."+f.name, ".")
			shown[p] = true
			visit(f.value, p)
		}
		for _, item := range n.items {
			visit(item, path)
		}
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		inlined, err := Inline(filepath.Base(file), text, nil, func(name string) ([]byte, error) {
			return os.ReadFile(filepath.Join(filepath.Dir(file), name))
		})
		require.NoError(t, err)
		_, err = Parse(filepath.Base(file), inlined)
		assert.NoError(t, err)
		r := &reader{}
		visit(r.yaml(text), "")
	}
	for _, k := range Reference() {
		assert.True(t, shown[k.Path], "no example shows %s", k.Path)
	}
}
