package service

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/golang-jwt/jwt/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/records"
)

// tokenLife is how long an access token of a client is good.
const tokenLife = time.Hour

// sessionLife is how long an operator stays signed in.
const sessionLife = 12 * time.Hour

// hashing follows RFC 9106's second recommendation (64 MiB, three passes).
var hashing = &argon2id.Params{Memory: 64 * 1024, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// signer signs and checks access tokens (RFC 9068, EdDSA).
type signer struct {
	id   string
	key  ed25519.PrivateKey
	keys map[string]ed25519.PublicKey
}

func newSigner(ctx context.Context, store *records.Store, box *sealer) (*signer, error) {
	_, fresh, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(fresh.Public().(ed25519.PublicKey))
	kept, err := store.SigningKeys(ctx, records.SigningKey{ID: hex.EncodeToString(sum[:8]), Sealed: box.seal(fresh.Seed())})
	if err != nil {
		return nil, fmt.Errorf("read the signing keys: %w", err)
	}
	s := &signer{keys: map[string]ed25519.PublicKey{}}
	for _, k := range kept {
		seed, err := box.open(k.Sealed)
		if err != nil {
			return nil, errors.New("the records were sealed with another EAGER_SECRET; start the service with that one")
		}
		private := ed25519.NewKeyFromSeed(seed)
		s.keys[k.ID] = private.Public().(ed25519.PublicKey)
		if s.key == nil {
			s.id, s.key = k.ID, private
		}
	}
	return s, nil
}

type tokenClaims struct {
	Scope string `json:"scope"`
	jwt.RegisteredClaims
}

func audience(window string) string { return "eager-window:" + window }

// Token is an access token as RFC 6749, 5.1 answers it.
type Token struct {
	AccessToken string `json:"access_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int    `json:"expires_in"`
	Scope       string `json:"scope"`
}

// OAuthError is a refusal as RFC 6749, 5.2 answers it.
type OAuthError struct {
	Code        string `json:"error"`
	Description string `json:"error_description"`
}

// Error is the description.
func (e *OAuthError) Error() string { return e.Description }

// ClientToken gives a token to a client that shows its secret (RFC 6749, 4.4). scope names the role; it may be left out where
// the client has one only.
func (s *Service) ClientToken(ctx context.Context, window, id, secret, scope string) (*Token, error) {
	refused := &OAuthError{"invalid_client", "there is no client with this id and secret"}
	api, err := s.Live(ctx, window)
	if err != nil {
		return nil, err
	}
	if !api.Model.Document.Clients {
		return nil, &OAuthError{"unauthorized_client", "this API has no clients of its own: its document does not say sign_in: {clients: true}"}
	}
	c, err := s.records.Client(ctx, window, id)
	if errors.Is(err, records.ErrNone) {
		_, _ = argon2id.CreateHash(secret, hashing) // as long as a wrong secret takes, so that ids can't be guessed
		return nil, refused
	}
	if err != nil {
		return nil, fmt.Errorf("read client %q: %w", id, err)
	}
	if ok, err := argon2id.ComparePasswordAndHash(secret, c.SecretHash); err != nil || !ok {
		return nil, refused
	}
	role := scope
	if scope == "" && len(c.Roles) == 1 {
		role = c.Roles[0]
	}
	if !slices.Contains(c.Roles, role) {
		return nil, &OAuthError{"invalid_scope", fmt.Sprintf("the scope is one role of this client: %s", strings.Join(c.Roles, ", "))}
	}
	now := time.Now()
	t := jwt.NewWithClaims(jwt.SigningMethodEdDSA, tokenClaims{role, jwt.RegisteredClaims{Subject: id, Audience: jwt.ClaimStrings{audience(window)},
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(tokenLife))}})
	t.Header["kid"] = s.signer.id
	signed, err := t.SignedString(s.signer.key)
	if err != nil {
		return nil, fmt.Errorf("sign a token: %w", err)
	}
	return &Token{signed, "Bearer", int(tokenLife.Seconds()), role}, nil
}

// Caller finds out who sent a request to a window from the bearer token, "" for none. What the client may be is looked up
// now: the token only says who it is and which of its roles it asked for.
func (s *Service) Caller(ctx context.Context, window, bearer string) (access.Caller, error) {
	if bearer == "" {
		return access.Caller{}, nil
	}
	claims, err := s.verified(window, bearer)
	if err != nil {
		return access.Caller{}, err
	}
	c, err := s.client(ctx, window, claims.Subject)
	if errors.Is(err, records.ErrNone) || err == nil && !slices.Contains(c.Roles, claims.Scope) {
		return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked", "client %q no longer has role %q; ask for a new token", claims.Subject, claims.Scope)
	}
	if err != nil {
		return access.Caller{}, fmt.Errorf("read client %q: %w", claims.Subject, err)
	}
	return access.Caller{Subject: c.ID, Roles: []string{claims.Scope}, Claims: c.Claims}, nil
}

// verified checks a token's signature and what it says of itself. Checking a signature costs more than reading a row, so a
// token that has passed is remembered until it expires.
func (s *Service) verified(window, bearer string) (*tokenClaims, error) {
	key := clientKey{window, bearer}
	if known, ok := s.tokens.Get(key); ok && time.Now().Before(known.ExpiresAt.Time) {
		return known, nil
	}
	claims := &tokenClaims{}
	_, err := jwt.ParseWithClaims(bearer, claims, func(t *jwt.Token) (any, error) {
		id, _ := t.Header["kid"].(string)
		public, ok := s.signer.keys[id]
		if !ok {
			return nil, errors.New("signed with a key that is not known here")
		}
		return public, nil
	}, jwt.WithValidMethods([]string{"EdDSA"}), jwt.WithAudience(audience(window)), jwt.WithExpirationRequired())
	if err != nil {
		return nil, fault.New(fault.Unauthenticated, "token.invalid", "the token is not accepted: %s", tokenProblem(err, window))
	}
	s.tokens.Add(key, claims)
	return claims, nil
}

func (s *Service) client(ctx context.Context, window, id string) (*records.Client, error) {
	key := clientKey{window, id}
	if c, ok := s.clients.Get(key); ok {
		return c, nil
	}
	c, err := s.records.Client(ctx, window, id)
	if err != nil {
		return nil, err
	}
	s.clients.Add(key, c)
	return c, nil
}

// clientKey is a client, or a token, of a window.
type clientKey struct{ window, id string }

func tokenProblem(err error, window string) string {
	switch {
	case errors.Is(err, jwt.ErrTokenExpired):
		return "it has expired; ask for a new one at /auth/" + window + "/token"
	case errors.Is(err, jwt.ErrTokenInvalidAudience):
		return "it is for another API"
	case errors.Is(err, jwt.ErrTokenMalformed):
		return "it is not a token of this service; ask for one at /auth/" + window + "/token"
	}
	return "its signature is not one of this service"
}

// SaveClient adds a program that may call a window, with its roles and claims.
func (s *Service) SaveClient(ctx context.Context, window, id, secret string, roles []string, claims map[string]any) error {
	hash, err := argon2id.CreateHash(secret, hashing)
	if err != nil {
		return err
	}
	if claims == nil {
		claims = map[string]any{}
	}
	defer s.clients.Remove(clientKey{window, id})
	return s.records.SaveClient(ctx, window, &records.Client{ID: id, SecretHash: hash, Roles: roles, Claims: claims})
}

// SaveOperator adds an operator, or gives one a new password.
func (s *Service) SaveOperator(ctx context.Context, email, password string) error {
	if len(password) < 12 {
		return fault.New(fault.Invalid, "password.short", "a password has at least 12 characters")
	}
	hash, err := argon2id.CreateHash(password, hashing)
	if err != nil {
		return err
	}
	return s.records.SaveOperator(ctx, email, hash)
}

// HasOperators says whether anyone can sign in yet.
func (s *Service) HasOperators(ctx context.Context) (bool, error) { return s.records.HasOperators(ctx) }

// SignIn opens a session for an operator and returns its token, which is good for twelve hours.
func (s *Service) SignIn(ctx context.Context, email, password string) (token string, err error) {
	refused := fault.New(fault.Unauthenticated, "sign_in.refused", "there is no operator with this address and password")
	o, err := s.records.Operator(ctx, email)
	if errors.Is(err, records.ErrNone) {
		_, _ = argon2id.CreateHash(password, hashing)
		return "", refused
	}
	if err != nil {
		return "", fmt.Errorf("read operator: %w", err)
	}
	if ok, err := argon2id.ComparePasswordAndHash(password, o.PasswordHash); err != nil || !ok {
		return "", refused
	}
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	token = "operator-" + base64.RawURLEncoding.EncodeToString(raw)
	return token, s.records.SaveSession(ctx, tokenHash(token), o.ID, time.Now().Add(sessionLife))
}

// Operator finds the operator of a session token.
func (s *Service) Operator(ctx context.Context, token string) (email string, err error) {
	if token == "" {
		return "", fault.New(fault.Unauthenticated, "token.missing", "sign in first: \"eager login\", or EAGER_TOKEN for programs")
	}
	email, err = s.records.SessionOperator(ctx, tokenHash(token))
	if errors.Is(err, records.ErrNone) {
		return "", fault.New(fault.Unauthenticated, "session.ended", "the session has ended, or this is no operator's token; sign in again")
	}
	return email, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, token string) error {
	return s.records.EndSession(ctx, tokenHash(token))
}

func tokenHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}
