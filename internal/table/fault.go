package table

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// RowError is a refusal of the target with the row that it is about.
type RowError struct {
	Part int
	Line int64
	Key  string // its values; "" where rows have no key
	Err  error
}

func (e *RowError) Error() string { return e.Err.Error() }
func (e *RowError) Unwrap() error { return e.Err }

// mostSearched is among how many staged rows the one at fault is looked for.
const mostSearched = 5_000_000

// atFault looks for the first staged row that the target refuses, and returns the error
// with it. What a check, a trigger or a foreign key says of one row alone is found;
// otherwise the error is returned as it is.
func (l *Load) atFault(ctx context.Context, from origin, refused error) error {
	if !refuses(refused) || l.rows() > mostSearched {
		return refused
	}
	var first, last *int64
	if err := l.s.conn.QueryRow(ctx, "SELECT min(place), max(place) FROM "+l.stage).Scan(&first, &last); err != nil ||
		first == nil {
		return refused
	}
	low, high := *first, *last
	atFault := func(err error) bool { return refuses(err) && !l.isKeyConflict(err) }
	if err := l.tryRows(ctx, from, low, high); !atFault(err) {
		return refused
	}
	for low < high { // the first row at fault has a place from low to high
		middle := low + (high-low)/2
		switch err := l.tryRows(ctx, from, low, middle); {
		case err == nil:
			low = middle + 1
		case atFault(err):
			high = middle
		default:
			return refused
		}
	}
	found := &RowError{Part: int(low >> placeShift), Line: low >> lineShift & lineMask, Err: refused}
	if l.table.keyed() {
		var key *string
		err := l.s.conn.QueryRow(ctx, "SELECT left(concat_ws(', ', "+strings.Join(l.columns(l.table.Key),
			", ")+"), 200) FROM "+l.stage+" s WHERE place = $1",
			low).Scan(&key)
		if err == nil && key != nil {
			found.Key = *key
		}
	}
	return found
}

// tryRows writes the staged rows of some places as if each were new, or the newest of its
// key, and takes it back.
func (l *Load) tryRows(ctx context.Context, from origin, low, high int64) error {
	if err := l.exec(ctx, "SAVEPOINT at_fault"); err != nil {
		return err
	}
	columns, values, args := l.written(from)
	insert := "INSERT INTO " + l.name() + " (" + strings.Join(columns, ", ") + ") SELECT " + strings.Join(values,
		", ") + " FROM " +
		l.stage + fmt.Sprintf(" s WHERE s.place BETWEEN %d AND %d AND %s", low, high, l.notGone())
	if l.table.keyed() {
		insert += l.onConflict(columns)
	}
	_, err := l.s.conn.Exec(ctx, insert, args...)
	if err == nil {
		err = l.exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE")
	}
	if undo := l.rollBack(ctx, "at_fault"); undo != nil {
		return undo
	}
	return err
}

func (l *Load) onConflict(columns []string) string {
	var keys, sets []string
	for _, k := range l.table.Key {
		keys = append(keys, quote(k))
	}
	for _, c := range columns {
		if !slices.Contains(keys, c) {
			sets = append(sets, c+" = EXCLUDED."+c)
		}
	}
	if len(sets) == 0 {
		return " ON CONFLICT (" + strings.Join(keys, ", ") + ") DO NOTHING"
	}
	return " ON CONFLICT (" + strings.Join(keys, ", ") + ") DO UPDATE SET " + strings.Join(sets, ", ")
}
