package ledger

import (
	"context"
	"fmt"
	"time"
)

// Keep says how long records are kept; 0 for ever. What exactly-once needs is never
// dropped: the newest arrival of each file, what is loaded, and the markers in the
// targets.
type Keep struct {
	Rejects   time.Duration // the texts of rejects; what was counted stays
	Events    time.Duration // for callers that go on after one
	Runs      time.Duration
	Checks    time.Duration // what checks saw
	Slots     time.Duration
	Decisions time.Duration
	Arrivals  time.Duration // earlier versions of files, which are not what is loaded
	Order     time.Duration // what targets remember of the order of rows; never less than a journal
	Notices   time.Duration // notices, and problems that are over
}

const day = 24 * time.Hour

// oldest drops those of the oldest rows of a table that are older than a time: its
// numbers are in the order of time, so that nothing is looked at that stays.
func oldest(table, at string) string {
	return `DELETE FROM ` + table + ` WHERE id IN (SELECT id FROM (SELECT id, ` + at + ` AS at FROM ` + table +
		` ORDER BY id LIMIT ?) o WHERE at < ?)`
}

// Drop drops records that are older than they are kept, up to so many of each kind. It
// returns how many they were.
func (l *Ledger) Drop(ctx context.Context, keep Keep, now time.Time, atOnce int) (int64, error) {
	var dropped int64
	for _, of := range []struct {
		what      string
		keep      time.Duration
		statement string
	}{
		{"rejects", keep.Rejects, `DELETE FROM reject WHERE (arrival_id, number) IN (SELECT arrival_id, number FROM (
			SELECT r.arrival_id, r.number, a.finished_at FROM reject r JOIN arrival a ON a.id = r.arrival_id
			ORDER BY 1, 2 LIMIT ?) o WHERE finished_at < ?)`},
		{"events", keep.Events, oldest("event", "at")},
		{"what checks saw", keep.Checks, oldest("check_result", "at")},
		{"decisions", keep.Decisions, oldest("decision", "at")},
		{"acts", keep.Decisions, oldest("act", "at")},
		{"notices", keep.Notices, `DELETE FROM notice WHERE id IN (SELECT id FROM (SELECT id, at, state FROM notice ORDER BY id
			LIMIT ?) o WHERE at < ? AND state <> 'waiting')`},
		{"problems", keep.Notices, `DELETE FROM problem WHERE id IN (SELECT id FROM (SELECT id, over_at FROM problem ORDER BY id
			LIMIT ?) o WHERE over_at < ?)`},
		{"slots", keep.Slots, `DELETE FROM slot WHERE id IN (SELECT id FROM (SELECT id, due_at FROM slot
			ORDER BY due_at LIMIT ?) o WHERE due_at < ?)`},
		{"runs", keep.Runs, `WITH old AS (SELECT id FROM (SELECT id, coalesce(finished_at, 'infinity') AS at FROM run
			ORDER BY id LIMIT ?) o WHERE at < ?),
			of AS (UPDATE arrival SET run_id = NULL WHERE run_id IN (SELECT id FROM old) RETURNING id)
			DELETE FROM run WHERE id IN (SELECT id FROM old)`},
		// The last window of an extract stays.
		{"windows", keep.Runs, `DELETE FROM extract_window w WHERE id IN (SELECT id FROM (SELECT id, coalesce(finished_at, 'infinity') AS at
			FROM extract_window ORDER BY id LIMIT ?) o WHERE at < ?) AND run < (SELECT runs FROM extract x WHERE x.name = w.extract)`},
	} {
		if of.keep <= 0 {
			continue
		}
		done := l.with(ctx).Exec(of.statement, atOnce, now.Add(-of.keep))
		if done.Error != nil {
			return dropped, fmt.Errorf("drop old %s: %w", of.what, done.Error)
		}
		dropped += done.RowsAffected
	}
	return dropped, nil
}

// DropVersions drops earlier versions of files that are not what is loaded and ended
// before a time, among so many arrivals with numbers above after. It returns up to which
// arrival it looked; 0 when there is none left that ended before the time. Mended rejects
// that are not loaded go too; their files are returned, which nobody needs any more.
func (l *Ledger) DropVersions(ctx context.Context, before time.Time, after int64, atOnce int) (upTo int64,
	dropped []Dropped, err error) {
	err = l.with(ctx).Raw(`WITH page AS (SELECT id, feed, path, state, finished_at, mends FROM arrival WHERE id > ?
		ORDER BY id LIMIT ?),
			old AS (SELECT a.id FROM page a WHERE a.finished_at < ? AND a.state IN ('skipped', 'gone', 'refused',
			'recalled')
				AND (NOT `+newest("a")+` OR a.mends IS NOT NULL)
				AND NOT EXISTS (SELECT 1 FROM arrival o WHERE o.copy_of = a.id) AND NOT EXISTS (SELECT 1
				FROM arrival o WHERE o.mends = a.id)),
			gone AS (DELETE FROM arrival WHERE id IN (SELECT id FROM old) RETURNING feed, state, away_to, mends),
			counted AS (INSERT INTO tally SELECT feed, state, -count(*) FROM gone GROUP BY feed, state)
		SELECT feed, CASE WHEN mends IS NOT NULL THEN away_to ELSE '' END AS mended FROM gone`, after, atOnce,
		before).Scan(&dropped).Error
	if err != nil {
		return 0, nil, err
	}
	err = l.with(ctx).Raw(`SELECT coalesce(max(id), 0) FROM (SELECT id, finished_at FROM arrival WHERE id > ?
		ORDER BY id LIMIT ?) p
		WHERE finished_at < ?`, after, atOnce, before).Scan(&upTo).Error
	return upTo, dropped, err
}

// Dropped is an arrival that was dropped.
type Dropped struct {
	Feed   string
	Mended string // where its file lies, below the landing's root, if it held mended rejects
}
