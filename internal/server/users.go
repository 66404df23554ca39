package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/ledger"
)

// userRoutes registers who may sign in.
func (s *Server) userRoutes() {
	huma.Register(s.api, get("users", "/users", "People who sign in, by name"), s.users)
	huma.Register(s.api, do(http.MethodPut, "put-user", "/users/{user}", "Make a user who signs in by a password, or change one"), s.putUser)
	huma.Register(s.api, do(http.MethodDelete, "remove-user", "/users/{user}", "End a user, and their sessions and streams"), s.removeUser)
	huma.Register(s.api, do(http.MethodPut, "change-password", "/session/password",
		"Change one's own password; one's other sessions end"), s.changePassword)
	huma.Register(s.api, get("sign-in-ways", "/session/ways", "How people may sign in"), s.signInWays)
}

// hashing is what trying a password costs: Argon2id (RFC 9106) over 19 MiB of memory, twice.
var hashing = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// hashed are how many passwords are hashed at a time.
const hashed = 4

// passwords hashes passwords, a few at a time, so that those who try many do not use up the memory.
type passwords chan struct{}

func (p passwords) hash(ctx context.Context, password string) (hash string, err error) {
	return hash, p.one(ctx, func() error {
		hash, err = argon2id.CreateHash(password, hashing)
		return err
	})
}

func (p passwords) match(ctx context.Context, password, hash string) (is bool, err error) {
	return is, p.one(ctx, func() error {
		is, err = argon2id.ComparePasswordAndHash(password, hash)
		return err
	})
}

func (p passwords) one(ctx context.Context, do func() error) error {
	select {
	case p <- struct{}{}:
		defer func() { <-p }()
		return do()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// nobodys is a hash of a password that nobody knows: names that are unknown take as long as others.
const nobodys = "$argon2id$v=19$m=19456,t=2,p=1$2DQR5wRluJ6BJdAE6HPwnA$ytbWkz2CNaZHSBcgi2fu5jkB1icuJOZx3NrPUErxrGc"

// byPassword returns who signs in with a name and a password, or ErrToken.
func (s *Server) byPassword(ctx context.Context, name, password string) (ledger.Credential, error) {
	of := "as " + name
	if wait := s.guard.wait(of, time.Now()); wait > 0 {
		return ledger.Credential{}, huma.Error429TooManyRequests("too many sign-ins with this name have failed; wait " +
			words(wait.Round(time.Second)))
	}
	who, hash, err := s.ledger.PasswordOf(ctx, name)
	unknown := errors.Is(err, ledger.ErrToken)
	if err != nil && !unknown {
		return who, err
	}
	if unknown {
		hash = nobodys
	}
	is, err := s.passwords.match(ctx, password, hash)
	if err != nil {
		return who, err
	}
	if unknown || !is {
		s.guard.fail(of, nameTries, time.Now())
		return who, ledger.ErrToken
	}
	s.guard.succeed(of)
	return who, nil
}

func (s *Server) users(ctx context.Context, _ *struct{}) (*body[api.UserList], error) {
	list, err := s.ledger.Users(ctx)
	return give(api.UserList{Items: each(list, userOf)}, err)
}

func userOf(u *ledger.User) api.User {
	out := api.User{Name: u.Name, By: api.ByPassword, CreatedAt: u.CreatedAt, LastUsedAt: u.LastUsedAt, Sessions: u.Sessions,
		Rights: rightsAs(u.Rights)}
	if u.Subject != "" {
		out.By = api.ByOpenID
	}
	return out
}

func rightsAs(r ledger.Rights) api.Rights {
	return api.Rights{Role: string(r.Role), Feeds: append([]string{}, r.Feeds...), Data: r.Data}
}

// UserPath names a user.
type UserPath struct {
	User string `path:"user" minLength:"1" maxLength:"63" pattern:"^[a-z0-9][a-z0-9.@_-]*$"`
}

func (s *Server) putUser(ctx context.Context, in *struct {
	UserPath
	Body api.UserWanted
}) (*struct{}, error) {
	hash := ""
	if in.Body.Password != "" {
		var err error
		if hash, err = s.passwords.hash(ctx, in.Body.Password); err != nil {
			return nil, answer(err)
		}
	}
	err := s.ledger.PutUser(ctx, in.User, hash, ledger.Rights{Role: ledger.Role(in.Body.Role), Feeds: in.Body.Feeds, Data: !in.Body.Blind})
	if errors.Is(err, ledger.ErrNotFound) {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no user %s yet; a new one needs a password", in.User))
	}
	s.guard.succeed("as " + in.User)
	s.signedOut.give()
	return nil, answer(err)
}

func (s *Server) removeUser(ctx context.Context, in *UserPath) (*struct{}, error) {
	defer s.signedOut.give() // live streams of their sessions end
	return nil, answer(s.ledger.RemoveUser(ctx, in.User))
}

func (s *Server) changePassword(ctx context.Context, in *struct{ Body api.PasswordChange }) (*struct{}, error) {
	session := credentialOf(ctx)
	if session.use != ledger.UseSession {
		return nil, huma.Error409Conflict("a token has no password; sign in with yours, or have an owner set it by `mullein user put`")
	}
	who, err := s.byPassword(ctx, callerOf(ctx), in.Body.Old)
	switch {
	case errors.Is(err, ledger.ErrToken):
		return nil, huma.Error403Forbidden("the old password is not right")
	case err != nil:
		return nil, refused(err)
	}
	hash, err := s.passwords.hash(ctx, in.Body.New)
	if err == nil {
		err = s.ledger.ChangePassword(ctx, who.ID, hash, session.secret)
	}
	if errors.Is(err, ledger.ErrToken) {
		return nil, huma.Error409Conflict("this session was begun by a token, which has no password")
	}
	s.signedOut.give()
	return nil, answer(err)
}

// refused is [answer], but for what is an answer already.
func refused(err error) error {
	var said huma.StatusError
	if errors.As(err, &said) {
		return err
	}
	return answer(err)
}

func (s *Server) signInWays(context.Context, *struct{}) (*body[api.SignInWays], error) {
	out := api.SignInWays{}
	if o := s.settings.now.Load().SignIn.OpenID; o != nil {
		out.OpenID = o.Name
		if out.OpenID == "" {
			out.OpenID = o.Issuer
		}
	}
	return give(out, nil)
}
