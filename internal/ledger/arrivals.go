package ledger

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// File names a file of a feed's landing.
type File struct {
	Feed string `json:"feed"`
	Path string `json:"path"`
}

// Look is a path of a landing as it was last recorded.
type Look struct {
	File     `gorm:"embedded"`
	ID       int64
	Size     int64
	Modified time.Time
	Changed  *time.Time // nil where it is not known
	Inode    int64
	State    State
	IsList   bool
}

// Known returns the newest arrival of each of the files that the ledger has.
// Membership here, and nothing else, decides what is new.
func (l *Ledger) Known(ctx context.Context, files []File) ([]Look, error) {
	text, err := json.Marshal(files)
	if err != nil {
		return nil, err
	}
	var looks []Look
	err = l.with(ctx).Raw(`SELECT k.* FROM jsonb_to_recordset(?::jsonb) AS p(feed text, path text) CROSS JOIN LATERAL (
		SELECT id, feed, path, size, modified, changed, inode, state, is_list FROM arrival a
		WHERE `+ofPath("a")+` = p.feed || ' ' || p.path ORDER BY a.id DESC LIMIT 1) k`, string(text)).Scan(&looks).Error
	return looks, err
}

// newestOf returns a FROM item, k, with the newest arrival of each path, as far as
// there is one. It takes [textList] of the paths and the feed.
func newestOf(columns string) string {
	return "jsonb_array_elements_text(?::jsonb) p CROSS JOIN LATERAL (SELECT " + columns + " FROM arrival a WHERE " +
		ofPath("a") + " = ? || ' ' || p ORDER BY a.id DESC LIMIT 1) k"
}

// ofPath is what arrivals (a) are looked up by that are versions of one file:
// feed and path, as the index of paths has them.
func ofPath(a string) string { return "(" + a + ".feed || ' ' || " + a + ".path)" }

// stateOf is the state of arrivals (a) that are found by their numbers. The
// planner must not think of finding them by their state: by its statistics,
// hardly any are on their way, and it would go through all that are for each.
func stateOf(a string) string { return "(" + a + ".state || '')" }

// newest reports whether no other arrival of its path came after an arrival (a).
func newest(a string) string {
	return "NOT EXISTS (SELECT 1 FROM arrival later WHERE " + ofPath("later") + " = " + ofPath(a) +
		" AND later.id > " + a + ".id)"
}

// textList writes texts as one parameter.
func textList(texts []string) string {
	if texts == nil {
		return "[]"
	}
	out, _ := json.Marshal(texts) // texts only: it cannot fail
	return string(out)
}

// Notice records arrivals that were seen for the first time and fills in their
// numbers. Those that another service has noticed meanwhile are left out and keep
// the number 0.
func (l *Ledger) Notice(ctx context.Context, arrivals []*Arrival) error {
	if len(arrivals) == 0 {
		return nil
	}
	files := make([]File, len(arrivals))
	feeds := map[string]bool{}
	for i, a := range arrivals {
		files[i], feeds[a.Feed] = File{a.Feed, a.Path}, true
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		// Always in the same order, so that two services never wait for each other.
		err := tx.Exec(`SELECT pg_advisory_xact_lock(h, 1) FROM (SELECT DISTINCT hashtext(f) AS h
			FROM jsonb_array_elements_text(?::jsonb) f ORDER BY 1) k`,
			textList(slices.Sorted(maps.Keys(feeds)))).Error
		if err != nil {
			return nil, err
		}
		looks, err := (&Ledger{db: tx}).Known(ctx, files)
		if err != nil {
			return nil, err
		}
		known := make(map[File]Look, len(looks))
		for _, k := range looks {
			known[k.File] = k
		}
		var fresh []*Arrival
		for i, a := range arrivals {
			k, ok := known[files[i]]
			if !ok || k.State == Gone || k.Size != a.Size || k.Inode != a.Inode || !k.Modified.Equal(a.Modified) ||
				k.Changed != nil && a.Changed != nil && !k.Changed.Equal(*a.Changed) {
				fresh = append(fresh, a)
			}
		}
		if len(fresh) == 0 {
			return nil, nil
		}
		if err := tx.CreateInBatches(fresh, 500).Error; err != nil {
			return nil, err
		}
		return arrivalEvents(fresh...), nil
	})
}

func arrivalEvents(arrivals ...*Arrival) []Event {
	events := make([]Event, len(arrivals))
	for i, a := range arrivals {
		events[i] = arrivalEvent(a)
	}
	return events
}

func arrivalEvent(a *Arrival) Event {
	e := Event{Kind: "arrival", Feed: a.Feed, Arrival: a.ID, State: string(a.State)}
	if a.RunID != nil {
		e.Run = *a.RunID
	}
	return e
}

// Awaited is a file that is to be loaded, as it was recorded.
type Awaited struct {
	File       `gorm:"embedded"`
	ID         int64
	Size       int64
	Modified   time.Time
	Changed    *time.Time
	Inode      int64
	AwayTo     string
	Generation int
}

// After says after which arrival of a feed a page begins.
type After struct {
	Feed  string `json:"feed"`
	After int64  `json:"after"`
}

// eachAfter is a FROM item, f, with feeds and the arrivals after which to begin; it
// takes the JSON of a list of [After].
const eachAfter = `jsonb_to_recordset(?::jsonb) AS f(feed text, after bigint)`

// Pending returns arrivals of feeds that were noticed and not begun to be loaded,
// up to most of each feed, the oldest of each feed first.
func (l *Ledger) Pending(ctx context.Context, from []After, most int) ([]Awaited, error) {
	text, err := json.Marshal(from)
	if err != nil {
		return nil, err
	}
	var out []Awaited
	err = l.with(ctx).Raw(`SELECT a.* FROM `+eachAfter+` CROSS JOIN LATERAL (
		SELECT id, feed, path, size, modified, changed, inode, away_to, generation FROM arrival
		WHERE feed = f.feed AND state IN ('noticed', 'settling', 'ready') AND id > f.after ORDER BY id LIMIT ?) a
		ORDER BY a.feed, a.id`, string(text), most).Scan(&out).Error
	return out, err
}

// InStates returns the arrivals of a feed in the states with numbers above
// after, oldest first.
func (l *Ledger) InStates(ctx context.Context, feed string, after int64, most int, states ...State) ([]Arrival, error) {
	var out []Arrival
	err := l.with(ctx).Where("feed = ? AND state IN ? AND id > ?", feed, states,
		after).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// Filter narrows a list of arrivals. Zero values do not narrow.
type Filter struct {
	Feed    string
	State   State
	Text    string // part of the path; * and ? stand for any text and one character
	Run     int64
	Slot    int64
	Backlog bool      // only what lay there before the feed
	Needs   bool      // only what needs a person
	Since   time.Time // noticed since
	Until   time.Time // noticed before
	Before  int64     // number; the page goes on below it
	Most    int       // 1 to 1000
	// Ascending asks for the oldest first; the page goes on above After, and Before says nothing.
	Ascending bool
	After     int64
}

// searched is how many arrivals one page looks through for a text, so that a
// text that is nowhere does not take for ever in a ledger of millions.
const searched = 100_000

// Arrivals returns a page of arrivals, the newest first unless the oldest are asked for: by number, or by
// when they were noticed where they are narrowed to a time. next is where the page
// after it begins, 0 when there is none. A page that looks for a text may be
// shorter than asked, even empty, and have a next one all the same.
func (l *Ledger) Arrivals(ctx context.Context, f Filter) (list []Arrival, next int64, err error) {
	q := l.with(ctx)
	if f.Feed != "" {
		q = q.Where("feed = ?", f.Feed)
	}
	if f.State != "" {
		q = q.Where("state = ?", f.State)
	}
	if f.Run > 0 {
		q = q.Where("run_id = ?", f.Run)
	}
	if f.Slot > 0 {
		q = q.Where("due_slot = ?", f.Slot)
	}
	if f.Backlog {
		q = q.Where("backlog")
	}
	if f.Needs {
		q = q.Where("id IN (SELECT a.id FROM arrival a WHERE " + needsPerson + ")")
	}
	if !f.Since.IsZero() {
		q = q.Where("noticed_at >= ?", f.Since)
	}
	if !f.Until.IsZero() {
		q = q.Where("noticed_at < ?", f.Until)
	}
	if f.Text != "" {
		var newest int64
		if err := l.with(ctx).Model(&Arrival{}).Select("coalesce(max(id), 0)").Scan(&newest).Error; err != nil {
			return nil, 0, err
		}
		if f.Before == 0 {
			f.Before = newest + 1
		}
		if high := f.After + searched; f.Ascending && high < newest {
			q, next = q.Where("id <= ?", high), high
		}
		if low := f.Before - searched; !f.Ascending && low > 0 {
			q, next = q.Where("id >= ?", low), low
		}
		q = q.Where("path LIKE ?", like(f.Text))
	}
	if f.Text == "" && !(f.Since.IsZero() && f.Until.IsZero()) {
		q = f.byTime(q)
	} else {
		q = f.byNumber(q)
	}
	list = []Arrival{}
	err = q.Limit(f.Most + 1).Find(&list).Error
	if len(list) > f.Most {
		list, next = list[:f.Most], list[f.Most-1].ID
	}
	return list, next, err
}

// byNumber orders arrivals by their number, and begins where the page does.
func (f *Filter) byNumber(q *gorm.DB) *gorm.DB {
	if f.Ascending {
		return q.Where("id > ?", f.After).Order("id")
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	return q.Order("id DESC")
}

// byTime orders arrivals by when they were noticed: by their number, all that are newer than
// a time would be gone through for those before it. An arrival that a page goes on from may be gone.
func (f *Filter) byTime(q *gorm.DB) *gorm.DB {
	const at = "coalesce((SELECT noticed_at FROM arrival WHERE id <= ? ORDER BY id DESC LIMIT 1), '-infinity'), ?)"
	if f.Ascending {
		if f.After > 0 {
			q = q.Where("(noticed_at, id) > ("+at, f.After, f.After)
		}
		return q.Order("noticed_at, id")
	}
	if f.Before > 0 {
		q = q.Where("(noticed_at, id) < ("+at, f.Before, f.Before)
	}
	return q.Order("noticed_at DESC, id DESC")
}

// like makes an SQL pattern of a text of which * and ? are any text and one
// character, and which may stand anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`, "*", "%", "?", "_").Replace(text) + "%"
}

// Arrival returns one arrival, or ErrNotFound.
func (l *Ledger) Arrival(ctx context.Context, id int64) (Arrival, error) {
	var a Arrival
	err := l.with(ctx).First(&a, id).Error
	return a, found(err, "arrival %d", id)
}

// NotableReject is a reject with the name of the file it came from.
type NotableReject struct {
	Reject
	Path string `json:"path"`
}

// RejectFilter selects rejects. Zero values select all.
type RejectFilter struct {
	Feed    string
	Arrival int64
	Rule    string
	Column  string
	Open    bool // those that are not mended
	// AfterArrival and After are the arrival and the number of the last of the
	// page before.
	AfterArrival int64
	After        int
	Most         int
}

// Rejects returns a page of an arrival's rejects in the order of the file, or of
// a feed's, the newest arrival first.
func (l *Ledger) Rejects(ctx context.Context, f RejectFilter) ([]NotableReject, error) {
	q := l.with(ctx).Table("reject r").Joins("JOIN arrival a ON a.id = r.arrival_id").
		Select("r.*, a.path").Order("r.arrival_id DESC, r.number").Limit(f.Most)
	if f.Feed != "" {
		q = q.Where("a.feed = ?", f.Feed)
	}
	if f.Arrival > 0 {
		q = q.Where("r.arrival_id = ?", f.Arrival)
	}
	if f.Rule != "" {
		q = q.Where("r.rule = ? AND r.column_name = ?", f.Rule, f.Column)
	}
	if f.Open {
		q = q.Where("r.mended_in IS NULL")
	}
	if f.AfterArrival > 0 {
		q = q.Where("(r.arrival_id < ? OR (r.arrival_id = ? AND r.number > ?))", f.AfterArrival, f.AfterArrival,
			f.After)
	}
	out := []NotableReject{}
	err := q.Scan(&out).Error
	return out, err
}
