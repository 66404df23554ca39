package ledger

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"mullein/internal/core/due"
)

// Cure is what a person may do about a problem, and of how many of its parts.
type Cure struct {
	Verb Verb
	Of   int64
}

// Count is how many parts of a problem last, and what may be done about them.
type Count struct {
	Problem int64
	Parts   int64
	Feeds   int64
	Release int64
	Redo    int64
	Skip    int64
	Accept  int64
	Excuse  int64
}

// Cures returns what may be done about the parts, the likeliest first.
func (c Count) Cures() []Cure {
	var out []Cure
	for _, cure := range []Cure{{Accept, c.Accept}, {Release, c.Release}, {Redo, c.Redo}, {Excuse, c.Excuse}, {Skip, c.Skip}} {
		if cure.Of > 0 {
			out = append(out, cure)
		}
	}
	return out
}

// curable says, by verb, of which parts of a problem it may be done, where a is the arrival and s the slot of a part.
var curable = map[Verb]string{
	Release: "(a.state = 'held' OR a.state = 'refused' AND a.waivable)",
	Redo:    "a.state IN ('failed', 'refused')",
	Skip:    "a.state IN ('failed', 'refused', 'held')",
	Accept:  "(s.state IN ('late', 'missing') AND jsonb_typeof(s.near) = 'array' AND jsonb_array_length(s.near) > 0)",
	Excuse:  "s.state IN ('late', 'missing')",
}

// lastingParts are the parts of problems that last, with their arrivals and slots.
const lastingParts = `problem_part t LEFT JOIN arrival a ON t.arrival > 0 AND a.id = t.arrival
	LEFT JOIN slot s ON t.slot > 0 AND s.id = t.slot WHERE t.over_at IS NULL`

// CountParts counts the parts of problems that last, by problem.
func (l *Ledger) CountParts(ctx context.Context, problems []int64) (map[int64]Count, error) {
	counted := ""
	for _, v := range []Verb{Release, Redo, Skip, Accept, Excuse} {
		what := "*"
		if v == Accept { // files, of which one may come close to several slots
			what = "DISTINCT (t.feed, s.near->0->>'path')"
		}
		counted += fmt.Sprintf(", count(%s) FILTER (WHERE %s) AS %s", what, curable[v], string(v))
	}
	var rows []Count
	err := l.with(ctx).Raw("SELECT t.problem, count(*) AS parts, count(DISTINCT t.feed) AS feeds"+counted+" FROM "+lastingParts+
		" AND "+isOneOf("t.problem")+" GROUP BY t.problem", numbers(problems)).Scan(&rows).Error
	out := make(map[int64]Count, len(rows))
	for _, c := range rows {
		out[c.Problem] = c
	}
	return out, err
}

// MostCured is how many parts of a problem are cured at a time.
const MostCured = 1000

// Curable returns the parts of a problem of which a verb may be done, the oldest first: up to MostCured.
func (l *Ledger) Curable(ctx context.Context, problem int64, v Verb) ([]ProblemPart, error) {
	var p Problem
	if err := l.with(ctx).First(&p, problem).Error; err != nil {
		return nil, found(err, "problem %d", problem)
	}
	which, ok := curable[v]
	if !ok {
		return nil, &ConflictError{fmt.Sprintf("%q is no cure: accept, release, redo, excuse or skip is", v)}
	}
	out := []ProblemPart{}
	err := l.with(ctx).Raw("SELECT t.* FROM "+lastingParts+" AND t.problem = ? AND "+which+
		" ORDER BY t.since, t.feed, t.arrival, t.slot LIMIT ?", problem, MostCured).Scan(&out).Error
	return out, err
}

// ExcuseSlots records that those of some slots need not be filled that are late or missing, and returns how many
// they are.
func (l *Ledger) ExcuseSlots(ctx context.Context, of []int64, who, because string) (int64, error) {
	var list []Slot
	err := l.decide(ctx, func(tx *gorm.DB) ([]Event, error) {
		if err := lockSlots(tx, of); err != nil {
			return nil, err
		}
		err := tx.Raw("UPDATE slot SET state = ?, turn_at = NULL, changed_at = now() WHERE "+isOneOf("id")+
			" AND state IN ('late', 'missing') RETURNING *", due.Excused, numbers(of)).Scan(&list).Error
		if err != nil || len(list) == 0 {
			return nil, err
		}
		decisions, events := make([]Decision, len(list)), make([]Event, len(list))
		for i, s := range list {
			decisions[i] = Decision{By: who, What: string(Excuse), Because: because, Feed: s.Feed, Slot: &list[i].ID}
			events[i] = Event{Kind: "slot", Feed: s.Feed, Slot: s.ID, State: string(s.State)}
		}
		return events, tx.CreateInBatches(decisions, 500).Error
	})
	return int64(len(list)), err
}
