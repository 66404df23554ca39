package ledger

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/feed"
)

// Described is what feeds are looked for by, beside their names.
type Described struct {
	Feed     string `json:"feed"`
	Version  int    `json:"version"`
	Owner    string `json:"owner"`
	Supplier string `json:"supplier"`
	Folder   string `json:"folder"`
	Target   string `json:"target"`
	HasDue   bool   `json:"has_due"`
	// Connection is that of the target; ComesAfter are the feeds after which it runs.
	Connection string   `json:"connection"`
	ComesAfter []string `json:"comes_after"`
}

// DescribedBy is what a version of a feed is looked for by.
func DescribedBy(f *feed.Feed, version int) Described {
	return Described{Feed: f.Name, Version: version, Owner: f.Owner, Supplier: f.Supplier.Name, Folder: f.Landing.At,
		Target: f.Target.Schema + "." + f.Target.Table, HasDue: f.Due != nil,
		Connection: f.Target.Connection, ComesAfter: append(append([]string{}, f.When.AfterAll...), f.When.AfterAny...)}
}

// Describe records what feeds are looked for by.
func (l *Ledger) Describe(ctx context.Context, feeds []Described) error {
	text, err := json.Marshal(feeds)
	if err != nil {
		return err
	}
	names := make([]string, len(feeds))
	for i, d := range feeds {
		names[i] = d.Feed
	}
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := lockFeeds(tx, names); err != nil {
			return err
		}
		return tx.Exec(`UPDATE feed f SET owner = d.owner, supplier = d.supplier, folder = d.folder, target = d.target,
		has_due = d.has_due, connection = d.connection, comes_after = d.comes_after, described = d.version
		FROM jsonb_to_recordset(?::jsonb) AS d(feed text, version integer, owner text, supplier text, folder text, target text,
		has_due boolean, connection text, comes_after jsonb) WHERE f.name = d.feed AND f.version = d.version`, string(text)).Error
	})
}

// FeedFilter narrows a list of feeds. Zero values do not narrow.
type FeedFilter struct {
	Text     string // part of the name, the supplier or the folder; * and ? stand for any text and one character
	Supplier string
	Mine     string // only feeds of this person, as their owner says: see mine
	Wrong    bool   // only feeds of which something needs a person
	Due      bool   // only feeds of which something is due at times
	After    string // the last name of the page before
	Most     int    // 1 to 1000
}

// isWrong holds for feeds (f) of which something needs a person: they do not work,
// an arrival of the last seven days needs one, or a slot is missing, refused, or late
// and not here yet.
var isWrong = `(f.problem <> '' OR f.name IN (SELECT a.feed FROM arrival a WHERE ` + needsPerson + `)
	OR f.name IN (SELECT feed FROM slot WHERE ` + wrongSlot + `))`

// mine is the condition on the owner of a feed that it is a person, whose name it takes twice: their name or an
// address of theirs, of which that is the first part.
func mine(owner string) string {
	return "(" + owner + " = ? OR split_part(" + owner + ", '@', 1) = ?)"
}

// FindFeeds returns a page of feeds that are not removed, by name, and how many there
// are in all. next is the After of the page that follows, "" when there is none.
func (l *Ledger) FindFeeds(ctx context.Context, f FeedFilter) (feeds []Feed, total int64, next string, err error) {
	q := l.with(ctx).Table("feed f").Where("f.removed_at IS NULL")
	if f.Text != "" {
		q = q.Where("(f.name ILIKE ? OR f.supplier ILIKE ? OR f.folder ILIKE ?)", like(f.Text), like(f.Text),
			like(f.Text))
	}
	if f.Supplier != "" {
		q = q.Where("f.supplier = ?", f.Supplier)
	}
	if f.Mine != "" {
		q = q.Where(mine("f.owner"), f.Mine, f.Mine)
	}
	if f.Wrong {
		q = q.Where(isWrong)
	}
	if f.Due {
		q = q.Where("f.has_due")
	}
	q = q.Session(&gorm.Session{})
	if err := q.Count(&total).Error; err != nil {
		return nil, 0, "", err
	}
	feeds = []Feed{}
	if f.After != "" {
		q = q.Where("f.name > ?", f.After)
	}
	if err := q.Order("f.name").Limit(f.Most + 1).Find(&feeds).Error; err != nil {
		return nil, 0, "", err
	}
	if len(feeds) > f.Most {
		feeds = feeds[:f.Most]
		next = feeds[f.Most-1].Name
	}
	return feeds, total, next, nil
}

// FeedsOfTable returns the feeds that may end in a table: those that name it, and
// those whose table has captures in its name.
func (l *Ledger) FeedsOfTable(ctx context.Context, table string) ([]Feed, error) {
	feeds := []Feed{}
	err := l.with(ctx).Where("removed_at IS NULL AND (target = ? OR target LIKE '%{%' OR described <> version)",
		table).Order("name").Find(&feeds).Error
	return feeds, err
}

// RecentFeeds returns up to most feeds that files came for lately, the latest first.
func (l *Ledger) RecentFeeds(ctx context.Context, most int) ([]Feed, error) {
	const arrivals = 2000
	feeds := []Feed{}
	err := l.with(ctx).Raw(`SELECT f.* FROM feed f JOIN (
			SELECT feed, max(id) AS last FROM (SELECT feed, id FROM arrival ORDER BY id DESC LIMIT ?) a
			GROUP BY feed) r ON r.feed = f.name
		WHERE f.removed_at IS NULL ORDER BY r.last DESC LIMIT ?`, arrivals, most).Scan(&feeds).Error
	return feeds, err
}

// StoppedFeeds returns up to most feeds that do not work, by name.
func (l *Ledger) StoppedFeeds(ctx context.Context, most int) ([]Feed, error) {
	feeds := []Feed{}
	err := l.with(ctx).Where("removed_at IS NULL AND problem <> ''").Order("name").Limit(most).Find(&feeds).Error
	return feeds, err
}

// Totals are counts over all feeds.
type Totals struct {
	Feeds      int64
	Paused     int64
	Stopped    int64            // that do not work
	ListedOnly int64            // of whose landings no events come
	Wrong      int64            // of which something needs a person
	States     map[string]int64 `gorm:"-"` // arrivals by state
	RowsToday  int64            `gorm:"-"` // rows inserted or updated in the last 24 hours
}

// Totals counts over all feeds.
func (l *Ledger) Totals(ctx context.Context) (Totals, error) {
	var out Totals
	err := l.with(ctx).Raw(`SELECT count(*) AS feeds, count(*) FILTER (WHERE paused) AS paused,
		count(*) FILTER (WHERE problem <> '') AS stopped,
		count(*) FILTER (WHERE listed_only) AS listed_only, count(*) FILTER (WHERE ` + isWrong + `) AS wrong
		FROM feed f WHERE removed_at IS NULL`).Scan(&out).Error
	if err != nil {
		return out, err
	}
	var states []struct {
		State string
		N     int64
	}
	err = l.with(ctx).Raw(`SELECT state, sum(n) AS n FROM tally WHERE feed IN (SELECT name FROM feed
		WHERE removed_at IS NULL) GROUP BY state HAVING sum(n) <> 0`).Scan(&states).Error
	if err != nil {
		return out, err
	}
	out.States = map[string]int64{} // scanning would have taken it away
	for _, s := range states {
		out.States[s.State] = s.N
	}
	err = l.with(ctx).Raw(`SELECT coalesce(sum(written), 0) FROM volume
		WHERE hour > now() - interval '24 hours'`).Scan(&out.RowsToday).Error
	return out, err
}

// Standing is how much there is to see of a feed within a span.
type Standing struct {
	Feed     string
	Owner    string
	Supplier string
	Folder   string
	Rank     int // 1: something needs a person; 2: files came; 3: something was or is due; 4: nothing
}

// IsOf reports whether the owner of the feed is a person, by their name or an address of theirs: see mine.
func (s *Standing) IsOf(name string) bool {
	first, _, _ := strings.Cut(s.Owner, "@")
	return s.Owner == name || first == name
}

// Standings ranks feeds by how much there is to see of them between two times, the
// most first, then by name.
func (l *Ledger) Standings(ctx context.Context, from, to time.Time) ([]Standing, error) {
	var out []Standing
	err := l.with(ctx).Raw(`SELECT f.name AS feed, f.owner, f.supplier, f.folder, CASE
			WHEN `+isWrong+` THEN 1
			WHEN EXISTS (SELECT 1 FROM arrival a WHERE a.feed = f.name AND a.noticed_at >= ?) THEN 2
			WHEN EXISTS (SELECT 1 FROM slot s WHERE s.feed = f.name AND s.due_at >= ? AND s.due_at < ?) THEN 3
			ELSE 4 END AS rank
		FROM feed f WHERE removed_at IS NULL ORDER BY rank, name`, from, from, to).Scan(&out).Error
	return out, err
}

// FeedNames returns the names of the feeds.
func (l *Ledger) FeedNames(ctx context.Context) (names []string, err error) {
	err = l.with(ctx).Raw("SELECT name FROM feed WHERE removed_at IS NULL ORDER BY name").Scan(&names).Error
	return names, err
}
