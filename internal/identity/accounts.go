package identity

import (
	"context"
	"errors"
	"fmt"
	"net/mail"
	"strings"
	"time"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// refreshLife is how long an account stays signed in without a refresh.
const refreshLife = 30 * 24 * time.Hour

// Passwords of accounts and operators.
const (
	shortestPassword = 12
	longestPassword  = 1024
)

func goodPassword(password string) error {
	switch n := len([]rune(password)); {
	case n == 0:
		return fault.New(fault.Invalid, "password.short", "\"password\" is missing: at least %d characters", shortestPassword).On("password")
	case n < shortestPassword:
		return fault.New(fault.Invalid, "password.short", "a password has at least %d characters, this one has %d", shortestPassword,
			n).On("password")
	case len(password) > longestPassword:
		return fault.New(fault.Invalid, "password.long", "a password has at most %d bytes", longestPassword).On("password")
	}
	return nil
}

// From is where a request to sign in comes from: the caller's address, and the service's as the caller knows it.
type From struct{ Address, Origin string }

// SignUp makes an account with the role that the document gives to those who sign up, and signs it in.
func (s *Directory) SignUp(ctx context.Context, name string, in Credentials, from From) (*Token, error) {
	api, err := s.withAccounts(ctx, name)
	if err != nil {
		return nil, err
	}
	accounts := api.Model.Document.SignIn.Accounts
	if !accounts.SignUp {
		return nil, fault.New(fault.Forbidden, "sign_up.closed", "accounts of this API are made by its operators")
	}
	if err := in.check(); err != nil {
		return nil, err
	}
	if err := s.countSignUp(ctx, from.Address); err != nil {
		return nil, err
	}
	a, err := s.newAccount(ctx, name, in, []string{accounts.DefaultRole.Value}, nil)
	if err != nil {
		return nil, err
	}
	return s.begin(ctx, name, a, from)
}

func (s *Directory) withAccounts(ctx context.Context, name string) (*data.API, error) {
	api, err := s.windows.Live(ctx, name)
	if err != nil {
		return nil, err
	}
	if api.Model.Document.SignIn.Accounts == nil {
		return nil, fault.New(fault.NotFound, "accounts.none", "this API has no accounts: its document does not say sign_in: {accounts: …}")
	}
	return api, nil
}

func (s *Directory) newAccount(ctx context.Context, name string, in Credentials, roles []string, claims map[string]any) (*records.Account,
	error) {
	if err := in.check(); err != nil {
		return nil, err
	}
	hash, err := s.hash(ctx, in.Password)
	if err != nil {
		return nil, err
	}
	if claims == nil {
		claims = map[string]any{}
	}
	a := &records.Account{Email: strings.TrimSpace(in.Email), PasswordHash: hash, Roles: roles, Claims: claims}
	switch err := s.records.AddAccount(ctx, name, a); {
	case errors.Is(err, records.ErrTaken):
		return nil, fault.New(fault.Conflict, "account.exists", "there is an account %s already", strings.ToLower(a.Email)).On("email")
	case errors.Is(err, records.ErrNone):
		return nil, s.windows.NoWindow(ctx, name)
	case err != nil:
		return nil, fmt.Errorf("add an account: %w", err)
	}
	return a, nil
}

// check refuses what no account can have.
func (c Credentials) check() error {
	address, err := mail.ParseAddress(c.Email)
	if err != nil || address.Address != strings.TrimSpace(c.Email) || len(c.Email) > 254 {
		if c.Email == "" {
			return fault.New(fault.Invalid, "email.invalid", "\"email\" is missing: an address such as ada@board.example").On("email")
		}
		return fault.New(fault.Invalid, "email.invalid", "%q is no mail address; write one such as ada@board.example", c.Email).On("email")
	}
	return goodPassword(c.Password)
}

// AccountToken signs a person in.
func (s *Directory) AccountToken(ctx context.Context, name string, in Credentials, from From) (*Token, error) {
	if _, err := s.withAccounts(ctx, name); err != nil {
		return nil, err
	}
	a, err := s.checked(ctx, name, in.Email, in.Password, from.Address)
	if err != nil {
		return nil, err
	}
	return s.begin(ctx, name, a, from)
}

// checked is the account of an address and a password. One that is disabled is as good as none.
func (s *Directory) checked(ctx context.Context, name, email, password, address string) (*records.Account, error) {
	if err := plainName("email", email); err != nil {
		return nil, err
	}
	a, err := s.records.Account(ctx, name, email)
	if err != nil && !errors.Is(err, records.ErrNone) {
		return nil, fmt.Errorf("read an account: %w", err)
	}
	hash := ""
	if err == nil {
		hash = a.PasswordHash
	}
	ok, err := s.matches(ctx, guess{"account", name, strings.ToLower(email), address}, password, hash)
	if err != nil {
		return nil, err
	}
	if !ok || a.Disabled {
		return nil, fault.New(fault.Unauthenticated, "sign_in.refused", "there is no account with this address and password")
	}
	return a, nil
}

// begin opens a session of an account.
func (s *Directory) begin(ctx context.Context, name string, a *records.Account, from From) (*Token, error) {
	refresh, hash := refreshToken()
	session, err := s.records.BeginSession(ctx, a.ID, hash, time.Now().Add(refreshLife))
	if err != nil {
		return nil, fmt.Errorf("sign an account in: %w", err)
	}
	return s.accountToken(ctx, name, a, session, refresh, from)
}

func (s *Directory) accountToken(ctx context.Context, name string, a *records.Account, session, refresh string, from From) (*Token, error) {
	c := tokenClaims{Session: session}
	c.Subject = a.ID
	t, err := s.sign(ctx, name, from.Origin, c, accountTokenLife)
	if err != nil {
		return nil, err
	}
	t.RefreshToken, t.Scope = refresh, strings.Join(a.Roles, " ")
	return t, nil
}

// RefreshToken trades a refresh token for an access token and the next refresh token (RFC 6749, 6). One that is used twice ends the
// session, as it has been copied (RFC 9700, 4.14.2).
func (s *Directory) RefreshToken(ctx context.Context, name, token string, from From) (*Token, error) {
	if _, err := s.withAccounts(ctx, name); err != nil {
		return nil, err
	}
	next, hash := refreshToken()
	session, err := s.records.Refresh(ctx, name, tokenHash(token), hash, time.Now().Add(refreshLife))
	switch {
	case errors.Is(err, records.ErrReused):
		s.log.Warn("a refresh token was used twice; its session has ended", "window", name, "from", from.Address)
		return nil, &OAuthError{"invalid_grant",
			"this refresh token was used before, so it may have been copied; the account is signed out there. Sign in again"}
	case errors.Is(err, records.ErrNone):
		return nil, &OAuthError{"invalid_grant", "this refresh token is not good, or not any more; sign in again"}
	case err != nil:
		return nil, fmt.Errorf("refresh a token: %w", err)
	}
	a, err := s.records.AccountOf(ctx, name, session)
	if err != nil || a.Disabled {
		return nil, &OAuthError{"invalid_grant", "this account may not sign in any more"}
	}
	return s.accountToken(ctx, name, a, session, next, from)
}

// own is the claims of a token of an account.
func (s *Directory) own(ctx context.Context, name, bearer string) (*data.API, *tokenClaims, error) {
	api, err := s.withAccounts(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if bearer == "" {
		return nil, nil, fault.New(fault.Unauthenticated, "token.missing", "send the account's token as \"Authorization: Bearer …\"")
	}
	v, err := s.verify(ctx, api, bearer)
	if err != nil {
		return nil, nil, err
	}
	if v.own == nil || v.own.Session == "" {
		return nil, nil, fault.New(fault.Forbidden, "token.account", "this is for accounts, and the token is not one of an account")
	}
	return api, v.own, nil
}

// SignAccountOut ends the session that a token belongs to.
func (s *Directory) SignAccountOut(ctx context.Context, name, bearer string) error {
	_, own, err := s.own(ctx, name, bearer)
	if err != nil {
		return err
	}
	defer s.callers.Remove(callerKey{name, aSession, own.Session})
	return s.records.EndAccountSession(ctx, own.Session)
}

// NewPassword changes the password of the account that a token belongs to, and signs it out everywhere else.
func (s *Directory) NewPassword(ctx context.Context, name, bearer string, in PasswordChange, from From) error {
	_, own, err := s.own(ctx, name, bearer)
	if err != nil {
		return err
	}
	a, err := s.records.AccountOf(ctx, name, own.Session)
	if err != nil {
		return fault.New(fault.Unauthenticated, "token.revoked", "this account is signed out; sign in again")
	}
	if err := goodPassword(in.New); err != nil {
		return err
	}
	ok, err := s.matches(ctx, guess{"account", name, a.Email, from.Address}, in.Old, a.PasswordHash)
	if err != nil {
		return err
	}
	if !ok {
		return fault.New(fault.Forbidden, "password.wrong", "the old password is another one; nothing was changed").On("old")
	}
	hash, err := s.hash(ctx, in.New)
	if err != nil {
		return err
	}
	if err := s.records.ChangeAccount(ctx, a.ID, records.AccountChange{PasswordHash: &hash}); err != nil {
		return fmt.Errorf("keep a password: %w", err)
	}
	return s.records.EndOtherSessions(ctx, a.ID, own.Session)
}

// PasswordChange is what an account sends for a new password.
type PasswordChange struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Me is who a token stands for, as the service sees it now.
type Me struct {
	Kind    string         `json:"kind"` // account, client or issuer
	Subject string         `json:"subject"`
	Email   string         `json:"email,omitempty"`
	Roles   []string       `json:"roles"`
	Claims  map[string]any `json:"claims"`
	Missing []string       `json:"missing_claims,omitempty"` // that its roles need: until an operator gives them, nothing is answered
}

// Me tells who a token stands for.
func (s *Directory) Me(ctx context.Context, name, bearer string) (*Me, error) {
	api, err := s.windows.Live(ctx, name)
	if err != nil {
		return nil, err
	}
	if bearer == "" {
		return nil, fault.New(fault.Unauthenticated, "token.missing", "send a token as \"Authorization: Bearer …\"")
	}
	c, err := s.Caller(ctx, api, bearer, func() string { return "GET /auth/" + name + "/me" })
	if err != nil {
		return nil, err
	}
	me := &Me{Kind: "issuer", Subject: c.Subject, Roles: append([]string{}, c.Roles...), Claims: c.Claims}
	v, err := s.verify(ctx, api, bearer)
	if err != nil {
		return nil, err
	}
	if v.own != nil {
		me.Kind = "client"
		if k, ok := s.callers.Get(callerKey{name, aSession, v.own.Session}); ok {
			me.Kind, me.Email = "account", k.email
		}
	}
	me.Missing = missing(api, c.Roles, c.Claims)
	return me, nil
}
