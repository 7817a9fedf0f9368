package identity

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
	"eagerwindow/internal/records"
)

// Who may call a window, as the management API has it.
type (
	// Roster is all who may call a window with a token.
	Roster struct {
		Clients  []ClientEntry  `json:"clients"`
		Accounts []AccountEntry `json:"accounts"`
		Issuers  []IssuerEntry  `json:"issuers"` // of the live document
	}
	// Entry is what programs and people have in common.
	Entry struct {
		Roles       []string       `json:"roles"`
		Claims      map[string]any `json:"claims"`
		Missing     []string       `json:"missing_claims"` // that the roles need; without them nothing is answered
		Created     time.Time      `json:"created"`
		LastSeen    *time.Time     `json:"last_seen"`
		LastRequest string         `json:"last_request"`
	}
	// ClientEntry is a program.
	ClientEntry struct {
		ID       string `json:"id"`
		Disabled bool   `json:"disabled"`
		Entry
	}
	// AccountEntry is a person; Sessions is in how many places it is signed in.
	AccountEntry struct {
		Email    string `json:"email"`
		ID       string `json:"id"`
		Disabled bool   `json:"disabled"`
		Sessions int    `json:"sessions"`
		Entry
	}
	// IssuerEntry is somebody else whose tokens are taken.
	IssuerEntry struct {
		Issuer   string `json:"issuer"`
		JWKS     string `json:"jwks"` // "": its tokens are not taken
		Role     string `json:"role"`
		Audience string `json:"audience"`
	}
	// NewClient is a program that may call the API; without a secret one is made.
	NewClient struct {
		Secret string         `json:"secret,omitempty"`
		Roles  []string       `json:"roles"`
		Claims map[string]any `json:"claims,omitempty"`
	}
	// Client is a client with its secret, which is reported this once.
	Client struct {
		ID     string   `json:"id"`
		Secret string   `json:"secret,omitempty"`
		Roles  []string `json:"roles"`
	}
	// NewAccount is a person who may call the API; without a password one is made.
	NewAccount struct {
		Email    string         `json:"email"`
		Password string         `json:"password,omitempty"`
		Roles    []string       `json:"roles"`
		Claims   map[string]any `json:"claims,omitempty"`
	}
	// Account is an account with its password, which is reported this once.
	Account struct {
		Email    string   `json:"email"`
		Password string   `json:"password"`
		Roles    []string `json:"roles"`
	}
	// CallerChange changes a client or an account: what is left out stays, and a claim that is null goes (RFC 7396). Accounts have a
	// password, clients a secret, which is made anew.
	CallerChange struct {
		Roles     []string       `json:"roles,omitempty"`
		Claims    map[string]any `json:"claims,omitempty"`
		Disabled  *bool          `json:"disabled,omitempty"`
		Password  string         `json:"password,omitempty"`
		NewSecret bool           `json:"new_secret,omitempty"`
	}
	// SigningKeys asks for a new signing key; with Forget, tokens of the older ones are refused from now on.
	SigningKeys struct {
		Forget bool `json:"forget,omitempty"`
	}
)

// Roster lists who may call a window.
func (s *Directory) Roster(ctx context.Context, name string) (*Roster, error) {
	api, err := s.servedAPI(ctx, name)
	if err != nil {
		return nil, err
	}
	clients, accounts, err := s.records.Callers(ctx, name)
	if err != nil {
		return nil, err
	}
	out := &Roster{Clients: []ClientEntry{}, Accounts: []AccountEntry{}, Issuers: []IssuerEntry{}}
	for _, c := range clients {
		out.Clients = append(out.Clients, ClientEntry{c.ID, c.Disabled, entry(api, c.Roles, c.Claims, c.CreatedAt, c.Seen)})
	}
	for _, a := range accounts {
		out.Accounts = append(out.Accounts, AccountEntry{a.Email, a.ID, a.Disabled, a.Sessions,
			entry(api, a.Roles, a.Claims, a.CreatedAt, a.Seen)})
	}
	for _, i := range api.Model.Document.SignIn.Issuers {
		out.Issuers = append(out.Issuers, IssuerEntry{i.Issuer.Value, i.JWKS.Value, i.Role, i.Audience.Value})
	}
	return out, nil
}

// servedAPI is what callers meet: the live release, or the draft where there is none yet.
func (s *Directory) servedAPI(ctx context.Context, name string) (*data.API, error) {
	api, err := s.windows.Live(ctx, name)
	if f, ok := fault.From(err); ok && f.Code == "release.none" {
		return s.windows.DraftAPI(ctx, name)
	}
	return api, err
}

func entry(api *data.API, roles []string, claims map[string]any, created time.Time, seen records.Seen) Entry {
	return Entry{roles, claims, append([]string{}, missing(api, roles, claims)...), created, seen.UsedAt, seen.LastRequest}
}

// missing are the claims that roles need and that are not there.
func missing(api *data.API, roles []string, claims map[string]any) (names []string) {
	for _, role := range roles {
		known := api.Model.Role(role)
		if known == nil {
			continue
		}
		for _, c := range known.Claims {
			if _, err := access.ClaimValue(claims, c.Name, c.Type); err != nil {
				names = append(names, c.Name)
			}
		}
	}
	return names
}

// admissible reports whether a caller can have roles and claims.
func (s *Directory) admissible(ctx context.Context, name string, roles []string, claims map[string]any) error {
	api, err := s.windows.DraftAPI(ctx, name)
	if err != nil {
		return err
	}
	if len(roles) == 0 {
		return fault.New(fault.Invalid, "role.missing", "a caller needs a role%s", fault.Suggest("", api.Policy.RoleNames())).On("roles")
	}
	for _, role := range roles {
		known := api.Model.Role(role)
		switch {
		case known == nil:
			return fault.New(fault.Invalid, "role.unknown", "there is no role %q%s", role, fault.Suggest(role, api.Policy.RoleNames())).On("roles")
		case known.Anonymous:
			return fault.New(fault.Invalid, "role.anonymous", "%q is the role of callers without a token; one with a token needs another",
				role).On("roles")
		}
		for _, c := range known.Claims {
			if _, ok := claims[c.Name]; !ok {
				return fault.New(fault.Invalid, "claim.missing", "role %q needs the claim %q (%s)", role, c.Name, c.Type.Kind).On("claims")
			}
			if _, err := access.ClaimValue(claims, c.Name, c.Type); err != nil {
				f, _ := fault.From(err)
				return fault.New(fault.Invalid, f.Code, "%s", f.Message).On("claims")
			}
		}
	}
	return nil
}

// AddClient adds a program that may call a window, or replaces it.
func (s *Directory) AddClient(ctx context.Context, name, id string, in NewClient) (*Client, error) {
	if err := plainName("client", id); err != nil {
		return nil, err
	}
	if err := s.admissible(ctx, name, in.Roles, in.Claims); err != nil {
		return nil, err
	}
	if in.Secret == "" {
		in.Secret = base64.RawURLEncoding.EncodeToString(randomBytes(24))
	}
	err := s.SaveClient(ctx, name, id, in.Secret, in.Roles, in.Claims)
	if errors.Is(err, records.ErrNone) {
		return nil, s.windows.NoWindow(ctx, name)
	}
	return &Client{ID: id, Secret: in.Secret, Roles: in.Roles}, err
}

// ChangeClient changes a client, and returns its new secret where one was asked for. What changes holds for tokens that are out; with a new
// secret, those are refused.
func (s *Directory) ChangeClient(ctx context.Context, name, id string, in CallerChange) (*Client, error) {
	if in.Password != "" {
		return nil, fault.New(fault.Invalid, "client.change", "a client has a secret, not a password; \"new_secret\": true gives it another one")
	}
	c, err := s.records.Client(ctx, name, id)
	if err != nil {
		return nil, s.noCaller(ctx, name, "client.unknown", id, err)
	}
	roles, claims := changed(in, c.Roles, c.Claims)
	if in.Roles != nil || in.Claims != nil {
		if err := s.admissible(ctx, name, roles, claims); err != nil {
			return nil, err
		}
	}
	out := &Client{ID: id, Roles: roles}
	change := records.ClientChange{Roles: in.Roles, Claims: in.Claims, Disabled: in.Disabled}
	if in.NewSecret {
		out.Secret = base64.RawURLEncoding.EncodeToString(randomBytes(24))
		hash, err := s.hash(ctx, out.Secret)
		if err != nil {
			return nil, err
		}
		change.SecretHash = &hash
	}
	defer s.callers.Remove(callerKey{name, aClient, id})
	return out, s.records.ChangeClient(ctx, name, id, change)
}

// RemoveClient removes a client. Its tokens are refused from now on.
func (s *Directory) RemoveClient(ctx context.Context, name, id string) error {
	defer s.callers.Remove(callerKey{name, aClient, id})
	return s.noCaller(ctx, name, "client.unknown", id, s.records.RemoveClient(ctx, name, id))
}

// AddAccount adds a person who may call a window.
func (s *Directory) AddAccount(ctx context.Context, name string, in NewAccount) (*Account, error) {
	if err := s.admissible(ctx, name, in.Roles, in.Claims); err != nil {
		return nil, err
	}
	if in.Password == "" {
		in.Password = base64.RawURLEncoding.EncodeToString(randomBytes(15))
	}
	a, err := s.newAccount(ctx, name, Credentials{Email: in.Email, Password: in.Password}, in.Roles, in.Claims)
	if err != nil {
		return nil, err
	}
	return &Account{Email: a.Email, Password: in.Password, Roles: in.Roles}, nil
}

// ChangeAccount changes an account. What changes holds for tokens that are out; a new password signs it out everywhere.
func (s *Directory) ChangeAccount(ctx context.Context, name, email string, in CallerChange) error {
	if in.NewSecret {
		return fault.New(fault.Invalid, "client.change", "an account has a password, not a secret; \"password\" gives it another one")
	}
	a, err := s.records.Account(ctx, name, email)
	if err != nil {
		return s.noCaller(ctx, name, "account.unknown", email, err)
	}
	change := records.AccountChange{Roles: in.Roles, Claims: in.Claims, Disabled: in.Disabled}
	if in.Roles != nil || in.Claims != nil {
		roles, claims := changed(in, a.Roles, a.Claims)
		if err := s.admissible(ctx, name, roles, claims); err != nil {
			return err
		}
	}
	if in.Password != "" {
		if err := goodPassword(in.Password); err != nil {
			return err
		}
		hash, err := s.hash(ctx, in.Password)
		if err != nil {
			return err
		}
		change.PasswordHash = &hash
		if err := s.records.EndOtherSessions(ctx, a.ID, ""); err != nil {
			return fmt.Errorf("sign an account out: %w", err)
		}
	}
	defer s.forget(name)
	return s.records.ChangeAccount(ctx, a.ID, change)
}

// RemoveAccount removes an account.
func (s *Directory) RemoveAccount(ctx context.Context, name, email string) error {
	a, err := s.records.Account(ctx, name, email)
	if err != nil {
		return s.noCaller(ctx, name, "account.unknown", email, err)
	}
	defer s.forget(name)
	return s.records.RemoveAccount(ctx, a.ID)
}

// forget forgets what is known of the callers of a window: sessions of an account are many.
func (s *Directory) forget(name string) {
	for _, key := range s.callers.Keys() {
		if key.window == name {
			s.callers.Remove(key)
		}
	}
}

func changed(in CallerChange, roles []string, claims map[string]any) ([]string, map[string]any) {
	if in.Roles != nil {
		roles = in.Roles
	}
	claims = maps.Clone(claims)
	for name, value := range in.Claims {
		if claims[name] = value; value == nil {
			delete(claims, name)
		}
	}
	return roles, claims
}

// noCaller says that there is no such caller, where that is what an error of the records means.
func (s *Directory) noCaller(ctx context.Context, name, code, id string, err error) error {
	if !errors.Is(err, records.ErrNone) {
		return err
	}
	roster, err := s.Roster(ctx, name)
	if err != nil {
		return err
	}
	var ids []string
	for _, c := range roster.Clients {
		ids = append(ids, c.ID)
	}
	kind, _, _ := strings.Cut(code, ".")
	if kind == "account" {
		ids = nil
		for _, a := range roster.Accounts {
			ids = append(ids, a.Email)
		}
	}
	return fault.New(fault.NotFound, code, "there is no %s %q of %s%s", kind, id, name, fault.Suggest(id, ids))
}
