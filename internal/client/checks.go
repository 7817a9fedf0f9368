package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

// Suites lists the suites of checks that are kept for a window.
func (c *Client) Suites(ctx context.Context, window string) (out []windows.Suite, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, "/suites"), nil, &out)
}

// SaveSuite keeps a suite, in place of one of the same name.
func (c *Client) SaveSuite(ctx context.Context, window, name, text string) (out windows.Suite, err error) {
	return out, c.call(ctx, http.MethodPut, windowPath(window, "/suites/"+url.PathEscape(name)), windows.SuiteText{Text: text}, &out)
}

// AmendSuite rewrites criteria of a suite that is kept.
func (c *Client) AmendSuite(ctx context.Context, window, name string, list []suite.Amendment) (out windows.Suite, err error) {
	return out, c.call(ctx, http.MethodPatch, windowPath(window, "/suites/"+url.PathEscape(name)), windows.Amendments{Amendments: list}, &out)
}

// RemoveSuite forgets a suite.
func (c *Client) RemoveSuite(ctx context.Context, window, name string) error {
	return c.call(ctx, http.MethodDelete, windowPath(window, "/suites/"+url.PathEscape(name)), nil, nil)
}

// CompareAnswers sends the same reads to two versions of a window.
func (c *Client) CompareAnswers(ctx context.Context, window string, in windows.NewComparison) (out []windows.ComparedAnswer, err error) {
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/answers"), in, &out)
}

// Asked lists what the operator has asked of a window's draft, the last first.
func (c *Client) Asked(ctx context.Context, window string, limit int) (out []windows.Asked, err error) {
	return out, c.call(ctx, http.MethodGet, windowPath(window, fmt.Sprintf("/asked?limit=%d", limit)), nil, &out)
}

// TrialToken makes a token to call the live API as a role for a while.
func (c *Client) TrialToken(ctx context.Context, window string, in identity.NewTrial) (out identity.Token, err error) {
	return out, c.call(ctx, http.MethodPost, windowPath(window, "/tokens"), in, &out)
}

// RunChecks runs suites of checks, and hands each result on as it comes.
func (c *Client) RunChecks(ctx context.Context, window string, in windows.NewChecks, done func(suite.Result)) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	res, err := c.Send(ctx, Request{Method: http.MethodPost, Path: "/manage" + windowPath(window, "/checks"), Body: bytes.NewReader(body)})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if err := Check(res); err != nil {
		return err
	}
	for d := json.NewDecoder(res.Body); ; {
		var line struct {
			suite.Result
			Error *struct{ Code, Message string }
		}
		switch err := d.Decode(&line); {
		case err == io.EOF:
			return nil
		case err != nil:
			return fmt.Errorf("the checks broke off: %w", err)
		case line.Error != nil:
			return &Refused{Code: line.Error.Code, Message: line.Error.Message}
		}
		done(line.Result)
	}
}
