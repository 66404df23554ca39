package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
)

// PutFeed creates a feed, or a new version of it when the definition differs
// from the present one. A removed feed comes back with its history.
func (l *Ledger) PutFeed(ctx context.Context, name, definition, by string) (version int, changed bool, err error) {
	err = l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
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
		if err := tx.Create(&FeedVersion{Feed: name, Version: version, Definition: definition,
			PutBy: by}).Error; err != nil {
			return nil, err
		}
		values := map[string]any{"version": version, "removed_at": nil, "problem": ""}
		if read, err := feed.Parse(name, []byte(definition)); err == nil { // else whoever works it says so
			d := DescribedBy(read, version)
			after, err := json.Marshal(d.ComesAfter)
			if err != nil {
				return nil, err
			}
			values["owner"], values["supplier"], values["folder"], values["target"], values["has_due"],
				values["described"] = d.Owner, d.Supplier, d.Folder, d.Target, d.HasDue, version
			values["connection"], values["comes_after"] = d.Connection, string(after)
		}
		err := tx.Model(&f).Updates(values).Error
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

// FeedsNamed returns those of the feeds that are not removed.
func (l *Ledger) FeedsNamed(ctx context.Context, names []string) ([]Feed, error) {
	var feeds []Feed
	err := l.with(ctx).Where("removed_at IS NULL AND name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))",
		textList(names)).Find(&feeds).Error
	return feeds, err
}

// Present returns the present wording of each of the feeds, by name.
func (l *Ledger) Present(ctx context.Context, names []string) (map[string]FeedVersion, error) {
	var list []FeedVersion
	err := l.with(ctx).Raw(`SELECT v.* FROM feed_version v JOIN feed f ON f.name = v.feed AND f.version = v.version
		WHERE f.name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))`, textList(names)).Scan(&list).Error
	out := make(map[string]FeedVersion, len(list))
	for _, v := range list {
		out[v.Feed] = v
	}
	return out, err
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

// PauseFeed keeps runs of a feed from beginning by themselves.
func (l *Ledger) PauseFeed(ctx context.Context, name string) error {
	return l.setFeed(ctx, name, "paused", map[string]any{"paused": true})
}

// ResumeFeed ends a pause.
func (l *Ledger) ResumeFeed(ctx context.Context, name string) error {
	return l.setFeed(ctx, name, "resumed", map[string]any{"paused": false})
}

// RemoveFeed ends a feed. Its history and its rows stay.
func (l *Ledger) RemoveFeed(ctx context.Context, name string) error {
	return l.setFeed(ctx, name, "removed", map[string]any{"removed_at": gorm.Expr("now()")})
}

// Trouble is why a feed is not working. Its zero value is that of a feed that is.
type Trouble struct {
	Kind news.Kind
	Of   string // the table or the connection, where it is of one
	Text string
}

// SetProblem records why a feed is not working, or that it is.
func (l *Ledger) SetProblem(ctx context.Context, name string, t Trouble) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Model(&Feed{}).Where("name = ? AND problem <> ?", name, t.Text).Updates(map[string]any{
			"problem": t.Text, "problem_kind": t.Kind, "problem_of": t.Of})
		if done.RowsAffected == 0 {
			return nil, done.Error
		}
		return []Event{{Kind: "feed", Feed: name, State: "problem"}}, done.Error
	})
}

// Listing is what a listing of a feed's landing told.
type Listing struct {
	Feed       string `json:"feed"`
	ListedOnly bool   `json:"listed_only"` // no events come from the landing
	Failed     bool   `json:"failed"`      // it could not be listed
	Problem    string `json:"problem"`     // why; "" where it could be
	SetProblem bool   `json:"set_problem"` // the feed's problem is to be Problem by now
}

// Listed records listings.
func (l *Ledger) Listed(ctx context.Context, listings []Listing) error {
	text, err := json.Marshal(listings)
	if err != nil {
		return err
	}
	names := make([]string, len(listings))
	for i, of := range listings {
		names[i] = of.Feed
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := lockFeeds(tx, names); err != nil {
			return nil, err
		}
		var changed []string
		err := tx.Raw(`WITH l AS (SELECT * FROM jsonb_to_recordset(?::jsonb) AS l(feed text, listed_only boolean,
			failed boolean, problem text, set_problem boolean)),
				old AS (SELECT f.name, f.problem FROM feed f JOIN l ON l.feed = f.name),
				new AS (UPDATE feed f SET listed_at = CASE WHEN l.failed THEN f.listed_at ELSE now()
				END, listed_only = l.listed_only,
					problem = CASE WHEN l.set_problem THEN l.problem ELSE f.problem END,
					problem_kind = CASE WHEN l.set_problem THEN 'landing' ELSE f.problem_kind END FROM l WHERE f.name = l.feed
					RETURNING f.name, f.problem)
			SELECT name FROM new JOIN old USING (name) WHERE new.problem <> old.problem ORDER BY name`,
			string(text)).Scan(&changed).Error
		events := make([]Event, len(changed))
		for i, name := range changed {
			events[i] = Event{Kind: "feed", Feed: name, State: "problem"}
		}
		return events, err
	})
}

func (l *Ledger) setFeed(ctx context.Context, name, state string, values map[string]any) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := tx.Model(&Feed{}).Where("name = ? AND removed_at IS NULL", name).Updates(values)
		if done.Error == nil && done.RowsAffected == 0 {
			return nil, fmt.Errorf("feed %q: %w", name, ErrNotFound)
		}
		return []Event{{Kind: "feed", Feed: name, State: state}}, done.Error
	})
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

// Fire records that the schedules of feeds came to a time, and returns the names of
// those that had not before: each time fires once, whoever comes to it.
func (l *Ledger) Fire(ctx context.Context, times map[string]time.Time) (fires []string, err error) {
	text, err := json.Marshal(times)
	if err != nil {
		return nil, err
	}
	err = l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := lockFeeds(tx, slices.Collect(maps.Keys(times))); err != nil {
			return err
		}
		return tx.Raw(`UPDATE feed f SET fired_at = t.value::timestamptz FROM jsonb_each_text(?::jsonb) t
		WHERE f.name = t.key AND (f.fired_at IS NULL OR f.fired_at < t.value::timestamptz) RETURNING f.name`,
			string(text)).Scan(&fires).Error
	})
	return fires, err
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
		if err := tx.Select("name, loads").Where("name IN ?",
			append(append([]string{}, all...), any...)).Find(&others).Error; err != nil {
			return err
		}
		now := map[string]int64{}
		for _, o := range others {
			now[o.Name] = o.Loads
		}
		fresh := func(name string) bool { return now[name] > f.AfterSeen[name] }
		came = slices.ContainsFunc(any, fresh) || len(all) > 0 &&
			!slices.ContainsFunc(all, func(name string) bool { return !fresh(name) })
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
