package identity

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/MicahParks/keyfunc/v3"
	"github.com/golang-jwt/jwt/v5"
	"golang.org/x/time/rate"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// How long access tokens are good. Those of people are short, as they come with one to refresh them.
const (
	clientTokenLife  = time.Hour
	accountTokenLife = 15 * time.Minute
)

// Token is an answer with an access token (RFC 6749, 5.1).
type Token struct {
	AccessToken  string `json:"access_token"`
	TokenType    string `json:"token_type"`
	ExpiresIn    int    `json:"expires_in"`
	RefreshToken string `json:"refresh_token,omitempty"`
	Scope        string `json:"scope"`
}

// OAuthError is a refusal as RFC 6749, 5.2 answers it.
type OAuthError struct {
	Code        string `json:"error"`
	Description string `json:"error_description"`
}

// Error is the description.
func (e *OAuthError) Error() string { return e.Description }

// tokenClaims are what our own tokens say (RFC 9068, 2.2): of a program its id and the roles that it asked for, of a person where it is
// signed in. What they may do is looked up.
type tokenClaims struct {
	ClientID string `json:"client_id,omitempty"`
	Scope    string `json:"scope,omitempty"`
	Session  string `json:"sid,omitempty"`
	// Generation is which making of the client the token is for.
	Generation string `json:"gen,omitempty"`
	// Of a token that an operator has made to try something: the operator, and as whom it calls.
	Operator string         `json:"operator,omitempty"`
	Roles    []string       `json:"roles,omitempty"`
	Claims   map[string]any `json:"claims,omitempty"`
	jwt.RegisteredClaims
}

func audience(window string) string { return "eager-window:" + window }

// issuerPath ends the issuer of a window's tokens; before it stands the address that the caller used.
func issuerPath(window string) string { return "/auth/" + window }

// sign makes an access token. origin is the address of the service as the caller knows it.
func (s *Directory) sign(ctx context.Context, window, origin string, c tokenClaims, life time.Duration) (*Token, error) {
	now := time.Now()
	ring, err := s.ring(ctx, now)
	if err != nil {
		return nil, err
	}
	c.Issuer, c.Audience = origin+issuerPath(window), jwt.ClaimStrings{audience(window)}
	c.IssuedAt, c.ExpiresAt = jwt.NewNumericDate(now), jwt.NewNumericDate(now.Add(life))
	t := jwt.NewWithClaims(jwt.SigningMethodEdDSA, c)
	t.Header["kid"], t.Header["typ"] = ring.id, "at+jwt"
	signed, err := t.SignedString(ring.private)
	if err != nil {
		return nil, fmt.Errorf("sign a token: %w", err)
	}
	return &Token{AccessToken: signed, TokenType: "Bearer", ExpiresIn: int(life.Seconds()), Scope: c.Scope}, nil
}

// verified is a token whose signature has been checked. Checking costs more than reading a row, so it is remembered.
type verified struct {
	expires time.Time
	own     *tokenClaims     // nil: of another issuer
	key     string           // that signed our own
	caller  access.Caller    // of another issuer's
	by      *window.Document // that the issuer stands in
}

// foreignFresh is for how long the signature of another issuer's token is remembered: its keys may be withdrawn.
const foreignFresh = time.Minute

// verify checks a token's signature and what it says of itself.
func (s *Directory) verify(ctx context.Context, api *data.API, bearer string) (*verified, error) {
	now := time.Now()
	ring, err := s.ring(ctx, now)
	if err != nil {
		return nil, s.away("read the signing keys", err)
	}
	key := tokenKey{api.Model.Name, bearer}
	if known, ok := s.tokens.Get(key); ok && now.Before(known.expires) {
		if known.own != nil && ring.public[known.key] != nil || known.own == nil && known.by == api.Model.Document {
			return known, nil
		}
	}
	var v *verified
	if issuer := api.Model.Document.SignIn.Issuer(issuerOf(bearer)); issuer != nil {
		v, err = s.verifyForeign(api, issuer, bearer)
	} else {
		v, err = verifyOwn(ring, api.Model.Name, bearer)
	}
	if err != nil {
		return nil, fault.New(fault.Unauthenticated, "token.invalid", "the token is not accepted: %s", tokenProblem(err, api.Model.Name))
	}
	s.tokens.Add(key, v)
	return v, nil
}

// issuerOf is who a token says it is from, which is not to be believed yet.
func issuerOf(bearer string) string {
	var claims jwt.RegisteredClaims
	_, _, _ = jwt.NewParser().ParseUnverified(bearer, &claims) // what it can't read, the check refuses
	return claims.Issuer
}

func verifyOwn(ring *keyring, name, bearer string) (*verified, error) {
	v := &verified{own: &tokenClaims{}}
	_, err := jwt.ParseWithClaims(bearer, v.own, func(t *jwt.Token) (any, error) {
		v.key, _ = t.Header["kid"].(string)
		if public := ring.public[v.key]; public != nil {
			return public, nil
		}
		return nil, errKey
	}, jwt.WithValidMethods([]string{jwt.SigningMethodEdDSA.Alg()}), jwt.WithAudience(audience(name)), jwt.WithExpirationRequired())
	if err != nil {
		return nil, err
	}
	v.expires = v.own.ExpiresAt.Time
	return v, nil
}

var errKey = errors.New("signed with a key that is not known here")

// skew is by how much the clocks of other issuers may differ from ours.
const skew = time.Minute

// foreignMethods are the signatures that other issuers may use: those with a public key, so that what is known to everyone never makes
// one (RFC 8725, 3.1).
var foreignMethods = []string{"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"}

func (s *Directory) verifyForeign(api *data.API, issuer *window.Issuer, bearer string) (*verified, error) {
	find, err := s.issuers.keys(issuer.JWKS.Value)
	if err != nil {
		return nil, err
	}
	claims := jwt.MapClaims{}
	_, err = jwt.ParseWithClaims(bearer, claims, find.Keyfunc, jwt.WithValidMethods(foreignMethods), jwt.WithIssuer(issuer.Issuer.Value),
		jwt.WithAudience(issuer.Audience.Value),
		jwt.WithExpirationRequired(), jwt.WithLeeway(skew), jwt.WithJSONNumber())
	if err != nil {
		return nil, err
	}
	ends, err := claims.GetExpirationTime()
	if err != nil {
		return nil, err
	}
	v := &verified{expires: ends.Add(skew), by: api.Model.Document}
	if most := time.Now().Add(foreignFresh); v.expires.After(most) {
		v.expires = most
	}
	subject, _ := claims.GetSubject()
	v.caller = access.Caller{Subject: issuer.Issuer.Value + "#" + subject, Claims: claims}
	for _, role := range rolesAt(claims, issuer.Role) {
		if known := api.Model.Role(role); known == nil || !known.Anonymous { // one that is not known, the refusal names
			v.caller.Roles = append(v.caller.Roles, role)
		}
	}
	return v, nil
}

// rolesAt finds the roles of a token at a path such as realm/role: one, or a list of them.
func rolesAt(claims map[string]any, path string) (roles []string) {
	var at any = claims
	for _, name := range strings.Split(path, "/") {
		switch object := at.(type) {
		case jwt.MapClaims:
			at = object[name]
		case map[string]any:
			at = object[name]
		default:
			return nil
		}
	}
	switch at := at.(type) {
	case string:
		return []string{at}
	case []any:
		for _, one := range at {
			if role, ok := one.(string); ok {
				roles = append(roles, role)
			}
		}
	}
	return roles
}

// issuers holds the keys of other issuers, which are fetched again from time to time, and when a token names one that is not there.
type issuers struct {
	mu   sync.Mutex
	sets map[string]keyfunc.Keyfunc // by URL
	ctx  context.Context            // ends with the service
	log  *slog.Logger
}

func (i *issuers) keys(url string) (keyfunc.Keyfunc, error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if set := i.sets[url]; set != nil {
		return set, nil
	}
	set, err := keyfunc.NewDefaultOverrideCtx(i.ctx, []string{url}, keyfunc.Override{
		HTTPTimeout: 5 * time.Second, RefreshInterval: 10 * time.Minute,
		RefreshUnknownKID: rate.NewLimiter(rate.Every(2*time.Second), 2), RateLimitWaitMax: 3 * time.Second,
		RefreshErrorHandlerFunc: func(u string) func(context.Context, error) {
			return func(_ context.Context, err error) {
				i.log.Error("the keys of an issuer can't be read", "url", u, "error", err)
			}
		},
	})
	if err != nil {
		return nil, err
	}
	i.sets[url] = set
	return set, nil
}

func tokenProblem(err error, window string) string {
	switch {
	case errors.Is(err, jwt.ErrTokenMalformed):
		return "it is not a token of this service; ask for one at /auth/" + window + "/token"
	case errors.Is(err, jwt.ErrTokenSignatureInvalid), errors.Is(err, jwt.ErrTokenUnverifiable):
		return "its signature is not one of this service, or of an issuer that this API knows"
	case errors.Is(err, jwt.ErrTokenExpired):
		return "it has expired; ask for a new one at /auth/" + window + "/token"
	case errors.Is(err, jwt.ErrTokenNotValidYet), errors.Is(err, jwt.ErrTokenUsedBeforeIssued):
		return "it is not valid yet"
	case errors.Is(err, jwt.ErrTokenInvalidAudience):
		return "it is for another API"
	}
	return "it does not say what a token must: who it is from, for which API, and until when it is good"
}

// Caller finds out who sent a request to a window from the bearer token, "" for none. What our own callers may be is looked up now: the
// token only says who they are. request is what they ask for, which is noted from time to time.
func (s *Directory) Caller(ctx context.Context, api *data.API, bearer string, request func() string) (access.Caller, error) {
	if bearer == "" {
		return access.Caller{}, nil
	}
	v, err := s.verify(ctx, api, bearer)
	switch {
	case err != nil:
		return access.Caller{}, err
	case v.own == nil:
		return v.caller, nil
	case v.own.Operator != "":
		return s.trialCaller(ctx, api.Model.Name, v.own)
	case v.own.Session != "":
		return s.accountCaller(ctx, api.Model.Name, v.own, request)
	}
	return s.clientCaller(ctx, api.Model.Name, v.own, request)
}

// away says that who calls can't be looked up now, as the records do not answer.
func (s *Directory) away(what string, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	s.log.Error("the records do not answer", "to", what, "error", err)
	return fault.New(fault.Unavailable, "records.unavailable", "who calls can't be looked up now; try again in a moment")
}

// known is what the records said of a caller a moment ago.
type known struct {
	subject string
	roles   []string
	claims  map[string]any
	email   string

	generation string // of a client
}

// callerKey is a caller of a window: a client by its id, or where an account is signed in.
type callerKey struct {
	window string
	kind   callerKind
	id     string
}

type callerKind uint8

const (
	aClient callerKind = iota
	aSession
	anOperator
)

// tokenKey is a token that was sent to a window.
type tokenKey struct{ window, bearer string }

// seenEvery is how often it is noted that a caller is there.
const seenEvery = 10 * time.Second

func stale(seen records.Seen) bool { return seen.UsedAt == nil || time.Since(*seen.UsedAt) > seenEvery }

func (s *Directory) clientCaller(ctx context.Context, name string, c *tokenClaims, request func() string) (access.Caller, error) {
	key := callerKey{name, aClient, c.Subject}
	k, ok := s.callers.Get(key)
	if !ok {
		client, err := s.records.Client(ctx, name, c.Subject)
		if errors.Is(err, records.ErrNone) {
			return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked", "client %q is not known here any more", c.Subject)
		}
		if err != nil {
			return access.Caller{}, s.away("read a client", err)
		}
		if client.Disabled {
			return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked", "client %q may not call any more; an operator of this API "+
				"has disabled it", c.Subject)
		}
		k = &known{subject: client.ID, roles: client.Roles, claims: client.Claims, generation: client.Generation}
		s.callers.Add(key, k)
		if stale(client.Seen) {
			if err := s.records.SeeClient(ctx, name, client.ID, request()); err != nil {
				s.log.Warn("a caller can't be noted", "client", client.ID, "error", err)
			}
		}
	}
	if k.generation != c.Generation {
		return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked",
			"client %q has another secret since this token was given; ask for a new one", c.Subject)
	}
	caller := access.Caller{Subject: k.subject, Program: true, Roles: k.roles, Claims: k.claims}
	if c.Scope == "" || len(k.roles) == 1 && k.roles[0] == c.Scope {
		return caller, nil
	}
	caller.Roles = nil
	for _, role := range strings.Fields(c.Scope) {
		if slices.Contains(k.roles, role) {
			caller.Roles = append(caller.Roles, role)
		}
	}
	if caller.Roles == nil {
		return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked", "client %q no longer has role %q; ask for a new token",
			c.Subject, c.Scope)
	}
	return caller, nil
}

func (s *Directory) accountCaller(ctx context.Context, name string, c *tokenClaims, request func() string) (access.Caller, error) {
	key := callerKey{name, aSession, c.Session}
	k, ok := s.callers.Get(key)
	if !ok {
		account, err := s.records.AccountOf(ctx, name, c.Session)
		if errors.Is(err, records.ErrNone) || err == nil && account.Disabled {
			return access.Caller{}, fault.New(fault.Unauthenticated, "token.revoked",
				"this account is signed out, or may not sign in any more; sign in again")
		}
		if err != nil {
			return access.Caller{}, s.away("read an account", err)
		}
		k = &known{subject: account.ID, roles: account.Roles, claims: account.Claims, email: account.Email}
		s.callers.Add(key, k)
		if stale(account.Seen) {
			if err := s.records.SeeAccount(ctx, account.ID, request()); err != nil {
				s.log.Warn("a caller can't be noted", "account", account.ID, "error", err)
			}
		}
	}
	return access.Caller{Subject: k.subject, Roles: k.roles, Claims: k.claims}, nil
}

// refreshToken is a new one, and what the records keep of it.
func refreshToken() (token string, hash []byte) {
	token = base64.RawURLEncoding.EncodeToString(randomBytes(32))
	return token, tokenHash(token)
}
