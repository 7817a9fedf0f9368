package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

func windowPath(window, rest string) string { return "/windows/" + url.PathEscape(window) + rest }

// Draft is a window's document.
func (c *Client) Draft(ctx context.Context, window string) (out windows.Document, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/draft"), nil, &out)
}

// PushDraft saves a document as a window's draft.
func (c *Client) PushDraft(ctx context.Context, window, document string) (windows.Window, error) {
	return c.Push(ctx, window, windows.Push{Document: document})
}

// Push saves a document as a window's draft, which was made of a version of it.
func (c *Client) Push(ctx context.Context, window string, in windows.Push) (out windows.Window, err error) {
	return out, c.call(ctx, http.MethodPut, windowPath(window, "/draft"), in, &out)
}

// Discard makes the live document of a window its draft again.
func (c *Client) Discard(ctx context.Context, window string) (out windows.Window, err error) {
	return out, c.call(ctx, http.MethodDelete, windowPath(window, "/draft"), nil, &out)
}

// History lists the versions of a window's draft, the newest first.
func (c *Client) History(ctx context.Context, window string) (out []windows.DraftVersion, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/draft/versions"), nil, &out)
}

// Version is one version of a window's draft.
func (c *Client) Version(ctx context.Context, window string, number int) (out windows.Document, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/draft/versions/"+strconv.Itoa(number)), nil, &out)
}

// CheckDocument compares a document with what is live, and saves nothing.
func (c *Client) CheckDocument(ctx context.Context, document string) (out windows.Difference, err error) {
	return out, c.call(ctx, http.MethodPost, "/check", windows.Document{Document: document}, &out)
}

// Difference compares two versions of a window: "draft" or numbers of releases; "" for what is live, and for the draft.
func (c *Client) Difference(ctx context.Context, window, from, to string) (out windows.Difference, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/difference?"+url.Values{"from": {from}, "to": {to}}.Encode()), nil, &out)
}

// Publish makes a window's draft, or an earlier document, live.
func (c *Client) Publish(ctx context.Context, window string, in windows.NewRelease) (out windows.Release, err error) {
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/releases"), in, &out)
}

// Releases lists the releases of a window, the newest first.
func (c *Client) Releases(ctx context.Context, window string) (out []windows.Release, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/releases"), nil, &out)
}

// Release is a release of a window with its document and its changes.
func (c *Client) Release(ctx context.Context, window string, number int) (out windows.Release, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/releases/"+strconv.Itoa(number)), nil, &out)
}

// ReleaseDescription is the OpenAPI document of a release as it was published.
func (c *Client) ReleaseDescription(ctx context.Context, window string, number int) ([]byte, error) {
	res, err := c.Send(ctx, Request{Method: http.MethodGet, Path: "/manage" + windowPath(window, fmt.Sprintf("/releases/%d/description",
		number))})
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if err := Check(res); err != nil {
		return nil, err
	}
	return io.ReadAll(res.Body)
}

// Drift tells how the database of a window differs from what is live.
func (c *Client) Drift(ctx context.Context, window string) (out windows.Drift, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/drift"), nil, &out)
}

// Close removes a window.
func (c *Client) Close(ctx context.Context, window string) (out windows.Closed, err error) {
	return out, c.call(ctx, http.MethodDelete, windowPath(window, ""), nil, &out)
}

// Status tells how the service does.
func (c *Client) Status(ctx context.Context) (out windows.Status, err error) {
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
}

// Sources lists the sources that the service keeps.
func (c *Client) Sources(ctx context.Context) (out []windows.Source, err error) {
	return out, c.call(ctx, http.MethodGet, "/sources", nil, &out)
}

// AddSource keeps a DSN under a new name.
func (c *Client) AddSource(ctx context.Context, name, dsn string) (out windows.Source, err error) {
	return out, c.call(ctx, http.MethodPost, "/sources/"+url.PathEscape(name), windows.NewSource{DSN: dsn}, &out)
}

// SetSource gives a source another DSN.
func (c *Client) SetSource(ctx context.Context, name, dsn string) (out windows.Source, err error) {
	return out, c.call(ctx, http.MethodPut, "/sources/"+url.PathEscape(name), windows.NewSource{DSN: dsn}, &out)
}

// RemoveSource forgets a source.
func (c *Client) RemoveSource(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/sources/"+url.PathEscape(name), nil, nil)
}

// Operators lists who edits and publishes.
func (c *Client) Operators(ctx context.Context) (out []identity.OperatorEntry, err error) {
	return out, c.call(ctx, http.MethodGet, "/operators", nil, &out)
}

// AddOperator adds an operator, and returns its password.
func (c *Client) AddOperator(ctx context.Context, in identity.NewOperator) (out identity.NewOperator, err error) {
	return out, c.call(ctx, http.MethodPost, "/operators", in, &out)
}

// ChangeOperator changes an operator.
func (c *Client) ChangeOperator(ctx context.Context, email string, in identity.OperatorChange) error {
	return c.call(ctx, http.MethodPatch, "/operators/"+url.PathEscape(email), in, nil)
}

// RemoveOperator removes an operator.
func (c *Client) RemoveOperator(ctx context.Context, email string) error {
	return c.call(ctx, http.MethodDelete, "/operators/"+url.PathEscape(email), nil, nil)
}

// Audit lists what operators did, the newest first.
func (c *Client) Audit(ctx context.Context, target string, before int64, limit int) (out []identity.AuditEntry, err error) {
	q := url.Values{"target": {target}, "limit": {strconv.Itoa(limit)}}
	if before > 0 {
		q.Set("before", strconv.FormatInt(before, 10))
	}
	return out, c.call(ctx, http.MethodGet, "/audit?"+q.Encode(), nil, &out)
}

// VerifyAudit looks whether the audit is as it was written.
func (c *Client) VerifyAudit(ctx context.Context, seal string) (out identity.AuditState, err error) {
	return out, c.call(ctx, http.MethodGet, "/audit/verify?"+url.Values{"seal": {seal}}.Encode(), nil, &out)
}

// Doctor finds what is not as it should be between a window and its database.
func (c *Client) Doctor(ctx context.Context, window string) (out []windows.Finding, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/doctor"), nil, &out)
}

// LookAtTable shows a table of a window's database, and how the draft shows it.
func (c *Client) LookAtTable(ctx context.Context, window, table string) (out windows.TableView, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/tables/"+url.PathEscape(table)), nil, &out)
}

// OpenRehearsal begins a rehearsal, whose id requests send as Rehearsal.
func (c *Client) OpenRehearsal(ctx context.Context, window string, in windows.NewRehearsal) (out windows.Rehearsal, err error) {
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/rehearsals"), in, &out)
}

// RehearseOnce sends a write in a rehearsal of its own, and tells what it did to each row.
func (c *Client) RehearseOnce(ctx context.Context, window string, in windows.Write) (out windows.Rehearsed, err error) {
	in.Path = Escape(in.Path)
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/rehearsals/once"), in, &out)
}

// CloseRehearsal rolls a rehearsal back.
func (c *Client) CloseRehearsal(ctx context.Context, window, id string) error {
	return c.call(ctx, http.MethodDelete, windowPath(window, "/rehearsals/"+url.PathEscape(id)), nil, nil)
}

// Sketch edits a document, or the draft, and says what it means, and saves nothing.
func (c *Client) Sketch(ctx context.Context, window string, in windows.NewSketch) (out windows.Sketch, err error) {
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/sketch"), in, &out)
}

// Traffic is what callers asked of a window's live releases.
func (c *Client) Traffic(ctx context.Context, window string, q windows.TrafficQuestion) (out windows.Traffic, err error) {
	query := url.Values{"over": {q.Over}, "resource": {q.Resource}, "role": {q.Role}, "status": {q.Status}}
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/traffic?"+query.Encode()), nil, &out)
}

// Shape is the statement that answers requests of a shape.
func (c *Client) Shape(ctx context.Context, window, shape string) (out windows.ShapeView, err error) {
	query := strings.ReplaceAll(url.QueryEscape(shape), "+", "%20")
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/traffic/shape?shape="+query), nil, &out)
}

// Runs lists the last runs of checks of a window, the newest first.
func (c *Client) Runs(ctx context.Context, window string) (out []windows.Run, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/runs"), nil, &out)
}

// RunOf is a run of checks with its results.
func (c *Client) RunOf(ctx context.Context, window string, id int64) (out windows.Run, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/runs/"+strconv.FormatInt(id, 10)), nil, &out)
}
