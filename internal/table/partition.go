package table

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/core/tabular"
)

// span is the range of a partition: from one time to before another.
type span struct{ from, to time.Time }

var bound = regexp.MustCompile(`FROM \('([^']+)'\) TO \('([^']+)'\)`)

func readBound(s string) (span, bool) {
	m := bound.FindStringSubmatch(s)
	if m == nil {
		return span{}, false
	}
	read := func(s string) (time.Time, error) {
		for _, layout := range []string{"2006-01-02", "2006-01-02 15:04:05-07", "2006-01-02 15:04:05"} {
			if t, err := time.Parse(layout, s); err == nil {
				return t, nil
			}
		}
		return time.Time{}, fmt.Errorf("%q is no time", s)
	}
	from, err := read(m[1])
	to, err2 := read(m[2])
	return span{from, to}, err == nil && err2 == nil
}

// around returns the range that a day falls into: its month, where the partitions
// that are there are months, else the day.
func around(day time.Time, months bool) span {
	if months {
		first := time.Date(day.Year(), day.Month(), 1, 0, 0, 0, 0, time.UTC)
		return span{first, first.AddDate(0, 1, 0)}
	}
	return span{day, day.AddDate(0, 0, 1)}
}

// mostPartitions bounds how many a load makes: a file of strange dates is no
// reason to make thousands.
const mostPartitions = 400

// makePartitions makes the partitions that the staged rows need, in a short
// transaction of its own, so that readers do not wait for the load.
func (l *Load) makePartitions(ctx context.Context) error {
	column := l.table.ranges
	i := l.table.index(column)
	if column == "" || i < 0 {
		return nil
	}
	day := l.column(column) + "::date"
	switch l.table.Own[i].Kind {
	case tabular.Instant:
		day = "(" + l.column(column) + " AT TIME ZONE 'UTC')::date"
	case tabular.Day:
	default:
		return nil
	}
	rows, err := l.s.conn.Query(ctx, "SELECT DISTINCT "+day+" FROM "+l.stage+" s WHERE "+l.column(column)+
		" IS NOT NULL ORDER BY 1")
	if err != nil {
		return fmt.Errorf("look for days: %w", err)
	}
	days, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	if err != nil {
		return fmt.Errorf("look for days: %w", err)
	}
	wanted, err := l.missing(ctx, days)
	if err != nil || len(wanted) == 0 {
		return err
	}
	if len(wanted) > mostPartitions {
		return fmt.Errorf("the rows need %d further partitions of %s; %d at a time are the most: are the dates "+
			"right?", len(wanted), l.table, mostPartitions)
	}
	return pgx.BeginFunc(ctx, l.s.db.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '20s'"); err != nil {
			return err
		}
		for _, w := range wanted {
			name := fmt.Sprintf("%.50s_p%s", l.table.Name, w.from.Format("20060102"))
			if w.to.Sub(w.from) > 24*time.Hour {
				name = fmt.Sprintf("%.50s_p%s", l.table.Name, w.from.Format("200601"))
			}
			statement := "CREATE TABLE IF NOT EXISTS " + quote(l.table.Schema, name) + " PARTITION OF " + l.name() +
				" FOR VALUES FROM ('" + w.from.Format(time.DateOnly) + "') TO ('" + w.to.Format(time.DateOnly) + "')"
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("make partition %s: %w", name, err)
			}
		}
		return nil
	})
}

// missing returns the ranges that no partition covers. A default partition covers
// all.
func (l *Load) missing(ctx context.Context, days []time.Time) ([]span, error) {
	rows, err := l.s.conn.Query(ctx, "SELECT pg_get_expr(c.relpartbound, c.oid) FROM pg_inherits i JOIN pg_class c ON "+
		"c.oid = i.inhrelid WHERE i.inhparent = $1 ORDER BY c.oid", l.table.oid)
	if err != nil {
		return nil, fmt.Errorf("look at partitions: %w", err)
	}
	bounds, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("look at partitions: %w", err)
	}
	var have []span
	months := false
	for _, b := range bounds {
		s, ok := readBound(b)
		if !ok { // the default, or bounds that are no times
			return nil, nil
		}
		have = append(have, s)
		months = s.from.Day() == 1 && s.to.Equal(s.from.AddDate(0, 1, 0))
	}
	var out []span
	for _, d := range days {
		covered := false
		for _, h := range append(have, out...) {
			covered = covered || !d.Before(h.from) && d.Before(h.to)
		}
		if !covered {
			out = append(out, around(d, months))
		}
	}
	return out, nil
}
