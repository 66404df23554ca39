package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
)

// The states of arrivals change here, in [Ledger.Begin], [Ledger.Finish] and
// [Ledger.Decide], and nowhere else.

// ErrMoved says that an arrival is no longer in the state it was taken for.
var ErrMoved = errors.New("the arrival has moved on")

// move brings arrivals from one of the states to another, sets more columns, and
// returns those that were in one of them.
func move(tx *gorm.DB, of []int64, from []State, to State, more map[string]any) ([]Arrival, error) {
	values := map[string]any{"state": to}
	for k, v := range more {
		values[k] = v
	}
	var moved []int64
	err := tx.Raw("SELECT id FROM arrival WHERE "+isOneOf("id")+" AND "+stateOf("arrival")+" IN ? FOR UPDATE",
		numbers(of), from).Scan(&moved).Error
	if err != nil || len(moved) == 0 {
		return nil, err
	}
	if err := tx.Model(&Arrival{}).Where(isOneOf("id"), numbers(moved)).Updates(values).Error; err != nil {
		return nil, err
	}
	var list []Arrival
	err = tx.Where(isOneOf("id"), numbers(moved)).Order("id").Find(&list).Error
	return list, err
}

// moveOne is move of one arrival. It fails with [ErrMoved] when the arrival is in
// none of the states.
func (l *Ledger) moveOne(ctx context.Context, id int64, from []State, to State, more map[string]any) error {
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		list, err := move(tx, []int64{id}, from, to, more)
		if err == nil && len(list) == 0 {
			err = ErrMoved
		}
		if err != nil {
			return nil, err
		}
		return arrivalEvents(&list[0]), touchSlots(tx, list)
	})
}

// Still is a file that was still long enough, as it was then.
type Still struct {
	ID       int64     `json:"id"` // of the arrival
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Changed  time.Time `json:"changed"`
	Inode    int64     `json:"inode"`
}

// Settled makes arrivals ready whose files are whole. Those that have moved on
// are passed over.
func (l *Ledger) Settled(ctx context.Context, files []Still) error {
	text, err := json.Marshal(files)
	if err != nil {
		return err
	}
	of := make([]int64, len(files))
	for i, f := range files {
		of[i] = f.ID
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := lockArrivals(tx, of); err != nil {
			return nil, err
		}
		var ready []Arrival
		err := tx.Raw(`UPDATE arrival a SET state = 'ready', size = s.size, modified = s.modified,
			changed = nullif(s.changed, '0001-01-01T00:00:00Z'), inode = s.inode, ready_at = now()
			FROM jsonb_to_recordset(?::jsonb) AS s(id bigint, size bigint, modified timestamptz, changed timestamptz,
			inode bigint)
			WHERE a.id = s.id AND `+stateOf("a")+` IN ('noticed', 'settling') RETURNING a.id, a.feed, a.state`,
			string(text)).Scan(&ready).Error
		events := make([]Event, len(ready))
		for i := range ready {
			events[i] = arrivalEvent(&ready[i])
		}
		return events, err
	})
}

// Untouched records the change times of files that were found to have the bytes that
// they had.
func (l *Ledger) Untouched(ctx context.Context, id int64, changed time.Time) error {
	return l.with(ctx).Model(&Arrival{}).Where("id = ?", id).Update("changed", changed).Error
}

// Unsettle says that the file of a ready arrival changed before it was begun: it
// settles anew. It fails with [ErrMoved] where the arrival is not ready any more.
func (l *Ledger) Unsettle(ctx context.Context, id int64) error {
	return l.moveOne(ctx, id, []State{Ready}, Settling, nil)
}

// Vanished says that the files of arrivals vanished before they were read. Those
// that were to be loaded again stay as they were loaded. Arrivals that have moved
// on are passed over.
func (l *Ledger) Vanished(ctx context.Context, arrivals []Awaited) error {
	var gone, again []int64
	for _, a := range arrivals {
		if a.Generation > 1 {
			again = append(again, a.ID)
		} else {
			gone = append(gone, a.ID)
		}
	}
	waiting := []State{Noticed, Settling, Ready}
	now := time.Now().UTC()
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		list, err := move(tx, gone, waiting, Gone, map[string]any{"reason": "it vanished before it was read",
			"finished_at": now})
		if err != nil {
			return nil, err
		}
		more, err := move(tx, again, waiting, Loaded, map[string]any{
			"reason":     "it could not be loaded again: the file is no longer there; its rows stay as they are",
			"generation": gorm.Expr("generation - 1"), "finished_at": now})
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
		events := make([]Event, len(list))
		for i := range list {
			events[i] = arrivalEvent(&list[i])
		}
		return events, touchSlots(tx, list)
	})
}

// PutBack makes an arrival ready that was being loaded, as if it had not been tried:
// the attempt does not count. generation is that which a later load is to be, 0
// where it is not known. An arrival that has moved on is passed over.
func (l *Ledger) PutBack(ctx context.Context, id int64, generation int, reason string) error {
	return l.untried(ctx, id, Ready, generation, reason)
}

// PutBackAll is PutBack of several arrivals, of which the generation that a later load is to be is not
// known.
func (l *Ledger) PutBackAll(ctx context.Context, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	return l.change(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := lockArrivals(tx, ids); err != nil {
			return nil, err
		}
		list, err := move(tx, ids, []State{Loading}, Ready, untriedValues(0, ""))
		if err != nil {
			return nil, err
		}
		events := make([]Event, len(list))
		for i := range list {
			events[i] = arrivalEvent(&list[i])
		}
		return events, touchSlots(tx, list)
	})
}

// untriedValues are those of an arrival of which an attempt does not count.
func untriedValues(generation int, reason string) map[string]any {
	return map[string]any{"reason": reason, "attempts": gorm.Expr("greatest(attempts - 1, 0)"), "generation": generation,
		"opened_at": nil, "staged_at": nil}
}

// SettleAnew puts an arrival back whose file changed while it was being loaded: the
// attempt does not count. An arrival that has moved on is passed over.
func (l *Ledger) SettleAnew(ctx context.Context, id int64, reason string) error {
	return l.untried(ctx, id, Settling, 0, reason)
}

func (l *Ledger) untried(ctx context.Context, id int64, to State, generation int, reason string) error {
	err := l.moveOne(ctx, id, []State{Loading}, to, untriedValues(generation, reason))
	if errors.Is(err, ErrMoved) {
		return nil
	}
	return err
}

// LeftBehind makes an arrival ready whose service ended while it was being loaded,
// after so many attempts that count. An arrival that has moved on is passed over.
func (l *Ledger) LeftBehind(ctx context.Context, id int64, attempts int) error {
	more := map[string]any{"reason": "the service ended while it was loaded", "opened_at": nil, "staged_at": nil,
		"attempts": attempts}
	err := l.moveOne(ctx, id, []State{Loading}, Ready, more)
	if errors.Is(err, ErrMoved) {
		return nil
	}
	return err
}

// Failed records that an attempt failed. again is when the next is made; nil where
// there is none, and a person is needed.
func (l *Ledger) Failed(ctx context.Context, id int64, reason string, again *time.Time) error {
	return l.moveOne(ctx, id, []State{Loading}, Failed, map[string]any{"reason": reason,
		"finished_at": time.Now().UTC(), "try_after": again})
}

// StaysLoaded leaves an arrival loaded, with a generation, that was to be loaded
// again and could not.
func (l *Ledger) StaysLoaded(ctx context.Context, id int64, generation int, reason string) error {
	return l.moveOne(ctx, id, []State{Loading}, Loaded, map[string]any{
		"reason": reason, "generation": generation, "finished_at": time.Now().UTC(), "forced": false})
}

// RefuseWaiting refuses an arrival that is not even begun to be loaded.
func (l *Ledger) RefuseWaiting(ctx context.Context, id int64, reason string, away Away) error {
	return l.moveOne(ctx, id, []State{Ready, Failed}, Refused, map[string]any{
		"reason": reason, "finished_at": time.Now().UTC(), "try_after": nil, "away": away})
}
