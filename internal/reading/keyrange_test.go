package reading

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// TestKeyRange holds the least and the greatest value of each column of the key against the rows of a file.
func TestKeyRange(t *testing.T) {
	const feedFile = `feed: f
landing: {at: in, files: "*.csv"}
%s
schema:
  fields:
    - {name: id}
    - {name: at, type: date}
    - {name: n, type: number}
    - {name: v, type: integer}
  primaryKey: [%s]
delete_when: row.v == 0
tolerate: {rejects: 10}
target: {table: t}
`
	long := strings.Repeat("x", 300)
	for _, c := range []struct {
		name, more, key, rows string
		want                  map[string]tabular.Range
	}{
		{"by the order of the type", "", "id, at, n", "b,2026-11-09,9,1\na,2026-11-10,10,1\nB,2026-11-08,-2.50,1\n",
			map[string]tabular.Range{"id": {From: "B", To: "b"}, "at": {From: "2026-11-08", To: "2026-11-10"},
				"n": {From: "-2.50", To: "10"}}},
		{"rejects do not count, and deleted keys do", "", "id", "m,2026-11-09,1,1\nz,2026-13-09,1,1\na,2026-11-09,1,0\n",
			map[string]tabular.Range{"id": {From: "a", To: "m"}}},
		{"long texts", "", "id, v", "a,2026-11-09,1,1\n" + long + ",2026-11-09,1,2\n",
			map[string]tabular.Range{"v": {From: "1", To: "2"}}},
		{"private columns", "private: [id]", "id, v", "a,2026-11-09,1,1\n", map[string]tabular.Range{"v": {From: "1", To: "1"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := feed.Parse("f.yaml", []byte(fmt.Sprintf(feedFile, c.more, c.key)))
			require.NoError(t, err)
			plan, err := NewPlan(f)
			require.NoError(t, err)
			text := "id,at,n,v\n" + c.rows
			file, err := plan.Open(Subject{Path: "a.csv", Size: int64(len(text))}, Source{Bytes: bytes.NewReader([]byte(text))},
				new(Counter))
			require.NoError(t, err)
			require.ErrorIs(t, file.Fill(new(bytesOf), 1<<20), io.EOF)
			assert.Equal(t, c.want, file.KeyRange())
		})
	}
}
