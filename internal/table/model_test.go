package table

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/rollup"
	"mullein/internal/core/tabular"
)

// A model of a target: loads in order, each in force or not, and the table as
// what comes out when those in force are gone through one after the other.
type model struct {
	table *Table
	loads []*modelLoad
}

type modelLoad struct {
	arrival  int64
	rows     []modelRow // as they stand in the file
	active   bool
	replaced []*modelLoad
	rank     int
	outdated bool // some of its rows were, when it was loaded
}

// modelRow has a key, a part, an age, a value of each merge, and may delete.
type modelRow struct {
	key, part, age string
	value, peak    int
	gone           bool
	line, arrival  int64
	absent         bool
	rank           int // of the newest load that had the row as it is
}

// modelTable is the rows of a table, and what it remembers: the deletions of keys, and
// the greatest rank of deliveries that were held against the whole table, or a part.
type modelTable struct {
	rows    map[string]modelRow
	deleted map[string]modelRow
	whole   map[string]int
}

func newModelTable() modelTable {
	return modelTable{map[string]modelRow{}, map[string]modelRow{}, map[string]int{}}
}

func (m *model) merge(column string, old, now int) int {
	switch m.table.Merge[column] {
	case feed.Greatest:
		return max(old, now)
	case feed.Least:
		return min(old, now)
	case feed.Add:
		return old + now
	case feed.KeepFirst:
		return old
	}
	return now
}

// winners leaves one row a key.
func (m *model) winners(rows []modelRow) (map[string]modelRow, int64) {
	if len(m.table.Key) == 0 {
		all := map[string]modelRow{}
		for _, r := range rows {
			all[fmt.Sprint(r.arrival, r.line)] = r
		}
		return all, 0
	}
	ordered := slices.Clone(rows)
	if m.table.Newest != "" {
		slices.SortStableFunc(ordered, func(a, b modelRow) int { return cmp.Compare(a.age, b.age) })
	}
	out := map[string]modelRow{}
	for _, r := range ordered {
		if before, twice := out[r.key]; twice {
			r.value, r.peak = m.merge("value", before.value, r.value), m.merge("peak", before.peak, r.peak)
		}
		out[r.key] = r
	}
	return out, int64(len(rows) - len(out))
}

// newer reports whether what is there came from a newer load or has a newer age than a row.
func (m *model) newer(there, r modelRow) bool {
	return m.table.Ranked && there.rank > r.rank ||
		m.table.Newest != "" && !m.table.Mode.Replaces() && there.age > r.age
}

// apply goes through one load.
func (m *model) apply(t modelTable, l *modelLoad) (b balance.Balance) {
	rows, repeats := m.winners(l.rows)
	b.Read, b.Duplicate = int64(len(l.rows)), repeats
	parts := map[string]bool{}
	for _, r := range rows {
		parts[r.part] = true
	}
	part := func(r modelRow) string {
		if m.table.Mode == feed.ReplacePart {
			return r.part
		}
		return ""
	}
	late := func(r modelRow) bool {
		whole, is := t.whole[part(r)]
		return m.table.Ranked && is && whole > l.rank
	}
	for key, old := range t.rows {
		mode := m.table.Mode
		_, has := rows[key]
		switch {
		case has, m.table.Ranked && (old.rank > l.rank || mode.Replaces() && late(old)):
		case mode == feed.Replace, mode == feed.ReplacePart && parts[old.part], m.table.Absent == feed.AbsentDelete:
			delete(t.rows, key)
			b.Removed++
		case m.table.Absent == feed.AbsentMark:
			if !old.absent {
				b.Removed++
			}
			old.absent, old.rank = true, l.rank
			t.rows[key] = old
		}
	}
	for key, r := range rows {
		r.rank = l.rank
		old, has := t.rows[key]
		deletion, deleted := t.deleted[key]
		older := has && m.newer(old, r) || !has && deleted && m.newer(deletion, r) ||
			!has && late(r) && m.table.Absent != feed.AbsentMark
		now := r
		if has {
			now.value, now.peak = m.merge("value", old.value, r.value), m.merge("peak", old.peak, r.peak)
		} else if now.absent = late(r); now.absent {
			now.rank = t.whole[""]
		}
		same := has && !old.absent && old.part == r.part && old.age == r.age && now.value == old.value &&
			now.peak == old.peak
		if r.gone && !older {
			t.deleted[key] = r
		}
		switch {
		case has && m.table.Mode == feed.AddMissing:
			b.Kept++
		case r.gone && !has:
			b.Unchanged++
		case r.gone && !older:
			b.Deleted++
			delete(t.rows, key)
		case same && !r.gone:
			b.Unchanged++
			old.rank = max(old.rank, l.rank)
			t.rows[key] = old
		case older:
			b.Outdated++
		case has:
			b.Updated++
			t.rows[key] = now
		default:
			b.Inserted++
			t.rows[key] = now
		}
	}
	switch mode := m.table.Mode; {
	case mode == feed.ReplacePart:
		for p := range parts {
			t.whole[p] = max(t.whole[p], l.rank)
		}
	case m.table.wholeTable():
		t.whole[""] = max(t.whole[""], l.rank)
	}
	return b
}

func (m *model) fold() modelTable {
	t := newModelTable()
	for _, l := range m.loads {
		if l.active {
			m.apply(t, l)
		}
	}
	return t
}

// instead returns what comes back when a load goes: what it replaced, but not
// earlier generations of itself.
func (l *modelLoad) instead() (out []*modelLoad) {
	for _, r := range l.replaced {
		if r.arrival == l.arrival {
			out = append(out, r.instead()...)
		} else {
			out = append(out, r)
		}
	}
	return out
}

func (m *model) newest(arrival int64) *modelLoad {
	for _, l := range slices.Backward(m.loads) {
		if l.arrival == arrival {
			return l
		}
	}
	return nil
}

// history tells what loads in force did to a key.
func (m *model) history(key string) []string {
	out, t := []string{}, newModelTable()
	for _, l := range m.loads {
		if !l.active {
			continue
		}
		before, had := t.rows[key]
		m.apply(t, l)
		after, has := t.rows[key]
		before.rank, after.rank = 0, 0
		what := ""
		switch {
		case !had && has:
			what = "inserted"
		case had && !has:
			what = "deleted"
		case before.absent != after.absent && before.arrival == after.arrival:
			what = "marked"
		case before != after:
			what = "updated"
		}
		if what != "" {
			out = append(out, fmt.Sprint(what, " ", l.arrival))
		}
	}
	return out
}

// parts is what a rollup of the table holds.
func (t modelTable) parts() []string {
	n, sum := map[string]int{}, map[string]int{}
	for _, r := range t.rows {
		n[r.part]++
		sum[r.part] += r.value
	}
	out := []string{}
	for part := range n {
		out = append(out, fmt.Sprintf("%s %d %d", part, n[part], sum[part]))
	}
	slices.Sort(out)
	return out
}

func (t modelTable) lines() []string {
	out := []string{}
	for _, r := range t.rows {
		out = append(out, fmt.Sprintf("%s %s %s %d %d from %d:%d %t", r.key, r.part, r.age, r.value, r.peak,
			r.arrival, r.line, r.absent))
	}
	slices.Sort(out)
	return out
}

type modelRows []modelRow

func (rows *modelRows) Fill(b *Batch, _ int) error {
	for _, r := range *rows {
		values := []tabular.Value{
			{Kind: tabular.Text, B: []byte(r.key)}, {Kind: tabular.Text, B: []byte(r.part)},
			{Kind: tabular.Text, B: []byte(r.age)},
			{Kind: tabular.Integer, I: int64(r.value)}, {Kind: tabular.Integer, I: int64(r.peak)},
		}
		var canonical []byte
		for j := range values {
			canonical = values[j].AppendCanonical(canonical)
		}
		digest := tabular.AppendDigest(nil, canonical)
		if r.gone {
			digest = tabular.Deletes
		}
		b.Add(values, r.line, 0, digest)
	}
	return io.EOF
}

// play is a random sequence of what may befall a target.
type play struct {
	*shop
	model
	random *rand.Rand
	fitted *Fitted
	next   int64
	said   []string
	hands  map[string]string // rows that somebody else changed, as they stand, by key
}

func (p *play) randomRows(arrival int64) []modelRow {
	var rows []modelRow
	for range 1 + p.random.IntN(6) {
		r := modelRow{key: string(rune('a' + p.random.IntN(6))), part: strconv.Itoa(p.random.IntN(2)),
			age: strconv.Itoa(p.random.IntN(4)), value: p.random.IntN(4), peak: p.random.IntN(4),
			line: int64(len(rows) + 2), arrival: arrival}
		if p.table.Mode == feed.ReplacePart {
			r.key += r.part // rows stay in their part
		}
		r.gone = p.table.Deletes && p.random.IntN(5) == 0
		rows = append(rows, r)
	}
	return rows
}

// corrected returns the rows of a load as those of another version of its file: all of
// them new, or one.
func (p *play) corrected(l *modelLoad, arrival int64) []modelRow {
	fresh := p.randomRows(arrival)
	if p.random.IntN(3) == 0 {
		return fresh
	}
	rows := slices.Clone(l.rows)
	for i := range rows {
		rows[i].arrival = arrival
	}
	i := p.random.IntN(len(rows))
	fresh[0].line = rows[i].line
	rows[i] = fresh[0]
	return rows
}

// deliver loads rows as an arrival, undoing what is replaced in the same
// transaction.
func (p *play) deliver(l *modelLoad, replaces []int64, breakOff bool) {
	// A file may have been read as one of a group that was divided since.
	of, at := 1, 0
	if p.random.IntN(3) == 0 {
		of, at = 3, 1
	}
	if of > 1 || p.random.IntN(2) == 0 || !p.deliverBy(l, replaces, breakOff, of, at, true) {
		p.deliverBy(l, replaces, breakOff, of, at, false)
	}
}

// deliverBy is deliver by the staging table, or by the shortest way, for which any load is
// large enough. It returns false when nothing has happened, since the rows have to be staged.
func (p *play) deliverBy(l *modelLoad, replaces []int64, breakOff bool, of, at int, shortest bool) bool {
	load, err := p.session.Begin(ctx, p.fitted, of)
	require.NoError(p.t, err)
	defer load.Close(ctx)
	load.Rank(slices.Repeat([]int64{int64(l.rank)}, of)...)
	later, err := load.Replacing(ctx, replaces)
	require.NoError(p.t, err)
	rows, same := modelRows(l.rows), false
	parts := make([]Part, of)
	parts[at] = Part{File: fmt.Sprint(l.arrival), Arrival: l.arrival, Replaces: replaces}
	if shortest {
		load.many, load.few = 1, 1
		direct, err := load.GoDirect(ctx, "gauges", p.fence, 7, parts, int64(len(rows)))
		require.NoError(p.t, err)
		if !direct {
			same, err = load.SkipUnchanged(ctx, parts[0], int64(len(rows)))
			require.NoError(p.t, err)
		}
	}
	if !same {
		p.reread(load, later)
	}
	if of == 1 {
		require.NoError(p.t, load.Stage(ctx, &rows, int64(len(rows))))
	} else {
		b := NewPieces(p.table, 100, p.fitted.Bytewise())
		b.Begin(at)
		require.ErrorIs(p.t, rows.Fill(b, 0), io.EOF)
		require.NoError(p.t, load.StagePieces(ctx, []Piece{b.TakePiece()}))
	}
	var counts []balance.Balance
	if err = load.Lock(ctx, "gauges", p.fence); err == nil {
		counts, err = load.Merge(ctx, 7, parts)
	}
	if shortest && errors.Is(err, ErrRestage) {
		return false
	}
	require.NoError(p.t, err)
	if breakOff {
		return true
	}
	before := p.fold()
	for _, id := range replaces {
		for _, old := range p.loads {
			if old.arrival == id && old.active {
				old.active = false
				l.replaced = append(l.replaced, old)
			}
		}
	}
	want := p.apply(p.fold(), l)
	l.outdated = want.Outdated > 0
	l.active = true
	p.loads = append(p.loads, l)
	got := counts[at]
	got.Read = int64(len(rows))
	if len(replaces) == 0 {
		assert.Equal(p.t, want, got)
	} else if !p.table.Deletes {
		assert.EqualValues(p.t, len(p.fold().rows)-len(before.rows), got.Inserted-got.Removed,
			"the table grows by what the balance says: %+v", got)
	}
	require.NoError(p.t, got.Err())
	require.NoError(p.t,
		load.Mark(ctx, []Marker{{Feed: "gauges", Delivery: fmt.Sprint(l.arrival), Generation: len(p.loads),
			Arrival: l.arrival, Part: at, Fence: p.fence, Balance: got}}))
	require.NoError(p.t, load.Commit(ctx))
	return true
}

// reread hands in the files of loads again.
func (p *play) reread(l *Load, later []LoadEntry) {
	for _, e := range later {
		rows := modelRows(p.newest(e.Arrival).rows)
		_, err := l.Reread(ctx, e, &rows, int64(len(rows)))
		require.NoError(p.t, err)
	}
}

// recall takes a load out of force, or puts it back, with the files of later
// loads at hand.
func (p *play) recall(l *modelLoad, back, preview bool) {
	aim, begin := TakeOut, p.session.BeginRecall
	if back {
		aim = PutBack
	}
	if preview {
		begin = p.session.PreviewRecall
	}
	c, err := begin(ctx, p.fitted, "gauges", aim, []int64{l.arrival})
	require.NoError(p.t, err)
	defer c.Close(ctx)
	later, err := c.Later(ctx)
	require.NoError(p.t, err)
	p.reread(c.Load, later)
	before := p.fold()
	outcome, err := c.Outcome(ctx, 3)
	require.NoError(p.t, err)
	if preview {
		return
	}
	l.active = back
	for _, r := range l.instead() {
		r.active = !back
	}
	if p.hands == nil {
		assert.Equal(p.t, len(p.fold().rows)-len(before.rows), int(outcome.Returned-outcome.Removed), "%+v", outcome)
	} else {
		assert.LessOrEqual(p.t, int(outcome.Left), len(p.hands))
	}
	require.NoError(p.t, c.Commit(ctx, "gauges", "somebody", "a test"))
}

// held returns the rows of the target.
func (p *play) held() []string {
	absent := "false"
	if p.table.Lineage.AbsentSince != "" {
		absent = "absent_since IS NOT NULL"
	}
	have := p.lines(`SELECT concat_ws(' ', key, part, age, value, peak, 'from', from_arrival || ':' || from_line,
		(` + absent + `)::text) FROM river.played ORDER BY 1`)
	slices.Sort(have)
	return have
}

// byHand changes rows behind our back, and recalls loads: those rows stay as they
// are, and all others become what the model says.
func (p *play) byHand() bool {
	p.hands = map[string]string{}
	for key := range p.fold().rows {
		if len(p.hands) < 2 {
			p.say("change %s by hand", key)
			_, err := p.db.pool.Exec(ctx, "UPDATE river.played SET value = value + 50 WHERE key = $1", key)
			require.NoError(p.t, err)
			p.hands[key] = ""
		}
	}
	for _, line := range p.held() {
		key, _, _ := strings.Cut(line, " ")
		if _, changed := p.hands[key]; changed {
			p.hands[key] = line
		}
	}
	for range 3 {
		l := p.some(true)
		if l == nil {
			break
		}
		p.say("recall %d", l.arrival)
		p.recall(l, false, false)
		var want []string
		for key, r := range p.fold().rows {
			if _, changed := p.hands[key]; !changed {
				want = append(want, modelTable{rows: map[string]modelRow{key: r}}.lines()...)
			}
		}
		want = append(want, slices.Collect(maps.Values(p.hands))...)
		slices.Sort(want)
		if !assert.Equal(p.t, want, p.held(), "after changes by hand") {
			return false
		}
	}
	return true
}

func (p *play) check() bool {
	have := p.held()
	err := p.db.KeepRollups(ctx, unheard)
	require.NoError(p.t, err)
	parts := p.lines("SELECT concat_ws(' ', part, n, total) FROM river.by_part ORDER BY 1")
	if len(p.table.Key) > 0 {
		key := p.randomRows(0)[0].key
		h, err := p.db.History(ctx, p.fitted, map[string]string{"key": key})
		require.NoError(p.t, err)
		told := []string{}
		for _, s := range h.Steps {
			if s.Load != nil && s.Load.Active {
				told = append(told, fmt.Sprint(s.What, " ", s.Load.Arrival))
			}
		}
		if !assert.Equal(p.t, p.history(key), told, "the history of %s", key) {
			return false
		}
	}
	return assert.Equal(p.t, p.fold().lines(), have) && assert.Equal(p.t, p.fold().parts(), parts, "the rollup") &&
		assert.Equal(p.t, []string{fmt.Sprint(len(have))}, p.lines("SELECT rows::text FROM mullein.target"),
			"the rows on record")
}

func (p *play) say(format string, args ...any) {
	p.said = append(p.said, fmt.Sprintf(format, args...))
}

// some returns one of the loads that are in force, or of those that are not; nil for
// none.
func (p *play) some(active bool) *modelLoad {
	var among []*modelLoad
	for _, l := range p.loads {
		if l.active == active && p.newest(l.arrival) == l && !p.replacedBySomebody(l) {
			among = append(among, l)
		}
	}
	if len(among) == 0 {
		return nil
	}
	return among[p.random.IntN(len(among))]
}

func (p *play) step() {
	switch n := p.random.IntN(10); {
	case n < 2:
		if l := p.some(true); l != nil && p.mayRecall(l) {
			p.say("recall %d", l.arrival)
			p.recall(l, false, true)
			p.recall(l, false, false)
		}
	case n < 3:
		if l := p.some(false); l != nil && p.mayRecall(l) && (len(p.table.Key) > 0 || !l.outdated) {
			p.say("undo the recall of %d", l.arrival)
			p.recall(l, true, false)
		}
	case n < 4 && p.table.Mode != feed.Replace && p.table.Mode != feed.ReplacePart:
		if l := p.some(true); l != nil {
			again := &modelLoad{arrival: l.arrival, rows: l.rows, rank: l.rank}
			replaces := []int64{l.arrival}
			if p.random.IntN(2) == 0 { // another version of the file
				p.next++
				again = &modelLoad{arrival: p.next, rows: p.corrected(l, p.next), rank: l.rank}
			}
			p.say("load %d of %d instead of %d: %+v", again.arrival, again.rank, l.arrival, again.rows)
			p.deliver(again, replaces, false)
		}
	default:
		p.next++
		l := &modelLoad{arrival: p.next, rows: p.randomRows(p.next)}
		if p.table.Ranked {
			l.rank = p.random.IntN(6)
		}
		broken := p.random.IntN(8) == 0
		p.say("load %d of %d, broken off %t: %+v", l.arrival, l.rank, broken, l.rows)
		p.deliver(l, nil, broken)
	}
}

func (p *play) replacedBySomebody(l *modelLoad) bool {
	return slices.ContainsFunc(p.loads, func(m *modelLoad) bool { return slices.Contains(m.replaced, l) })
}

// mayRecall reports whether a table without a key lets a load go.
func (p *play) mayRecall(l *modelLoad) bool {
	if len(p.table.Key) > 0 || !p.table.Mode.Replaces() {
		return true
	}
	at := slices.Index(p.loads, l)
	return !slices.ContainsFunc(p.loads[at+1:], func(m *modelLoad) bool { return m.active })
}

// kinds are the tables that are played with.
var kinds = map[string]func(*Table){
	"upsert":             func(t *Table) {},
	"newest":             func(t *Table) { t.Newest = "age" },
	"deletes":            func(t *Table) { t.Deletes = true },
	"newest and deletes": func(t *Table) { t.Newest, t.Deletes = "age", true },
	"merge":              func(t *Table) { t.Merge = map[string]feed.Merge{"value": feed.Add, "peak": feed.Greatest} },
	"merge least, first": func(t *Table) {
		t.Merge = map[string]feed.Merge{"value": feed.Least,
			"peak": feed.KeepFirst}
	},
	"merge and newest": func(t *Table) {
		t.Newest, t.Merge = "age", map[string]feed.Merge{"value": feed.Add, "peak": feed.Greatest}
	},
	"add missing":      func(t *Table) { t.Mode = feed.AddMissing },
	"replace":          func(t *Table) { t.Mode = feed.Replace },
	"replace part":     func(t *Table) { t.Mode, t.Part = feed.ReplacePart, "part" },
	"absent deleted":   func(t *Table) { t.Absent = feed.AbsentDelete },
	"absent marked":    func(t *Table) { t.Absent = feed.AbsentMark },
	"rank":             func(t *Table) { t.Ranked = true },
	"rank and deletes": func(t *Table) { t.Ranked, t.Deletes = true, true },
	"rank and merge": func(t *Table) {
		t.Ranked, t.Merge = true, map[string]feed.Merge{"value": feed.Add, "peak": feed.Greatest}
	},
	"rank, replace":         func(t *Table) { t.Ranked, t.Mode = true, feed.Replace },
	"rank, replace part":    func(t *Table) { t.Ranked, t.Mode, t.Part = true, feed.ReplacePart, "part" },
	"rank, absent deleted":  func(t *Table) { t.Ranked, t.Absent = true, feed.AbsentDelete },
	"rank, absent marked":   func(t *Table) { t.Ranked, t.Absent = true, feed.AbsentMark },
	"rank, replace, no key": func(t *Table) { t.Ranked, t.Mode, t.Key = true, feed.Replace, nil },
	"rank, replace part, bare": func(t *Table) {
		t.Ranked, t.Mode, t.Part, t.Key = true, feed.ReplacePart, "part",
			nil
	},
	"append":               func(t *Table) { t.Mode, t.Key = feed.Append, nil },
	"replace without key":  func(t *Table) { t.Mode, t.Key = feed.Replace, nil },
	"replace part, no key": func(t *Table) { t.Mode, t.Part, t.Key = feed.ReplacePart, "part", nil },
}

func newPlay(t *testing.T, kind string, seed uint64) *play {
	lineage := feed.StandardLineage
	if strings.HasSuffix(kind, "absent marked") {
		lineage.AbsentSince = "absent_since"
	}
	wanted := NewTable("river", "played", "", []Column{{Name: "key", Kind: tabular.Text},
		{Name: "part", Kind: tabular.Text}, {Name: "age", Kind: tabular.Text},
		{Name: "value", Kind: tabular.Integer}, {Name: "peak", Kind: tabular.Integer}}, []string{"key"}, "", lineage)
	kinds[kind](wanted)
	wanted.Journal = true
	p := &play{shop: open(t), model: model{table: wanted}, random: rand.New(rand.NewPCG(seed, 1))}
	var err error
	p.fitted, err = p.db.Fit(ctx, wanted)
	require.NoError(t, err)
	const byPart = `{rollup: by-part, table: river.by_part, key: [part], select: "SELECT part, count(*) AS n, sum(value) AS total FROM river.played GROUP BY 1", from: {river.played: {part: part}}}`
	r, err := rollup.Parse("by-part.yaml", []byte(byPart))
	require.NoError(t, err)
	require.NoError(t, p.db.PutRollup(ctx, r, byPart, "a test"))
	return p
}

// play goes through a whole sequence.
func (p *play) play(seed uint64, kind string) {
	for n := range 26 {
		var right bool
		if n < 25 {
			p.step()
			right = p.check()
		} else {
			right = len(p.table.Key) == 0 || p.byHand()
		}
		if !right || p.t.Failed() {
			p.t.Fatalf("MULLEIN_SEED=%d go test -run 'TestRandomPlays/%s'\n%s", seed,
				strings.ReplaceAll(kind, " ", "_"), strings.Join(p.said, "\n"))
		}
	}
}

// TestRandomPlays holds the target against the model after each step of random
// sequences. MULLEIN_SEED plays one sequence again, MULLEIN_PLAYS says how many
// there are of each kind.
func TestRandomPlays(t *testing.T) {
	t.Parallel()
	plays, first := 1, uint64(rand.Uint32())
	if n, err := strconv.Atoi(os.Getenv("MULLEIN_PLAYS")); err == nil {
		plays = n
	}
	if seed, err := strconv.ParseUint(os.Getenv("MULLEIN_SEED"), 10, 64); err == nil {
		plays, first = 1, seed
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		t.Run(strings.ReplaceAll(kind, " ", "_"), func(t *testing.T) {
			t.Parallel()
			for i := range plays {
				seed := first + uint64(i)
				t.Run(strconv.FormatUint(seed, 10), func(t *testing.T) { newPlay(t, kind, seed).play(seed, kind) })
			}
		})
	}
}
