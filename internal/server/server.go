package server

import (
	"cmp"
	"context"
	"crypto/rand"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/engine"
	"mullein/internal/extract"
	"mullein/internal/gather"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/notice"
	"mullein/internal/place"
	"mullein/internal/queue"
	"mullein/internal/settings"
	"mullein/internal/table"
)

// Version is the API's and the program's.
const Version = "0.2.0"

// Commit says from which state of the sources the program was built; it is set when
// it is built.
var Commit = "unknown"

//go:embed all:console
var consoleFiles embed.FS

// Server answers HTTP.
type Server struct {
	ledger   *ledger.Ledger
	engine   *engine.Engine
	inspect  *inspect.Inspector
	target   *table.Database // the main one
	name     string
	cookie   string // the name of the cookie of sessions
	owner    int64  // the owner's token
	roots    []string
	places   *place.Places
	extracts *extract.Worker
	queues   *queue.Queues
	database string           // the URL of the main one
	gather   *gather.Gatherer // of rows of senders without files
	log      *slog.Logger
	api      huma.API
	router   *gin.Engine

	settings     held
	secured      bool // people reach it by https
	teller       *notice.Teller
	hub          hub
	following    following
	subjectFeeds subjectFeeds
	listens      string // the address that the service answers at
	statuses     shared[*body[api.Status]]
	days         [24]shared[*body[api.Day]] // by the hours that are shown, less one
	definitions  definitions
	standings    standings
	signedOut    signal // given when somebody signs out

	mu        sync.Mutex
	followers map[chan struct{}]bool
	guard     guard
	passwords passwords
	openID    openID
	over      context.Context // ends the live streams
}

// New makes a server over the parts of a service.
func New(l *ledger.Ledger, e *engine.Engine, of Identity, roots []string, log *slog.Logger) *Server {
	target, _ := e.Databases.Get(feed.MainConnection)
	s := &Server{ledger: l, engine: e, inspect: e.Inspector(), target: target, name: of.Name,
		cookie: cookieName(of.ID), owner: of.Owner, roots: roots, log: log, followers: map[chan struct{}]bool{},
		over: context.Background(), passwords: make(passwords, hashed)}
	s.settings.now.Store(&settings.Settings{})
	gin.SetMode(gin.ReleaseMode)
	s.router = gin.New()
	_ = s.router.SetTrustedProxies(nil) // fails for what is no address only
	s.router.Use(gin.CustomRecoveryWithWriter(nil, s.recovered), s.secure, storable)
	s.router.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	s.router.GET("/readyz", s.ready)
	config := huma.DefaultConfig("Mullein", Version)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.CreateHooks = nil // no $schema links in answers
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	s.router.Use(s.guarded, s.signedIn)
	s.router.GET("/metrics", s.metrics)
	s.router.GET(openIDPath, s.beginOpenID)
	s.router.GET(openIDBackPath, s.endOpenID)
	s.api = humagin.New(s.router, config)
	s.api.UseMiddleware(s.whole, s.kept, s.allowed, s.withWriter)
	s.routes()
	s.router.NoRoute(s.console)
	return s
}

// Handler returns all routes. Calls that change something are refused when a
// browser says that they come from another site.
func (s *Server) Handler() http.Handler {
	protected := http.NewCrossOriginProtection().Handler(s.router)
	return compressed(func(w http.ResponseWriter, r *http.Request) {
		// Some proxies take the base off, and some do not.
		switch base := s.base(); {
		case base != "" && r.URL.Path == base:
			http.Redirect(w, r, base+"/", http.StatusPermanentRedirect)
		case base != "" && strings.HasPrefix(r.URL.Path, base+"/"):
			http.StripPrefix(base, protected).ServeHTTP(w, r)
		default:
			protected.ServeHTTP(w, r)
		}
	})
}

// compressed has answers that are texts compressed for those that take them so. Only answers to GET are: those to other
// calls may hold secrets, whose length a compressed answer would tell.
func compressed(h http.HandlerFunc) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(4<<10), gzhttp.PreferZstd(true), gzhttp.ContentTypes([]string{"text/javascript",
		"application/javascript", "text/css", "text/html", "image/svg+xml", "application/json", "application/openapi+json"}))
	if err != nil { // which it says of wrong options only
		return h
	}
	zipped := wrap(h)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet && !strings.HasSuffix(r.URL.Path, "/events") { // whose news are not to wait
			zipped.ServeHTTP(w, r)
			return
		}
		h(w, r)
	})
}

// address is the console's, as people reach it.
func (s *Server) address() string {
	return strings.TrimRight(cmp.Or(s.settings.now.Load().Address, s.listens), "/")
}

// base is the path that people reach the service under, such as /loads; "" for none.
func (s *Server) base() string {
	at, err := url.Parse(s.settings.now.Load().Address)
	if err != nil {
		return ""
	}
	return strings.TrimRight(at.Path, "/")
}

// OpenAPI returns the API's description.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

func (s *Server) recovered(c *gin.Context, what any) {
	s.log.Error("a request failed unexpectedly", "path", c.Request.URL.Path, "panic", what)
	c.AbortWithStatus(http.StatusInternalServerError)
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if s.ledger.Ping(ctx) != nil {
		c.String(http.StatusServiceUnavailable, "the database is away\n")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

const nonceKey = "nonce"

// secure sets what browsers are to refuse. Styles need a nonce, because the
// console's components write their own; nothing else may be inline.
func (s *Server) secure(c *gin.Context) {
	random := make([]byte, 16)
	rand.Read(random) // never fails, crypto/rand says
	nonce := base64.RawURLEncoding.EncodeToString(random)
	c.Set(nonceKey, nonce)
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+
		"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'self'; form-action 'none'; "+
		"frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Next()
}

// storable refuses requests with texts in their address that no database keeps.
func storable(c *gin.Context) {
	good := func(text string) bool { return utf8.ValidString(text) && !strings.ContainsRune(text, 0) }
	where := ""
	if !good(c.Request.URL.Path) {
		where = "the path"
	}
	for name, values := range c.Request.URL.Query() {
		if !good(name) || slices.ContainsFunc(values, func(v string) bool { return !good(v) }) {
			where = fmt.Sprintf("the parameter %.50q", name)
		}
	}
	if where != "" {
		problem(c, http.StatusBadRequest, where+" holds a NUL character, or bytes that are no UTF-8")
	}
}

// Identity is who a service is.
type Identity struct {
	Name  string // for people
	ID    string // its own for ever
	Owner int64  // the number of the owner's token
}

// cookieName is what the cookie of a service's sessions is called: browsers send the
// cookies of a host to all its ports.
func cookieName(id string) string { return "mullein_" + id[:min(8, len(id))] }

const (
	signInLife     = 30 * time.Minute
	sessionPath    = "/api/v1/session"
	signInWaysPath = sessionPath + "/ways"
)

// signedIn lets calls of the API through that carry a token or a session.
func (s *Server) signedIn(c *gin.Context) {
	path := c.Request.URL.Path
	if !strings.HasPrefix(path, "/api/") && !isMetrics(c.Request) || path == signInWaysPath || path == sessionPath &&
		c.Request.Method == http.MethodPost {
		return
	}
	who, signed, err := s.nudgedBy(c)
	if signed && err != nil {
		problem(c, http.StatusUnauthorized, "the signature is not good: "+err.Error())
		return
	}
	if !signed {
		who, err = s.caller(c.Request)
	}
	switch {
	case errors.Is(err, ledger.ErrToken):
		c.Header("WWW-Authenticate", `Bearer realm="mullein"`)
		problem(c, http.StatusUnauthorized, "sign in, or send a token as `Authorization: Bearer ...`; the owner's is "+
			"in the file owner.token of the service's home folder")
	case err != nil:
		problem(c, http.StatusServiceUnavailable, "the database is away")
	default:
		ctx := context.WithValue(c.Request.Context(), callerKey{}, who)
		c.Request = c.Request.WithContext(context.WithValue(ctx, credentialKey{}, s.given(c.Request)))
	}
}

// credential is what a call was let through for.
type credential struct{ secret, use string }

type credentialKey struct{}

func credentialOf(ctx context.Context) credential {
	c, _ := ctx.Value(credentialKey{}).(credential)
	return c
}

// given is the credential that a request carries.
func (s *Server) given(r *http.Request) credential {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return credential{token, ledger.UseAPI}
	}
	if cookie, err := r.Cookie(s.cookie); err == nil {
		return credential{cookie.Value, ledger.UseSession}
	}
	return credential{}
}

// stillGood fails with [ledger.ErrToken] when a credential is not good any more. While
// the database is away, it is taken to be.
func (s *Server) stillGood(ctx context.Context, c credential) error {
	_, err := s.ledger.CheckToken(ctx, c.secret, c.use)
	if errors.Is(err, ledger.ErrToken) {
		return err
	}
	return nil
}

// signal wakes all who wait, again and again.
type signal struct {
	mu sync.Mutex
	c  chan struct{}
}

// wait returns a channel that is closed when the signal is given next.
func (s *signal) wait() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c == nil {
		s.c = make(chan struct{})
	}
	return s.c
}

func (s *signal) give() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil {
		close(s.c)
		s.c = nil
	}
}

type callerKey struct{}

// callerOf returns who makes the call.
func callerOf(ctx context.Context) string { return rightsOf(ctx).Name }

// rightsOf returns who makes the call, and what they may.
func rightsOf(ctx context.Context) ledger.Credential {
	who, _ := ctx.Value(callerKey{}).(ledger.Credential)
	return who
}

func (s *Server) caller(r *http.Request) (ledger.Credential, error) {
	c := s.given(r)
	if c.secret == "" {
		return ledger.Credential{}, ledger.ErrToken
	}
	return s.ledger.CheckToken(r.Context(), c.secret, c.use)
}

// problem answers with RFC 9457 problem details outside of the API's handlers.
func problem(c *gin.Context, status int, detail string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}

func (s *Server) signInLink(ctx context.Context, url string) (string, error) {
	code := ledger.NewSecret()
	if _, err := s.ledger.AddToken(ctx, code, "owner", ledger.UseSignIn, signInLife, s.owner); err != nil {
		return "", err
	}
	// The code stands behind #, so that no browser sends it in a request line.
	return url + "/sign-in#" + code, nil
}

// pages are how the console's pages begin. Other paths are nothing.
var pages = []string{"", ".", "sign-in", "today", "feeds", "new-feed", "rehearsal", "rejects", "ledger", "arrivals", "targets", "due", "runs", "chains",
	"notices", "volumes", "places", "extracts", "people", "settings", "assets", "icon.svg"}

// isConsole reports whether a path is a page of the console, or a file of it.
func isConsole(path string) bool {
	first, _, _ := strings.Cut(path, "/")
	return slices.Contains(pages, first)
}

// console serves the console's files and pages.
func (s *Server) console(c *gin.Context) {
	p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	known := isConsole(p)
	if !known && !strings.Contains(c.GetHeader("Accept"), "text/html") || strings.HasPrefix(p, "api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusNotFound, "there is nothing at "+c.Request.URL.Path)
		return
	}
	files, err := fs.Sub(consoleFiles, "console")
	if err == nil && strings.HasPrefix(p, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
		c.FileFromFS(p, http.FS(files))
		return
	}
	if err == nil && p == "icon.svg" {
		c.FileFromFS(p, http.FS(files))
		return
	}
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		c.String(http.StatusNotFound, "This build has no console inside; `make build` puts it in.\n")
		return
	}
	c.Header("Cache-Control", "no-store")
	status := http.StatusOK
	if !known { // people are shown a page that says so
		status = http.StatusNotFound
	}
	c.Data(status, "text/html; charset=utf-8", []byte(strings.NewReplacer("__NONCE__", c.GetString(nonceKey), "__BASE__",
		html.EscapeString(s.base())).Replace(string(page))))
}

// follow reads events and wakes the live streams when there is news, until ctx ends.
func (s *Server) follow(ctx context.Context) {
	s.mu.Lock()
	s.over = ctx
	s.mu.Unlock()
	go s.prune(ctx)
	news := make(chan struct{}, 1)
	go s.ledger.Follow(ctx, func() {
		select {
		case news <- struct{}{}:
		default:
		}
	})
	for ctx.Err() == nil {
		again := time.After(retryEvents)
		if s.readEvents(ctx) == nil {
			again = nil
		}
		s.wakeStreams()
		select {
		case <-ctx.Done():
		case <-news:
			sleep(ctx, eventsGathered)
		case <-again: // what kept them from being read may be over
		}
	}
}

const (
	// retryEvents is how long after an error events are read again.
	retryEvents = time.Second
	// eventsGathered is how long events are gathered, so that many are read together.
	eventsGathered = 20 * time.Millisecond
)

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// isHeard reports whether there is a live stream.
func (s *Server) isHeard() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.followers) > 0
}

// wakeStreams tells the live streams that there is news.
func (s *Server) wakeStreams() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for f := range s.followers {
		select {
		case f <- struct{}{}:
		default:
		}
	}
}

func (s *Server) prune(ctx context.Context) {
	for {
		err := s.ledger.PruneTokens(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Warn("old tokens could not be forgotten", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Hour):
		}
	}
}

func (s *Server) subscribe() (news chan struct{}, over context.Context, done func()) {
	news = make(chan struct{}, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.followers[news] = true
	return news, s.over, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.followers, news)
	}
}
