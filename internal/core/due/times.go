package due

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Times are the instants that five-field cron names in a time zone.
//
// Where a clock change drops an hour, what falls into it moves to the instant
// of the change. Where a clock change doubles an hour, it happens once, the
// first time; only a cron that names every hour goes through both.
type Times struct {
	spec      string
	schedule  cron.Schedule
	zone      *time.Location
	everyHour bool
}

// fields is what a schedule is written in; no words such as @daily.
var fields = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

const allHours = 1<<24 - 1

// ParseTimes reads five-field cron: minute, hour, day of month, month, day of week.
func ParseTimes(spec string, zone *time.Location) (*Times, error) {
	if strings.Contains(spec, "=") || strings.HasPrefix(spec, "@") {
		return nil, errors.New("five fields only; the zone has a key of its own")
	}
	schedule, err := fields.Parse(spec)
	if err != nil {
		return nil, fmt.Errorf("%w; write minute, hour, day of month, month, day of week, as in \"*/15 * * * *\"", err)
	}
	t := &Times{spec: spec, schedule: schedule, zone: zone}
	if s, ok := schedule.(*cron.SpecSchedule); ok {
		t.everyHour = s.Hour&allHours == allHours
	}
	return t, nil
}

// String returns the cron as it was written.
func (t *Times) String() string { return t.spec }

// Zone is where its hours are counted.
func (t *Times) Zone() *time.Location { return t.zone }

// widest is more than any clock change moves.
const widest = 26 * time.Hour

// maxTimes bounds what one question is answered with.
const maxTimes = 200_000

// Between returns the instants after from and up to to, in order.
func (t *Times) Between(from, to time.Time) []time.Time {
	var out []time.Time
	margin := widest
	if t.steady(from, to) {
		margin = 0
	}
	end := wall(to.In(t.zone)).Add(margin)
	for at := wall(from.In(t.zone)).Add(-margin); len(out) < maxTimes; {
		at = t.schedule.Next(at)
		if at.IsZero() || at.After(end) {
			break
		}
		for _, i := range t.instants(at) {
			if i.After(from) && !i.After(to) {
				out = append(out, i)
			}
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	return slices.CompactFunc(out, time.Time.Equal)
}

// Next returns the first instant after a time; zero when there is none within
// five years.
func (t *Times) Next(after time.Time) time.Time {
	shown := wall(after.In(t.zone))
	if next := t.schedule.Next(shown); !next.IsZero() {
		if at := after.Add(next.Sub(shown)); t.steady(after, at) {
			return at.In(t.zone)
		}
	}
	for _, span := range []time.Duration{2 * time.Hour, 32 * 24 * time.Hour, 5 * 366 * 24 * time.Hour} {
		if span > 40*24*time.Hour { // rare: look at where the first one is
			first := t.schedule.Next(wall(after.In(t.zone)).Add(widest))
			if first.IsZero() {
				return time.Time{}
			}
			span = first.Sub(wall(after.In(t.zone))) + widest
		}
		if found := t.Between(after, after.Add(span)); len(found) > 0 {
			return found[0]
		}
	}
	return time.Time{}
}

// steady reports whether no clock change is anywhere near a span of time.
func (t *Times) steady(from, to time.Time) bool {
	start, end := from.In(t.zone).ZoneBounds()
	return (start.IsZero() || start.Before(from.Add(-widest))) && (end.IsZero() || end.After(to.Add(widest)))
}

// wall returns what a clock on the wall shows, as if it were UTC, where all
// hours exist once.
func wall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// instants returns when the clock on the wall shows a time: once, twice, or, for
// a time that is dropped, the instant of the change.
func (t *Times) instants(shown time.Time) []time.Time {
	var out []time.Time
	_, before := shown.Add(-widest).In(t.zone).Zone()
	_, after := shown.Add(widest).In(t.zone).Zone()
	for _, offset := range []int{before, after} {
		i := shown.Add(-time.Duration(offset) * time.Second).In(t.zone)
		if wall(i).Equal(shown) && (len(out) == 0 || !out[0].Equal(i)) {
			out = append(out, i)
		}
	}
	slices.SortFunc(out, time.Time.Compare)
	switch {
	case len(out) == 0:
		return []time.Time{change(shown.Add(-widest).In(t.zone), shown.Add(widest).In(t.zone))}
	case len(out) == 2 && !t.everyHour:
		return out[:1]
	}
	return out
}

// change finds the instant between two at which the zone's offset changes.
func change(from, to time.Time) time.Time {
	_, first := from.Zone()
	for to.Sub(from) > time.Second {
		middle := from.Add(to.Sub(from) / 2).Truncate(time.Second)
		if _, offset := middle.Zone(); offset == first {
			from = middle
		} else {
			to = middle
		}
	}
	return to
}
