package table

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/tabular"
)

// gone is a Source of rows of which those with revision 99 delete their key.
type gone struct{ rows }

func (g *gone) Fill(b *Batch, size int) error {
	var keep rows
	for i, x := range g.rows {
		if x.revision != 99 {
			keep = append(keep, x)
			continue
		}
		b.Add([]tabular.Value{{Kind: tabular.Text, B: []byte(x.station)},
			{Kind: tabular.Instant, I: x.hour * 3600 * 1_000_000}, {}, {Kind: tabular.Integer, I: 99}}, int64(100+i),
			0, tabular.Deletes)
	}
	return keep.Fill(b, size)
}

// staged stages rows in two parts, without going on.
func (s *shop) staged(t *Table, begin func(*Fitted) (*Load, error), first, second []row) *Load {
	s.t.Helper()
	fitted, _, err := s.db.Look(ctx, t)
	require.NoError(s.t, err)
	l, err := begin(fitted)
	require.NoError(s.t, err)
	pieces := NewPieces(t, 10, true)
	var both []Piece
	for part, r := range [][]row{first, second} {
		pieces.Begin(part)
		source := gone{r}
		_ = source.Fill(pieces, 0)
		both = append(both, pieces.TakePiece())
	}
	require.NoError(s.t, l.StagePieces(ctx, both))
	return l
}

func TestAnswers(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	table.Deletes = true
	s.loaded(table, 1, row{"A", 1, 10, 1})
	l := s.staged(table, func(f *Fitted) (*Load, error) { return s.session.Begin(ctx, f, 2) },
		[]row{{"A", 1, 150, 1}, {"B", 2, 250, -1}, {"C", 3, 50, 99}}, []row{{"D", 24, 1000, 5}})
	defer l.Close(ctx)
	q := func(ask, column string) check.Question { return check.Question{Ask: ask, Column: column} }
	in := check.Question{Ask: "all_in", Column: "station", Table: "river.gauge", Other: "station"}
	questions := []check.Question{q("blank_share", "revision"), q("distinct_count", "station"), q("sum", "level"),
		q("smallest", "level"), q("greatest", "station"), q("newest_age", "at"), in}
	said := func(together bool) map[int]map[string]string {
		ask := l.Answer
		if together {
			ask = l.AnswerTogether
		}
		answers, err := ask(ctx, questions)
		require.NoError(t, err)
		out := map[int]map[string]string{}
		for part, of := range answers {
			out[part] = map[string]string{}
			for q, a := range of {
				out[part][q.Ask] = a.Value.String() + a.Note
			}
		}
		return out
	}
	first := map[string]string{"blank_share": "0.5", "distinct_count": "2", "sum": "4.00", "smallest": "1.50",
		"greatest": "B", "newest_age": "1970-01-01T02:00:00Z", "all_in": "false1 not in river.gauge: B"}
	second := map[string]string{"blank_share": "0", "distinct_count": "1", "sum": "10.00", "smallest": "10.00",
		"greatest": "D", "newest_age": "1970-01-02T00:00:00Z", "all_in": "false1 not in river.gauge: D"}
	assert.Equal(t, map[int]map[string]string{0: first, 1: second}, said(false),
		"rows that delete their key do not count")
	all := said(true)
	require.Len(t, all, 1)
	assert.Equal(t, "3", all[0]["distinct_count"])
	assert.Equal(t, "false2 not in river.gauge: B, D", all[0]["all_in"])
	_, err := l.AnswerTogether(ctx,
		[]check.Question{{Ask: "all_in", Column: "station", Table: "river.nothing", Other: "x"}})
	assert.ErrorContains(t, err, `relation "river.nothing" does not exist`)
}

// TestDeletingRows deletes keys that are there, and counts those that are not.
func TestDeletingRows(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	table.Newest, table.Deletes = "", true
	load := func(arrival int64, r ...row) balance.Balance {
		fitted, err := s.db.Fit(ctx, table)
		require.NoError(t, err)
		l, err := s.session.Begin(ctx, fitted, 1)
		require.NoError(t, err)
		defer l.Close(ctx)
		require.NoError(t, l.Stage(ctx, &gone{r}, 10))
		require.NoError(t, l.Lock(ctx, "gauges", s.fence))
		all, err := l.Merge(ctx, 7, []Part{{File: "f", Arrival: arrival}})
		require.NoError(t, err)
		require.NoError(t, l.Commit(ctx))
		return all[0]
	}
	assert.Equal(t, balance.Balance{Inserted: 2, Unchanged: 1}, load(1, row{"A", 1, 10, 1}, row{"B", 1, 10, 1},
		row{"C", 1, 0, 99}), "into an empty table")
	assert.Equal(t, balance.Balance{Unchanged: 2, Deleted: 1}, load(2, row{"A", 1, 10, 1}, row{"B", 1, 0, 99},
		row{"X", 1, 0, 99}))
	assert.Equal(t, []string{"A"}, s.lines("SELECT station FROM river.gauge"))
	assert.Equal(t, balance.Balance{Deleted: 1, Duplicate: 1}, load(3, row{"A", 1, 11, 1}, row{"A", 1, 0, 99}),
		"the later line wins: it deletes")
	assert.Empty(t, s.lines("SELECT station FROM river.gauge"))
}

func TestRehearsing(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	begin := func(f *Fitted) (*Load, error) { return s.session.Rehearse(ctx, f, 2) }
	_, changes, err := s.db.Look(ctx, table)
	require.NoError(t, err)
	assert.Contains(t, changes[len(changes)-1]+changes[0], "river")
	l := s.staged(table, begin, []row{{"A", 1, 150, 1}}, []row{{"B", 1, 250, 1}})
	total, samples, err := l.Compare(ctx, 5)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Inserted: 2}, total)
	require.Len(t, samples, 2)
	assert.Equal(t, "1.50", *samples[0].Values[2])
	assert.Empty(t, samples[0].Before)
	l.Close(ctx)
	assert.Equal(t, []string{"0"}, s.lines("SELECT count(*)::text FROM pg_class WHERE relname = 'gauge'"),
		"nothing was made")

	s.loaded(table, 1, row{"A", 1, 10, 5}, row{"B", 1, 10, 1}, row{"C", 1, 10, 1})
	l = s.staged(table, begin, []row{{"A", 1, 150, 1}, {"B", 1, 250, 2}},
		[]row{{"C", 1, 10, 1}, {"D", 1, 10, 1}, {"D", 1, 11, 1}})
	defer l.Close(ctx)
	total, samples, err = l.Compare(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Inserted: 1, Updated: 1, Unchanged: 1, Outdated: 1, Duplicate: 1}, total)
	var what []string
	for _, x := range samples {
		what = append(what, x.What+" "+*x.Values[0])
	}
	assert.Equal(t, []string{"inserted D", "updated B", "outdated A"}, what)
	assert.Equal(t, []int{2, 3}, samples[1].Changed)
	_, err = l.s.conn.Exec(ctx, "DELETE FROM river.gauge")
	assert.ErrorContains(t, err, "read-only transaction", "it could not write if it would")
}

func TestADeepRehearsalDoesNotWaitForLong(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	s.loaded(table, 1, row{"A", 1, 10, 5})
	other, err := s.db.pool.Begin(ctx)
	require.NoError(t, err)
	_, err = other.Exec(ctx, "LOCK TABLE river.gauge IN ACCESS EXCLUSIVE MODE")
	require.NoError(t, err)
	fitted := func() *Fitted {
		f := &Fitted{Table: table, casts: map[string]string{}, bytewise: true}
		require.NoError(t, s.db.pool.QueryRow(ctx, "SELECT 'river.gauge'::regclass::oid").Scan(&f.oid))
		return f
	}()
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	defer l.Close(ctx)
	source := rows{{"B", 1, 10, 5}}
	require.NoError(t, l.Stage(ctx, &source, 1))
	began := time.Now()
	_, err = l.Try(ctx, 0, []Part{{File: "x"}})
	assert.ErrorContains(t, err, "lock timeout")
	assert.Less(t, time.Since(began), 15*time.Second)
	require.NoError(t, other.Rollback(ctx))
}
