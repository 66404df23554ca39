package table

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
)

// way is how the rows of a load come into their target:
//
//	stagedWay    all rows are staged, then merged
//	skippingWay  so are those that the target does not hold; the others count as unchanged
//	directWay    the rows go into an empty target as they are read
type way interface {
	// copyIn copies the rows of a source, while they are read. expected is about how
	// many they are.
	copyIn(ctx context.Context, src Source, expected int64) error
	// lock locks the target, unless it is locked since before, and demands that
	// everything by which rows were copied still holds.
	lock(ctx context.Context, demand fence) error
	// merge writes the rows into the target; or nothing, when it fails. try counts
	// from 1.
	merge(ctx context.Context, from origin, try int) ([]balance.Balance, error)
	// mayPass reports whether a merge that failed may succeed when it is tried again.
	mayPass(err error) bool
	// skipped is how many rows were not staged, because the target holds them.
	skipped() int64
	// mostDiffer reports whether nearly all that is staged is known to change the
	// target.
	mostDiffer() bool
	// sparse reports whether what is staged is so little of the target that each row is
	// looked for by its key, whatever the planner thinks.
	sparse() bool
	// unchangedKeys is the SQL of the keys of rows that the load found unchanged, each with
	// the place of its load; those of an arrival that is loaded again are left out.
	unchangedKeys(ctx context.Context) (string, error)
	// confirmOthers carries out a statement for the keys of the target that the load did not
	// have.
	confirmOthers(ctx context.Context, insert string) error
	// replacedRows is the SQL that leaves those rows t of replaced arrivals out which are
	// known to stay as they are.
	replacedRows(ctx context.Context) (string, error)
	// close ends what runs beside the load.
	close() error
}

// stagedWay is the way of most loads.
type stagedWay struct{ *Load }

func (w *stagedWay) copyIn(ctx context.Context, src Source, expected int64) error {
	b := NewBatch(w.table.Table, expected, w.table.bytewise)
	n, err := w.copyFrom(ctx, src, b, w.stage)
	if err != nil {
		return err
	}
	copy(w.staged, b.rows)
	return w.received(ctx, n, b.marked)
}

func (w *stagedWay) lock(ctx context.Context, demand fence) error {
	if err := w.lockTarget(ctx, demand); err != nil {
		return err
	}
	return w.takePlaces(ctx)
}

func (w *stagedWay) merge(ctx context.Context, from origin, try int) ([]balance.Balance, error) {
	if err := w.savepoint(ctx, "merge"); err != nil {
		return nil, err
	}
	w.turnedOff, w.grown, w.kept = nil, make([]int64, len(w.staged)), 0
	err := w.stand(ctx)
	var counts []balance.Balance
	if err == nil {
		counts, err = w.write(ctx, from, try)
	}
	if err == nil {
		err = w.remember(ctx, counts)
	}
	if err != nil {
		if undo := w.rollBack(ctx, "merge"); undo != nil {
			return nil, errors.Join(err, undo)
		}
		return nil, err
	}
	return counts, w.exec(ctx, "RELEASE SAVEPOINT merge")
}

func (w *stagedWay) mayPass(err error) bool { return errors.Is(err, errMoved) || w.isKeyConflict(err) }

func (w *stagedWay) unchangedKeys(context.Context) (string, error) {
	return "SELECT " + w.nthOf() + " AS load, " + w.keysHash() + " AS key FROM " + w.stage + " s WHERE " + w.notGone() +
		" AND NOT EXISTS (SELECT 1 FROM pg_temp.mullein_plan p WHERE p.sid = s.ctid AND p.class <> 'l')", nil
}

func (w *stagedWay) confirmOthers(ctx context.Context, insert string) error {
	_, err := w.s.conn.Exec(ctx, insert+w.others("NOT EXISTS (SELECT 1 FROM "+w.stage+" s WHERE "+w.sameKey()+")"))
	return err
}

// others is the SQL of the keys of some rows t of the target, as they are kept of a load
// that did not have them.
func (l *Load) others(which string) string {
	return fmt.Sprintf("SELECT %d, %d, true, coalesce(array_agg(%s), '{}') FROM %s t WHERE %s", l.nth[0], l.table.id,
		l.table.keyHash("t"), l.name(), which)
}

func (w *stagedWay) replacedRows(context.Context) (string, error) { return "", nil }

func (w *stagedWay) skipped() int64   { return 0 }
func (w *stagedWay) mostDiffer() bool { return false }
func (w *stagedWay) sparse() bool     { return false }
func (w *stagedWay) close() error     { return nil }

// fence is what a load demands of its feed: that nobody has claimed it since, or
// nothing, for who does not work the feed but does something in between that cannot
// be half done.
type fence struct {
	feed   string
	number int64
	none   bool
}

// Lock demands that the feed's fence is still the highest and locks the target
// against other loads, each in a statement of its own, so that what follows
// sees what those before us committed.
func (l *Load) Lock(ctx context.Context, feed string, number int64) error {
	return l.way.lock(ctx, fence{feed: feed, number: number})
}

// LockUnfenced is Lock for who does not work the feed, and does something in between
// that cannot be half done.
func (l *Load) LockUnfenced(ctx context.Context, feed string) error {
	return l.way.lock(ctx, fence{feed: feed, none: true})
}

func (l *Load) lockTarget(ctx context.Context, demand fence) error {
	var highest int64
	lock := &pgx.Batch{}
	lock.Queue("SELECT fence FROM mullein.feed WHERE feed = $1 FOR UPDATE", demand.feed)
	lock.Queue("SELECT pg_advisory_xact_lock($1, $2)", lockSpace, int32(l.table.oid))
	answers := l.s.conn.SendBatch(ctx, lock)
	err := answers.QueryRow().Scan(&highest)
	if demand.none && errors.Is(err, pgx.ErrNoRows) { // nobody has worked the feed yet
		err = nil
	}
	if err != nil {
		answers.Close()
		return fmt.Errorf("look at the fence: %w", err)
	}
	if highest != demand.number && !demand.none {
		answers.Close() // the lock goes with the transaction
		return ErrFenced
	}
	if err := answers.Close(); err != nil {
		return fmt.Errorf("lock %s: %w", l.table, err)
	}
	return nil
}
