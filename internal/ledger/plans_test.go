package ledger

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
)

// TestLookupsOfAFeedThatStatisticsDoNotKnow demands the index of paths, and the
// primary key, for a feed whose arrivals came after the table was last analysed,
// and which are in a state that hardly any was in then: the planner would
// otherwise go through all of the feed's for each.
func TestLookupsOfAFeedThatStatisticsDoNotKnow(t *testing.T) {
	t.Parallel()
	l := open(t)
	_, _, err := l.PutFeed(ctx, "new-gauges", "feed: new-gauges", "test")
	require.NoError(t, err)
	fill := func(feed, state string, n int) {
		require.NoError(t, l.db.Exec(`INSERT INTO arrival (feed, path, size, modified, inode, sha256, state, captures,
			balance)
			SELECT ?, 'G_' || n || '.csv', 10, now(), n, md5(n::text), ?, '{}', '{}'
			FROM generate_series(1, ?::int) n`, feed, state, n).Error)
	}
	fill("gauges", "loaded", 20_000)
	require.NoError(t, l.db.Exec("ANALYZE arrival").Error)
	fill("new-gauges", "loading", 5000)
	var paths []string
	for n := range 100 {
		paths = append(paths, fmt.Sprintf("G_%d.csv", n))
	}
	for name, c := range map[string]struct {
		query string
		args  []any
		index string
	}{
		"newest": {"SELECT k.* FROM " + newestOf("*"), []any{textList(paths), "new-gauges"}, "arrival_by_path"},
		"by path": {"SELECT k.* FROM jsonb_array_elements_text(?::jsonb) p CROSS JOIN LATERAL (SELECT * FROM arrival " +
			"a WHERE " + ofPath("a") + " = ? || ' ' || p OFFSET 0) k",
			[]any{textList(paths), "new-gauges"}, "arrival_by_path"},
		"later version": {"SELECT id FROM arrival a WHERE id BETWEEN 20100 AND 20200 AND " + newest("a"), nil,
			"arrival_by_path"},
		"by number": {"UPDATE arrival a SET reason = 'x' FROM (SELECT generate_series(20100, 20200) AS id) s " +
			"WHERE a.id = s.id AND " + stateOf("a") + " = 'loading'", nil, "arrival_pkey"},
		"known": {"SELECT k.* FROM jsonb_to_recordset(?::jsonb) AS p(feed text, path text) CROSS JOIN LATERAL (SELECT " +
			"id FROM arrival a WHERE " + ofPath("a") + " = p.feed || ' ' || p.path ORDER BY a.id DESC LIMIT 1) k",
			[]any{`[{"feed": "new-gauges", "path": "1"}]`}, "arrival_by_path"},
	} {
		var plan []string
		require.NoError(t, l.db.Raw("EXPLAIN "+c.query, c.args...).Scan(&plan).Error, name)
		text := strings.Join(plan, "\n")
		assert.Contains(t, text, c.index, name)
		assert.NotContains(t, text, "arrival_pending", name)
		assert.NotContains(t, text, "Seq Scan on arrival a", name)
	}
	var files []File
	for _, p := range paths {
		files = append(files, File{"new-gauges", p})
	}
	known, err := l.Known(ctx, files)
	require.NoError(t, err)
	assert.Len(t, known, 99)
	earlier, err := l.Earlier(ctx, "gauges", paths, []string{"c4ca4238a0b923820dcc509a6f75849b", "nothing"})
	require.NoError(t, err)
	assert.Len(t, earlier.ByPath, 99)
	require.Len(t, earlier.ByDigest, 1)
	assert.Equal(t, "G_1.csv", earlier.ByDigest[0].Path)
}

// TestNoPageGoesThroughTheLedger looks into a ledger of 30,000 arrivals at what lies far from
// its newest: of a time, and of a feed to which nothing has come since.
func TestNoPageGoesThroughTheLedger(t *testing.T) {
	t.Parallel()
	l := open(t)
	put(t, l, "stopped", "Upper Office")
	put(t, l, "busy", "Upper Office")
	began := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	fill := func(feed string, n int) {
		require.NoError(t, l.db.Exec(`INSERT INTO arrival (feed, path, size, modified, inode, state, captures, balance, noticed_at)
			SELECT ?, 'G_' || n || '.csv', 10, now(), n, 'loaded', '{}', '{}', ?::timestamptz + n * interval '1 minute'
			FROM generate_series(1, ?::int) n`, feed, began, n).Error)
	}
	fill("stopped", 10)
	fill("busy", 30_000)
	require.NoError(t, l.db.Exec("ANALYZE arrival").Error)
	touched := func(do func(l *Ledger)) int64 {
		var before, after int64
		require.NoError(t, l.db.Transaction(func(tx *gorm.DB) error {
			const read = "SELECT seq_tup_read + idx_tup_fetch FROM pg_stat_xact_user_tables WHERE relname = 'arrival' " +
				"AND schemaname = current_schema()"
			if err := tx.Raw(read).Scan(&before).Error; err != nil {
				return err
			}
			do(&Ledger{db: tx})
			return tx.Raw(read).Scan(&after).Error
		}))
		require.Greater(t, after, before)
		return after - before
	}
	list := func(f Filter, want int) func(l *Ledger) {
		return func(l *Ledger) {
			f.Most = 100
			list, _, err := l.Arrivals(ctx, f)
			require.NoError(t, err)
			assert.Len(t, list, want)
		}
	}
	hour := func(n int) time.Time { return began.Add(time.Duration(n) * time.Hour) }
	for name, do := range map[string]func(l *Ledger){
		"a time":              list(Filter{Since: hour(100), Until: hour(101)}, 60),
		"before a time":       list(Filter{Until: hour(10)}, 100),
		"after all":           list(Filter{Since: hour(10_000)}, 0),
		"before all":          list(Filter{Until: hour(0)}, 0),
		"a time of a feed":    list(Filter{Feed: "busy", Since: hour(100), Until: hour(110)}, 100),
		"goes on":             list(Filter{Until: hour(400), Before: 3000}, 100),
		"the oldest, goes on": list(Filter{Since: hour(100), Ascending: true, After: 20_000}, 100),
		"counts of a feed that has stopped": func(l *Ledger) {
			counts, err := l.Counts(ctx, "stopped")
			require.NoError(t, err)
			assert.Equal(t, began.Add(10*time.Minute), counts["stopped"].LastNoticed.UTC())
		},
	} {
		assert.LessOrEqual(t, touched(do), int64(210), name)
	}
}

// TestPagesOfATime are together what was noticed then, whatever order the numbers have.
func TestPagesOfATime(t *testing.T) {
	t.Parallel()
	l := open(t)
	put(t, l, "gauges", "Upper Office")
	began := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, l.db.Exec(`INSERT INTO arrival (feed, path, size, modified, inode, state, captures, balance, noticed_at)
		SELECT 'gauges', n, 10, now(), n, 'loaded', '{}', '{}', ?::timestamptz + n * 7 % 100 / 3 * interval '1 hour'
		FROM generate_series(1, 100) n`, began).Error)
	f := Filter{Since: began.Add(5 * time.Hour), Until: began.Add(25 * time.Hour), Most: 7}
	all := func(f Filter, gone int64) (out []int64) {
		for {
			list, next, err := l.Arrivals(ctx, f)
			require.NoError(t, err)
			for _, a := range list {
				assert.False(t, a.NoticedAt.Before(f.Since) || !a.NoticedAt.Before(f.Until))
				out = append(out, a.ID)
			}
			if next == 0 {
				return out
			}
			if f.Before, f.After = next, next; next == gone {
				require.NoError(t, l.db.Exec("DELETE FROM arrival WHERE id = ?", gone).Error)
			}
		}
	}
	newest := all(f, 0)
	require.Len(t, newest, 60)
	f.Ascending = true
	oldest := all(f, 0)
	slices.Reverse(oldest)
	assert.Equal(t, newest, oldest)
	f.Feed = "gauges"
	assert.ElementsMatch(t, newest, all(f, oldest[52]), "the arrival that a page ends with may go")
}
