package reading

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// sums is a receiver that keeps the first two columns' numbers and the lines.
type sums struct {
	ids, values, lines []int64
	texts              map[string]bool
}

func (s *sums) Add(values []tabular.Value, line int64, _ int, _ []byte) {
	last := &values[len(values)-1]
	s.ids, s.lines = append(s.ids, values[0].I), append(s.lines, line)
	s.values = append(s.values, values[aheadColumns].I)
	s.texts[string(last.B)] = true
}

func (s *sums) Len() int { return len(s.ids) }

// TestRowsOfWideFiles reads files whose rows are decoded aside, in pieces of all sizes: as text and
// as trees, with rejects among the rows, and broken in the midst.
func TestRowsOfWideFiles(t *testing.T) {
	t.Parallel()
	const rows = 8_000
	fields := "\nschema:\n  fields:\n    - {name: id, type: integer}\n"
	var text, lines strings.Builder
	text.WriteString("id")
	for c := 1; c <= aheadColumns; c++ {
		fields += fmt.Sprintf("    - {name: c%d, type: integer}\n", c)
		fmt.Fprintf(&text, ",c%d", c)
	}
	fields += "    - {name: note}\n"
	text.WriteString(",note\n")
	for i := range rows {
		fmt.Fprint(&text, i)
		fmt.Fprintf(&lines, `{"id": %d`, i)
		for c := 1; c <= aheadColumns; c++ {
			cell := fmt.Sprint(i + c)
			if i%2000 == 1999 && c == 3 {
				cell = "none"
			}
			fmt.Fprint(&text, ",", cell)
			fmt.Fprintf(&lines, `, "c%d": "%s"`, c, cell)
		}
		fmt.Fprintf(&text, ",\"a \"\"note\"\" of\n%d\"\n", i%7)
		fmt.Fprintf(&lines, `, "note": "a \"note\" of\n%d"}`+"\n", i%7)
	}
	open := func(format, content string) *File {
		f, err := feed.Parse("x.yaml", []byte("feed: x\nlanding: {at: in, files: \"*\"}\ntolerate: {rejects: 100%}\ntarget: {table: x, mode: "+
			"append}\nformat: "+format+fields))
		require.NoError(t, err)
		plan, err := NewPlan(f)
		require.NoError(t, err)
		r, err := plan.Open(Subject{Path: "x", Size: int64(len(content)), Digest: "known"},
			Source{Bytes: bytes.NewReader([]byte(content))}, &Counter{})
		require.NoError(t, err)
		return r
	}
	for _, of := range []struct {
		format, content string
		line            func(i int64) int64
	}{{"csv", text.String(), func(i int64) int64 { return 2 + 2*i }}, {"jsonl", lines.String(), func(i int64) int64 { return 1 + i }}} {
		for _, piece := range []int{50, 777, rows} {
			r := open(of.format, of.content)
			require.True(t, r.readsAhead())
			s := &sums{texts: map[string]bool{}}
			var err error
			for err == nil {
				err = r.Fill(s, s.Len()+piece)
			}
			require.Equal(t, io.EOF, err)
			require.ErrorIs(t, r.Fill(s, rows+1), io.EOF, "as often as one asks")
			require.Equal(t, rows-rows/2000, s.Len())
			var ids, values, lines []int64
			for i := range int64(rows) {
				if i%2000 != 1999 {
					ids, values, lines = append(ids, i), append(values, i+aheadColumns), append(lines, of.line(i))
				}
			}
			assert.True(t, slices.Equal(ids, s.ids) && slices.Equal(values, s.values) && slices.Equal(lines, s.lines))
			assert.Len(t, s.texts, 7)
			assert.True(t, s.texts["a \"note\" of\n6"], s.texts)
			require.Len(t, r.Rejects(), rows/2000)
			assert.Equal(t, of.line(1999), r.Rejects()[0].Line)
			assert.Equal(t, "none", r.Rejects()[0].Value)
			assert.Contains(t, r.Rejects()[0].Original, "none")
			assert.EqualValues(t, rows, r.Counts().Read)
		}
	}
	r := open("csv", text.String()[:text.Len()-2])
	s := &sums{texts: map[string]bool{}}
	err := r.Fill(s, rows)
	var broken *decode.FileError
	require.ErrorAs(t, err, &broken)
	assert.Equal(t, rows-rows/2000, s.Len(), "those before it are there")
	r = open("csv", text.String())
	require.NoError(t, r.Fill(s, s.Len()+1))
	_, found, err := r.RowAt(2 + 2*100)
	require.NoError(t, err)
	assert.True(t, found, "who reads on finds what was decoded")
}
