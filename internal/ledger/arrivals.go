package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/balance"
)

// Look is a path of a landing as it was last recorded.
type Look struct {
	ID       int64
	Path     string
	Size     int64
	Modified time.Time
	Inode    int64
	State    State
}

// Known gives the newest arrival of each of the paths that the ledger has.
// Membership here, and nothing else, decides what is new.
func (l *Ledger) Known(ctx context.Context, feed string, paths []string) (map[string]Look, error) {
	var looks []Look
	err := l.with(ctx).Raw(`SELECT DISTINCT ON (path) id, path, size, modified, inode, state
		FROM arrival WHERE feed = ? AND path IN ? ORDER BY path, id DESC`, feed, paths).Scan(&looks).Error
	known := make(map[string]Look, len(looks))
	for _, look := range looks {
		known[look.Path] = look
	}
	return known, err
}

// Notice records arrivals of a feed that were seen for the first time and fills
// in their numbers. Those that another service has noticed meanwhile are left
// out and keep the number 0.
func (l *Ledger) Notice(ctx context.Context, arrivals []*Arrival) error {
	if len(arrivals) == 0 {
		return nil
	}
	feed := arrivals[0].Feed
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(hashtext(?), 1)", feed).Error; err != nil {
			return nil, err
		}
		paths := make([]string, len(arrivals))
		for i, a := range arrivals {
			paths[i] = a.Path
		}
		known, err := (&Ledger{db: tx}).Known(ctx, feed, paths)
		if err != nil {
			return nil, err
		}
		var fresh []*Arrival
		for _, a := range arrivals {
			k, ok := known[a.Path]
			if !ok || k.State == Gone || k.Size != a.Size || k.Inode != a.Inode || !k.Modified.Equal(a.Modified) {
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

// ErrMoved says that an arrival is no longer in the state it was taken for.
var ErrMoved = errors.New("the arrival has moved on")

// Move brings an arrival from one of the states to another and sets more
// columns. It gives ErrMoved when the arrival is in none of them.
func (l *Ledger) Move(ctx context.Context, id int64, from []State, to State, more map[string]any) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) { return move(tx, id, from, to, more) })
}

func move(tx *gorm.DB, id int64, from []State, to State, more map[string]any) ([]Event, error) {
	values := map[string]any{"state": to}
	for k, v := range more {
		if b, ok := v.(balance.Balance); ok {
			text, err := json.Marshal(b)
			if err != nil {
				return nil, err
			}
			v = string(text)
		}
		values[k] = v
	}
	done := tx.Model(&Arrival{}).Where("id = ? AND state IN ?", id, from).Updates(values)
	if done.Error != nil {
		return nil, done.Error
	}
	if done.RowsAffected == 0 {
		return nil, ErrMoved
	}
	var a Arrival
	if err := tx.First(&a, id).Error; err != nil {
		return nil, err
	}
	return arrivalEvents(&a), nil
}

// NextWaiting gives the arrival that a feed is to load next, in the order of
// slot, modified time and name. One that is to be tried again stands in its
// place and blocks those behind it: then it is given with TryAfter in the
// future. It gives nil when nothing waits.
func (l *Ledger) NextWaiting(ctx context.Context, feed string) (*Arrival, error) {
	var a []Arrival
	err := l.with(ctx).Where("feed = ? AND state IN ('ready', 'failed') AND (state = 'ready' OR try_after IS NOT NULL)", feed).
		Order("slot, modified, path").Limit(1).Find(&a).Error
	if err != nil || len(a) == 0 {
		return nil, err
	}
	return &a[0], nil
}

// Begin records an attempt to load, before the file is opened: a file that
// kills the process is counted all the same.
func (l *Ledger) Begin(ctx context.Context, a *Arrival, run int64, version int) error {
	err := l.Move(ctx, a.ID, []State{Ready, Failed}, Loading, map[string]any{
		"attempts": gorm.Expr("attempts + 1"), "run_id": run, "version": version, "try_after": nil,
		"opened_at": nil, "staged_at": nil, "finished_at": nil, "reason": "",
	})
	if err != nil {
		return err
	}
	return l.with(ctx).First(a, a.ID).Error
}

// Opened records that reading begins. An arrival that is left behind opened
// but not staged may be what ended the service.
func (l *Ledger) Opened(ctx context.Context, id int64) error {
	return l.with(ctx).Model(&Arrival{}).Where("id = ?", id).Update("opened_at", gorm.Expr("now()")).Error
}

// MaxRejects is how many rejects of an arrival are kept. The balance counts all.
const MaxRejects = 1000

// Staged records what reading the file told: its digest, which generation it
// is, and its rejects, in place of those of an earlier attempt.
func (l *Ledger) Staged(ctx context.Context, id int64, sha256 string, generation int, rejects []Reject) error {
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Model(&Arrival{}).Where("id = ?", id).Updates(map[string]any{
			"sha256": sha256, "generation": generation, "staged_at": gorm.Expr("now()"),
		})
		if done.Error != nil {
			return done.Error
		}
		if err := tx.Where("arrival_id = ?", id).Delete(&Reject{}).Error; err != nil {
			return err
		}
		for i := range rejects {
			rejects[i].ArrivalID, rejects[i].Number = id, i+1
		}
		if len(rejects) == 0 {
			return nil
		}
		return tx.CreateInBatches(rejects, 500).Error
	})
}

// Finish ends the work on an arrival that is loading.
func (l *Ledger) Finish(ctx context.Context, id int64, to State, reason string, b balance.Balance, copyOf *int64) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		events, err := move(tx, id, []State{Loading}, to, map[string]any{
			"reason": reason, "balance": b, "copy_of": copyOf, "finished_at": gorm.Expr("now()"),
		})
		if err == nil && to == Loaded {
			load := events[0]
			load.Kind = "load"
			events = append(events, load)
		}
		return events, err
	})
}

// LastLoadedOf gives the arrival that was loaded last under the path, or with
// the captures when byCaptures says so; nil when there is none.
func (l *Ledger) LastLoadedOf(ctx context.Context, a *Arrival, byCaptures bool) (*Arrival, error) {
	q := l.with(ctx).Where("feed = ? AND state = 'loaded' AND id <> ?", a.Feed, a.ID)
	if byCaptures {
		captures, err := json.Marshal(a.Captures)
		if err != nil {
			return nil, err
		}
		q = q.Where("slot IS NOT DISTINCT FROM ? AND captures = ?::jsonb", a.Slot, string(captures))
	} else {
		q = q.Where("path = ?", a.Path)
	}
	var last []Arrival
	err := q.Order("finished_at DESC, id DESC").Limit(1).Find(&last).Error
	if err != nil || len(last) == 0 {
		return nil, err
	}
	return &last[0], nil
}

// LoadedWithSize gives arrivals of the feed that are loaded, have the size and,
// if sha256 is not empty, the digest; the newest first.
func (l *Ledger) LoadedWithSize(ctx context.Context, a *Arrival, sha256 string) ([]Arrival, error) {
	q := l.with(ctx).Where("feed = ? AND size = ? AND state = 'loaded' AND id <> ?", a.Feed, a.Size, a.ID)
	if sha256 != "" {
		q = q.Where("sha256 = ?", sha256)
	}
	var out []Arrival
	err := q.Order("finished_at DESC, id DESC").Limit(100).Find(&out).Error
	return out, err
}

// Generation gives which load of these bytes under this path the next one is.
func (l *Ledger) Generation(ctx context.Context, a *Arrival, sha256 string) (int, error) {
	var last int
	err := l.with(ctx).Model(&Arrival{}).Select("coalesce(max(generation), 0)").
		Where("feed = ? AND path = ? AND sha256 = ? AND state IN ('loaded', 'recalled') AND id <> ?", a.Feed, a.Path, sha256, a.ID).Scan(&last).Error
	return last + 1, err
}

// InStates gives the arrivals of a feed in the states, oldest first.
func (l *Ledger) InStates(ctx context.Context, feed string, states ...State) ([]Arrival, error) {
	var out []Arrival
	err := l.with(ctx).Where("feed = ? AND state IN ?", feed, states).Order("id").Find(&out).Error
	return out, err
}

// Filter narrows a list of arrivals. Zero values do not narrow.
type Filter struct {
	Feed   string
	State  State
	Text   string // part of the path
	Run    int64
	Since  time.Time // noticed or finished since
	Before int64     // number; the page goes on below it
	Most   int       // 1 to 1000
}

// Arrivals gives a page of arrivals, the newest first.
func (l *Ledger) Arrivals(ctx context.Context, f Filter) ([]Arrival, error) {
	q := l.with(ctx)
	if f.Feed != "" {
		q = q.Where("feed = ?", f.Feed)
	}
	if f.State != "" {
		q = q.Where("state = ?", f.State)
	}
	if f.Text != "" {
		q = q.Where("strpos(path, ?) > 0", f.Text)
	}
	if f.Run > 0 {
		q = q.Where("run_id = ?", f.Run)
	}
	if !f.Since.IsZero() {
		q = q.Where("noticed_at >= ?", f.Since)
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	out := []Arrival{}
	err := q.Order("id DESC").Limit(f.Most).Find(&out).Error
	return out, err
}

// Arrival gives one arrival, or ErrNotFound.
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

// Rejects gives a page of an arrival's rejects in the order of the file, or of
// a feed's, the newest arrival first. after and afterArrival are the last ones
// of the page before.
func (l *Ledger) Rejects(ctx context.Context, feed string, arrival, afterArrival int64, after, most int) ([]NotableReject, error) {
	q := l.with(ctx).Table("reject r").Joins("JOIN arrival a ON a.id = r.arrival_id").
		Select("r.*, a.path").Order("r.arrival_id DESC, r.number").Limit(most)
	if feed != "" {
		q = q.Where("a.feed = ?", feed)
	}
	if arrival > 0 {
		q = q.Where("r.arrival_id = ?", arrival)
	}
	if afterArrival > 0 {
		q = q.Where("(r.arrival_id < ? OR (r.arrival_id = ? AND r.number > ?))", afterArrival, afterArrival, after)
	}
	out := []NotableReject{}
	err := q.Scan(&out).Error
	return out, err
}

// FeedCounts is what waits and what became of a feed's arrivals.
type FeedCounts struct {
	Feed         string           `json:"feed"`
	Waiting      int64            `json:"waiting" doc:"Arrivals that are noticed, settling, ready or loading"`
	OldestAt     *time.Time       `json:"oldest_waiting_at"`
	LastNoticed  *time.Time       `json:"last_noticed_at"`
	LastLoaded   *time.Time       `json:"last_loaded_at"`
	States       map[string]int64 `json:"states" doc:"Arrivals by state" gorm:"-"`
	RowsToday    int64            `json:"rows_today" doc:"Rows inserted or updated in the last 24 hours"`
	NeedsPerson  int64            `json:"needs_person" doc:"Arrivals of the last seven days that are refused, failed for good, or held"`
	LastProblem  string           `json:"last_problem" doc:"The reason of the newest of them"`
	LastProblemA int64            `json:"last_problem_arrival"`
}

// needsPerson holds for arrivals (a) of the last seven days that were refused,
// failed for good or are held, unless a later version of the file came since.
const needsPerson = `a.noticed_at > now() - interval '7 days'
	AND (a.state IN ('refused', 'held') OR (a.state = 'failed' AND a.try_after IS NULL))
	AND NOT EXISTS (SELECT 1 FROM arrival later WHERE later.feed = a.feed AND later.path = a.path AND later.id > a.id)`

// Needs gives the newest arrivals that need a person.
func (l *Ledger) Needs(ctx context.Context, most int) ([]Arrival, error) {
	out := []Arrival{}
	err := l.with(ctx).Table("arrival a").Joins("JOIN feed f ON f.name = a.feed AND f.removed_at IS NULL").
		Select("a.*").Where(needsPerson).Order("a.id DESC").Limit(most).Find(&out).Error
	return out, err
}

// Counts gives the counts of all feeds.
func (l *Ledger) Counts(ctx context.Context) (map[string]*FeedCounts, error) {
	var rows []FeedCounts
	err := l.with(ctx).Raw(`SELECT feed,
			count(*) FILTER (WHERE state IN ('noticed', 'settling', 'ready', 'loading')) AS waiting,
			min(noticed_at) FILTER (WHERE state IN ('noticed', 'settling', 'ready', 'loading')) AS oldest_at,
			max(noticed_at) AS last_noticed,
			max(finished_at) FILTER (WHERE state = 'loaded') AS last_loaded,
			coalesce(sum((balance->>'inserted')::bigint + (balance->>'updated')::bigint) FILTER (WHERE finished_at > now() - interval '24 hours'), 0) AS rows_today,
			count(*) FILTER (WHERE ` + needsPerson + `) AS needs_person,
			coalesce(max(id) FILTER (WHERE ` + needsPerson + `), 0) AS last_problem_a
		FROM arrival a GROUP BY feed`).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	counts := map[string]*FeedCounts{}
	var problems []int64
	for i := range rows {
		rows[i].States = map[string]int64{}
		counts[rows[i].Feed] = &rows[i]
		problems = append(problems, rows[i].LastProblemA)
	}
	var states []struct {
		Feed, State string
		N           int64
	}
	if err := l.with(ctx).Raw(`SELECT feed, state, count(*) AS n FROM arrival GROUP BY feed, state`).Scan(&states).Error; err != nil {
		return nil, err
	}
	for _, s := range states {
		if c := counts[s.Feed]; c != nil {
			c.States[s.State] = s.N
		}
	}
	var reasons []Arrival
	if err := l.with(ctx).Select("feed, reason").Where("id IN ?", append(problems, 0)).Find(&reasons).Error; err != nil {
		return nil, err
	}
	for _, r := range reasons {
		if c := counts[r.Feed]; c != nil {
			c.LastProblem = r.Reason
		}
	}
	return counts, nil
}

// Recorded writes down what a marker says of an arrival.
func (l *Ledger) Recorded(ctx context.Context, id int64, sha256 string, generation int) error {
	return l.with(ctx).Model(&Arrival{}).Where("id = ?", id).Updates(map[string]any{"sha256": sha256, "generation": generation}).Error
}
