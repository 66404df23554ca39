package table

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
)

// by loads rows in the shortest way for loads of at least many rows, which is told, or
// staged where they have to be.
func (s *shop) by(table *Table, many int64, part Part, generation int, r rows) (balance.Balance, string) {
	s.t.Helper()
	fitted, err := s.db.Fit(ctx, table)
	require.NoError(s.t, err)
	for _, shortest := range []bool{true, false} {
		l, err := s.session.Begin(ctx, fitted, 1)
		require.NoError(s.t, err)
		defer l.Close(ctx)
		l.many, l.few = many, many
		_, err = l.Replacing(ctx, part.Replaces)
		require.NoError(s.t, err)
		if shortest {
			direct, err := l.GoDirect(ctx, "gauges", s.fence, 7, part, int64(len(r)))
			require.NoError(s.t, err)
			if !direct {
				_, err = l.SkipUnchanged(ctx, part, int64(len(r)))
				require.NoError(s.t, err)
			}
		}
		source := slices.Clone(r)
		require.NoError(s.t, l.Stage(ctx, &source, int64(len(r))))
		var counts []balance.Balance
		if err = l.Lock(ctx, "gauges", s.fence); err == nil {
			counts, err = l.Merge(ctx, 7, []Part{part})
		}
		if shortest && errors.Is(err, ErrRestage) {
			l.Close(ctx)
			continue
		}
		require.NoError(s.t, err)
		counts[0].Read = int64(len(r))
		require.NoError(s.t, counts[0].Err())
		require.NoError(s.t, l.Mark(ctx, []Marker{{Feed: "gauges", Delivery: fmt.Sprint(part.Arrival),
			Generation: generation, Arrival: part.Arrival, Fence: s.fence, Balance: counts[0]}}))
		require.NoError(s.t, l.Commit(ctx))
		way := fmt.Sprintf("%T", l.way)
		if way == "*table.skippingWay" && l.way.skipped() == 0 {
			way += ", none skipped"
		}
		return counts[0], way
	}
	s.t.Fatal("staged rows have to be staged")
	return balance.Balance{}, ""
}

// TestEachWayComesToTheSame loads the same files in each way, and compares the balances, the
// table with its lineage, and the journal.
func TestEachWayComesToTheSame(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	first := make(rows, 300)
	for i := range first {
		first[i] = row{"A", int64(i), 100, int64(i % 3)}
	}
	changed := slices.Clone(first)
	for i := range changed {
		if i%9 == 0 {
			changed[i].level, changed[i].revision = 200, 7
		}
	}
	shuffled := slices.Clone(changed)
	random.Shuffle(len(shuffled), func(i, k int) { shuffled[i], shuffled[k] = shuffled[k], shuffled[i] })
	all := slices.Clone(shuffled)
	for i := range all {
		all[i].level, all[i].revision = int64(300+i), 8
	}
	files := []struct {
		what string
		rows rows
		way  string // that is the shortest
		redo int    // the number of the file that is loaded again; 0 for none
	}{
		{"first", append(slices.Clone(first), first[5]), "*table.directWay", 0},
		{"again", append(slices.Clone(first[3:]), first[5]), "*table.skippingWay", 1},
		{"again, whole", append(slices.Clone(first), first[5]), "*table.skippingWay", 1},
		{"again, with nothing that changes", append(slices.Clone(first), first[5]), "*table.skippingWay", 1},
		{"again, with another row of a key", append(slices.Clone(first), row{"A", 6, 90, 9}), "*table.stagedWay", 1},
		{"the same", first, "*table.skippingWay", 0},
		{"some changed", changed, "*table.skippingWay", 0},
		{"in another order", shuffled, "*table.skippingWay", 0},
		{"twice the same key", append(slices.Clone(shuffled), row{"A", 7, 95, 9}), "*table.stagedWay", 0},
		{"more rows", append(slices.Clone(changed[:200]), row{"B", 1, 1, 1}, row{"B", 2, 1, 1}), "*table.skippingWay", 0},
		{"the first part", shuffled[:200], "*table.skippingWay", 0},
		{"all changed", all, "*table.skippingWay, none skipped", 0},
		{"all new", rows{{"C", 1, 1, 1}, {"C", 2, 1, 1}, {"C", 3, 1, 1}}, "*table.stagedWay", 0},
		{"nearly all new", rows{{"D", 1, 1, 1}, {"D", 2, 1, 1}, {"C", 3, 2, 2}}, "*table.stagedWay", 0},
	}
	newest := map[string]string{"the later": "", "the greatest revision": "revision"}
	for name, column := range newest {
		t.Run(name, func(t *testing.T) {
			table := gauge(standard)
			table.Journal, table.Newest = true, column
			staged, shortest := open(t), open(t)
			for i, f := range files {
				part := Part{File: f.what, Arrival: int64(i + 1)}
				if f.redo > 0 {
					part = Part{File: files[f.redo-1].what, Arrival: int64(f.redo), Replaces: []int64{int64(f.redo)}}
				}
				want, _ := staged.by(table, 1<<40, part, i+1, f.rows)
				got, way := shortest.by(table, 1, part, i+1, f.rows)
				assert.Equal(t, want, got, f.what)
				assert.Equal(t, f.way, way, f.what)
				for _, query := range []string{
					"SELECT (to_jsonb(t) - 'loaded_at')::text FROM river.gauge t ORDER BY 1",
					"SELECT concat(arrival, ' ', key, ' ', what, ' ', before::jsonb - 'loaded_at', given::jsonb - " +
						"'loaded_at') FROM mullein.change JOIN mullein.load ON nth = load ORDER BY 1",
					"SELECT concat(arrival, ' ', generation, ' ', active, ' ', balance) FROM mullein.load ORDER BY nth",
					"SELECT rows::text FROM mullein.target",
				} {
					require.Equal(t, staged.lines(query), shortest.lines(query), f.what)
				}
				for _, s := range []*shop{staged, shortest} {
					assert.Equal(t, []string{"0"}, s.lines(
						"SELECT count(*)::text FROM river.gauge t WHERE NOT t.xmin::text::bigint = ANY(ARRAY("+
							"SELECT unnest(writers) FROM mullein.load))"), "each row was written by a load: %s", f.what)
				}
			}
		})
	}
}

// TestManyRowsAreRehearsed holds many rows against a table in a transaction that may only
// read, in which not all can be done that prepares for them.
func TestManyRowsAreRehearsed(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	s.loaded(table, 1, row{"A", 1, 10, 1})
	l := s.staged(table, func(f *Fitted) (*Load, error) {
		l, err := s.session.Rehearse(ctx, f, 2)
		if err == nil {
			l.many, l.few = 1, 1
		}
		return l, err
	}, []row{{"A", 1, 150, 2}}, []row{{"B", 2, 250, 1}})
	defer l.Close(ctx)
	total, _, err := l.Compare(ctx, 5)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Inserted: 1, Updated: 1}, total)
}
