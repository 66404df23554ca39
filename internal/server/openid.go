package server

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gin-gonic/gin"
	"golang.org/x/oauth2"

	"mullein/internal/ledger"
	"mullein/internal/settings"
)

// Where people go to sign in at the provider, and where it sends them back to.
const (
	openIDPath     = "/sign-in/openid"
	openIDBackPath = openIDPath + "/back"
)

// openIDLife is how long a sign-in at a provider may take.
const openIDLife = 10 * time.Minute

// openID signs people in by OpenID Connect: by an authorization code, with PKCE.
type openID struct {
	mu       sync.Mutex
	of       *settings.OpenID
	provider *oidc.Provider
}

// at returns the provider; it is asked what it can when it is needed first.
func (o *openID) at(ctx context.Context, of *settings.OpenID) (*oidc.Provider, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == of && o.provider != nil {
		return o.provider, nil
	}
	// What it says is used longer than the call that asks for it lasts.
	provider, err := oidc.NewProvider(context.WithoutCancel(ctx), of.Issuer)
	if err != nil {
		return nil, fmt.Errorf("ask %s how to sign in: %w", of.Issuer, err)
	}
	o.of, o.provider = of, provider
	return provider, nil
}

// begun is a sign-in that was begun, as the browser keeps it.
type begun struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
	To       string `json:"to"` // the page to go on to
}

func (s *Server) openIDCookie() string { return s.cookie + "_openid" }

// openIDClient returns what is asked of the provider, over a client that does not wait for ever.
func (s *Server) openIDClient(c *gin.Context) (context.Context, *settings.OpenID, *oidc.Provider, oauth2.Config, error) {
	ctx := oidc.ClientContext(c.Request.Context(), &http.Client{Timeout: 15 * time.Second})
	now := s.settings.now.Load()
	of := now.SignIn.OpenID
	if of == nil {
		return ctx, nil, nil, oauth2.Config{}, errors.New("no provider of OpenID Connect is set")
	}
	provider, err := s.openID.at(ctx, of)
	if err != nil {
		return ctx, nil, nil, oauth2.Config{}, err
	}
	secret := of.Secret
	if of.SecretFile != "" {
		text, err := os.ReadFile(of.SecretFile)
		if err != nil {
			return ctx, nil, nil, oauth2.Config{}, fmt.Errorf("the provider's secret: %w", err)
		}
		secret = strings.TrimSpace(string(text))
	}
	scopes := of.Scopes
	if len(scopes) == 0 {
		scopes = []string{"profile", "email"}
	}
	return ctx, of, provider, oauth2.Config{ClientID: of.Client, ClientSecret: secret, Endpoint: provider.Endpoint(),
		RedirectURL: strings.TrimRight(now.Address, "/") + openIDBackPath, Scopes: append([]string{oidc.ScopeOpenID}, scopes...)}, nil
}

// beginOpenID sends a browser to the provider.
func (s *Server) beginOpenID(c *gin.Context) {
	_, _, _, config, err := s.openIDClient(c)
	if err != nil {
		s.openIDFailed(c, "provider", err)
		return
	}
	b := begun{State: random(), Nonce: random(), Verifier: oauth2.GenerateVerifier(), To: page(c.Query("to"))}
	text, err := json.Marshal(b)
	if err != nil {
		s.openIDFailed(c, "provider", err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: s.openIDCookie(), Value: base64.RawURLEncoding.EncodeToString(text),
		Path: s.base() + openIDPath, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: s.secured, MaxAge: int(openIDLife.Seconds())})
	c.Header("Cache-Control", "no-store")
	c.Redirect(http.StatusFound, config.AuthCodeURL(b.State, oidc.Nonce(b.Nonce), oauth2.S256ChallengeOption(b.Verifier)))
}

func random() string {
	b := make([]byte, 24)
	rand.Read(b) // never fails, crypto/rand says
	return base64.RawURLEncoding.EncodeToString(b)
}

// page returns a path of the console to go on to; never one of elsewhere.
func page(to string) string {
	at, err := url.Parse(to)
	if err != nil || at.Host != "" || at.Scheme != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") ||
		strings.ContainsAny(to, "\\\r\n") || len(to) > 1000 {
		return "/today"
	}
	return to
}

// endOpenID takes a browser back from the provider, and signs it in.
func (s *Server) endOpenID(c *gin.Context) {
	var b begun
	cookie, err := c.Request.Cookie(s.openIDCookie())
	if err == nil {
		var text []byte
		if text, err = base64.RawURLEncoding.DecodeString(cookie.Value); err == nil {
			err = json.Unmarshal(text, &b)
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: s.openIDCookie(), Path: s.base() + openIDPath, HttpOnly: true, Secure: s.secured, MaxAge: -1})
	if err != nil || b.State == "" || c.Query("state") != b.State {
		s.openIDFailed(c, "begin-again", errors.New("the provider sent somebody back who did not begin here, or long ago"))
		return
	}
	if said := c.Query("error"); said != "" {
		s.openIDFailed(c, "refused", fmt.Errorf("the provider says %.100q: %.300q", said, c.Query("error_description")))
		return
	}
	ctx, of, provider, config, err := s.openIDClient(c)
	if err != nil {
		s.openIDFailed(c, "provider", err)
		return
	}
	who, err := identity(ctx, of, provider, config, c.Query("code"), b)
	if err != nil {
		s.openIDFailed(c, "provider", err)
		return
	}
	rights, ok := who.rights(of)
	if !ok {
		s.openIDFailed(c, "no-role", fmt.Errorf("%s is in none of the groups that may sign in", who.name))
		return
	}
	by, err := s.ledger.Welcome(ctx, who.subject, who.name, rights)
	var taken *ledger.ConflictError
	if errors.As(err, &taken) {
		s.openIDFailed(c, "taken", err)
		return
	}
	var session *http.Cookie
	if err == nil {
		session, err = s.begin(ctx, by)
	}
	if err != nil {
		s.openIDFailed(c, "provider", err)
		return
	}
	http.SetCookie(c.Writer, session)
	c.Header("Cache-Control", "no-store")
	c.Redirect(http.StatusFound, s.base()+page(b.To))
}

// openIDFailed sends a browser back to the page to sign in at, which says why.
func (s *Server) openIDFailed(c *gin.Context, why string, err error) {
	s.log.Warn("a sign-in by OpenID Connect failed", "from", c.ClientIP(), "error", fmt.Sprintf("%.500v", err.Error()))
	c.Header("Cache-Control", "no-store")
	c.Redirect(http.StatusFound, s.base()+"/sign-in?problem="+why)
}

// person is who a provider says that somebody is.
type person struct {
	subject string // for ever theirs
	name    string
	groups  []string
}

// identity asks the provider who somebody is.
func identity(ctx context.Context, of *settings.OpenID, provider *oidc.Provider, config oauth2.Config, code string,
	b begun) (person, error) {
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(b.Verifier))
	if err != nil {
		return person{}, fmt.Errorf("change the code for a token: %w", err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return person{}, errors.New("the provider gave no id_token")
	}
	id, err := provider.Verifier(&oidc.Config{ClientID: of.Client}).Verify(ctx, raw)
	if err != nil {
		return person{}, fmt.Errorf("the provider's id_token: %w", err)
	}
	if id.Nonce != b.Nonce {
		return person{}, errors.New("the provider's id_token belongs to another sign-in")
	}
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return person{}, fmt.Errorf("the provider's id_token: %w", err)
	}
	claim := cmp.Or(of.Claim, "groups")
	if _, ok := claims[claim]; !ok {
		// Many providers tell groups only there.
		more, err := provider.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err == nil && more.Subject == id.Subject {
			err = more.Claims(&claims)
		}
		if err != nil {
			return person{}, fmt.Errorf("ask the provider for groups: %w", err)
		}
	}
	return person{subject: id.Issuer + " " + id.Subject, name: nameOf(claims, id.Subject), groups: texts(claims[claim])}, nil
}

var notInNames = regexp.MustCompile(`[^a-z0-9.@_-]+`)

// nameOf returns what somebody is called here.
func nameOf(claims map[string]any, subject string) string {
	for _, from := range []any{claims["preferred_username"], claims["email"], subject} {
		text, _ := from.(string)
		name := strings.TrimLeft(notInNames.ReplaceAllString(strings.ToLower(text), "-"), ".@_-")
		if name != "" {
			return name[:min(len(name), 63)]
		}
	}
	return "somebody"
}

// texts returns the texts of a claim: a list, or one.
func texts(claim any) (out []string) {
	switch of := claim.(type) {
	case string:
		return []string{of}
	case []any:
		for _, v := range of {
			if text, ok := v.(string); ok {
				out = append(out, text)
			}
		}
	}
	return out
}

// rights returns what a person may; ok is false where they are in no group that may sign in.
func (p person) rights(of *settings.OpenID) (r ledger.Rights, ok bool) {
	for _, g := range of.Groups {
		if slices.Contains(p.groups, g.Group) {
			return ledger.Rights{Role: ledger.Role(g.Role), Feeds: g.Feeds, Data: !g.Blind}, true
		}
	}
	return r, false
}
