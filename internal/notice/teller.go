package notice

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/settings"
)

// Options is what a teller works with.
type Options struct {
	Ledger   *ledger.Ledger
	Service  string // its number
	Settings func() *settings.Settings
	Address  string // of the console, where the settings do not say it
	// Rollups returns what there is of derived tables; nil where there are none.
	Rollups func(ctx context.Context) (Rollups, error)
	// Database returns the host and port of the database behind a connection, and its name; nil where they are not
	// told.
	Database func(connection string) (address, name string)
	// Trace tells of an arrival that has ended; nil where traces go nowhere.
	Trace func(a *ledger.Arrival, table string)
	// Ending returns what of this service is about to end, and when; nil where nothing can.
	Ending func() map[string]string
	Log    *slog.Logger
}

// Rollups is what there is of derived tables.
type Rollups struct {
	Wrong map[string]string   // why those lag or are wrong that do
	Of    map[string][]string // which are computed from a table
	Table map[string]string   // where the rows of each are
}

// Teller tells people and programs what happened and what did not.
type Teller struct {
	Options
	about   about
	mu      sync.Mutex
	sending map[string]bool      // outlets that are sent to now
	rests   map[string]time.Time // when an outlet that failed is tried again
	senders sync.WaitGroup
	rollups Rollups // as they were lately
	said    string  // the last complaint
}

// New returns a teller.
func New(o Options) *Teller {
	return &Teller{Options: o, about: about{ledger: o.Ledger}, sending: map[string]bool{}, rests: map[string]time.Time{}}
}

const (
	eventsAtOnce  = 5000
	feedsAtOnce   = 200
	partsLooked   = 1000
	betweenPasses = 800 * time.Millisecond
	betweenLooks  = 5 * time.Second // at what nobody is told of by events
	betweenSweeps = time.Minute     // over all feeds in trouble
	standBy       = 2 * time.Second
)

// Run tells until ctx ends, whenever no other service does.
func (t *Teller) Run(ctx context.Context) {
	told := make(chan struct{}, 1)
	poke := func() {
		select {
		case told <- struct{}{}:
		default:
		}
	}
	go t.Ledger.Follow(ctx, poke)
	defer func() {
		t.senders.Wait() // what is on its way is recorded before another service tells
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if err := t.Ledger.StopsTelling(last, t.Service); err != nil {
			t.Log.Debug("another service tells later", "error", err)
		}
	}()
	var looked, swept time.Time
	for ctx.Err() == nil {
		now := time.Now()
		look, sweep := now.Sub(looked) >= betweenLooks, now.Sub(swept) >= betweenSweeps
		again, telling, err := t.pass(ctx, look, sweep)
		if telling && look {
			looked = now
		}
		if telling && sweep {
			swept = now
		}
		t.complain(ctx, err)
		pause := 3 * time.Second // events are told of at once
		switch {
		case again:
			pause = betweenPasses
		case !telling:
			pause = standBy
		}
		select {
		case <-ctx.Done():
		case <-told:
			sleep(ctx, betweenPasses)
		case <-time.After(pause):
		}
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// complain logs what keeps notices from being told, once.
func (t *Teller) complain(ctx context.Context, err error) {
	text := ""
	if err != nil && ctx.Err() == nil && !errors.Is(err, ledger.ErrNotTelling) {
		text = err.Error()
	}
	if text != "" && text != t.said {
		t.Log.Warn("notices could not be told; trying on", "error", err)
	}
	t.said = text
}

// pass tells what is new. It reports whether there is more at once, and whether this service
// tells.
func (t *Teller) pass(ctx context.Context, look, sweep bool) (again, telling bool, err error) {
	event, decision, telling, err := t.Ledger.Tells(ctx, t.Service)
	if err != nil || !telling {
		return false, telling, err
	}
	s := t.Settings()
	again, err = t.takeUp(ctx, s, event, decision, sweep)
	if err == nil && look {
		err = t.lookAround(ctx)
	}
	if err == nil {
		err = t.tellProblems(ctx, s)
	}
	if err == nil && look {
		err = t.summaries(ctx, s)
	}
	if err == nil {
		err = t.send(ctx)
	}
	return again, true, err
}

// takeUp records what events and decisions say.
func (t *Teller) takeUp(ctx context.Context, s *settings.Settings, event, decision int64, sweep bool) (more bool, err error) {
	events, err := t.Ledger.EventsAfter(ctx, event, eventsAtOnce)
	if err != nil {
		return false, err
	}
	decisions, err := t.Ledger.DecisionsAfter(ctx, decision, eventsAtOnce)
	if err != nil {
		return false, err
	}
	feeds := map[string]bool{}
	told := ledger.Progress{Event: event, Decision: decision}
	for i := range events {
		told.Event = events[i].ID
		if e := &events[i]; e.Feed != "" && concerns(e) {
			feeds[e.Feed] = true
		}
	}
	for _, d := range decisions {
		told.Decision = d.ID
	}
	if sweep {
		trouble, err := t.Ledger.FeedsInTrouble(ctx)
		if err != nil {
			return false, err
		}
		for _, name := range trouble {
			feeds[name] = true
		}
	}
	if len(feeds) == 0 && len(events) == 0 && len(decisions) == 0 {
		return false, nil
	}
	if err := t.trace(ctx, events); err != nil {
		return false, err
	}
	notices, err := t.happened(ctx, s, events, decisions)
	if err != nil {
		return false, err
	}
	more = len(events) == eventsAtOnce || len(decisions) == eventsAtOnce
	names := slices.Sorted(maps.Keys(feeds))
	for len(names) > feedsAtOnce { // how far was told is recorded with the last of them
		if err := t.record(ctx, names[:feedsAtOnce], ledger.Progress{}, nil); err != nil {
			return false, err
		}
		names = names[feedsAtOnce:]
	}
	return more, t.record(ctx, names, told, notices)
}

// trace tells of the arrivals that have ended, as traces.
func (t *Teller) trace(ctx context.Context, events []ledger.Event) error {
	if t.Trace == nil {
		return nil
	}
	var ended []int64
	var names []string
	for i := range events {
		e := &events[i]
		if e.Kind == "load" || e.Kind == "arrival" && slices.Contains([]ledger.State{ledger.Refused, ledger.Failed, ledger.Skipped},
			ledger.State(e.State)) {
			ended, names = append(ended, e.Arrival), append(names, e.Feed)
		}
	}
	if len(ended) == 0 {
		return nil
	}
	arrivals, err := t.Ledger.ByNumber(ctx, ended)
	if err != nil {
		return err
	}
	slices.Sort(names)
	feeds, err := t.about.read(ctx, slices.Compact(names))
	if err != nil {
		return err
	}
	for _, a := range arrivals {
		t.Trace(&a, feeds[a.Feed].target)
	}
	return nil
}

// record records what is wrong of some feeds.
func (t *Teller) record(ctx context.Context, feeds []string, told ledger.Progress, notices []ledger.Notice) error {
	wrong, err := t.Ledger.WrongOf(ctx, feeds)
	if err != nil {
		return err
	}
	return t.Ledger.RecordWrong(ctx, t.Service, feeds, nil, wrong, told, notices)
}

// concerns reports whether something may be wrong, or right again, by an event.
func concerns(e *ledger.Event) bool {
	switch e.Kind {
	case "arrival":
		return !slices.Contains([]ledger.State{ledger.Noticed, ledger.Settling, ledger.Loading}, ledger.State(e.State))
	case "slot":
		return true
	case "feed":
		return e.State == "problem" || e.State == "removed" || e.State == "put"
	}
	return false
}

// lookAround finds what no event tells: services, rollups and outlets.
func (t *Teller) lookAround(ctx context.Context) error {
	var wrong []ledger.Wrong
	add := func(kind news.Kind, of, what string, since time.Time) {
		wrong = append(wrong, ledger.Wrong{Kind: kind, Cause: news.Cause(kind, "", "", of), What: of + ": " + what, Since: since})
	}
	services, err := t.Ledger.Services(ctx)
	if err != nil {
		return err
	}
	for _, s := range services {
		if !s.Alive && time.Since(s.SeenAt) > ledger.LeaseTime {
			add(news.Service, s.Name, "it was heard of last at "+s.SeenAt.UTC().Format(time.RFC3339)+"; others work its feeds", s.SeenAt)
		}
	}
	outlets, err := t.Ledger.WaitingOutlets(ctx)
	if err != nil {
		return err
	}
	const patience = 2 * time.Minute
	for name, since := range outlets {
		if since != nil && time.Since(*since) > patience {
			add(news.Outlet, name, "a notice waits to be sent since "+since.UTC().Format(time.RFC3339), *since)
		}
	}
	if t.Rollups != nil {
		rollups, err := t.Rollups(ctx)
		if err != nil {
			return err
		}
		t.mu.Lock()
		t.rollups = rollups
		t.mu.Unlock()
		for name, why := range rollups.Wrong {
			add(news.Rollup, name, why, time.Now())
		}
	}
	extracts, err := t.Ledger.ExtractsInTrouble(ctx)
	if err != nil {
		return err
	}
	for _, x := range extracts {
		add(news.Extract, "extract "+x.Name, x.Problem, *x.ProblemAt)
	}
	if t.Ending != nil {
		for of, what := range t.Ending() {
			add(news.Ending, of, what, time.Now())
		}
	}
	return t.Ledger.RecordWrong(ctx, t.Service, []string{""}, []news.Kind{news.Service, news.Outlet, news.Rollup, news.Extract, news.Ending}, wrong,
		ledger.Progress{}, nil)
}

// pending is what one reader is to be told of a problem.
type pending struct {
	problem  *ledger.Problem
	parts    []ledger.ProblemPart
	to       address
	told     int // how often the reader was told before
	occasion ledger.Occasion
}

// A reader gets so many notices of new problems in a time; what is more waits, and comes as one.
const (
	begunAtMost = 10
	begunWithin = 10 * time.Minute
)

// tellProblems writes the notices of problems that are due.
func (t *Teller) tellProblems(ctx context.Context, s *settings.Settings) error {
	if len(s.Outlets) == 0 { // nobody can be told
		return nil
	}
	problems, told, now, err := t.Ledger.OpenProblems(ctx, partsLooked)
	if err != nil || len(problems) == 0 {
		return err
	}
	var names []string
	for _, p := range problems {
		for _, part := range p.Parts {
			names = append(names, part.Feed)
		}
	}
	slices.Sort(names)
	feeds, err := t.about.read(ctx, slices.Compact(names))
	if err != nil {
		return err
	}
	before := map[int64]map[address]ledger.Told{}
	for _, o := range told {
		if before[o.Problem] == nil {
			before[o.Problem] = map[address]ledger.Told{}
		}
		before[o.Problem][address{o.Outlet, o.Whom}] = o
	}
	var all []pending
	var ended []int64
	for i := range problems {
		p := &problems[i]
		if p.OverAt != nil {
			ended = append(ended, p.ID)
			for to := range before[p.ID] {
				if !strings.HasPrefix(to.whom, forSupplier) {
					all = append(all, pending{p, p.Parts, to, 0, ledger.Healed})
				}
			}
			continue
		}
		all = append(all, dueOf(s, p, feeds, before[p.ID], now)...)
	}
	if len(all) == 0 && len(ended) == 0 {
		return nil
	}
	begun, err := t.Ledger.Begun(ctx, begunWithin)
	if err != nil {
		return err
	}
	return t.write(ctx, s, all, ended, begun, now)
}

// dueOf returns who is to be told of a problem that lasts.
func dueOf(s *settings.Settings, p *ledger.Problem, feeds map[string]reader, before map[address]ledger.Told,
	now time.Time) (out []pending) {
	parts, added := map[address][]ledger.ProblemPart{}, map[address]bool{}
	for _, part := range p.Parts {
		if part.OverAt != nil {
			continue
		}
		for to, after := range routesOf(s, p.Kind, part.Feed, feeds[part.Feed]) {
			if now.Before(part.Since.Add(after)) {
				continue
			}
			parts[to] = append(parts[to], part)
			if b, is := before[to]; is && part.Since.Add(after).After(b.At) {
				added[to] = true
			}
		}
	}
	for to, list := range parts {
		b, is := before[to]
		supplier := strings.HasPrefix(to.whom, forSupplier)
		switch {
		case !is:
			out = append(out, pending{p, list, to, 0, ledger.Begins})
		case supplier && !added[to]: // a supplier is told of each thing once
		case !now.Before(b.At.Add(news.Again(b.Times, added[to]))):
			if supplier {
				list = slices.DeleteFunc(list, func(part ledger.ProblemPart) bool { return !part.Since.After(b.At) })
			}
			out = append(out, pending{p, list, to, b.Times, ledger.Lasts})
		}
	}
	slices.SortFunc(out, func(a, b pending) int {
		return cmp.Or(strings.Compare(a.to.outlet, b.to.outlet), strings.Compare(a.to.whom, b.to.whom))
	})
	return out
}

// write writes notices: one each, or one for many where a reader would get too many.
func (t *Teller) write(ctx context.Context, s *settings.Settings, all []pending, ended []int64, begun map[[2]string]int,
	now time.Time) error {
	a := t.author(s)
	var notices []ledger.Notice
	var told []ledger.Told
	byReader := map[address][]pending{}
	for _, d := range all {
		quiet := quietUntil(s, d.to.outlet, d.problem.Kind, now)
		switch {
		case d.occasion == ledger.Healed:
			n, err := a.notice(ctx, s, []pending{d})
			if err != nil {
				return err
			}
			if quiet.After(now) {
				n.TryAfter = quiet
			}
			notices = append(notices, n)
		case quiet.After(now):
		case d.occasion == ledger.Lasts:
			n, err := a.notice(ctx, s, []pending{d})
			if err != nil {
				return err
			}
			notices, told = append(notices, n), append(told, d.now())
		default:
			byReader[d.to] = append(byReader[d.to], d)
		}
	}
	for to, list := range byReader {
		slices.SortStableFunc(list, func(a, b pending) int { return a.problem.Kind.Urgency() - b.problem.Kind.Urgency() })
		room := begunAtMost - begun[[2]string{to.outlet, to.whom}]
		if room <= 0 {
			continue
		}
		for len(list) > 0 {
			together := list[:1]
			if room == 1 {
				together = list
			}
			n, err := a.notice(ctx, s, together)
			if err != nil {
				return err
			}
			notices = append(notices, n)
			for _, d := range together {
				told = append(told, d.now())
			}
			list, room = list[len(together):], room-1
		}
	}
	if len(notices) == 0 && len(ended) == 0 {
		return nil
	}
	return t.Ledger.TellOf(ctx, t.Service, notices, told, ended)
}

// now says that the reader is told.
func (d *pending) now() ledger.Told {
	return ledger.Told{Problem: d.problem.ID, Outlet: d.to.outlet, Whom: d.to.whom, Times: d.told + 1}
}

// quietUntil returns when an outlet may be used for a kind of news.
func quietUntil(s *settings.Settings, outlet string, kind news.Kind, now time.Time) time.Time {
	q := s.Outlets[outlet].Quiet
	if q == nil {
		return now
	}
	zone, err := time.LoadLocation(q.Zone)
	if err != nil {
		zone = time.UTC // the settings were checked
	}
	from, _ := news.ParseClock(q.From)
	to, _ := news.ParseClock(q.To)
	quiet := news.Quiet{From: from, To: to, Zone: zone}
	for _, k := range q.But {
		quiet.But = append(quiet.But, news.Kind(k))
	}
	return quiet.Until(now, kind)
}

func (t *Teller) author(s *settings.Settings) *author {
	address := strings.TrimRight(cmp.Or(s.Address, t.Address), "/")
	return &author{ledger: t.Ledger, about: &t.about, address: address}
}

// stored is a message as the ledger keeps it.
type stored struct {
	To    []string        `json:"to,omitempty"`
	Text  string          `json:"text"`
	HTML  string          `json:"html"`
	Event json.RawMessage `json:"event"`
	Env   []string        `json:"env,omitempty"`
}

// send begins to send to each outlet for which notices wait.
func (t *Teller) send(ctx context.Context) error {
	waiting, err := t.Ledger.WaitingOutlets(ctx)
	if err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for name := range waiting {
		if t.sending[name] || time.Now().Before(t.rests[name]) {
			continue
		}
		t.sending[name] = true
		t.senders.Go(func() {
			err := t.sendTo(ctx, name)
			t.mu.Lock()
			delete(t.sending, name)
			t.mu.Unlock()
			if err != nil && ctx.Err() == nil && !errors.Is(err, ledger.ErrNotTelling) {
				t.Log.Warn("a notice could not be recorded as sent", "outlet", name, "error", err)
			}
		})
	}
	return nil
}

// sendTo sends to one outlet what waits for it, until it takes nothing: one message that fails
// does not stand before those of other feeds.
func (t *Teller) sendTo(ctx context.Context, name string) error {
	const atOnce, inARow = 50, 2
	failed := 0
	for ctx.Err() == nil {
		list, err := t.Ledger.ToSend(ctx, name, atOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		for i := range list {
			ok, pause, err := t.sendOne(ctx, &list[i])
			if err != nil || ctx.Err() != nil {
				return err
			}
			if failed++; ok {
				failed = 0
			}
			if failed == inARow {
				t.mu.Lock()
				t.rests[name] = time.Now().Add(pause)
				t.mu.Unlock()
				return nil
			}
		}
	}
	return nil
}

// sendOne sends a notice. ok is false where it is tried again after a pause.
func (t *Teller) sendOne(ctx context.Context, n *ledger.Notice) (ok bool, pause time.Duration, err error) {
	answer := ""
	// The settings are those after the notice was made: its outlet may be new.
	outlet, is := t.Settings().Outlets[n.Outlet]
	if !is {
		err = fmt.Errorf("there is no outlet %q any more", n.Outlet)
	} else {
		var m *Message
		if m, err = messageOf(n); err == nil {
			sending, cancel := outliving(ctx, grace)
			answer, err = Send(sending, outlet, m)
			cancel()
		}
	}
	if ctx.Err() != nil && err != nil {
		return false, 0, nil // it is sent again by whoever tells next
	}
	ctx, cancel := outliving(ctx, grace)
	defer cancel()
	var refused *RefusedError
	switch {
	case err == nil:
		return true, 0, t.Ledger.Attempted(ctx, t.Service, n.ID, ledger.NoticeSent, 0, answer)
	case errors.As(err, &refused), time.Since(n.At) > news.GiveUp:
		t.Log.Error("a notice is given up", "outlet", n.Outlet, "notice", n.ID, "subject", n.Subject, "error", err)
		return true, 0, t.Ledger.Attempted(ctx, t.Service, n.ID, ledger.NoticeFailed, 0, printable(err.Error()+"\n"+answer))
	}
	pause = news.Retry(n.Attempts + 1)
	if n.Attempts == 0 {
		t.Log.Warn("a notice could not be sent; it is tried again", "outlet", n.Outlet, "notice", n.ID, "error", err)
	}
	return false, pause, t.Ledger.Attempted(ctx, t.Service, n.ID, ledger.NoticeWaiting, pause, printable(err.Error()+"\n"+answer))
}

// grace is how long what is on its way may take when the service stops. It is less than the time that a
// teller has left then.
const grace = 3 * time.Second

// outliving returns a context that ends so long after another.
func outliving(ctx context.Context, by time.Duration) (context.Context, context.CancelFunc) {
	longer, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(by, cancel) })
	return longer, func() {
		stop()
		cancel()
	}
}

// messageOf returns the message of a notice.
func messageOf(n *ledger.Notice) (*Message, error) {
	var m stored
	if err := json.Unmarshal(n.Message, &m); err != nil {
		return nil, fmt.Errorf("notice %d: %w", n.ID, err)
	}
	var e map[string]json.RawMessage
	if err := json.Unmarshal(m.Event, &e); err != nil {
		return nil, fmt.Errorf("notice %d: %w", n.ID, err)
	}
	id := strconv.FormatInt(n.ID, 10)
	if string(e["id"]) == `""` {
		e["id"], _ = json.Marshal("notice-" + id)
	}
	event, err := json.Marshal(e)
	return &Message{ID: id, To: m.To, Subject: n.Subject, Text: m.Text, HTML: m.HTML, Event: event, Env: m.Env}, err
}
