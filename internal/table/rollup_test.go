package table

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/rollup"
)

const sums = `{rollup: sums, table: river.sum, key: [site, hour], select: "SELECT site, at / 10 AS hour, count(*) AS n, sum(level) AS level FROM river.reading GROUP BY 1, 2", from: {river.reading: {site: site, hour: at / 10}}}`

// put puts a rollup and keeps it.
func (s *shop) putRollup(text string) {
	s.t.Helper()
	r, err := rollup.Parse("r.yaml", []byte(text))
	require.NoError(s.t, err)
	require.NoError(s.t, s.db.CheckRollup(ctx, r))
	require.NoError(s.t, s.db.PutRollup(ctx, r, text, "me"))
	s.kept()
}

// kept brings rollups in step, and demands that they are right.
func (s *shop) kept() {
	s.t.Helper()
	err := s.db.KeepRollups(ctx, unheard)
	require.NoError(s.t, err)
	v, err := s.db.VerifyRollup(ctx, "sums")
	require.NoError(s.t, err)
	assert.Equal(s.t, v.Rows, v.Same, "%+v", v)
	assert.Zero(s.t, v.Missing+v.Surplus+v.Wrong)
}

// TestRollupsOfNullsAndOfMany touches keys with nulls, few and many, and takes them away
// again.
func TestRollupsOfNullsAndOfMany(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric)")
	s.exec("INSERT INTO river.reading VALUES ('A', 1, 1), (NULL, 1, 2), (NULL, NULL, 3), ('A', NULL, 4)")
	s.putRollup(sums)
	assert.Equal(t, []string{"- - 1 3", "- 0 1 2", "A - 1 4", "A 0 1 1"},
		s.lines("SELECT concat_ws(' ', coalesce(site, '-'), coalesce(hour::text, '-'), n, level) FROM river.sum ORDER "+
			"BY 1"))
	s.exec("UPDATE river.reading SET level = level + 1; INSERT INTO river.reading VALUES (NULL, 2, 5)")
	s.kept()
	s.exec("INSERT INTO river.reading SELECT 'S' || i % 40, i, i FROM generate_series(1, 30000) i; INSERT INTO " +
		"river.reading SELECT NULL, i, 1 FROM generate_series(1, 300) i")
	s.kept()
	s.exec("DELETE FROM river.reading WHERE at > 20000 OR site IS NULL")
	s.kept()
	s.exec("DELETE FROM river.reading WHERE at IS NULL OR at = 7")
	s.kept()
	assert.Equal(t, []string{"0"}, s.lines("SELECT count(*) FROM river.sum WHERE site IS NULL OR hour IS NULL"))
}

// TestAnExpressionThatFailsStopsNobody writes what an expression of from cannot take.
func TestAnExpressionThatFailsStopsNobody(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); CREATE TABLE " +
		"river.site (site text, zero numeric)")
	s.exec("INSERT INTO river.reading VALUES ('A', 1, 1)")
	s.putRollup(strings.ReplaceAll(sums, "hour: at / 10",
		"hour: \"CASE WHEN level > 99 THEN 1 / (level - level)::integer ELSE at / 10 END\""))
	s.exec("INSERT INTO river.reading VALUES ('A', 2, 100), ('B', 1, 1)")
	assert.Equal(t, []string{"3"}, s.lines("SELECT count(*) FROM river.reading"), "who writes is not stopped")
	err := s.db.KeepRollups(ctx, unheard)
	require.NoError(t, err)
	list, err := s.db.Rollups(ctx)
	require.NoError(t, err)
	assert.Equal(t, "rollup sums: an expression of from fails: division by zero. It was computed as a whole instead",
		list[0].Problem)
	s.kept()

	for text, why := range map[string]string{
		strings.ReplaceAll(sums, "FROM river.reading GROUP",
			"FROM river.reading JOIN river.site USING (site) GROUP"): "the select reads river.site too, and from does " +
			"not name it",
		strings.ReplaceAll(sums, "hour: at / 10",
			"hour: at / (at - at)"): "from.river.reading: ERROR: division " +
			"by zero",
	} {
		r, err := rollup.Parse("r.yaml", []byte(text))
		require.NoError(t, err)
		assert.ErrorContains(t, s.db.CheckRollup(ctx, r), why)
	}
}

// weights joins readings with two tables that decorate them, in both of which a row
// touches many keys. A reading alone does not tell its key.
const weights = `
rollup: sums
table: river.sum
key: [basin, unit]
select: SELECT basin, unit, count(*) AS n, sum(level * weight) AS level FROM river.reading JOIN river.site USING (site) JOIN river.kind USING (kind) GROUP BY 1, 2
from:
  river.reading: SELECT basin, unit FROM touched JOIN river.site USING (site) JOIN river.kind USING (kind)
  river.site: SELECT basin, unit FROM touched JOIN river.reading USING (site) JOIN river.kind USING (kind)
  river.kind: SELECT basin, unit FROM touched JOIN river.reading USING (kind) JOIN river.site USING (site)
`

// TestRollupsOfJoins changes what is joined, on each side, one after the other and at once.
func TestRollupsOfJoins(t *testing.T) {
	t.Parallel()
	const tables = `CREATE SCHEMA river; CREATE TABLE river.reading (id integer PRIMARY KEY, site text, kind text,
		level numeric);
		CREATE TABLE river.site (site text PRIMARY KEY, basin text,
		weight numeric); CREATE TABLE river.kind (kind text PRIMARY KEY, unit text)`
	t.Run("one after the other", func(t *testing.T) {
		t.Parallel()
		s := open(t)
		s.exec(tables)
		s.exec("INSERT INTO river.site VALUES ('A', 'North', 1), ('B', 'North', 2); INSERT INTO river.kind VALUES " +
			"('l', 'm'), ('f', 'm3/s'); INSERT INTO river.reading VALUES (1, 'A', 'l', 1), (2, 'B', 'l', 10), (3, " +
			"'C', 'f', 100)")
		s.putRollup(weights)
		holds := func(want ...string) {
			t.Helper()
			assert.Equal(t, want, s.lines("SELECT concat_ws(' ', basin, unit, n, level) FROM river.sum ORDER BY 1"))
		}
		holds("North m 2 21")
		s.exec("UPDATE river.kind SET unit = 'ft'; UPDATE river.site SET weight = 1")
		v, err := s.db.VerifyRollup(ctx, "sums")
		require.NoError(t, err)
		assert.Equal(t, &RollupVerified{Rows: 1, Same: 1, Samples: []json.RawMessage{}}, v,
			"it is brought in step first")
		s.exec("UPDATE river.kind SET unit = 'm' WHERE kind = 'l'; UPDATE river.kind SET unit = 'm3/s' WHERE kind = " +
			"'f'; UPDATE river.site SET weight = 2 WHERE site = 'B'")
		s.kept()
		for _, c := range []struct {
			change string
			want   []string
		}{
			{"UPDATE river.site SET weight = 3 WHERE site = 'A'", []string{"North m 2 23"}},
			{"UPDATE river.site SET basin = 'South' WHERE site = 'A'", []string{"North m 1 20", "South m 1 3"}},
			{"INSERT INTO river.site VALUES ('C', 'South', 1)",
				[]string{"North m 1 20", "South m 1 3", "South m3/s 1 100"}},
			{"UPDATE river.kind SET unit = 'cm' WHERE kind = 'l'", []string{"North cm 1 20", "South cm 1 3",
				"South m3/s 1 100"}},
			{"DELETE FROM river.reading WHERE site = 'A'; UPDATE river.site SET basin = 'East' WHERE site = 'A'",
				[]string{"North cm 1 20", "South m3/s 1 100"}},
			{"DELETE FROM river.kind", []string{}},
			{"INSERT INTO river.kind VALUES ('l', NULL), ('f', NULL); TRUNCATE river.site; INSERT INTO river.site " +
				"VALUES ('B', NULL, 1)", []string{"1 10"}},
			{"TRUNCATE river.kind", []string{}},
			{"INSERT INTO river.kind VALUES ('l', NULL)", []string{"1 10"}},
		} {
			s.exec(c.change)
			s.kept()
			holds(c.want...)
		}
		s.exec("INSERT INTO river.reading SELECT i, 'B', 'l', 1 FROM generate_series(10, 120000) i")
		s.kept()
		holds("119992 120001")
		s.exec("ALTER TABLE river.kind RENAME COLUMN unit TO per")
		s.exec("UPDATE river.reading SET level = 5 WHERE id = 2")
		err = s.db.KeepRollups(ctx, unheard)
		require.NoError(t, err)
		list, err := s.db.Lagging(ctx)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Contains(t, list[0].Problem, "unit")
		s.exec("ALTER TABLE river.kind RENAME COLUMN per TO unit")
		s.kept()
		holds("119992 119996")
	})
	t.Run("its own table", func(t *testing.T) {
		t.Parallel()
		s := open(t)
		s.exec(tables)
		for text, why := range map[string]string{
			strings.Replace(weights, "river.site: SELECT basin, unit FROM touched JOIN river.reading",
				"river.site: SELECT t.basin, unit FROM touched t JOIN river.site USING (basin) JOIN river.reading ON "+
					"true JOIN river.kind USING (kind) --", 1): "from.river.site: it reads river.site beside touched: " +
				"rows of it that go together would not be found",
			strings.Replace(weights, "  river.kind: SELECT", "  river.kinds: SELECT",
				1): "river.kind too, and from does not name it",
			strings.Replace(weights, "river.kind: SELECT basin, unit", "river.kind: SELECT basin, unti",
				1): "from.river.kind: ERROR: column \"unti\" does not exist",
			strings.Replace(weights, "river.kind: SELECT basin, unit", "river.kind: SELECT basin",
				1): "from.river.kind: ERROR: column \"unit\" does not exist",
		} {
			r, err := rollup.Parse("r.yaml", []byte(text))
			require.NoError(t, err)
			if strings.Contains(text, "river.kinds:") {
				s.exec("CREATE TABLE river.kinds (kind text)")
			}
			assert.ErrorContains(t, s.db.CheckRollup(ctx, r), why)
		}
	})
	t.Run("long names", func(t *testing.T) {
		t.Parallel()
		s := open(t)
		long := strings.Repeat("l", 63)
		s.exec("CREATE SCHEMA river; CREATE SCHEMA " + long + "; CREATE TABLE " + long + "." + long +
			" (site text, at integer, level numeric)")
		s.putRollup(strings.ReplaceAll(sums, "river.reading", long+"."+long))
		s.exec("INSERT INTO " + long + "." + long + " VALUES ('A', 1, 1), ('B', 1, 1)")
		s.kept()
		s.exec("DELETE FROM " + long + "." + long + " WHERE site = 'A'")
		s.kept()
		assert.Equal(t, []string{"B"}, s.lines("SELECT site FROM river.sum"))
	})
	for seed := range uint64(6) {
		t.Run(fmt.Sprint("at once ", seed), func(t *testing.T) {
			t.Parallel()
			s := open(t)
			s.exec(tables)
			s.exec("INSERT INTO river.site SELECT 'S' || i, 'B' || i % 3, 1 FROM generate_series(0, 4) i; INSERT INTO " +
				"river.kind SELECT 'K' || i, 'U' || i % 2 FROM generate_series(0, 3) i")
			s.putRollup(weights)
			var writers sync.WaitGroup
			for w := range uint64(4) {
				writers.Go(func() { s.changeAtRandom(rand.New(rand.NewPCG(seed, w)), 60) })
			}
			done := make(chan struct{})
			go func() { writers.Wait(); close(done) }()
			for working := true; working; {
				select {
				case <-done:
					working = false
				default:
				}
				err := s.db.KeepRollups(ctx, unheard)
				require.NoError(t, err)
			}
			s.kept()
		})
	}
}

// changeAtRandom changes readings, sites and kinds in transactions of their own, some of
// which are taken back.
func (s *shop) changeAtRandom(random *rand.Rand, transactions int) {
	for range transactions {
		err := pgx.BeginFunc(ctx, s.db.pool, func(tx pgx.Tx) error {
			for range 1 + random.IntN(3) {
				id, site, kind := random.IntN(12), fmt.Sprint("S", random.IntN(5)), fmt.Sprint("K", random.IntN(4))
				var err error
				switch random.IntN(7) {
				case 0, 1:
					_, err = tx.Exec(ctx, "INSERT INTO river.reading VALUES ($1, $2, $3, $4) ON CONFLICT (id) DO "+
						"UPDATE SET site = excluded.site, kind = excluded.kind, level = excluded.level", id, site,
						kind, random.IntN(9))
				case 2:
					_, err = tx.Exec(ctx, "DELETE FROM river.reading WHERE id = $1", id)
				case 3:
					_, err = tx.Exec(ctx, "UPDATE river.site SET basin = $2, weight = $3 WHERE site = $1", site,
						fmt.Sprint("B", random.IntN(3)), random.IntN(3))
				case 4:
					_, err = tx.Exec(ctx, "UPDATE river.kind SET unit = $2 WHERE kind = $1", kind,
						fmt.Sprint("U", random.IntN(2)))
				case 5:
					_, err = tx.Exec(ctx, "DELETE FROM river.site WHERE site = $1", site)
				case 6:
					_, err = tx.Exec(ctx, "INSERT INTO river.site VALUES ($1, $2, 1) ON CONFLICT DO NOTHING", site,
						fmt.Sprint("B", random.IntN(3)))
				}
				if err != nil {
					return err
				}
			}
			if random.IntN(5) == 0 {
				return errTakenBack
			}
			return nil
		})
		var deadlock *pgconn.PgError
		if !errors.Is(err, errTakenBack) && !(errors.As(err, &deadlock) && deadlock.Code == "40P01") {
			assert.NoError(s.t, err)
		}
	}
}

var errTakenBack = errors.New("taken back")

// BenchmarkRollup changes 23,000 rows of a table of two million, of which each
// touches two keys of a rollup; and one row.
func BenchmarkRollup(b *testing.B) {
	s := open(b)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO " +
		"river.reading SELECT 'S' || i % 100, i / 100, i FROM generate_series(1, 2000000) i; CREATE INDEX ON " +
		"river.reading (site, (at / 10)); ANALYZE river.reading")
	const text = sums
	r, err := rollup.Parse("r.yaml", []byte(text))
	require.NoError(b, err)
	require.NoError(b, s.db.PutRollup(ctx, r, text, "me"))
	keep := func() time.Duration {
		began := time.Now()
		err := s.db.KeepRollups(ctx, unheard)
		require.NoError(b, err)
		return time.Since(began)
	}
	keep()
	for b.Loop() {
		began := time.Now()
		s.exec("CREATE TEMPORARY TABLE whole ON COMMIT DROP AS SELECT site, at / 10 AS hour, count(*) AS n, " +
			"sum(level) AS level FROM river.reading GROUP BY 1, 2")
		whole := time.Since(began)
		s.exec("UPDATE river.reading SET at = at + 10, level = level + 1 WHERE site = 'S1' OR site = 'S2' AND at < " +
			"3000")
		many := keep()
		s.exec("INSERT INTO river.reading VALUES ('S5', 5, 5)")
		b.ReportMetric(float64(whole.Milliseconds()), "ms-whole-select")
		b.ReportMetric(float64(many.Milliseconds()), "ms-23000-rows")
		b.ReportMetric(float64(keep().Microseconds())/1000, "ms-one-row")
	}
}

// TestRemovingARollupEndsItsComputation removes one whose computation takes hours.
func TestRemovingARollupEndsItsComputation(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO " +
		"river.reading VALUES ('A', 1, 1)")
	const slow = `{rollup: slow, table: river.slow, key: [site], select: "SELECT site, pg_sleep(3600)::text AS slept FROM river.reading GROUP BY 1", from: {river.reading: {site: site}}}`
	r, err := rollup.Parse("slow.yaml", []byte(slow))
	require.NoError(t, err)
	require.NoError(t, s.db.PutRollup(ctx, r, slow, "me"))
	computed := make(chan error, 1)
	go func() {
		err := s.db.KeepRollups(ctx, unheard)
		computed <- err
	}()
	require.Eventually(t, func() bool {
		return s.lines("SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'PgSleep' AND datname = " +
			"current_database()")[0] != "0"
	}, time.Minute, 20*time.Millisecond)
	require.NoError(t, s.db.RemoveRollup(ctx, "slow"))
	require.NoError(t, <-computed)
	list, err := s.db.Rollups(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// TestRollupsHaveLittleRight tries what only superusers may do.
func TestRollupsHaveLittleRight(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO " +
		"river.reading VALUES ('A', 1, 1); CREATE TABLE river.secret (word text)")
	for name, c := range map[string]struct{ selected, from, want string }{
		"files": {"SELECT site, pg_read_file('/etc/hostname') AS host FROM river.reading", "site",
			"permission denied"},
		"passwords": {"SELECT r.site, (SELECT max(rolpassword) FROM pg_catalog.pg_authid) AS word FROM " +
			"river.reading r", "site", "permission denied"},
		"settings": {"SELECT site, set_config('log_statement', 'none', false) AS c FROM river.reading", "site",
			"permission denied"},
		"writing": {"SELECT site, nextval('mullein.nth') AS n FROM river.reading", "site", "permission denied"},
		"an expression": {"SELECT site, count(*) AS n FROM river.reading GROUP BY 1",
			"pg_read_file('/etc/hostname')", "permission denied"},
		"another reader": {"SELECT site, lo_import('/etc/hostname') AS l FROM river.reading", "site",
			"permission denied"},
	} {
		text := `{rollup: sneaky, table: river.sneaky, key: [site], select: "` + c.selected +
			`", from: {river.reading: {site: "` + c.from + `"}}}`
		r, err := rollup.Parse("r.yaml", []byte(text))
		require.NoError(t, err, name)
		err = s.db.CheckRollup(ctx, r)
		if name != "an expression" && name != "files" && name != "settings" && name != "writing" &&
			name != "another reader" {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		// Put all the same, as an earlier version may have been.
		require.NoError(t, s.db.PutRollup(ctx, r, text, "me"))
		err = s.db.KeepRollups(ctx, unheard)
		require.NoError(t, err)
		s.exec("INSERT INTO river.reading VALUES ('B', 2, 2)")
		err = s.db.KeepRollups(ctx, unheard)
		require.NoError(t, err)
		list, err := s.db.Rollups(ctx)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Contains(t, list[0].Problem, c.want, name)
		require.NoError(t, s.db.RemoveRollup(ctx, "sneaky"))
		s.exec("DROP TABLE IF EXISTS river.sneaky")
	}
}

// TestRollupsThatLag tells those that are not in step.
func TestRollupsThatLag(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO " +
		"river.reading VALUES ('A', 1, 1)")
	s.putRollup(sums)
	list, err := s.db.Lagging(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
	s.exec("INSERT INTO river.reading VALUES ('B', 1, 1), ('C', 1, 1)")
	list, err = s.db.Lagging(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.NotNil(t, list[0].ComputedAt)
	list[0].ComputedAt = nil
	assert.Equal(t, Lag{Rollup: "sums", Waiting: 2}, list[0])
	s.exec("ALTER TABLE river.reading DROP COLUMN level CASCADE")
	err = s.db.KeepRollups(ctx, unheard)
	require.NoError(t, err)
	list, err = s.db.Lagging(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Problem, "level")
}

// unheard takes news of rollups, and does nothing with them.
func unheard(string, int64) error { return nil }
