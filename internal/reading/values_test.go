package reading

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// kept keeps the values of rows as texts; null is <null>.
type kept struct{ rows [][]string }

func (k *kept) Add(values []tabular.Value, _ int64, _ int, _ []byte) {
	var row []string
	for i := range values {
		if values[i].Kind == tabular.Null {
			row = append(row, "<null>")
		} else {
			row = append(row, values[i].String())
		}
	}
	k.rows = append(k.rows, row)
}

func (k *kept) Len() int { return len(k.rows) }

// read reads a file by a feed, and returns its rows and the reasons of its rejects.
func read(t *testing.T, definition, content string) (rows [][]string, rejects []string) {
	t.Helper()
	k, r := readWhole(t, definition, content)
	for _, reject := range r.Rejects() {
		rejects = append(rejects, reject.Column+": "+reject.Reason)
	}
	return k.rows, rejects
}

// readWhole reads a file by a feed.
func readWhole(t *testing.T, definition, content string) (kept, *File) {
	t.Helper()
	f, err := feed.Parse("x.yaml",
		[]byte("feed: x\nlanding: {at: in, files: \"*\"}\ntolerate: {rejects: 100%}\ntarget: {table: x, mode: "+
			"append}\n"+definition))
	require.NoError(t, err)
	plan, err := NewPlan(f)
	require.NoError(t, err)
	r, err := plan.Open(Subject{Path: "x", Size: int64(len(content)), Digest: "known"},
		Source{Bytes: bytes.NewReader([]byte(content))}, &Counter{})
	require.NoError(t, err)
	var k kept
	for err == nil {
		err = r.Fill(&k, 1<<20)
	}
	require.ErrorIs(t, err, io.EOF)
	return k, r
}

// TestAnEmptyTextIsAText where the format has a null of its own, unless the feed says
// that it stands for none.
func TestAnEmptyTextIsAText(t *testing.T) {
	const fields = "\n  fields: [{name: note}, {name: level, type: number}]\n"
	rows, rejects := read(t, "format: jsonl\nschema:"+fields,
		`{"note": "", "level": 1}`+"\n"+`{"note": null, "level": null}`+"\n"+`{"note": "x", "level": ""}`+"\n")
	assert.Equal(t, [][]string{{"", "1"}, {"<null>", "<null>"}}, rows)
	assert.Equal(t, []string{"level: not a number"}, rejects)
	rows, _ = read(t, "format: jsonl\nschema:\n  missingValues: [\"\"]"+fields, `{"note": "", "level": ""}`+"\n")
	assert.Equal(t, [][]string{{"<null>", "<null>"}}, rows)
	rows, _ = read(t, "schema:"+fields, "note,level\n,1\nx,\n")
	assert.Equal(t, [][]string{{"<null>", "1"}, {"x", "<null>"}}, rows, "a text format has no other way to say it")
}
