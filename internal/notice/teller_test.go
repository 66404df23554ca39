package notice

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/due"
	"mullein/internal/core/filename"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

func TestMain(m *testing.M) {
	pgtest.Main(m, func(ctx context.Context, url string) error {
		l, err := ledger.Open(ctx, url)
		if err != nil {
			return err
		}
		return l.Close()
	})
}

var ctx = context.Background()

// office is a ledger, a teller of it, and a place where its messages arrive.
type office struct {
	t        *testing.T
	url      string
	ledger   *ledger.Ledger
	settings settings.Settings
	teller   *Teller
	mails    *postOffice
	hook     *httptest.Server
	mu       sync.Mutex
	events   []map[string]any
	down     func(event map[string]any) bool // whether the hook answers 500 to an event
}

func newOffice(t *testing.T, feeds ...string) *office {
	t.Helper()
	o := &office{t: t, url: pgtest.Database(t), mails: newPostOffice(t)}
	var err error
	o.ledger, err = ledger.Open(ctx, o.url)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, o.ledger.Close()) })
	o.hook = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var e map[string]any
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.NoError(t, json.Unmarshal(body, &e))
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.down != nil && o.down(e) {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		o.events = append(o.events, e)
	}))
	t.Cleanup(o.hook.Close)
	o.settings = settings.Settings{Outlets: map[string]settings.Outlet{"mail": o.mails.outlet(),
		"hook": {Hook: o.hook.URL, Secret: testSecret}}}
	o.teller = o.another()
	for _, f := range feeds {
		o.put(f, "")
	}
	o.tell() // what was before is not told
	return o
}

// another is a further service that tells.
func (o *office) another() *Teller {
	return New(Options{Ledger: o.ledger, Service: uuid.NewString(), Settings: func() *settings.Settings { return &o.settings },
		Address: "http://console", Log: slog.New(slog.NewTextHandler(o.t.Output(), nil))})
}

// put puts a feed; more is lines of its file.
func (o *office) put(name, more string) {
	o.t.Helper()
	_, _, err := o.ledger.PutFeed(ctx, name, "feed: "+name+"\nowner: "+name+
		"@sorrel.example\nsupplier: {name: Upper Office, contact: data@upper.example}\n"+
		"landing: {at: in, files: \"*.csv\"}\nschema: {fields: [{name: a}], primaryKey: [a]}\ntarget: {table: river.a}\n"+more, "test")
	require.NoError(o.t, err)
}

// trouble says that a feed does not work.
func (o *office) trouble(name string, kind news.Kind, of, text string) {
	o.t.Helper()
	require.NoError(o.t, o.ledger.SetProblem(ctx, name, ledger.Trouble{Kind: kind, Of: of, Text: text}))
}

// tell has all told and sent that is due.
func (o *office) tell() {
	o.t.Helper()
	o.tellBy(o.teller)
}

func (o *office) tellBy(t *Teller) {
	o.t.Helper()
	for again := true; again; {
		var telling bool
		var err error
		again, telling, err = t.pass(ctx, true, true)
		require.NoError(o.t, err)
		require.True(o.t, telling)
		t.senders.Wait()
	}
}

func (o *office) seen() []map[string]any {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := o.events
	o.events = nil
	return out
}

// types returns the types of the events that arrived.
func (o *office) types() (out []string) {
	for _, e := range o.seen() {
		out = append(out, e["type"].(string))
	}
	return out
}

// sql changes the records behind the ledger's back, as time does.
func (o *office) sql(statement string, args ...any) {
	o.t.Helper()
	conn, err := pgx.Connect(ctx, o.url)
	require.NoError(o.t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "SET search_path TO mullein_records")
	require.NoError(o.t, err)
	_, err = conn.Exec(ctx, statement, args...)
	require.NoError(o.t, err)
}

// older lets time pass for what was told.
func (o *office) older(by string) {
	o.sql("UPDATE told SET at = at - $1::text::interval", by)
	o.sql("UPDATE notice SET at = at - $1::text::interval, try_after = try_after - $1::text::interval", by)
	o.sql("UPDATE problem_part SET since = since - $1::text::interval", by)
}

func TestOneNoticeForOneCause(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.settings.Tell = []settings.Tell{{Of: []string{"landing"}, By: "hook"}, {Of: []string{"landing"}, By: "mail", To: "owner"}}
	for i := range 30 {
		o.put(fmt.Sprintf("feed-%02d", i), "")
	}
	o.tell()
	for i := range 30 {
		o.trouble(fmt.Sprintf("feed-%02d", i), news.Landing, "", "landing in is away")
	}
	o.tell()
	events := o.seen()
	require.Len(t, events, 1)
	data := events[0]["data"].(map[string]any)
	assert.Equal(t, "mullein.landing", events[0]["type"])
	assert.Equal(t, "30 feeds have no landing", data["heading"])
	assert.Len(t, data["parts"], 30)
	// Owners get a mail each, of their feed alone; but no more than a few at a time.
	assert.Len(t, o.mails.all(), 30)
	m, parts := bodies(t, o.mails.all()[0])
	assert.Contains(t, m.Header.Get("Subject"), "has no landing")
	assert.Contains(t, parts["text/plain"], "landing in is away")
	assert.Contains(t, parts["text/plain"], "http://console/feeds/feed-")
	assert.Equal(t, 1, strings.Count(parts["text/plain"], "landing in is away"))
	o.tell()
	assert.Empty(t, o.seen(), "it is told once")
	for i := range 30 {
		o.trouble(fmt.Sprintf("feed-%02d", i), "", "", "")
	}
	o.tell()
	assert.Equal(t, []string{"mullein.landing.healed"}, o.types())
	assert.Len(t, o.mails.all(), 60)
	o.tell()
	assert.Empty(t, o.seen())
}

func TestItIsToldAgainWhileItLasts(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a", "b")
	o.settings.Tell = []settings.Tell{{Of: []string{"landing"}, By: "hook"}}
	o.trouble("a", news.Landing, "", "away")
	o.tell()
	assert.Equal(t, []string{"mullein.landing"}, o.types())
	o.older("50 minutes")
	o.tell()
	assert.Empty(t, o.seen())
	o.older("11 minutes")
	o.tell()
	assert.Equal(t, []string{"mullein.landing.lasts"}, o.types())
	o.older("3 hours")
	o.tell()
	assert.Empty(t, o.seen(), "the second time after four hours")
	o.trouble("b", news.Landing, "", "away")
	o.tell()
	events := o.seen()
	require.Len(t, events, 1, "what is new is told after a quarter of an hour")
	assert.Len(t, events[0]["data"].(map[string]any)["parts"], 2)
}

func TestOnlyWhatLasted(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook", After: settings.Span(10 * time.Minute)}}
	o.trouble("a", news.Stopped, "", "no idea")
	o.tell()
	assert.Empty(t, o.seen())
	o.trouble("a", "", "", "")
	o.tell()
	assert.Empty(t, o.seen(), "nobody hears of the end of what nobody heard of")
	o.trouble("a", news.Stopped, "", "no idea")
	o.tell()
	o.older("11 minutes")
	o.tell()
	assert.Equal(t, []string{"mullein.stopped"}, o.types())
}

func TestManyProblemsComeTogether(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook"}}
	for i := range 200 {
		o.put(fmt.Sprintf("feed-%03d", i), "")
		o.trouble(fmt.Sprintf("feed-%03d", i), news.Stopped, "", "no idea")
	}
	o.tell()
	events := o.seen()
	require.Len(t, events, 10)
	last := events[9]["data"].(map[string]any)
	assert.Len(t, last["problems"], 191)
	o.put("later", "")
	o.trouble("later", news.Stopped, "", "no idea")
	o.tell()
	assert.Empty(t, o.seen(), "no more for a while")
	o.older("11 minutes")
	o.tell()
	assert.Equal(t, []string{"mullein.stopped"}, o.types())
}

func TestAFeedSaysWhoIsTold(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.put("own", "tell: [{of: [stopped], by: hook}, {of: [landing], by: mail, to: supplier}]\n")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped", "held"}, By: "mail"}}
	o.tell()
	o.trouble("own", news.Stopped, "", "no idea")
	o.tell()
	assert.Equal(t, []string{"mullein.stopped"}, o.types())
	assert.Empty(t, o.mails.all(), "the settings count only for what the feed does not say")
	o.trouble("own", news.Landing, "", "away")
	o.tell()
	require.Len(t, o.mails.all(), 1)
	_, parts := bodies(t, o.mails.all()[0])
	assert.NotContains(t, parts["text/plain"], "http://console", "a supplier gets no link into the console")
}

func TestAFeedWithoutAnOwner(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	_, _, err := o.ledger.PutFeed(ctx, "nobodys", "feed: nobodys\nlanding: {at: in, files: \"*.csv\"}\n"+
		"schema: {fields: [{name: a}], primaryKey: [a]}\ntarget: {table: river.a}\n", "test")
	require.NoError(t, err)
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "mail", To: "owner"}, {Of: []string{"stopped"}, By: "mail", To: "supplier"}}
	o.trouble("nobodys", news.Stopped, "", "no idea")
	o.tell()
	require.Len(t, o.mails.all(), 1)
	m, _ := bodies(t, o.mails.all()[0])
	assert.Equal(t, "<duty@sorrel.example>", m.Header.Get("To"), "whom the outlet names")
}

func TestOneServiceTells(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook"}}
	other := o.another()
	_, telling, err := other.pass(ctx, true, true)
	require.NoError(t, err)
	assert.False(t, telling)
	o.trouble("a", news.Stopped, "", "no idea")
	o.tell()
	require.NoError(t, o.ledger.StopsTelling(ctx, o.teller.Service))
	o.tellBy(other)
	assert.Equal(t, []string{"mullein.stopped"}, o.types(), "the next goes on where the first ended")
	assert.ErrorIs(t, o.ledger.Attempted(ctx, o.teller.Service, 1, ledger.NoticeSent, 0, ""), ledger.ErrNotTelling)
}

func TestWhatFailsIsTriedAgain(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "bad", "good")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook"}}
	o.down = func(e map[string]any) bool { return e["subject"] == "bad" }
	o.trouble("bad", news.Stopped, "", "one")
	o.tell()
	o.trouble("good", news.Stopped, "", "two")
	o.tell()
	assert.Equal(t, []string{"mullein.stopped"}, o.types(), "one feed's message does not stand before those of others")
	o.trouble("bad", "", "", "")
	o.tell()
	waiting, err := o.ledger.Notices(ctx, ledger.NoticeFilter{State: ledger.NoticeWaiting, Most: 10})
	require.NoError(t, err)
	require.Len(t, waiting, 2)
	assert.Contains(t, waiting[1].Answer, "500")
	o.older("3 minutes")
	o.tell()
	problems, err := o.ledger.Problems(ctx, ledger.ProblemFilter{Most: 10})
	require.NoError(t, err)
	kinds := map[news.Kind]bool{}
	for _, p := range problems {
		kinds[p.Kind] = true
	}
	assert.True(t, kinds[news.Outlet], "an outlet that fails is a problem")
	o.down = nil
	o.teller.rests = map[string]time.Time{}
	o.older("1 hour")
	o.tell()
	var ofBad []string
	for _, e := range o.seen() {
		if e["subject"] == "bad" {
			ofBad = append(ofBad, e["type"].(string))
		}
	}
	assert.Equal(t, []string{"mullein.stopped", "mullein.stopped.healed"}, ofBad, "in order of the feed")
	o.down = func(map[string]any) bool { return true }
	o.trouble("bad", news.Stopped, "", "one")
	o.tell()
	o.older("4 days")
	o.teller.rests = map[string]time.Time{}
	o.tell()
	failed, err := o.ledger.Notices(ctx, ledger.NoticeFilter{State: ledger.NoticeFailed, Most: 10})
	require.NoError(t, err)
	assert.Len(t, failed, 1, "after three days it is given up")
}

// TestWhatIsOnItsWayIsSentOnce stops a teller while a hook has a message and has not answered.
func TestWhatIsOnItsWayIsSentOnce(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook"}}
	got, answer := make(chan struct{}, 10), make(chan struct{})
	o.down = func(map[string]any) bool {
		got <- struct{}{}
		<-answer
		return false
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	o.trouble("a", news.Stopped, "", "no idea")
	go func() {
		o.teller.Run(running)
		close(ended)
	}()
	<-got
	stop()
	close(answer)
	<-ended
	o.tellBy(o.another())
	assert.Equal(t, []string{"mullein.stopped"}, o.types())
}

func TestQuietHoursAndSummary(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a", "b")
	now := time.Now().UTC()
	clock := func(d time.Duration) string { return now.Add(d).Format("15:04") }
	hook := o.settings.Outlets["hook"]
	hook.Quiet = &settings.Quiet{From: clock(-time.Hour), To: clock(time.Hour), But: []string{"landing"}}
	hook.Daily = &settings.Daily{At: "00:00"}
	o.settings.Outlets["hook"] = hook
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped", "landing"}, By: "hook"}}
	o.trouble("a", news.Stopped, "", "no idea")
	o.trouble("b", news.Landing, "", "away")
	o.tell()
	assert.ElementsMatch(t, []string{"mullein.landing", "mullein.summary"}, o.types())
	o.tell()
	assert.Empty(t, o.seen(), "one summary a day")
	hook.Quiet = nil
	o.settings.Outlets["hook"] = hook
	o.tell()
	assert.Equal(t, []string{"mullein.stopped"}, o.types(), "it is told after the hours of silence")
}

// TestWhatASlotTells has a mail say what was expected, what came close, and what the owner says.
func TestWhatASlotTells(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.settings.Tell = []settings.Tell{{Of: []string{"missing", "late"}, By: "mail", To: "owner"},
		{Of: []string{"missing"}, By: "mail", To: "supplier"}}
	const calendar = "due: {cron: \"0 6 * * *\", zone: Atlantic/Azores, say: Ring the duty desk.}\n"
	o.put("a", calendar)
	o.put("b", calendar)
	o.tell()
	at := time.Now().UTC().Truncate(time.Hour).Add(-2 * time.Hour)
	slot := func(feed string, state due.State, near []filename.Near) ledger.Slot {
		return ledger.Slot{Feed: feed, DueAt: at, State: state, Files: 1, Per: map[string]string{}, LateAt: at, MissingAt: at.Add(time.Hour), Near: near}
	}
	require.NoError(t, o.ledger.MakeSlots(ctx, []ledger.Slot{slot("a", due.Missing, nil)}))
	near, err := json.Marshal([]filename.Near{{Path: "b_2026-20-11.csv", Why: "day and month are the other way round"}})
	require.NoError(t, err)
	o.sql("UPDATE slot SET near = $1", string(near))
	o.put("a", calendar+"about: Levels.\n") // an event
	o.tell()
	mails := o.mails.all()
	require.Len(t, mails, 2)
	byReader := map[string]string{}
	subjects := map[string]string{}
	for _, text := range mails {
		m, parts := bodies(t, text)
		byReader[m.Header.Get("To")] = strings.ReplaceAll(parts["text/plain"], "\r", "")
		subjects[m.Header.Get("To")] = m.Header.Get("Subject")
	}
	owner := byReader["<a@sorrel.example>"]
	for _, want := range []string{"a, due ", "Atlantic/Azores, is missing", "The expected file did not come.", "Expected: *.csv",
		"b_2026-20-11.csv (day and month are the other way round)", "Ring the duty desk.", "To the supplier, as it is:",
		"http://console/due?feed=a&slot=1"} {
		assert.Contains(t, owner, want)
	}
	assert.Contains(t, subjects["<a@sorrel.example>"], "is missing")
	assert.Contains(t, byReader["<data@upper.example>"], "Please deliver it")
	require.NoError(t, o.ledger.MakeSlots(ctx, []ledger.Slot{slot("b", due.Missing, nil)}))
	o.put("b", calendar+"about: Levels.\n")
	o.tell()
	problems, err := o.ledger.Problems(ctx, ledger.ProblemFilter{Most: 10})
	require.NoError(t, err)
	require.Len(t, problems, 1, "what a supplier does not send is one problem")
	assert.Equal(t, "supplier Upper Office", problems[0].Cause)
	assert.Len(t, problems[0].Parts, 2)
}

func TestARehearsalTouchesNothing(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a")
	_, err := o.teller.Rehearse(ctx, "a", news.Missing)
	var nobody *NobodyError
	require.ErrorAs(t, err, &nobody)
	o.settings.Tell = []settings.Tell{{Of: []string{"missing"}, By: "mail", To: "owner"}}
	_, err = o.teller.Rehearse(ctx, "a", news.Missing)
	require.NoError(t, err)
	o.tell()
	require.Len(t, o.mails.all(), 1)
	m, parts := bodies(t, o.mails.all()[0])
	assert.Equal(t, "<a@sorrel.example>", m.Header.Get("To"))
	assert.Contains(t, m.Header.Get("Subject"), "Rehearsal: ")
	assert.Contains(t, parts["text/plain"], "Nothing happened")
	problems, err := o.ledger.Problems(ctx, ledger.ProblemFilter{Over: true, Most: 10})
	require.NoError(t, err)
	assert.Empty(t, problems)
	_, err = o.teller.Rehearse(ctx, "nowhere", news.Missing)
	assert.ErrorIs(t, err, ledger.ErrNotFound)
}

func TestOldNoticesAreDropped(t *testing.T) {
	t.Parallel()
	o := newOffice(t, "a")
	o.settings.Tell = []settings.Tell{{Of: []string{"stopped"}, By: "hook"}}
	o.trouble("a", news.Stopped, "", "no idea")
	o.tell()
	o.trouble("a", "", "", "")
	o.tell()
	keep := ledger.Keep{Notices: 24 * time.Hour}
	_, err := o.ledger.Drop(ctx, keep, time.Now(), 100)
	require.NoError(t, err)
	list, err := o.ledger.Notices(ctx, ledger.NoticeFilter{Most: 10})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	_, err = o.ledger.Drop(ctx, keep, time.Now().Add(48*time.Hour), 100)
	require.NoError(t, err)
	list, err = o.ledger.Notices(ctx, ledger.NoticeFilter{Most: 10})
	require.NoError(t, err)
	assert.Empty(t, list)
	problems, err := o.ledger.Problems(ctx, ledger.ProblemFilter{Over: true, Most: 10})
	require.NoError(t, err)
	assert.Empty(t, problems)
}
