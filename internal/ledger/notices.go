package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/news"
)

// Problem is what is told as one: all that is wrong of a kind for one cause.
type Problem struct {
	ID      int64 `gorm:"primaryKey"`
	Kind    news.Kind
	Cause   string
	BeganAt time.Time
	OverAt  *time.Time    // nil while it lasts
	Parts   []ProblemPart `gorm:"-"` // what belongs to it, the oldest first
}

// ProblemPart is one thing that is wrong.
type ProblemPart struct {
	Problem int64 `gorm:"primaryKey"`
	Feed    string
	Arrival int64 // 0 where it is of none
	Slot    int64 // 0 where it is of none
	What    string
	Since   time.Time
	OverAt  *time.Time
}

// TableName keeps GORM from making plurals.
func (Problem) TableName() string { return "problem" }

// TableName keeps GORM from making plurals.
func (ProblemPart) TableName() string { return "problem_part" }

// Wrong is one thing that is wrong, before it belongs to a problem.
type Wrong struct {
	Kind    news.Kind
	Feed    string
	Cause   string // what it has in common with others
	Arrival int64
	Slot    int64
	What    string
	Since   time.Time
}

// Told says how often somebody was told of a problem.
type Told struct {
	Problem int64
	Outlet  string
	Whom    string
	Times   int
	At      time.Time
}

// Occasion is why a notice is sent.
type Occasion string

// The occasions.
const (
	Begins    Occasion = "begins"    // of a problem
	Lasts     Occasion = "lasts"     // of a problem that was told before
	Healed    Occasion = "healed"    // of a problem that was told before
	Happened  Occasion = "happened"  // of news that are no problem
	Summary   Occasion = "summary"   // of a day
	Rehearsed Occasion = "rehearsed" // nothing happened: it is a rehearsal
)

// NoticeState is whether a notice was sent.
type NoticeState string

// The states of a notice.
const (
	NoticeWaiting NoticeState = "waiting"
	NoticeSent    NoticeState = "sent"
	NoticeFailed  NoticeState = "failed" // it is not tried any more
)

// Notice is a message to people or programs.
type Notice struct {
	ID       int64     `gorm:"primaryKey"`
	At       time.Time `gorm:"default:now()"`
	Outlet   string
	Whom     string // mail addresses, parted by commas; "" for whom the outlet names
	Kind     news.Kind
	Occasion Occasion
	Problem  *int64
	Feed     string // "" where it is of none, or of several
	Subject  string
	Message  json.RawMessage `gorm:"type:jsonb"`
	State    NoticeState     `gorm:"default:waiting"`
	Attempts int
	TryAfter time.Time `gorm:"default:now()"`
	SentAt   *time.Time
	Answer   string // what the other side said last
}

// TableName keeps GORM from making plurals.
func (Notice) TableName() string { return "notice" }

// TellerTime is how long a service tells without renewing that, by the database's clock.
const TellerTime = 10 * time.Second

// Tells makes a service the one that tells, or renews that. It returns up to which event and
// decision was told; ok is false while another service tells.
func (l *Ledger) Tells(ctx context.Context, service string) (event, decision int64, ok bool, err error) {
	var rows []struct{ Event, Decision int64 }
	err = l.with(ctx).Raw(`UPDATE teller SET holder = ?, until = now() + ? * interval '1 second'
		WHERE holder = ? OR until < now() RETURNING event, decision`, service, TellerTime.Seconds(), service).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return 0, 0, false, err
	}
	return rows[0].Event, rows[0].Decision, true, nil
}

// StopsTelling lets another service tell at once.
func (l *Ledger) StopsTelling(ctx context.Context, service string) error {
	return l.with(ctx).Exec("UPDATE teller SET holder = NULL, until = '-infinity' WHERE holder = ?", service).Error
}

// ErrNotTelling says that another service tells by now.
var ErrNotTelling = fmt.Errorf("another service tells by now")

// telling does something in a transaction, if the service still tells.
func (l *Ledger) telling(ctx context.Context, service string, do func(tx *gorm.DB) error) error {
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET LOCAL synchronous_commit = on").Error; err != nil {
			return err
		}
		var n int
		err := tx.Raw("SELECT 1 FROM teller WHERE holder = ? AND until > clock_timestamp() FOR UPDATE", service).Scan(&n).Error
		if err == nil && n == 0 {
			err = ErrNotTelling
		}
		if err != nil {
			return err
		}
		return do(tx)
	})
}

// partsOfKind bounds how much of one kind is found wrong of a feed.
const partsOfKind = 50

// loadsLooked is how many of the last loads of a feed are looked at for rejects and warnings: all
// of the last hour, and the last of all. So a feed of which some files have rejects is one problem.
const loadsLooked = 20

// WrongOf returns what is wrong of feeds by now.
func (l *Ledger) WrongOf(ctx context.Context, feeds []string) ([]Wrong, error) {
	var out []Wrong
	err := l.with(ctx).Raw(`WITH f AS (SELECT name, supplier, problem, problem_kind, problem_of FROM feed
			WHERE removed_at IS NULL AND name = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))))
		SELECT a.state AS kind, f.name AS feed, '' AS cause, a.id AS arrival, 0 AS slot,
			a.path || ': ' || coalesce(nullif(a.reason, ''), 'it waits for a person') AS what,
			coalesce(a.finished_at, a.noticed_at) AS since
		FROM f CROSS JOIN LATERAL (SELECT * FROM arrival a WHERE a.feed = f.name AND `+needsPerson+`
			ORDER BY a.id DESC LIMIT ?) a
		UNION ALL
		SELECT s.state, f.name, f.supplier, 0, s.id, 'due ' || to_char(s.due_at AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI') || ' UTC' ||
			CASE WHEN s.per_key <> '' THEN ', ' || s.per_key ELSE '' END, CASE s.state WHEN 'late' THEN s.late_at ELSE s.missing_at END
		FROM f CROSS JOIN LATERAL (SELECT * FROM slot s WHERE s.feed = f.name
			AND s.due_at > now() - interval '7 days' AND (s.state = 'missing' OR s.state = 'late' AND s.complete_at IS NULL)
			ORDER BY s.due_at DESC LIMIT ?) s
		UNION ALL
		SELECT coalesce(nullif(f.problem_kind, ''), 'stopped'), f.name, f.problem_of, 0, 0, f.problem, now()
		FROM f WHERE f.problem <> ''
		UNION ALL
		SELECT w.kind, f.name, '', a.id, 0, a.path || ': ' || w.what, a.finished_at
		FROM f CROSS JOIN LATERAL (SELECT *, row_number() OVER (ORDER BY finished_at DESC) AS n FROM (SELECT * FROM arrival a
			WHERE a.feed = f.name AND a.state = 'loaded' ORDER BY a.finished_at DESC LIMIT ?) a) a
		CROSS JOIN LATERAL (SELECT 'rejects' AS kind, (a.balance->>'rejected') || ' of ' || (a.balance->>'read') ||
				' rows are rejects' AS what WHERE (a.balance->>'rejected')::bigint * 100 > (a.balance->>'read')::bigint
			UNION ALL SELECT 'warning', string_agg(c.name || ': ' || c.saw, '; ' ORDER BY c.name) FROM check_result c
			WHERE c.arrival_id = a.id AND NOT c.held AND c.otherwise = 'warn' HAVING count(*) > 0) w
		WHERE a.finished_at > now() - CASE WHEN a.n = 1 THEN interval '7 days' ELSE interval '1 hour' END`,
		textList(feeds), partsOfKind, partsOfKind, loadsLooked).Scan(&out).Error
	for i := range out {
		w := &out[i]
		w.Cause = news.Cause(w.Kind, w.Feed, w.Cause, w.Cause)
	}
	return out, err
}

// WereLoading returns those of some events of arrivals before which the arrival was being loaded.
func (l *Ledger) WereLoading(ctx context.Context, events []int64) (map[int64]bool, error) {
	var ids []int64
	err := l.with(ctx).Raw(`SELECT e.id FROM event e CROSS JOIN LATERAL (SELECT state FROM event b WHERE b.id < e.id AND b.arrival = e.arrival
		AND b.kind = 'arrival' ORDER BY b.id DESC LIMIT 1) b WHERE `+isOneOf("e.id")+` AND b.state = 'loading'`, numbers(events)).Scan(&ids).Error
	out := map[int64]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// FeedsInTrouble returns the feeds with parts of problems that last.
func (l *Ledger) FeedsInTrouble(ctx context.Context) (feeds []string, err error) {
	err = l.with(ctx).Raw("SELECT DISTINCT feed FROM problem_part WHERE over_at IS NULL AND feed <> ''").Scan(&feeds).Error
	return feeds, err
}

// Progress is up to where was told.
type Progress struct{ Event, Decision int64 }

// RecordWrong records what is wrong of some feeds, or of none: what is not wrong any more is over.
// kinds narrows it to those; nil for all. With it, up to where was told is recorded, and notices
// of news that are no problems.
func (l *Ledger) RecordWrong(ctx context.Context, service string, feeds []string, kinds []news.Kind, wrong []Wrong,
	told Progress, notices []Notice) error {
	return l.telling(ctx, service, func(tx *gorm.DB) error {
		if err := reconcileParts(tx, feeds, kinds, wrong); err != nil {
			return err
		}
		if len(notices) > 0 {
			if err := tx.CreateInBatches(notices, 100).Error; err != nil {
				return err
			}
		}
		return tx.Exec("UPDATE teller SET event = greatest(event, ?), decision = greatest(decision, ?)", told.Event,
			told.Decision).Error
	})
}

// reconcileParts makes the parts of problems of some feeds those that are wrong.
func reconcileParts(tx *gorm.DB, feeds []string, kinds []news.Kind, wrong []Wrong) error {
	if len(feeds) == 0 {
		return nil
	}
	text, err := json.Marshal(append([]Wrong{}, wrong...))
	if err != nil {
		return err
	}
	list, changed := []string{}, false
	for _, k := range kinds {
		list = append(list, string(k))
	}
	if err := tx.Exec(`CREATE TEMPORARY TABLE IF NOT EXISTS wrong (kind text, feed text, cause text, arrival bigint, slot bigint,
		what text, since timestamptz) ON COMMIT DELETE ROWS`).Error; err != nil {
		return err
	}
	if err := tx.Exec(`INSERT INTO wrong SELECT DISTINCT ON (kind, cause, feed, arrival, slot) kind, feed, cause, arrival, slot,
		what, since FROM (SELECT "Kind" AS kind, "Feed" AS feed, "Cause" AS cause, "Arrival" AS arrival, "Slot" AS slot,
		"What" AS what, "Since" AS since FROM jsonb_to_recordset(?::jsonb) AS w("Kind" text, "Feed" text, "Cause" text,
		"Arrival" bigint, "Slot" bigint, "What" text, "Since" timestamptz)) w`, string(text)).Error; err != nil {
		return err
	}
	for _, statement := range []struct {
		text string
		args []any
	}{
		{`INSERT INTO problem (kind, cause, began_at) SELECT kind, cause, least(min(since), now()) FROM wrong GROUP BY kind, cause
			ON CONFLICT (kind, cause) WHERE over_at IS NULL DO NOTHING`, nil},
		{`INSERT INTO problem_part AS t (problem, feed, arrival, slot, what, since)
			SELECT p.id, w.feed, w.arrival, w.slot, w.what, w.since FROM wrong w
			JOIN problem p ON p.kind = w.kind AND p.cause = w.cause AND p.over_at IS NULL
			ON CONFLICT (problem, feed, arrival, slot) DO UPDATE SET what = excluded.what, over_at = NULL,
				since = CASE WHEN t.over_at IS NULL THEN t.since ELSE excluded.since END
			WHERE t.over_at IS NOT NULL OR t.what <> excluded.what`, nil},
		{`UPDATE problem_part t SET over_at = now() FROM problem p WHERE t.over_at IS NULL AND p.id = t.problem
			AND t.feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))
			AND (jsonb_array_length(?::jsonb) = 0 OR p.kind = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))))
			AND NOT EXISTS (SELECT 1 FROM wrong w WHERE w.kind = p.kind AND w.cause = p.cause AND w.feed = t.feed
			AND w.arrival = t.arrival AND w.slot = t.slot)`, []any{textList(feeds), textList(list), textList(list)}},
		{`UPDATE problem p SET over_at = now() WHERE p.over_at IS NULL AND NOT EXISTS (SELECT 1 FROM problem_part t
			WHERE t.problem = p.id AND t.over_at IS NULL)`, nil},
	} {
		done := tx.Exec(statement.text, statement.args...)
		if done.Error != nil {
			return done.Error
		}
		changed = changed || done.RowsAffected > 0
	}
	if !changed {
		return nil
	}
	return tell(tx, []Event{{Kind: "problem"}})
}

// OpenProblems returns the problems that last, and those of which somebody was told and that
// ended since, with up to so many parts each, who was told, and the database's time.
func (l *Ledger) OpenProblems(ctx context.Context, parts int) (list []Problem, told []Told, now time.Time, err error) {
	if err = l.with(ctx).Raw("SELECT now()").Scan(&now).Error; err != nil {
		return nil, nil, now, err
	}
	err = l.with(ctx).Raw(`SELECT * FROM problem p WHERE over_at IS NULL
		UNION ALL SELECT * FROM problem p WHERE over_at IS NOT NULL AND EXISTS (SELECT 1 FROM told t WHERE t.problem = p.id)
		ORDER BY id`).Scan(&list).Error
	if err != nil || len(list) == 0 {
		return nil, nil, now, err
	}
	told, err = l.withParts(ctx, list, parts)
	return list, told, now, err
}

// withParts fills in the parts of problems, and returns who was told.
func (l *Ledger) withParts(ctx context.Context, list []Problem, most int) ([]Told, error) {
	ids := make([]int64, len(list))
	for i, p := range list {
		ids[i] = p.ID
	}
	var parts []ProblemPart
	err := l.with(ctx).Raw(`SELECT t.* FROM unnest(?::bigint[]) p CROSS JOIN LATERAL (SELECT * FROM problem_part t
		WHERE t.problem = p ORDER BY (over_at IS NOT NULL), since, feed, arrival, slot LIMIT ?) t`, numbers(ids), most).Scan(&parts).Error
	if err != nil {
		return nil, err
	}
	at := map[int64]int{}
	for i, p := range list {
		at[p.ID] = i
	}
	for _, p := range parts {
		of := &list[at[p.Problem]]
		of.Parts = append(of.Parts, p)
	}
	var told []Told
	err = l.with(ctx).Raw("SELECT * FROM told WHERE problem = ANY(?::bigint[])", numbers(ids)).Scan(&told).Error
	return told, err
}

// TellOf writes notices of problems, and who is told of them by that. What ended and was told is
// forgotten.
func (l *Ledger) TellOf(ctx context.Context, service string, notices []Notice, told []Told, ended []int64) error {
	return l.telling(ctx, service, func(tx *gorm.DB) error {
		if len(notices) > 0 {
			if err := tx.CreateInBatches(notices, 100).Error; err != nil {
				return err
			}
		}
		for _, t := range told {
			if err := tx.Exec(`INSERT INTO told (problem, outlet, whom, times, at) VALUES (?, ?, ?, ?, now())
				ON CONFLICT (problem, outlet, whom) DO UPDATE SET times = excluded.times, at = now()`, t.Problem, t.Outlet,
				t.Whom, t.Times).Error; err != nil {
				return err
			}
		}
		if len(ended) > 0 {
			if err := tx.Exec("DELETE FROM told WHERE problem = ANY(?::bigint[])", numbers(ended)).Error; err != nil {
				return err
			}
		}
		return tell(tx, []Event{{Kind: "notice"}})
	})
}

// ToSend returns notices of an outlet that are to be sent now, the oldest first: of each feed the
// oldest that waits.
func (l *Ledger) ToSend(ctx context.Context, outlet string, most int) ([]Notice, error) {
	var out []Notice
	err := l.with(ctx).Raw(`SELECT * FROM notice n WHERE n.outlet = ? AND n.state = 'waiting' AND n.try_after <= now()
		AND NOT EXISTS (SELECT 1 FROM notice o WHERE o.outlet = n.outlet AND o.state = 'waiting' AND o.feed = n.feed
		AND o.id < n.id) ORDER BY n.id LIMIT ?`, outlet, most).Scan(&out).Error
	return out, err
}

// WaitingOutlets returns the outlets with notices that wait, and since when the oldest of those
// that were tried waits; nil where none was.
func (l *Ledger) WaitingOutlets(ctx context.Context) (map[string]*time.Time, error) {
	var rows []struct {
		Outlet string
		At     *time.Time
	}
	err := l.with(ctx).Raw(`SELECT outlet, min(at) FILTER (WHERE attempts > 0) AS at FROM notice WHERE state = 'waiting'
		GROUP BY outlet`).Scan(&rows).Error
	out := map[string]*time.Time{}
	for _, r := range rows {
		out[r.Outlet] = r.At
	}
	return out, err
}

// Attempted records an attempt to send a notice: it was sent, is tried again, or is given up.
func (l *Ledger) Attempted(ctx context.Context, service string, id int64, state NoticeState, again time.Duration,
	answer string) error {
	return l.telling(ctx, service, func(tx *gorm.DB) error {
		err := tx.Exec(`UPDATE notice SET state = ?, attempts = attempts + 1, answer = ?,
			try_after = now() + ? * interval '1 second', sent_at = CASE WHEN ? = 'sent' THEN now() END WHERE id = ?`, state,
			answer, again.Seconds(), state, id).Error
		if err != nil {
			return err
		}
		return tell(tx, []Event{{Kind: "notice"}})
	})
}

// NoticeFilter says which notices are wanted; empty parts want all.
type NoticeFilter struct {
	Outlet string
	Feed   string
	State  NoticeState
	Before int64 // only those with smaller numbers; 0 for all
	Most   int
}

// Notices returns notices, the newest first.
func (l *Ledger) Notices(ctx context.Context, f NoticeFilter) ([]Notice, error) {
	out := []Notice{}
	q := l.with(ctx).Model(&Notice{})
	if f.Outlet != "" {
		q = q.Where("outlet = ?", f.Outlet)
	}
	if f.Feed != "" {
		q = q.Where("feed = ?", f.Feed)
	}
	if f.State != "" {
		q = q.Where("state = ?", f.State)
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	err := q.Order("id DESC").Limit(f.Most).Find(&out).Error
	return out, err
}

// NoticeByNumber returns one notice, or ErrNotFound.
func (l *Ledger) NoticeByNumber(ctx context.Context, id int64) (Notice, error) {
	var n Notice
	err := l.with(ctx).First(&n, id).Error
	return n, found(err, "notice %d", id)
}

// SendAgain has notices sent again, as new ones.
func (l *Ledger) SendAgain(ctx context.Context, id int64) (Notice, error) {
	n, err := l.NoticeByNumber(ctx, id)
	if err != nil {
		return n, err
	}
	again := Notice{Outlet: n.Outlet, Whom: n.Whom, Kind: n.Kind, Occasion: n.Occasion, Problem: n.Problem, Feed: n.Feed,
		Subject: n.Subject, Message: n.Message}
	return again, l.WriteNotices(ctx, []*Notice{&again})
}

// WriteNotices writes notices that belong to no news.
func (l *Ledger) WriteNotices(ctx context.Context, notices []*Notice) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		return []Event{{Kind: "notice"}}, tx.Create(notices).Error
	})
}

// ProblemFilter says which problems are wanted; empty parts want all that last.
type ProblemFilter struct {
	Over   bool   // with those that are over
	Mine   string // only those of feeds of this person, as their owner says
	Before int64  // only those with smaller numbers; 0 for all
	Most   int
}

// Problems returns problems, the newest first, with the first parts of each.
func (l *Ledger) Problems(ctx context.Context, f ProblemFilter) ([]Problem, error) {
	list := []Problem{}
	q := l.with(ctx).Model(&Problem{})
	if !f.Over {
		q = q.Where("over_at IS NULL")
	}
	if f.Mine != "" {
		q = q.Where(`EXISTS (SELECT 1 FROM problem_part t JOIN feed f ON f.name = t.feed WHERE t.problem = problem.id AND `+
			mine("f.owner")+`)`, f.Mine, f.Mine)
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	if err := q.Order("id DESC").Limit(f.Most).Find(&list).Error; err != nil || len(list) == 0 {
		return list, err
	}
	const parts = 20
	_, err := l.withParts(ctx, list, parts)
	return list, err
}

// SummaryDue claims the summary of a day of an outlet, and writes it. ok is false where it was
// written before.
func (l *Ledger) SummaryDue(ctx context.Context, service, outlet string, day time.Time, write func() ([]Notice, error)) error {
	return l.telling(ctx, service, func(tx *gorm.DB) error {
		done := tx.Exec(`INSERT INTO summary AS s (outlet, day) VALUES (?, ?::date)
			ON CONFLICT (outlet) DO UPDATE SET day = excluded.day WHERE s.day < excluded.day`, outlet, day.Format(time.DateOnly))
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		notices, err := write()
		if err != nil || len(notices) == 0 {
			return err
		}
		return tx.CreateInBatches(notices, 100).Error
	})
}

// DecisionsSince returns what people decided since a time, the newest first.
func (l *Ledger) DecisionsSince(ctx context.Context, since time.Time, most int) ([]Decision, error) {
	out := []Decision{}
	err := l.with(ctx).Where("at > ?", since).Order("at DESC, id DESC").Limit(most).Find(&out).Error
	return out, err
}

// DecisionsAfter returns what people decided after a decision, in order.
func (l *Ledger) DecisionsAfter(ctx context.Context, id int64, most int) ([]Decision, error) {
	var out []Decision
	err := l.with(ctx).Where("id > ?", id).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// Begun returns of how many problems each outlet and person were told in a span up to now that
// had begun.
func (l *Ledger) Begun(ctx context.Context, since time.Duration) (map[[2]string]int, error) {
	var rows []struct {
		Outlet, Whom string
		N            int
	}
	err := l.with(ctx).Raw(`SELECT outlet, whom, count(*) AS n FROM (SELECT * FROM notice ORDER BY id DESC LIMIT 2000) n
		WHERE at > now() - ? * interval '1 second' AND occasion = 'begins' GROUP BY outlet, whom`, since.Seconds()).Scan(&rows).Error
	out := map[[2]string]int{}
	for _, r := range rows {
		out[[2]string{r.Outlet, r.Whom}] = r.N
	}
	return out, err
}

// DaySummary is what came and what was due since a time.
type DaySummary struct {
	Rows  int64            `json:"rows"`  // inserted or updated
	Feeds []FeedRows       `json:"feeds"` // with rows, the most first
	Slots map[string]int64 `json:"slots"` // by state
}

// FeedRows is how many rows a feed brought.
type FeedRows struct {
	Feed string `json:"feed"`
	Rows int64  `json:"rows"`
}

// DaySummary returns what came and what was due since a time.
func (l *Ledger) DaySummary(ctx context.Context, since time.Time) (out DaySummary, err error) {
	err = l.with(ctx).Raw(`SELECT feed, sum(written) AS rows FROM volume WHERE hour > ? GROUP BY feed HAVING sum(written) > 0
		ORDER BY 2 DESC, 1`, since).Scan(&out.Feeds).Error
	if err != nil {
		return out, err
	}
	for _, f := range out.Feeds {
		out.Rows += f.Rows
	}
	var slots []struct {
		State string
		N     int64
	}
	err = l.with(ctx).Raw(`SELECT state, count(*) AS n FROM slot WHERE due_at > ? AND due_at <= now() AND state <> 'surplus'
		AND feed IN (SELECT name FROM feed WHERE removed_at IS NULL) GROUP BY state`, since).Scan(&slots).Error
	out.Slots = map[string]int64{}
	for _, s := range slots {
		out.Slots[s.State] = s.N
	}
	return out, err
}

// OutletCount is how an outlet does.
type OutletCount struct {
	Outlet  string
	Waiting int64
	Failed  int64 // given up within the last seven days
	SentAt  *time.Time
	Problem string // what the other side said to the oldest notice that waits and was tried
}

// OutletCounts returns how the outlets do that have notices.
func (l *Ledger) OutletCounts(ctx context.Context) (map[string]OutletCount, error) {
	var rows []OutletCount
	err := l.with(ctx).Raw(`SELECT outlet, count(*) FILTER (WHERE state = 'waiting') AS waiting,
			count(*) FILTER (WHERE state = 'failed' AND at > now() - interval '7 days') AS failed, max(sent_at) AS sent_at,
			coalesce((array_agg(answer ORDER BY id) FILTER (WHERE state = 'waiting' AND attempts > 0))[1], '') AS problem
		FROM notice GROUP BY outlet`).Scan(&rows).Error
	out := map[string]OutletCount{}
	for _, r := range rows {
		out[r.Outlet] = r
	}
	return out, err
}
