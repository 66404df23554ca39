package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/due"
	"mullein/internal/core/filename"
)

// Slot is one expected delivery and what became of it.
type Slot struct {
	ID         int64             `json:"id" gorm:"primaryKey"`
	Feed       string            `json:"feed"`
	DueAt      time.Time         `json:"due_at"`
	NameAt     *time.Time        `json:"name_at" doc:"The time that its files carry in their names"`
	Per        map[string]string `json:"per" gorm:"serializer:json" doc:"The captures that tell it from others at the same time"`
	PerKey     string            `json:"-"`
	State      due.State         `json:"state" enum:"open,on time,late,missing,refused,excused,surplus"`
	Files      int               `json:"files" doc:"Expected"`
	Came       int               `json:"came"`
	Surplus    int               `json:"surplus" doc:"Files beyond what was expected"`
	LateAt     time.Time         `json:"late_at"`
	MissingAt  time.Time         `json:"missing_at"`
	CompleteAt *time.Time        `json:"complete_at" doc:"When the last file that was needed came"`
	TurnAt     *time.Time        `json:"-"`
	judged     *time.Time        // the turn for which it is judged
	ChangedAt  time.Time         `json:"changed_at"`
	Near       []filename.Near   `json:"near" gorm:"serializer:json" nullable:"false" doc:"Files at the landing with names that come close, nearest first"`
}

// TableName keeps GORM from making plurals.
func (Slot) TableName() string { return "slot" }

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
	return tx.Exec("UPDATE slot SET turn_at = clock_timestamp() WHERE id IN ?", slots).Error
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

// SlotAt returns the slot of a feed at a time with some captures, or ErrNotFound.
func (l *Ledger) SlotAt(ctx context.Context, feed string, at time.Time, per map[string]string) (Slot, error) {
	var s Slot
	err := l.with(ctx).First(&s, "feed = ? AND due_at = ? AND per_key = ?", feed, at, due.Key(per)).Error
	return s, found(err, "slot %s of %s", at.Format(time.RFC3339), feed)
}

// Slot returns one slot, or ErrNotFound.
func (l *Ledger) Slot(ctx context.Context, id int64) (Slot, error) {
	var s Slot
	err := l.with(ctx).First(&s, id).Error
	return s, found(err, "slot %d", id)
}

// SlotsBetween returns the slots that were due in a span, in order, of a feed or
// of all.
func (l *Ledger) SlotsBetween(ctx context.Context, feed string, from, to time.Time, most int) ([]Slot, error) {
	out := []Slot{}
	q := l.with(ctx).Where("due_at >= ? AND due_at < ? AND feed IN (SELECT name FROM feed WHERE removed_at IS NULL)", from, to)
	if feed != "" {
		q = q.Where("feed = ?", feed)
	}
	err := q.Order("due_at, feed, per_key").Limit(most).Find(&out).Error
	return out, err
}

// DaySlot is all slots of a feed that are due at a time.
type DaySlot struct {
	At      time.Time `json:"at"`
	Missing time.Time `json:"missing_at"`
	State   due.State `json:"state" enum:"open,on time,late,missing,refused,excused,surplus" doc:"The worst of them"`
	Slots   int       `json:"slots"`
	Good    int       `json:"good" doc:"Of which came, or are excused"`
	Ahead   bool      `json:"ahead" gorm:"-" doc:"It is still to come"`
}

// DaySlots returns what was due in a span, by feed and time, in order.
func (l *Ledger) DaySlots(ctx context.Context, from, to time.Time) (map[string][]DaySlot, error) {
	var rows []struct {
		Feed string
		DaySlot
	}
	err := l.with(ctx).Raw(`SELECT feed, due_at AS at, max(missing_at) AS missing, count(*) AS slots,
			count(*) FILTER (WHERE complete_at IS NOT NULL OR state = 'excused') AS good,
			(ARRAY['on time', 'excused', 'open', 'late', 'refused', 'missing'])[max(array_position(ARRAY['on time', 'excused', 'open', 'late', 'refused', 'missing'], state))] AS state
		FROM slot WHERE feed IN (SELECT name FROM feed WHERE removed_at IS NULL) AND due_at >= ? AND due_at < ? AND state <> 'surplus'
		GROUP BY feed, due_at ORDER BY due_at`, from, to).Scan(&rows).Error
	out := map[string][]DaySlot{}
	for _, r := range rows {
		out[r.Feed] = append(out[r.Feed], r.DaySlot)
	}
	return out, err
}

// SlotCount is how many slots of a quarter of an hour are in a state.
type SlotCount struct {
	At    time.Time `json:"at" doc:"Where the quarter of an hour begins"`
	State due.State `json:"state" enum:"open,on time,late,missing,refused,excused,surplus"`
	N     int       `json:"n"`
}

// SlotCounts counts the slots of a feed that were due in a span, in order. A
// quarter of an hour is what the days of all time zones are made of.
func (l *Ledger) SlotCounts(ctx context.Context, feed string, from, to time.Time) ([]SlotCount, error) {
	out := []SlotCount{}
	err := l.with(ctx).Raw(`SELECT date_bin('15 minutes', due_at, 'epoch') AS at, state, count(*) AS n FROM slot
		WHERE feed = ? AND due_at >= ? AND due_at < ? GROUP BY 1, 2 ORDER BY 1`, feed, from, to).Scan(&out).Error
	return out, err
}

// WrongSlots returns slots of the last seven days that need a person: missing,
// refused, or late and not here yet; the newest first.
func (l *Ledger) WrongSlots(ctx context.Context, feed string, most int) ([]Slot, error) {
	out := []Slot{}
	q := l.with(ctx).Where("due_at > now() - interval '7 days' AND (state IN ('missing', 'refused') OR state = 'late' AND complete_at IS NULL) AND feed IN (SELECT name FROM feed WHERE removed_at IS NULL)")
	if feed != "" {
		q = q.Where("feed = ?", feed)
	}
	err := q.Order("due_at DESC, per_key").Limit(most).Find(&out).Error
	return out, err
}

// LastSlots returns the newest slot of a feed for each set of captures.
func (l *Ledger) LastSlots(ctx context.Context, feed string) ([]Slot, error) {
	out := []Slot{}
	err := l.with(ctx).Raw(`SELECT DISTINCT ON (per_key) id FROM slot WHERE feed = ? AND state <> 'surplus' AND due_at > now() - interval '400 days' ORDER BY per_key, due_at DESC`, feed).Scan(&out).Error
	if err != nil || len(out) == 0 {
		return out, err
	}
	of := make([]int64, len(out))
	for i, s := range out {
		of[i] = s.ID
	}
	out = []Slot{}
	err = l.with(ctx).Where("id IN ?", of).Order("per_key").Find(&out).Error
	return out, err
}

// LastDue returns when the newest slot of a feed's schedule was due; zero when
// there is none.
func (l *Ledger) LastDue(ctx context.Context, feed string) (time.Time, error) {
	return l.time(ctx, "SELECT max(due_at) FROM slot WHERE feed = ? AND state <> 'surplus'", feed)
}

// time asks for one time; null is the zero time.
func (l *Ledger) time(ctx context.Context, query string, args ...any) (time.Time, error) {
	var at sql.NullTime
	err := l.with(ctx).Raw(query, args...).Row().Scan(&at)
	return at.Time, err
}

// BeginCalendar records where a feed's calendar begins, if it has not begun.
func (l *Ledger) BeginCalendar(ctx context.Context, feed string, from time.Time) error {
	return l.with(ctx).Exec("UPDATE feed SET due_from = ? WHERE name = ? AND due_from IS NULL", from, feed).Error
}

// SlotsToJudge returns slots of a feed whose state may have changed by now, and
// when the next one may change after that; zero when none will.
func (l *Ledger) SlotsToJudge(ctx context.Context, feed string, most int) (slots []Slot, next time.Time, err error) {
	err = l.with(ctx).Where("feed = ? AND turn_at <= now()", feed).Order("turn_at").Limit(most).Find(&slots).Error
	if err != nil {
		return nil, next, err
	}
	for i := range slots {
		slots[i].judged = slots[i].TurnAt
	}
	next, err = l.time(ctx, "SELECT min(turn_at) FROM slot WHERE feed = ? AND turn_at > now()", feed)
	return slots, next, err
}

// OfSlot returns the arrivals that were linked to a slot, oldest first.
func (l *Ledger) OfSlot(ctx context.Context, slot int64, most int) ([]Arrival, error) {
	out := []Arrival{}
	err := l.with(ctx).Where("due_slot = ?", slot).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// Unlinked returns arrivals with numbers above after that fill no slot, in order.
func (l *Ledger) Unlinked(ctx context.Context, feed string, after int64, most int) ([]Arrival, error) {
	var out []Arrival
	err := l.with(ctx).Where("feed = ? AND id > ? AND due_slot IS NULL AND NOT is_list", feed, after).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// Link records which arrivals fill which slots, up to which arrival this was
// looked at, and has the slots judged.
func (l *Ledger) Link(ctx context.Context, feed string, slots map[int64]int64, upTo int64) error {
	type pair struct {
		Arrival int64 `json:"arrival"`
		Slot    int64 `json:"slot"`
	}
	pairs := []pair{}
	for arrival, slot := range slots {
		pairs = append(pairs, pair{arrival, slot})
	}
	text, err := json.Marshal(pairs)
	if err != nil {
		return err
	}
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		err := tx.Exec(`WITH p AS (SELECT * FROM jsonb_to_recordset(?::jsonb) AS p(arrival bigint, slot bigint)),
				linked AS (UPDATE arrival a SET due_slot = p.slot FROM p WHERE a.id = p.arrival)
			UPDATE slot SET turn_at = now() WHERE id IN (SELECT slot FROM p)`, string(text)).Error
		if err != nil {
			return err
		}
		return tx.Exec("UPDATE feed SET due_after = greatest(due_after, ?) WHERE name = ?", upTo, feed).Error
	})
}

// Judged writes down how slots stand now.
func (l *Ledger) Judged(ctx context.Context, slots []Slot, changed map[int64]bool) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		var events []Event
		for _, s := range slots {
			values := map[string]any{"state": s.State, "came": s.Came, "surplus": s.Surplus, "complete_at": s.CompleteAt, "turn_at": gorm.Expr("CASE WHEN turn_at IS NOT DISTINCT FROM ? OR ? THEN ?::timestamptz ELSE turn_at END", s.judged, s.judged == nil, s.TurnAt)} // what happened meanwhile gives it another turn
			near, err := json.Marshal(s.Near)
			if err != nil {
				return nil, err
			}
			values["near"] = string(near)
			if changed[s.ID] {
				values["changed_at"] = gorm.Expr("now()")
				events = append(events, Event{Kind: "slot", Feed: s.Feed, State: string(s.State)})
			}
			if err := tx.Model(&Slot{}).Where("id = ?", s.ID).Updates(values).Error; err != nil {
				return nil, err
			}
		}
		return events, nil
	})
}

// ExcuseSlot records that a slot need not be filled.
func (l *Ledger) ExcuseSlot(ctx context.Context, id int64, who, because string) (Slot, error) {
	var s Slot
	err := l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&s, id).Error; err != nil {
			return nil, found(err, "slot %d", id)
		}
		switch s.State {
		case due.Open, due.Late, due.Missing, due.Refused:
		default:
			return nil, &ConflictError{fmt.Sprintf("slot %d is %s; excuse takes those that are open, late, missing or refused", id, s.State)}
		}
		err := tx.Model(&s).Updates(map[string]any{"state": due.Excused, "turn_at": nil, "changed_at": gorm.Expr("now()")}).Error
		if err != nil {
			return nil, err
		}
		s.State = due.Excused
		return []Event{{Kind: "slot", Feed: s.Feed, State: string(s.State)}},
			tx.Create(&Decision{By: who, What: string(Excuse), Because: because, Feed: s.Feed, Slot: &s.ID}).Error
	})
	return s, err
}

// LastCame returns when the last file of a feed came with some captures; zero
// when none did.
func (l *Ledger) LastCame(ctx context.Context, feed string, per map[string]string) (time.Time, error) {
	var last []Arrival
	q := l.with(ctx).Where("feed = ? AND state <> 'gone' AND NOT is_list AND came_at IS NOT NULL", feed)
	for name, value := range per {
		q = q.Where("captures->>? = ?", name, value)
	}
	err := q.Order("id DESC").Limit(1).Find(&last).Error
	if err != nil || len(last) == 0 {
		return time.Time{}, err
	}
	return *last[0].CameAt, nil
}
