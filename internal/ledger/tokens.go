package ledger

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"time"
)

// The uses of a token.
const (
	UseAPI     = "api"     // presented with every call
	UseSession = "session" // held in a browser's cookie
	UseSignIn  = "sign-in" // in a link; good for one sign-in
)

// ErrToken says that a token is unknown, spent or out of date.
var ErrToken = errors.New("unknown or expired token")

// NewSecret makes a token of 256 random bits.
func NewSecret() string {
	b := make([]byte, 32)
	rand.Read(b) // never fails, crypto/rand says
	return "mu_" + base64.RawURLEncoding.EncodeToString(b)
}

func hash(secret string) []byte {
	h := sha256.Sum256([]byte(secret))
	return h[:]
}

// Credential is a token that is good.
type Credential struct {
	ID   int64
	Name string // whose it is
}

// Token is a token for calls, without its secret.
type Token struct {
	ID        int64
	Name      string
	CreatedAt time.Time
	Sessions  int64 // that were signed in with it and last
}

// AddToken makes a secret good for a use. Only its hash is kept. A life of 0
// has no end. parent is the token that it was made by, and ends with; 0 for none.
// A secret that was ended stays so.
func (l *Ledger) AddToken(ctx context.Context, secret, name, use string, life time.Duration, parent int64) (id int64,
	err error) {
	var ids []int64
	err = l.with(ctx).Raw(`INSERT INTO token (name, hash, use, expires_at, parent)
		VALUES (?, ?, ?, now() + nullif(?, 0) * interval '1 second', nullif(?, 0))
		ON CONFLICT (hash) DO UPDATE SET use = token.use RETURNING id`, name, hash(secret), use, life.Seconds(),
		parent).Scan(&ids).Error
	if err != nil {
		return 0, fmt.Errorf("add token: %w", err)
	}
	return ids[0], nil
}

const goodToken = "hash = ? AND use = ? AND ended_at IS NULL AND (expires_at IS NULL OR expires_at > now())"

// CheckToken returns what is behind a secret, or ErrToken.
func (l *Ledger) CheckToken(ctx context.Context, secret, use string) (Credential, error) {
	return l.credential(ctx, "check token", "SELECT id, name FROM token WHERE "+goodToken, secret, use)
}

// SpendToken checks a secret and ends it, in one step. What is returned is the token
// that it was made by, where there is one.
func (l *Ledger) SpendToken(ctx context.Context, secret, use string) (Credential, error) {
	return l.credential(ctx, "spend token", "DELETE FROM token WHERE "+goodToken+" RETURNING coalesce(parent, id) AS "+
		"id, name", secret, use)
}

func (l *Ledger) credential(ctx context.Context, what, statement, secret, use string) (Credential, error) {
	var found []Credential
	if err := l.with(ctx).Raw(statement, hash(secret), use).Scan(&found).Error; err != nil {
		return Credential{}, fmt.Errorf("%s: %w", what, err)
	}
	if len(found) == 0 {
		return Credential{}, ErrToken
	}
	return found[0], nil
}

// Tokens returns the tokens for calls that are good, by number.
func (l *Ledger) Tokens(ctx context.Context) ([]Token, error) {
	list := []Token{}
	err := l.with(ctx).Raw(`SELECT t.id, t.name, t.created_at, (SELECT count(*) FROM token s WHERE s.parent = t.id
		AND s.use = 'session' AND s.ended_at IS NULL AND s.expires_at > now()) AS sessions
		FROM token t WHERE use = 'api' AND ended_at IS NULL AND (expires_at IS NULL OR expires_at > now()) ORDER BY id
		LIMIT 1000`).Scan(&list).Error
	return list, err
}

// EndToken ends a token for calls, and all that was made by it. It fails with
// [ErrNotFound] where there is no such token.
func (l *Ledger) EndToken(ctx context.Context, id int64) error {
	done := l.with(ctx).Exec(`WITH ended AS (UPDATE token SET ended_at = now() WHERE id = ? AND use = 'api'
		AND ended_at IS NULL RETURNING id),
		made AS (DELETE FROM token WHERE parent IN (SELECT id FROM ended))
		SELECT FROM ended`, id)
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
