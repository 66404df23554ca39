package ledger

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
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

// AddToken makes a secret good for a use. Only its hash is kept. A life of 0
// has no end.
func (l *Ledger) AddToken(ctx context.Context, secret, name, use string, life time.Duration) error {
	var expires any
	if life > 0 {
		expires = gorm.Expr("now() + ? * interval '1 second'", life.Seconds())
	}
	err := l.with(ctx).Table("token").Create(map[string]any{
		"hash": hash(secret), "name": name, "use": use, "expires_at": expires,
	}).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return nil
	}
	return err
}

// CheckToken returns the name behind a secret, or ErrToken.
func (l *Ledger) CheckToken(ctx context.Context, secret, use string) (name string, err error) {
	var names []string
	err = l.with(ctx).Raw(`SELECT name FROM token WHERE hash = ? AND use = ? AND (expires_at IS NULL OR expires_at > now())`, hash(secret), use).Scan(&names).Error
	if err != nil {
		return "", fmt.Errorf("check token: %w", err)
	}
	if len(names) == 0 {
		return "", ErrToken
	}
	return names[0], nil
}

// SpendToken checks a secret and ends it, in one step.
func (l *Ledger) SpendToken(ctx context.Context, secret, use string) (name string, err error) {
	var names []string
	err = l.with(ctx).Raw(`DELETE FROM token WHERE hash = ? AND use = ? AND (expires_at IS NULL OR expires_at > now()) RETURNING name`, hash(secret), use).Scan(&names).Error
	if err != nil {
		return "", fmt.Errorf("spend token: %w", err)
	}
	if len(names) == 0 {
		return "", ErrToken
	}
	return names[0], nil
}

// PruneTokens forgets tokens that are out of date.
func (l *Ledger) PruneTokens(ctx context.Context) error {
	return l.with(ctx).Exec(`DELETE FROM token WHERE expires_at < now()`).Error
}
