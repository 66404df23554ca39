package news

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Kind is of what people and programs are told.
type Kind string

// The kinds. All but the last three are problems, which end one day.
const (
	Late     Kind = "late"     // a slot whose files are not there in time
	Missing  Kind = "missing"  // a slot whose files did not come
	Refused  Kind = "refused"  // an arrival that was not loaded because of what is in it
	Failed   Kind = "failed"   // an arrival that could not be loaded, after all attempts
	Held     Kind = "held"     // an arrival that waits for a person
	Rejects  Kind = "rejects"  // a load of which more than one row in a hundred is a reject
	Warning  Kind = "warning"  // a check that only warns, and does not hold
	Table    Kind = "table"    // a target that does not fit its feed
	Landing  Kind = "landing"  // a landing that is away or cannot be listed
	Database Kind = "database" // a database that cannot be reached
	Disk     Kind = "disk"     // a disk that is short of room
	Stopped  Kind = "stopped"  // a feed that does not work for another reason
	Rollup   Kind = "rollup"   // a derived table that is wrong or lags
	Service  Kind = "service"  // a service that was lost
	Outlet   Kind = "outlet"   // an outlet that does not take messages
	Ending   Kind = "ending"   // a certificate or a credential that is about to end
	Extract  Kind = "extract"  // an extract that failed, after all attempts
	Loaded   Kind = "loaded"   // a load
	Computed Kind = "computed" // a rollup that was computed
	Changed  Kind = "changed"  // what somebody did
)

// Kinds returns all kinds.
func Kinds() []Kind {
	return []Kind{Late, Missing, Refused, Failed, Held, Rejects, Warning, Table, Landing, Database, Disk, Stopped, Rollup,
		Service, Outlet, Extract, Ending, Loaded, Computed, Changed}
}

// Names returns the names of all kinds.
func Names() (out []string) {
	for _, k := range Kinds() {
		out = append(out, string(k))
	}
	return out
}

// IsProblem reports whether it lasts until it is over.
func (k Kind) IsProblem() bool { return k != Loaded && k != Computed && k != Changed }

// Urgency orders kinds for people: the smallest comes first.
func (k Kind) Urgency() int {
	return slices.Index([]Kind{Database, Service, Disk, Landing, Table, Stopped, Extract, Outlet, Missing, Refused, Failed, Held, Late, Rollup, Rejects, Warning, Ending}, k)
}

// Route says who is told of what.
type Route struct {
	Of    []Kind
	By    string        // an outlet
	To    string        // ToOwner, ToSupplier, a mail address, or "" for whom the outlet names
	After time.Duration // only what has lasted so long
}

// Whom a route may name besides an address.
const (
	ToOwner    = "owner"
	ToSupplier = "supplier"
)

// For returns the routes of a kind of a feed: its own, if it says anything of the kind, else the
// others.
func For(kind Kind, own, others []Route) []Route {
	of := func(routes []Route) (out []Route) {
		for _, r := range routes {
			if slices.Contains(r.Of, kind) {
				out = append(out, r)
			}
		}
		return out
	}
	if out := of(own); len(out) > 0 {
		return out
	}
	return of(others)
}

// Cause returns what problems of a kind have in common that are told as one: those of a
// supplier that sends nothing, all landings that are away, a database, a table, a disk;
// else those of a feed.
func Cause(kind Kind, feed, supplier, of string) string {
	switch {
	case (kind == Late || kind == Missing) && supplier != "":
		return "supplier " + supplier
	case kind == Landing:
		return "landings"
	case kind == Database || kind == Disk || kind == Table || kind == Rollup || kind == Service || kind == Outlet || kind == Extract ||
		kind == Ending:
		return of
	}
	return "feed " + feed
}

// Times of telling again.
const (
	soon    = 15 * time.Minute
	longest = 24 * time.Hour
)

// Again returns how long after it was told so many times a problem is told again that lasts:
// after an hour, four, twelve, and then each day. Where more belongs to it than was told, it is
// after a quarter of an hour at the most.
func Again(told int, more bool) time.Duration {
	pause := longest
	if waits := []time.Duration{time.Hour, 4 * time.Hour, 12 * time.Hour}; told > 0 && told <= len(waits) {
		pause = waits[told-1]
	}
	if more {
		return min(pause, soon)
	}
	return pause
}

// Retry returns how long after so many attempts to send something the next is made.
func Retry(attempts int) time.Duration {
	waits := []time.Duration{5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute}
	return waits[min(max(attempts, 1), len(waits))-1]
}

// GiveUp is how long after it was written something is not tried to be sent any more.
const GiveUp = 3 * 24 * time.Hour

// Clock is a time of day, in minutes from midnight.
type Clock int

// ParseClock reads a time of day, as HH:MM.
func ParseClock(text string) (Clock, error) {
	t, err := time.Parse("15:04", text)
	if err != nil || len(text) != len("15:04") {
		return 0, fmt.Errorf("%q is no time of day; write it as 07:30", text)
	}
	return Clock(t.Hour()*60 + t.Minute()), nil
}

// On returns the time of day on the day of t, in its zone.
func (c Clock) On(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), int(c)/60, int(c)%60, 0, 0, t.Location())
}

// Next returns the first such time of day after t, in t's zone.
func (c Clock) Next(t time.Time) time.Time {
	for d := 0; ; d++ {
		if at := c.On(t.AddDate(0, 0, d)); at.After(t) {
			return at
		}
	}
}

// Quiet is hours in which nothing is sent but some kinds.
type Quiet struct {
	From, To Clock
	Zone     *time.Location
	But      []Kind
}

// Until returns the end of the hours of silence that t is in; t where it is in none, or the
// kind is told all the same.
func (q *Quiet) Until(t time.Time, kind Kind) time.Time {
	if q == nil || q.From == q.To || slices.Contains(q.But, kind) {
		return t
	}
	local := t.In(q.Zone)
	now := Clock(local.Hour()*60 + local.Minute())
	inside := now >= q.From && now < q.To
	if q.From > q.To {
		inside = now >= q.From || now < q.To
	}
	if !inside {
		return t
	}
	return q.To.Next(local)
}

// Matches reports whether a name fits one of some patterns, in which * stands for any
// characters; no patterns fit all.
func Matches(patterns []string, name string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { return fits(p, name) })
}

func fits(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return strings.EqualFold(pattern, name)
	}
	name = strings.ToLower(name)
	for i, p := range parts {
		p = strings.ToLower(p)
		switch at := strings.Index(name, p); {
		case at < 0 || i == 0 && at > 0:
			return false
		case i == len(parts)-1:
			return strings.HasSuffix(name, p)
		default:
			name = name[at+len(p):]
		}
	}
	return true
}
