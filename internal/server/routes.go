package server

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"mullein/internal/api"
	"mullein/internal/core/due"
	"mullein/internal/core/feed"
	"mullein/internal/engine"
	"mullein/internal/inspect"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/settings"
	"mullein/internal/table"
)

// routes registers all calls.
func (s *Server) routes() {
	s.sessionRoutes()
	s.userRoutes()
	s.feedRoutes()
	s.arrivalRoutes()
	s.targetRoutes()
	s.noticeRoutes()
	s.cureRoutes()
	s.placeRoutes()
	s.extractRoutes()
	s.nudgeRoutes()
	s.recordRoutes()
	s.volumeRoutes()
	huma.Register(s.api, get("acts", "/acts", "What people and programs did, the newest first"), s.acts)
}

// get is a call that reads.
func get(id, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: http.MethodGet, Path: "/api/v1" + path, Summary: summary}
}

// do is a call that changes something. Its body is read by [Server.whole].
func do(method, id, path, summary string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		MaxBodyBytes: 3 << 20, BodyReadTimeout: -1}
}

// sessionRoutes registers who is signed in, and what goes on in the whole service.
func (s *Server) sessionRoutes() {
	huma.Register(s.api, do(http.MethodPost, "sign-in", "/session", "Sign in with a code of a link, a token, or a name and a password"),
		s.signIn)
	huma.Register(s.api, get("session", "/session", "Who is signed in"), s.session)
	huma.Register(s.api, do(http.MethodDelete, "sign-out", "/session", "Sign out"), s.signOut)
	huma.Register(s.api, get("tokens", "/tokens", "Tokens for calls"), s.tokens)
	huma.Register(s.api, do(http.MethodPost, "new-token", "/tokens",
		"Make a token for calls; its secret is told once"), s.newToken)
	huma.Register(s.api, do(http.MethodDelete, "end-token", "/tokens/{id}",
		"End a token, and the sessions and streams that were begun with it"), s.endToken)
	huma.Register(s.api, get("status", "/status", "What is waiting, working, late, wrong"), s.status)
	huma.Register(s.api, get("day", "/day", "The last 24 hours, a line a feed"), s.day)
	sse.Register(s.api, get("events", "/events", "What happens, live"),
		map[string]any{"change": api.Event{}, "progress": api.Working{}, "hello": api.Hello{},
			"commit": api.Commit{}, "computed": api.Computed{}}, s.events)
}

// feedRoutes registers feeds, their runs and their calendars.
func (s *Server) feedRoutes() {
	huma.Register(s.api, get("feeds", "/feeds", "Feeds, by name"), s.feeds)
	huma.Register(s.api, do(http.MethodPost, "check-feed", "/feed-check",
		"Say what is wrong with a feed file, change nothing"), s.checkFeed)
	huma.Register(s.api, do(http.MethodPost, "draft", "/drafts", "Propose feeds from the files of a folder below a landing root"), s.draft)
	huma.Register(s.api, do(http.MethodPut, "put-feed", "/feeds/{feed}", "Create a feed or change it"), s.putFeed)
	huma.Register(s.api, get("feed", "/feeds/{feed}", "One feed"), s.feed)
	huma.Register(s.api, do(http.MethodDelete, "remove-feed", "/feeds/{feed}",
		"End a feed; its history and its rows stay"), s.removeFeed)
	huma.Register(s.api, get("feed-versions", "/feeds/{feed}/versions", "All wordings of a feed, the newest first"),
		s.versions)
	huma.Register(s.api, do(http.MethodPost, "pause-feed", "/feeds/{feed}/pause", "Let no run begin by itself"),
		s.pause)
	huma.Register(s.api, do(http.MethodPost, "resume-feed", "/feeds/{feed}/resume",
		"Let runs begin by themselves again"), s.resume)
	huma.Register(s.api, do(http.MethodPost, "run-feed", "/feeds/{feed}/runs",
		"Queue a run; one that is queued already is given back"), s.runFeed)
	huma.Register(s.api, do(http.MethodPost, "cancel-run", "/runs/{id}/cancel",
		"End a run; what it has loaded stays"), s.cancelRun)
	huma.Register(s.api, get("feed-files", "/feeds/{feed}/files", "The files at the landing: taken, or why not"),
		s.feedFiles)
	huma.Register(s.api, huma.Operation{OperationID: "deliver", Method: http.MethodPost,
		Path: "/api/v1/feeds/{feed}/files", MaxBodyBytes: -1, BodyReadTimeout: -1,
		Summary: "Put a file into the landing, whole at once; its bytes are the body"}, s.deliver)
	huma.Register(s.api, get("slots", "/slots", "Expected deliveries and what became of them, in order"), s.slots)
	huma.Register(s.api, get("slot", "/slots/{id}", "One expected delivery"), s.slot)
	huma.Register(s.api, do(http.MethodPost, "accept", "/slots/{id}/accept",
		"Take a file for a slot although its name does not fit"), s.accept)
	huma.Register(s.api, do(http.MethodPost, "excuse", "/slots/{id}/excuse", "Say that a slot need not be filled"),
		s.excuse)
	huma.Register(s.api, get("slot-counts", "/feeds/{feed}/slot-counts",
		"How many slots were in which state, by quarters of an hour"), s.slotCounts)
	huma.Register(s.api, get("plan", "/feeds/{feed}/plan", "What the feed's calendar will have in a span"), s.plan)
	huma.Register(s.api, do(http.MethodPost, "reconcile", "/feeds/{feed}/reconcile",
		"Hold the ledger and the target's markers against each other"), s.reconcile)
	huma.Register(s.api, get("feed-rows", "/feeds/{feed}/rows", "Rows of the target, the greatest keys first"),
		s.feedRows)
	huma.Register(s.api, get("feed-rejects", "/feeds/{feed}/rejects", "Rejects of a feed, the newest arrival first"),
		s.feedRejects)
	huma.Register(s.api, get("runs", "/runs", "Runs, the newest first"), s.runs)
	huma.Register(s.api, get("run", "/runs/{id}", "One run"), s.run)
	huma.Register(s.api, get("feed-checks", "/feeds/{feed}/checks", "The checks of a feed, and what each saw last"),
		s.feedChecks)
	huma.Register(s.api, get("check-history", "/feeds/{feed}/checks/{check}", "What a check saw, the newest first"),
		s.checkHistory)
	huma.Register(s.api, huma.Operation{OperationID: "rehearse", Method: http.MethodPost, Path: "/api/v1/rehearsals",
		MaxBodyBytes: -1, BodyReadTimeout: -1,
		Summary: "Say what a load would do, and do nothing. The body is empty, or multipart/form-data with a feed " +
			"file as definition and a file as file"}, s.rehearse)
	huma.Register(s.api, huma.Operation{OperationID: "sample", Method: http.MethodPost, Path: "/api/v1/samples",
		MaxBodyBytes: -1, BodyReadTimeout: -1,
		Summary: "Read the beginning of a file as a feed reads it, and ask no table. The body is multipart/form-data with a feed " +
			"file as definition, unless a feed is named, and a file as file; without a file, only the feed file is looked at"}, s.sample)
	huma.Register(s.api, huma.Operation{OperationID: "draft-files", Method: http.MethodPost, Path: "/api/v1/drafts/files",
		MaxBodyBytes: -1, BodyReadTimeout: -1,
		Summary: "Propose feeds from files that are sent: the body is multipart/form-data with each of them as file"}, s.draftFiles)
	huma.Register(s.api, get("plan-rebuild", "/feeds/{feed}/rebuild", "Say what a rebuild of a feed would do"),
		s.planRebuild)
	huma.Register(s.api, do(http.MethodPost, "rebuild-feed", "/feeds/{feed}/rebuild",
		"Queue a run that loads all arrivals of a feed afresh, in one transaction"), s.rebuildFeed)
	huma.Register(s.api, get("feed-schema", "/feed-schema", "The feed file's grammar, as a JSON Schema"), s.feedSchema)
}

// arrivalRoutes registers arrivals, their rejects and checks, and what people decide.
func (s *Server) arrivalRoutes() {
	huma.Register(s.api, do(http.MethodPost, "decide", "/decisions",
		"Redo, skip, hold or release arrivals, with a reason"), s.decide)
	huma.Register(s.api, get("arrival-decisions", "/arrivals/{id}/decisions", "What people decided about an arrival"),
		s.arrivalDecisions)
	huma.Register(s.api, get("arrivals", "/arrivals", "Arrivals, the newest first unless the oldest are asked for"), s.arrivals)
	huma.Register(s.api, get("arrival", "/arrivals/{id}", "One arrival"), s.arrival)
	huma.Register(s.api, get("arrival-rejects", "/arrivals/{id}/rejects",
		"Rejects of an arrival, in the order of its file"), s.arrivalRejects)
	huma.Register(s.api, get("arrival-rows", "/arrivals/{id}/rows", "Rows that an arrival last wrote"), s.arrivalRows)
	huma.Register(s.api, get("arrival-checks", "/arrivals/{id}/checks", "What the checks saw of an arrival"),
		s.arrivalChecks)
	huma.Register(s.api, get("reject-groups", "/reject-groups", "Rejects by what they broke and by column"),
		s.rejectGroups)
	huma.Register(s.api, do(http.MethodPost, "mend", "/arrivals/{id}/mend",
		"Hand rejects in again that were put right"), s.mend)
	huma.Register(s.api, do(http.MethodPost, "recall", "/arrivals/{id}/recall",
		"Take what an arrival loaded out of its target, put it back, or say what would become of the rows"), s.recall)
	huma.Register(s.api, get("loads", "/arrivals/{id}/loads",
		"The loads of an arrival, one for each generation, with their balances"), s.loadsOf)
	huma.Register(s.api, get("verify", "/arrivals/{id}/verification",
		"Hold an arrival's file against the target, row by row"), s.verify)
	huma.Register(s.api, get("original", "/arrivals/{id}/original",
		"The record that stands at a line of an arrival's file"), s.original)
}

// targetRoutes registers tables and rollups.
func (s *Server) targetRoutes() {
	huma.Register(s.api, get("target", "/targets/{table}", "A target: its shape, its sizes, its last loads"),
		s.describe)
	huma.Register(s.api, get("target-rows", "/targets/{table}/rows", "Rows of a target that one looks for, by their key"),
		s.targetRows)
	huma.Register(s.api, get("table", "/tables/{table}", "A table of a database, whether feeds end in it or not"), s.table)
	huma.Register(s.api, do(http.MethodPost, "collapse", "/targets/{table}/collapse",
		"Leave one row of each key that stands in a table more than once, and make the key"), s.collapse)
	huma.Register(s.api, get("row", "/targets/{table}/row", "What happened to a row: each load that touched it"), s.row)
	huma.Register(s.api, get("chains", "/chains", "What comes after what: feeds, tables, rollups and extracts"), s.chains)
	huma.Register(s.api, get("rollups", "/rollups", "All rollups"), s.rollups)
	huma.Register(s.api, do(http.MethodPut, "put-rollup", "/rollups/{rollup}", "Create a rollup or change it"),
		s.putRollup)
	huma.Register(s.api, do(http.MethodDelete, "remove-rollup", "/rollups/{rollup}", "End a rollup; its table stays"),
		s.removeRollup)
	huma.Register(s.api, do(http.MethodPost, "rebuild-rollup", "/rollups/{rollup}/rebuild",
		"Compute a rollup as a whole"), s.rebuildRollup)
	huma.Register(s.api, get("verify-rollup", "/rollups/{rollup}/verification",
		"Compare a rollup with a full computation"), s.verifyRollup)
}

// answer turns errors of the parts below into problem details.
func answer(err error) error {
	var problems feed.Problems
	var conflict *ledger.ConflictError
	var notTaken *inspect.NotTakenError
	var wish *table.BadWishError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ledger.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.As(err, &conflict), errors.Is(err, landing.ErrTaken):
		return huma.Error409Conflict(err.Error())
	case errors.As(err, &notTaken), errors.As(err, &wish):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &problems):
		details := make([]error, len(problems))
		for i, p := range problems {
			details[i] = &huma.ErrorDetail{Message: p.What, Location: fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)}
		}
		return huma.Error422UnprocessableEntity("the feed file is wrong", details...)
	}
	return huma.Error503ServiceUnavailable("it could not be done: " + err.Error())
}

type body[T any] struct{ Body T }

func give[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, answer(err)
	}
	return &body[T]{v}, nil
}

// giveAs answers with what was found, in the form of the wire.
func giveAs[T, W any](to func(*T) W) func(*T, error) (*body[W], error) {
	return func(v *T, err error) (*body[W], error) {
		if err != nil {
			return nil, answer(err)
		}
		return &body[W]{to(v)}, nil
	}
}

type signInInput struct {
	Body struct {
		Code     string `json:"code,omitempty" maxLength:"100" doc:"From the link that the start prints; good once"`
		Token    string `json:"token,omitempty" maxLength:"100"`
		Name     string `json:"name,omitempty" maxLength:"63" doc:"With the password"`
		Password string `json:"password,omitempty" maxLength:"256"`
	}
}

type signInOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func (s *Server) signIn(ctx context.Context, in *signInInput) (*signInOutput, error) {
	var by ledger.Credential
	var err error
	switch {
	case in.Body.Code != "":
		by, err = s.ledger.SpendToken(ctx, in.Body.Code, ledger.UseSignIn)
	case in.Body.Name != "":
		by, err = s.byPassword(ctx, in.Body.Name, in.Body.Password)
	default:
		by, err = s.ledger.CheckToken(ctx, in.Body.Token, ledger.UseAPI)
	}
	if errors.Is(err, ledger.ErrToken) && in.Body.Name != "" {
		return nil, huma.Error401Unauthorized("this name and this password do not belong together")
	}
	if errors.Is(err, ledger.ErrToken) {
		return nil, huma.Error401Unauthorized("this link or token is not good, or no longer; the token is in the file " +
			"owner.token of the service's home folder")
	}
	if err != nil {
		return nil, refused(err)
	}
	cookie, err := s.begin(ctx, by)
	if err != nil {
		return nil, answer(err)
	}
	// What it may is asked of the session itself, which is by its token where the code of a link is not.
	of, err := s.ledger.CheckToken(ctx, cookie.Value, ledger.UseSession)
	if err != nil {
		return nil, answer(err)
	}
	return &signInOutput{SetCookie: *cookie, Body: s.sessionOf(of)}, nil
}

// begin begins a session, and returns the cookie that a browser keeps of it.
func (s *Server) begin(ctx context.Context, by ledger.Credential) (*http.Cookie, error) {
	of := s.settings.now.Load().SignIn
	standard := settings.Default().SignIn
	whole, idle := time.Duration(cmp.Or(of.Whole, standard.Whole)), time.Duration(cmp.Or(of.Idle, standard.Idle))
	secret := ledger.NewSecret()
	if err := s.ledger.AddSession(ctx, secret, by, whole, idle); err != nil {
		return nil, err
	}
	return &http.Cookie{Name: s.cookie, Value: secret, Path: s.base() + "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: s.secured, MaxAge: int(whole.Seconds())}, nil
}

func (s *Server) session(ctx context.Context, _ *struct{}) (*body[api.Session], error) {
	return give(s.sessionOf(rightsOf(ctx)), nil)
}

func (s *Server) sessionOf(of ledger.Credential) api.Session {
	return api.Session{Name: of.Name, Service: s.name, Version: Version, By: cmp.Or(of.By, api.ByToken), Rights: rightsAs(of.Rights)}
}

type signOutOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *Server) signOut(ctx context.Context, _ *struct{}) (*signOutOutput, error) {
	if c := credentialOf(ctx); c.use == ledger.UseSession {
		if _, err := s.ledger.SpendToken(ctx, c.secret, ledger.UseSession); err != nil &&
			!errors.Is(err, ledger.ErrToken) {
			return nil, answer(err)
		}
	}
	s.signedOut.give() // live streams of that session end
	return &signOutOutput{http.Cookie{Name: s.cookie, Path: s.base() + "/", Secure: s.secured, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		MaxAge: -1}}, nil
}

func (s *Server) tokens(ctx context.Context, _ *struct{}) (*body[api.TokenList], error) {
	list, err := s.ledger.Tokens(ctx)
	return give(api.TokenList{Items: each(list, tokenOf)}, err)
}

func tokenOf(t *ledger.Token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, CreatedAt: t.CreatedAt, Sessions: t.Sessions, ExpiresAt: t.ExpiresAt,
		LastUsedAt: t.LastUsedAt, Rights: rightsAs(t.Rights)}
}

func (s *Server) newToken(ctx context.Context, in *struct{ Body api.TokenWanted }) (*body[api.NewToken], error) {
	secret := ledger.NewSecret()
	life := time.Duration(0)
	if in.Body.Until != nil {
		if life = time.Until(*in.Body.Until); life <= 0 {
			return nil, answer(&ledger.ConflictError{Reason: "until is over already"})
		}
	}
	id, err := s.ledger.AddToken(ctx, secret, in.Body.Name, ledger.UseAPI, life, 0)
	if err == nil {
		err = s.ledger.GiveRights(ctx, id, ledger.Rights{Role: ledger.Role(in.Body.Role), Feeds: in.Body.Feeds, Data: !in.Body.Blind})
	}
	return give(api.NewToken{ID: id, Name: in.Body.Name, Secret: secret}, err)
}

func (s *Server) endToken(ctx context.Context, in *NumberPath) (*struct{}, error) {
	defer s.signedOut.give() // live streams of its sessions end
	return nil, answer(s.ledger.EndToken(ctx, in.ID))
}

func (s *Server) view(ctx context.Context, record ledger.Feed, counts map[string]*ledger.FeedCounts) (api.FeedView,
	error) {
	v := api.FeedView{Feed: feedOf(&record), Key: []string{}, Counts: optional(counts[record.Name], feedCountsOf)}
	if v.Counts == nil {
		v.Counts = &api.FeedCounts{Feed: record.Name, States: map[string]int64{}}
	}
	v.After = []string{}
	f, err := s.definition(ctx, record)
	var problems feed.Problems
	if errors.As(err, &problems) {
		return v, nil // the engine says so in its problem
	}
	if err != nil {
		return v, err
	}
	v.About, v.Owner, v.Supplier, v.Contact = f.About, f.Owner, f.Supplier.Name, f.Supplier.Contact
	v.Landing, v.Files, v.Settle, v.Delivery = f.Landing.At, f.Landing.Files.String(), f.Landing.Settle.Seconds(),
		string(f.Landing.Delivery)
	v.Table, v.Key, v.Newest = f.Target.Schema+"."+f.Target.Table, f.Schema.PrimaryKey, f.Target.Newest
	v.Wins = f.WhoWins()
	if v.Newest == "" {
		v.Newest = string(f.Target.Order)
	}
	v.Arrival, v.Tolerate = f.When.Arrival, f.Tolerate.String()
	v.After = append(append(v.After, f.When.AfterAll...), f.When.AfterAny...)
	if times := f.When.Times; times != nil {
		v.Cron = times.String()
	}
	nextRun, nextDue := s.definitions.next(record, f, time.Now())
	if !record.Paused && !nextRun.IsZero() {
		v.NextRun = &nextRun
	}
	if f.Due != nil {
		v.Due, v.Say = dueWords(f.Due), f.Due.Say
		if !nextDue.IsZero() {
			v.NextDue = &nextDue
		}
	}
	return v, nil
}

// dueWords says in a line what a calendar expects.
func dueWords(c *due.Calendar) string {
	if c.Times == nil {
		return "something every " + words(c.QuietFor)
	}
	slots := 1
	for _, g := range c.Per {
		slots *= len(g.Values)
	}
	what := "a file"
	if n := slots * c.Files; n > 1 {
		what = fmt.Sprintf("%d files", n)
	}
	return fmt.Sprintf("%s at %s (%s), late after %s, missing after %s", what, c.Times, c.Times.Zone(), words(c.Late),
		words(c.Missing))
}

// words writes a duration as feed files do: 1h30m, not 1h30m0s.
func words(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// known is a version of a feed that was read.
type known struct {
	version int
	feed    *feed.Feed
	err     error

	nextRun, nextDue time.Time // by its schedules, when it was asked last
}

// definition reads a feed's present version. What was read is kept, since
// every page asks for it.
func (s *Server) definition(ctx context.Context, record ledger.Feed) (*feed.Feed, error) {
	if have, ok := s.definitions.get(record); ok {
		return have.feed, have.err
	}
	version, err := s.ledger.Version(ctx, record.Name, record.Version)
	if err != nil {
		return nil, err
	}
	return s.definitions.read(record, version.Definition)
}

// read reads the definitions of feeds that are not known yet, all at once.
func (s *Server) read(ctx context.Context, records []ledger.Feed) error {
	var names []string
	for _, r := range records {
		if _, ok := s.definitions.get(r); !ok {
			names = append(names, r.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	present, err := s.ledger.Present(ctx, names)
	if err != nil {
		return err
	}
	for _, r := range records {
		if v, ok := present[r.Name]; ok && v.Version == r.Version {
			_, _ = s.definitions.read(r, v.Definition) // what is wrong with it is said where it is asked for
		}
	}
	return nil
}

// definitions are versions of feeds that were read, the latest of them.
type definitions struct {
	mu     sync.Mutex
	byName map[string]known
}

// definitionsKept bounds how many versions are kept.
const definitionsKept = 1000

func (d *definitions) get(record ledger.Feed) (known, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	have, ok := d.byName[record.Name]
	return have, ok && have.version == record.Version
}

// next returns when a feed's schedules are next; the zero time for never. Times are
// looked for again only when they have passed: it takes longer than all else of a page.
func (d *definitions) next(record ledger.Feed, f *feed.Feed, now time.Time) (run, due time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	have := d.byName[record.Name]
	if have.version != record.Version {
		have = known{}
	}
	if times := f.When.Times; times != nil && !have.nextRun.After(now) {
		have.nextRun = times.Next(now)
	}
	if f.Due != nil && f.Due.Times != nil && !have.nextDue.After(now) {
		have.nextDue = f.Due.Times.Next(now)
	}
	if have.version == record.Version {
		d.byName[record.Name] = have
	}
	return have.nextRun, have.nextDue
}

func (d *definitions) read(record ledger.Feed, definition string) (*feed.Feed, error) {
	f, err := feed.Parse(record.Name+".yaml", []byte(definition))
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.byName == nil || len(d.byName) >= definitionsKept {
		d.byName = map[string]known{}
	}
	d.byName[record.Name] = known{version: record.Version, feed: f, err: err}
	return f, err
}

// present returns a feed that is not removed, by name.
func (s *Server) present(ctx context.Context, name string) (*feed.Feed, error) {
	record, err := s.ledger.Feed(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.definition(ctx, record)
}

type feedsInput struct {
	Limit
	Text     string `query:"text" maxLength:"200" doc:"Part of the name, the supplier or the landing's folder; * and ? stand for any text and one character"`
	Supplier string `query:"supplier" maxLength:"200"`
	Wrong    bool   `query:"wrong" doc:"Only feeds of which something needs a person"`
	Due      bool   `query:"due" doc:"Only feeds of which something is due at times"`
	After    string `query:"after" maxLength:"63" doc:"The last name of the page before"`
}

func (s *Server) feeds(ctx context.Context, in *feedsInput) (*body[api.FeedList], error) {
	records, total, next, err := s.ledger.FindFeeds(ctx,
		ledger.FeedFilter{Text: in.Text, Supplier: in.Supplier, Wrong: in.Wrong, Due: in.Due, After: in.After,
			Most: in.Most})
	if err != nil {
		return nil, answer(err)
	}
	views, err := s.views(ctx, records)
	return give(api.FeedList{Items: views, Total: total, Next: next}, err)
}

// views says what feeds are and do.
func (s *Server) views(ctx context.Context, records []ledger.Feed) ([]api.FeedView, error) {
	names := make([]string, len(records))
	for i, r := range records {
		names[i] = r.Name
	}
	counts, err := s.ledger.Counts(ctx, names...)
	if err != nil {
		return nil, err
	}
	if err := s.read(ctx, records); err != nil {
		return nil, err
	}
	views := []api.FeedView{}
	for _, r := range records {
		v, err := s.view(ctx, r, counts)
		if err != nil {
			return nil, err
		}
		views = append(views, v)
	}
	return views, nil
}

// FeedPath names a feed in a path.
type FeedPath struct {
	Feed string `path:"feed" maxLength:"63"`
}

func (s *Server) feed(ctx context.Context, in *FeedPath) (*body[api.FeedView], error) {
	record, err := s.ledger.Feed(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	counts, err := s.ledger.Counts(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	return give(s.view(ctx, record, counts))
}

func (s *Server) checkFeed(_ context.Context, in *struct{ Body api.FeedText }) (*body[api.FeedChecked], error) {
	f, err := feed.Parse(in.Body.File, []byte(in.Body.Definition))
	if err != nil {
		return nil, answer(err)
	}
	return give(api.FeedChecked{Feed: f.Name, Table: f.Target.Schema + "." + f.Target.Table, Files: f.Landing.At +
		"/" + f.Landing.Files.String(), DDL: ddlOf(f)}, nil)
}

type putFeedInput struct {
	FeedPath
	Body api.FeedText
}

func (s *Server) putFeed(ctx context.Context, in *putFeedInput) (*body[api.FeedPut], error) {
	f, err := feed.Parse(in.Body.File, []byte(in.Body.Definition))
	if err != nil {
		return nil, answer(err)
	}
	if f.Name != in.Feed {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the file is of feed %q, not of %q", f.Name, in.Feed))
	}
	if err := s.mayEndThere(ctx, f); err != nil {
		return nil, answer(err)
	}
	version, changed, err := s.ledger.PutFeed(ctx, f.Name, in.Body.Definition, callerOf(ctx))
	if err != nil {
		return nil, answer(err)
	}
	shape := s.inspect.Shape(ctx, f)
	s.engine.Changed()
	return give(api.FeedPut{Feed: f.Name, Version: version, Changed: changed, Wins: f.WhoWins(),
		Misfit: append([]string{}, shape.Misfit...), Changes: append([]string{}, shape.Changes...),
		Notes: append([]string{}, slices.Concat(s.landingNotes(ctx, f), f.Cautions(), s.outletNotes(f), shape.Notes)...)}, nil)
}

// landingNotesLimit bounds how long a place may keep a feed from being put.
const landingNotesLimit = 5 * time.Second

// landingNotes says that a feed's landing is not there yet.
func (s *Server) landingNotes(ctx context.Context, f *feed.Feed) []string {
	ctx, cancel := context.WithTimeout(ctx, landingNotesLimit)
	defer cancel()
	folder, err := s.engine.Landing(ctx, f)
	if err != nil {
		return []string{err.Error()}
	}
	folder.Close()
	return nil
}

func (s *Server) removeFeed(ctx context.Context, in *FeedPath) (*struct{}, error) {
	defer s.engine.Changed()
	return nil, answer(s.ledger.RemoveFeed(ctx, in.Feed))
}

func (s *Server) versions(ctx context.Context, in *FeedPath) (*body[api.VersionList], error) {
	versions, err := s.ledger.Versions(ctx, in.Feed)
	return give(api.VersionList{Items: each(versions, feedVersionOf)}, err)
}

func (s *Server) pause(ctx context.Context, in *FeedPath) (*struct{}, error) {
	defer s.engine.Changed()
	return nil, answer(s.ledger.PauseFeed(ctx, in.Feed))
}

func (s *Server) resume(ctx context.Context, in *FeedPath) (*struct{}, error) {
	defer s.engine.Changed()
	return nil, answer(s.ledger.ResumeFeed(ctx, in.Feed))
}

type runFeedInput struct {
	FeedPath
	Body *api.RunWanted
}

func (s *Server) runFeed(ctx context.Context, in *runFeedInput) (*body[api.Run], error) {
	f, err := s.present(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	var wanted ledger.Wanted
	if in.Body != nil {
		wanted = ledger.Wanted{From: in.Body.From, To: in.Body.To, Paths: in.Body.Paths}
	}
	if wanted.From != "" || wanted.To != "" {
		if err := engine.CheckRange(f, wanted, time.Now()); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
	}
	run, err := s.ledger.QueueRun(ctx, in.Feed, "hand", callerOf(ctx), wanted)
	return give(runOf(&run), err)
}

func (s *Server) cancelRun(ctx context.Context, in *NumberPath) (*body[api.Run], error) {
	run, err := s.ledger.CancelRun(ctx, in.ID, callerOf(ctx))
	return give(runOf(&run), err)
}

// Limit bounds a page.
type Limit struct {
	Most int `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type feedRowsInput struct {
	FeedPath
	Limit
	Table string `query:"table" maxLength:"200" doc:"schema.table, of a feed that ends in several; without a schema, public"`
}

func (s *Server) feedRows(ctx context.Context, in *feedRowsInput) (*body[api.TableRows], error) {
	return giveAs(tableRowsOf)(s.browse(ctx, in.Feed, func(f *feed.Feed) (*feed.Feed, error) {
		switch {
		case in.Table != "":
			of := f.Ends(TablePath{in.Table}.split())
			if of == nil {
				return nil, fmt.Errorf("%s does not end in the table %s", f.Name, in.Table)
			}
			return of, nil
		case f.HasKinds():
			return nil, fmt.Errorf("%s ends in several tables; say which table, or ask for the rows of an arrival",
				f.Name)
		}
		return f, nil
	}, 0, 0, in.Most))
}

// browse returns rows of the target of a kind of a feed's files.
func (s *Server) browse(ctx context.Context, name string, of func(*feed.Feed) (*feed.Feed, error), arrival,
	after int64, most int) (*table.Rows, error) {
	record, err := s.ledger.AnyFeed(ctx, name)
	if err != nil {
		return nil, err
	}
	f, err := s.definition(ctx, record)
	if err != nil {
		return nil, err
	}
	if f, err = of(f); err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	shape, err := load.Wanted(f)
	if err != nil {
		return nil, err
	}
	database, err := s.engine.Database(f)
	if err != nil {
		return nil, &ledger.ConflictError{Reason: err.Error()}
	}
	if err := database.Prepare(ctx); err != nil {
		return nil, err
	}
	return database.Browse(ctx, shape, arrival, after, most)
}

// RejectPage asks for a page of rejects.
type RejectPage struct {
	Limit
	AfterArrival int64 `query:"after_arrival" minimum:"0" doc:"The last arrival of the page before"`
	After        int   `query:"after" minimum:"0" doc:"The last number of the page before"`

	Rule   string `query:"rule" doc:"Only those that broke this"`
	Column string `query:"column" doc:"With rule: only those of this column"`
	Open   bool   `query:"open" doc:"Only those that are not mended"`
}

// filter selects the rejects of a page, and one more.
func (p RejectPage) filter(feed string, arrival int64) ledger.RejectFilter {
	return ledger.RejectFilter{Feed: feed, Arrival: arrival, Rule: p.Rule, Column: p.Column, Open: p.Open,
		AfterArrival: p.AfterArrival, After: p.After, Most: p.Most + 1}
}

type feedRejectsInput struct {
	FeedPath
	RejectPage
}

func (s *Server) feedRejects(ctx context.Context, in *feedRejectsInput) (*body[api.RejectList], error) {
	if _, err := s.ledger.Feed(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	return rejects(s.ledger.Rejects(ctx, in.filter(in.Feed, 0)))(in.Most)
}

func rejects(list []ledger.NotableReject, err error) func(most int) (*body[api.RejectList], error) {
	return func(most int) (*body[api.RejectList], error) {
		return give(api.RejectList{Items: each(list[:min(most, len(list))], notableRejectOf), More: len(list) > most},
			err)
	}
}

// NumberPath names an arrival or a run in a path.
type NumberPath struct {
	ID int64 `path:"id" minimum:"1"`
}

type arrivalRejectsInput struct {
	NumberPath
	RejectPage
}

func (s *Server) arrivalRejects(ctx context.Context, in *arrivalRejectsInput) (*body[api.RejectList], error) {
	if _, err := s.ledger.Arrival(ctx, in.ID); err != nil {
		return nil, answer(err)
	}
	if in.After > 0 {
		in.AfterArrival = in.ID
	}
	return rejects(s.ledger.Rejects(ctx, in.filter("", in.ID)))(in.Most)
}

type arrivalRowsInput struct {
	NumberPath
	Limit
	AfterLine int64 `query:"after_line" minimum:"0" doc:"The last line of the page before"`
}

func (s *Server) arrivalRows(ctx context.Context, in *arrivalRowsInput) (*body[api.TableRows], error) {
	a, err := s.ledger.Arrival(ctx, in.ID)
	if err != nil {
		return nil, answer(err)
	}
	of := func(f *feed.Feed) (*feed.Feed, error) { return f.Of(a.Captures) }
	return giveAs(tableRowsOf)(s.browse(ctx, a.Feed, of, a.ID, in.AfterLine, in.Most))
}

type runsInput struct {
	Limit
	Feed      string `query:"feed"`
	Before    int64  `query:"before" minimum:"0"`
	Ascending bool   `query:"ascending" doc:"The oldest first; the next page is asked for with after, and not before"`
	After     int64  `query:"after" minimum:"0"`
}

func (s *Server) runs(ctx context.Context, in *runsInput) (*body[api.RunList], error) {
	list, err := s.ledger.Runs(ctx, ledger.RunFilter{Feed: in.Feed, Before: in.Before, Ascending: in.Ascending,
		After: in.After, Most: in.Most + 1})
	out := api.RunList{Items: each(list[:min(in.Most, len(list))], runOf)}
	if len(list) > in.Most {
		out.Next = list[in.Most-1].ID
	}
	return give(out, err)
}

func (s *Server) run(ctx context.Context, in *NumberPath) (*body[api.Run], error) {
	run, err := s.ledger.Run(ctx, in.ID)
	return give(runOf(&run), err)
}

type arrivalsInput struct {
	Limit
	Feed   string       `query:"feed"`
	State  ledger.State `query:"state" enum:"noticed,settling,ready,loading,loaded,refused,failed,skipped,held,gone,recalled"`
	Needs  bool         `query:"needs" doc:"Only what needs a person: of the last seven days refused, failed for good or held, and not overtaken by a later version"`
	Text   string       `query:"text" maxLength:"200" doc:"Part of the path; * and ? stand for any text and one character"`
	Run    int64        `query:"run" minimum:"0"`
	Slot   int64        `query:"slot" minimum:"0"`
	Since  time.Time    `query:"since" doc:"Noticed since"`
	Until  time.Time    `query:"until" doc:"Noticed before"`
	Before int64        `query:"before" minimum:"0"`
	// The oldest first is asked for apart, since 0 is where that begins.
	Ascending bool  `query:"ascending" doc:"The oldest first; the next page is asked for with after, and not before"`
	After     int64 `query:"after" minimum:"0"`
}

func (s *Server) arrivals(ctx context.Context, in *arrivalsInput) (*body[api.ArrivalList], error) {
	list, next, err := s.ledger.Arrivals(ctx, ledger.Filter{Feed: in.Feed, State: in.State, Text: in.Text,
		Run: in.Run, Slot: in.Slot, Needs: in.Needs, Since: in.Since, Until: in.Until, Before: in.Before,
		Ascending: in.Ascending, After: in.After, Most: in.Most})
	return give(api.ArrivalList{Items: each(list, arrivalOf), Next: next}, err)
}

func (s *Server) arrival(ctx context.Context, in *NumberPath) (*body[api.Arrival], error) {
	a, err := s.ledger.Arrival(ctx, in.ID)
	return give(arrivalOf(&a), err)
}

type schemaOutput struct {
	ContentType string `header:"Content-Type"`
	Body        json.RawMessage
}

func (s *Server) feedSchema(context.Context, *struct{}) (*schemaOutput, error) {
	schema, err := feed.JSONSchema()
	return &schemaOutput{"application/schema+json", schema}, answer(err)
}
