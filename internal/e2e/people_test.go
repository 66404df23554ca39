package e2e

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/settings"
)

// signIn signs in as a browser does, and returns what keeps the cookie.
func (s *service) signIn(body string) (*http.Client, int) {
	s.t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(s.t, err)
	as := &http.Client{Jar: jar, Timeout: 30 * time.Second}
	answer, err := as.Post(s.URL+"/api/v1/session", "application/json", strings.NewReader(body))
	require.NoError(s.t, err)
	defer answer.Body.Close()
	return as, answer.StatusCode
}

// status is what a call is answered with.
func status(t *testing.T, as *http.Client, method, url, body string) int {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	answer, err := as.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	return answer.StatusCode
}

func TestPeopleSignInByName(t *testing.T) {
	t.Parallel()
	s := serve(t).feeds()
	ctx := context.Background()
	file := filepath.Join(t.TempDir(), "ada.txt")
	require.NoError(t, os.WriteFile(file, []byte("marsh marigold 7\n"), 0o600))
	code, out, errOut := s.mullein("user", "put", "ada", "--role", "operate", "--feeds", "gauge-*", "--password-file", file)
	require.Zero(t, code, errOut)
	assert.Equal(t, "user ada may operate\n", out)
	_, _, errOut = s.mullein("user", "put", "bo", "--keep-password")
	assert.Contains(t, errOut, "there is no user bo yet; a new one needs a password")

	ada, got := s.signIn(`{"name": "ada", "password": "marsh marigold 7"}`)
	require.Equal(t, http.StatusOK, got)
	pause, other := s.URL+"/api/v1/feeds/gauge-readings/pause", s.URL+"/api/v1/feeds/station-registry/pause"
	assert.Equal(t, http.StatusNoContent, status(t, ada, "POST", pause, ""))
	assert.Equal(t, http.StatusForbidden, status(t, ada, "POST", other, ""))
	assert.Equal(t, http.StatusForbidden, status(t, ada, "GET", s.URL+"/api/v1/users", ""))
	list, err := s.client.Users(ctx)
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Equal(t, api.User{Name: "ada", By: api.ByPassword, CreatedAt: list.Items[0].CreatedAt, LastUsedAt: list.Items[0].LastUsedAt,
		Sessions: 1, Rights: api.Rights{Role: "operate", Feeds: []string{"gauge-*"}, Data: true}}, list.Items[0])
	acts, err := s.client.Acts(ctx, "gauge-readings", "ada", "", 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "pause-feed", acts.Items[0].What)

	// What somebody may is changed at once, for sessions that are there too.
	require.NoError(t, s.client.PutUser(ctx, "ada", api.UserWanted{Role: "look"}))
	acts, err = s.client.Acts(ctx, "", "owner", "put-user", 0, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"operate gauge-*", "look"}, []string{acts.Items[0].Before, acts.Items[0].After})
	assert.Equal(t, http.StatusForbidden, status(t, ada, "POST", pause, ""))

	// One's own password; other sessions end.
	second, _ := s.signIn(`{"name": "ada", "password": "marsh marigold 7"}`)
	password := s.URL + "/api/v1/session/password"
	assert.Equal(t, http.StatusForbidden, status(t, ada, "PUT", password, `{"old": "wrong", "new": "yellow iris 10"}`))
	assert.Equal(t, http.StatusNoContent, status(t, ada, "PUT", password, `{"old": "marsh marigold 7", "new": "yellow iris 10"}`))
	assert.Equal(t, http.StatusOK, status(t, ada, "GET", s.URL+"/api/v1/status", ""))
	assert.Equal(t, http.StatusUnauthorized, status(t, second, "GET", s.URL+"/api/v1/status", ""))
	byToken, _ := s.signIn(`{"token": "` + s.Token + `"}`)
	assert.Equal(t, http.StatusForbidden, status(t, byToken, "PUT", password, `{"old": "x", "new": "yellow iris 10"}`))

	// A session that was not used for long is over.
	db, err := pgx.Connect(ctx, s.database)
	require.NoError(t, err)
	defer db.Close(ctx)
	_, err = db.Exec(ctx, `UPDATE mullein_records.token SET last_used_at = now() - interval '13 hours' WHERE use = 'session' AND name = 'ada'`)
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnauthorized, status(t, ada, "GET", s.URL+"/api/v1/status", ""))

	// The end of a user is the end of what they had open.
	ada, got = s.signIn(`{"name": "ada", "password": "yellow iris 10"}`)
	require.Equal(t, http.StatusOK, got)
	live, err := ada.Get(s.URL + "/api/v1/events")
	require.NoError(t, err)
	defer live.Body.Close()
	require.NoError(t, s.client.RemoveUser(ctx, "ada"))
	assert.Equal(t, http.StatusUnauthorized, status(t, ada, "GET", s.URL+"/api/v1/status", ""))
	s.eventually(func() bool { _, err := live.Body.Read(make([]byte, 1<<16)); return err != nil })

	// Who guesses waits, whether there is such a name or not.
	for range 5 {
		_, got = s.signIn(`{"name": "cy", "password": "a guess at it"}`)
		assert.Equal(t, http.StatusUnauthorized, got)
	}
	_, got = s.signIn(`{"name": "cy", "password": "a guess at it"}`)
	assert.Equal(t, http.StatusTooManyRequests, got)
}

// behind is a service that people reach under a path of a proxy. The proxy takes the path off, or
// leaves it.
func behind(t *testing.T, takesOff bool, more string) (s *service, address string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = "http://" + listener.Addr().String() + "/loads"
	home := filepath.Join(t.TempDir(), ".mullein")
	require.NoError(t, os.MkdirAll(home, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, settings.FileName), []byte("address: "+address+"\nproxies: [127.0.0.1]\n"+more), 0o600))
	s = serveFrom(t, settings.From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(t)}})
	to, err := url.Parse(s.URL)
	require.NoError(t, err)
	proxy := &http.Server{Handler: &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.SetXForwarded()
		r.Out.Host = r.In.Host
		if takesOff {
			r.Out.URL.Path = strings.TrimPrefix(r.Out.URL.Path, "/loads")
		}
	}}}
	go proxy.Serve(listener)
	t.Cleanup(func() { proxy.Close() })
	return s, address
}

func TestTheConsoleBehindAProxy(t *testing.T) {
	t.Parallel()
	for name, takesOff := range map[string]bool{"the path is taken off": true, "the path is left": false} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, address := behind(t, takesOff, "")
			s.example()
			require.NoError(t, s.client.PutUser(context.Background(), "ada", api.UserWanted{Role: "own", Password: "marsh marigold 7"}))
			b := browse(t)
			b.do(chromedp.Navigate(address + "/feeds/gauge-readings"))
			b.sees("sign in with a token")
			b.do(chromedp.SendKeys(`input[aria-label=Name]`, "ada"), chromedp.SendKeys(`input[aria-label=Password]`, "marsh marigold 7"),
				chromedp.Click(`button[type=submit]`))
			b.sees("gauge-readings", "The last loads", "live")
			at, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("location.href"))
			require.NoError(t, err)
			assert.Equal(t, address+"/feeds/gauge-readings", at)
			b.do(chromedp.Navigate(address + "/people"))
			b.sees("Who may sign in", "ada", "password", "Your role is own.", "put-user")
			b.mu.Lock()
			assert.Empty(t, b.complaints)
			b.mu.Unlock()
		})
	}
}

// provider stands in for a provider of OpenID Connect. Who comes is signed in at once, as the person
// that is set.
type provider struct {
	*httptest.Server
	t   *testing.T
	key jose.Signer
	set jose.JSONWebKeySet

	mu     sync.Mutex
	claims map[string]any    // of the person
	asked  map[string]string // the challenges of codes
	nonces map[string]string // by code
	nonce  string            // in place of the right one
}

func newProvider(t *testing.T) *provider {
	secret, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &provider{t: t, asked: map[string]string{}, nonces: map[string]string{}}
	p.key, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: secret, KeyID: "1"}}, nil)
	require.NoError(t, err)
	p.set.Keys = []jose.JSONWebKey{{Key: secret.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		assert.NoError(t, json.NewEncoder(w).Encode(v))
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, r *http.Request) {
		answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token",
			"jwks_uri": p.URL + "/keys", "userinfo_endpoint": p.URL + "/me", "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, r *http.Request) { answer(w, p.set) })
	mux.HandleFunc("/authorize", p.authorize)
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) { p.token(w, r, answer) })
	mux.HandleFunc("/me", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		answer(w, p.claims)
	})
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	return p
}

func (p *provider) authorize(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	q := r.URL.Query()
	assert.Equal(p.t, "S256", q.Get("code_challenge_method"))
	assert.Contains(p.t, q.Get("scope"), "openid")
	code := q.Get("state")[:8]
	p.asked[code], p.nonces[code] = q.Get("code_challenge"), q.Get("nonce")
	http.Redirect(w, r, q.Get("redirect_uri")+"?code="+code+"&state="+url.QueryEscape(q.Get("state")), http.StatusFound)
}

func (p *provider) token(w http.ResponseWriter, r *http.Request, answer func(http.ResponseWriter, any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	who, secret, _ := r.BasicAuth()
	secret, err := url.QueryUnescape(secret) // as RFC 6749, section 2.3.1, has it
	assert.NoError(p.t, err)
	verifier := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if who != "mullein" || secret != "a secret of ours" || p.asked[r.FormValue("code")] != base64.RawURLEncoding.EncodeToString(verifier[:]) {
		http.Error(w, `{"error": "invalid_grant"}`, http.StatusBadRequest)
		return
	}
	nonce := p.nonces[r.FormValue("code")]
	if p.nonce != "" {
		nonce = p.nonce
	}
	// Groups are told at /me only.
	id, err := jwt.Signed(p.key).Claims(map[string]any{"iss": p.URL, "sub": p.claims["sub"], "aud": "mullein", "nonce": nonce,
		"exp": time.Now().Add(time.Minute).Unix(), "iat": time.Now().Unix(), "preferred_username": p.claims["preferred_username"]}).Serialize()
	assert.NoError(p.t, err)
	answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": id})
}

// is says who comes next.
func (p *provider) is(subject, name string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = map[string]any{"sub": subject, "preferred_username": name, "groups": groups}
}

func TestPeopleSignInByOpenIDConnect(t *testing.T) {
	t.Parallel()
	p := newProvider(t)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("a secret of ours\n"), 0o600))
	s, address := behind(t, true, `sign_in:
  openid:
    name: the observatory
    issuer: `+p.URL+`
    client: mullein
    secret_file: `+secret+`
    groups:
      - {group: hydrology, role: operate, feeds: ["gauge-*"]}
      - {group: everybody, role: look, blind: true}
`)
	s.feeds()
	begin := func() (*http.Client, *http.Response) {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		as := &http.Client{Jar: jar, Timeout: 30 * time.Second}
		answer, err := as.Get(address + "/sign-in/openid?to=/feeds/gauge-readings")
		require.NoError(t, err)
		answer.Body.Close()
		return as, answer
	}
	who := func(as *http.Client) (out api.Session) {
		answer, err := as.Get(address + "/api/v1/session")
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Equal(t, http.StatusOK, answer.StatusCode)
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&out))
		return out
	}
	p.is("17", "Ada Rowan", "everybody", "hydrology")
	ada, answer := begin()
	assert.Equal(t, "/loads/feeds/gauge-readings", answer.Request.URL.Path)
	assert.Equal(t, api.Session{Name: "ada-rowan", Service: who(ada).Service, Version: who(ada).Version, By: api.ByOpenID,
		Rights: api.Rights{Role: "operate", Feeds: []string{"gauge-*"}, Data: true}}, who(ada))
	assert.Equal(t, http.StatusNoContent, status(t, ada, "POST", address+"/api/v1/feeds/gauge-readings/pause", ""))

	// Rights are those of the groups at the last sign-in, for all sessions.
	p.is("17", "Ada Rowan", "everybody")
	again, _ := begin()
	assert.Equal(t, "look", who(again).Role)
	assert.Equal(t, http.StatusForbidden, status(t, ada, "POST", address+"/api/v1/feeds/gauge-readings/pause", ""))
	_, _, errOut := s.mullein("user", "put", "ada-rowan", "--keep-password", "--role", "own")
	assert.Contains(t, errOut, "ada-rowan signs in elsewhere, and has the rights of their groups")

	for name, of := range map[string]struct {
		groups  []string
		subject string
		nonce   string
		why     string
	}{
		"in no group":                {nil, "18", "", "no-role"},
		"a name of somebody else":    {[]string{"everybody"}, "19", "", "taken"},
		"a token of another sign-in": {[]string{"everybody"}, "17", "other", "provider"},
	} {
		p.is(of.subject, "Ada Rowan", of.groups...)
		p.nonce = of.nonce
		as, answer := begin()
		assert.Equal(t, of.why, answer.Request.URL.Query().Get("problem"), name)
		assert.Equal(t, http.StatusUnauthorized, status(t, as, "GET", address+"/api/v1/session", ""), name)
	}
	p.nonce = ""
	for path, to := range map[string]string{
		"/back?code=x&state=y":             "/loads/sign-in", // nobody began it
		"?to=" + "https://other.example/x": "/loads/today",   // never elsewhere
		"?to=//other.example/x":            "/loads/today",
	} {
		p.is("17", "Ada Rowan", "everybody")
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		answer, err := (&http.Client{Jar: jar}).Get(address + "/sign-in/openid" + path)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, to, answer.Request.URL.Path, path)
	}

	b := browse(t)
	b.do(chromedp.Navigate(address + "/feeds"))
	b.sees("Sign in with the observatory")
	b.do(chromedp.Click(`a.n-button`))
	b.sees("gauge-readings", "ada-rowan")
	p.is("18", "Bo", "guests")
	b.do(chromedp.Navigate(address + "/sign-in/openid"))
	b.sees("You are in none of the groups that may sign in here.")
}
