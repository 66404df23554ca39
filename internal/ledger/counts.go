package ledger

import (
	"context"
	"time"
)

// FeedCounts is what waits and what became of a feed's arrivals.
type FeedCounts struct {
	Feed         string
	Waiting      int64 // arrivals that are noticed, settling, ready or loading
	OldestAt     *time.Time
	LastNoticed  *time.Time
	LastLoaded   *time.Time
	LagSeconds   float64          // from the coming of the file that was loaded last to its load
	States       map[string]int64 `gorm:"-"` // arrivals by state
	RowsToday    int64            // rows inserted or updated in the last 24 hours
	NeedsPerson  int64            // arrivals of the last seven days that are refused, failed for good, or held, and slots that are missing or refused
	Missing      int64            // slots of the last seven days that are missing or refused
	Late         int64            // slots that are late, and not here yet
	LastProblem  string           // the reason of the newest arrival that needs a person
	LastProblemA int64
}

// needsPerson holds for arrivals (a) of the last seven days that were refused,
// failed for good or are held, unless a later version of the file came since.
var needsPerson = `a.noticed_at > now() - interval '7 days' AND a.state IN ('refused', 'held', 'failed')
	AND (a.state <> 'failed' OR a.try_after IS NULL)
	AND ` + newest("a")

// Needs returns the newest arrivals that need a person.
func (l *Ledger) Needs(ctx context.Context, most int) ([]Arrival, error) {
	out := []Arrival{}
	err := l.with(ctx).Table("arrival a").Joins("JOIN feed f ON f.name = a.feed AND f.removed_at IS NULL").
		Select("a.*").Where(needsPerson).Order("a.id DESC").Limit(most).Find(&out).Error
	return out, err
}

// Counts returns the counts of feeds. Each count is looked up in
// an index or a running tally: none goes through the arrivals.
func (l *Ledger) Counts(ctx context.Context, feeds ...string) (map[string]*FeedCounts, error) {
	var rows []FeedCounts
	err := l.with(ctx).Raw(`SELECT f.name AS feed, old.noticed_at AS oldest_at, new.noticed_at AS last_noticed,
			done.finished_at AS last_loaded, coalesce(extract(epoch
			FROM done.finished_at - done.came_at), 0) AS lag_seconds,
			coalesce(v.written, 0) AS rows_today, coalesce(needs.n, 0) + coalesce(slots.missing, 0) AS needs_person,
			coalesce(slots.missing, 0) AS missing, coalesce(slots.late, 0) AS late, coalesce(needs.last,
			0) AS last_problem_a, coalesce(problem.reason, '') AS last_problem
		FROM (SELECT name FROM feed WHERE removed_at IS NULL
		AND name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) OFFSET 0) f
		LEFT JOIN LATERAL (SELECT noticed_at FROM arrival a WHERE a.feed = f.name
		AND a.state IN ('noticed', 'settling', 'ready', 'loading') ORDER BY a.id LIMIT 1) old ON true
		LEFT JOIN LATERAL (SELECT max(a.noticed_at) AS noticed_at FROM arrival a WHERE a.feed = f.name) new ON true
		LEFT JOIN LATERAL (SELECT finished_at, came_at FROM arrival a WHERE a.feed = f.name AND a.state = 'loaded'
		ORDER BY a.finished_at DESC LIMIT 1) done ON true
		LEFT JOIN LATERAL (SELECT sum(written) AS written FROM volume v WHERE v.feed = f.name
		AND v.hour > now() - interval '24 hours') v ON true
		LEFT JOIN LATERAL (SELECT count(*) AS n, max(a.id) AS last FROM arrival a WHERE a.feed = f.name
		AND `+needsPerson+`) needs ON true
		LEFT JOIN arrival problem ON problem.id = needs.last
		LEFT JOIN LATERAL (SELECT count(*) FILTER (WHERE state <> 'late') AS missing,
		count(*) FILTER (WHERE state = 'late') AS late FROM slot s
			WHERE s.feed = f.name AND s.due_at > now() - interval '7 days' AND (state IN ('missing', 'refused')
			OR state = 'late' AND complete_at IS NULL)) slots ON true`, textList(feeds)).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	counts := map[string]*FeedCounts{}
	for i := range rows {
		rows[i].States = map[string]int64{}
		counts[rows[i].Feed] = &rows[i]
	}
	var states []struct {
		Feed, State string
		N           int64
	}
	if err := l.with(ctx).Raw(`SELECT feed, state, sum(n) AS n FROM tally
		WHERE feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) GROUP BY feed, state HAVING sum(n) <> 0`,
		textList(feeds)).Scan(&states).Error; err != nil {
		return nil, err
	}
	for _, s := range states {
		if c := counts[s.Feed]; c != nil {
			c.States[s.State] = s.N
			switch State(s.State) {
			case Noticed, Settling, Ready, Loading:
				c.Waiting += s.N
			}
		}
	}
	return counts, nil
}

// SumTallies makes one row of each feed and state of what changes of arrivals left
// behind, for the feeds that have the most of them.
func (l *Ledger) SumTallies(ctx context.Context, feeds int) error {
	return l.with(ctx).Exec(`WITH many AS (SELECT feed FROM tally GROUP BY feed
		HAVING count(*) > count(DISTINCT state) ORDER BY count(*) DESC LIMIT ?),
			gone AS (DELETE FROM tally WHERE feed IN (SELECT feed FROM many) RETURNING feed, state, n)
		INSERT INTO tally SELECT feed, state, sum(n) FROM gone GROUP BY feed, state HAVING sum(n) <> 0`, feeds).Error
}

// Mark is the arrivals of a feed that came within a few minutes and are in the
// same state.
type Mark struct {
	Arrival int64 // the newest of them
	At      time.Time
	State   State
	Path    string // of the newest
	Rows    int64  // read, of all of them
	Count   int64  // how many they are
}

// Marks returns what came of feeds since a time, by feed, minutes and state, oldest
// first.
func (l *Ledger) Marks(ctx context.Context, feeds []string, since time.Time, span time.Duration) (map[string][]Mark,
	error) {
	var rows []struct {
		Feed string
		Mark
	}
	err := l.with(ctx).Raw(`SELECT m.*, a.path FROM (
			SELECT feed, state, max(id) AS arrival, min(coalesce(came_at, noticed_at)) AS at, count(*) AS count,
			sum((balance->>'read')::bigint) AS rows
			FROM arrival WHERE feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) AND noticed_at >= ?
			GROUP BY feed, state, date_bin(? * interval '1 second', coalesce(came_at, noticed_at), 'epoch')) m
		JOIN arrival a ON a.id = m.arrival ORDER BY m.at`, textList(feeds), since, span.Seconds()).Scan(&rows).Error
	out := map[string][]Mark{}
	for _, r := range rows {
		out[r.Feed] = append(out[r.Feed], r.Mark)
	}
	return out, err
}
