package ledger

import (
	"context"
	"database/sql"
	"sync"
	"time"
)

// Sessions returns how many sessions with the database there are, and what they do.
func (l *Ledger) Sessions() sql.DBStats { return l.sql.Stats() }

// allWork is the work of all time up to an hour, which does not change any more.
type allWork struct {
	mu    sync.Mutex
	until time.Time
	feeds map[string]Volume
}

// AllVolumes returns the work of all time, of all feeds together or of each.
func (l *Ledger) AllVolumes(ctx context.Context, perFeed bool) ([]Volume, error) {
	const all = 1 << 20
	l.work.mu.Lock()
	defer l.work.mu.Unlock()
	now := time.Now().UTC()
	// The hour before may still get work of a transaction that began in it.
	until := now.Truncate(time.Hour).Add(-time.Hour)
	if l.work.until.Before(until) {
		before, _, err := l.Volumes(ctx, VolumeQuery{To: until, PerFeed: true, Most: all})
		if err != nil {
			return nil, err
		}
		l.work.until, l.work.feeds = until, map[string]Volume{}
		for _, v := range before {
			l.work.feeds[v.Feed] = v
		}
	}
	recent, _, err := l.Volumes(ctx, VolumeQuery{From: l.work.until, To: now.Add(time.Hour), PerFeed: true, Most: all})
	if err != nil {
		return nil, err
	}
	feeds := make(map[string]Volume, len(l.work.feeds))
	for name, v := range l.work.feeds {
		feeds[name] = v
	}
	for _, v := range recent {
		feeds[v.Feed] = feeds[v.Feed].plus(v)
	}
	out := []Volume{{}}
	for name, v := range feeds {
		v.Feed = name
		if perFeed {
			out = append(out, v)
		}
		out[0] = out[0].plus(v)
	}
	if perFeed {
		return out[1:], nil
	}
	return out, nil
}

// Gauges is how things stand now.
type Gauges struct {
	OldestWaiting float64             // seconds
	Services      int64               // that are alive
	Slots         map[string]int64    // of the last 24 hours, by state
	Problems      map[string]int64    // that last, by kind
	Notices       map[[2]string]int64 // by outlet and state
	Lag           Spread              // of the last hour
}

// Gauges returns how things stand now.
func (l *Ledger) Gauges(ctx context.Context) (out Gauges, err error) {
	err = l.with(ctx).Raw(`SELECT coalesce((SELECT extract(epoch FROM now() - noticed_at) FROM arrival
			WHERE state IN ('noticed', 'settling', 'ready', 'loading') ORDER BY id LIMIT 1), 0),
			(SELECT count(*) FROM service WHERE lease_until >= now())`).Row().Scan(&out.OldestWaiting, &out.Services)
	if err != nil {
		return out, err
	}
	var rows []struct {
		What, Name, More string
		N                int64
	}
	err = l.with(ctx).Raw(`SELECT 'slot' AS what, state AS name, '' AS more, count(*) AS n FROM slot
			WHERE due_at > now() - interval '24 hours' AND due_at <= now() GROUP BY state
		UNION ALL SELECT 'problem', kind, '', count(*) FROM problem WHERE over_at IS NULL GROUP BY kind
		UNION ALL SELECT 'notice', outlet, state, count(*) FROM notice GROUP BY outlet, state`).Scan(&rows).Error
	if err != nil {
		return out, err
	}
	out.Slots, out.Problems, out.Notices = map[string]int64{}, map[string]int64{}, map[[2]string]int64{}
	for _, r := range rows {
		switch r.What {
		case "slot":
			out.Slots[r.Name] = r.N
		case "problem":
			out.Problems[r.Name] = r.N
		default:
			out.Notices[[2]string{r.Name, r.More}] = r.N
		}
	}
	now := time.Now()
	_, last, err := l.Volumes(ctx, VolumeQuery{From: now.Add(-2 * time.Hour), To: now.Add(time.Hour), Most: 1})
	out.Lag = last.Lag
	return out, err
}

// WaitingByFeed returns how many arrivals of each feed wait or are worked.
func (l *Ledger) WaitingByFeed(ctx context.Context) (map[string]int64, error) {
	return l.byFeed(ctx, `SELECT f.name AS feed, coalesce(sum(t.n) FILTER (WHERE t.state IN ('noticed', 'settling', 'ready',
		'loading')), 0) AS n FROM feed f LEFT JOIN tally t ON t.feed = f.name WHERE f.removed_at IS NULL GROUP BY f.name`)
}

// NeedsByFeed returns how much of each feed needs a person; feeds of which nothing does are left
// out.
func (l *Ledger) NeedsByFeed(ctx context.Context) (map[string]int64, error) {
	return l.byFeed(ctx, `SELECT feed, sum(n) AS n FROM (
			SELECT a.feed, count(*) AS n FROM arrival a WHERE `+needsPerson+` GROUP BY a.feed
			UNION ALL SELECT feed, count(*) FROM slot WHERE `+wrongSlot+` GROUP BY feed) w
		WHERE feed IN (SELECT name FROM feed WHERE removed_at IS NULL) GROUP BY feed`)
}

func (l *Ledger) byFeed(ctx context.Context, query string) (map[string]int64, error) {
	var rows []struct {
		Feed string
		N    int64
	}
	err := l.with(ctx).Raw(query).Scan(&rows).Error
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Feed] = r.N
	}
	return out, err
}
