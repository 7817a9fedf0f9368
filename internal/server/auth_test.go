package server_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"eagerwindow/demo"
	"eagerwindow/internal/fakeissuer"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/server"
)

type tokens struct {
	AccessToken  string `json:"access_token"`
	RefreshToken string `json:"refresh_token"`
	Scope        string
	ExpiresIn    int `json:"expires_in"`
}

// post sends JSON, or a form, to /auth/saltmere.
func post(t *testing.T, r *harbourtest.Running, token, path, body string) (harbourtest.Answer, tokens) {
	t.Helper()
	kind := "application/json"
	if !strings.HasPrefix(body, "{") {
		kind = "application/x-www-form-urlencoded"
	}
	a := write(t, r, token, "POST", "/auth/saltmere"+path, body, "Content-Type", kind)
	var out tokens
	if a.StatusCode < 300 && a.Text != "" {
		decode(t, a.Text, &out)
	}
	return a, out
}

// within waits until an answer has a status, which must be so within a second, as every change of who may what.
func within(t *testing.T, r *harbourtest.Running, token, path string, status int) harbourtest.Answer {
	t.Helper()
	for start := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		a := r.Send(t, token, "GET", path, nil)
		if a.StatusCode == status {
			return a
		}
		if time.Since(start) > time.Second {
			t.Fatalf("%s answers %s after a second, not %d: %s", path, a.Status, status, a.Text)
		}
	}
}

// The life of an account: it signs up, gets what it needs, refreshes, changes its password, signs out, and is disabled. All of it takes
// effect within a second, on another instance too, with tokens that are out.
func TestAccount(t *testing.T) {
	t.Parallel()
	r := start(t)
	other := r.Another(t, server.New)
	ctx := context.Background()
	const ada = `{"email":"Ada@board.example","password":"a long pass phrase"}`
	a, first := post(t, r, "", "/sign-up", ada)
	if a.StatusCode != 201 || first.Scope != "agent" || first.ExpiresIn != 900 || a.Header.Get("Cache-Control") != "no-store" {
		t.Fatalf("sign up: %s %s", a.Status, a.Text)
	}
	if a, _ := post(t, r, "", "/sign-up", ada); a.StatusCode != 409 ||
		!strings.Contains(a.Text, "there is an account ada@board.example already") {
		t.Errorf("sign up again: %s %s", a.Status, a.Text)
	}
	if me := r.Send(t, first.AccessToken, "GET", "/auth/saltmere/me", nil); !strings.Contains(me.Text, `"kind":"account"`) ||
		!strings.Contains(me.Text, `"email":"ada@board.example","roles":["agent"],"claims":{},"missing_claims":["agent_id"]`) {
		t.Errorf("me: %s", me.Text)
	}
	const vessels = "/api/saltmere/vessels?select=id,agent_id&count=true&top=1"
	if a := r.Send(t, first.AccessToken, "GET", vessels, nil); a.StatusCode != 403 || !strings.Contains(a.Text, `no claim \"agent_id\"`) {
		t.Errorf("without its claim: %s %s", a.Status, a.Text)
	}
	if err := r.Operator.ChangeAccount(ctx, "saltmere", "ada@board.example",
		identity.CallerChange{Claims: map[string]any{"agent_id": 3}}); err != nil {
		t.Fatal(err)
	}
	for _, at := range []*harbourtest.Running{r, other} {
		if a := within(t, at, first.AccessToken, vessels, 200); !strings.Contains(a.Text, `"agent_id":3`) {
			t.Errorf("with its claim: %s", a.Text)
		}
	}

	form := func(token string) string {
		return url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}}.Encode()
	}
	_, second := post(t, r, "", "/token", form(first.RefreshToken))
	if second.AccessToken == "" || second.RefreshToken == first.RefreshToken {
		t.Fatalf("refreshed: %+v", second)
	}
	_, elsewhere := post(t, other, "", "/sign-in", ada)
	if a, _ := post(t, r, "", "/token", form(first.RefreshToken)); a.StatusCode != 400 ||
		!strings.Contains(a.Text, `"error":"invalid_grant"`) || !strings.Contains(a.Text, "used before") {
		t.Errorf("a refresh token a second time: %s %s", a.Status, a.Text)
	}
	if a, _ := post(t, other, "", "/token", form(second.RefreshToken)); a.StatusCode != 400 {
		t.Errorf("the session of a copied token goes on: %s %s", a.Status, a.Text)
	}
	within(t, r, second.AccessToken, vessels, 401)
	within(t, other, elsewhere.AccessToken, vessels, 200)

	change := func(token, old, new string) int {
		return write(t, r, token, "PUT", "/auth/saltmere/password", fmt.Sprintf(`{"old":%q,"new":%q}`, old, new), "Content-Type",
			"application/json").StatusCode
	}
	_, third := post(t, r, "", "/sign-in", ada)
	for _, tt := range []struct {
		old, new string
		want     int
	}{{"a long pass phrase", "short", 400}, {"not the pass phrase", "another pass phrase", 403},
		{"a long pass phrase", "another pass phrase", 204}} {
		if got := change(third.AccessToken, tt.old, tt.new); got != tt.want {
			t.Errorf("password %q for %q: %d, want %d", tt.new, tt.old, got, tt.want)
		}
	}
	within(t, r, third.AccessToken, vessels, 200)
	within(t, other, elsewhere.AccessToken, vessels, 401)
	if a, _ := post(t, r, "", "/sign-in", ada); a.StatusCode != 401 || !strings.Contains(a.Text, "no account with this address and password") {
		t.Errorf("the old password: %s %s", a.Status, a.Text)
	}
	if a, _ := post(t, r, third.AccessToken, "/sign-out", "{}"); a.StatusCode != 204 {
		t.Errorf("sign out: %s %s", a.Status, a.Text)
	}
	within(t, other, third.AccessToken, vessels, 401)
	if a, _ := post(t, r, "", "/token", form(third.RefreshToken)); a.StatusCode != 400 {
		t.Errorf("a refresh after signing out: %s %s", a.Status, a.Text)
	}

	const again = `{"email":"ada@board.example","password":"another pass phrase"}`
	_, fourth := post(t, r, "", "/sign-in", again)
	if err := r.Operator.ChangeAccount(ctx, "saltmere", "ada@board.example",
		identity.CallerChange{Roles: []string{"office", "agent"}}); err != nil {
		t.Fatal(err)
	}
	within(t, other, fourth.AccessToken, "/api/saltmere/inspections?top=1", 200)
	yes := true
	if err := r.Operator.ChangeAccount(ctx, "saltmere", "ada@board.example", identity.CallerChange{Disabled: &yes}); err != nil {
		t.Fatal(err)
	}
	for _, at := range []*harbourtest.Running{r, other} {
		within(t, at, fourth.AccessToken, vessels, 401)
	}
	if a, _ := post(t, r, "", "/sign-in", again); a.StatusCode != 401 {
		t.Errorf("a disabled account signs in: %s %s", a.Status, a.Text)
	}
	if err := r.Operator.RemoveAccount(ctx, "saltmere", "ada@board.example"); err != nil {
		t.Fatal(err)
	}
	if err := r.Operator.RemoveAccount(ctx, "saltmere", "ada@board.example"); err == nil ||
		!strings.Contains(err.Error(), `there is no account "ada@board.example"`) {
		t.Errorf("removed again: %v", err)
	}
	for _, tt := range []struct{ path, body, want string }{
		{"/sign-up", `{"email":"ada","password":"a long pass phrase"}`, `\"ada\" is no mail address`},
		{"/sign-up", `{"email":"a@b.example","password":"short"}`, "a password has at least 12 characters, this one has 5"},
		{"/sign-up", `{"email":"a@b.example"}`, `\"password\" is missing: at least 12 characters`},
		{"/sign-up", `{"password":"a long pass phrase"}`, `\"email\" is missing: an address such as ada@board.example`},
		{"/sign-up", `{"email":"a@b.example","password":"a long pass phrase","role":"harbour_master"}`, "nobody chooses a role at sign-up"},
		{"/sign-up", `{"email":7}`, "email can't be a JSON number"},
		{"/sign-up", `{"email":"a@b.example","pasword":"x"}`, `a member \"pasword\", which has no meaning here`},
		{"/token", "grant_type=password", "unsupported_grant_type"},
		{"/token", "grant_type=refresh_token&refresh_token=made-up", "invalid_grant"},
	} {
		if a, _ := post(t, r, "", tt.path, tt.body); a.StatusCode != 400 || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s %s: %s %s, want %s", tt.path, tt.body, a.Status, a.Text, tt.want)
		}
	}
}

// A program may ask for some of its roles or for all; what is taken from it is gone within a second, on every instance.
func TestClient(t *testing.T) {
	t.Parallel()
	r := start(t)
	other := r.Another(t, server.New)
	ctx := context.Background()
	added, err := r.Operator.AddClient(ctx, "saltmere", "both",
		identity.NewClient{Roles: []string{"agent", "pilot"}, Claims: map[string]any{"agent_id": 3, "pilot_id": demo.Pilot}})
	if err != nil {
		t.Fatal(err)
	}
	form := "grant_type=client_credentials&client_id=both&client_secret=" + added.Secret
	_, all := post(t, r, "", "/token", form)
	_, agent := post(t, r, "", "/token", form+"&scope=agent")
	if all.Scope != "agent pilot" || agent.Scope != "agent" {
		t.Errorf("scopes %q and %q", all.Scope, agent.Scope)
	}
	if a, _ := post(t, r, "", "/token", form+"&scope=agent+office"); a.StatusCode != 400 || !strings.Contains(a.Text, "invalid_scope") {
		t.Errorf("a role that it does not have: %s %s", a.Status, a.Text)
	}
	// A vessel of another agent: the pilot sees it, but not its agent; the office alone would see both.
	const others = "/api/saltmere/vessels?filter=id%20ne%200&select=id,agent_id&orderby=id&top=3"
	if a := r.Send(t, all.AccessToken, "GET", others, nil); !strings.Contains(a.Text, `"agent_id@Core.Permissions":"None"`) {
		t.Errorf("as both: %s", a.Text)
	}
	if a := r.Send(t, agent.AccessToken, "GET", others, nil); strings.Contains(a.Text, "Permissions") {
		t.Errorf("as an agent: %s", a.Text)
	}
	if a := r.Send(t, all.AccessToken, "GET", "/api/saltmere/vessels/1/agent_id", nil); a.StatusCode != 403 ||
		!strings.Contains(a.Text, "none of the caller's roles that reach this row may read agent_id") {
		t.Errorf("a field of a row that its role does not show: %s %s", a.Status, a.Text)
	}
	if a := r.Send(t, all.AccessToken, "GET", "/api/saltmere/vessels?filter=agent_id%20ne%203&count=true&top=0",
		nil); !strings.Contains(a.Text, `"@count":`) || strings.Contains(a.Text, `"@count":0`) {
		t.Errorf("rows whose agent is not told are not of agent 3: %s", a.Text)
	}
	if _, err := r.Operator.ChangeClient(ctx, "saltmere", "both", identity.CallerChange{Roles: []string{"pilot"}}); err != nil {
		t.Fatal(err)
	}
	for _, at := range []*harbourtest.Running{r, other} {
		if a := within(t, at, agent.AccessToken, others, 401); !strings.Contains(a.Text, `client \"both\" no longer has role \"agent\"`) {
			t.Errorf("its role was taken: %s", a.Text)
		}
		within(t, at, all.AccessToken, "/api/saltmere/dues?top=1", 403)
	}
	for _, tt := range []struct {
		change identity.CallerChange
		want   string
	}{
		{identity.CallerChange{Roles: []string{"pilto"}}, `did you mean "pilot"?`},
		{identity.CallerChange{Roles: []string{"board"}}, "the role of callers without a token"},
		{identity.CallerChange{Claims: map[string]any{"pilot_id": nil}}, `role "pilot" needs the claim "pilot_id"`},
		{identity.CallerChange{Claims: map[string]any{"pilot_id": "7"}}, `the claim "pilot_id" is "7"`},
		{identity.CallerChange{Password: "x"}, "a client has a secret, not a password"},
	} {
		if _, err := r.Operator.ChangeClient(ctx, "saltmere", "both", tt.change); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %s", tt.change, err, tt.want)
		}
	}
	roster, err := r.Operator.Callers(ctx, "saltmere")
	if err != nil || len(roster.Clients) != 5 || len(roster.Issuers) != 1 {
		t.Fatalf("%+v, %v", roster, err)
	}
	for _, c := range roster.Clients {
		if c.ID == "both" && (c.LastSeen == nil || !strings.HasPrefix(c.LastRequest, "GET /api/saltmere/") ||
			strings.Contains(c.LastRequest, "?")) {
			t.Errorf("what it did last: %+v", c)
		}
	}
	if err := r.Operator.RemoveClient(ctx, "saltmere", "both"); err != nil {
		t.Fatal(err)
	}
	within(t, other, all.AccessToken, others, 401)
}

// Who guesses is slowed down, whoever it is that is guessed at and whether it is there or not.
func TestGuessing(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, tt := range []struct{ path, body string }{
		{"/sign-in", `{"email":"nobody@board.example","password":"guess"}`},
		{"/token", "grant_type=client_credentials&client_id=agent-demo&client_secret=guess"},
	} {
		var a harbourtest.Answer
		for range 6 {
			if a, _ = post(t, r, "", tt.path, tt.body); a.StatusCode == 429 {
				break
			}
		}
		if a.StatusCode != 429 || a.Header.Get("Retry-After") == "" || !strings.Contains(a.Text, "too many tries; the next one in") {
			t.Errorf("%s: the sixth guess is answered %s %s", tt.path, a.Status, a.Text)
		}
	}
	statuses := map[int]int{}
	for i := range 22 {
		a, _ := post(t, r, "", "/sign-up", fmt.Sprintf(`{"email":"%d@board.example","password":"a long pass phrase"}`, i%2))
		statuses[a.StatusCode]++
	}
	if statuses[201] != 2 || statuses[409] != 18 || statuses[429] != 2 {
		t.Errorf("signing up again and again: %v", statuses)
	}
	// The right secret has to wait as well, and is taken then: waiting is short at first.
	until(t, "the right secret is taken", func() bool {
		_, tokens := post(t, r, "", "/token", "grant_type=client_credentials&client_id=agent-demo&client_secret=saltmere-agent")
		return tokens.AccessToken != ""
	})
}

// Tokens that are forged, of others, or over are refused; those of an issuer that the document names are taken as it says.
func TestTokens(t *testing.T) {
	idp, err := fakeissuer.New(demo.Issuer)
	if err != nil {
		t.Fatal(err)
	}
	keys := httptest.NewServer(idp)
	defer keys.Close()
	t.Setenv("JWKS_URL", keys.URL+"/jwks.json")
	r := start(t)
	const vessels = "/api/saltmere/vessels?select=id,agent_id&top=1"
	good := map[string]any{"sub": "ada", "aud": "saltmere", "realm": map[string]any{"role": "agent"}, "agent_id": 3}
	with := func(changes map[string]any) map[string]any {
		all := map[string]any{}
		for _, m := range []map[string]any{good, changes} {
			for k, v := range m {
				all[k] = v
			}
		}
		return all
	}
	now := time.Now().Unix()
	for _, tt := range []struct {
		name   string
		claims map[string]any
		status int
		want   string
	}{
		{"good", nil, 200, `"agent_id":3`},
		{"several audiences", map[string]any{"aud": []string{"other", "saltmere"}}, 200, `"agent_id":3`},
		{"several roles", map[string]any{"realm": map[string]any{"role": []string{"stranger", "agent"}}}, 200, `"agent_id":3`},
		{"a claim as text", map[string]any{"agent_id": "3"}, 200, `"agent_id":3`},
		{"clocks that differ", map[string]any{"exp": now - 30, "nbf": now + 30, "iat": now + 30}, 200, `"agent_id":3`},
		{"over", map[string]any{"exp": now - 90}, 401, "it has expired"},
		{"not yet", map[string]any{"nbf": now + 90}, 401, "it is not valid yet"},
		{"without an end", map[string]any{"exp": nil}, 401, "it does not say what a token must"},
		{"for others", map[string]any{"aud": "harbour"}, 401, "it is for another API"},
		{"for nobody", map[string]any{"aud": nil}, 401, "not accepted"},
		{"of another issuer", map[string]any{"iss": "https://id.elsewhere.example"}, 401,
			"not one of this service, or of an issuer that this API knows"},
		{"of no issuer", map[string]any{"iss": nil}, 401, "not one of this service"},
		{"as if ours", map[string]any{"iss": r.URL + "/auth/saltmere", "aud": "eager-window:saltmere", "client_id": "office-demo",
			"sub": "office-demo"}, 401, "not one of this service"},
		{"a role that is not here", map[string]any{"realm": map[string]any{"role": "stranger"}}, 403, `there is no role \"stranger\" here`},
		{"the anonymous role", map[string]any{"realm": map[string]any{"role": "board"}}, 403, "the caller has no role here"},
		{"no role", map[string]any{"realm": nil}, 403, "the caller has no role here"},
		{"no claim", map[string]any{"agent_id": nil}, 403, `no claim \"agent_id\"`},
		{"a claim that is a list", map[string]any{"agent_id": []int{3}}, 403, "is not a single value"},
	} {
		token, err := idp.Token(with(tt.claims))
		if err != nil {
			t.Fatal(err)
		}
		a := r.Send(t, token, "GET", vessels, nil)
		if a.StatusCode != tt.status || !strings.Contains(a.Text, tt.want) {
			t.Errorf("%s: %s %s, want %d %s", tt.name, a.Status, a.Text, tt.status, tt.want)
		}
	}

	ours := r.Token(t, "office")
	parts := strings.Split(ours, ".")
	var claims jwt.MapClaims
	if _, _, err := jwt.NewParser().ParseUnverified(ours, &claims); err != nil {
		t.Fatal(err)
	}
	forge := func(m jwt.SigningMethod, key any, kid string, claims jwt.MapClaims) string {
		f := jwt.NewWithClaims(m, claims)
		f.Header["kid"] = kid
		signed, err := f.SignedString(key)
		if err != nil {
			t.Fatal(err)
		}
		return signed
	}
	head := func(h string) string { return base64.RawURLEncoding.EncodeToString([]byte(h)) }
	private, kid := idp.Key()
	der, err := x509.MarshalPKIXPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	public := pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
	set := r.Send(t, "", "GET", "/auth/saltmere/jwks.json", nil)
	var jwks struct {
		Keys []struct{ Kid, X, Alg, Kty string }
	}
	decode(t, set.Text, &jwks)
	if set.Header.Get("Content-Type") != "application/jwk-set+json" || len(jwks.Keys) != 1 || jwks.Keys[0].Alg != "EdDSA" ||
		strings.Contains(set.Text, `"d"`) {
		t.Fatalf("key set %s", set.Text)
	}
	x, _ := base64.RawURLEncoding.DecodeString(jwks.Keys[0].X)
	_, stranger, _ := ed25519.GenerateKey(rand.Reader)
	foreign := jwt.MapClaims(with(map[string]any{"iss": demo.Issuer, "exp": now + 600}))
	for name, token := range map[string]string{
		"no signature":                        head(`{"alg":"none","typ":"JWT"}`) + "." + parts[1] + ".",
		"a signature of nothing":              head(`{"alg":"none","kid":"`+jwks.Keys[0].Kid+`"}`) + "." + parts[1] + "." + parts[2],
		"our public key as a password":        forge(jwt.SigningMethodHS256, x, jwks.Keys[0].Kid, claims),
		"the issuer's public key as password": forge(jwt.SigningMethodHS256, public, kid, foreign),
		"our key's name, another key":         forge(jwt.SigningMethodEdDSA, stranger, jwks.Keys[0].Kid, claims),
		"the issuer's name, another key":      forge(jwt.SigningMethodEdDSA, stranger, kid, foreign),
		"changed": parts[0] + "." +
			head(strings.Replace(func() string { b, _ := base64.RawURLEncoding.DecodeString(parts[1]); return string(b) }(), "office-demo",
				"harbour-master-demo", 1)) + "." + parts[2],
		"cut": parts[0] + "." + parts[1], "empty parts": "..", "not a token": "eyJ", "very long": strings.Repeat("a", 20_000),
	} {
		if a := r.Send(t, token, "GET", "/api/saltmere/inspections?top=1", nil); a.StatusCode != 401 ||
			!strings.HasPrefix(a.Header.Get("WWW-Authenticate"), "Bearer") {
			t.Errorf("%s: %s %s", name, a.Status, a.Text)
		}
	}
	// What anyone can check with a common library and the key set alone.
	checked, err := jwt.Parse(ours, func(*jwt.Token) (any, error) { return ed25519.PublicKey(x), nil }, jwt.WithIssuer(r.URL+"/auth/saltmere"))
	if err != nil || checked.Header["typ"] != "at+jwt" {
		t.Errorf("our token, checked by others: %v, %v", checked, err)
	}

	// Keys change: the issuer's are fetched anew, ours are known to all instances.
	if err := idp.Rotate(); err != nil {
		t.Fatal(err)
	}
	token, err := idp.Token(good)
	if err != nil {
		t.Fatal(err)
	}
	if a := r.Send(t, token, "GET", vessels, nil); a.StatusCode != 200 {
		t.Errorf("a token of the issuer's new key: %s %s", a.Status, a.Text)
	}
	ctx, other := context.Background(), r.Another(t, server.New)
	if err := r.Operator.RotateKeys(ctx, false); err != nil {
		t.Fatal(err)
	}
	renewed := r.Token(t, "office")
	const inspections = "/api/saltmere/inspections?top=1"
	for _, token := range []string{ours, renewed} {
		within(t, other, token, inspections, 200)
	}
	if err := other.Operator.RotateKeys(ctx, true); err != nil {
		t.Fatal(err)
	}
	for _, token := range []string{ours, renewed} {
		within(t, r, token, inspections, 401)
	}
	within(t, other, r.Token(t, "office"), inspections, 200)
}

// Programs find out where tokens come from, and pages of the origins in the document may call.
func TestMetadataAndBrowsers(t *testing.T) {
	t.Parallel()
	r := start(t)
	var meta map[string]any
	decode(t, r.Send(t, "", "GET", "/.well-known/oauth-authorization-server/auth/saltmere", nil).Text, &meta)
	issuer := r.URL + "/auth/saltmere"
	if meta["issuer"] != issuer || meta["token_endpoint"] != issuer+"/token" || meta["jwks_uri"] != issuer+"/jwks.json" ||
		fmt.Sprint(meta["grant_types_supported"]) != "[client_credentials refresh_token]" {
		t.Errorf("metadata %v", meta)
	}
	const board = "https://board.saltmere.example"
	for _, tt := range []struct {
		method, path, origin string
		headers              []string
		status               int
		allowed, methods     string
	}{
		{"GET", "/api/saltmere/arrivals_board?top=1", board, nil, 200, board, ""},
		{"GET", "/api/saltmere/arrivals_board?top=1", "https://elsewhere.example", nil, 200, "", ""},
		{"GET", "/api/saltmere/nothing", board, nil, 404, board, ""},
		{"OPTIONS", "/api/saltmere/vessels/3", board, []string{"Access-Control-Request-Method", "PATCH", "Access-Control-Request-Headers",
			"authorization,content-type,if-match"}, 200, board, "PATCH"},
		{"OPTIONS", "/api/saltmere/vessels/3", "https://elsewhere.example", []string{"Access-Control-Request-Method", "PATCH"}, 200, "", ""},
		{"OPTIONS", "/auth/saltmere/token", board, []string{"Access-Control-Request-Method", "POST"}, 200, board, "POST"},
		{"OPTIONS", "/draft/saltmere/vessels", board, []string{"Access-Control-Request-Method", "GET"}, 401, "", ""},
		{"OPTIONS", "/manage/windows", board, []string{"Access-Control-Request-Method", "GET"}, 405, "", ""},
	} {
		a := write(t, r, "", tt.method, tt.path, "", append(tt.headers, "Origin", tt.origin)...)
		if a.StatusCode != tt.status || a.Header.Get("Access-Control-Allow-Origin") != tt.allowed ||
			a.Header.Get("Access-Control-Allow-Methods") != tt.methods || a.Header.Get("Access-Control-Allow-Credentials") != "" {
			t.Errorf("%s %s from %s: %s %v", tt.method, tt.path, tt.origin, a.Status, a.Header)
		}
		if tt.allowed != "" && tt.method == "GET" && !strings.Contains(a.Header.Get("Access-Control-Expose-Headers"), "Etag") &&
			!strings.Contains(a.Header.Get("Access-Control-Expose-Headers"), "ETag") {
			t.Errorf("pages can't read %v", a.Header)
		}
	}
	var doc struct {
		Components struct{ SecuritySchemes map[string]json.RawMessage }
	}
	decode(t, r.Send(t, "", "GET", "/api/saltmere/openapi.json", nil).Text, &doc)
	if doc.Components.SecuritySchemes["token"] == nil || doc.Components.SecuritySchemes["bearer"] == nil {
		t.Errorf("security schemes %s", doc.Components.SecuritySchemes)
	}
}
