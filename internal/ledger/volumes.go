package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"mullein/internal/core/balance"
)

// Volume is work done in a span.
type Volume struct {
	At            time.Time       // where the span begins; the zero time for all of it
	Feed          string          // "" for all
	Supplier      string          // where work is asked for apart by supplier
	Files         int64           // loaded
	Refused       int64           // files
	Bytes         int64           // of the files that were loaded
	Seconds       float64         // of work, from the opening of files to their end
	DBSeconds     float64         // of which the database had the rows
	SettleSeconds float64         // that files settled, summed over files
	WaitSeconds   float64         // that files waited for their turn when they were whole, summed over files
	Requests      int64           // of places
	Lag           Spread          `gorm:"-"` // from the coming of files to their being visible
	Late          Spread          `gorm:"-"` // from when slots were due to the coming of their files
	Balance       balance.Balance `gorm:"-"`
}

// Spread counts files by powers of four of seconds: the first below 1 s, then below 4 s, 16 s and so
// on; the last without a bound.
type Spread [spreadSteps]int64

// spreadSteps is how many steps a spread has.
const spreadSteps = 10

// Percentile returns below how many seconds the share of the files stayed, such as 0.95; ok is
// false where there are none, or not so many below the last bound.
func (s *Spread) Percentile(share float64) (seconds float64, ok bool) {
	var all, below int64
	for _, n := range s {
		all += n
	}
	for i, n := range s[:spreadSteps-1] {
		if below += n; all > 0 && float64(below) >= share*float64(all) {
			return float64(int64(1) << (2 * i)), true
		}
	}
	return 0, false
}

// outcomes are the columns of the balance.
var outcomes = []string{"read", "inserted", "updated", "unchanged", "outdated", "kept", "deleted", "duplicate", "rejected",
	"left_out", "withheld", "removed"}

// spreadOf calls f with each column of a spread, and the SQL that counts files in it by a time in
// seconds.
func spreadOf(name, seconds, of string, f func(column, count string)) {
	for i := range spreadSteps {
		column := fmt.Sprintf("%s_%d", name, i)
		from, to := fmt.Sprintf(" AND %s >= %d", seconds, 1<<(2*max(0, i-1))), fmt.Sprintf(" AND %s < %d", seconds, 1<<(2*i))
		switch i {
		case 0:
			from = ""
		case spreadSteps - 1:
			to = ""
		}
		f(column, "count(*) FILTER (WHERE "+of+from+to+")")
	}
}

// volumeOfEnded is the SQL that adds what ended (u) to the volumes.
var volumeOfEnded = func() string {
	columns, values, sums := []string{}, []string{}, []string{}
	add := func(column, value string) {
		columns, values = append(columns, column), append(values, value)
		sums = append(sums, column+" = v."+column+" + excluded."+column)
	}
	const loaded = "u.state = 'loaded'"
	add("files", "count(*) FILTER (WHERE "+loaded+")")
	add("refused", "count(*) FILTER (WHERE u.state = 'refused')")
	add("bytes", "coalesce(sum(u.size) FILTER (WHERE "+loaded+"), 0)")
	add("written", "sum((u.balance->>'inserted')::bigint + (u.balance->>'updated')::bigint)")
	// What ends together was worked together: its time counts once.
	add("seconds", "coalesce(extract(epoch FROM max(u.finished_at) - min(u.opened_at)), 0)")
	add("db_seconds", "coalesce(extract(epoch FROM max(u.finished_at) - min(u.staged_at)), 0)")
	add("settle_seconds", "coalesce(sum(extract(epoch FROM u.ready_at - u.settling_at)) FILTER (WHERE u.generation <= 1), 0)")
	add("wait_seconds", "coalesce(sum(extract(epoch FROM u.opened_at - u.ready_at)), 0)")
	for _, o := range outcomes {
		add(o, "coalesce(sum((u.balance->>'"+o+"')::bigint), 0)")
	}
	const lag, late = "extract(epoch FROM u.finished_at - u.came_at)", "extract(epoch FROM u.came_at - s.due_at)"
	spreadOf("lag", lag, loaded+" AND u.came_at IS NOT NULL", add)
	spreadOf("late", late, loaded+" AND u.came_at > s.due_at", add)
	return "INSERT INTO volume AS v (feed, hour, " + strings.Join(columns, ", ") +
		") SELECT u.feed, date_trunc('hour', u.finished_at), " + strings.Join(values, ", ") +
		" FROM u LEFT JOIN slot s ON s.id = u.due_slot WHERE u.state IN ('loaded', 'refused') AND NOT u.was AND NOT u.is_list" +
		" GROUP BY 1, 2 ON CONFLICT (feed, hour) DO UPDATE SET " + strings.Join(sums, ", ") + " RETURNING 1"
}()

// CountRequests adds requests that were made of places at a time, by the feeds for which they were made.
func (l *Ledger) CountRequests(ctx context.Context, at time.Time, byFeed map[string]int64) error {
	text, err := json.Marshal(byFeed)
	if err != nil || len(byFeed) == 0 {
		return err
	}
	return l.with(ctx).Exec(`INSERT INTO volume AS v (feed, hour, requests) SELECT key, date_trunc('hour', ?::timestamptz), value::bigint
		FROM jsonb_each_text(?::jsonb) ON CONFLICT (feed, hour) DO UPDATE SET requests = v.requests + excluded.requests`, at, string(text)).Error
}

// summed are the columns of volumes that are sums.
var summed = func() []string {
	out := append([]string{"files", "refused", "bytes", "written", "seconds", "db_seconds", "settle_seconds", "wait_seconds", "requests"}, outcomes...)
	add := func(column, _ string) { out = append(out, column) }
	spreadOf("lag", "", "", add)
	spreadOf("late", "", "", add)
	return out
}()

// VolumeQuery says which work is wanted. It is cut into hours.
type VolumeQuery struct {
	From, To time.Time
	Feed     string // "" for all
	Supplier string // "" for all
	By       string // hour, or day, week or month of UTC; "" for the span as a whole
	Most     int
	// Work apart by feed, or by supplier: those with the most seconds of work first, or each span of time in turn.
	PerFeed, PerSupplier bool
}

// hoursKept is how long work is known by the hour; then by the day.
const hoursKept = 90 * 24 * time.Hour

// plus returns the work of two spans as one.
func (v Volume) plus(o Volume) Volume {
	v.Files, v.Refused, v.Bytes, v.Requests = v.Files+o.Files, v.Refused+o.Refused, v.Bytes+o.Bytes, v.Requests+o.Requests
	v.Seconds, v.DBSeconds = v.Seconds+o.Seconds, v.DBSeconds+o.DBSeconds
	v.SettleSeconds, v.WaitSeconds = v.SettleSeconds+o.SettleSeconds, v.WaitSeconds+o.WaitSeconds
	v.Balance = v.Balance.Plus(o.Balance)
	for i := range spreadSteps {
		v.Lag[i], v.Late[i] = v.Lag[i]+o.Lag[i], v.Late[i]+o.Late[i]
	}
	return v
}

// Volumes returns the work of a span, in order of time, or by feed, and all of it in one. Days that are over are taken
// from their sums, save where hours are asked for.
func (l *Ledger) Volumes(ctx context.Context, q VolumeQuery) (list []Volume, total Volume, err error) {
	list, err = l.volumes(ctx, q)
	if err != nil {
		return nil, total, err
	}
	whole := list
	if len(list) > q.Most {
		list = list[:q.Most]
		whole, err = l.volumes(ctx, VolumeQuery{From: q.From, To: q.To, Feed: q.Feed, Supplier: q.Supplier, Most: 1})
	}
	for _, v := range whole {
		total = total.plus(v)
	}
	return list, total, err
}

// volumes returns one more than the most that are asked for, where there are more.
func (l *Ledger) volumes(ctx context.Context, q VolumeQuery) (list []Volume, err error) {
	feed, supplier, at, order, suppliers := "''::text", "''::text", "NULL::timestamptz", "at", ""
	switch {
	case q.PerFeed:
		feed, order = "v.feed", "seconds DESC, feed"
	case q.PerSupplier:
		supplier, order = "coalesce(f.supplier, '')", "seconds DESC, supplier"
		suppliers = " LEFT JOIN (SELECT name, supplier FROM feed) f ON f.name = v.feed"
	}
	if q.By != "" {
		at = "date_trunc(@by, hour, 'UTC')"
		if q.PerSupplier {
			order = "at, supplier"
		}
	}
	narrowed := q.Feed != "" || q.Supplier != ""
	only, days := "true", "feed = ''"
	if narrowed {
		only = "(@feed = '' OR feed = @feed) AND (@supplier = '' OR feed IN (SELECT name FROM feed WHERE supplier = @supplier))"
	}
	if narrowed || q.PerFeed || q.PerSupplier {
		days = "feed <> '' AND " + only
	}
	sums, columns := make([]string, len(summed)), strings.Join(summed, ", ")
	for i, c := range summed {
		sums[i] = "sum(" + c + ") AS " + c
	}
	for _, of := range []string{"lag", "late"} { // the sums of a spread as one
		var steps []string
		spreadOf(of, "", "", func(column, _ string) { steps = append(steps, "sum("+column+")") })
		sums = append(sums, "ARRAY["+strings.Join(steps, ", ")+"]::text AS "+of)
	}
	named := map[string]any{"by": q.By, "from": q.From.UTC().Truncate(time.Hour), "to": q.To, "feed": q.Feed, "supplier": q.Supplier,
		"most": q.Most}
	from := "SELECT feed, hour, " + columns + " FROM volume WHERE hour >= @from AND hour < @to AND " + only
	if q.By != "hour" {
		first, last, err := l.summedDays(ctx, q)
		if err != nil {
			return nil, err
		}
		if first.Before(last) {
			named["first"], named["last"] = first, last
			hours := "SELECT feed, hour, " + columns + " FROM volume WHERE " + only
			whole := "SELECT feed, day, " + columns + " FROM volume_day WHERE " + days
			from = hours + " AND hour >= @from AND hour < @first UNION ALL " + hours + " AND hour >= @last AND hour < @to UNION ALL "
			begin, end, err := l.summedMonths(ctx, first, last)
			if err != nil {
				return nil, err
			}
			if (q.By == "" || q.By == "month") && begin.Before(end) {
				named["begin"], named["end"] = begin, end
				from += whole + " AND day >= @first AND day < @begin UNION ALL " + whole + " AND day >= @end AND day < @last UNION ALL " +
					"SELECT feed, month, " + columns + " FROM volume_month WHERE month >= @begin AND month < @end AND " + days
			} else {
				from += whole + " AND day >= @first AND day < @last"
			}
		}
	}
	var rows []struct {
		At *time.Time
		Volume
		balance.Balance
		Lag, Late string
	}
	spans := "SELECT " + at + " AS at, " + feed + " AS feed, " + supplier + " AS supplier, " + columns + " FROM (" + from + ") v" + suppliers
	err = l.with(ctx).Raw("SELECT at, feed, supplier, "+strings.Join(sums, ", ")+" FROM ("+spans+
		") v GROUP BY at, feed, supplier HAVING sum(files) + sum(refused) + sum(requests) > 0 ORDER BY "+order+" LIMIT @most + 1", named).Scan(&rows).Error
	list = make([]Volume, 0, len(rows))
	for i := range rows {
		v := rows[i].Volume
		v.Balance, v.Lag, v.Late = rows[i].Balance, spread(rows[i].Lag), spread(rows[i].Late)
		if rows[i].At != nil {
			v.At = *rows[i].At
		}
		list = append(list, v)
	}
	return list, err
}

// summedDays returns from which day on, and before which, the sums of days are taken for a span:
// whole days that are summed. What is before and after is taken from the hours.
func (l *Ledger) summedDays(ctx context.Context, q VolumeQuery) (first, last time.Time, err error) {
	const day = 24 * time.Hour
	var summed []time.Time
	err = l.with(ctx).Raw("SELECT day FROM volume_day WHERE feed = '' ORDER BY day DESC LIMIT 1").Scan(&summed).Error
	if err != nil || len(summed) == 0 {
		return first, last, err
	}
	first = q.From.UTC().Add(day - time.Microsecond).Truncate(day)
	last = q.To.UTC().Truncate(day)
	if end := summed[0].UTC().Add(day); end.Before(last) {
		last = end
	}
	return first, last, nil
}

// summedMonths returns from which month on, and before which, the sums of months are taken for days
// that are summed.
func (l *Ledger) summedMonths(ctx context.Context, first, last time.Time) (begin, end time.Time, err error) {
	var summed []time.Time
	err = l.with(ctx).Raw("SELECT month FROM volume_month WHERE feed = '' ORDER BY month DESC LIMIT 1").Scan(&summed).Error
	if err != nil || len(summed) == 0 {
		return begin, end, err
	}
	begin, end = monthOf(first), monthOf(last)
	if begin.Before(first) {
		begin = begin.AddDate(0, 1, 0)
	}
	if known := summed[0].UTC().AddDate(0, 1, 0); known.Before(end) {
		end = known
	}
	return begin, end, nil
}

// monthOf returns the beginning of a month of UTC.
func monthOf(t time.Time) time.Time {
	t = t.UTC()
	return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC)
}

// spread reads counts as the database writes arrays.
func spread(text string) (out Spread) {
	for i, n := range strings.Split(strings.Trim(text, "{}"), ",") {
		if k, err := strconv.ParseInt(n, 10, 64); err == nil && i < len(out) {
			out[i] = k
		}
	}
	return out
}

// sumMonths sums up the months of which all days are.
func sumMonths(tx *gorm.DB, sums []string) error {
	return tx.Exec(`WITH last AS (SELECT max(day) + interval '1 day' AS over FROM volume_day WHERE feed = ''),
		begin AS (SELECT coalesce((SELECT max(month) + interval '1 month' FROM volume_month WHERE feed = ''),
			(SELECT date_trunc('month', min(day), 'UTC') FROM volume_day)) AS at),
		months AS (SELECT generate_series(at AT TIME ZONE 'UTC', (over - interval '1 month') AT TIME ZONE 'UTC', interval '1 month')
			AT TIME ZONE 'UTC' AS month FROM begin, last)
		INSERT INTO volume_month (month, feed, ` + strings.Join(summed, ", ") + `) SELECT m.month, d.feed, ` + strings.Join(sums, ", ") + `
		FROM months m JOIN volume_day d ON d.day >= m.month AND d.day < (m.month AT TIME ZONE 'UTC' + interval '1 month') AT TIME ZONE 'UTC'
		GROUP BY 1, 2`).Error
}

// SumVolumes sums up days and months of UTC that are over, up to so many of them, drops hours that are kept no
// longer, up to so many, and days that are older than ten years. It returns how many days it
// summed up.
func (l *Ledger) SumVolumes(ctx context.Context, now time.Time, days, hours int) (n int, err error) {
	sums := make([]string, len(summed))
	for i, c := range summed {
		sums[i] = "coalesce(sum(" + c + "), 0)"
	}
	const years = 10
	over := now.UTC().Add(-time.Hour).Truncate(24 * time.Hour) // the last transactions of a day may take a while
	err = l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("LOCK TABLE volume_day IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
			return err
		}
		var next []time.Time
		err := tx.Raw(`SELECT at FROM (SELECT coalesce((SELECT max(day) + interval '1 day' FROM volume_day WHERE feed = ''),
			(SELECT date_trunc('day', min(hour), 'UTC') FROM volume)) AS at) n WHERE at IS NOT NULL`).Scan(&next).Error
		if err != nil || len(next) == 0 {
			return err
		}
		for day := next[0].UTC(); n < days && day.Before(over); day = day.AddDate(0, 0, 1) {
			err := tx.Exec(`INSERT INTO volume_day (feed, day, `+strings.Join(summed, ", ")+`) SELECT coalesce(feed, ''), ?, `+
				strings.Join(sums, ", ")+` FROM volume WHERE hour >= ? AND hour < ? GROUP BY GROUPING SETS ((feed), ())`, day, day,
				day.AddDate(0, 0, 1)).Error
			if err != nil {
				return err
			}
			n++
		}
		if err := sumMonths(tx, sums); err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM volume WHERE (feed, hour) IN (SELECT feed, hour FROM volume WHERE hour < ?
			AND hour < (SELECT max(day) FROM volume_day WHERE feed = '') ORDER BY hour LIMIT ?)`, now.Add(-hoursKept), hours).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM volume_month WHERE month < ? AND month < (SELECT max(month) FROM volume_month WHERE feed = '')",
			now.AddDate(-years, -1, 0)).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM volume_day WHERE day < ? AND day < (SELECT max(day) FROM volume_day WHERE feed = '')",
			now.AddDate(-years, 0, 0)).Error
	})
	return n, err
}
