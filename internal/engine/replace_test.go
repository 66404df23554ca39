package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/table"
)

// TestFilesThatReplaceEachOther has several files of a run take each other's place, and
// takes one back.
func TestFilesThatReplaceEachOther(t *testing.T) {
	t.Parallel()
	for name, key := range map[string]string{"with a key": ", primaryKey: [id]", "without one": ""} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			h := newHouse(t, `feed: lists
landing: {at: in, files: "L_*.csv", settle: 50ms}
schema: {fields: [{name: id}, {name: v, type: integer}]`+key+`}
target: {table: river.list, mode: replace}
`)
			h.drop("L_1.csv", "id,v\na,1\nb,2\n")
			h.drop("L_2.csv", "id,v\nc,1\nd,2\ne,3\n")
			h.drop("L_3.csv", "id,v\nc,1\nf,2\n")
			h.start()
			last := h.arrival("L_3.csv")
			h.wait("all three", func() bool { return len(h.loaded()) == 3 })
			want := []string{"L_1.csv 0 2 -", "L_2.csv 2 3 2", "L_3.csv 3 2 3"}
			if key != "" {
				want[2] = "L_3.csv 3 2 2"
			}
			assert.Equal(t, want,
				h.lines("SELECT concat_ws(' ', a.path, m.rows_before, m.rows_after, "+
					"coalesce(nullif(m.balance->>'removed', '0'), '-')) FROM mullein.load m JOIN "+
					"mullein_records.arrival a ON a.id = m.arrival ORDER BY 1"))
			_, err := h.engine.inspect.Recall(ctx, last.ID, table.TakeOut, "me", "wrong")
			require.NoError(t, err)
			assert.Equal(t, []string{"c", "d", "e"}, h.lines("SELECT id FROM river.list ORDER BY 1"))
		})
	}
}
