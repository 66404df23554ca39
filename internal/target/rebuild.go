package target

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/balance"
)

// InForce gives the loads of a feed into a table that are in force, in order.
func (d *Database) InForce(ctx context.Context, t *Fitted, feed string) ([]LoadEntry, error) {
	return loads(ctx, d.pool, "WHERE target = $1 AND feed = $2 AND active ORDER BY nth", t.id, feed)
}

// OtherFeeds gives the feeds beside one that have loaded into a table.
func (d *Database) OtherFeeds(ctx context.Context, t *Fitted, feed string) ([]string, error) {
	rows, err := d.pool.Query(ctx, "SELECT DISTINCT feed FROM mullein.load WHERE target = $1 AND feed <> $2 ORDER BY 1", t.id, feed)
	if err != nil {
		return nil, fmt.Errorf("look for other feeds: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// EmptyOut takes all rows out of the target, for loads that follow in the same
// transaction, and ends what the journal knows: it begins anew with them.
func (l *Load) EmptyOut(ctx context.Context) error {
	for _, statement := range []string{
		"DELETE FROM " + l.name(),
		"DELETE FROM mullein.change WHERE target = " + l.target(),
		"UPDATE mullein.load SET active = false, journal = false WHERE target = " + l.target(),
		"UPDATE mullein.target SET rows = 0 WHERE id = " + l.target(),
	} {
		if err := l.exec(ctx, statement); err != nil {
			return fmt.Errorf("empty %s: %w", l.table, err)
		}
	}
	return nil
}

// Next makes the load ready for the rows of another file, in the same
// transaction and under the same lock.
func (l *Load) Next(ctx context.Context) error {
	if err := l.exec(ctx, "DELETE FROM "+l.stage+"; DELETE FROM pg_temp.mullein_plan; DELETE FROM pg_temp.mullein_candidate"); err != nil {
		return fmt.Errorf("make ready for the next file: %w", err)
	}
	l.staged, l.counts, l.writers = make([]int64, 1), make([]balance.Balance, 1), nil
	return l.takePlaces(ctx)
}
