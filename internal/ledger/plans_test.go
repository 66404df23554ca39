package ledger

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
