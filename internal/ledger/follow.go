package ledger

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
)

// followers are those who are told of news, over one session for all of them.
type followers struct {
	mu   sync.Mutex
	all  map[*func()]bool
	hear func([]Nudged)     // nil for nobody
	stop context.CancelFunc // of the listening; nil while nobody follows
}

// Follow calls news whenever there may be new events, until ctx ends. It goes
// on by itself when the database was away. news must not wait.
func (l *Ledger) Follow(ctx context.Context, news func()) {
	f := &l.followers
	f.mu.Lock()
	if f.all == nil {
		f.all = map[*func()]bool{}
	}
	f.all[&news] = true
	if f.stop == nil {
		listening, stop := context.WithCancel(context.WithoutCancel(ctx))
		f.stop = stop
		go l.listenOn(listening)
	}
	f.mu.Unlock()
	news() // what happened before may not be known
	<-ctx.Done()
	f.mu.Lock()
	defer f.mu.Unlock()
	if delete(f.all, &news); len(f.all) == 0 {
		f.stop()
		f.stop = nil
	}
}

func (l *Ledger) tellFollowers() {
	l.followers.mu.Lock()
	defer l.followers.mu.Unlock()
	for news := range l.followers.all {
		(*news)()
	}
}

// listenOn listens until ctx ends, also when the database was away meanwhile.
func (l *Ledger) listenOn(ctx context.Context) {
	for ctx.Err() == nil {
		if err := l.listen(ctx); err != nil && ctx.Err() == nil {
			l.tellFollowers() // what happened meanwhile may have been missed
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (l *Ledger) listen(ctx context.Context) error {
	conn, err := l.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error {
		c := driver.(*stdlib.Conn).Conn()
		for _, channel := range []string{EventChannel, nudgeChannel} {
			if _, err := c.Exec(ctx, "LISTEN "+pgx.Identifier{channel}.Sanitize()); err != nil {
				return err
			}
		}
		l.tellFollowers()
		for {
			n, err := c.WaitForNotification(ctx)
			if err != nil {
				// The connection is broken or still listens: it must not be used again.
				_ = c.Close(context.WithoutCancel(ctx))
				return err
			}
			if n.Channel == nudgeChannel {
				l.hearNudges(n.Payload)
			} else {
				l.tellFollowers()
			}
		}
	})
}
