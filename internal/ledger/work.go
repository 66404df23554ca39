package ledger

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/balance"
	"mullein/internal/core/check"
	"mullein/internal/core/tabular"
)

// inOrder is the order in which a feed's deliveries load: by slot, then by the
// files' own times, then by name.
const inOrder = "slot, slot_number, modified, path, id"

// Selection narrows what waits. Its zero value, with Most set, takes all.
type Selection struct {
	Most       int
	Paths      []string
	From, To   time.Time // slots from, and before
	ByModified bool      // From and To are of the files' own times
	FromNumber *int64    // slots that are numbers, both included
	ToNumber   *int64
	Forced     bool // only those that a person wants loaded
	Lists      bool // only lists of deliveries
	Again      bool // also those whose time for another attempt has not come
}

func (s Selection) narrow(q *gorm.DB) *gorm.DB {
	if len(s.Paths) > 0 {
		q = q.Where("path = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb)))", textList(s.Paths))
	}
	column := "slot"
	if s.ByModified {
		column = "modified"
	}
	if !s.From.IsZero() {
		q = q.Where(column+" >= ?", s.From)
	}
	if !s.To.IsZero() {
		q = q.Where(column+" < ?", s.To)
	}
	if s.FromNumber != nil {
		q = q.Where("slot_number >= ?", *s.FromNumber)
	}
	if s.ToNumber != nil {
		q = q.Where("slot_number <= ?", *s.ToNumber)
	}
	if s.Forced {
		q = q.Where("forced")
	}
	if s.Lists {
		q = q.Where("is_list")
	}
	return q
}

// Waiting returns what a feed is to load next, in order. An arrival that is to be
// tried again stands in its place and blocks those behind it: then it is given
// with TryAfter in the future.
func (l *Ledger) Waiting(ctx context.Context, feed string, s Selection) ([]Arrival, error) {
	var waiting []Arrival
	err := s.narrow(l.with(ctx)).Where("feed = ? AND state IN ('ready', 'failed') AND (state = 'ready' OR try_after "+
		"IS NOT NULL)", feed).
		Order(inOrder).Limit(s.Most).Find(&waiting).Error
	return waiting, err
}

// Blocking returns the first arrival in order that holds up all behind it where
// order is strict: refused, held, or failed for good, and not followed by a
// later version of its file. It is nil when there is none.
func (l *Ledger) Blocking(ctx context.Context, feed string) (*Arrival, error) {
	var first []Arrival
	err := l.with(ctx).Raw(`SELECT * FROM arrival a WHERE feed = ? AND (state IN ('refused', 'held')
		OR state = 'failed' AND try_after IS NULL)
		AND `+newest("a")+`
		ORDER BY `+inOrder+` LIMIT 1`, feed).Scan(&first).Error
	if err != nil || len(first) == 0 {
		return nil, err
	}
	return l.one(ctx, first[0].ID)
}

func (l *Ledger) one(ctx context.Context, id int64) (*Arrival, error) {
	a, err := l.Arrival(ctx, id)
	return &a, err
}

// Before reports whether a comes before b in the order of loading.
func (a *Arrival) Before(b *Arrival) bool {
	if c := compareNil(a.Slot, b.Slot, time.Time.Compare); c != 0 {
		return c < 0
	}
	if c := compareNil(a.SlotNumber, b.SlotNumber, func(x, y int64) int { return int(x - y) }); c != 0 {
		return c < 0
	}
	if c := a.Modified.Compare(b.Modified); c != 0 {
		return c < 0
	}
	return a.Path < b.Path || a.Path == b.Path && a.ID < b.ID
}

// compareNil puts nil last, as PostgreSQL does.
func compareNil[T any](a, b *T, compare func(T, T) int) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return 1
	case b == nil:
		return -1
	}
	return compare(*a, *b)
}

// Begin records an attempt to load each of the arrivals, before a file is
// opened: a file that kills the process is counted all the same. It returns
// those that are still there to be loaded, in their order. [Ledger.Opened] follows
// when reading begins.
func (l *Ledger) Begin(ctx context.Context, arrivals []*Arrival, run int64, version int) ([]*Arrival, error) {
	return l.begin(ctx, arrivals, run, version, "NULL")
}

// BeginOpened is Begin for files that are opened at once.
func (l *Ledger) BeginOpened(ctx context.Context, arrivals []*Arrival, run int64, version int) ([]*Arrival, error) {
	return l.begin(ctx, arrivals, run, version, "now()")
}

func (l *Ledger) begin(ctx context.Context, arrivals []*Arrival, run int64, version int, opened string) ([]*Arrival,
	error) {
	var begun []struct {
		ID       int64
		Attempts int
	}
	err := l.with(ctx).Raw(`WITH b AS (UPDATE arrival SET state = 'loading', attempts = attempts + 1, run_id = ?,
		version = ?, try_after = NULL,
				opened_at = `+opened+`, staged_at = NULL, finished_at = NULL, reason = ''
			WHERE id IN (SELECT id FROM arrival WHERE `+isOneOf("id")+` ORDER BY id FOR NO KEY UPDATE)
			AND `+stateOf("arrival")+` IN ('ready', 'failed') RETURNING id, feed, attempts),
		told AS (SELECT tell(jsonb_agg(event_of('arrival', feed, id, ?, 'loading') ORDER BY id)) FROM b)
		SELECT id, attempts FROM b, told`, run, version, ids(arrivals), run).Scan(&begun).Error
	attempts := map[int64]int{}
	for _, b := range begun {
		attempts[b.ID] = b.Attempts
	}
	var out []*Arrival
	for _, a := range arrivals {
		if n, ok := attempts[a.ID]; ok {
			a.State, a.Attempts, a.RunID, a.Version = Loading, n, &run, version
			out = append(out, a)
		}
	}
	return out, err
}

// ids are the numbers of arrivals, as [numbers].
func ids(arrivals []*Arrival) string {
	out := make([]int64, len(arrivals))
	for i, a := range arrivals {
		out[i] = a.ID
	}
	return numbers(out)
}

// Opened records that reading begins. An arrival that is left behind opened
// but not staged may be what ended the service.
func (l *Ledger) Opened(ctx context.Context, arrivals []*Arrival) error {
	return l.with(ctx).Model(&Arrival{}).Where(isOneOf("id"), ids(arrivals)).Update("opened_at",
		gorm.Expr("now()")).Error
}

// Waits records in arrivals that are loading what they wait for, in place of what was
// said before; "" when they wait no more.
func (l *Ledger) Waits(ctx context.Context, arrivals []*Arrival, reason string) error {
	return l.with(ctx).Exec(`WITH u AS (UPDATE arrival SET reason = ? WHERE `+isOneOf("id")+`
		AND `+stateOf("arrival")+` = 'loading' AND reason <> ?
			RETURNING id, feed, run_id)
		SELECT tell(jsonb_agg(event_of('arrival', feed, id, run_id, 'loading') ORDER BY id)) FROM u`, reason,
		ids(arrivals), reason).Error
}

// Reading is what reading a file told.
type Reading struct {
	ID         int64         `json:"id"` // of the arrival
	SHA256     string        `json:"sha256"`
	Generation int           `json:"generation"`
	Columns    []string      `json:"columns"` // the names in its header
	Rejects    []Reject      `json:"-"`
	More       []MoreRejects `json:"more"`

	Checks []check.Result `json:"-"`
}

// MoreRejects counts rejects that are not kept.
type MoreRejects struct {
	Rule   string `json:"rule"`
	Column string `json:"column"`
	Count  int64  `json:"count"`
}

// Staged records what reading files told: their digests, which generations
// they are, and their rejects, in place of those of earlier attempts.
func (l *Ledger) Staged(ctx context.Context, readings []Reading) error {
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		text, err := json.Marshal(readings)
		if err != nil {
			return err
		}
		err = tx.Exec(`UPDATE arrival a SET sha256 = r.sha256, generation = r.generation, columns = r.columns,
			more_rejects = nullif(r.more, 'null'), staged_at = now()
			FROM jsonb_to_recordset(?::jsonb) AS r(id bigint, sha256 text, generation integer, columns jsonb,
			more jsonb) WHERE a.id = r.id`, string(text)).Error
		if err != nil {
			return err
		}
		var of []int64
		var rejects []Reject
		for _, r := range readings {
			of = append(of, r.ID)
			for i := range r.Rejects {
				r.Rejects[i].ArrivalID, r.Rejects[i].Number = r.ID, i+1
			}
			rejects = append(rejects, r.Rejects...)
		}
		if err := tx.Where(isOneOf("arrival_id"), numbers(of)).Delete(&Reject{}).Error; err != nil {
			return err
		}
		if len(rejects) > 0 {
			if err := tx.CreateInBatches(rejects, 500).Error; err != nil {
				return err
			}
		}
		return keepChecks(tx, of, readings)
	})
}

// Ending is how the work on an arrival ends.
type Ending struct {
	ID       int64           `json:"id"`
	State    State           `json:"state"`
	Reason   string          `json:"reason"`
	Balance  balance.Balance `json:"balance"`
	CopyOf   *int64          `json:"copy_of"`
	Away     Away            `json:"away"`
	Waivable bool            `json:"waivable"` // a person may let it in all the same
	Replaces bool            `json:"replaces"` // what was loaded under its path before is undone
	// KeyRange is of a load, by column of the key; nil where it is not known.
	KeyRange map[string]tabular.Range `json:"key_range"`

	SHA256     string `json:"sha256"`     // if it is not on record yet
	Generation int    `json:"generation"` // if it is not on record yet
}

// Finish ends the work on arrivals that are loading. Those that are not, any
// more, are passed over.
func (l *Ledger) Finish(ctx context.Context, endings ...Ending) error {
	text, err := json.Marshal(endings)
	if err != nil {
		return err
	}
	// What a new version replaces, and the new version, change in one statement:
	// readers and tallies see both or neither.
	return l.with(ctx).Exec(`WITH e AS (
			SELECT * FROM jsonb_to_recordset(?::jsonb) AS e(id bigint, state text, reason text, balance jsonb,
			copy_of bigint, away text, waivable boolean, replaces boolean, key_range jsonb, sha256 text, generation integer)
		), ends AS (
			SELECT e.*, a.feed, a.path FROM e JOIN arrival a ON a.id = e.id AND `+stateOf("a")+` = 'loading'
			ORDER BY e.id FOR NO KEY UPDATE OF a
		), old AS (
			SELECT o.id, 'recalled' AS state, 'replaced by arrival ' || n.id AS reason FROM ends n
			JOIN arrival o ON `+ofPath("o")+` = `+ofPath("n")+`
			WHERE n.replaces AND o.state = 'loaded' AND o.id <> n.id
		), c AS (
			SELECT id, state, reason, balance, copy_of, away, waivable, key_range, sha256, generation, false AS was FROM ends
			UNION ALL SELECT id, state, reason, NULL, NULL, NULL, false, NULL, '', 0, true FROM old
		), u AS (
			UPDATE arrival a SET state = c.state, reason = c.reason, balance = coalesce(c.balance, a.balance),
				copy_of = CASE WHEN c.was THEN a.copy_of ELSE c.copy_of END,
				away = CASE WHEN c.was OR a.away = 'done' THEN a.away ELSE c.away END,
				finished_at = CASE WHEN c.was THEN a.finished_at ELSE now() END,
				key_range = CASE WHEN c.was THEN a.key_range ELSE nullif(c.key_range, 'null') END,
				sha256 = CASE WHEN c.sha256 = '' THEN a.sha256 ELSE c.sha256 END,
				generation = CASE WHEN c.generation = 0 THEN a.generation ELSE c.generation END,
				staged_at = CASE WHEN c.sha256 = '' THEN a.staged_at ELSE now() END,
				waivable = coalesce(c.waivable, false), forced = a.forced AND c.state NOT IN ('loaded', 'refused')
			FROM c WHERE a.id = c.id RETURNING a.id, a.feed, a.state, a.run_id, a.size, a.balance, a.opened_at,
				a.settling_at, a.ready_at, a.generation, a.staged_at, a.finished_at, a.came_at, a.is_list, a.due_slot, c.was
		), touched AS (
			UPDATE slot SET turn_at = clock_timestamp() WHERE id IN (SELECT id FROM slot
				WHERE id IN (SELECT due_slot FROM u WHERE due_slot IS NOT NULL) ORDER BY id FOR NO KEY UPDATE) RETURNING 1
		), done AS (
			`+volumeOfEnded+`
		), counted AS (
			UPDATE feed f SET loads = f.loads + n
				FROM (SELECT feed, count(*) AS n FROM u WHERE state = 'loaded' GROUP BY feed) l
				WHERE f.name = l.feed RETURNING 1
		), before AS ( -- what is not asked for would be done after all else
			SELECT (SELECT count(*) FROM touched) + (SELECT count(*) FROM done) + (SELECT count(*) FROM counted) AS n
		)
		SELECT tell(jsonb_agg(event ORDER BY id, n)) FROM (
			SELECT id, 1 AS n, event_of('arrival', feed, id, run_id, state) AS event FROM u
			UNION ALL SELECT id, 2, event_of('load', feed, id, run_id, state) FROM u WHERE state = 'loaded') events
		WHERE (SELECT n FROM before) >= 0`, string(text)).Error
}

// Earlier is what a feed has loaded of some paths and contents.
type Earlier struct {
	ByPath      map[string]Arrival // what was loaded last under a path
	ByDigest    []Arrival          // what is loaded with one of the digests, the newest first
	Generations map[string]int     // by path and digest: the highest generation that was loaded
}

// GenerationKey is how [Earlier.Generations] names a content under a path.
func GenerationKey(path, sha256 string) string { return path + "\x00" + sha256 }

// Earlier looks up what is loaded of the paths and digests of arrivals that
// were read.
func (l *Ledger) Earlier(ctx context.Context, feed string, paths, digests []string) (Earlier, error) {
	e := Earlier{ByPath: map[string]Arrival{}, Generations: map[string]int{}}
	var last []Arrival
	err := l.with(ctx).Raw(`SELECT k.* FROM jsonb_array_elements_text(?::jsonb) p CROSS JOIN LATERAL (
			SELECT * FROM (SELECT * FROM arrival a WHERE `+ofPath("a")+` = ? || ' ' || p OFFSET 0) a
			WHERE a.state = 'loaded' AND NOT is_list ORDER BY finished_at DESC, id DESC LIMIT 1) k`, textList(paths),
		feed).Scan(&last).Error
	if err != nil {
		return e, err
	}
	for _, a := range last {
		e.ByPath[a.Path] = a
	}
	if len(digests) > 0 {
		err = l.with(ctx).Raw(`SELECT k.* FROM jsonb_array_elements_text(?::jsonb) d CROSS JOIN LATERAL (
				SELECT * FROM arrival a WHERE (a.feed || ' ' || a.sha256) = ? || ' ' || d AND a.state = 'loaded'
				AND NOT is_list OFFSET 0) k
			ORDER BY finished_at DESC, id DESC LIMIT 1000`, textList(digests), feed).Scan(&e.ByDigest).Error
	}
	if err != nil {
		return e, err
	}
	var generations []struct {
		Path, Sha256 string
		N            int
	}
	err = l.with(ctx).Raw(`SELECT a.path, a.sha256, max(a.generation) AS n FROM jsonb_array_elements_text(?::jsonb) p
		CROSS JOIN LATERAL (SELECT * FROM arrival a WHERE `+ofPath("a")+` = ? || ' ' || p OFFSET 0) a
		WHERE a.generation > 0 AND a.state IN ('loaded', 'recalled') GROUP BY 1, 2`, textList(paths),
		feed).Scan(&generations).Error
	for _, g := range generations {
		e.Generations[GenerationKey(g.Path, g.Sha256)] = g.N
	}
	return e, err
}

// LoadedLast returns the arrival that was loaded last, beside a, as the file that its
// name means; nil when there is none. Where captures name a slot they tell which file
// is meant; else its path does.
func (l *Ledger) LoadedLast(ctx context.Context, a *Arrival) (*Arrival, error) {
	q := l.with(ctx).Where("feed = ? AND state = 'loaded' AND id <> ?", a.Feed, a.ID)
	if a.Slot == nil {
		q = q.Where(ofPath("arrival")+" = ? || ' ' || ?", a.Feed, a.Path)
	} else {
		captures, err := json.Marshal(a.Captures)
		if err != nil {
			return nil, err
		}
		q = q.Where("slot = ? AND captures = ?::jsonb", a.Slot, string(captures))
	}
	var last []Arrival
	err := q.Order("finished_at DESC, id DESC").Limit(1).Find(&last).Error
	if err != nil || len(last) == 0 {
		return nil, err
	}
	return &last[0], nil
}

// FeedsOf returns the feeds of those of the arrivals that are in one of the states; of all, where
// none is given.
func (l *Ledger) FeedsOf(ctx context.Context, arrivals []int64, states ...State) (feeds []string, err error) {
	q := l.with(ctx).Model(&Arrival{}).Distinct("feed").Where("id = ANY(?::bigint[])", numbers(arrivals)).Order("feed")
	if len(states) > 0 {
		q = q.Where("state IN ?", states)
	}
	return feeds, q.Pluck("feed", &feeds).Error
}

// LoadedBetween reports whether files of the feed were loaded after one, that come before
// its copy in the order of loading; sameSlot says that only those of its slot matter.
func (l *Ledger) LoadedBetween(ctx context.Context, of, again *Arrival, sameSlot bool) (bool, error) {
	slot := ""
	if sameSlot {
		slot = " AND slot IS NOT DISTINCT FROM @slot AND slot_number IS NOT DISTINCT FROM @number"
	}
	var found bool
	err := l.with(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM arrival WHERE feed = @feed AND state = 'loaded'
		AND finished_at >= @finished AND id NOT IN (@of, @again) AND NOT is_list
			AND (finished_at > @finished OR (modified, path, id) > (@ofModified, @ofPath, @of))
			AND (modified, path, id) < (@againModified, @againPath, @again)`+slot+`)`,
		map[string]any{"feed": of.Feed, "finished": of.FinishedAt, "of": of.ID, "again": again.ID,
			"ofModified": of.Modified, "ofPath": of.Path,
			"againModified": again.Modified, "againPath": again.Path, "slot": again.Slot,
			"number": again.SlotNumber}).Scan(&found).Error
	return found, err
}

// HasLoaded reports whether a feed has loaded a file.
func (l *Ledger) HasLoaded(ctx context.Context, feed string) (found bool, err error) {
	err = l.with(ctx).Raw("SELECT EXISTS (SELECT 1 FROM arrival WHERE feed = ? AND state = 'loaded')", feed).Scan(&found).Error
	return found, err
}

// Settling returns how many bytes the files of a feed have that were noticed and are not known to be whole.
func (l *Ledger) Settling(ctx context.Context, feed string) (size int64, err error) {
	err = l.with(ctx).Raw("SELECT coalesce(sum(size), 0) FROM arrival WHERE feed = ? AND state IN ('noticed', 'settling')", feed).
		Scan(&size).Error
	return size, err
}

// LoadedSizes returns those of the sizes of which a file is loaded: only of such a file
// can another be a copy.
func (l *Ledger) LoadedSizes(ctx context.Context, feed string, sizes []int64) (map[int64]bool, error) {
	var there []int64
	err := l.with(ctx).Raw(`SELECT s FROM unnest(?::bigint[]) s WHERE EXISTS (SELECT 1 FROM arrival WHERE feed = ?
		AND size = s AND state = 'loaded' OFFSET 0)`, numbers(sizes), feed).Scan(&there).Error
	out := make(map[int64]bool, len(there))
	for _, size := range there {
		out[size] = true
	}
	return out, err
}

// Recorded writes down what a marker says of an arrival.
func (l *Ledger) Recorded(ctx context.Context, id int64, sha256 string, generation int) error {
	return l.with(ctx).Model(&Arrival{}).Where("id = ?",
		id).Updates(map[string]any{"sha256": sha256, "generation": generation}).Error
}

// ToPutAway returns arrivals whose files are to be moved from the landing.
func (l *Ledger) ToPutAway(ctx context.Context, feed string, most int) ([]Arrival, error) {
	var out []Arrival
	err := l.with(ctx).Where("feed = ? AND away = 'wanted'", feed).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// PutAway records where a file lies now; an empty place means that it was
// deleted or is another file's by now, and reason, if not empty, why it could
// not be moved.
func (l *Ledger) PutAway(ctx context.Context, a *Arrival, to, reason string) error {
	values := map[string]any{"away": AwayDone, "away_to": to}
	if reason != "" {
		values = map[string]any{"away": AwayFailed, "reason": reason}
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		return arrivalEvents(a), tx.Model(&Arrival{}).Where("id = ?", a.ID).Updates(values).Error
	})
}

// SizeOf returns how many bytes the files of arrivals have together.
func (l *Ledger) SizeOf(ctx context.Context, arrivals []int64) (n int64, err error) {
	err = l.with(ctx).Raw("SELECT COALESCE(sum(size), 0)::bigint FROM arrival WHERE id = ANY(?::bigint[])", numbers(arrivals)).Scan(&n).Error
	return n, err
}

// LastArrival returns the number of the last arrival that was given one; 0 for none.
func (l *Ledger) LastArrival(ctx context.Context) (n int64, err error) {
	err = l.with(ctx).Raw("SELECT CASE WHEN is_called THEN last_value ELSE 0 END FROM arrival_id_seq").Scan(&n).Error
	return n, err
}

// LyingAt returns which of some places the ledger knows files of a feed to have been put
// away to.
func (l *Ledger) LyingAt(ctx context.Context, feed string, places []string) (map[string]bool, error) {
	var known []string
	err := l.with(ctx).Model(&Arrival{}).Where("away_to = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) AND "+
		"away_to <> '' AND feed = ?", textList(places), feed).Pluck("away_to", &known).Error
	out := make(map[string]bool, len(known))
	for _, place := range known {
		out[place] = true
	}
	return out, err
}

// LoadedIn returns what is loaded of a slot.
func (l *Ledger) LoadedIn(ctx context.Context, feed string, slot time.Time, most int) ([]Arrival, error) {
	var out []Arrival
	err := l.with(ctx).Where("feed = ? AND slot = ? AND (state = 'loaded' OR state = 'skipped' AND copy_of IS NOT "+
		"NULL)", feed, slot).Limit(most).Find(&out).Error
	return out, err
}

// AnyIn reports whether there is any arrival of a selection, whatever became of it.
func (l *Ledger) AnyIn(ctx context.Context, feed string, s Selection) (bool, error) {
	var some []int64
	err := s.narrow(l.with(ctx).Model(&Arrival{})).Where("feed = ? AND state <> 'gone'", feed).Limit(1).Pluck("id",
		&some).Error
	return len(some) > 0, err
}

// Newest returns the newest arrival of each of the paths that the ledger has.
func (l *Ledger) Newest(ctx context.Context, feed string, paths []string) (map[string]Arrival, error) {
	var list []Arrival
	err := l.with(ctx).Raw("SELECT k.* FROM "+newestOf("*"), textList(paths), feed).Scan(&list).Error
	out := make(map[string]Arrival, len(list))
	for _, a := range list {
		out[a.Path] = a
	}
	return out, err
}

// LoadedVersions returns the arrivals that are loaded under a path.
func (l *Ledger) LoadedVersions(ctx context.Context, feed, path string) ([]int64, error) {
	var out []int64
	err := l.with(ctx).Model(&Arrival{}).Where(ofPath("arrival")+" = ? || ' ' || ? AND state = 'loaded'", feed,
		path).Order("id").Pluck("id", &out).Error
	return out, err
}

// Belong records of which delivery arrivals are.
func (l *Ledger) Belong(ctx context.Context, arrivals []*Arrival, delivery string) error {
	return l.with(ctx).Model(&Arrival{}).Where(isOneOf("id"), ids(arrivals)).Update("delivery", delivery).Error
}
