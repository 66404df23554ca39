package engine

import (
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/rollup"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/table"
)

// awkward are names of columns that SQL, or ours, could take for something else.
func awkward() []string {
	var names []string
	for c := 'a'; c <= 'z'; c++ {
		names = append(names, string(c))
	}
	return append(names, "select", "from", "user", "order", "group", "table", "row", "key", "value", "before",
		"after", "given", "load", "what",
		"nth", "sid", "tid", "class", "place", "digest", "suspect", "c0", "c1", "image", "rank", "taken", "fresh",
		"gone", "put", "noted", "arrival",
		"new", "old", "tg_op", "new_rows", "old_rows", "both_rows", "target", "feed", "Level", "LEVEL", "a b", " x",
		"it's", `say "so"`, "höhe", "水位", "%s", "$1",
		"computed", "excluded", strings.Repeat("n", 63), strings.Repeat("é", 31))
}

// TestColumnsWithAwkwardNames takes a table whose columns bear the names of aliases,
// keywords and odd characters through all that is done to tables.
func TestColumnsWithAwkwardNames(t *testing.T) {
	t.Parallel()
	names := awkward()
	var fields, derived strings.Builder
	for _, n := range names {
		fmt.Fprintf(&fields, "    - {name: '%s'}\n", strings.ReplaceAll(n, "'", "''"))
	}
	derived.WriteString("derive: {of: file.captures.slot}\n")
	text := `feed: odd
landing: {at: in, files: "O_{slot:%Y%m%d}_{part}.csv", settle: 50ms, reissue: replace}
schema:
  primaryKey: [t, g]
  fields:
` + fields.String() + derived.String() + `delete_when: row.x == "gone"
target: {table: river.odd}
`
	h := newHouse(t, text).start()
	file := func(rows ...map[string]string) string {
		var b strings.Builder
		w := csv.NewWriter(&b)
		require.NoError(t, w.Write(names))
		for i, r := range rows {
			line := make([]string, len(names))
			for k, n := range names {
				if line[k] = r[n]; line[k] == "" {
					line[k] = fmt.Sprintf("%d%s", i, n)
				}
			}
			require.NoError(t, w.Write(line))
		}
		w.Flush()
		return b.String()
	}
	of := func(key, n string) map[string]string { return map[string]string{"t": key, "g": key, "n": n} }
	const total = `{rollup: odd-sums, table: river.odd_sum, key: [k, row], select: 'SELECT n AS k, x AS "row", count(*) AS q FROM river.odd GROUP BY 1, 2', from: {river.odd: {k: n, row: x}}}`
	one := h.loadedFile("O_20260701_a.csv", file(of("1", "one"), of("2", "one"), of("1", "two")))
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 2, Duplicate: 1}, one.Balance)
	targets, err := h.engine.Database(parsed(t, text))
	require.NoError(t, err)
	r, err := rollup.Parse("odd.yaml", []byte(total))
	require.NoError(t, err)
	require.NoError(t, targets.CheckRollup(ctx, r))
	require.NoError(t, targets.PutRollup(ctx, r, total, "me"))
	rollupRight := func() {
		t.Helper()
		err := targets.KeepRollups(ctx, func(string, int64) error { return nil })
		require.NoError(t, err)
		v, err := targets.VerifyRollup(ctx, "odd-sums")
		require.NoError(t, err)
		assert.Equal(t, v.Rows, v.Same, "%+v", v)
		assert.NotZero(t, v.Rows)
	}
	rollupRight()

	two := h.loadedFile("O_20260702_a.csv", file(of("1", "three"), of("3", "three"),
		map[string]string{"t": "2", "g": "2", "x": "gone"}))
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 1, Updated: 1, Deleted: 1}, two.Balance)
	late := h.loadedFile("O_20260630_a.csv", file(of("1", "late"), of("2", "late"), of("4", "late")))
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 1, Outdated: 2}, late.Balance)
	rollupRight()
	rehearsed, err := h.engine.inspect.Rehearse(ctx, parsed(t, text), "",
		&inspect.Sent{Name: "O_20260703_a.csv", Size: 9,
			File: strings.NewReader(file(of("1", "four"), of("9", "four")))})
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 1, Updated: 1}, rehearsed.Balance, rehearsed.Refused)

	for _, aim := range []table.Aim{table.TakeOut, table.PutBack} {
		_, err = h.engine.inspect.PreviewRecall(ctx, two.ID, aim)
		require.NoError(t, err)
		_, err = h.engine.inspect.Recall(ctx, two.ID, aim, "me", "odd")
		require.NoError(t, err)
		rollupRight()
	}
	history, err := h.engine.inspect.History(ctx, parsed(t, text), map[string]string{"t": "1", "g": "1"})
	require.NoError(t, err)
	assert.Len(t, history.Steps, 2)
	v, err := h.engine.inspect.Verify(ctx, two.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 0, v.Different+v.Missing)

	h.drop("O_20260702_a.csv", file(of("1", "corrected"), of("3", "three")))
	h.wait("the correction", func() bool { return h.count("river.odd WHERE n = 'corrected'") == "1" })
	_, err = h.ledger.Decide(ctx, ledger.Redo, []int64{one.ID}, "me", "once more")
	require.NoError(t, err)
	h.wait("the redo", func() bool {
		a, err := h.ledger.Arrival(ctx, one.ID)
		return err == nil && a.State == ledger.Loaded && a.Generation == 2
	})
	rollupRight()
	rows := h.lines(`SELECT concat_ws(' ', t, n) FROM river.odd ORDER BY 1`)
	assert.Equal(t, []string{"1 corrected", "2 one", "3 three", "4 late"}, rows)
	assert.EqualValues(t, 3, h.rebuild("odd", ledger.Rebuilding{Because: "odd"}).Loaded)
	assert.Equal(t, rows, h.lines(`SELECT concat_ws(' ', t, n) FROM river.odd ORDER BY 1`))

	for _, name := range []string{"ctid", "xmin", "tableoid"} {
		_, err := feed.Parse("odd.yaml", []byte(strings.Replace(text, "{name: 'a'}", "{name: "+name+"}", 1)))
		assert.ErrorContains(t, err, `every table of PostgreSQL has one of that name for itself`, name)
	}
}
