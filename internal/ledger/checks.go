package ledger

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// keepChecks keeps what checks saw, in place of what earlier attempts did.
func keepChecks(tx *gorm.DB, of []int64, readings []Reading) error {
	var arrivals []Arrival
	var results []CheckResult
	for _, r := range readings {
		for _, c := range r.Checks {
			results = append(results, CheckResult{ArrivalID: r.ID, Name: c.Name, Scope: string(c.Scope),
				Otherwise: string(c.Else), Held: c.Held, Saw: c.Saw, Value: c.Value, Failed: c.Failed,
				Low: c.Low, High: c.High})
		}
	}
	if len(results) == 0 {
		return nil
	}
	if err := tx.Select("id", "feed").Where(isOneOf("id"), numbers(of)).Find(&arrivals).Error; err != nil {
		return err
	}
	feeds := map[int64]string{}
	for _, a := range arrivals {
		feeds[a.ID] = a.Feed
	}
	for i := range results {
		results[i].Feed = feeds[results[i].ArrivalID]
	}
	if err := tx.Where(isOneOf("arrival_id"), numbers(of)).Delete(&CheckResult{}).Error; err != nil {
		return err
	}
	return tx.CreateInBatches(results, 500).Error
}

// ChecksOf returns what the checks saw of an arrival.
func (l *Ledger) ChecksOf(ctx context.Context, arrival int64) ([]CheckResult, error) {
	out := []CheckResult{}
	err := l.with(ctx).Where("arrival_id = ?", arrival).Order("id").Find(&out).Error
	return out, err
}

// CheckHistory returns what a check of a feed saw, the newest first, before an
// earlier result of a page before; 0 for the first page.
func (l *Ledger) CheckHistory(ctx context.Context, feed, name string, before int64, most int) ([]CheckResult, error) {
	out := []CheckResult{}
	q := l.with(ctx).Where("feed = ? AND name = ?", feed, name)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	err := q.Order("id DESC").Limit(most).Find(&out).Error
	return out, err
}

// LastChecks returns the newest result of each check of a feed.
func (l *Ledger) LastChecks(ctx context.Context, feed string, names []string) ([]CheckResult, error) {
	out := []CheckResult{}
	if len(names) == 0 {
		return out, nil
	}
	err := l.with(ctx).Raw(`SELECT c.* FROM unnest(string_to_array(?, ',')) n CROSS JOIN LATERAL (
		SELECT * FROM check_result r WHERE r.feed = ? AND r.name = n ORDER BY id DESC LIMIT 1) c`,
		strings.Join(names, ","), feed).Scan(&out).Error
	return out, err
}

// RecentRows returns how many rows the last loads of a feed read, the newest first.
func (l *Ledger) RecentRows(ctx context.Context, feed string, most int) ([]float64, error) {
	out := []float64{}
	// One delivery after the other, the newest first: however many files one has.
	err := l.with(ctx).Raw(`WITH RECURSIVE a AS NOT MATERIALIZED (
			SELECT * FROM arrival WHERE feed = ? AND state = 'loaded' AND NOT is_list AND mends IS NULL
		), d AS (
			(SELECT id, delivery, run_id, finished_at, balance, 1 AS n FROM a ORDER BY finished_at DESC, id DESC
			LIMIT 1)
			UNION ALL
			SELECT x.id, x.delivery, x.run_id, x.finished_at, x.balance, d.n + 1 FROM d CROSS JOIN LATERAL (
				SELECT * FROM a WHERE (a.finished_at, a.id) < (d.finished_at, d.id) AND (d.delivery = ''
				OR a.delivery <> d.delivery)
				ORDER BY a.finished_at DESC, a.id DESC LIMIT 1) x WHERE d.n < ?
		)
		SELECT CASE WHEN delivery = '' THEN (balance->>'read')::float8
			ELSE (SELECT sum((balance->>'read')::float8) FROM a WHERE a.delivery = d.delivery
			AND a.run_id IS NOT DISTINCT FROM d.run_id) END AS rows FROM d ORDER BY n`, feed, most).Scan(&out).Error
	if err != nil {
		return nil, fmt.Errorf("look up the rows of earlier loads: %w", err)
	}
	return out, nil
}

// LastValue returns the value that a check saw in the last load of a feed, nil
// where there is none.
func (l *Ledger) LastValue(ctx context.Context, feed, name string) (*float64, error) {
	var x *float64
	err := l.with(ctx).Raw(`SELECT r.value FROM check_result r JOIN arrival a ON a.id = r.arrival_id WHERE r.feed = ?
		AND r.name = ? AND a.state = 'loaded'
		ORDER BY r.id DESC LIMIT 1`, feed, name).Scan(&x).Error
	if err != nil {
		return nil, fmt.Errorf("look up what check %s saw: %w", name, err)
	}
	return x, nil
}

// RejectGroup is rejects of one kind.
type RejectGroup struct {
	Feed       string
	Rule       string
	ColumnName string
	Reason     string // of one of them
	Count      int64
	Open       int64 // not mended
	Kept       int64 // that can be looked at; the others are counted only
	Arrivals   int64
	Last       time.Time // when the newest came
	Example    string    // A value
}

// RejectGroups groups the rejects of the newest arrivals by what they broke and
// by column, the most frequent first. feed "" takes all feeds, arrival 0 all
// arrivals.
func (l *Ledger) RejectGroups(ctx context.Context, feed string, arrival int64, since time.Time) ([]RejectGroup, error) {
	out := []RejectGroup{}
	among := `SELECT id, feed, finished_at, more_rejects FROM arrival WHERE state IN ('loaded', 'refused')
		AND finished_at >= ? AND (balance->>'rejected')::bigint > 0`
	args := []any{since}
	if feed != "" {
		among, args = among+" AND feed = ?", append(args, feed)
	}
	if arrival > 0 {
		among, args = among+" AND id = ?", append(args, arrival)
	}
	const most = 200
	err := l.with(ctx).Raw(`WITH a AS (`+among+`), kept AS (
			SELECT a.feed, r.rule, r.column_name, a.id, a.finished_at, r.reason, r.value, 1 AS n, 1 AS kept,
			(r.mended_in IS NULL)::integer AS open FROM a JOIN reject r ON r.arrival_id = a.id
			UNION ALL SELECT a.feed, m.rule, m."column", a.id, a.finished_at, NULL, NULL, m.count, 0, m.count FROM a
			CROSS JOIN LATERAL jsonb_to_recordset(a.more_rejects) AS m(rule text, "column" text, count bigint)
				WHERE a.more_rejects IS NOT NULL)
		SELECT feed, rule, column_name, coalesce(min(reason), '') AS reason, sum(n) AS count, sum(open) AS open,
		sum(kept) AS kept, count(DISTINCT id) AS arrivals, max(finished_at) AS last, coalesce(min(value), '') AS example
		FROM kept GROUP BY 1, 2, 3 ORDER BY open DESC, count DESC, feed, rule, column_name LIMIT ?`,
		append(args, most)...).Scan(&out).Error
	return out, err
}

// MendedRow is a reject that a person put right.
type MendedRow struct {
	Number int    // of the reject, within its arrival
	Text   string // the whole row as it ought to be, in the form of the file
}

// Mend records an arrival that holds mended rejects of another, ready to be
// loaded.
func (l *Ledger) Mend(ctx context.Context, mended *Arrival, numbers []int, who, because string) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Create(mended).Error; err != nil {
			return nil, err
		}
		done := tx.Model(&Reject{}).Where("arrival_id = ? AND number IN ? AND mended_in IS NULL", *mended.Mends,
			numbers).Update("mended_in", mended.ID)
		if done.Error != nil {
			return nil, done.Error
		}
		if done.RowsAffected != int64(len(numbers)) {
			return nil, &ConflictError{"some of these rejects were mended meanwhile; look again"}
		}
		if err := decided(tx, []Arrival{*mended}, "mend", who, because); err != nil {
			return nil, err
		}
		return []Event{arrivalEvent(mended), wanted(mended.Feed)}, nil
	})
}
