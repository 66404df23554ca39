package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/balance"
)

// QueueRun asks for a run of a feed. When one is queued already, that one is
// given: a button pressed twice joins the queue once. A narrowed run is queued
// beside others.
func (l *Ledger) QueueRun(ctx context.Context, feed, cause, by string, wanted Wanted) (Run, error) {
	run := Run{Feed: feed, Cause: cause, By: by, State: RunQueued, Wanted: wanted}
	err := l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&run)
		if done.Error != nil {
			return nil, done.Error
		}
		if done.RowsAffected == 0 {
			return nil, tx.First(&run, "feed = ? AND state = 'queued' AND wanted = ?", feed, wantedText(wanted)).Error
		}
		return []Event{runEvent(run)}, nil
	})
	if errors.Is(err, gorm.ErrRecordNotFound) { // it began between the two statements
		return l.QueueRun(ctx, feed, cause, by, wanted)
	}
	return run, err
}

func wantedText(w Wanted) string {
	text, _ := json.Marshal(w) // texts only: it cannot fail
	return string(text)
}

func runEvent(r Run) Event {
	return Event{Kind: "run", Feed: r.Feed, Run: r.ID, State: string(r.State)}
}

// QueuedRun returns the oldest queued run of a feed, nil when there is none.
func (l *Ledger) QueuedRun(ctx context.Context, feed string) (*Run, error) {
	var runs []Run
	err := l.with(ctx).Where("feed = ? AND state = 'queued'", feed).Order("id").Limit(1).Find(&runs).Error
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	return &runs[0], nil
}

// BeginRun takes the oldest queued run of a feed, or nil when there is none, or
// when version is not the feed's present one any more: what comes after a new
// version was put is never loaded by the old.
func (l *Ledger) BeginRun(ctx context.Context, feed string, version int) (*Run, error) {
	return l.oneRun(ctx, `UPDATE run SET state = 'running', started_at = now(), version = ?
		WHERE id = (SELECT id FROM run WHERE feed = ? AND state = 'queued' ORDER BY id LIMIT 1 FOR UPDATE)
			AND EXISTS (SELECT 1 FROM feed WHERE name = ? AND version = ?) RETURNING *`, version, feed, feed, version)
}

// StartRun begins a run that nobody queued, because files came; nil when version
// is not the feed's present one any more.
func (l *Ledger) StartRun(ctx context.Context, feed string, version int, cause, by string) (*Run, error) {
	return l.oneRun(ctx, `INSERT INTO run (feed, version, cause, by, state, started_at, balance)
		SELECT name, version, ?, ?, 'running', now(), '{}' FROM feed WHERE name = ? AND version = ? RETURNING *`,
		cause, by, feed, version)
}

// oneRun changes a run by a statement that returns it, and tells so. It returns nil
// where there is none.
func (l *Ledger) oneRun(ctx context.Context, statement string, args ...any) (*Run, error) {
	var runs []Run
	err := l.with(ctx).Raw(`WITH r AS (`+statement+`), told AS (SELECT tell(jsonb_agg(event_of('run', feed, 0, id,
		state))) FROM r) SELECT r.* FROM r, told`, args...).Scan(&runs).Error
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	return &runs[0], nil
}

// FinishRun ends a run. Its counts and its balance are summed up from its
// arrivals here, so that they agree with the ledger whatever happened.
func (l *Ledger) FinishRun(ctx context.Context, id int64, state RunState, reason string) error {
	_, err := l.oneRun(ctx, `UPDATE run r SET state = ?, reason = ?, finished_at = now(),
			loaded = s.loaded, refused = s.refused, failed = s.failed, skipped = s.skipped, balance = s.balance
		FROM (`+sumOfRun+`) s WHERE r.id = ? AND r.state = 'running' RETURNING r.*`, state, reason, id, id)
	return err
}

// A list is no file of its own. What an attempt did not bring to its end did not happen,
// although the arrival has the balance of an earlier one.
const sumOfRun = `SELECT count(*) FILTER (WHERE state = 'loaded' AND NOT is_list) AS loaded,
	count(*) FILTER (WHERE state = 'refused') AS refused,
	count(*) FILTER (WHERE state IN ('failed', 'held')) AS failed,
	count(*) FILTER (WHERE state = 'skipped') AS skipped,
	jsonb_build_object(` +
	`'read', coalesce(sum((balance->>'read')::bigint), 0),
	'inserted', coalesce(sum((balance->>'inserted')::bigint), 0),
	'updated', coalesce(sum((balance->>'updated')::bigint), 0),
	'unchanged', coalesce(sum((balance->>'unchanged')::bigint), 0),
	'outdated', coalesce(sum((balance->>'outdated')::bigint), 0),
	'kept', coalesce(sum((balance->>'kept')::bigint), 0),
	'deleted', coalesce(sum((balance->>'deleted')::bigint), 0),
	'duplicate', coalesce(sum((balance->>'duplicate')::bigint), 0),
	'rejected', coalesce(sum((balance->>'rejected')::bigint), 0),
	'left_out', coalesce(sum((balance->>'left_out')::bigint), 0),
	'withheld', coalesce(sum((balance->>'withheld')::bigint), 0),
	'removed', coalesce(sum((balance->>'removed')::bigint), 0)) AS balance
	FROM (SELECT state, is_list, CASE WHEN state IN ('loaded', 'refused', 'skipped', 'recalled')
	AND finished_at IS NOT NULL THEN balance END AS balance
		FROM arrival WHERE run_id = ?) a`

// Run returns one run, or ErrNotFound. While it is running, its counts and its
// balance are those up to now.
func (l *Ledger) Run(ctx context.Context, id int64) (Run, error) {
	var run Run
	if err := l.with(ctx).First(&run, id).Error; err != nil {
		return run, found(err, "run %d", id)
	}
	if run.State != RunRunning {
		return run, nil
	}
	var sum struct {
		Loaded, Refused, Failed, Skipped int64
		Balance                          balance.Balance `gorm:"serializer:json"`
	}
	err := l.with(ctx).Raw(sumOfRun, id).Scan(&sum).Error
	run.Loaded, run.Refused, run.Failed, run.Skipped, run.Balance = sum.Loaded, sum.Refused, sum.Failed, sum.Skipped,
		sum.Balance
	return run, err
}

// RunFilter selects runs. What is empty or 0 does not narrow.
type RunFilter struct {
	Feed      string
	Before    int64 // the next of the page before
	Ascending bool  // the oldest first; the page goes on after After, and Before says nothing
	After     int64
	Most      int
}

// Runs returns a page of runs, the newest first unless the filter says otherwise.
func (l *Ledger) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	q := l.with(ctx)
	if f.Feed != "" {
		q = q.Where("feed = ?", f.Feed)
	}
	switch {
	case f.Ascending:
		q = q.Where("id > ?", f.After).Order("id")
	case f.Before > 0:
		q = q.Where("id < ?", f.Before).Order("id DESC")
	default:
		q = q.Order("id DESC")
	}
	runs := []Run{}
	err := q.Limit(f.Most).Find(&runs).Error
	return runs, err
}

// Requeue puts a run back that a service left behind.
func (l *Ledger) Requeue(ctx context.Context, id int64) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Exec(`UPDATE run r SET state = 'queued' WHERE id = ? AND state = 'running'
			AND NOT EXISTS (SELECT 1 FROM run q WHERE q.feed = r.feed AND q.state = 'queued'
			AND q.wanted = r.wanted)`, id)
		if done.Error != nil || done.RowsAffected == 0 {
			return nil, done.Error
		}
		var run Run
		err := tx.First(&run, id).Error
		return []Event{runEvent(run)}, err
	})
}

// CancelRun asks a run to end. One that is queued ends at once.
func (l *Ledger) CancelRun(ctx context.Context, id int64, by string) (Run, error) {
	var run Run
	err := l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&run, id).Error; err != nil {
			return nil, found(err, "run %d", id)
		}
		values := map[string]any{"cancel_by": by}
		switch run.State {
		case RunQueued:
			values["state"], values["finished_at"], values["reason"] = RunCancelled, gorm.Expr("now()"),
				"cancelled by "+by
		case RunRunning:
		default:
			return nil, &ConflictError{fmt.Sprintf("run %d is %s already", id, run.State)}
		}
		if err := tx.Model(&run).Updates(values).Error; err != nil {
			return nil, err
		}
		event := runEvent(run)
		if run.State == RunRunning {
			event.State = Cancelling
		}
		return []Event{event}, tx.First(&run, id).Error
	})
	return run, err
}

// Cancelling is the state in the event of a run that somebody wants to end.
const Cancelling = "cancelling"

// RecordSlots records what a run over slots came across, and tells who asked for it
// to end, if somebody did.
func (l *Ledger) RecordSlots(ctx context.Context, id int64, slots RunSlots) (cancelBy string, err error) {
	text, err := json.Marshal(slots)
	if err != nil {
		return "", err
	}
	err = l.with(ctx).Raw("UPDATE run SET told = ?::jsonb WHERE id = ? RETURNING cancel_by", string(text),
		id).Scan(&cancelBy).Error
	return cancelBy, err
}

// CancelBy returns who asked for a run to end, "" when nobody did.
func (l *Ledger) CancelBy(ctx context.Context, id int64) (string, error) {
	var by string
	err := l.with(ctx).Raw("SELECT cancel_by FROM run WHERE id = ?", id).Scan(&by).Error
	return by, err
}

// OpenRuns returns the runs of a feed that are running.
func (l *Ledger) OpenRuns(ctx context.Context, feed string) ([]Run, error) {
	var runs []Run
	err := l.with(ctx).Where("feed = ? AND state = 'running'", feed).Find(&runs).Error
	return runs, err
}

// FeedsLeftBehind returns those of the feeds that have a run that is running, or an
// arrival that is loading: when nobody works them, whoever had them before left
// these behind.
func (l *Ledger) FeedsLeftBehind(ctx context.Context, feeds []string) (left []string, err error) {
	err = l.with(ctx).Raw(`SELECT f FROM jsonb_array_elements_text(?::jsonb) f WHERE EXISTS (SELECT 1 FROM run
		WHERE feed = f AND state = 'running')
		OR EXISTS (SELECT 1 FROM arrival WHERE feed = f AND state = 'loading')`, textList(feeds)).Scan(&left).Error
	return left, err
}

// Work says that there may be something to do for a feed.
type Work struct {
	Feed string
	Left bool // a run is running, or an arrival loading: when nobody works the feed, it was left so
}

// WithWork returns those of the feeds that a service holds for which there may be
// something to do: a run that is queued or was left running, an arrival that is
// ready, is to be tried again by now, or was left loading, or a file to put away.
func (l *Ledger) WithWork(ctx context.Context, holder string) (work []Work, err error) {
	err = l.with(ctx).Raw(`SELECT name AS feed, "left" FROM (
			SELECT f.name,
				EXISTS (SELECT 1 FROM run WHERE feed = f.name AND state = 'running')
				OR EXISTS (SELECT 1 FROM arrival WHERE feed = f.name AND state = 'loading') AS "left",
				EXISTS (SELECT 1 FROM run WHERE feed = f.name AND state = 'queued')
				OR EXISTS (SELECT 1 FROM arrival WHERE feed = f.name AND away = 'wanted')
				OR EXISTS (SELECT 1 FROM arrival WHERE feed = f.name AND state IN ('ready', 'failed')
					AND (state = 'ready' OR try_after <= now())) AS waits
			FROM feed f WHERE f.lease_holder = ? AND f.removed_at IS NULL) f
		WHERE "left" OR waits`, holder).Scan(&work).Error
	return work, err
}
