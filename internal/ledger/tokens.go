package ledger

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"mullein/internal/core/news"
)

// The uses of a token.
const (
	UseAPI     = "api"     // presented with every call
	UseSession = "session" // held in a browser's cookie
	UseSignIn  = "sign-in" // in a link; good for one sign-in
	UseUser    = "user"    // none: a person who signs in otherwise
)

// ErrToken says that a token is unknown, spent or out of date.
var ErrToken = errors.New("unknown or expired token")

// NewSecret makes a token of 256 random bits.
func NewSecret() string {
	b := make([]byte, 32)
	rand.Read(b) // never fails, crypto/rand says
	return "mu_" + base64.RawURLEncoding.EncodeToString(b)
}

func hashOf(secret string) []byte {
	h := sha256.Sum256([]byte(secret))
	return h[:]
}

// Role is what somebody may do. Each may what those before it may.
type Role string

// The roles.
const (
	RoleLook    Role = "look"    // see
	RoleOperate Role = "operate" // run, decide, mend, recall, deliver
	RoleOwn     Role = "own"     // put and remove feeds and rollups; make and end tokens
)

// May reports whether a role may what another may.
func (r Role) May(other Role) bool {
	rank := map[Role]int{RoleLook: 1, RoleOperate: 2, RoleOwn: 3}
	return rank[r] >= rank[other]
}

// Rights is what a token lets its holder do.
type Rights struct {
	Role  Role
	Feeds []string `gorm:"serializer:json"` // of which feeds it lets change something, or see data, by patterns; none for all
	Data  bool     // rows of tables and rejects are shown
}

// SeesData reports whether data of a feed are shown.
func (r *Rights) SeesData(feed string) bool { return r.Data && news.Matches(r.Feeds, feed) }

// Credential is a token that is good.
type Credential struct {
	ID   int64
	Name string // whose it is
	By   string // password or openid, for a user's session
	Rights
}

// Token is a token for calls, without its secret.
type Token struct {
	ID         int64
	Name       string
	CreatedAt  time.Time
	ExpiresAt  *time.Time
	LastUsedAt *time.Time
	Sessions   int64 // that were signed in with it and last
	Rights
}

// AddToken makes a secret good for a use. Only its hash is kept. A life of 0
// has no end. parent is the token that it was made by, and ends with; 0 for none.
// A secret that was ended stays so.
func (l *Ledger) AddToken(ctx context.Context, secret, name, use string, life time.Duration, parent int64) (id int64,
	err error) {
	var ids []int64
	err = l.with(ctx).Raw(`INSERT INTO token (name, hash, use, expires_at, parent)
		VALUES (?, ?, ?, now() + nullif(?, 0) * interval '1 second', nullif(?, 0))
		ON CONFLICT (hash) DO UPDATE SET use = token.use RETURNING id`, name, hashOf(secret), use, life.Seconds(),
		parent).Scan(&ids).Error
	if err != nil {
		return 0, fmt.Errorf("add token: %w", err)
	}
	return ids[0], nil
}

// GiveRights says what a token lets its holder do.
func (l *Ledger) GiveRights(ctx context.Context, id int64, r Rights) error {
	feeds, err := json.Marshal(append([]string{}, r.Feeds...))
	if err != nil {
		return err
	}
	return l.with(ctx).Exec("UPDATE token SET role = ?, feeds = ?::jsonb, data = ? WHERE id = ?", r.Role, string(feeds), r.Data,
		id).Error
}

// AddSession makes a secret good for a session that was begun by a token or a user. It ends after a
// while, and when it was not used for a while.
func (l *Ledger) AddSession(ctx context.Context, secret string, by Credential, whole, idle time.Duration) error {
	id, err := l.AddToken(ctx, secret, by.Name, UseSession, whole, by.ID)
	if err != nil {
		return err
	}
	return l.with(ctx).Exec("UPDATE token SET idle = ? WHERE id = ?", idle.Seconds(), id).Error
}

const goodToken = "hash = ? AND use = ? AND ended_at IS NULL AND (expires_at IS NULL OR expires_at > now()) " +
	"AND (idle IS NULL OR coalesce(last_used_at, created_at) + idle * interval '1 second' > now())"

// sessionsOfToken counts the sessions that were signed in with a token t and last.
const sessionsOfToken = `(SELECT count(*) FROM token s WHERE s.parent = t.id AND s.use = 'session' AND s.ended_at IS NULL
	AND s.expires_at > now()) AS sessions`

// CheckToken returns what is behind a secret, or ErrToken.
func (l *Ledger) CheckToken(ctx context.Context, secret, use string) (Credential, error) {
	c, err := l.credential(ctx, "check token", `SELECT t.id, t.name, coalesce(p.role, t.role) AS role,
		coalesce(p.feeds, t.feeds) AS feeds, coalesce(p.data, t.data) AS data,
		CASE WHEN p.subject IS NOT NULL THEN 'openid' WHEN p.password IS NOT NULL THEN 'password' ELSE '' END AS by, coalesce(p.id, t.id) AS used, t.id AS given
		FROM (SELECT * FROM token WHERE `+goodToken+`) t LEFT JOIN token p ON p.id = t.parent
		WHERE p.id IS NULL OR p.ended_at IS NULL AND (p.expires_at IS NULL OR p.expires_at > now())`, secret, use)
	if err == nil {
		err = l.used(ctx, c.Used, c.Given)
	}
	return c.Credential, err
}

// used notes that a session was used, and the token that it was begun with, at most once a
// minute.
func (l *Ledger) used(ctx context.Context, token, session int64) error {
	const often = time.Minute
	l.tokens.mu.Lock()
	now := time.Now()
	recent := now.Sub(l.tokens.at[session]) < often
	if !recent {
		if len(l.tokens.at) > 10_000 || l.tokens.at == nil {
			l.tokens.at = map[int64]time.Time{}
		}
		l.tokens.at[session] = now
	}
	l.tokens.mu.Unlock()
	if recent {
		return nil
	}
	return l.with(ctx).Exec("UPDATE token SET last_used_at = now() WHERE id IN (?, ?)", token, session).Error
}

// usedTokens is when tokens were used last, as far as that was recorded.
type usedTokens struct {
	mu sync.Mutex
	at map[int64]time.Time
}

// SpendToken checks a secret and ends it, in one step. What is returned is the token
// that it was made by, where there is one.
func (l *Ledger) SpendToken(ctx context.Context, secret, use string) (Credential, error) {
	c, err := l.credential(ctx, "spend token", "DELETE FROM token WHERE "+goodToken+" RETURNING coalesce(parent, id) AS "+
		"id, name, role, feeds, data", secret, use)
	return c.Credential, err
}

// usedCredential is a credential, the token that it comes from, and what was given: the same, or
// a session of it.
type usedCredential struct {
	Credential
	Used, Given int64
}

func (l *Ledger) credential(ctx context.Context, what, statement, secret, use string) (usedCredential, error) {
	var found []usedCredential
	if err := l.with(ctx).Raw(statement, hashOf(secret), use).Scan(&found).Error; err != nil {
		return usedCredential{}, fmt.Errorf("%s: %w", what, err)
	}
	if len(found) == 0 {
		return usedCredential{}, ErrToken
	}
	return found[0], nil
}

// Tokens returns the tokens for calls that are good, by number.
func (l *Ledger) Tokens(ctx context.Context) ([]Token, error) {
	list := []Token{}
	err := l.with(ctx).Raw(`SELECT t.id, t.name, t.created_at, t.expires_at, t.last_used_at, t.role, t.feeds, t.data, ` + sessionsOfToken + `
		FROM token t WHERE use = 'api' AND ended_at IS NULL AND (expires_at IS NULL OR expires_at > now()) ORDER BY id
		LIMIT 1000`).Scan(&list).Error
	return list, err
}

// EndToken ends a token for calls, and all that was made by it. It fails with
// [ErrNotFound] where there is no such token.
func (l *Ledger) EndToken(ctx context.Context, id int64) error { return l.end(ctx, id, UseAPI) }

func (l *Ledger) end(ctx context.Context, id int64, use string) error {
	done := l.with(ctx).Exec(`WITH ended AS (UPDATE token SET ended_at = now() WHERE id = ? AND use = ?
		AND ended_at IS NULL RETURNING id),
		made AS (DELETE FROM token WHERE parent IN (SELECT id FROM ended))
		SELECT FROM ended`, id, use)
	if done.Error != nil {
		return fmt.Errorf("end token: %w", done.Error)
	}
	if done.RowsAffected == 0 {
		return fmt.Errorf("token %d: %w", id, ErrNotFound)
	}
	return nil
}

// PruneTokens forgets tokens that are out of date.
func (l *Ledger) PruneTokens(ctx context.Context) error {
	return l.with(ctx).Exec(`DELETE FROM token WHERE expires_at < now()`).Error
}
