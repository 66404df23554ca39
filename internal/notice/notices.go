package notice

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"mullein/internal/api"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/settings"
	"mullein/internal/trace"
)

// problemData is what programs are told of a problem.
type problemData struct {
	Occasion ledger.Occasion `json:"occasion"`
	Kind     news.Kind       `json:"kind"`
	Problem  int64           `json:"problem"`
	Cause    string          `json:"cause"`
	Since    time.Time       `json:"since"`
	Heading  string          `json:"heading"`
	Parts    []partData      `json:"parts"` // the first of them
	More     int             `json:"more"`  // others
	Link     string          `json:"link,omitempty"`
}

type partData struct {
	Feed    string    `json:"feed,omitempty"`
	Arrival int64     `json:"arrival,omitempty"`
	Slot    int64     `json:"slot,omitempty"`
	What    string    `json:"what"`
	Since   time.Time `json:"since"`
	Over    bool      `json:"over,omitempty"`
	Link    string    `json:"link,omitempty"`
}

// partsToPrograms bounds the parts in one event.
const partsToPrograms = 200

// data is what programs are told of a problem.
func (a *author) data(d *pending, heading string) problemData {
	out := problemData{Occasion: d.occasion, Kind: d.problem.Kind, Problem: d.problem.ID, Cause: d.problem.Cause,
		Since: d.problem.BeganAt.UTC(), Heading: heading, Parts: []partData{}, More: max(0, len(d.parts)-partsToPrograms),
		Link: a.page(d.problem, d.parts)}
	for _, t := range d.parts[:min(len(d.parts), partsToPrograms)] {
		out.Parts = append(out.Parts, partData{t.Feed, t.Arrival, t.Slot, t.What, t.Since.UTC(), t.OverAt != nil, a.link(t)})
	}
	return out
}

// typeOf returns the type of the event of a notice.
func typeOf(kind news.Kind, occasion ledger.Occasion) string {
	if occasion == ledger.Begins || occasion == ledger.Happened {
		return "mullein." + string(kind)
	}
	return "mullein." + string(kind) + "." + string(occasion)
}

// notice writes the notice of a problem, or of several at once.
func (a *author) notice(ctx context.Context, s *settings.Settings, list []pending) (ledger.Notice, error) {
	first := &list[0]
	supplier := strings.HasPrefix(first.to.whom, forSupplier)
	var out *letter
	var data []problemData
	for i := range list {
		d := &list[i]
		one, err := a.problem(ctx, d.problem, d.parts, d.occasion, supplier)
		if err != nil {
			return ledger.Notice{}, err
		}
		data = append(data, a.data(d, one.Heading))
		switch {
		case out == nil:
			out = one
		case len(out.Parts) < partsShown:
			out.Parts = append(out.Parts, one.Parts...)
		default:
			out.More += len(one.Parts)
		}
	}
	var whole any = data[0]
	if len(list) > 1 {
		out.Heading = fmt.Sprintf("%d problems, the first: %s", len(list), out.Heading)
		out.Subject, out.Link = out.Heading, a.address+"/notices"
		whole = map[string]any{"problems": data}
	}
	traced, err := a.traceOf(ctx, list)
	if err != nil {
		return ledger.Notice{}, err
	}
	out.Why = whyOf(first.to, supplier)
	n := ledger.Notice{Outlet: first.to.outlet, Whom: first.to.whom, Kind: first.problem.Kind, Occasion: first.occasion,
		Problem: &first.problem.ID, Feed: feedOf(list)}
	return n, a.fill(&n, out, Event{Source: "/mullein/problems/" + strconv.FormatInt(first.problem.ID, 10),
		Type: typeOf(first.problem.Kind, first.occasion), Subject: n.Feed, TraceParent: traced, Data: whole})
}

// traceOf returns the trace of the one arrival that pending notices are of; "" where they are of none,
// or of several.
func (a *author) traceOf(ctx context.Context, list []pending) (string, error) {
	if len(list) != 1 || len(list[0].parts) != 1 || list[0].parts[0].Arrival == 0 {
		return "", nil
	}
	of := list[0].parts[0].Arrival
	arrivals, err := a.ledger.ByNumber(ctx, []int64{of})
	if err != nil {
		return "", err
	}
	arrival, there := arrivals[of]
	if !there {
		return "", nil
	}
	return trace.Parent(&arrival), nil
}

// whyOf says why a reader gets a letter.
func whyOf(to address, supplier bool) string {
	if supplier {
		return "Sent by Mullein, which takes in your files. Answer to whom you deliver for."
	}
	return "Mullein tells this by the outlet " + to.outlet + ", as the feed or the service's settings say."
}

// feedOf returns the feed that pending notices are of; "" where they are of several.
func feedOf(list []pending) string {
	name := ""
	for _, d := range list {
		for _, t := range d.parts {
			if name == "" {
				name = t.Feed
			}
			if name != t.Feed {
				return ""
			}
		}
	}
	return name
}

// fill puts a letter and an event into a notice.
func (a *author) fill(n *ledger.Notice, l *letter, e Event) error {
	text, html, err := l.write()
	if err != nil {
		return err
	}
	e.SpecVersion, e.Time, e.ContentType = "1.0", time.Now().UTC(), "application/json"
	event, err := json.Marshal(e)
	if err != nil {
		return err
	}
	m := stored{Text: text, HTML: html, Event: event, Env: []string{"MULLEIN_KIND=" + string(n.Kind),
		"MULLEIN_OCCASION=" + string(n.Occasion), "MULLEIN_FEED=" + n.Feed, "MULLEIN_LINK=" + l.Link}}
	if whom := strings.TrimPrefix(n.Whom, forSupplier); whom != "" {
		m.To = []string{whom}
	}
	n.Subject = oneLine(l.Subject)
	n.State = ledger.NoticeWaiting
	n.Message, err = json.Marshal(m)
	return err
}

// oneLine keeps a subject to one line of a bounded length.
func oneLine(s string) string {
	const most = 150
	s = strings.Join(strings.Fields(s), " ")
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-3]) + "..."
	}
	return s
}

// CommitEvent is the event of a load or a recall, with the table that rows went to, the rollups that follow
// it, and the console's address.
func CommitEvent(e *ledger.Event, a *ledger.Arrival, table string, rollups []string, address string) *api.Commit {
	kind := "mullein.load"
	if e.State == string(ledger.Recalled) {
		kind = "mullein.recall"
	}
	keys := map[string]api.Range{}
	for column, r := range a.KeyRange {
		keys[column] = api.Range(r)
	}
	return &api.Commit{SpecVersion: "1.0", ID: strconv.FormatInt(e.ID, 10), Source: "/mullein/feeds/" + e.Feed, Type: kind,
		Subject: a.Path, Time: e.At.UTC(), ContentType: "application/json", TraceParent: trace.Parent(a),
		Data: api.CommitData{Feed: e.Feed, Arrival: a.ID, Generation: a.Generation, Run: a.RunID, SHA256: a.SHA256,
			Balance: api.Balance(a.Balance), Table: table, Slot: a.Slot, Written: a.Balance.Inserted + a.Balance.Updated,
			KeyRange: keys, Rollups: rollups, Link: fmt.Sprintf("%s/arrivals/%d", address, a.ID)}}
}

// IsCommit reports whether an event is of a commit into a target.
func IsCommit(e *ledger.Event) bool {
	return e.Kind == "load" || e.Kind == "arrival" && e.State == string(ledger.Recalled)
}

// RollupEvent is the kind of the ledger's events of rollups that were computed.
const RollupEvent = "rollup"

// ComputedEvent is the event of a rollup that was computed.
func ComputedEvent(e *ledger.Event, table string) *api.Computed {
	return &api.Computed{SpecVersion: "1.0", ID: strconv.FormatInt(e.ID, 10), Source: "/mullein/rollups/" + e.Rollup,
		Type: "mullein.rollup", Subject: e.Rollup, Time: e.At.UTC(), ContentType: "application/json",
		Data: api.ComputedData{Rollup: e.Rollup, Table: table, Keys: e.Keys}}
}

// computed writes the notices of rollups that were computed.
func (t *Teller) computed(s *settings.Settings, events []ledger.Event, out *[]ledger.Notice) error {
	a := t.author(s)
	for i := range events {
		e := &events[i]
		if e.Kind != RollupEvent {
			continue
		}
		t.mu.Lock()
		table := t.rollups.Table[e.Rollup]
		t.mu.Unlock()
		c := ComputedEvent(e, table)
		l := &letter{Heading: fmt.Sprintf("%s: computed for %d keys", e.Rollup, e.Keys), Link: a.address + "/targets/" + table,
			Parts: []part{{Title: e.Rollup, Facts: []fact{{"Table", table}}}}}
		l.Subject = l.Heading
		event := Event{ID: c.ID, Source: c.Source, Type: c.Type, Subject: c.Subject, Data: c.Data}
		if err := a.send(s, news.Computed, "", reader{}, l, event, out); err != nil {
			return err
		}
	}
	return nil
}

// happened writes the notices of news that are no problems: loads, rollups, and what people did.
func (t *Teller) happened(ctx context.Context, s *settings.Settings, events []ledger.Event, decisions []ledger.Decision) (
	[]ledger.Notice, error) {
	lineage := false
	for _, o := range s.Outlets {
		lineage = lineage || o.Lineage != ""
	}
	names := map[string]bool{}
	for i := range events {
		if e := &events[i]; IsCommit(e) || isChange(e) || lineage && typeOfLineage(e) != "" {
			names[e.Feed] = true
		}
	}
	for _, d := range decisions {
		names[d.Feed] = true
	}
	if len(s.Outlets) == 0 {
		return nil, nil
	}
	feeds, err := t.about.read(ctx, slices.Sorted(maps.Keys(names)))
	if err != nil {
		return nil, err
	}
	out, err := t.loads(ctx, s, events, feeds)
	if err != nil {
		return nil, err
	}
	if err := t.lineage(ctx, s, events, feeds, &out); err != nil {
		return nil, err
	}
	if err := t.computed(s, events, &out); err != nil {
		return nil, err
	}
	a := t.author(s)
	tell := func(name, heading, by, because, link string, data map[string]any) error {
		return a.happened(s, news.Changed, name, feeds[name], &letter{Subject: heading, Heading: heading, Link: link,
			Parts: []part{{Title: name, Facts: []fact{{"By", by}, {"Because", because}}}}}, data, &out)
	}
	for _, d := range decisions {
		of, link := d.Feed, a.address+"/feeds/"+d.Feed
		if d.Arrival != nil {
			of, link = fmt.Sprintf("arrival %d of %s", *d.Arrival, d.Feed), fmt.Sprintf("%s/arrivals/%d", a.address, *d.Arrival)
		}
		if err := tell(d.Feed, fmt.Sprintf("%s: %s by %s", of, d.What, d.By), d.By, d.Because, link, map[string]any{"feed": d.Feed,
			"what": d.What, "by": d.By, "because": d.Because, "arrival": d.Arrival, "slot": d.Slot, "at": d.At.UTC()}); err != nil {
			return nil, err
		}
	}
	for i := range events {
		if e := &events[i]; isChange(e) {
			what := map[string]string{"put": "its definition was put"}[e.State]
			if what == "" {
				what = "it was " + e.State
			}
			if err := tell(e.Feed, e.Feed+": "+what, "", "", a.address+"/feeds/"+e.Feed, map[string]any{"feed": e.Feed,
				"what": e.State, "at": e.At.UTC()}); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// isChange reports whether an event is of what somebody did to a feed.
func isChange(e *ledger.Event) bool {
	return e.Kind == "feed" && slices.Contains([]string{"put", "paused", "resumed", "removed"}, e.State)
}

// loads writes the notices of loads.
func (t *Teller) loads(ctx context.Context, s *settings.Settings, events []ledger.Event, feeds map[string]reader) (
	out []ledger.Notice, err error) {
	wanted := map[string]bool{}
	for name, f := range feeds {
		wanted[name] = len(routesOf(s, news.Loaded, name, f)) > 0
	}
	var numbers []int64
	for i := range events {
		if e := &events[i]; IsCommit(e) && wanted[e.Feed] {
			numbers = append(numbers, e.Arrival)
		}
	}
	if len(numbers) == 0 {
		return nil, nil
	}
	arrivals, err := t.Ledger.ByNumber(ctx, numbers)
	if err != nil {
		return nil, err
	}
	a := t.author(s)
	for i := range events {
		e := &events[i]
		arrival, there := arrivals[e.Arrival]
		if !there || !IsCommit(e) || !wanted[e.Feed] {
			continue
		}
		f := feeds[e.Feed]
		commit := CommitEvent(e, &arrival, f.target, t.rollupsOf(f.target), a.address)
		what := "loaded"
		if commit.Type == "mullein.recall" {
			what = "recalled"
		}
		l := &letter{Heading: fmt.Sprintf("%s: %s %s", e.Feed, arrival.Path, what), Link: commit.Data.Link,
			Parts: []part{{Title: arrival.Path, Facts: []fact{{"Table", f.target}, {"Balance", arrival.Balance.String()}}}}}
		l.Subject = l.Heading
		event := Event{ID: commit.ID, Source: commit.Source, Type: commit.Type, Subject: commit.Subject, Data: commit.Data,
			TraceParent: commit.TraceParent}
		if err := a.send(s, news.Loaded, e.Feed, f, l, event, &out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (t *Teller) rollupsOf(table string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.rollups.Of[table]
}

// happened writes a notice of news of a feed to all who are told of them.
func (a *author) happened(s *settings.Settings, kind news.Kind, name string, f reader, l *letter, data map[string]any,
	out *[]ledger.Notice) error {
	data["link"] = l.Link
	return a.send(s, kind, name, f, l, Event{Source: "/mullein/feeds/" + name, Type: typeOf(kind, ledger.Happened),
		Subject: name, Data: data}, out)
}

func (a *author) send(s *settings.Settings, kind news.Kind, name string, f reader, l *letter, e Event,
	out *[]ledger.Notice) error {
	for to := range routesOf(s, kind, name, f) {
		if s.Outlets[to.outlet].Lineage != "" {
			continue // see lineage
		}
		l.Why = whyOf(to, false)
		n := ledger.Notice{Outlet: to.outlet, Whom: to.whom, Kind: kind, Occasion: ledger.Happened, Feed: name}
		if err := a.fill(&n, l, e); err != nil {
			return err
		}
		now := time.Now()
		if quiet := quietUntil(s, to.outlet, kind, now); quiet.After(now) {
			n.TryAfter = quiet
		}
		*out = append(*out, n)
	}
	return nil
}
