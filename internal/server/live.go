package server

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"
	"golang.org/x/sync/errgroup"

	"mullein/internal/api"
	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/notice"
	"mullein/internal/table"
)

type eventsInput struct {
	LastEventID string    `header:"Last-Event-ID" doc:"Go on after this event; 0 for the first that is kept"`
	Since       time.Time `query:"since" doc:"Without Last-Event-ID: begin with what happened at this time or later, as far as it is kept"`
}

const (
	helloEvery    = 15 * time.Second
	progressEvery = 500 * time.Millisecond
	eventsAtOnce  = 500
)

// events streams what happens from now on, or from after the event that the
// caller saw last.
func (s *Server) events(ctx context.Context, in *eventsInput, send sse.Sender) {
	news, over, done := s.subscribe()
	defer done()
	who, signedOut := credentialOf(ctx), s.signedOut.wait()
	last, err := strconv.ParseInt(in.LastEventID, 10, 64)
	if err != nil || last < 0 {
		if last, err = s.ledger.LastEventBefore(ctx, in.Since); err != nil {
			return
		}
	}
	hello := time.NewTicker(helloEvery)
	defer hello.Stop()
	progress := time.NewTicker(progressEvery)
	defer progress.Stop()
	if send.Data(api.Hello{At: time.Now().UTC()}) != nil {
		return
	}
	select {
	case news <- struct{}{}: // what the caller missed
	default:
	}
	worked := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-over.Done():
			return
		case <-signedOut:
			signedOut = s.signedOut.wait() // before looking: who signs out from here on is seen the next time
			if s.stillGood(ctx, who) != nil {
				return
			}
		case <-hello.C:
			if s.stillGood(ctx, who) != nil { // signed out at another service, or out of date
				return
			}
			if send.Data(api.Hello{At: time.Now().UTC()}) != nil {
				return
			}
		case <-progress.C:
			loads := s.engine.Progress.List()
			if len(loads) == 0 && !worked {
				continue
			}
			worked = len(loads) > 0
			if send.Data(api.Working{Loads: each(loads, progressOf)}) != nil {
				return
			}
		case <-news:
			if last, err = s.sendEvents(ctx, last, send); err != nil {
				return
			}
			sleep(ctx, streamPause)
		}
	}
}

// subjects are what events are about.
type subjects struct {
	arrivals map[int64]ledger.Arrival
	slots    map[int64]ledger.Slot
	feeds    map[string]subjectFeed
	rollups  map[string]string // the tables of rollups, where events are of any

	following map[string][]string // rollups by the tables that they follow, where events are of loads
	address   string              // of the console
}

type subjectFeed struct{ table, say, problem string }

// subjects reads what events are about, some of each kind at once.
func (s *Server) subjects(ctx context.Context, events []ledger.Event) (subjects, error) {
	k := subjects{feeds: map[string]subjectFeed{}}
	var arrivals, slots []int64
	var names []string
	for _, e := range events {
		if e.Arrival != 0 {
			arrivals = append(arrivals, e.Arrival)
		}
		if e.Slot != 0 {
			slots = append(slots, e.Slot)
		}
		if e.Feed != "" && !slices.Contains(names, e.Feed) {
			names = append(names, e.Feed)
		}
	}
	var err error
	if slices.ContainsFunc(events, func(e ledger.Event) bool { return e.Kind == notice.RollupEvent }) {
		if k.rollups, err = s.tablesOfRollups(ctx); err != nil {
			return k, err
		}
	}
	if slices.ContainsFunc(events, func(e ledger.Event) bool { return notice.IsCommit(&e) }) {
		k.address = s.address()
		if k.following, err = s.following.get(ctx, s.target); err != nil {
			return k, err
		}
	}
	if len(arrivals) > 0 {
		if k.arrivals, err = s.ledger.ByNumber(ctx, arrivals); err != nil {
			return k, err
		}
	}
	if len(slots) > 0 {
		if k.slots, err = s.ledger.SlotsByNumber(ctx, slots); err != nil {
			return k, err
		}
	}
	records, err := s.ledger.FeedsNamed(ctx, names)
	if err != nil {
		return k, err
	}
	return k, s.subjectFeeds.read(ctx, s, records, k.feeds)
}

// subjectFeeds is what events say of feeds, of many of them.
type subjectFeeds struct {
	mu     sync.Mutex
	byName map[string]versionedSubject
}

type versionedSubject struct {
	version int
	subjectFeed
}

// subjectFeedsKept bounds the feeds of which it is remembered.
const subjectFeedsKept = 50_000

// read puts what events say of feeds into a map.
func (c *subjectFeeds) read(ctx context.Context, s *Server, records []ledger.Feed, into map[string]subjectFeed) error {
	var unknown []ledger.Feed
	c.mu.Lock()
	for _, record := range records {
		of, known := c.byName[record.Name]
		if !known || of.version != record.Version {
			unknown = append(unknown, record)
			continue
		}
		of.problem = record.Problem
		into[record.Name] = of.subjectFeed
	}
	c.mu.Unlock()
	if len(unknown) == 0 {
		return nil
	}
	if err := s.read(ctx, unknown); err != nil {
		return err
	}
	for _, record := range unknown {
		of := subjectFeed{}
		if f, err := s.definition(ctx, record); err == nil { // else its problem says so
			of.table = f.Target.Schema + "." + f.Target.Table
			if f.Due != nil {
				of.say = f.Due.Say
			}
		}
		c.mu.Lock()
		if c.byName == nil || len(c.byName) >= subjectFeedsKept {
			c.byName = map[string]versionedSubject{}
		}
		c.byName[record.Name] = versionedSubject{record.Version, of}
		c.mu.Unlock()
		of.problem = record.Problem
		into[record.Name] = of
	}
	return nil
}

// event describes an event.
func (k *subjects) event(e *ledger.Event) api.Event {
	of := k.feeds[e.Feed]
	out := api.Event{ID: e.ID, At: e.At, Kind: e.Kind, Feed: e.Feed, Arrival: e.Arrival, Run: e.Run, State: e.State,
		Table: of.table, Rollup: e.Rollup, Keys: e.Keys, Extract: e.Extract}
	if e.Rollup != "" {
		out.Table = k.rollups[e.Rollup]
	}
	if a, there := k.arrivals[e.Arrival]; there {
		out.Path = a.Path
		if a.Slot != nil || a.DueSlot != nil {
			out.Slot = &api.EventSlot{At: a.Slot}
			if a.DueSlot != nil {
				out.Slot.ID = *a.DueSlot
			}
		}
		if string(a.State) == e.State {
			out.Reason = a.Reason
			if a.FinishedAt != nil && (a.State == ledger.Loaded || a.State == ledger.Refused) {
				b := api.Balance(a.Balance)
				out.Balance = &b
			}
		}
	}
	if s, there := k.slots[e.Slot]; there {
		out.Slot, out.Say = &api.EventSlot{ID: s.ID, At: &s.DueAt, Per: s.Per}, of.say
	}
	if e.Kind == "feed" && e.State == "problem" {
		out.Reason = of.problem
	}
	return out
}

// commit returns the commit that an event is about; nil for other events.
func (k *subjects) commit(e *ledger.Event) *api.Commit {
	a, there := k.arrivals[e.Arrival]
	if !there || !notice.IsCommit(e) {
		return nil
	}
	table := k.feeds[e.Feed].table
	return notice.CommitEvent(e, &a, table, k.following[table], k.address)
}

func (s *Server) status(ctx context.Context, _ *struct{}) (*body[api.Status], error) {
	return s.statuses.get(ctx, s.findStatus)
}

func (s *Server) findStatus(ctx context.Context) (*body[api.Status], error) {
	out := api.Status{Service: s.name, Version: Version, Settings: s.settings.wrong(), Roots: s.roots, Loads: []api.Progress{},
		Stopped: []api.StoppedFeed{}}
	questions, asked := errgroup.WithContext(ctx)
	questions.Go(func() error {
		totals, err := s.ledger.Totals(asked)
		out.Totals = totalsOf(&totals)
		return err
	})
	questions.Go(func() error {
		needs, err := s.ledger.Needs(asked, needsShown)
		out.Needs = each(needs, arrivalOf)
		return err
	})
	questions.Go(func() (err error) { out.Wrong, err = s.wrong(asked, ""); return err })
	questions.Go(func() error {
		lagging, err := s.target.Lagging(asked)
		out.Rollups = each(lagging, func(l *table.Lag) api.RollupLag { return api.RollupLag(*l) })
		return err
	})
	questions.Go(func() error {
		extracts, err := s.ledger.ExtractsInTrouble(asked)
		out.Extracts = each(extracts, func(x *ledger.Extract) api.StoppedExtract {
			return api.StoppedExtract{Extract: x.Name, Problem: x.Problem, Since: *x.ProblemAt}
		})
		return err
	})
	questions.Go(func() (err error) { out.Services, err = s.services(asked); return err })
	questions.Go(func() error {
		stopped, err := s.ledger.StoppedFeeds(asked, needsShown)
		for _, f := range stopped {
			out.Stopped = append(out.Stopped, api.StoppedFeed{Feed: f.Name, Problem: f.Problem})
		}
		return err
	})
	questions.Go(func() error {
		recent, err := s.ledger.RecentFeeds(asked, recentShown)
		if err == nil {
			out.Feeds, err = s.views(asked, recent)
		}
		return err
	})
	if err := questions.Wait(); err != nil {
		return nil, answer(err)
	}
	for _, service := range out.Services {
		out.Loads = append(out.Loads, service.Loads...)
	}
	return give(out, nil)
}

// services lists the services; what this one does is known to the moment.
func (s *Server) services(ctx context.Context) ([]api.ServiceView, error) {
	list, err := s.ledger.Services(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.ServiceView{}
	for _, service := range list {
		var loads []load.Progress
		if service.ID == s.engine.ID() {
			loads = s.engine.Progress.List()
		} else if err := json.Unmarshal([]byte(service.Doing), &loads); err != nil {
			return nil, fmt.Errorf("what service %s does: %w", service.Name, err)
		}
		out = append(out, api.ServiceView{Service: serviceOf(&service), Loads: each(loads, progressOf)})
	}
	return out, nil
}

const (
	dayBack    = 24 * time.Hour
	dayAhead   = 3 * time.Hour
	dayFeeds   = 30  // on a page, where no other number is asked for
	marksShown = 144 // of a feed and state, at the most: ten minutes each for a whole day
	timesAhead = 500
	needsShown = 50
	// recentShown is how many feeds are shown that did something lately.
	recentShown = 20
)

type dayInput struct {
	Hours int    `query:"hours" default:"24" minimum:"1" maximum:"24" doc:"How far back; what came together is told apart the better, the fewer they are"`
	Most  int    `query:"limit" default:"40" minimum:"1" maximum:"200"`
	After string `query:"after" maxLength:"80" doc:"The next of the page before"`
	Mine  bool   `query:"mine" doc:"Only feeds whose owner is the caller: their name, or an address that begins with it"`
	Quiet string `query:"quiet" maxLength:"1000" doc:"Only the feeds without anything to see of this supplier, or in this folder"`
}

// standingsKept is how long it is remembered how much there is to see of feeds.
const standingsKept = 2 * time.Second

// standings is how much there is to see of feeds, as it was a moment ago.
type standings struct {
	mu    sync.Mutex
	hours int
	at    time.Time
	list  []ledger.Standing
}

func (s *Server) standing(ctx context.Context, hours int, from, to time.Time) ([]ledger.Standing, error) {
	known := &s.standings
	known.mu.Lock()
	defer known.mu.Unlock()
	if known.hours == hours && time.Since(known.at) < standingsKept {
		return known.list, nil
	}
	list, err := s.ledger.Standings(ctx, from, to)
	if err == nil {
		known.hours, known.at, known.list = hours, time.Now(), list
	}
	return list, err
}

// quietRank is the rank of feeds without anything to see.
const quietRank = 4

// groupOf is with what a feed is folded that has nothing to see.
func groupOf(f ledger.Standing) string {
	if f.Supplier != "" {
		return f.Supplier
	}
	return path.Dir(f.Folder)
}

// placeOf is where a feed stands in the order of the day.
func placeOf(f ledger.Standing) string { return fmt.Sprintf("%d %s", f.Rank, f.Feed) }

// day says what came and what was due within the last day.
func (s *Server) day(ctx context.Context, in *dayInput) (*body[api.Day], error) {
	if in.After != "" || in.Quiet != "" || in.Mine || in.Most != dayFeeds {
		return s.findDay(ctx, in)
	}
	return s.days[in.Hours-1].get(ctx, func(ctx context.Context) (*body[api.Day], error) { return s.findDay(ctx, in) })
}

func (s *Server) findDay(ctx context.Context, in *dayInput) (*body[api.Day], error) {
	now := time.Now().UTC()
	back := time.Duration(in.Hours) * time.Hour
	out := api.Day{From: now.Add(-back), Now: now, To: now.Add(dayAhead), Feeds: []api.DayLine{},
		Quiet: []api.QuietFeeds{}}
	all, err := s.standing(ctx, in.Hours, out.From, out.To)
	if err != nil {
		return nil, answer(err)
	}
	var names []string
	quiet := map[string]int{} // in out.Quiet
	who := callerOf(ctx)
	for _, f := range all {
		if in.Mine && !f.IsOf(who) {
			continue
		}
		if f.Rank == quietRank && in.Quiet == "" {
			of := groupOf(f)
			n, known := quiet[of]
			if !known {
				n = len(out.Quiet)
				quiet[of], out.Quiet = n, append(out.Quiet, api.QuietFeeds{Of: of, Only: f.Feed})
			}
			if out.Quiet[n].Feeds++; out.Quiet[n].Feeds > 1 {
				out.Quiet[n].Only = ""
			}
			continue
		}
		if in.Quiet != "" && (f.Rank != quietRank || groupOf(f) != in.Quiet) || placeOf(f) <= in.After ||
			out.Next != "" {
			continue
		}
		if names = append(names, f.Feed); len(names) == in.Most {
			out.Next = placeOf(f)
		}
	}
	if out.Feeds, err = s.dayLines(ctx, names, back, &out); err != nil {
		return nil, answer(err)
	}
	return give(out, nil)
}

// dayLines returns the lines of feeds.
func (s *Server) dayLines(ctx context.Context, names []string, back time.Duration, of *api.Day) ([]api.DayLine, error) {
	var feeds []ledger.Feed
	var marks map[string][]ledger.Mark
	var slots map[string][]ledger.DaySlot
	questions, asked := errgroup.WithContext(ctx) // each takes the database a while
	questions.Go(func() (err error) {
		if feeds, err = s.ledger.FeedsNamed(asked, names); err == nil {
			err = s.read(asked, feeds)
		}
		return err
	})
	questions.Go(func() (err error) { marks, err = s.ledger.Marks(asked, names, of.From, back/marksShown); return err })
	questions.Go(func() (err error) { slots, err = s.ledger.DaySlots(asked, names, of.From, of.To); return err })
	if err := questions.Wait(); err != nil {
		return nil, err
	}
	records := map[string]ledger.Feed{}
	for _, r := range feeds {
		records[r.Name] = r
	}
	lines := []api.DayLine{}
	for _, name := range names {
		record, there := records[name]
		if !there {
			continue // removed meanwhile
		}
		line := api.DayLine{Feed: record.Name, Paused: record.Paused, Runs: []time.Time{},
			Marks: each(marks[name], dayMarkOf), Slots: each(slots[name], daySlotOf)}
		f, err := s.definition(ctx, record)
		if err == nil && f.When.Times != nil {
			times := f.When.Times.Between(of.From, of.To)
			line.Runs = append(line.Runs, times[:min(len(times), timesAhead)]...)
		}
		if err == nil && f.Due != nil && !record.Paused {
			line.Slots = append(line.Slots, ahead(f, of.Now, of.To)...)
		}
		lines = append(lines, line)
	}
	return lines, nil
}

// ahead returns the slots that are still to come.
func ahead(f *feed.Feed, now, to time.Time) []api.DaySlot {
	var out []api.DaySlot
	for _, slot := range f.Due.Slots(now, to) {
		if n := len(out); n > 0 && out[n-1].At.Equal(slot.At) {
			out[n-1].Slots++
			continue
		}
		if len(out) == timesAhead {
			break
		}
		out = append(out, api.DaySlot{At: slot.At, Missing: f.Due.Expect(slot).Missing, State: string(due.Open),
			Slots: 1, Ahead: true})
	}
	return out
}
