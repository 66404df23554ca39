package notice

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/settings"
)

// summaries writes the summaries of the day that are due.
func (t *Teller) summaries(ctx context.Context, s *settings.Settings) error {
	for _, name := range slices.Sorted(maps.Keys(s.Outlets)) {
		o := s.Outlets[name]
		if o.Daily == nil {
			continue
		}
		zone, err := time.LoadLocation(o.Daily.Zone)
		if err != nil {
			return err
		}
		at, err := news.ParseClock(o.Daily.At)
		if err != nil {
			return err
		}
		now := time.Now().In(zone)
		if now.Before(at.On(now)) {
			continue
		}
		err = t.Ledger.SummaryDue(ctx, t.Service, name, now, func() ([]ledger.Notice, error) {
			n, err := t.summary(ctx, s, name, now)
			return []ledger.Notice{n}, err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// summary writes what came in the last day, what did not, and what waits for whom.
func (t *Teller) summary(ctx context.Context, s *settings.Settings, outlet string, now time.Time) (ledger.Notice, error) {
	n := ledger.Notice{Outlet: outlet, Occasion: ledger.Summary}
	d, err := t.Ledger.DaySummary(ctx, now.Add(-24*time.Hour))
	if err != nil {
		return n, err
	}
	problems, err := t.Ledger.Problems(ctx, ledger.ProblemFilter{Most: 200})
	if err != nil {
		return n, err
	}
	a := t.author(s)
	waits, err := a.waiting(ctx, problems)
	if err != nil {
		return n, err
	}
	heading := fmt.Sprintf("The day to %s: %d rows of %d feeds, %d of %d slots on time", when(now, now.Location()), d.Rows,
		len(d.Feeds), d.Slots["on time"], total(d.Slots))
	if len(problems) > 0 {
		heading += fmt.Sprintf(", %d problems", len(problems))
	}
	l := &letter{Subject: heading, Heading: heading, Link: a.address + "/today", Why: whyOf(address{outlet: outlet}, false)}
	came := part{Title: "What came"}
	for _, f := range d.Feeds[:min(len(d.Feeds), mostFeeds)] {
		came.Facts = append(came.Facts, fact{f.Feed, fmt.Sprintf("%d rows", f.Rows)})
	}
	if more := len(d.Feeds) - mostFeeds; more > 0 {
		came.What = fmt.Sprintf("The %d feeds with the most rows; %d more had some.", mostFeeds, more)
	}
	if len(d.Feeds) == 0 {
		came.What = "Nothing."
	}
	slots := part{Title: "What was due"}
	for _, state := range slices.Sorted(maps.Keys(d.Slots)) {
		slots.Facts = append(slots.Facts, fact{state, fmt.Sprint(d.Slots[state])})
	}
	if len(d.Slots) == 0 {
		slots.What = "Nothing was."
	}
	l.Parts = append([]part{came, slots}, waits...)
	data := map[string]any{"rows": d.Rows, "feeds": d.Feeds, "slots": d.Slots, "problems": len(problems), "to": now.UTC()}
	return n, a.fill(&n, l, Event{Source: "/mullein", Type: "mullein.summary", Data: data})
}

// mostFeeds bounds the feeds that a summary names.
const mostFeeds = 30

func total(of map[string]int64) (n int64) {
	for _, k := range of {
		n += k
	}
	return n
}

// waiting says what waits for whom, by owner.
func (a *author) waiting(ctx context.Context, problems []ledger.Problem) ([]part, error) {
	var names []string
	for _, p := range problems {
		for _, t := range p.Parts {
			names = append(names, t.Feed)
		}
	}
	slices.Sort(names)
	feeds, err := a.about.read(ctx, slices.Compact(names))
	if err != nil {
		return nil, err
	}
	byOwner := map[string]*part{}
	for i := range problems {
		p := &problems[i]
		owner := "nobody in particular"
		if len(p.Parts) > 0 && feeds[p.Parts[0].Feed].owner != "" {
			owner = feeds[p.Parts[0].Feed].owner
		}
		if byOwner[owner] == nil {
			byOwner[owner] = &part{Title: "Waits for " + owner}
		}
		const most = 20
		to := byOwner[owner]
		if to.Near = append(to.Near, heading(p, p.Parts, ledger.Begins)); len(to.Near) > most {
			to.Near = to.Near[:most]
		}
	}
	var out []part
	for _, owner := range slices.Sorted(maps.Keys(byOwner)) {
		p := byOwner[owner]
		p.What, p.Near = strings.Join(p.Near, "\n"), nil
		out = append(out, *p)
	}
	return out, nil
}

// NobodyError says that nobody is told of a kind of news of a feed.
type NobodyError struct {
	Feed string
	Kind news.Kind
}

func (e *NobodyError) Error() string {
	return fmt.Sprintf("nobody is told of %q of %s: neither tell in the feed nor tell in the settings names an outlet for it",
		e.Kind, e.Feed)
}

// Rehearse writes the notices that would be sent of a kind of news of a feed, marked as a
// rehearsal. Nothing else is touched.
func (t *Teller) Rehearse(ctx context.Context, name string, kind news.Kind) ([]*ledger.Notice, error) {
	if _, err := t.Ledger.Feed(ctx, name); err != nil {
		return nil, err
	}
	s := t.Settings()
	feeds, err := t.about.read(ctx, []string{name})
	if err != nil {
		return nil, err
	}
	f := feeds[name]
	part, err := t.invent(ctx, name, kind)
	if err != nil {
		return nil, err
	}
	p := &ledger.Problem{Kind: kind, Cause: news.Cause(kind, name, f.supplier, name), BeganAt: part.Since}
	a := t.author(s)
	var out []*ledger.Notice
	for to := range routesOf(s, kind, name, f) {
		if s.Outlets[to.outlet].Lineage != "" {
			continue // nothing ran
		}
		supplier := strings.HasPrefix(to.whom, forSupplier)
		l, err := a.problem(ctx, p, []ledger.ProblemPart{part}, ledger.Rehearsed, supplier)
		if err != nil {
			return nil, err
		}
		l.Rehearsal, l.Why = true, whyOf(to, supplier)
		l.Subject = "Rehearsal: " + l.Subject
		d := &pending{p, []ledger.ProblemPart{part}, to, 0, ledger.Rehearsed}
		n := ledger.Notice{Outlet: to.outlet, Whom: to.whom, Kind: kind, Occasion: ledger.Rehearsed, Feed: name}
		if err := a.fill(&n, l, Event{Source: "/mullein/feeds/" + name, Type: typeOf(kind, ledger.Rehearsed), Subject: name,
			Data: a.data(d, l.Heading)}); err != nil {
			return nil, err
		}
		out = append(out, &n)
	}
	if len(out) == 0 {
		return nil, &NobodyError{name, kind}
	}
	return out, t.Ledger.WriteNotices(ctx, out)
}

// invent finds something to rehearse with: the last slot, or the last arrival.
func (t *Teller) invent(ctx context.Context, name string, kind news.Kind) (ledger.ProblemPart, error) {
	out := ledger.ProblemPart{Feed: name, What: "this is a rehearsal", Since: time.Now()}
	if kind == news.Late || kind == news.Missing {
		slots, err := t.Ledger.LastSlots(ctx, []string{name}, 1)
		if err == nil && len(slots) > 0 {
			out.Slot = slots[0].ID
		}
		return out, err
	}
	list, _, err := t.Ledger.Arrivals(ctx, ledger.Filter{Feed: name, Most: 1})
	if err == nil && len(list) > 0 {
		out.Arrival = list[0].ID
	}
	return out, err
}

// Test writes a notice to an outlet that says that it works.
func (t *Teller) Test(ctx context.Context, outlet string) (*ledger.Notice, error) {
	s := t.Settings()
	o, is := s.Outlets[outlet]
	if !is {
		return nil, s.Takes(outlet, "")
	}
	a := t.author(s)
	n := &ledger.Notice{Outlet: outlet, Occasion: ledger.Rehearsed}
	if o.Mail != "" && len(o.To) == 0 {
		n.Whom = o.From // somebody who surely exists
	}
	l := &letter{Subject: "Rehearsal: the outlet " + outlet + " works", Heading: "The outlet " + outlet + " works", Rehearsal: true,
		Link: a.address + "/notices", Why: whyOf(address{outlet: outlet}, false)}
	if o.Lineage != "" {
		event, err := json.Marshal(testRun(namespaceOf(o)))
		if err != nil {
			return nil, err
		}
		n.Subject, n.State = l.Subject, ledger.NoticeWaiting
		if n.Message, err = json.Marshal(stored{Text: l.Subject, Event: event}); err != nil {
			return nil, err
		}
		return n, t.Ledger.WriteNotices(ctx, []*ledger.Notice{n})
	}
	if err := a.fill(n, l, Event{Source: "/mullein", Type: "mullein.test", Data: map[string]any{"outlet": outlet}}); err != nil {
		return nil, err
	}
	return n, t.Ledger.WriteNotices(ctx, []*ledger.Notice{n})
}
