// Package client calls the management API and the data API of a service. The command line and the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

// Client calls one service, as whoever the token stands for.
type Client struct {
	URL   string // http://127.0.0.1:8080
	Token string
	HTTP  *http.Client // nil: the default one
}

// Refused is an answer of the service that is not the one that was hoped for.
type Refused struct {
	Status  int
	Code    string
	Message string
	Details []fault.Detail
}

// Error is the message and, on lines of their own, the details.
func (r *Refused) Error() string {
	lines := []string{r.Message}
	for _, d := range r.Details {
		lines = append(lines, "  "+d.String())
	}
	return strings.Join(lines, "\n")
}

// Object is the refusal as the service sent it: the standard's error object (OData JSON Format 4.01, 21.1).
func (r *Refused) Object() any {
	details := r.Details
	if details == nil {
		details = []fault.Detail{}
	}
	return map[string]any{"error": map[string]any{"code": r.Code, "message": r.Message, "details": details}}
}

// ErrUnreachable is in the chain of an error where no service answered.
var ErrUnreachable = errors.New("no service answers")

// Request is one call of the data API.
type Request struct {
	Method string
	Path   string // with its query, below the service's root; it may hold blanks and quotes
	ActAs  string // the Act-As header
	Header http.Header
	Body   io.Reader
}

// Send sends a request and returns the answer, whatever its status.
func (c *Client) Send(ctx context.Context, r Request) (*http.Response, error) {
	base, err := url.Parse(strings.TrimSuffix(c.URL, "/"))
	if err != nil || base.Host == "" {
		return nil, fmt.Errorf("%q is no address of a service; write http://host:port", c.URL)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, base.String()+Escape(r.Path), r.Body)
	if err != nil {
		return nil, fmt.Errorf("the path can't be sent: %w", err)
	}
	for name, values := range r.Header {
		req.Header[name] = values
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if r.ActAs != "" {
		req.Header.Set("Act-As", r.ActAs)
	}
	if r.Body != nil && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	client := c.HTTP
	if client == nil {
		client = http.DefaultClient
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", ErrUnreachable, base, err)
	}
	return res, nil
}

// Escape encodes what people type into a URL and HTTP can't carry: blanks, quotes, letters outside ASCII. What is encoded
// already stays.
func Escape(path string) string {
	var b strings.Builder
	for i := range len(path) {
		switch c := path[i]; {
		case c <= ' ' || c >= 0x7f || strings.IndexByte(`"<>\^`+"`{|}", c) >= 0:
			fmt.Fprintf(&b, "%%%02X", c)
		case c == '+':
			b.WriteString("%2B") // a plus that is typed is meant
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// call sends JSON to the management API and reads JSON back.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		encoded, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(encoded)
	}
	res, err := c.Send(ctx, Request{Method: method, Path: "/manage" + path, Body: body})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if err := Check(res); err != nil || out == nil {
		return err
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("read the service's answer: %w", err)
	}
	return nil
}

// Check makes a Refused of an answer whose status is no success; its body is read then.
func Check(res *http.Response) error {
	if res.StatusCode < 400 {
		return nil
	}
	var body struct {
		Error struct {
			Code, Message string
			Details       []fault.Detail
		}
	}
	text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if json.Unmarshal(text, &body) != nil || body.Error.Message == "" {
		body.Error.Message = strings.TrimSpace(res.Status + " " + string(text))
	}
	return &Refused{res.StatusCode, body.Error.Code, body.Error.Message, body.Error.Details}
}

// SignIn opens an operator's session.
func (c *Client) SignIn(ctx context.Context, email, password string) (out identity.Session, err error) {
	return out, c.call(ctx, http.MethodPost, "/session", identity.Credentials{Email: email, Password: password}, &out)
}

// Look reads the catalog of a source.
func (c *Client) Look(ctx context.Context, source string) (*catalog.Catalog, error) {
	out := &catalog.Catalog{}
	return out, c.call(ctx, http.MethodPost, "/look", windows.LookAt{Source: source}, out)
}

// Windows lists the windows.
func (c *Client) Windows(ctx context.Context) (out []windows.Window, err error) {
	return out, c.call(ctx, http.MethodGet, "/windows", nil, &out)
}

// Open makes a window over a database and returns its first document.
func (c *Client) Open(ctx context.Context, in windows.NewWindow) (string, error) {
	var out windows.Document
	err := c.call(ctx, http.MethodPost, "/windows", in, &out)
	return out.Document, err
}

// Lights are what the roles of a window's draft may do.
func (c *Client) Lights(ctx context.Context, window string) (out windows.Lights, err error) {
	return out, c.call(ctx, http.MethodGet, "/windows/"+url.PathEscape(window)+"/access", nil, &out)
}

// Why asks why a role of a window's draft may or may not do something.
func (c *Client) Why(ctx context.Context, window string, q windows.Question) (out windows.Reason, err error) {
	return out, c.call(ctx, http.MethodPost, "/windows/"+url.PathEscape(window)+"/access", q, &out)
}

// AddClient adds a program that may call a window's API.
func (c *Client) AddClient(ctx context.Context, window, id string, in identity.NewClient) (out identity.Client, err error) {
	return out, c.call(ctx, http.MethodPut, "/windows/"+url.PathEscape(window)+"/clients/"+url.PathEscape(id), in, &out)
}

// Callers lists who may call a window's API.
func (c *Client) Callers(ctx context.Context, window string) (out identity.Roster, err error) {
	return out, c.call(ctx, http.MethodGet, "/windows/"+url.PathEscape(window)+"/callers", nil, &out)
}

// ChangeClient changes a client, and returns its new secret where one is asked for.
func (c *Client) ChangeClient(ctx context.Context, window, id string, in identity.CallerChange) (out identity.Client, err error) {
	return out, c.call(ctx, http.MethodPatch, "/windows/"+url.PathEscape(window)+"/clients/"+url.PathEscape(id), in, &out)
}

// RemoveClient removes a client.
func (c *Client) RemoveClient(ctx context.Context, window, id string) error {
	return c.call(ctx, http.MethodDelete, "/windows/"+url.PathEscape(window)+"/clients/"+url.PathEscape(id), nil, nil)
}

// AddAccount adds a person who may call a window's API.
func (c *Client) AddAccount(ctx context.Context, window string, in identity.NewAccount) (out identity.Account, err error) {
	return out, c.call(ctx, http.MethodPost, "/windows/"+url.PathEscape(window)+"/accounts", in, &out)
}

// ChangeAccount changes an account.
func (c *Client) ChangeAccount(ctx context.Context, window, email string, in identity.CallerChange) error {
	return c.call(ctx, http.MethodPatch, "/windows/"+url.PathEscape(window)+"/accounts/"+url.PathEscape(email), in, nil)
}

// RemoveAccount removes an account.
func (c *Client) RemoveAccount(ctx context.Context, window, email string) error {
	return c.call(ctx, http.MethodDelete, "/windows/"+url.PathEscape(window)+"/accounts/"+url.PathEscape(email), nil, nil)
}

// RotateKeys makes a new signing key; with forget, tokens of the older ones are refused from now on.
func (c *Client) RotateKeys(ctx context.Context, forget bool) error {
	return c.call(ctx, http.MethodPost, "/signing-keys", identity.SigningKeys{Forget: forget}, nil)
}

// ClientToken asks for an access token as a client of a window (OAuth 2 client credentials).
func (c *Client) ClientToken(ctx context.Context, window, id, secret string) (string, error) {
	form := url.Values{"grant_type": {"client_credentials"}, "client_id": {id}, "client_secret": {secret}}
	res, err := c.Send(ctx, Request{Method: http.MethodPost, Path: "/auth/" + url.PathEscape(window) + "/token",
		Body:   strings.NewReader(form.Encode()),
		Header: http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}})
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	var out struct {
		identity.Token
		identity.OAuthError
	}
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return "", fmt.Errorf("read the token: %w", err)
	}
	if out.AccessToken == "" {
		return "", &Refused{Status: res.StatusCode, Code: out.Code, Message: out.Description}
	}
	return out.AccessToken, nil
}
