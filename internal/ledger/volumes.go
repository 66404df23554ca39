package ledger

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/balance"
)

// Volume is work done in a span.
type Volume struct {
	At        time.Time       // where the span begins; the zero time for all of it
	Feed      string          // "" for all
	Files     int64           // loaded
	Refused   int64           // files
	Bytes     int64           // of the files that were loaded
	Seconds   float64         // of work, from the opening of files to their end
	DBSeconds float64         // of which the database had the rows
	Lag       Spread          `gorm:"-"` // from the coming of files to their being visible
	Late      Spread          `gorm:"-"` // from when slots were due to the coming of their files
	Balance   balance.Balance `gorm:"-"`
}

// Spread counts files by powers of two of seconds: the first below 1 s, then below 2 s, 4 s and so
// on; the last without a bound.
type Spread []int64

// spreadSteps is how many steps a spread has.
const spreadSteps = 20

// Percentile returns below how many seconds the share of the files stayed, such as 0.95; ok is
// false where there are none.
func (s Spread) Percentile(share float64) (seconds float64, ok bool) {
	var all, below int64
	for _, n := range s {
		all += n
	}
	for i, n := range s {
		if below += n; all > 0 && float64(below) >= share*float64(all) {
			return float64(int64(1) << i), true
		}
	}
	return 0, false
}

// outcomes are the columns of the balance.
var outcomes = []string{"read", "inserted", "updated", "unchanged", "outdated", "kept", "deleted", "duplicate", "rejected",
	"left_out", "withheld", "removed"}

// spreadOf is the SQL that counts files by powers of two of a time in seconds.
func spreadOf(seconds, of string) string {
	steps := make([]string, spreadSteps)
	for i := range steps {
		switch i {
		case 0:
			steps[i] = fmt.Sprintf("count(*) FILTER (WHERE %s AND %s < 1)", of, seconds)
		case spreadSteps - 1:
			steps[i] = fmt.Sprintf("count(*) FILTER (WHERE %s AND %s >= %d)", of, seconds, 1<<(i-1))
		default:
			steps[i] = fmt.Sprintf("count(*) FILTER (WHERE %s AND %s >= %d AND %s < %d)", of, seconds, 1<<(i-1), seconds, 1<<i)
		}
	}
	return "ARRAY[" + strings.Join(steps, ", ") + "]::integer[]"
}

// volumeOfEnded is the SQL that adds what ended (u) to the volumes.
var volumeOfEnded = func() string {
	columns, values, sums := []string{}, []string{}, []string{}
	add := func(column, value, sum string) {
		columns, values = append(columns, column), append(values, value)
		if sum == "" {
			sum = "v." + column + " + excluded." + column
		}
		sums = append(sums, column+" = "+sum)
	}
	const loaded = "u.state = 'loaded'"
	add("files", "count(*) FILTER (WHERE "+loaded+")", "")
	add("refused", "count(*) FILTER (WHERE u.state = 'refused')", "")
	add("bytes", "coalesce(sum(u.size) FILTER (WHERE "+loaded+"), 0)", "")
	add("written", "sum((u.balance->>'inserted')::bigint + (u.balance->>'updated')::bigint)", "")
	// What ends together was worked together: its time counts once.
	add("seconds", "coalesce(extract(epoch FROM max(u.finished_at) - min(u.opened_at)), 0)", "")
	add("db_seconds", "coalesce(extract(epoch FROM max(u.finished_at) - min(u.staged_at)), 0)", "")
	for _, o := range outcomes {
		add(o, "coalesce(sum((u.balance->>'"+o+"')::bigint), 0)", "")
	}
	const lag, late = "extract(epoch FROM u.finished_at - u.came_at)", "extract(epoch FROM u.came_at - s.due_at)"
	add("lag", spreadOf(lag, loaded+" AND u.came_at IS NOT NULL"), "add_counts(v.lag, excluded.lag)")
	add("late", spreadOf(late, loaded+" AND u.came_at > s.due_at"), "add_counts(v.late, excluded.late)")
	return "INSERT INTO volume AS v (feed, hour, " + strings.Join(columns, ", ") +
		") SELECT u.feed, date_trunc('hour', u.finished_at), " + strings.Join(values, ", ") +
		" FROM u LEFT JOIN slot s ON s.id = u.due_slot WHERE u.state IN ('loaded', 'refused') AND NOT u.was AND NOT u.is_list" +
		" GROUP BY 1, 2 ON CONFLICT (feed, hour) DO UPDATE SET " + strings.Join(sums, ", ") + " RETURNING 1"
}()

// VolumeQuery says which work is wanted.
type VolumeQuery struct {
	From, To time.Time
	Feed     string // "" for all
	Supplier string // "" for all
	By       string // hour, day or month; "" for the span as a whole
	Zone     string // in which days and months are
	PerFeed  bool   // apart by feed, those with the most seconds of work first
	Most     int
}

// hoursKept is how long work is known by the hour; then by the day.
const hoursKept = 90 * 24 * time.Hour

// Volumes returns the work of a span, in order of time, or by feed.
func (l *Ledger) Volumes(ctx context.Context, q VolumeQuery) ([]Volume, error) {
	sums := []string{"sum(files) AS files", "sum(refused) AS refused", "sum(bytes) AS bytes", "sum(seconds) AS seconds",
		"sum(db_seconds) AS db_seconds", "sum_counts(lag)::text AS lag", "sum_counts(late)::text AS late"}
	for _, o := range outcomes {
		sums = append(sums, "sum("+o+") AS "+o)
	}
	at, order := "NULL::timestamptz", "at"
	if q.By != "" {
		at = "date_trunc(@by, hour, @zone)"
	}
	feed := "''"
	if q.PerFeed {
		feed, order = "feed", "seconds DESC, feed"
	}
	var rows []struct {
		Volume
		balance.Balance
		At   *time.Time
		Lag  string
		Late string
	}
	err := l.with(ctx).Raw(`SELECT `+at+` AS at, `+feed+` AS feed, `+strings.Join(sums, ", ")+` FROM (
			SELECT * FROM volume WHERE hour >= @from AND hour < @to
			UNION ALL SELECT * FROM volume_day WHERE day >= @from AND day < @to) v
		WHERE (@feed = '' OR feed = @feed)
			AND (@supplier = '' OR feed IN (SELECT name FROM feed WHERE supplier = @supplier))
		GROUP BY 1, 2 HAVING count(*) > 0 ORDER BY `+order+` LIMIT @most`, map[string]any{"by": q.By, "zone": q.Zone,
		"from": q.From, "to": q.To, "feed": q.Feed, "supplier": q.Supplier, "most": q.Most}).Scan(&rows).Error
	out := make([]Volume, 0, len(rows))
	for i := range rows {
		r := &rows[i]
		v := r.Volume
		v.Balance, v.Lag, v.Late = r.Balance, spread(r.Lag), spread(r.Late)
		if r.At != nil {
			v.At = *r.At
		}
		out = append(out, v)
	}
	return out, err
}

// spread reads counts as the database writes them.
func spread(text string) (out Spread) {
	for _, n := range strings.Split(strings.Trim(text, "{}"), ",") {
		var k int64
		if _, err := fmt.Sscan(n, &k); err == nil {
			out = append(out, k)
		}
	}
	return out
}

// SumVolumes makes one row a day of the hours of feeds that are older than hours are kept, up to
// so many of them, and drops days that are older than ten years. It returns how many hours it
// took.
func (l *Ledger) SumVolumes(ctx context.Context, now time.Time, most int) (n int64, err error) {
	columns := append([]string{"files", "refused", "bytes", "written", "seconds", "db_seconds"}, outcomes...)
	var sums, sets []string
	for _, c := range columns {
		sums, sets = append(sums, "sum("+c+")"), append(sets, c+" = v."+c+" + excluded."+c)
	}
	for _, c := range []string{"lag", "late"} {
		columns = append(columns, c)
		sums, sets = append(sums, "sum_counts("+c+")"), append(sets, c+" = add_counts(v."+c+", excluded."+c+")")
	}
	list := strings.Join(columns, ", ")
	err = l.with(ctx).Transaction(func(tx *gorm.DB) error {
		const years = 10
		if err := tx.Exec("DELETE FROM volume_day WHERE day < ?", now.AddDate(-years, 0, 0)).Error; err != nil {
			return err
		}
		return tx.Raw(`WITH old AS (DELETE FROM volume WHERE (feed, hour) IN (SELECT feed, hour FROM volume WHERE hour < ?
				ORDER BY hour LIMIT ?) RETURNING *),
			days AS (INSERT INTO volume_day AS v (feed, day, `+list+`) SELECT feed, date_trunc('day', hour, 'UTC'), `+
			strings.Join(sums, ", ")+` FROM old GROUP BY 1, 2 ON CONFLICT (feed, day) DO UPDATE SET `+
			strings.Join(sets, ", ")+` RETURNING 1)
			SELECT count(*) FROM old WHERE (SELECT count(*) FROM days) >= 0`, now.Add(-hoursKept), most).Scan(&n).Error
	})
	return n, err
}
