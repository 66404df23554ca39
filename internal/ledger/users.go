package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// User is a person who signs in by a password, or by an identity of elsewhere.
type User struct {
	ID         int64
	Name       string
	Subject    string // the identity of elsewhere; "" for a password
	CreatedAt  time.Time
	LastUsedAt *time.Time
	Sessions   int64 // that last
	Rights
}

// Users returns the users by name.
func (l *Ledger) Users(ctx context.Context) ([]User, error) {
	list := []User{}
	err := l.with(ctx).Raw(`SELECT t.id, t.name, coalesce(t.subject, '') AS subject, t.created_at, t.last_used_at, t.role, t.feeds, t.data,
		` + sessionsOfToken + ` FROM token t WHERE use = 'user' AND ended_at IS NULL ORDER BY name LIMIT 10000`).Scan(&list).Error
	return list, err
}

// PasswordOf returns a user who signs in by a password, and its hash; ErrToken where there is none.
func (l *Ledger) PasswordOf(ctx context.Context, name string) (who Credential, hash string, err error) {
	var found []struct {
		Credential
		Password string
	}
	err = l.with(ctx).Raw(`SELECT id, name, role, feeds, data, password FROM token
		WHERE use = 'user' AND ended_at IS NULL AND name = ? AND password IS NOT NULL`, name).Scan(&found).Error
	switch {
	case err != nil:
		return who, "", fmt.Errorf("find user: %w", err)
	case len(found) == 0:
		return who, "", ErrToken
	}
	return found[0].Credential, found[0].Password, nil
}

// PutUser makes a user who signs in by a password, or changes one. An empty hash leaves the password
// as it is; another ends the user's sessions.
func (l *Ledger) PutUser(ctx context.Context, name, hash string, r Rights) error {
	feeds, err := json.Marshal(append([]string{}, r.Feeds...))
	if err != nil {
		return err
	}
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET LOCAL synchronous_commit = on").Error; err != nil {
			return err
		}
		var there []User
		err := tx.Raw("SELECT id, coalesce(subject, '') AS subject FROM token WHERE use = 'user' AND ended_at IS NULL AND name = ? FOR UPDATE",
			name).Scan(&there).Error
		switch {
		case err != nil:
			return err
		case len(there) == 0 && hash == "":
			return fmt.Errorf("user %s: %w", name, ErrNotFound)
		case len(there) == 0:
			err = tx.Exec(`INSERT INTO token (name, hash, use, password, role, feeds, data) VALUES (?, ?, 'user', ?, ?, ?::jsonb, ?)`,
				name, hashOf(NewSecret()), hash, r.Role, string(feeds), r.Data).Error
			if isTaken(err) {
				return &ConflictError{Reason: fmt.Sprintf("somebody else has just made the user %s", name)}
			}
			return err
		case there[0].Subject != "":
			return &ConflictError{Reason: fmt.Sprintf("%s signs in elsewhere, and has the rights of their groups", name)}
		}
		err = tx.Exec("UPDATE token SET role = ?, feeds = ?::jsonb, data = ?, password = coalesce(nullif(?, ''), password) WHERE id = ?",
			r.Role, string(feeds), r.Data, hash, there[0].ID).Error
		if err != nil || hash == "" {
			return err
		}
		return tx.Exec("DELETE FROM token WHERE parent = ?", there[0].ID).Error
	})
}

// ChangePassword changes a user's password, and ends their sessions but the one that is given, which
// has to be theirs: otherwise it fails with ErrToken.
func (l *Ledger) ChangePassword(ctx context.Context, id int64, hash, session string) error {
	return l.with(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE token SET password = ? WHERE id = ? AND id = (SELECT parent FROM token WHERE hash = ?)", hash, id,
			hashOf(session))
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrToken
		}
		if done.Error != nil {
			return done.Error
		}
		return tx.Exec("DELETE FROM token WHERE parent = ? AND hash <> ?", id, hashOf(session)).Error
	})
}

// Welcome returns the user of an identity of elsewhere, with the rights that it has now. A
// [ConflictError] says that the name is somebody else's.
func (l *Ledger) Welcome(ctx context.Context, subject, name string, r Rights) (Credential, error) {
	feeds, err := json.Marshal(append([]string{}, r.Feeds...))
	if err != nil {
		return Credential{}, err
	}
	var found []Credential
	err = l.with(ctx).Raw(`INSERT INTO token (name, hash, use, subject, role, feeds, data) VALUES (?, ?, 'user', ?, ?, ?::jsonb, ?)
		ON CONFLICT (subject) WHERE use = 'user' AND ended_at IS NULL
		DO UPDATE SET name = excluded.name, role = excluded.role, feeds = excluded.feeds, data = excluded.data
		RETURNING id, name, role, feeds, data`, name, hashOf(NewSecret()), subject, r.Role, string(feeds), r.Data).Scan(&found).Error
	switch {
	case isTaken(err):
		return Credential{}, &ConflictError{Reason: fmt.Sprintf("another user is called %s here", name)}
	case err != nil:
		return Credential{}, err
	}
	return found[0], nil
}

// isTaken reports whether a row was refused because another has its name.
func isTaken(err error) bool {
	const uniqueViolation = "23505"
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == uniqueViolation
}

// RemoveUser ends a user and their sessions.
func (l *Ledger) RemoveUser(ctx context.Context, name string) error {
	var ids []int64
	err := l.with(ctx).Raw("SELECT id FROM token WHERE use = 'user' AND ended_at IS NULL AND name = ?", name).Scan(&ids).Error
	switch {
	case err != nil:
		return err
	case len(ids) == 0:
		return fmt.Errorf("user %s: %w", name, ErrNotFound)
	}
	return l.end(ctx, ids[0], UseUser)
}
