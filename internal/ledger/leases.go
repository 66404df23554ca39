package ledger

import (
	"context"
	"time"
)

// LeaseTime is how long a service's lease holds without renewal, by the database's
// clock. By it the service holds all its feeds.
const LeaseTime = 8 * time.Second

// Service is a running service, as it last spoke up.
type Service struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	StartedAt time.Time
	SeenAt    time.Time
	Alive     bool `gorm:"->"` // it spoke up in time
	Feeds     int  `gorm:"->"` // feeds that it works
	Doing     string
}

// TableName keeps GORM from making plurals.
func (Service) TableName() string { return "service" }

// Serving records that a service is alive and what it does, as JSON, and renews its
// lease. It reports whether the lease had run out meanwhile: then others may have
// taken its feeds. The first call registers the service.
func (l *Ledger) Serving(ctx context.Context, id, name, doing string) (lapsed bool, err error) {
	err = l.with(ctx).Raw(`WITH old AS (SELECT lease_until FROM service WHERE id = ?)
		INSERT INTO service AS s (id, name, started_at, seen_at, doing, lease_until)
		VALUES (?, ?, now(), now(), ?::jsonb, now() + ? * interval '1 second')
		ON CONFLICT (id) DO UPDATE SET seen_at = now(), name = excluded.name, doing = excluded.doing,
		lease_until = excluded.lease_until,
			started_at = CASE WHEN s.lease_until < now() THEN now() ELSE s.started_at END
		RETURNING coalesce((SELECT lease_until FROM old) < now(), true)`, id, id, name, doing,
		LeaseTime.Seconds()).Scan(&lapsed).Error
	return lapsed, err
}

// Left records that a service has ended: its feeds are free.
func (l *Ledger) Left(ctx context.Context, id string) error {
	return l.with(ctx).Exec(`WITH s AS (UPDATE service SET seen_at = '-infinity', lease_until = '-infinity',
		doing = '[]' WHERE id = ?)
		UPDATE feed SET lease_holder = NULL WHERE lease_holder = ?`, id, id).Error
}

// Services returns the services that spoke up during the last hour.
func (l *Ledger) Services(ctx context.Context) ([]Service, error) {
	out := []Service{}
	err := l.with(ctx).Raw(`SELECT s.id, s.name, s.started_at, s.seen_at, s.doing, s.lease_until >= now() AS alive,
			(SELECT count(*) FROM feed f WHERE f.lease_holder = s.id AND s.lease_until >= now()
			AND f.removed_at IS NULL) AS feeds
		FROM service s WHERE s.seen_at > now() - interval '1 hour' ORDER BY s.name, s.id`).Scan(&out).Error
	return out, err
}

// isFree holds for feeds (feed) that no living service holds.
const isFree = `(feed.lease_holder IS NULL OR NOT EXISTS (SELECT 1 FROM service s WHERE s.id = feed.lease_holder
	AND s.lease_until >= now()))`

// Shares says how feeds are spread over services.
type Shares struct {
	Feeds    int // that are not removed
	Free     int // that no living service holds
	Services int // that are alive
}

// Shares counts feeds and services.
func (l *Ledger) Shares(ctx context.Context) (Shares, error) {
	var out Shares
	// Feeds are counted in the index of their holders alone: this is asked all the time.
	err := l.with(ctx).Raw(`SELECT coalesce(sum(n), 0) AS feeds, coalesce(sum(n) FILTER (WHERE lease_holder IS NULL
		OR lease_holder <> ALL(alive)), 0) AS free, cardinality(alive) AS services
		FROM (SELECT coalesce(array_agg(id), '{}') AS alive FROM service WHERE lease_until >= now()) s
		LEFT JOIN (SELECT lease_holder, count(*) AS n FROM feed WHERE removed_at IS NULL
		GROUP BY lease_holder) h ON true GROUP BY alive`).Scan(&out).Error
	return out, err
}

// Claim leases up to most free feeds to a service, raises the fence of each, and
// returns them. The service must be alive.
func (l *Ledger) Claim(ctx context.Context, holder string, most int) ([]Feed, error) {
	var feeds []Feed
	err := l.with(ctx).Raw(`UPDATE feed SET lease_holder = ?, fence = fence + 1 WHERE name IN (
			SELECT name FROM feed WHERE removed_at IS NULL AND `+isFree+` ORDER BY name LIMIT ? FOR UPDATE SKIP LOCKED)
		AND EXISTS (SELECT 1 FROM service WHERE id = ? AND lease_until >= now()) RETURNING *`, holder, most,
		holder).Scan(&feeds).Error
	return feeds, err
}

// Held returns the names of the feeds that a service holds.
func (l *Ledger) Held(ctx context.Context, holder string) (feeds []string, err error) {
	err = l.with(ctx).Raw(`SELECT name FROM feed WHERE lease_holder = ? AND removed_at IS NULL
		AND EXISTS (SELECT 1 FROM service WHERE id = ? AND lease_until >= now()) ORDER BY name`, holder,
		holder).Scan(&feeds).Error
	return feeds, err
}

// RaiseFence lifts a feed's fence above one that the target knows: records
// that were restored from a back-up may have an old one. It returns 0 when the
// holder has lost the lease.
func (l *Ledger) RaiseFence(ctx context.Context, feed, holder string, above int64) (fence int64, err error) {
	err = l.with(ctx).Raw(`UPDATE feed SET fence = greatest(fence, ?) + 1 WHERE name = ? AND lease_holder = ?
		AND EXISTS (SELECT 1 FROM service WHERE id = ? AND lease_until >= now()) RETURNING fence`, above, feed,
		holder, holder).Scan(&fence).Error
	return fence, err
}

// Release gives back a service's leases of feeds.
func (l *Ledger) Release(ctx context.Context, holder string, feeds ...string) error {
	return l.with(ctx).Exec(`UPDATE feed SET lease_holder = NULL WHERE lease_holder = ?
		AND name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))`, holder, textList(feeds)).Error
}
