package ledger

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
)

// Follow calls news whenever there may be new events, until ctx ends. It goes
// on by itself when the database was away.
func (l *Ledger) Follow(ctx context.Context, news func()) {
	for ctx.Err() == nil {
		if err := l.listen(ctx, news); err != nil && ctx.Err() == nil {
			news() // what happened meanwhile may have been missed
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (l *Ledger) listen(ctx context.Context, news func()) error {
	conn, err := l.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error {
		c := driver.(*stdlib.Conn).Conn()
		if _, err := c.Exec(ctx, "LISTEN "+pgx.Identifier{EventChannel}.Sanitize()); err != nil {
			return err
		}
		news()
		for {
			if _, err := c.WaitForNotification(ctx); err != nil {
				// The connection is broken or still listens: it must not be used again.
				_ = c.Close(context.WithoutCancel(ctx))
				return err
			}
			news()
		}
	})
}
