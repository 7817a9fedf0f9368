package identity

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/records"
)

// What goes in and out of the management API, as its description (internal/server/manage.yaml) has it.
type (
	// Credentials sign an operator in.
	Credentials struct {
		Email    string `json:"email"`
		Password string `json:"password"`
	}
	// Session says who is signed in; the token is there only in the answer to signing in.
	Session struct {
		Email string `json:"email"`
		Token string `json:"token,omitempty"`
	}
)

// sessionLife is how long an operator stays signed in.
const sessionLife = 12 * time.Hour

// ClientToken gives a token to a client that shows its secret (RFC 6749, 4.4). scope names roles of the client; left out, the token
// stands for all that it has.
func (s *Directory) ClientToken(ctx context.Context, window, id, secret, scope string, from From) (*Token, error) {
	api, err := s.windows.Live(ctx, window)
	if err != nil {
		return nil, err
	}
	if !api.Model.Document.SignIn.Clients {
		return nil, &OAuthError{"unauthorized_client", "this API has no clients of its own: its document does not say sign_in: {clients: true}"}
	}
	if err := plainName("client_id", id); err != nil {
		return nil, &OAuthError{"invalid_request", err.Error()}
	}
	c, err := s.records.Client(ctx, window, id)
	if err != nil && !errors.Is(err, records.ErrNone) {
		return nil, fmt.Errorf("read client %q: %w", id, err)
	}
	hash := ""
	if err == nil {
		hash = c.SecretHash
	}
	ok, err := s.matches(ctx, guess{"client", window, id, from.Address}, secret, hash)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, &OAuthError{"invalid_client", "there is no client with this id and secret"}
	}
	if c.Disabled {
		return nil, &OAuthError{"unauthorized_client", "this client may not call any more; an operator of this API has disabled it"}
	}
	for _, role := range strings.Fields(scope) {
		if !slices.Contains(c.Roles, role) {
			return nil, &OAuthError{"invalid_scope", fmt.Sprintf("the scope is of this client's roles: %s", strings.Join(c.Roles, ", "))}
		}
	}
	claims := tokenClaims{ClientID: id, Generation: c.Generation, Scope: strings.Join(strings.Fields(scope), " ")}
	claims.Subject = id
	t, err := s.sign(ctx, window, from.Origin, claims, clientTokenLife)
	if err == nil && t.Scope == "" {
		t.Scope = strings.Join(c.Roles, " ")
	}
	return t, err
}

// SaveClient adds a program that may call a window, with its roles and claims.
func (s *Directory) SaveClient(ctx context.Context, window, id, secret string, roles []string, claims map[string]any) error {
	hash, err := s.hash(ctx, secret)
	if err != nil {
		return err
	}
	if claims == nil {
		claims = map[string]any{}
	}
	defer s.callers.Remove(callerKey{window, aClient, id})
	return s.records.SaveClient(ctx, window, &records.Client{ID: id, SecretHash: hash, Roles: roles, Claims: claims})
}

// SaveOperator adds an operator, or gives one a new password.
func (s *Directory) SaveOperator(ctx context.Context, email, password string) error {
	if err := goodPassword(password); err != nil {
		return err
	}
	hash, err := s.hash(ctx, password)
	if err != nil {
		return err
	}
	return s.records.SaveOperator(ctx, email, hash)
}

// HasOperators reports whether anyone can sign in yet.
func (s *Directory) HasOperators(ctx context.Context) (bool, error) {
	return s.records.HasOperators(ctx)
}

// SignIn opens a session for an operator and returns its token, which is good for twelve hours. address is where the request comes
// from.
func (s *Directory) SignIn(ctx context.Context, email, password, address string) (token string, err error) {
	if err := plainName("email", email); err != nil {
		return "", err
	}
	o, err := s.records.Operator(ctx, email)
	if err != nil && !errors.Is(err, records.ErrNone) {
		return "", fmt.Errorf("read operator: %w", err)
	}
	hash := ""
	if err == nil {
		hash = o.PasswordHash
	}
	ok, err := s.matches(ctx, guess{"operator", "", strings.ToLower(email), address}, password, hash)
	if err != nil {
		return "", err
	}
	if !ok || o.Disabled {
		return "", fault.New(fault.Unauthenticated, "sign_in.refused", "there is no operator with this address and password")
	}
	token = "operator-" + base64.RawURLEncoding.EncodeToString(randomBytes(24))
	ctx = records.As(ctx, records.Actor{Who: o.Email, From: address})
	return token, s.records.SaveSession(ctx, tokenHash(token), o.ID, time.Now().Add(sessionLife))
}

// Operator finds the operator of a session token.
func (s *Directory) Operator(ctx context.Context, token string) (email string, err error) {
	if token == "" {
		return "", fault.New(fault.Unauthenticated, "token.missing", "sign in first: \"eager login\", or EAGER_TOKEN for programs")
	}
	email, err = s.records.SessionOperator(ctx, tokenHash(token))
	if errors.Is(err, records.ErrNone) {
		return "", fault.New(fault.Unauthenticated, "session.ended", "the session has ended, or this is no operator's token; sign in again")
	}
	return email, err
}

// Acting makes a context in which an operator acts: what is changed with it has an entry in the audit, with the address of the request.
func Acting(ctx context.Context, email, address string) context.Context {
	return records.As(ctx, records.Actor{Who: email, From: address})
}

// SignOut ends a session.
func (s *Directory) SignOut(ctx context.Context, token string) error {
	return s.records.EndSession(ctx, tokenHash(token))
}

func tokenHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// randomBytes are n bytes that nobody can guess.
func randomBytes(n int) []byte {
	raw := make([]byte, n)
	_, _ = rand.Read(raw) // never fails; see crypto/rand
	return raw
}
