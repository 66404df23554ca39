package ledger

import (
	"context"
	"fmt"
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

// Feeds gives all feeds that are not removed, by name.
func (l *Ledger) Feeds(ctx context.Context) ([]Feed, error) {
	var feeds []Feed
	err := l.with(ctx).Where("removed_at IS NULL").Order("name").Find(&feeds).Error
	return feeds, err
}

// Feed gives one feed that is not removed, or ErrNotFound.
func (l *Ledger) Feed(ctx context.Context, name string) (Feed, error) {
	var f Feed
	err := l.with(ctx).Where("removed_at IS NULL").First(&f, "name = ?", name).Error
	return f, found(err, "feed %q", name)
}

// Version gives one wording of a feed; version 0 is the present one.
func (l *Ledger) Version(ctx context.Context, name string, version int) (FeedVersion, error) {
	var v FeedVersion
	q := l.with(ctx).Where("feed = ?", name)
	if version > 0 {
		q = q.Where("version = ?", version)
	}
	err := q.Order("version DESC").First(&v).Error
	return v, found(err, "feed %q version %d", name, version)
}

// Versions gives all wordings of a feed, the newest first.
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
const LeaseTime = 15 * time.Second

// Claim leases a feed to a holder and raises its fence, above the one given as
// well: records that were restored from a back-up may have an old one. It gives
// 0 when somebody else holds the lease. Claiming again raises the fence again.
func (l *Ledger) Claim(ctx context.Context, feed, holder string, above int64) (fence int64, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET lease_holder = ?, lease_until = now() + ? * interval '1 second', fence = greatest(fence, ?) + 1
		WHERE name = ? AND removed_at IS NULL AND (lease_holder IS NULL OR lease_holder = ? OR lease_until < now())
		RETURNING fence`, holder, LeaseTime.Seconds(), above, feed, holder).Scan(&fence).Error
	return fence, err
}

// Renew prolongs the leases of a holder and gives the feeds that it still holds.
func (l *Ledger) Renew(ctx context.Context, holder string) (feeds []string, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET lease_until = now() + ? * interval '1 second'
		WHERE lease_holder = ? AND lease_until >= now() RETURNING name`, LeaseTime.Seconds(), holder).Scan(&feeds).Error
	return feeds, err
}

// Release gives back all leases of a holder.
func (l *Ledger) Release(ctx context.Context, holder string) error {
	return l.with(ctx).Exec(`UPDATE feed SET lease_holder = NULL, lease_until = NULL WHERE lease_holder = ?`, holder).Error
}

// Serving records that a service is alive. The first call registers it.
func (l *Ledger) Serving(ctx context.Context, id, name string) error {
	return l.with(ctx).Exec(`INSERT INTO service (id, name, started_at, seen_at) VALUES (?, ?, now(), now())
		ON CONFLICT (id) DO UPDATE SET seen_at = now()`, id, name).Error
}
