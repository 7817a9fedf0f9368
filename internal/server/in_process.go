package server

import (
	"bytes"
	"context"
	"net/http"
	"net/textproto"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/data"
)

// blank is an answer to nobody.
type blank struct{}

func (blank) Header() http.Header         { return http.Header{} }
func (blank) Write(p []byte) (int, error) { return len(p), nil }
func (blank) WriteHeader(int)             {}

// inProcess sends requests of an operator to a version of a window within this process.
type inProcess struct {
	server        *Server
	window, email string
	api           *data.API
}

// send sends a request, in a rehearsal unless that is nil.
func (c *inProcess) send(ctx context.Context, rehearsal *data.Rehearsal, q suite.Request) (suite.Answer, error) {
	at := "/api/"
	if c.api.Release == 0 {
		at = "/draft/"
	}
	rec := newRecorder(blank{})
	rec.most = maxBatch
	r, err := http.NewRequestWithContext(ctx, q.Method, at+c.window+"/"+q.Path, bytes.NewReader(q.Body))
	if err == nil && len(q.Path) > maxURL {
		err = fault.New(fault.Invalid, "url.long", "the URL has more than %d bytes", maxURL)
	}
	if err != nil {
		r, _ = http.NewRequestWithContext(ctx, q.Method, at+c.window+"/", nil)
		c.server.fail(rec, r, fault.New(fault.Invalid, "path.invalid", "the path can't be read"))
		return answerOf(rec), nil
	}
	for name, values := range q.Header {
		r.Header[name] = values
	}
	if q.ActAs != "" {
		r.Header.Set("Act-As", q.ActAs)
	}
	caller, err := actAs(r, c.api)
	if caller.Operator {
		caller.Subject = c.email
	}
	serve := func(api *data.API) error { return c.server.known(rec, r, api, caller) }
	switch {
	case err != nil:
	case rehearsal == nil:
		err = serve(c.api)
	default:
		err = rehearsal.Do(ctx, c.api, serve)
	}
	if f, is := fault.From(err); is && f.Code == "rehearsal.ended" {
		return suite.Answer{}, err
	}
	if err != nil {
		rec.status = 0
		rec.body.Reset()
		c.server.fail(rec, r, err)
	}
	return answerOf(rec), ctx.Err()
}

// known serves a request whose method the data API has.
func (s *Server) known(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	switch r.Method {
	case http.MethodGet, http.MethodHead, "QUERY", http.MethodPost, http.MethodPatch, http.MethodPut, http.MethodDelete:
		return s.serve(w, r, api, caller)
	}
	allow, err := api.Methods(below(r))
	if err != nil {
		return err
	}
	return notPossible(r, allow)
}

func answerOf(rec *recorder) suite.Answer {
	if rec.status == 0 {
		rec.status = http.StatusOK
	}
	return suite.Answer{Status: rec.status, Header: textproto.MIMEHeader(rec.header), Body: rec.body.Bytes()}
}
