package table

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
)

// inOrder loads arrivals of a rank each, and returns their balances.
func (s *shop) inOrder(table *Table, arrival, rank int64, r ...row) balance.Balance {
	s.t.Helper()
	fitted, err := s.db.Fit(ctx, table)
	require.NoError(s.t, err)
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(s.t, err)
	defer l.Close(ctx)
	part := Part{File: "f", Arrival: arrival}
	l.Rank(rank)
	direct, err := l.GoDirect(ctx, "gauges", s.fence, 7, []Part{part}, int64(len(r)))
	require.NoError(s.t, err)
	if !direct {
		_, err = l.SkipUnchanged(ctx, part, int64(len(r)))
		require.NoError(s.t, err)
	}
	require.NoError(s.t, l.Stage(ctx, &gone{r}, int64(len(r))))
	require.NoError(s.t, l.Lock(ctx, "gauges", s.fence))
	all, err := l.Merge(ctx, 7, []Part{part})
	require.NoError(s.t, err)
	require.NoError(s.t,
		l.Mark(ctx, []Marker{{Feed: "gauges", Delivery: fmt.Sprint(arrival), Generation: 1, Arrival: arrival,
			Fence: s.fence, Balance: all[0]}}))
	require.NoError(s.t, l.Commit(ctx))
	return all[0]
}

func ranked(change func(*Table)) *Table {
	t := gauge(standard)
	t.Newest, t.Ranked = "", true
	change(t)
	return t
}

// TestLateLoads is about loads that come after newer ones.
func TestLateLoads(t *testing.T) {
	t.Parallel()
	type step struct {
		rank int64
		rows []row
		want balance.Balance
	}
	a, b := row{"A", 1, 100, 1}, row{"B", 1, 100, 1}
	a2, aGone := row{"A", 1, 200, 1}, row{"A", 1, 0, 99}
	for name, c := range map[string]struct {
		table *Table
		steps []step
		want  []string
	}{
		"an older row does not win": {ranked(func(*Table) {}), []step{
			{20, []row{a2, b}, balance.Balance{Inserted: 2}},
			{19, []row{a, {"C", 1, 100, 1}}, balance.Balance{Inserted: 1, Outdated: 1}},
		}, []string{"A 2.00 1", "B 1.00 1", "C 1.00 2"}},
		"a newer load that found a row unchanged keeps it": {ranked(func(*Table) {}), []step{
			{1, []row{a, b}, balance.Balance{Inserted: 2}},
			{3, []row{a}, balance.Balance{Unchanged: 1}},
			{2, []row{a2, {"B", 1, 200, 1}}, balance.Balance{Updated: 1, Outdated: 1}},
		}, []string{"A 1.00 1", "B 2.00 3"}},
		"equal ranks: the later arrival": {ranked(func(*Table) {}), []step{
			{1, []row{a}, balance.Balance{Inserted: 1}}, {1, []row{a2}, balance.Balance{Updated: 1}},
		}, []string{"A 2.00 2"}},
		"a deletion outlives an older row, and not a newer one": {ranked(func(t *Table) { t.Deletes = true }), []step{
			{1, []row{a, b}, balance.Balance{Inserted: 2}},
			{3, []row{aGone, {"C", 1, 0, 99}}, balance.Balance{Deleted: 1, Unchanged: 1}},
			{2, []row{a2, {"C", 1, 100, 1}}, balance.Balance{Outdated: 2}},
			{4, []row{{"C", 1, 300, 1}}, balance.Balance{Inserted: 1}},
			{3, []row{{"C", 1, 0, 99}}, balance.Balance{Outdated: 1}},
		}, []string{"B 1.00 1", "C 3.00 4"}},
		"a deletion by a column": {func() *Table { t := gauge(standard); t.Deletes = true; return t }(), []step{
			{Unranked, []row{{"A", 1, 100, 5}}, balance.Balance{Inserted: 1}},
			{Unranked, []row{{"A", 1, 0, 99}}, balance.Balance{Deleted: 1}},
			{Unranked, []row{{"A", 1, 100, 98}}, balance.Balance{Outdated: 1}},
			{Unranked, []row{{"A", 1, 100, 100}}, balance.Balance{Inserted: 1}},
		}, []string{"A 1.00 4"}},
		"an older snapshot removes nothing newer": {ranked(func(t *Table) { t.Absent = feed.AbsentDelete }), []step{
			{3, []row{a, b}, balance.Balance{Inserted: 2}},
			{2, []row{{"A", 1, 300, 1}, {"C", 1, 100, 1}}, balance.Balance{Outdated: 2}},
			{4, []row{b}, balance.Balance{Unchanged: 1, Removed: 1}},
			{3, []row{a}, balance.Balance{Outdated: 1}},
		}, []string{"B 1.00 1"}},
		"an older replacement": {ranked(func(t *Table) { t.Mode = feed.Replace }), []step{
			{3, []row{a}, balance.Balance{Inserted: 1}}, {2, []row{a2, b}, balance.Balance{Outdated: 2}},
		}, []string{"A 1.00 1"}},
		"an older replacement without a key": {ranked(func(t *Table) { t.Mode, t.Key = feed.Replace, nil }), []step{
			{3, []row{a}, balance.Balance{Inserted: 1}}, {2, []row{a2, b}, balance.Balance{Outdated: 2}},
			{4, []row{b}, balance.Balance{Inserted: 1, Removed: 1}},
		}, []string{"B 1.00 3"}},
		"an older part": {ranked(func(t *Table) { t.Mode, t.Part = feed.ReplacePart, "station" }), []step{
			{3, []row{a}, balance.Balance{Inserted: 1}},
			{2, []row{{"A", 2, 100, 1}, b}, balance.Balance{Inserted: 1, Outdated: 1}},
		}, []string{"A 1.00 1", "B 1.00 2"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			for i, step := range c.steps {
				assert.Equal(t, step.want, s.inOrder(c.table, int64(i+1), step.rank, step.rows...), "step %d", i+1)
			}
			assert.Equal(t, c.want,
				s.lines("SELECT concat_ws(' ', station, level, from_arrival) FROM river.gauge ORDER BY 1"))
		})
	}
}

// TestLargeFilesThatComeLate loads files whose rows are not staged when the target has
// them: what they found unchanged is known all the same.
func TestLargeFilesThatComeLate(t *testing.T) {
	t.Parallel()
	s := open(t)
	const n = manyRows + 500
	file := make([]row, n)
	for i := range file {
		file[i] = row{"A", int64(i), 100, 1}
	}
	table := ranked(func(*Table) {})
	assert.Equal(t, balance.Balance{Inserted: n}, s.inOrder(table, 1, 10, file...))
	assert.Equal(t, balance.Balance{Unchanged: n}, s.inOrder(table, 2, 20, file...))
	assert.Equal(t, []string{"2 true 0"},
		s.lines("SELECT concat_ws(' ', m.arrival, c.others::text, cardinality(c.keys)) FROM mullein.confirmed c JOIN "+
			"mullein.load m ON m.nth = c.load"))
	part := slices.Clone(file[3:])
	part[0].level = 200
	assert.Equal(t, balance.Balance{Updated: 1, Unchanged: n - 4}, s.inOrder(table, 3, 30, part...))
	assert.Equal(t, []string{"3"},
		s.lines("SELECT cardinality(c.keys) FROM mullein.confirmed c JOIN mullein.load m ON m.nth = c.load WHERE "+
			"m.arrival = 3"))
	assert.Equal(t, balance.Balance{Outdated: 2, Updated: 1}, s.inOrder(table, 4, 25, row{"A", 1, 300, 1},
		row{"A", 3, 300, 1}, row{"A", 4, 300, 1}))
	assert.Equal(t, []string{"3.00"}, s.lines("SELECT level FROM river.gauge WHERE at = to_timestamp(3600)"))
	assert.Equal(t, balance.Balance{Outdated: 2, Unchanged: n - 2}, s.inOrder(table, 5, 15, file...),
		"two rows are newer")
}

// TestWhoWins goes through the cases of docs/the-target.md.
func TestWhoWins(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/the-target.md")
	require.NoError(t, err)
	_, cases, found := strings.Cut(string(text),
		"| the feed says | what comes, in this order | the row then |\n|---|---|---|\n")
	require.True(t, found)
	kindOf := map[string]string{"`newest: slot`": "rank", "`newest: arrival`": "upsert",
		"`newest: slot`, `delete_when`":    "rank and deletes",
		"`newest: arrival`, `delete_when`": "deletes", "`newest: slot`, `absent: delete`": "rank, absent deleted",
		"`newest: slot`, `absent: mark`": "rank, absent marked", "`newest: slot`, `mode: replace`": "rank, replace",
		"`mode: add_missing`": "add missing"}
	n := 0
	for line := range strings.Lines(cases) {
		cells := strings.Split(strings.TrimSpace(line), " | ")
		if len(cells) != 3 {
			break
		}
		n++
		kind := kindOf[strings.TrimPrefix(cells[0], "| ")]
		require.NotEmpty(t, kind, line)
		t.Run(strings.Join(cells[:2], " "), func(t *testing.T) {
			t.Parallel()
			p := newPlay(t, kind, 1)
			for step := range strings.SplitSeq(cells[1], ", ") {
				p.comes(step)
				require.True(t, p.check(), step)
			}
			then := "none"
			if r, there := p.fold().rows["a"]; there {
				if then = strconv.Itoa(r.value); r.absent {
					then += ", marked"
				}
			}
			want, _, _ := strings.Cut(strings.TrimSuffix(cells[2], " |"), ":")
			assert.Equal(t, want, then)
		})
	}
	assert.Greater(t, n, 15)
}

// comes does what a step of a case says.
func (p *play) comes(step string) {
	day := 0
	for _, form := range []struct {
		text string
		do   func(l *modelLoad)
	}{
		{"redo day %d", func(l *modelLoad) {
			p.deliver(&modelLoad{arrival: l.arrival, rows: l.rows, rank: l.rank}, []int64{l.arrival}, false)
		}},
		{"recall day %d", func(l *modelLoad) { p.recall(l, false, false) }},
		{"undo the recall of day %d", func(l *modelLoad) { p.recall(l, true, false) }},
	} {
		if n, _ := fmt.Sscanf(step, form.text, &day); n == 1 {
			form.do(p.loads[slices.IndexFunc(p.loads, func(l *modelLoad) bool { return l.rank == day })])
			return
		}
	}
	n, err := fmt.Sscanf(step, "day %d:", &day)
	require.True(p.t, n == 1 && err == nil, step)
	_, what, _ := strings.Cut(step, ": ")
	p.next++
	r := modelRow{key: "a", part: "0", age: "0", line: 2, arrival: p.next}
	switch what {
	case "deleted":
		r.gone = true
	case "not in it":
		r.key = "b"
	default:
		r.value, err = strconv.Atoi(what)
		require.NoError(p.t, err)
	}
	p.deliver(&modelLoad{arrival: p.next, rank: day, rows: []modelRow{r}}, nil, false)
}

// TestTheOrderIsForgotten forgets what loads left behind that are old enough.
func TestTheOrderIsForgotten(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := ranked(func(t *Table) { t.Deletes = true })
	s.inOrder(table, 1, 1, row{"A", 1, 100, 1}, row{"B", 1, 100, 1})
	s.inOrder(table, 2, 3, row{"A", 1, 0, 99}, row{"B", 1, 100, 1})
	kept := func() string {
		return s.lines("SELECT (SELECT count(*) FROM mullein.remembered) || ' ' || (SELECT count(*) FROM " +
			"mullein.confirmed)")[0]
	}
	for _, c := range []struct {
		since time.Duration
		n     int64
		kept  string
	}{{-time.Hour, 0, "1 1"}, {time.Hour, 2, "0 0"}} {
		n, err := s.db.Forget(ctx, map[string]time.Time{"gauges": time.Now().Add(c.since)}, 10)
		require.NoError(t, err)
		assert.Equal(t, c.n, n)
		assert.Equal(t, c.kept, kept())
	}
}

// batches is a Source of many rows.
type batches struct {
	rows
	next int
}

func (s *batches) Fill(b *Batch, size int) error {
	for ; s.next < len(s.rows) && b.Len() < size; s.next++ {
		s.rows[s.next].add(b, int64(s.next+2))
	}
	if s.next < len(s.rows) {
		return nil
	}
	return io.EOF
}

// bulk loads many rows, and returns how long that took.
func (s *shop) bulk(table *Table, part Part, generation int, r []row) time.Duration {
	began := time.Now()
	fitted, err := s.db.Fit(ctx, table)
	require.NoError(s.t, err)
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(s.t, err)
	defer l.Close(ctx)
	_, err = l.Replacing(ctx, part.Replaces)
	require.NoError(s.t, err)
	_, err = l.SkipUnchanged(ctx, part, int64(len(r)))
	require.NoError(s.t, err)
	require.NoError(s.t, l.Stage(ctx, &batches{rows: r}, int64(len(r))))
	require.NoError(s.t, l.Lock(ctx, "gauges", s.fence))
	all, err := l.Merge(ctx, 7, []Part{part})
	require.NoError(s.t, err)
	require.NoError(s.t,
		l.Mark(ctx, []Marker{{Feed: "gauges", Delivery: fmt.Sprint(part.Arrival), Generation: generation,
			Arrival: part.Arrival, Fence: s.fence, Balance: all[0]}}))
	require.NoError(s.t, l.Commit(ctx))
	return time.Since(began)
}

// BenchmarkReplace loads a corrected file of 23,000 rows, of which 35 differ, in place of
// the one that it corrects, into a table of 1.3 million rows; and the 1.25 million others
// once more, in place of themselves. Beside both stands an unchanged load of those.
func BenchmarkReplace(b *testing.B) {
	s := open(b)
	table := gauge(standard)
	table.Newest, table.Journal = "", true
	many, few := make([]row, 1_250_000), make([]row, 23_000)
	for i := range many {
		many[i] = row{"A", int64(i), 100, 1}
	}
	for i := range few {
		few[i] = row{"B", int64(i), 100, 1}
	}
	load := func(arrival int64, generation int, replaces []int64, rows []row) time.Duration {
		return s.bulk(table, Part{File: "f", Arrival: arrival, Replaces: replaces}, generation, rows)
	}
	load(1, 1, nil, many)
	load(2, 1, nil, few)
	s.exec("ANALYZE river.gauge")
	arrival, generation := int64(2), 1
	for b.Loop() {
		for i := range 35 {
			few[i*600].level++
		}
		arrival++
		generation++
		b.ReportMetric(float64(load(arrival, 1, []int64{arrival - 1}, few).Milliseconds()), "ms-23000-corrected")
		b.ReportMetric(float64(load(1, generation, []int64{1}, many).Milliseconds()), "ms-redo")
		b.ReportMetric(float64(load(1000+arrival, 1, nil, many).Milliseconds()), "ms-unchanged")
	}
}

// BenchmarkRecall changes 700,000 of a million rows, and takes that out again: while it is
// what happened last, and beneath another load that has changed them all since.
func BenchmarkRecall(b *testing.B) {
	const changed = 700_000
	for _, beneath := range []bool{false, true} {
		b.Run(map[bool]string{false: "last", true: "beneath"}[beneath], func(b *testing.B) {
			for b.Loop() {
				s := open(b)
				table := gauge(standard)
				table.Newest, table.Journal = "", true
				rows := make([]row, 1_000_000)
				for i := range rows {
					rows[i] = row{"A", int64(i), 100, 1}
				}
				s.bulk(table, Part{File: "first", Arrival: 1}, 1, rows)
				s.exec("ANALYZE river.gauge")
				want := Outcome{Restored: changed}
				for load := 2; load == 2 || load == 3 && beneath; load++ {
					for i := range changed {
						rows[i].level++
					}
					took := s.bulk(table, Part{File: fmt.Sprint(load), Arrival: int64(load)}, 1, rows[:changed])
					b.ReportMetric(float64(took.Milliseconds()), "ms-load")
					if load == 3 {
						want = Outcome{Same: changed}
					}
				}
				b.ReportMetric(s.recalled(table, (*Session).PreviewRecall, want, false), "ms-preview")
				b.ReportMetric(s.recalled(table, (*Session).BeginRecall, want, true), "ms-recall")
			}
		})
	}
}

// recalled takes arrival 2 out, or says what that would do, and returns how many
// milliseconds it took.
func (s *shop) recalled(t *Table, begin func(*Session, context.Context, *Fitted, string, Aim, []int64) (*Recall, error),
	want Outcome, commit bool) float64 {
	fitted, err := s.db.Fit(ctx, t)
	require.NoError(s.t, err)
	began := time.Now()
	c, err := begin(s.session, ctx, fitted, "gauges", TakeOut, []int64{2})
	require.NoError(s.t, err)
	defer c.Close(ctx)
	o, err := c.Outcome(ctx, 10)
	require.NoError(s.t, err)
	require.Equal(s.t, [3]int64{want.Restored, want.Same, 0}, [3]int64{o.Restored, o.Same, o.Left})
	if commit {
		require.NoError(s.t, c.Commit(ctx, "gauges", "me", "why"))
	}
	return float64(time.Since(began).Milliseconds())
}

// BenchmarkRanks loads a million rows, and the same again, in the order of arrival and in
// that of slots.
func BenchmarkRanks(b *testing.B) {
	many := make([]row, 1_000_000)
	for i := range many {
		many[i] = row{"A", int64(i), 100, 1}
	}
	for b.Loop() {
		for _, in := range []struct {
			order string
			ranks bool
		}{{"warming-up", false}, {"arrival", false}, {"slot", true}} {
			s := open(b)
			table := ranked(func(t *Table) { t.Ranked = in.ranks })
			began := time.Now()
			s.inOrder(table, 1, 1, many...)
			first := time.Since(began)
			s.inOrder(table, 2, 2, many...)
			b.ReportMetric(float64(first.Milliseconds()), "ms-first-by-"+in.order)
			b.ReportMetric(float64((time.Since(began) - first).Milliseconds()), "ms-again-by-"+in.order)
		}
	}
}

// TestFilesOfSeveralRanks loads small files together, of which each has a rank of its own.
func TestFilesOfSeveralRanks(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := ranked(func(t *Table) { t.Deletes = true })
	together := func(arrival, first, second int64, a, b []row) []balance.Balance {
		l := s.staged(table, func(f *Fitted) (*Load, error) {
			l, err := s.session.Begin(ctx, f, 2)
			if err == nil {
				l.Rank(first, second)
			}
			return l, err
		}, a, b)
		defer l.Close(ctx)
		require.NoError(t, l.Lock(ctx, "gauges", s.fence))
		counts, err := l.Merge(ctx, 7, []Part{{File: "a", Arrival: arrival}, {File: "b", Arrival: arrival + 1}})
		require.NoError(t, err)
		markers := make([]Marker, 2)
		for i := range markers {
			markers[i] = Marker{Feed: "gauges", Delivery: fmt.Sprint(arrival, i), Generation: 1, Part: i,
				Arrival: arrival + int64(i), Fence: s.fence, Balance: counts[i]}
		}
		require.NoError(t, l.Mark(ctx, markers))
		require.NoError(t, l.Commit(ctx))
		return counts
	}
	s.inOrder(table, 1, 2, row{"A", 1, 100, 1}, row{"B", 1, 100, 1}, row{"C", 1, 100, 1}, row{"D", 1, 100, 1})
	assert.Equal(t, []balance.Balance{{Unchanged: 1, Deleted: 1}, {Unchanged: 1}},
		together(2, 4, 6, []row{{"A", 1, 100, 1}, {"C", 1, 0, 99}}, []row{{"B", 1, 100, 1}}))
	assert.Equal(t, []balance.Balance{{Outdated: 1, Updated: 1, Duplicate: 1}, {Updated: 1, Outdated: 1}},
		together(4, 3, 5,
			[]row{{"A", 1, 300, 1}, {"C", 1, 300, 1}, {"D", 1, 300, 1}}, []row{{"A", 1, 500, 1}, {"B", 1, 500, 1}}))
	assert.Equal(t, []string{"A 5.00 5", "B 1.00 1", "D 3.00 4"},
		s.lines("SELECT concat_ws(' ', station, level, from_arrival) FROM river.gauge ORDER BY 1"))
}

// TestRowsThatChangeWhileARecallIsAtWork changes a row by hand when it is known what becomes
// of it: the recall gives up, and nothing is lost.
func TestRowsThatChangeWhileARecallIsAtWork(t *testing.T) {
	t.Parallel()
	for _, beneath := range []bool{false, true} {
		s := open(t)
		table := gauge(standard)
		table.Newest, table.Journal = "", true
		s.loaded(table, 1, row{"A", 1, 1, 1}, row{"B", 1, 1, 1})
		s.loaded(table, 2, row{"A", 1, 2, 1}, row{"B", 1, 2, 1})
		if beneath {
			s.loaded(table, 3, row{"A", 1, 3, 1})
		}
		fitted, err := s.db.Fit(ctx, table)
		require.NoError(t, err)
		c, err := s.session.BeginRecall(ctx, fitted, "gauges", TakeOut, []int64{2})
		require.NoError(t, err)
		_, err = c.Outcome(ctx, 10)
		require.NoError(t, err)
		s.exec("UPDATE river.gauge SET level = 7 WHERE station = 'B'")
		var cannot *CannotError
		require.ErrorAs(t, c.Commit(ctx, "gauges", "me", "why"), &cannot)
		assert.Contains(t, cannot.Reason, "somebody changed rows of river.gauge at the same time")
		c.Close(ctx)
		assert.Equal(t, []string{"7"}, s.lines("SELECT level::text FROM river.gauge WHERE station = 'B'"))
	}
}
