package engine

import (
	"fmt"
	"strconv"
	"time"

	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
)

// step is a part of a run: a slot, or all of it.
type step struct {
	name      string
	selection ledger.Selection
}

// maxSteps bounds the slots of one run.
const maxSteps = 1_000_000

// stepsOf returns the slots that a run goes through, in order.
func stepsOf(f *feed.Feed, wanted ledger.Wanted, now time.Time) ([]step, error) {
	if wanted.From == "" && wanted.To == "" {
		return []step{{selection: ledger.Selection{Paths: wanted.Paths}}}, nil
	}
	return slotsOf(f, wanted, now)
}

// CheckRange says what is wrong with the range of a run, if anything is.
func CheckRange(f *feed.Feed, wanted ledger.Wanted, now time.Time) error {
	_, err := slotsOf(f, wanted, now)
	return err
}

// slotsOf returns the slots that a run over a range goes through.
func slotsOf(f *feed.Feed, wanted ledger.Wanted, now time.Time) ([]step, error) {
	unit, zone := f.Landing.Files.Unit(), f.Landing.Zone
	if wanted.From == "" {
		wanted.From = wanted.To
	}
	if wanted.To == "" {
		wanted.To = wanted.From
	}
	if unit == due.Number {
		return numbers(wanted)
	}
	from, _, err := parseSlot(wanted.From, now.In(zone))
	if err != nil {
		return nil, err
	}
	_, to, err := parseSlot(wanted.To, now.In(zone))
	if err != nil {
		return nil, err
	}
	if !from.Before(to) {
		return nil, fmt.Errorf("the range ends before it begins: %s to %s", wanted.From, wanted.To)
	}
	byModified := unit == due.NoUnit
	if byModified {
		unit = due.Day
	}
	if unit == due.Minute { // by the hour: the minutes within are in order anyway
		unit = due.Hour
	}
	layout := map[due.Unit]string{due.Hour: "2006-01-02T15", due.Day: "2006-01-02", due.Month: "2006-01",
		due.Year: "2006"}[unit]
	var out []step
	for at := unit.Start(from); at.Before(to); at = unit.Next(at) {
		if len(out) == maxSteps {
			return nil, fmt.Errorf("more than %d slots from %s to %s", maxSteps, wanted.From, wanted.To)
		}
		begin, end := at, unit.Next(at)
		if begin.Before(from) {
			begin = from
		}
		if end.After(to) {
			end = to
		}
		out = append(out, step{at.Format(layout), ledger.Selection{From: begin.UTC(), To: end.UTC(),
			ByModified: byModified, Paths: wanted.Paths}})
	}
	return out, nil
}

func numbers(wanted ledger.Wanted) ([]step, error) {
	from, err := strconv.ParseInt(wanted.From, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is not a number; the names of this feed count their slots", wanted.From)
	}
	to, err := strconv.ParseInt(wanted.To, 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%q is not a number; the names of this feed count their slots", wanted.To)
	}
	if to < from || to-from >= maxSteps {
		return nil, fmt.Errorf("from %d to %d are not between 1 and %d slots", from, to, maxSteps)
	}
	var out []step
	for n := from; n <= to; n++ {
		out = append(out, step{strconv.FormatInt(n, 10),
			ledger.Selection{FromNumber: &n, ToNumber: &n, Paths: wanted.Paths}})
	}
	return out, nil
}

// parseSlot reads a year, a month, a day, an hour, a minute, yesterday or
// today, and returns where it begins and where the next begins.
func parseSlot(text string, now time.Time) (from, to time.Time, err error) {
	switch text {
	case "today":
		text = now.Format(time.DateOnly)
	case "yesterday":
		text = now.AddDate(0, 0, -1).Format(time.DateOnly)
	}
	for _, form := range []struct {
		layout string
		unit   due.Unit
	}{{"2006", due.Year}, {"2006-01", due.Month}, {"2006-01-02", due.Day}, {"2006-01-02T15", due.Hour},
		{"2006-01-02 15", due.Hour}, {"2006-01-02T15:04", due.Minute}, {"2006-01-02 15:04", due.Minute}} {
		if t, err := time.ParseInLocation(form.layout, text, now.Location()); err == nil {
			return t, form.unit.Next(t), nil
		}
	}
	return from, to, fmt.Errorf("%q is no slot; write a year, 2026-07, 2026-07-01, 2026-07-01T06, today or yesterday",
		text)
}
