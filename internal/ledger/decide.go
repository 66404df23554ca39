package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"mullein/internal/core/balance"
)

// ConflictError says that something cannot be done in the state it is in.
type ConflictError struct{ Reason string }

func (e *ConflictError) Error() string { return e.Reason }

// Verb is what a person decides about an arrival.
type Verb string

// The verbs.
const (
	Redo    Verb = "redo"    // load it, again if it was loaded
	Skip    Verb = "skip"    // never load it
	Hold    Verb = "hold"    // wait for a person
	Release Verb = "release" // go on after a hold
	Accept  Verb = "accept"  // take a file for a slot although its name does not fit
	Excuse  Verb = "excuse"  // a slot need not be filled
	Recall  Verb = "recall"  // take out what was loaded, or put it back
	Rebuild Verb = "rebuild" // load it afresh, with all others of its feed
)

// verbs says which states each takes and returns.
var verbs = map[Verb]struct {
	from []State
	to   State
}{
	Redo:    {[]State{Loaded, Refused, Failed, Skipped, Held, Recalled, Gone, Ready}, Ready},
	Skip:    {[]State{Noticed, Settling, Ready, Failed, Held, Refused}, Skipped},
	Hold:    {[]State{Noticed, Settling, Ready, Failed}, Held},
	Release: {[]State{Held, Refused}, Ready},
}

// Takes returns the states of arrivals to which a verb can be done.
func (v Verb) Takes() []State { return verbs[v].from }

// maxDecided bounds how many arrivals one decision is about.
const maxDecided = 100_000

// Decide does a verb to arrivals: all of them, or none when one of them is in a
// state that the verb does not take. who and because are kept.
func (l *Ledger) Decide(ctx context.Context, v Verb, of []int64, who, because string) ([]Arrival, error) {
	verb, ok := verbs[v]
	if !ok || len(of) == 0 {
		return nil, &ConflictError{"no arrivals to " + string(v)}
	}
	var list []Arrival
	err := l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where(isOneOf("id"),
			numbers(of)).Order("id").Find(&list).Error; err != nil {
			return nil, err
		}
		if err := allIn(list, of, v, verb.from); err != nil {
			return nil, err
		}
		if v == Release {
			if err := releasable(list); err != nil {
				return nil, err
			}
		}
		reason := fmt.Sprintf("%s by %s: %s", map[Verb]string{Redo: "to be loaded again", Skip: "skipped",
			Hold: "held", Release: "released"}[v], who, because)
		values := map[string]any{"state": verb.to, "reason": reason, "attempts": 0, "try_after": nil}
		switch v {
		case Redo, Release:
			values["forced"], values["finished_at"], values["ready_at"] = true, nil,
				gorm.Expr("coalesce(ready_at, now())")
			if v == Release {
				values["waived"] = gorm.Expr("waived OR state = 'refused'")
			}
		case Skip, Hold:
			values["finished_at"] = gorm.Expr("now()")
		}
		if err := tx.Model(&Arrival{}).Where(isOneOf("id"), numbers(of)).Updates(values).Error; err != nil {
			return nil, err
		}
		if v == Redo {
			// What was loaded once is loaded as the next generation of its content.
			err := tx.Exec(`UPDATE arrival a SET earlier = `+withEarlier+`, generation = 1 + (SELECT max(generation)
				FROM arrival o WHERE `+
				ofPath("o")+` = `+ofPath("a")+` AND o.sha256 = a.sha256)
				WHERE `+isOneOf("id")+` AND generation > 0`, numbers(of)).Error
			if err != nil {
				return nil, err
			}
		}
		if err := decided(tx, list, v, who, because); err != nil {
			return nil, err
		}
		if err := tx.Where(isOneOf("id"), numbers(of)).Order("id").Find(&list).Error; err != nil {
			return nil, err
		}
		events := make([]Event, len(list))
		for i := range list {
			events[i] = arrivalEvent(&list[i])
		}
		return append(events, wanted(list[0].Feed)), touchSlots(tx, list)
	})
	return list, err
}

// releasable reports whether arrivals may be let in: held ones, and refused ones
// against which only the tolerance or a check of the delivery stood.
func releasable(list []Arrival) error {
	for _, a := range list {
		if a.State == Refused && !a.Waivable {
			return &ConflictError{fmt.Sprintf("arrival %d cannot be released: %s. Only what was refused for its "+
				"rejects or for a check of the delivery can be; have the file sent again", a.ID, a.Reason)}
		}
	}
	return nil
}

func allIn(list []Arrival, of []int64, v Verb, from []State) error {
	if len(list) < len(of) {
		have := map[int64]bool{}
		for _, a := range list {
			have[a.ID] = true
		}
		for _, id := range of {
			if !have[id] {
				return fmt.Errorf("arrival %d: %w", id, ErrNotFound)
			}
		}
	}
	var wrong []string
	for _, a := range list {
		ok := false
		for _, s := range from {
			ok = ok || a.State == s
		}
		if !ok && len(wrong) < 5 {
			wrong = append(wrong, fmt.Sprintf("arrival %d is %s", a.ID, a.State))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	states := make([]string, len(from))
	for i, s := range from {
		states[i] = string(s)
	}
	return &ConflictError{fmt.Sprintf("%s; %s takes those that are %s", strings.Join(wrong, ", "), v,
		strings.Join(states, ", "))}
}

func decided(tx *gorm.DB, list []Arrival, v Verb, who, because string) error {
	decisions := make([]Decision, len(list))
	for i := range list {
		decisions[i] = Decision{By: who, What: string(v), Because: because, Feed: list[i].Feed, Arrival: &list[i].ID}
	}
	return tx.CreateInBatches(decisions, 1000).Error
}

// Pick returns the numbers of the arrivals that a filter selects and to which a
// verb can be done.
func (l *Ledger) Pick(ctx context.Context, f Filter, v Verb) ([]int64, error) {
	q := l.with(ctx).Model(&Arrival{}).Where("feed = ? AND state IN ?", f.Feed, v.Takes())
	if f.State != "" {
		q = q.Where("state = ?", f.State)
	}
	if f.Text != "" {
		q = q.Where("path LIKE ?", like(f.Text))
	}
	if f.Backlog {
		q = q.Where("backlog AND state = 'skipped'")
	}
	if !f.Since.IsZero() {
		q = q.Where("coalesce(slot, noticed_at) >= ? AND coalesce(slot, noticed_at) < ?", f.Since, f.Until)
	}
	// A redo of all versions of a path would load the old ones too: the newest counts.
	q = q.Where(newest("arrival"))
	var out []int64
	err := q.Order("id").Limit(maxDecided+1).Pluck("id", &out).Error
	if len(out) > maxDecided {
		return nil, &ConflictError{fmt.Sprintf("more than %d arrivals; narrow them by day or name", maxDecided)}
	}
	return out, err
}

// TakeBacklog makes arrivals ready that lay there before the feed and were
// skipped for it, as far as a selection takes them.
func (l *Ledger) TakeBacklog(ctx context.Context, feed string, s Selection) (int64, error) {
	var taken int64
	err := l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		done := s.narrow(tx.Model(&Arrival{})).Where("feed = ? AND backlog AND state = 'skipped' AND copy_of IS NULL",
			feed).
			Updates(map[string]any{"state": Ready, "reason": "", "finished_at": nil, "backlog": false,
				"ready_at": gorm.Expr("now()")})
		taken = done.RowsAffected
		return nil, done.Error
	})
	return taken, err
}

// AcceptFile records a file that a person takes for a slot although its name
// does not fit. It is ready at once.
func (l *Ledger) AcceptFile(ctx context.Context, a *Arrival, who, because string) error {
	a.State, a.Forced, a.Reason = Ready, true, fmt.Sprintf("accepted by %s: %s", who, because)
	now := time.Now().UTC()
	a.ReadyAt = &now
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := tx.Create(a).Error; err != nil {
			return nil, err
		}
		if err := decided(tx, []Arrival{*a}, Accept, who, because); err != nil {
			return nil, err
		}
		return append(arrivalEvents(a), wanted(a.Feed)), touchSlots(tx, []Arrival{*a})
	})
}

// Decisions returns what people decided about an arrival, or about a slot,
// oldest first.
func (l *Ledger) Decisions(ctx context.Context, arrival, slot int64) ([]Decision, error) {
	out := []Decision{}
	q := l.with(ctx).Where("arrival = ?", arrival)
	if slot > 0 {
		q = l.with(ctx).Where("slot = ?", slot)
	}
	err := q.Order("id").Limit(1000).Find(&out).Error
	return out, err
}

// ByNumber returns those of the arrivals that the ledger has.
func (l *Ledger) ByNumber(ctx context.Context, of []int64) (map[int64]Arrival, error) {
	var list []Arrival
	err := l.with(ctx).Where(isOneOf("id"), numbers(of)).Find(&list).Error
	out := make(map[int64]Arrival, len(list))
	for _, a := range list {
		out[a.ID] = a
	}
	return out, err
}

// FromMarker records an arrival as its marker says, also when the ledger had
// forgotten it. New arrivals get numbers beyond it.
func (l *Ledger) FromMarker(ctx context.Context, a Arrival) error {
	text, err := json.Marshal(a.Balance)
	if err != nil {
		return err
	}
	captures := []byte("{}")
	if a.Captures != nil {
		if captures, err = json.Marshal(a.Captures); err != nil {
			return err
		}
	}
	a.State = Loaded
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		err := tx.Exec(`INSERT INTO arrival (id, feed, path, size, modified, inode, sha256, state, reason, captures,
			slot, slot_number, generation, noticed_at, came_at, finished_at, balance)
			OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, 0, 'epoch', 0, ?, 'loaded',
			'recorded from the marker in the target', ?::jsonb, ?, ?, ?, ?, ?, ?, ?::jsonb)
			ON CONFLICT (id) DO UPDATE SET state = 'loaded', sha256 = excluded.sha256,
			generation = excluded.generation, balance = excluded.balance,
				finished_at = excluded.finished_at, reason = excluded.reason, try_after = NULL`,
			a.ID, a.Feed, a.Path, a.SHA256, string(captures), a.Slot, a.SlotNumber, a.Generation, a.FinishedAt,
			a.FinishedAt, a.FinishedAt, string(text)).Error
		if err != nil {
			return nil, err
		}
		return arrivalEvents(&a), tx.Exec(`SELECT setval(pg_get_serial_sequence('arrival', 'id'),
			greatest(nextval(pg_get_serial_sequence('arrival', 'id')) - 1, ?))`, a.ID).Error
	})
}

// Afresh is an arrival that a rebuild loaded once more.
type Afresh struct {
	ID         int64           `json:"id"`
	Generation int             `json:"generation"`
	Balance    balance.Balance `json:"balance"`
	Rejects    []Reject        `json:"-"` // nil leaves those that it had
}

// Rebuilt records what a rebuild loaded in a run, with the rejects that it met in place of
// those before. What was mended of them stays so.
func (l *Ledger) Rebuilt(ctx context.Context, run int64, loads []Afresh, who, because string) error {
	if len(loads) == 0 {
		return nil
	}
	text, err := json.Marshal(loads)
	if err != nil {
		return err
	}
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		var list []Arrival
		err := tx.Raw(`UPDATE arrival a SET earlier = `+withEarlier+`, state = 'loaded', reason = '',
			generation = r.generation, run_id = ?, balance = r.balance, finished_at = now(), try_after = NULL,
			more_rejects = NULL
			FROM jsonb_to_recordset(?::jsonb) AS r(id bigint, generation integer, balance jsonb) WHERE a.id = r.id
			RETURNING a.*`, run, string(text)).Scan(&list).Error
		if err != nil {
			return nil, err
		}
		for _, load := range loads {
			if load.Rejects == nil {
				continue
			}
			if err := rejectsAnew(tx, load.ID, load.Rejects); err != nil {
				return nil, err
			}
		}
		events := make([]Event, len(list))
		for i := range list {
			events[i] = arrivalEvent(&list[i])
		}
		return events, decided(tx, list, Rebuild, who, because)
	})
}

// rejectsAnew puts rejects of an arrival in the place of those that it had.
func rejectsAnew(tx *gorm.DB, of int64, rejects []Reject) error {
	type place struct {
		line   int64
		column string
	}
	var old []Reject
	if err := tx.Where("arrival_id = ? AND mended_in IS NOT NULL", of).Find(&old).Error; err != nil {
		return err
	}
	mended := map[place]*int64{}
	for _, r := range old {
		mended[place{r.Line, r.ColumnName}] = r.MendedIn
	}
	for i := range rejects {
		r := &rejects[i]
		r.ArrivalID, r.Number, r.MendedIn = of, i+1, mended[place{r.Line, r.ColumnName}]
	}
	if err := tx.Where("arrival_id = ?", of).Delete(&Reject{}).Error; err != nil || len(rejects) == 0 {
		return err
	}
	return tx.CreateInBatches(rejects, 500).Error
}

// OfDelivery returns the arrivals in a state that were loaded as one delivery with
// an arrival, itself among them.
func (l *Ledger) OfDelivery(ctx context.Context, a *Arrival, in State) ([]int64, error) {
	if a.Delivery == "" {
		return []int64{a.ID}, nil
	}
	var of []int64
	err := l.with(ctx).Model(&Arrival{}).Where("feed = ? AND delivery = ? AND state = ? AND run_id IS NOT DISTINCT "+
		"FROM ? AND NOT is_list", a.Feed, a.Delivery, in, a.RunID).Order("id").Pluck("id", &of).Error
	return of, err
}

// Recalled records that loads were taken out of their target, and others put
// back.
func (l *Ledger) Recalled(ctx context.Context, out, back []int64, who, reason string) error {
	return l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		var list []Arrival
		for _, c := range []struct {
			of   []int64
			from State
			to   State
		}{{out, Loaded, Recalled}, {back, Recalled, Loaded}} {
			if len(c.of) == 0 {
				continue
			}
			var changed []Arrival
			err := tx.Raw(`UPDATE arrival SET state = ?, reason = ? WHERE `+isOneOf("id")+
				` AND state = ? RETURNING *`, c.to, reason, numbers(c.of), c.from).Scan(&changed).Error
			if err != nil {
				return nil, err
			}
			list = append(list, changed...)
		}
		events := make([]Event, len(list))
		for i := range list {
			events[i] = arrivalEvent(&list[i])
		}
		if err := decided(tx, list, Recall, who, reason); err != nil {
			return nil, err
		}
		return events, touchSlots(tx, list)
	})
}
