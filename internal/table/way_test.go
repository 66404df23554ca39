package table

import (
	"errors"
	"fmt"
	"io"
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
			direct, err := l.GoDirect(ctx, "gauges", s.fence, 7, []Part{part}, int64(len(r)))
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

// severalParts hands in the rows of several files, of which only the first rows are to be
// known from memory.
type severalParts struct {
	parts []rows
	known int
}

func (s *severalParts) Fill(b *Batch, _ int) error {
	n := 0
	for part, of := range s.parts {
		b.Begin(part)
		for i, x := range of {
			if d, direct := b.form.(*directForm); direct && n == s.known {
				b.seen, d.winners.closed = d.winners.filter(b.expect), true
			}
			x.add(b, int64(i+2))
			n++
		}
	}
	return io.EOF
}

// TestSeveralFilesGoStraightIn loads several files into an empty table at once, and compares
// with loading one after the other. A key that stands in two of them sends all to the
// staging table.
func TestSeveralFilesGoStraightIn(t *testing.T) {
	t.Parallel()
	table := gauge(standard)
	table.Journal, table.Newest = true, "revision"
	files := []rows{nil, {}, nil, nil}
	for i := range int64(200) {
		files[0] = append(files[0], row{"A", i % 150, i, i * 7 % 11})
		files[2] = append(files[2], row{"B", i, 100, 1})
		files[3] = append(files[3], row{"C", i % 90, i, i % 4})
	}
	files[2] = append(files[2], row{"B", 3, 7, 1}, row{"B", 3, 8, 0})
	crossing := slices.Clone(files)
	crossing[3] = append(slices.Clone(files[3]), row{"B", 199, 1, 9})
	parts := make([]Part, len(files))
	for i := range parts {
		parts[i] = Part{File: fmt.Sprint("file ", i), Arrival: int64(i + 1)}
	}
	const query = "SELECT (to_jsonb(t) - 'loaded_at')::text FROM river.gauge t ORDER BY 1"
	one := open(t)
	var want []balance.Balance
	for i, part := range parts {
		counts, _ := one.by(table, 1<<40, part, 1, files[i])
		want = append(want, counts)
	}
	for name, known := range map[string]int{"all": 1000, "some": 250, "none": 0} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			fitted, err := s.db.Fit(ctx, table)
			require.NoError(t, err)
			load := func(files []rows) (counts []balance.Balance, err error) {
				l, err := s.session.Begin(ctx, fitted, len(parts))
				require.NoError(t, err)
				defer l.Close(ctx)
				l.many = 1
				direct, err := l.GoDirect(ctx, "gauges", s.fence, 7, parts, 700)
				require.NoError(t, err)
				require.True(t, direct)
				if err = l.Stage(ctx, &severalParts{files, known}, 700); err == nil {
					if err = l.Lock(ctx, "gauges", s.fence); err == nil {
						counts, err = l.Merge(ctx, 7, parts)
					}
				}
				if err != nil {
					return nil, err
				}
				var markers []Marker
				for i, p := range parts {
					counts[i].Read = int64(len(files[i]))
					require.NoError(t, counts[i].Err())
					markers = append(markers, Marker{Feed: "gauges", Part: i, Delivery: fmt.Sprint(p.Arrival), Generation: 1,
						Arrival: p.Arrival, Fence: s.fence, Balance: counts[i]})
				}
				require.NoError(t, l.Mark(ctx, markers))
				return counts, l.Commit(ctx)
			}
			_, err = load(crossing)
			require.ErrorIs(t, err, ErrRestage)
			require.Equal(t, []string{"0"}, s.lines("SELECT count(*)::text FROM river.gauge"))
			got, err := load(files)
			require.NoError(t, err)
			assert.Equal(t, want, got)
			assert.Equal(t, one.lines(query), s.lines(query))
			assert.Equal(t, one.lines("SELECT concat(arrival, ' ', rows_before, ' ', rows_after) FROM mullein.load ORDER BY nth"),
				s.lines("SELECT concat(arrival, ' ', rows_before, ' ', rows_after) FROM mullein.load ORDER BY nth"))
			assert.Equal(t, []string{"p"},
				s.lines("SELECT contype::text FROM pg_constraint WHERE conrelid = 'river.gauge'::regclass"), "the key is back")
		})
	}
}
