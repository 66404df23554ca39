package table

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var ctx = context.Background()

// shop is a target's database with a session.
type shop struct {
	t        testing.TB
	db       *Database
	session  *Session
	fence    int64
	replaces []int64
	earlier  int // generations before
}

func open(t testing.TB) *shop {
	t.Helper()
	db, err := Open(ctx, pgtest.Database(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	require.NoError(t, db.Prepare(ctx))
	require.NoError(t, db.Prepare(ctx), "a second time does nothing")
	session, err := db.SessionOf(ctx, "gauges", 1)
	require.NoError(t, err)
	t.Cleanup(session.Close)
	return &shop{t: t, db: db, session: session, fence: 1}
}

func (s *shop) exec(statement string) {
	s.t.Helper()
	_, err := s.db.pool.Exec(ctx, statement)
	require.NoError(s.t, err)
}

func (s *shop) lines(query string) []string {
	s.t.Helper()
	rows, err := s.db.pool.Query(ctx, query)
	require.NoError(s.t, err)
	lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(s.t, err)
	return lines
}

// row is a station, a time in hours, a level in centimetres and a revision;
// a negative revision stands for null.
type row struct {
	station  string
	hour     int64
	level    int64
	revision int64
}

// rows is a Source of rows that are there already.
type rows []row

func (r *rows) Fill(b *Batch, _ int) error {
	for i, x := range *r {
		x.add(b, int64(i+2))
	}
	return io.EOF
}

func (x row) add(b *Batch, line int64) {
	values := []tabular.Value{
		{Kind: tabular.Text, B: []byte(x.station)}, {Kind: tabular.Instant, I: x.hour * 3600 * 1_000_000},
		{Kind: tabular.Decimal, I: x.level, Scale: 2}, {Kind: tabular.Integer, I: x.revision},
	}
	if x.revision < 0 {
		values[3] = tabular.Value{}
	}
	var canonical []byte
	for j := range values {
		canonical = values[j].AppendCanonical(canonical)
	}
	b.Add(values, line, 0, tabular.AppendDigest(nil, canonical))
}

func gauge(lineage feed.Lineage) *Table {
	return NewTable("river", "gauge", "Levels; it's a test", []Column{
		{Name: "station", Kind: tabular.Text, Comment: `C:\gauges`}, {Name: "at", Kind: tabular.Instant},
		{Name: "level", Kind: tabular.Decimal}, {Name: "revision", Kind: tabular.Integer},
	}, []string{"station", "at"}, "revision", lineage)
}

var standard = feed.StandardLineage

// load goes the whole way of a load.
func (s *shop) load(t *Table, arrival int64, r ...row) (balance.Balance, error) {
	s.t.Helper()
	fitted, err := s.db.Fit(ctx, t)
	require.NoError(s.t, err)
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(s.t, err)
	defer l.Close(ctx)
	source := rows(r)
	if err := l.Stage(ctx, &source, int64(len(r))); err != nil {
		return balance.Balance{}, err
	}
	if err := l.Lock(ctx, "gauges", s.fence); err != nil {
		return balance.Balance{}, err
	}
	all, err := l.Merge(ctx, 7, []Part{{File: fmt.Sprintf("file-%d", arrival), Arrival: arrival, Replaces: s.replaces}})
	if err != nil {
		return balance.Balance{}, err
	}
	counts := all[0]
	counts.Read = int64(len(r))
	require.NoError(s.t, counts.Err())
	if err := l.Mark(ctx, []Marker{{Feed: "gauges", Delivery: fmt.Sprint(arrival), Generation: 1 + s.earlier,
		Arrival: arrival, Fence: s.fence, Balance: counts}}); err != nil {
		return counts, err
	}
	return counts, l.Commit(ctx)
}

func (s *shop) loaded(t *Table, arrival int64, r ...row) balance.Balance {
	s.t.Helper()
	counts, err := s.load(t, arrival, r...)
	require.NoError(s.t, err)
	return counts
}

const levels = `SELECT concat_ws('|', station, extract(hour FROM at AT TIME ZONE 'UTC'), level, revision)
	FROM river.gauge ORDER BY 1`

func TestATableIsMadeWithTypesKeyAndComments(t *testing.T) {
	t.Parallel()
	s := open(t)
	_, err := s.db.Fit(ctx, gauge(standard))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"station text true", "at timestamp with time zone true", "level numeric false", "revision bigint false",
		"from_file text false",
		"from_line bigint false", "from_arrival bigint false", "loaded_run bigint false",
		"loaded_at timestamp with time zone false", "row_digest bytea false",
	}, s.lines(`SELECT concat_ws(' ', attname, format_type(atttypid, atttypmod), attnotnull::text) FROM pg_attribute
		WHERE attrelid = 'river.gauge'::regclass AND attnum > 0 ORDER BY attnum`))
	assert.Equal(t, []string{"PRIMARY KEY (station, at)"}, s.lines(`SELECT pg_get_constraintdef(oid)
		FROM pg_constraint WHERE conrelid = 'river.gauge'::regclass`))
	assert.Equal(t, []string{"Levels; it's a test"}, s.lines(`SELECT obj_description('river.gauge'::regclass)`))
	assert.Equal(t, []string{`C:\gauges`}, s.lines(`SELECT col_description('river.gauge'::regclass, 1)`))
}

func TestMergeCountsEveryRow(t *testing.T) {
	t.Parallel()
	for name, lineage := range map[string]feed.Lineage{"by digest": standard, "column by column": {}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			table := gauge(lineage)
			assert.Equal(t, balance.Balance{Read: 5, Inserted: 3, Duplicate: 2}, s.loaded(table, 1,
				row{"A", 1, 100, 1}, row{"A", 1, 101, 3}, row{"A", 1, 102, 2}, row{"B", 1, 100, -1},
				row{"C", 1, 100, 5}), "the greatest newest wins")
			assert.Equal(t, []string{"A|1|1.01|3", "B|1|1.00", "C|1|1.00|5"}, s.lines(levels))
			assert.Equal(t, balance.Balance{Read: 6, Inserted: 2, Updated: 2, Outdated: 1, Duplicate: 1},
				s.loaded(table, 2,
					row{"A", 1, 777, 2},  // older than the table's
					row{"B", 1, 200, 1},  // null is the oldest
					row{"C", 1, 300, 5},  // as new as the table's: a change
					row{"D", 1, 400, 1},  // new
					row{"E", 1, 500, -1}, // new
					row{"C", 1, 999, -1}, // loses within the delivery
				))
			assert.Equal(t, []string{"A|1|1.01|3", "B|1|2.00|1", "C|1|3.00|5", "D|1|4.00|1", "E|1|5.00"},
				s.lines(levels))
			assert.Equal(t, balance.Balance{Read: 2, Unchanged: 2},
				s.loaded(table, 3, row{"D", 1, 400, 1}, row{"E", 1, 500, -1}))
			if lineage.FromArrival != "" {
				assert.Equal(t, []string{"1 1", "2 4"}, s.lines(`SELECT from_arrival || ' ' || count(*)
					FROM river.gauge GROUP BY from_arrival ORDER BY 1`), "unchanged rows keep their lineage")
			}
		})
	}
}

func TestADeliveryIsLoadedOnce(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.loaded(gauge(standard), 1, row{"A", 1, 100, 1})
	_, err := s.load(gauge(standard), 1, row{"A", 1, 100, 1}, row{"B", 1, 100, 1})
	var already *AlreadyLoadedError
	require.ErrorAs(t, err, &already)
	assert.EqualValues(t, 1, already.Markers[0].Balance.Inserted)
	assert.Equal(t, []string{"A|1|1.00|1"}, s.lines(levels), "nothing of the second attempt is left")
	m, err := s.db.MarkerOf(ctx, "gauges", 1)
	require.NoError(t, err)
	assert.Equal(t, "1", m.Delivery)
	none, err := s.db.MarkerOf(ctx, "gauges", 2)
	require.NoError(t, err)
	assert.Nil(t, none)
}

func TestASuccessorFencesItsPredecessorOff(t *testing.T) {
	t.Parallel()
	s := open(t)
	second, err := s.db.SessionOf(ctx, "gauges", 1)
	require.NoError(t, err)
	require.NoError(t, s.session.conn.Ping(ctx), "a session of the same holder that has nothing at hand is left alone")
	defer second.Close()
	successor, err := s.db.SessionOf(ctx, "gauges", 5)
	require.NoError(t, err)
	defer successor.Close()
	assert.Error(t, second.conn.Ping(ctx), "the predecessor's session is ended")
	_, err = s.db.SessionOf(ctx, "gauges", 4)
	assert.ErrorIs(t, err, ErrFenced, "a fence is never lowered")
	var fenced *FencedError
	require.ErrorAs(t, err, &fenced)
	assert.EqualValues(t, 5, fenced.Highest)
	s.session = successor
	_, err = s.load(gauge(standard), 1, row{"A", 1, 100, 1})
	assert.ErrorIs(t, err, ErrFenced, "fence 1 is not the highest any more")
	s.fence = 5
	s.loaded(gauge(standard), 1, row{"A", 1, 100, 1})
}

// TestEveryKindArrivesExactly sends values of every kind through COPY's binary
// form and reads them back as text.
func TestEveryKindArrivesExactly(t *testing.T) {
	t.Parallel()
	s := open(t)
	cells := map[string][][2]string{
		"integer": {{"-9223372036854775808", "-9223372036854775808"}, {"0", "0"}},
		"number": {{"0", "0"}, {"0.000", "0.000"}, {"-0.0001", "-0.0001"}, {"10000", "10000"},
			{"123456.7891", "123456.7891"}, {"100000000", "100000000"}, {"0.00000001", "0.00000001"},
			{"999999999999999999", "999999999999999999"}, {"-12345678901234567890123456789.0000000001",
				"-12345678901234567890123456789.0000000001"},
			{"1e25", "10000000000000000000000000"}, {"1.5e-20", "0.000000000000000000015"}, {"NaN", "NaN"},
			{"INF", "Infinity"}, {"-INF", "-Infinity"}},
		"boolean": {{"true", "true"}, {"0", "false"}},
		"datetime": {{"2026-07-01T12:00:00.123456Z", "2026-07-01 12:00:00.123456+00"},
			{"0001-01-01T00:00:00Z", "0001-01-01 00:00:00+00"}, {"9999-12-31T23:59:59Z", "9999-12-31 23:59:59+00"}},
		"date":      {{"1899-12-31", "1899-12-31"}, {"2028-02-29", "2028-02-29"}},
		"time":      {{"23:59:59", "23:59:59"}},
		"duration":  {{"P1Y2M3DT4H5M6.5S", "1 year 2 mons 3 days 04:05:06.5"}, {"-P1D", "-1 days"}},
		"geopoint":  {{"-28.5, 38.25", "(-28.5,38.25)"}},
		"object":    {{`{"b": 1, "a": "ü"}`, `{"a": "ü", "b": 1}`}},
		"list":      {{"a,b", `["a", "b"]`}},
		"yearmonth": {{"2026-03", "2026-03-01"}},
		"string":    {{"ü\t\\N", "ü\t\\N"}},
	}
	for typ, pairs := range cells {
		schema := tabular.Schema{Fields: []tabular.Field{{Name: "n", Type: "integer", SoleNumber: true},
			{Name: "v", Type: typ, SoleNumber: true}}}
		columns, err := schema.Compile(time.UTC)
		require.NoError(t, err)
		table := NewTable("kinds", typ, "", []Column{{Name: "n", Kind: columns[0].Kind},
			{Name: "v", Kind: columns[1].Kind}}, []string{"n"}, "", feed.Lineage{})
		fitted, err := s.db.Fit(ctx, table)
		require.NoError(t, err)
		l, err := s.session.Begin(ctx, fitted, 1)
		require.NoError(t, err)
		source := cellSource{columns, pairs}
		require.NoError(t, l.Stage(ctx, source, 1), typ)
		require.NoError(t, l.Lock(ctx, "gauges", s.fence))
		_, err = l.Merge(ctx, 1, []Part{{}})
		require.NoError(t, err, typ)
		require.NoError(t, l.Commit(ctx))
		want := []string{}
		for _, p := range pairs {
			want = append(want, p[1])
		}
		assert.Equal(t, want, s.lines(`SELECT v::text FROM kinds."`+typ+`" ORDER BY n`), typ)
	}
}

type cellSource struct {
	columns []*tabular.Column
	pairs   [][2]string
}

func (c cellSource) Fill(b *Batch, _ int) error {
	for i, p := range c.pairs {
		values := make([]tabular.Value, 2)
		if err := c.columns[0].Convert([]byte(fmt.Sprint(i)), &values[0]); err != nil {
			return err
		}
		if err := c.columns[1].Convert([]byte(p[0]), &values[1]); err != nil {
			return fmt.Errorf("%s: %w", p[0], err)
		}
		b.Add(values, int64(i), 0, []byte("digest"))
	}
	return io.EOF
}

// TestTablesThatOthersMade merges into tables with other types, a collation in
// which a is A, partitions, defaults, identity columns, and odd names.
func TestTablesThatOthersMade(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		ddl       string
		inserted  int64
		duplicate int64
	}{
		"narrower types": {`CREATE TABLE river.gauge (station varchar(20), at timestamptz, level numeric(6,2),
			revision integer, note text DEFAULT 'x', id bigint GENERATED ALWAYS AS IDENTITY, UNIQUE (at, station))`,
			3, 0},
		"floats": {`CREATE TABLE river.gauge (station text, at timestamptz, level double precision,
			revision smallint, PRIMARY KEY (station, at))`, 3, 0},
		"without case": {`CREATE COLLATION river.nocase (provider = icu, locale = 'und-u-ks-level2',
			deterministic = false); CREATE TABLE river.gauge (station text COLLATE river.nocase, at timestamptz,
			level numeric, revision bigint, PRIMARY KEY (station, at))`, 2, 1},
		"partitions": {`CREATE TABLE river.gauge (station text, at timestamptz, level numeric, revision bigint,
			PRIMARY KEY (station, at)) PARTITION BY LIST (station); CREATE TABLE river.p1 PARTITION OF river.gauge FOR
			VALUES IN ('A', 'a'); CREATE TABLE river.p2 PARTITION OF river.gauge DEFAULT`, 3, 0},
		"generated column": {`CREATE TABLE river.gauge (station text, at timestamptz, level numeric, revision bigint,
			feet numeric GENERATED ALWAYS AS (level * 3.28) STORED, PRIMARY KEY (station, at))`, 3, 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			s.exec("CREATE SCHEMA river; " + c.ddl)
			table := gauge(feed.Lineage{})
			first := []row{{"A", 1, 100, 1}, {"a", 1, 200, 2}, {"B", 1, 300, 1}}
			assert.Equal(t, balance.Balance{Read: 3, Inserted: c.inserted, Duplicate: c.duplicate},
				s.loaded(table, 1, first...))
			assert.Equal(t, balance.Balance{Read: 3, Unchanged: c.inserted, Duplicate: c.duplicate},
				s.loaded(table, 2, first...))
			first[2].level = 301
			assert.Equal(t, balance.Balance{Read: 3, Updated: 1, Unchanged: c.inserted - 1, Duplicate: c.duplicate},
				s.loaded(table, 3, first...))
		})
	}
}

func TestWhatDoesNotFitIsNamed(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec(`CREATE SCHEMA river; CREATE VIEW river.gauge AS SELECT 1 AS station`)
	_, err := s.db.Fit(ctx, gauge(standard))
	assert.ErrorContains(t, err, "it is not a table but a view")
	s.exec(`DROP VIEW river.gauge; CREATE TABLE river.gauge (station integer, at timestamptz, level text,
		must text NOT NULL, UNIQUE (station))`)
	_, err = s.db.Fit(ctx, gauge(feed.Lineage{}))
	var misfit *MisfitError
	require.ErrorAs(t, err, &misfit)
	assert.Equal(t, []string{
		"column station is integer; the feed needs text", "column level is text; the feed needs numeric",
		`column revision is missing (ALTER TABLE "river"."gauge" ADD COLUMN "revision" bigint)`,
		"column must is NOT NULL without a default, and the feed does not fill it",
		`no primary key or unique index over (station, at) (ALTER TABLE "river"."gauge" ADD PRIMARY KEY ("station", "at"))`,
	}, misfit.Differences)
}

func TestTheDatabasesOwnNoIsARefusal(t *testing.T) {
	t.Parallel()
	s := open(t)
	table := gauge(standard)
	s.loaded(table, 1, row{"A", 1, 100, 1})
	s.exec("ALTER TABLE river.gauge ADD CONSTRAINT dry CHECK (level < 5)")
	_, err := s.load(table, 2, row{"B", 1, 900, 1})
	reason, detail := Refusal(err)
	assert.Contains(t, reason, "dry")
	assert.Contains(t, detail, "Failing row contains (B, ")
	assert.False(t, Denied(err))
	s.exec("DROP TABLE river.gauge CASCADE")
	fitted := &Fitted{Table: table}
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	defer l.Close(ctx)
	source := rows{{"A", 1, 1, 1}}
	require.NoError(t, l.Stage(ctx, &source, 1))
	_, err = l.Merge(ctx, 1, []Part{{}})
	assert.True(t, Denied(err), "a table that is gone is for people")
	assert.False(t, refuses(err))
	assert.False(t, refuses(io.EOF))
}

func TestAnErrorOfTheSourceEndsTheLoad(t *testing.T) {
	t.Parallel()
	s := open(t)
	fitted, err := s.db.Fit(ctx, gauge(standard))
	require.NoError(t, err)
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	assert.ErrorIs(t, l.Stage(ctx, brokenSource{}, 1), io.ErrClosedPipe)
	l.Close(ctx)
	s.loaded(gauge(standard), 1, row{"A", 1, 100, 1})
}

type brokenSource struct{}

func (brokenSource) Fill(b *Batch, size int) error {
	source := rows{{"A", 1, 1, 1}}
	for b.Len() < size {
		_ = source.Fill(b, size)
	}
	return io.ErrClosedPipe
}

// TestManyRowsIntoATableThatOthersUse goes through the ways in which the key's
// index must not be built late: somebody holds the table, something hangs on it.
func TestManyRowsIntoATableThatOthersUse(t *testing.T) {
	t.Parallel()
	many := make([]row, manyRows)
	for i := range many {
		many[i] = row{fmt.Sprintf("S%05d", i), 1, int64(i), 1}
	}
	for name, statement := range map[string]string{
		"alone": "",
		"a foreign key": "CREATE TABLE river.visit (station text, at timestamptz, FOREIGN KEY (station, at) " +
			"REFERENCES river.gauge)",
		"a second index": "CREATE INDEX second ON river.gauge (level)",
		"a view":         "CREATE VIEW river.top AS SELECT station, at, level FROM river.gauge GROUP BY station, at",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			_, err := s.db.Fit(ctx, gauge(standard))
			require.NoError(t, err)
			if statement != "" {
				s.exec(statement)
			}
			assert.Equal(t, balance.Balance{Read: manyRows, Inserted: manyRows}, s.loaded(gauge(standard), 1, many...))
			assert.Equal(t, []string{"PRIMARY KEY (station, at)"}, s.lines(`SELECT pg_get_constraintdef(oid)
				FROM pg_constraint WHERE conrelid = 'river.gauge'::regclass AND contype = 'p'`))
			changed := append([]row{{"S00000", 1, 9, 2}}, many[1:]...)
			assert.Equal(t, balance.Balance{Read: manyRows, Updated: 1, Unchanged: manyRows - 1},
				s.loaded(gauge(standard), 2, changed...))
		})
	}
	t.Run("a reader", func(t *testing.T) {
		t.Parallel()
		s := open(t)
		_, err := s.db.Fit(ctx, gauge(standard))
		require.NoError(t, err)
		reader, err := s.db.pool.Begin(ctx)
		require.NoError(t, err)
		defer reader.Rollback(ctx)
		_, err = reader.Exec(ctx, "SELECT * FROM river.gauge")
		require.NoError(t, err)
		assert.Equal(t, balance.Balance{Read: manyRows, Inserted: manyRows}, s.loaded(gauge(standard), 1, many...),
			"a reader holds nothing up")
	})
}

func TestSmallLoadsLeaveNoTraceInTheCatalogs(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.loaded(gauge(standard), 1, row{"A", 1, 100, 1})
	size := func() string {
		return s.lines(`SELECT (SELECT max(oid::bigint)
			FROM pg_class) || ' ' || (SELECT n_tup_ins + n_tup_upd + n_tup_del FROM pg_stat_sys_tables
			WHERE relname = 'pg_class')`)[0]
	}
	before, _, _ := strings.Cut(size(), " ")
	for i := range 20 {
		s.loaded(gauge(standard), int64(i+2), row{"A", 1, int64(200 + i), int64(2 + i)})
	}
	after, _, _ := strings.Cut(size(), " ")
	assert.Equal(t, before, after, "no table was made")
}

func TestBrowse(t *testing.T) {
	t.Parallel()
	s := open(t)
	empty, err := s.db.Browse(ctx, gauge(standard), 0, 0, 10)
	require.NoError(t, err)
	assert.Empty(t, empty.Rows, "the table is not there yet")
	s.loaded(gauge(standard), 1, row{"A", 1, 100, 1}, row{"B", 1, 100, -1}, row{"C", 1, 100, 1})
	page, err := s.db.Browse(ctx, gauge(standard), 1, 2, 1)
	require.NoError(t, err)
	require.Len(t, page.Rows, 1)
	assert.Equal(t, "B", page.Rows[0][0], "in the order of the file, after line 2")
	assert.Nil(t, page.Rows[0][3])
	page, err = s.db.Browse(ctx, gauge(standard), 0, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "C", page.Rows[0][0], "the greatest key")
	var many []row
	for i := range 12 {
		many = append(many, row{fmt.Sprintf("M%02d", i), 1, 1, 1})
	}
	s.loaded(gauge(standard), 2, many...)
	page, err = s.db.Browse(ctx, gauge(standard), 2, 0, 12)
	require.NoError(t, err)
	for i, r := range page.Rows {
		assert.Equal(t, fmt.Sprint(i+2), r[5], "lines in the order of numbers, not of texts")
	}
	_, err = s.db.Browse(ctx, gauge(feed.Lineage{}), 1, 0, 1)
	assert.ErrorContains(t, err, "no lineage column")
}

func TestTheFilterNeverMissesARepeat(t *testing.T) {
	t.Parallel()
	const keys = 200_000
	f := newFilter(keys)
	random := rand.New(rand.NewPCG(1, 2))
	hashes := make([]uint64, keys)
	suspects := 0
	for i := range hashes {
		hashes[i] = random.Uint64()
		if f.mark(hashes[i]) {
			suspects++
		}
	}
	assert.Less(t, suspects, keys/1000, "few are suspected without cause")
	for _, h := range hashes {
		require.True(t, f.mark(h))
	}
	assert.LessOrEqual(t, len(newFilter(1<<40).blocks)*64, 64<<20, "it is bounded")
}

// TestShortNumbers holds the quick way of small numbers against that of large
// ones, which are digits in a text.
func TestShortNumbers(t *testing.T) {
	for n := int64(0); n < 120_000; n = n + 1 + n/97 {
		for scale := range int32(13) {
			small := tabular.Value{Kind: tabular.Decimal, I: n, Scale: scale}
			large := tabular.Value{Kind: tabular.Decimal, B: strconv.AppendInt(nil, n, 10), Scale: scale}
			require.Equal(t, appendNumeric(nil, &large), appendNumeric(nil, &small), "%d, scale %d", n, scale)
		}
	}
}

func FuzzNumeric(f *testing.F) {
	f.Add("123.450")
	f.Add("-0.0001e5")
	schema := tabular.Schema{Fields: []tabular.Field{{Name: "x", Type: "number", SoleNumber: true}}}
	columns, err := schema.Compile(time.UTC)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, cell string) {
		var v tabular.Value
		if columns[0].Convert([]byte(cell), &v) != nil || v.Kind == tabular.Null || v.Odd != tabular.Finite {
			return
		}
		b := appendNumeric(nil, &v)
		groups := int(binary.BigEndian.Uint16(b))
		require.Len(t, b, 8+2*groups)
		for i := range groups {
			require.Less(t, binary.BigEndian.Uint16(b[8+2*i:]), uint16(10000))
		}
		if groups > 0 {
			require.NotZero(t, binary.BigEndian.Uint16(b[8:]), "no leading zeros")
			require.NotZero(t, binary.BigEndian.Uint16(b[len(b)-2:]), "no trailing zeros")
		}
	})
}

// TestFilesThatShareATransaction stages three small files at once, each with
// its own repeats, and counts each on its own.
func TestFilesThatShareATransaction(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.loaded(gauge(standard), 9, row{"A", 1, 10, 1}, row{"B", 1, 10, 5})
	fitted, err := s.db.Fit(ctx, gauge(standard))
	require.NoError(t, err)
	b := NewPieces(fitted.Table, 100, true)
	var pieces []Piece
	for part, r := range []rows{{{"A", 1, 11, 2}, {"C", 1, 1, 1}, {"C", 1, 2, 1}}, {{"B", 1, 10, 4}, {"D", 1, 4, 1}},
		{{"E", 1, 5, 1}}} {
		b.Begin(part)
		require.ErrorIs(t, r.Fill(b, 0), io.EOF)
		pieces = append(pieces, b.TakePiece())
	}
	assert.Len(t, pieces[0].Hashes, 3)
	assert.Equal(t, pieces[0].Hashes[1], pieces[0].Hashes[2])
	l, err := s.session.Begin(ctx, fitted, 3)
	require.NoError(t, err)
	defer l.Close(ctx)
	require.NoError(t, l.StagePieces(ctx, pieces))
	require.NoError(t, l.Lock(ctx, "gauges", s.fence))
	counts, err := l.Merge(ctx, 3, []Part{{File: "a", Arrival: 1}, {File: "b", Arrival: 2}, {File: "c", Arrival: 3}})
	require.NoError(t, err)
	assert.Equal(t, []balance.Balance{{Inserted: 1, Updated: 1, Duplicate: 1}, {Inserted: 1, Outdated: 1},
		{Inserted: 1}}, counts)
	require.NoError(t, l.Commit(ctx))
	assert.Equal(t, []string{"A a 2 1", "B file-9 3 9", "C a 4 1", "D b 3 2", "E c 2 3"},
		s.lines(`SELECT concat_ws(' ', station, from_file, from_line, from_arrival) FROM river.gauge ORDER BY 1`))
}

// TestALoadThatReplacesAnother undoes what an arrival wrote: rows that do not
// come again go, those that come again change even if they are older, and take
// the new lineage even if they are the same.
func TestALoadThatReplacesAnother(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.loaded(gauge(standard), 1, row{"A", 1, 10, 9}, row{"B", 1, 10, 1}, row{"C", 1, 10, 1})
	s.loaded(gauge(standard), 2, row{"D", 1, 10, 9})
	s.replaces = []int64{1}
	got := s.loaded(gauge(standard), 3, row{"A", 1, 11, 2}, row{"B", 1, 10, 1}, row{"D", 1, 11, 3}, row{"E", 1, 1, 1})
	assert.Equal(t, balance.Balance{Read: 4, Inserted: 1, Updated: 1, Unchanged: 1, Outdated: 1, Removed: 1}, got)
	assert.Equal(t, []string{"A 11 3", "B 10 3", "D 10 2", "E 1 3"}, s.lines(`SELECT concat_ws(' ', station,
		round(level * 100), from_arrival) FROM river.gauge ORDER BY 1`))
	s.replaces, s.earlier = []int64{3}, 1
	got = s.loaded(gauge(standard), 3, row{"A", 1, 11, 2}, row{"B", 1, 12, 1})
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Unchanged: 1, Removed: 1}, got,
		"an arrival loaded again replaces itself")
	s.replaces = []int64{3}
	_, err := s.load(gauge(feed.Lineage{}), 4, row{"A", 1, 11, 2})
	assert.ErrorContains(t, err, "no lineage column that names the arrival")
}

// TestATableThatHoldsKeysTwice is counted, shown, and collapsed when told.
func TestATableThatHoldsKeysTwice(t *testing.T) {
	t.Parallel()
	s := open(t)
	wanted := gauge(feed.Lineage{})
	s.exec(`CREATE SCHEMA river; CREATE TABLE river.gauge (station text, at timestamptz, level numeric,
		revision bigint);
		INSERT INTO river.gauge VALUES ('A', '2026-07-01Z', 1, 3), ('A', '2026-07-01Z', 2, 5), ('A', '2026-07-01Z', 3,
		NULL), ('B', '2026-07-01Z', 4, 1)`)
	_, err := s.db.Fit(ctx, wanted)
	assert.ErrorContains(t, err, `1 keys stand in it more than once, such as (A,"2026-07-01 00:00:00+00")`)
	gone, err := s.db.Collapse(ctx, wanted)
	require.NoError(t, err)
	assert.EqualValues(t, 2, gone)
	assert.Equal(t, []string{"A|0|2|5", "B|0|4|1"}, s.lines(levels))
	_, err = s.db.Fit(ctx, wanted)
	assert.NoError(t, err)
}

// TestALargeFirstFileGoesStraightIn loads more rows than are staged, of which
// some repeat, into an empty table, and again: with all keys in memory, with the
// first ones only, and with none.
func TestALargeFirstFileGoesStraightIn(t *testing.T) {
	t.Parallel()
	for name, known := range map[string]int{"all": manyRows + 2000, "some": manyRows / 2, "none": 0} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			straightIn(t, known)
		})
	}
}

// untilFull hands in rows of which only the first are to be known from memory.
type untilFull struct {
	rows
	known int
}

func (u *untilFull) Fill(b *Batch, _ int) error {
	for i, x := range u.rows {
		if d, direct := b.form.(*directForm); direct && i == u.known {
			b.seen, d.winners.closed = d.winners.filter(b.expect), true
		}
		x.add(b, int64(i+2))
	}
	return io.EOF
}

func straightIn(t *testing.T, known int) {
	s := open(t)
	wanted := gauge(standard)
	wanted.Journal = true
	fitted, err := s.db.Fit(ctx, wanted)
	require.NoError(t, err)
	const n = manyRows + 1000
	random := rand.New(rand.NewPCG(5, 6))
	var file rows
	best := map[int64]row{}
	for i := range int64(n) {
		r := row{"A", i, 100, 5}
		if i%10 == 9 { // a key that came before, older or newer
			r = row{"A", random.Int64N(i), 200, random.Int64N(10)}
		}
		file = append(file, r)
		if old, has := best[r.hour]; !has || r.revision >= old.revision {
			best[r.hour] = r
		}
	}
	load := func(arrival int64, breakOff bool) balance.Balance {
		l, err := s.session.Begin(ctx, fitted, 1)
		require.NoError(t, err)
		defer l.Close(ctx)
		part := Part{File: "large", Arrival: arrival}
		direct, err := l.GoDirect(ctx, "gauges", s.fence, 7, []Part{part}, n)
		require.NoError(t, err)
		way, _ := l.way.(*directWay)
		assert.Equal(t, arrival == 1, direct, "only into an empty table")
		require.NoError(t, l.Stage(ctx, &untilFull{slices.Clone(file), known}, n))
		if direct {
			assert.Equal(t, known < n, way.form.set > 0, "rows are set aside")
			assert.Equal(t, known > 0, way.form.winners.never > 0, "rows are not even sent")
		}
		require.NoError(t, l.Lock(ctx, "gauges", s.fence))
		counts, err := l.Merge(ctx, 7, []Part{part})
		require.NoError(t, err)
		if !breakOff {
			require.NoError(t, l.Mark(ctx,
				[]Marker{{Feed: "gauges", Delivery: fmt.Sprint(arrival), Generation: 1, Arrival: arrival,
					Fence: s.fence, Balance: counts[0]}}))
			require.NoError(t, l.Commit(ctx))
		}
		return counts[0]
	}
	load(1, true)
	assert.Equal(t, []string{"0"}, s.lines("SELECT count(*)::text FROM river.gauge"), "broken off is nothing")
	got := load(1, false)
	assert.Equal(t, balance.Balance{Inserted: int64(len(best)), Duplicate: n - int64(len(best))}, got)
	var newer int64
	for _, r := range best {
		if r.level == 200 {
			newer++
		}
	}
	assert.Equal(t, []string{fmt.Sprint(len(best), "|", newer, "|", len(best))},
		s.lines("SELECT concat_ws('|', count(*), count(*) FILTER (WHERE level = 2), count(DISTINCT from_line)) FROM "+
			"river.gauge"))
	assert.Equal(t, balance.Balance{Unchanged: int64(len(best)), Duplicate: n - int64(len(best))}, load(2, false))
	assert.Equal(t, []string{"p"},
		s.lines("SELECT contype::text FROM pg_constraint WHERE conrelid = 'river.gauge'::regclass"), "the key is back")
	pruned, err := s.db.Prune(ctx, map[string]time.Time{"gauges": time.Now().Add(time.Hour)}, 10)
	require.NoError(t, err)
	assert.Zero(t, pruned)
	_, err = s.session.PreviewRecall(ctx, fitted, "gauges", TakeOut, []int64{1})
	assert.ErrorContains(t, err, "is not kept any more")
}

// TestWhatTheTargetHoldsIsNotStaged loads the same large file again, with a few
// rows changed; with repeats; and with another load in between.
func TestWhatTheTargetHoldsIsNotStaged(t *testing.T) {
	t.Parallel()
	s := open(t)
	fitted, err := s.db.Fit(ctx, gauge(standard))
	require.NoError(t, err)
	const n = manyRows + 500
	file := make(rows, n)
	for i := range file {
		file[i] = row{"A", int64(i), 100, 5}
	}
	begin := func(arrival int64, r rows) (*Load, error) {
		l, err := s.session.Begin(ctx, fitted, 1)
		require.NoError(t, err)
		_, err = l.SkipUnchanged(ctx, Part{Arrival: arrival}, n)
		require.NoError(t, err)
		return l, l.Stage(ctx, &r, n)
	}
	finish := func(l *Load, arrival int64) (balance.Balance, error) {
		if err := l.Lock(ctx, "gauges", s.fence); err != nil {
			return balance.Balance{}, err
		}
		counts, err := l.Merge(ctx, 7, []Part{{File: "f", Arrival: arrival}})
		require.NoError(t, err)
		require.NoError(t, l.Mark(ctx,
			[]Marker{{Feed: "gauges", Delivery: fmt.Sprint(arrival), Generation: 1, Arrival: arrival, Fence: s.fence,
				Balance: counts[0]}}))
		return counts[0], l.Commit(ctx)
	}
	l, err := begin(1, slices.Clone(file))
	require.NoError(t, err)
	assert.Zero(t, l.way.skipped())
	got, err := finish(l, 1)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Inserted: n}, got)

	changed := slices.Clone(file)
	changed[7].level, changed[9].hour = 200, n+5
	l, err = begin(2, changed)
	require.NoError(t, err)
	assert.EqualValues(t, n-2, l.way.skipped())
	got, err = finish(l, 2)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Inserted: 1, Updated: 1, Unchanged: n - 2}, got)

	l, err = begin(3, slices.Clone(file))
	require.NoError(t, err)
	l.Close(ctx)
	other, err := s.db.Session(ctx)
	require.NoError(t, err)
	defer other.Close()
	l, err = begin(3, slices.Clone(file))
	require.NoError(t, err)
	between, err := other.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	one := rows{{"A", 20, 300, 6}}
	require.NoError(t, between.Stage(ctx, &one, 1))
	_, err = finish(between, 4)
	require.NoError(t, err)
	_, err = finish(l, 3)
	assert.ErrorIs(t, err, ErrRestage, "another load came in between")
	l.Close(ctx)
	l, err = begin(5, append(slices.Clone(changed), changed[3], changed[3]))
	require.NoError(t, err)
	got, err = finish(l, 5)
	require.NoError(t, err)
	assert.Equal(t, balance.Balance{Outdated: 1, Unchanged: n - 1, Duplicate: 2}, got, "the same row again is one row")
	for name, more := range map[string]row{"newer": {"A", 3, 300, 6}, "older": {"A", 3, 300, 4}} {
		l, err = begin(6, append(slices.Clone(changed), more))
		require.NoError(t, err, name)
		require.NoError(t, l.Lock(ctx, "gauges", s.fence))
		_, err = l.Merge(ctx, 7, []Part{{File: "f", Arrival: 6}})
		assert.ErrorIs(t, err, ErrRestage, "another row with the key of one that was skipped: %s", name)
		l.Close(ctx)
	}
}

// TestTheDatabaseEndsWhatTakesTooLong bounds the statements of a load, and none of
// what comes after it.
func TestTheDatabaseEndsWhatTakesTooLong(t *testing.T) {
	t.Parallel()
	s := open(t)
	fitted, err := s.db.Fit(ctx, gauge(standard))
	require.NoError(t, err)
	s.session.Limit = 20 * time.Millisecond
	l, err := s.session.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	err = l.exec(ctx, "SELECT pg_sleep(60)")
	assert.ErrorContains(t, err, "statement timeout")
	assert.False(t, refuses(err), "it may pass: it is tried again")
	l.Close(ctx)
	assert.Equal(t, []string{"0"}, s.lines("SHOW statement_timeout"))
	s.session.Limit = 0
	l, err = s.session.Begin(ctx, fitted, 1)
	require.NoError(t, err)
	defer l.Close(ctx)
	require.NoError(t, l.exec(ctx, "SELECT pg_sleep(0.05)"))
}

// TestOldMarkersOutOfForceGo drops markers of what was loaded twice over: those that
// nothing brings back into force, and no others.
func TestOldMarkersOutOfForceGo(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.loaded(gauge(standard), 1, row{"A", 1, 10, 1})
	s.loaded(gauge(standard), 2, row{"B", 1, 10, 1})
	_, err := s.db.pool.Exec(ctx, "UPDATE mullein.load SET active = false WHERE arrival = 1")
	require.NoError(t, err)
	markers := func() []string { return s.lines("SELECT arrival::text FROM mullein.load ORDER BY 1") }
	n, err := s.db.DropMarkers(ctx, time.Now().Add(-time.Hour), 10)
	require.NoError(t, err)
	assert.Zero(t, n, "none is old")
	_, err = s.db.pool.Exec(ctx, "UPDATE mullein.load SET journal = true")
	require.NoError(t, err)
	n, err = s.db.DropMarkers(ctx, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	assert.Zero(t, n, "what has a journal can be put back")
	_, err = s.db.pool.Exec(ctx, "UPDATE mullein.load SET journal = false")
	require.NoError(t, err)
	n, err = s.db.DropMarkers(ctx, time.Now().Add(time.Hour), 10)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	assert.Equal(t, []string{"2"}, markers(), "what is in force stays for ever")
}

// TestShapesChangeWithWhatMatters changes a table in all ways after which it may fit.
func TestShapesChangeWithWhatMatters(t *testing.T) {
	t.Parallel()
	s := open(t)
	exec := func(statement string) {
		_, err := s.db.pool.Exec(ctx, statement)
		require.NoError(t, err)
	}
	shape := func() string {
		shapes, err := s.db.Shapes(ctx, []string{"river.level.s", "river.none", "nowhere.level"})
		require.NoError(t, err)
		return shapes["river.level.s"]
	}
	assert.Empty(t, shape(), "it is not there")
	exec(`CREATE SCHEMA river; CREATE TABLE river."level.s" (a integer, b text)`)
	before := shape()
	require.NotEmpty(t, before)
	exec(`INSERT INTO river."level.s" VALUES (1, 'x'); ANALYZE river."level.s"`)
	assert.Equal(t, before, shape(), "rows do not matter")
	for _, change := range []string{`ADD COLUMN c integer`, `ALTER COLUMN a TYPE bigint`, `ALTER COLUMN b
		SET NOT NULL`, `ADD PRIMARY KEY (a)`, `DROP COLUMN c`, `ALTER COLUMN b SET DEFAULT 'x'`} {
		exec(`ALTER TABLE river."level.s" ` + change)
		now := shape()
		assert.NotEqual(t, before, now, change)
		before = now
	}
	exec(`GRANT SELECT ON river."level.s" TO PUBLIC`)
	assert.NotEqual(t, before, shape(), "rights")
}

// TestTablesOfANewSchemaAreMadeAtOnce has each of some sessions make a table in a schema
// that is not there yet.
func TestTablesOfANewSchemaAreMadeAtOnce(t *testing.T) {
	t.Parallel()
	s := open(t)
	for n := range 15 {
		var all errgroup.Group
		for i := range 8 {
			all.Go(func() error {
				_, err := s.db.Fit(ctx, NewTable(fmt.Sprintf("river_%d", n), fmt.Sprintf("water_%d", i), "",
					[]Column{{Name: "id", Kind: tabular.Integer}}, []string{"id"}, "", feed.StandardLineage))
				return err
			})
		}
		require.NoError(t, all.Wait())
	}
}
