package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// PutFeed creates a feed, or a new version of it when the definition differs
// from the present one. A removed feed comes back with its history.
func (l *Ledger) PutFeed(ctx context.Context, name, definition, by string) (version int, changed bool, err error) {
	err = l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&Feed{Name: name}).Error; err != nil {
			return nil, err
		}
		var f Feed
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&f, "name = ?", name).Error; err != nil {
			return nil, err
		}
		version = f.Version
		if f.Version > 0 && f.RemovedAt == nil {
			var last FeedVersion
			if err := tx.First(&last, "feed = ? AND version = ?", name, f.Version).Error; err != nil {
				return nil, err
			}
			if last.Definition == definition {
				return nil, nil
			}
		}
		version, changed = f.Version+1, true
		if err := tx.Create(&FeedVersion{Feed: name, Version: version, Definition: definition, PutBy: by}).Error; err != nil {
			return nil, err
		}
		err := tx.Model(&f).Updates(map[string]any{"version": version, "removed_at": nil, "problem": ""}).Error
		return []Event{{Kind: "feed", Feed: name, State: "put"}}, err
	})
	return version, changed, err
}

// Feeds returns all feeds that are not removed, by name.
func (l *Ledger) Feeds(ctx context.Context) ([]Feed, error) {
	var feeds []Feed
	err := l.with(ctx).Where("removed_at IS NULL").Order("name").Find(&feeds).Error
	return feeds, err
}

// Feed returns one feed that is not removed, or ErrNotFound.
func (l *Ledger) Feed(ctx context.Context, name string) (Feed, error) {
	var f Feed
	err := l.with(ctx).Where("removed_at IS NULL").First(&f, "name = ?", name).Error
	return f, found(err, "feed %q", name)
}

// AnyFeed returns one feed, also when it was removed, or ErrNotFound.
func (l *Ledger) AnyFeed(ctx context.Context, name string) (Feed, error) {
	var f Feed
	err := l.with(ctx).First(&f, "name = ?", name).Error
	return f, found(err, "feed %q", name)
}

// Version returns one wording of a feed; version 0 is the present one.
func (l *Ledger) Version(ctx context.Context, name string, version int) (FeedVersion, error) {
	var v FeedVersion
	q := l.with(ctx).Where("feed = ?", name)
	if version > 0 {
		q = q.Where("version = ?", version)
	}
	err := q.Order("version DESC").First(&v).Error
	return v, found(err, "feed %q version %d", name, version)
}

// Versions returns all wordings of a feed, the newest first.
func (l *Ledger) Versions(ctx context.Context, name string) ([]FeedVersion, error) {
	var versions []FeedVersion
	err := l.with(ctx).Where("feed = ?", name).Order("version DESC").Find(&versions).Error
	if err == nil && len(versions) == 0 {
		err = fmt.Errorf("feed %q: %w", name, ErrNotFound)
	}
	return versions, err
}

// SetPaused pauses or resumes a feed.
func (l *Ledger) SetPaused(ctx context.Context, name string, paused bool) error {
	state := map[bool]string{true: "paused", false: "resumed"}[paused]
	return l.setFeed(ctx, name, state, map[string]any{"paused": paused})
}

// RemoveFeed ends a feed. Its history and its rows stay.
func (l *Ledger) RemoveFeed(ctx context.Context, name string) error {
	return l.setFeed(ctx, name, "removed", map[string]any{"removed_at": gorm.Expr("now()")})
}

// SetProblem records why a feed is not working, or "" when it is.
func (l *Ledger) SetProblem(ctx context.Context, name, problem string) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Model(&Feed{}).Where("name = ? AND problem <> ?", name, problem).Update("problem", problem)
		if done.RowsAffected == 0 {
			return nil, done.Error
		}
		return []Event{{Kind: "feed", Feed: name, State: "problem"}}, done.Error
	})
}

func (l *Ledger) setFeed(ctx context.Context, name, state string, values map[string]any) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Model(&Feed{}).Where("name = ? AND removed_at IS NULL", name).Updates(values)
		if done.Error == nil && done.RowsAffected == 0 {
			return nil, fmt.Errorf("feed %q: %w", name, ErrNotFound)
		}
		return []Event{{Kind: "feed", Feed: name, State: state}}, done.Error
	})
}

// Listed records when a landing was last listed.
func (l *Ledger) Listed(ctx context.Context, name string) error {
	return l.with(ctx).Model(&Feed{}).Where("name = ?", name).Update("listed_at", gorm.Expr("now()")).Error
}

// LeaseTime is how long a lease holds without renewal, by the database's clock.
const LeaseTime = 8 * time.Second

// Claim leases a feed to a holder and raises its fence. It returns 0 when
// somebody else holds the lease. Claiming again raises the fence again.
func (l *Ledger) Claim(ctx context.Context, feed, holder string) (fence int64, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET lease_holder = ?, lease_until = now() + ? * interval '1 second', fence = fence + 1
		WHERE name = ? AND removed_at IS NULL AND (lease_holder IS NULL OR lease_holder = ? OR lease_until < now())
		RETURNING fence`, holder, LeaseTime.Seconds(), feed, holder).Scan(&fence).Error
	return fence, err
}

// RaiseFence lifts a feed's fence above one that the target knows: records
// that were restored from a back-up may have an old one. It returns 0 when the
// holder has lost the lease.
func (l *Ledger) RaiseFence(ctx context.Context, feed, holder string, above int64) (fence int64, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET fence = greatest(fence, ?) + 1 WHERE name = ? AND lease_holder = ? AND lease_until >= now() RETURNING fence`,
		above, feed, holder).Scan(&fence).Error
	return fence, err
}

// Renew prolongs the leases of a holder and returns the feeds that it still holds.
func (l *Ledger) Renew(ctx context.Context, holder string) (feeds []string, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET lease_until = now() + ? * interval '1 second'
		WHERE lease_holder = ? AND lease_until >= now() RETURNING name`, LeaseTime.Seconds(), holder).Scan(&feeds).Error
	return feeds, err
}

// Release returns back a holder's lease of a feed.
func (l *Ledger) Release(ctx context.Context, feed, holder string) error {
	return l.with(ctx).Exec(`UPDATE feed SET lease_holder = NULL, lease_until = NULL WHERE name = ? AND lease_holder = ?`, feed, holder).Error
}

// Service is a running service, as it last spoke up.
type Service struct {
	ID        string    `json:"id" gorm:"primaryKey"`
	Name      string    `json:"name"`
	StartedAt time.Time `json:"started_at"`
	SeenAt    time.Time `json:"seen_at"`
	Alive     bool      `json:"alive" gorm:"->" doc:"It spoke up in time"`
	Feeds     int       `json:"feeds" gorm:"->" doc:"Feeds that it works"`
	Doing     string    `json:"-"`
}

// Serving records that a service is alive and what it does, as JSON. The first
// call registers it.
func (l *Ledger) Serving(ctx context.Context, id, name, doing string) error {
	return l.with(ctx).Exec(`INSERT INTO service AS s (id, name, started_at, seen_at, doing) VALUES (?, ?, now(), now(), ?::jsonb)
		ON CONFLICT (id) DO UPDATE SET seen_at = now(), name = excluded.name, doing = excluded.doing,
			started_at = CASE WHEN s.seen_at < now() - ? * interval '1 second' THEN now() ELSE s.started_at END`, id, name, doing, LeaseTime.Seconds()).Error
}

// Left records that a service has ended.
func (l *Ledger) Left(ctx context.Context, id string) error {
	if err := l.with(ctx).Exec(`UPDATE feed SET lease_holder = NULL, lease_until = NULL WHERE lease_holder = ?`, id).Error; err != nil {
		return err
	}
	return l.with(ctx).Exec(`UPDATE service SET seen_at = '-infinity', doing = '[]' WHERE id = ?`, id).Error
}

// Services returns the services that spoke up during the last hour.
func (l *Ledger) Services(ctx context.Context) ([]Service, error) {
	out := []Service{}
	err := l.with(ctx).Raw(`SELECT s.id, s.name, s.started_at, s.seen_at, s.doing, s.seen_at > now() - ? * interval '1 second' AS alive,
			(SELECT count(*) FROM feed f WHERE f.lease_holder = s.id AND f.lease_until >= now() AND f.removed_at IS NULL) AS feeds
		FROM service s WHERE s.seen_at > now() - interval '1 hour' ORDER BY s.name, s.id`, LeaseTime.Seconds()).Scan(&out).Error
	return out, err
}

// Leases says who works which feeds.
type Leases struct {
	Feeds  int // that are not removed
	Free   []string
	Mine   []string
	Living int // services that speak up
}

// Leases looks at who works which feeds, from the view of one service.
func (l *Ledger) Leases(ctx context.Context, holder string) (Leases, error) {
	var rows []struct {
		Name string
		Free bool
		Mine bool
	}
	err := l.with(ctx).Raw(`SELECT name, lease_holder IS NULL OR lease_until < now() AS free, coalesce(lease_holder = ? AND lease_until >= now(), false) AS mine
		FROM feed WHERE removed_at IS NULL ORDER BY name`, holder).Scan(&rows).Error
	if err != nil {
		return Leases{}, err
	}
	out := Leases{Feeds: len(rows)}
	for _, r := range rows {
		if r.Mine {
			out.Mine = append(out.Mine, r.Name)
		} else if r.Free {
			out.Free = append(out.Free, r.Name)
		}
	}
	err = l.with(ctx).Raw(`SELECT count(*) FROM service WHERE seen_at > now() - ? * interval '1 second'`, LeaseTime.Seconds()).Scan(&out.Living).Error
	return out, err
}

// SetWaits records what a delivery of a feed still waits for.
func (l *Ledger) SetWaits(ctx context.Context, name, waits string) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Model(&Feed{}).Where("name = ? AND waits <> ?", name, waits).Update("waits", waits)
		if done.RowsAffected == 0 {
			return nil, done.Error
		}
		return []Event{{Kind: "feed", Feed: name, State: "waits"}}, done.Error
	})
}

// Fire records that a feed's schedule came to a time, and reports whether it had
// not before: each time fires once, whoever comes to it.
func (l *Ledger) Fire(ctx context.Context, feed string, at time.Time) (bool, error) {
	done := l.with(ctx).Exec(`UPDATE feed SET fired_at = ? WHERE name = ? AND (fired_at IS NULL OR fired_at < ?)`, at, feed, at)
	return done.RowsAffected == 1, done.Error
}

// After reports whether feeds have loaded something since a feed's last run that
// came after them: all of those in all, or one of those in any. If so, it
// takes note of it, so that it tells so once.
func (l *Ledger) After(ctx context.Context, feed string, all, any []string) (bool, error) {
	came := false
	err := l.with(ctx).Transaction(func(tx *gorm.DB) error {
		var f Feed
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&f, "name = ?", feed).Error; err != nil {
			return err
		}
		var others []Feed
		if err := tx.Select("name, loads").Where("name IN ?", append(append([]string{}, all...), any...)).Find(&others).Error; err != nil {
			return err
		}
		now := map[string]int64{}
		for _, o := range others {
			now[o.Name] = o.Loads
		}
		fresh := func(name string) bool { return now[name] > f.AfterSeen[name] }
		came = slices.ContainsFunc(any, fresh) || len(all) > 0 && !slices.ContainsFunc(all, func(name string) bool { return !fresh(name) })
		if !came {
			return nil
		}
		text, err := json.Marshal(now)
		if err != nil {
			return err
		}
		return tx.Model(&Feed{}).Where("name = ?", feed).Update("after_seen", gorm.Expr("?::jsonb", string(text))).Error
	})
	return came, err
}
