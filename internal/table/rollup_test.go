package table

import (
	"strings"
	"testing"
	"time"

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
	_, err := s.db.KeepRollups(ctx)
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
	assert.Equal(t, []string{"- - 1 3", "- 0 1 2", "A - 1 4", "A 0 1 1"}, s.lines("SELECT concat_ws(' ', coalesce(site, '-'), coalesce(hour::text, '-'), n, level) FROM river.sum ORDER BY 1"))
	s.exec("UPDATE river.reading SET level = level + 1; INSERT INTO river.reading VALUES (NULL, 2, 5)")
	s.kept()
	s.exec("INSERT INTO river.reading SELECT 'S' || i % 40, i, i FROM generate_series(1, 30000) i; INSERT INTO river.reading SELECT NULL, i, 1 FROM generate_series(1, 300) i")
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
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); CREATE TABLE river.site (site text, zero numeric)")
	s.exec("INSERT INTO river.reading VALUES ('A', 1, 1)")
	s.putRollup(strings.ReplaceAll(sums, "hour: at / 10", "hour: \"CASE WHEN level > 99 THEN 1 / (level - level)::integer ELSE at / 10 END\""))
	s.exec("INSERT INTO river.reading VALUES ('A', 2, 100), ('B', 1, 1)")
	assert.Equal(t, []string{"3"}, s.lines("SELECT count(*) FROM river.reading"), "who writes is not stopped")
	_, err := s.db.KeepRollups(ctx)
	require.NoError(t, err)
	list, err := s.db.Rollups(ctx)
	require.NoError(t, err)
	assert.Equal(t, "rollup sums: an expression of from fails: division by zero. It was computed as a whole instead", list[0].Problem)
	s.kept()

	for text, why := range map[string]string{
		strings.ReplaceAll(sums, "FROM river.reading GROUP", "FROM river.reading JOIN river.site USING (site) GROUP"): "the select reads river.site too, and from does not name it",
		strings.ReplaceAll(sums, "hour: at / 10", "hour: at / (at - at)"):                                             "from.river.reading: ERROR: division by zero",
	} {
		r, err := rollup.Parse("r.yaml", []byte(text))
		require.NoError(t, err)
		assert.ErrorContains(t, s.db.CheckRollup(ctx, r), why)
	}
}

// BenchmarkRollup changes 23,000 rows of a table of two million, of which each
// touches two keys of a rollup; and one row.
func BenchmarkRollup(b *testing.B) {
	s := open(b)
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO river.reading SELECT 'S' || i % 100, i / 100, i FROM generate_series(1, 2000000) i; CREATE INDEX ON river.reading (site, (at / 10)); ANALYZE river.reading")
	const text = sums
	r, err := rollup.Parse("r.yaml", []byte(text))
	require.NoError(b, err)
	require.NoError(b, s.db.PutRollup(ctx, r, text, "me"))
	keep := func() time.Duration {
		began := time.Now()
		_, err := s.db.KeepRollups(ctx)
		require.NoError(b, err)
		return time.Since(began)
	}
	keep()
	for b.Loop() {
		began := time.Now()
		s.exec("CREATE TEMPORARY TABLE whole ON COMMIT DROP AS SELECT site, at / 10 AS hour, count(*) AS n, sum(level) AS level FROM river.reading GROUP BY 1, 2")
		whole := time.Since(began)
		s.exec("UPDATE river.reading SET at = at + 10, level = level + 1 WHERE site = 'S1' OR site = 'S2' AND at < 3000")
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
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO river.reading VALUES ('A', 1, 1)")
	const slow = `{rollup: slow, table: river.slow, key: [site], select: "SELECT site, pg_sleep(3600)::text AS slept FROM river.reading GROUP BY 1", from: {river.reading: {site: site}}}`
	r, err := rollup.Parse("slow.yaml", []byte(slow))
	require.NoError(t, err)
	require.NoError(t, s.db.PutRollup(ctx, r, slow, "me"))
	computed := make(chan error, 1)
	go func() {
		_, err := s.db.KeepRollups(ctx)
		computed <- err
	}()
	require.Eventually(t, func() bool {
		return s.lines("SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'PgSleep' AND datname = current_database()")[0] != "0"
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
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO river.reading VALUES ('A', 1, 1); CREATE TABLE river.secret (word text)")
	for name, c := range map[string]struct{ selected, from, want string }{
		"files":          {"SELECT site, pg_read_file('/etc/hostname') AS host FROM river.reading", "site", "permission denied"},
		"passwords":      {"SELECT r.site, (SELECT max(rolpassword) FROM pg_catalog.pg_authid) AS word FROM river.reading r", "site", "permission denied"},
		"settings":       {"SELECT site, set_config('log_statement', 'none', false) AS c FROM river.reading", "site", "permission denied"},
		"writing":        {"SELECT site, nextval('mullein.nth') AS n FROM river.reading", "site", "permission denied"},
		"an expression":  {"SELECT site, count(*) AS n FROM river.reading GROUP BY 1", "pg_read_file('/etc/hostname')", "permission denied"},
		"another reader": {"SELECT site, lo_import('/etc/hostname') AS l FROM river.reading", "site", "permission denied"},
	} {
		text := `{rollup: sneaky, table: river.sneaky, key: [site], select: "` + c.selected + `", from: {river.reading: {site: "` + c.from + `"}}}`
		r, err := rollup.Parse("r.yaml", []byte(text))
		require.NoError(t, err, name)
		err = s.db.CheckRollup(ctx, r)
		if name != "an expression" && name != "files" && name != "settings" && name != "writing" && name != "another reader" {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		// Put all the same, as an earlier version may have been.
		require.NoError(t, s.db.PutRollup(ctx, r, text, "me"))
		_, err = s.db.KeepRollups(ctx)
		require.NoError(t, err)
		s.exec("INSERT INTO river.reading VALUES ('B', 2, 2)")
		_, err = s.db.KeepRollups(ctx)
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
	s.exec("CREATE SCHEMA river; CREATE TABLE river.reading (site text, at integer, level numeric); INSERT INTO river.reading VALUES ('A', 1, 1)")
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
	_, err = s.db.KeepRollups(ctx)
	require.NoError(t, err)
	list, err = s.db.Lagging(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Problem, "level")
}
