package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/due"
	"mullein/internal/core/filename"
)

// Slot is one expected delivery and what became of it.
type Slot struct {
	ID         int64 `gorm:"primaryKey"`
	Feed       string
	DueAt      time.Time
	NameAt     *time.Time        // the time that its files carry in their names
	Per        map[string]string `gorm:"serializer:json"` // the captures that tell it from others at the same time
	PerKey     string
	State      due.State
	Files      int // expected
	Came       int
	Surplus    int // files beyond what was expected
	LateAt     time.Time
	MissingAt  time.Time
	CompleteAt *time.Time // when the last file that was needed came
	TurnAt     *time.Time
	judged     *time.Time // the turn for which it is judged
	ChangedAt  time.Time
	Near       []filename.Near `gorm:"serializer:json"` // files at the landing with names that come close, nearest first
}

// TableName keeps GORM from making plurals.
func (Slot) TableName() string { return "slot" }

// Due is the slot as a calendar knows it.
func (s *Slot) Due() due.Slot {
	d := due.Slot{At: s.DueAt, Per: s.Per}
	if s.NameAt != nil {
		d.Name = *s.NameAt
	}
	return d
}

// touchSlots has the slots judged anew that arrivals fill.
func touchSlots(tx *gorm.DB, arrivals []Arrival) error {
	var slots []int64
	for _, a := range arrivals {
		if a.DueSlot != nil {
			slots = append(slots, *a.DueSlot)
		}
	}
	if len(slots) == 0 {
		return nil
	}
	return tx.Exec("UPDATE slot SET turn_at = clock_timestamp() WHERE "+isOneOf("id"), numbers(slots)).Error
}

// MakeSlots records slots that are due, or that a file came for; those that
// are there already stay as they are.
func (l *Ledger) MakeSlots(ctx context.Context, slots []Slot) error {
	for i := range slots {
		s := &slots[i]
		s.PerKey, s.ChangedAt, s.Near = due.Key(s.Per), time.Now().UTC(), []filename.Near{}
	}
	return l.with(ctx).Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(slots, 500).Error
}

// SlotKey names a slot by when it is due and the captures that tell it from others
// at the same time.
type SlotKey struct {
	Feed string    `json:"feed"`
	At   time.Time `json:"at"`
	Per  string    `json:"per"` // by [due.Key]
}

// SlotsAt returns the numbers of those of the slots that there are.
func (l *Ledger) SlotsAt(ctx context.Context, keys []SlotKey) (map[SlotKey]int64, error) {
	text, err := json.Marshal(keys)
	if err != nil {
		return nil, err
	}
	var found []struct {
		N  int
		ID int64
	}
	err = l.with(ctx).Raw(`SELECT k.n, s.id FROM (SELECT (e.n - 1)::integer AS n, e.k->>'feed' AS feed,
		(e.k->>'at')::timestamptz AS at, e.k->>'per' AS per
		FROM jsonb_array_elements(?::jsonb) WITH ORDINALITY AS e(k, n)) k
		JOIN slot s ON s.feed = k.feed AND s.due_at = k.at AND s.per_key = k.per`, string(text)).Scan(&found).Error
	out := make(map[SlotKey]int64, len(found))
	for _, f := range found {
		out[keys[f.N]] = f.ID
	}
	return out, err
}

// Slot returns one slot, or ErrNotFound.
func (l *Ledger) Slot(ctx context.Context, id int64) (Slot, error) {
	var s Slot
	err := l.with(ctx).First(&s, id).Error
	return s, found(err, "slot %d", id)
}

// SlotFilter selects slots of a span. What is empty does not narrow.
type SlotFilter struct {
	Number   int64 // one slot, whenever it was due
	Feed     string
	Text     string    // words, each a part of the feed's name or of what tells the slot from others at its time
	From, To time.Time // of their due times; To is not within
	Most     int
}

// SlotsBetween returns the slots that were due in a span, in order.
func (l *Ledger) SlotsBetween(ctx context.Context, f SlotFilter) ([]Slot, error) {
	out := []Slot{}
	q := l.with(ctx).Where("feed IN (SELECT name FROM feed WHERE removed_at IS NULL)")
	if f.Number > 0 {
		q = q.Where("id = ?", f.Number)
	} else {
		q = q.Where("due_at >= ? AND due_at < ?", f.From, f.To)
	}
	if f.Feed != "" {
		q = q.Where("feed = ?", f.Feed)
	}
	for _, word := range strings.Fields(f.Text) {
		q = q.Where("strpos(lower(feed || ' ' || per_key), lower(?)) > 0", word)
	}
	err := q.Order("due_at, feed, per_key").Limit(f.Most).Find(&out).Error
	return out, err
}

// DaySlot is all slots of a feed that are due at a time.
type DaySlot struct {
	At      time.Time
	Missing time.Time
	State   due.State // the worst of them
	Slots   int
	Good    int  // of which came, or are excused
	Ahead   bool `gorm:"-"` // it is still to come
}

// DaySlots returns what was due of feeds in a span, by feed and time, in order.
func (l *Ledger) DaySlots(ctx context.Context, feeds []string, from, to time.Time) (map[string][]DaySlot, error) {
	var rows []struct {
		Feed string
		DaySlot
	}
	err := l.with(ctx).Raw(`SELECT feed, due_at AS at, max(missing_at) AS missing, count(*) AS slots,
			count(*) FILTER (WHERE complete_at IS NOT NULL OR state = 'excused') AS good,
			(ARRAY['on time', 'excused', 'open', 'late', 'refused', 'missing'])[max(array_position(ARRAY['on time',
			'excused', 'open', 'late', 'refused', 'missing'], state))] AS state
		FROM slot WHERE feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) AND due_at >= ? AND due_at < ?
		AND state <> 'surplus'
		GROUP BY feed, due_at ORDER BY due_at`, textList(feeds), from, to).Scan(&rows).Error
	out := map[string][]DaySlot{}
	for _, r := range rows {
		out[r.Feed] = append(out[r.Feed], r.DaySlot)
	}
	return out, err
}

// SlotCount is how many slots of a quarter of an hour are in a state.
type SlotCount struct {
	At    time.Time // where the quarter of an hour begins
	State due.State
	N     int
}

// SlotCounts counts the slots of a feed that were due in a span, in order. A
// quarter of an hour is what the days of all time zones are made of.
func (l *Ledger) SlotCounts(ctx context.Context, feed string, from, to time.Time) ([]SlotCount, error) {
	out := []SlotCount{}
	err := l.with(ctx).Raw(`SELECT date_bin('15 minutes', due_at, 'epoch') AS at, state, count(*) AS n FROM slot
		WHERE feed = ? AND due_at >= ? AND due_at < ? GROUP BY 1, 2 ORDER BY 1`, feed, from, to).Scan(&out).Error
	return out, err
}

// wrongSlot holds for slots of the last seven days that need a person.
const wrongSlot = "due_at > now() - interval '7 days' AND (state IN ('missing', 'refused') OR state = 'late' AND " +
	"complete_at IS NULL)"

// WrongSlots returns slots of the last seven days that need a person: missing,
// refused, or late and not here yet; the newest first.
func (l *Ledger) WrongSlots(ctx context.Context, feed string, most int) ([]Slot, error) {
	out := []Slot{}
	q := l.with(ctx).Where(wrongSlot + " AND feed IN (SELECT name FROM feed WHERE removed_at IS NULL)")
	if feed != "" {
		q = q.Where("feed = ?", feed)
	}
	err := q.Order("due_at DESC, per_key").Limit(most).Find(&out).Error
	return out, err
}

// LastSlots returns the newest slots of each feed for each set of captures, up to
// most of each, the newest first.
func (l *Ledger) LastSlots(ctx context.Context, feeds []string, most int) ([]Slot, error) {
	out := []Slot{}
	err := l.with(ctx).Where(`id IN (SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY feed, per_key
		ORDER BY due_at DESC) AS n
			FROM slot WHERE feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) AND state <> 'surplus'
			AND due_at > now() - interval '400 days') s
		WHERE n <= ?)`, textList(feeds), most).Order("feed, per_key, due_at DESC").Find(&out).Error
	return out, err
}

// LastDue returns when the newest slot of each feed's schedule was due that is not
// ahead of now: a file may have made slots far ahead. Feeds without one are left
// out.
func (l *Ledger) LastDue(ctx context.Context, feeds []string) (map[string]time.Time, error) {
	return l.times(ctx, `SELECT f AS feed, (SELECT max(due_at) FROM slot WHERE feed = f AND due_at <= now()
		AND state <> 'surplus') AS at FROM jsonb_array_elements_text(?::jsonb) f`, textList(feeds))
}

// times asks for a time for each feed; null is left out.
func (l *Ledger) times(ctx context.Context, query string, args ...any) (map[string]time.Time, error) {
	var rows []struct {
		Feed string
		At   *time.Time
	}
	err := l.with(ctx).Raw(query, args...).Scan(&rows).Error
	out := map[string]time.Time{}
	for _, r := range rows {
		if r.At != nil {
			out[r.Feed] = *r.At
		}
	}
	return out, err
}

// BeginCalendars records where the calendars of feeds begin that have not begun.
func (l *Ledger) BeginCalendars(ctx context.Context, from map[string]time.Time) error {
	text, err := json.Marshal(from)
	if err != nil {
		return err
	}
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := lockFeeds(tx, slices.Collect(maps.Keys(from))); err != nil {
			return err
		}
		return tx.Exec("UPDATE feed f SET due_from = t.value::timestamptz FROM jsonb_each_text(?::jsonb) t WHERE "+
			"f.name = t.key AND f.due_from IS NULL", string(text)).Error
	})
}

// SlotsToJudge returns slots of feeds whose state may have changed by now, those
// whose turn came first before others.
func (l *Ledger) SlotsToJudge(ctx context.Context, feeds []string, most int) (slots []Slot, err error) {
	err = l.with(ctx).Where("feed = ANY(ARRAY(SELECT jsonb_array_elements_text(?::jsonb))) AND turn_at <= now()",
		textList(feeds)).Order("turn_at, id").Limit(most).Find(&slots).Error
	for i := range slots {
		slots[i].judged = slots[i].TurnAt
	}
	return slots, err
}

// FeedsToJudge returns up to most feeds with slots whose state may have changed by
// now, whoever holds them.
func (l *Ledger) FeedsToJudge(ctx context.Context, most int) (feeds []string, err error) {
	err = l.with(ctx).Raw(`SELECT DISTINCT feed FROM (SELECT feed FROM slot WHERE turn_at <= now() ORDER BY turn_at
		LIMIT ?) s`, 10*most).Scan(&feeds).Error
	return feeds, err
}

// NextTurns returns when the state of a slot of each feed may change next. Feeds
// without such a slot are left out.
func (l *Ledger) NextTurns(ctx context.Context, feeds []string) (map[string]time.Time, error) {
	return l.times(ctx, `SELECT f AS feed, (SELECT min(turn_at) FROM slot WHERE feed = f
		AND turn_at IS NOT NULL) AS at FROM jsonb_array_elements_text(?::jsonb) f`, textList(feeds))
}

// OfSlot returns the arrivals that were linked to a slot, oldest first.
func (l *Ledger) OfSlot(ctx context.Context, slot int64, most int) ([]Arrival, error) {
	out := []Arrival{}
	err := l.with(ctx).Where("due_slot = ?", slot).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// OfSlots returns the arrivals that were linked to slots, by slot and oldest first,
// up to most of each slot; of each, only what tells how it fills its slot.
func (l *Ledger) OfSlots(ctx context.Context, slots []int64, most int) (map[int64][]Arrival, error) {
	var list []Arrival
	err := l.with(ctx).Raw(`SELECT a.* FROM unnest(?::bigint[]) s CROSS JOIN LATERAL (
		SELECT id, path, state, copy_of, noticed_at, came_at, slot, due_slot FROM arrival WHERE due_slot = s
		ORDER BY id LIMIT ?) a ORDER BY a.due_slot, a.id`, numbers(slots), most).Scan(&list).Error
	out := map[int64][]Arrival{}
	for _, a := range list {
		out[*a.DueSlot] = append(out[*a.DueSlot], a)
	}
	return out, err
}

// Unlinked returns arrivals of feeds that fill no slot, up to most of each feed, in
// order.
func (l *Ledger) Unlinked(ctx context.Context, from []After, most int) (map[string][]Arrival, error) {
	text, err := json.Marshal(from)
	if err != nil {
		return nil, err
	}
	var list []Arrival
	err = l.with(ctx).Raw(`SELECT a.* FROM `+eachAfter+` CROSS JOIN LATERAL (
		SELECT * FROM arrival WHERE feed = f.feed AND id > f.after AND due_slot IS NULL AND NOT is_list ORDER BY id
		LIMIT ?) a ORDER BY a.feed, a.id`, string(text), most).Scan(&list).Error
	out := map[string][]Arrival{}
	for _, a := range list {
		out[a.Feed] = append(out[a.Feed], a)
	}
	return out, err
}

// Link records which arrivals fill which slots, and up to which arrival of each
// feed this was looked at, and has the slots judged.
func (l *Ledger) Link(ctx context.Context, slots map[int64]int64, upTo []After) error {
	type pair struct {
		Arrival int64 `json:"arrival"`
		Slot    int64 `json:"slot"`
	}
	pairs, arrivals := []pair{}, []int64{}
	for arrival, slot := range slots {
		pairs, arrivals = append(pairs, pair{arrival, slot}), append(arrivals, arrival)
	}
	links, err := json.Marshal(pairs)
	if err != nil {
		return err
	}
	looked, err := json.Marshal(upTo)
	if err != nil {
		return err
	}
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := lockArrivals(tx, arrivals); err != nil {
			return err
		}
		err := tx.Exec(`UPDATE arrival a SET due_slot = p.slot FROM jsonb_to_recordset(?::jsonb) AS p(arrival bigint,
			slot bigint)
			WHERE a.id = p.arrival`, string(links)).Error
		if err != nil {
			return err
		}
		of := slices.Collect(maps.Values(slots))
		if err := lockSlots(tx, of); err != nil {
			return err
		}
		if err := tx.Exec("UPDATE slot SET turn_at = now() WHERE "+isOneOf("id"), numbers(of)).Error; err != nil {
			return err
		}
		names := make([]string, len(upTo))
		for i, u := range upTo {
			names[i] = u.Feed
		}
		if err := lockFeeds(tx, names); err != nil {
			return err
		}
		return tx.Exec("UPDATE feed SET due_after = greatest(due_after, f.after) FROM "+eachAfter+
			" WHERE name = f.feed", string(looked)).Error
	})
}

// Judged writes down how slots stand now.
func (l *Ledger) Judged(ctx context.Context, slots []Slot, changed map[int64]bool) error {
	type row struct {
		ID       int64           `json:"id"`
		State    due.State       `json:"state"`
		Came     int             `json:"came"`
		Surplus  int             `json:"surplus"`
		Complete *time.Time      `json:"complete_at"`
		Turn     *time.Time      `json:"turn_at"`
		Judged   *time.Time      `json:"judged"`
		Near     []filename.Near `json:"near"`
		Changed  bool            `json:"changed"`
	}
	rows, of := make([]row, len(slots)), make([]int64, len(slots))
	var events []Event
	for i, s := range slots {
		of[i] = s.ID
		rows[i] = row{s.ID, s.State, s.Came, s.Surplus, s.CompleteAt, s.TurnAt, s.judged, s.Near, changed[s.ID]}
		if changed[s.ID] {
			events = append(events, Event{Kind: "slot", Feed: s.Feed, Slot: s.ID, State: string(s.State)})
		}
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := lockSlots(tx, of); err != nil {
			return nil, err
		}
		// What happened meanwhile gives a slot another turn.
		return events, tx.Exec(`UPDATE slot s SET state = r.state, came = r.came, surplus = r.surplus,
			complete_at = r.complete_at, near = r.near,
				turn_at = CASE WHEN r.judged IS NULL OR s.turn_at IS NOT DISTINCT FROM r.judged THEN r.turn_at
				ELSE s.turn_at END,
				changed_at = CASE WHEN r.changed THEN now() ELSE s.changed_at END
			FROM jsonb_to_recordset(?::jsonb) AS r(id bigint, state text, came integer, surplus integer,
			complete_at timestamptz, turn_at timestamptz, judged timestamptz, near jsonb, changed boolean)
			WHERE s.id = r.id`, string(text)).Error
	})
}

// SlotsByNumber returns those of some slots that there are.
func (l *Ledger) SlotsByNumber(ctx context.Context, of []int64) (map[int64]Slot, error) {
	var list []Slot
	err := l.with(ctx).Where(isOneOf("id"), numbers(of)).Find(&list).Error
	out := make(map[int64]Slot, len(list))
	for _, s := range list {
		out[s.ID] = s
	}
	return out, err
}

// ExcuseSlot records that a slot need not be filled.
func (l *Ledger) ExcuseSlot(ctx context.Context, id int64, who, because string) (Slot, error) {
	var s Slot
	err := l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&s, id).Error; err != nil {
			return nil, found(err, "slot %d", id)
		}
		switch s.State {
		case due.Open, due.Late, due.Missing, due.Refused:
		default:
			return nil, &ConflictError{fmt.Sprintf("slot %d is %s; excuse takes those that are open, late, missing or "+
				"refused", id, s.State)}
		}
		err := tx.Model(&s).Updates(map[string]any{"state": due.Excused, "turn_at": nil,
			"changed_at": gorm.Expr("now()")}).Error
		if err != nil {
			return nil, err
		}
		s.State = due.Excused
		return []Event{{Kind: "slot", Feed: s.Feed, Slot: s.ID, State: string(s.State)}},
			tx.Create(&Decision{By: who, What: string(Excuse), Because: because, Feed: s.Feed, Slot: &s.ID}).Error
	})
	return s, err
}

// LastCame returns when the last file of a feed came with each of the sets of
// captures, in their order; zero where none did.
func (l *Ledger) LastCame(ctx context.Context, feed string, per []map[string]string) ([]time.Time, error) {
	out := make([]time.Time, len(per))
	text, err := json.Marshal(per)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		N  int
		At *time.Time
	}
	err = l.with(ctx).Raw(`SELECT p.n::integer - 1 AS n, a.came_at AS at
		FROM jsonb_array_elements(?::jsonb) WITH ORDINALITY AS p(per, n) CROSS JOIN LATERAL (
		SELECT came_at FROM arrival WHERE feed = ? AND state <> 'gone' AND NOT is_list AND came_at IS NOT NULL
			AND NOT EXISTS (SELECT 1 FROM jsonb_each_text(CASE jsonb_typeof(p.per) WHEN 'object' THEN p.per ELSE '{}'
			END) c WHERE captures->>c.key IS DISTINCT FROM c.value)
		ORDER BY id DESC LIMIT 1) a`, string(text), feed).Scan(&rows).Error
	for _, r := range rows {
		out[r.N] = *r.At
	}
	return out, err
}
