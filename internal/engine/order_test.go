package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// stock is what each store has: the newest day counts.
const stock = `feed: stock
landing: {at: in, files: "S_{slot:%Y%m%d}*.csv", settle: 50ms}
schema:
  fields: [{name: store}, {name: buoys, type: integer}]
  primaryKey: store
tolerate: {rejects: 1}
delete_when: row.buoys == 0
target: {table: river.stock}
`

// TestTheNewestSlotWins delivers days out of order, corrects and mends an old one,
// loads it again, recalls a newer one and puts it back.
func TestTheNewestSlotWins(t *testing.T) {
	t.Parallel()
	h := newHouse(t, stock).start()
	rows := func() []string {
		return h.lines("SELECT concat_ws(' ', store, buoys, from_file) FROM river.stock ORDER BY 1")
	}
	first := h.loadedFile("S_20260720.csv", "store,buoys\nmill,20\nweir,20\nford,0\n")
	late := h.loadedFile("S_20260719.csv", "store,buoys\nmill,19\nford,19\nlock,19\nbridge,many\n")
	assert.Equal(t, balance.Balance{Read: 4, Inserted: 1, Outdated: 2, Rejected: 1}, late.Balance)
	want := []string{"lock 19 S_20260719.csv", "mill 20 S_20260720.csv", "weir 20 S_20260720.csv"}
	assert.Equal(t, want, rows())

	v, err := h.engine.inspect.Verify(ctx, late.ID)
	require.NoError(t, err)
	assert.EqualValues(t, []int64{1, 1, 1, 0, 0}, []int64{v.Same, v.Newer, v.Gone, v.Later, v.Different + v.Missing})

	newest := h.loadedFile("S_20260721.csv", "store,buoys\nmill,20\nlock,21\n")
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Unchanged: 1}, newest.Balance)
	_, err = h.engine.inspect.Mend(ctx, late.ID, []ledger.MendedRow{{Number: 1, Text: "lock,7"}}, "ada", "typed wrong")
	require.NoError(t, err)
	mended := h.arrival("(mended")
	require.Equal(t, ledger.Loaded, mended.State, mended.Reason)
	assert.Equal(t, balance.Balance{Read: 1, Outdated: 1}, mended.Balance, "a mended row is as old as its file")

	sent := &inspect.Sent{Name: "S_20260718.csv", Size: 20, File: strings.NewReader("store,buoys\nmill,18\n")}
	r, err := h.engine.inspect.Rehearse(ctx, parsed(t, stock), "", sent)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Read: 1, Outdated: 1}, r.Balance, "a rehearsal knows it too")

	h.drop("S_20260719.csv", "store,buoys\nmill,190\nlock,190\n")
	h.wait("the correction", func() bool {
		again, _, err := h.ledger.Arrivals(ctx, ledger.Filter{Feed: "stock", State: ledger.Loaded, Most: 10})
		return err == nil && again[0].Path == "S_20260719.csv" && again[0].ID != late.ID
	})
	_, err = h.ledger.Decide(ctx, ledger.Redo, []int64{first.ID}, "me", "once more")
	require.NoError(t, err)
	h.wait("the redo of the first", func() bool {
		a, err := h.ledger.Arrival(ctx, first.ID)
		return err == nil && a.State == ledger.Loaded && a.Generation == 2
	})
	want = []string{"lock 21 S_20260721.csv", "mill 20 S_20260721.csv", "weir 20 S_20260720.csv"}
	assert.Equal(t, want, rows())

	v, err = h.engine.inspect.Verify(ctx, mended.ID)
	require.NoError(t, err)
	assert.EqualValues(t, []int64{0, 1, 0, 0, 0}, []int64{v.Same, v.Newer, v.Gone, v.Later, v.Different + v.Missing})

	_, err = h.engine.inspect.Recall(ctx, newest.ID, table.TakeOut, "me", "wrong")
	require.NoError(t, err)
	assert.Equal(t, []string{"lock 190 S_20260719.csv", "mill 20 S_20260720.csv", "weir 20 S_20260720.csv"}, rows(),
		"the next newest counts")
	_, err = h.engine.inspect.Recall(ctx, newest.ID, table.PutBack, "me", "right")
	require.NoError(t, err)
	assert.Equal(t, want, rows())
}

// TestVerifySaysWhenTheFileIsAnother rewrites a file in place, with its size and its time.
func TestVerifySaysWhenTheFileIsAnother(t *testing.T) {
	t.Parallel()
	h := newHouse(t, stock).start()
	at := time.Date(2026, 7, 20, 6, 0, 0, 0, time.UTC)
	h.dropAt("S_20260720.csv", "store,buoys\nmill,20\n", at)
	a := h.arrival("S_20260720.csv")
	file := filepath.Join(h.root, "in", "S_20260720.csv")
	require.NoError(t, os.WriteFile(file, []byte("store,buoys\nmill,21\n"), 0o644))
	require.NoError(t, os.Chtimes(file, at, at))
	_, err := h.engine.inspect.Verify(ctx, a.ID)
	assert.ErrorContains(t, err, "its file is another by now")
}
