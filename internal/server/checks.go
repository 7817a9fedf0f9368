package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/textproto"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/probes"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/data"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

func (s *Server) manageChecks(r chi.Router) {
	s.manageAsked(r)
	s.manageRecorded(r)
	const at = "/windows/{window}/suites"
	r.Get(at, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.Suites(r.Context(), chi.URLParam(r, "window"))
	}))
	r.Put(at+"/{suite}", s.forOperator(withInput(func(r *http.Request, email string, in windows.SuiteText) (any, error) {
		return s.service.SaveSuite(r.Context(), chi.URLParam(r, "window"), chi.URLParam(r, "suite"), in.Text, email)
	})))
	r.Delete(at+"/{suite}", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.RemoveSuite(r.Context(), chi.URLParam(r, "window"), chi.URLParam(r, "suite"))
	}))
	r.Post("/windows/{window}/checks", s.runChecks)
	r.Post("/windows/{window}/tokens", s.forOperator(withInput(func(r *http.Request, email string, in identity.NewTrial) (any, error) {
		return s.service.TrialToken(r.Context(), chi.URLParam(r, "window"), email, in, s.origin(r))
	})))
	r.Post("/windows/{window}/answers", s.forOperator(withInput(func(r *http.Request, email string, in windows.NewComparison) (any, error) {
		return s.compareAnswers(r.Context(), chi.URLParam(r, "window"), email, in)
	})))
}

// checkTime is how long suites may run.
const checkTime = 10 * time.Minute

// runChecks runs suites, and answers with a line of JSON for each check as it ends.
func (s *Server) runChecks(w http.ResponseWriter, r *http.Request) {
	email, err := s.operator(r)
	var in windows.NewChecks
	if err == nil {
		in, err = input[windows.NewChecks](r)
	}
	var run *checkRun
	if err == nil {
		run, err = s.newChecks(r.Context(), chi.URLParam(r, "window"), email, in)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	control := http.NewResponseController(w)
	kept, err := s.service.BeginRun(r.Context(), run.window, email, in.On)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	var results []suite.Result
	defer func() { s.keepRun(r.Context(), kept, results) }()
	var turn sync.Mutex
	line := func(v any) {
		turn.Lock()
		defer turn.Unlock()
		_ = control.SetWriteDeadline(time.Now().Add(writeLimit)) // a recorder has none
		_ = json.NewEncoder(w).Encode(v)                         // the operator has gone away if this fails
		_ = control.Flush()
	}
	run.done = func(result suite.Result) {
		line(result)
		turn.Lock()
		defer turn.Unlock()
		results = append(results, result)
	}
	if err := run.all(r.Context()); err != nil {
		code, message := "internal", "the checks could not be run to their end; the service's log says why"
		if f, is := fault.From(err); is {
			code, message = f.Code, f.Message
		} else if r.Context().Err() == nil { // the operator is still there
			s.log.Error("checks failed", "window", run.window, "error", err)
		}
		line(map[string]any{"error": map[string]any{"code": code, "message": message}})
	}
}

// maxKeptResults bounds what is kept of a run: the results of all that failed first.
const maxKeptResults = 2000

// keepRun keeps what a run has found, also where whoever began it has gone away.
func (s *Server) keepRun(ctx context.Context, id int64, results []suite.Result) {
	passed := 0
	for _, r := range results {
		if r.Passed {
			passed++
		}
	}
	failed := len(results) - passed
	slices.SortStableFunc(results, func(a, b suite.Result) int { return strings.Compare(a.Suite, b.Suite) })
	if len(results) > maxKeptResults {
		slices.SortStableFunc(results, func(a, b suite.Result) int {
			switch {
			case a.Passed == b.Passed:
				return 0
			case a.Passed:
				return 1
			}
			return -1
		})
		results = results[:maxKeptResults]
	}
	for i := range results { // hostile input is in some, and the database takes no NUL
		r := &results[i]
		for _, part := range []*string{&r.Check, &r.Failure, &r.Request, &r.Answer, &r.Expected} {
			*part = storable(*part)
		}
	}
	text, err := json.Marshal(append([]suite.Result{}, results...))
	if err == nil {
		err = s.service.EndRun(context.WithoutCancel(ctx), id, passed, failed, text)
	}
	if err != nil {
		s.log.Warn("a run of checks can't be kept", "error", err)
	}
}

// storable is a text that a database can keep.
func storable(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}

// checkRun runs suites on one version of a window.
type checkRun struct {
	server  *Server
	window  string
	email   string
	in      windows.NewChecks
	api     *data.API
	callers map[string]probes.Caller
	suites  []checkSuite
	done    func(suite.Result)
}

// checkSuite is a suite by its name, and what was read of it; nil for one that follows from the document.
type checkSuite struct {
	name string
	read *suite.Suite
}

func (s *Server) newChecks(ctx context.Context, window, email string, in windows.NewChecks) (*checkRun, error) {
	run := &checkRun{server: s, window: window, email: email, in: in}
	var err error
	if run.api, err = s.service.VersionAPI(ctx, window, in.On); err != nil {
		return nil, err
	}
	if in.Suites == nil && in.Documents == nil {
		in.Suites = probes.Suites
	}
	for _, name := range in.Suites {
		one := checkSuite{name: name}
		if !slices.Contains(probes.Suites, name) {
			text, err := s.service.SuiteText(ctx, window, name)
			if err != nil {
				return nil, err
			}
			if one.read, err = suite.Parse([]byte(text)); err != nil {
				return nil, fmt.Errorf("suite %s: %w", name, err)
			}
		}
		run.suites = append(run.suites, one)
	}
	for _, d := range in.Documents {
		read, err := suite.Parse([]byte(d.Text))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Name, err)
		}
		run.suites = append(run.suites, checkSuite{d.Name, read})
	}
	run.callers, err = s.service.CallersForChecks(ctx, window, run.api.Model)
	return run, err
}

// maxBeside is how many suites run beside each other.
const maxBeside = 4

// all runs the suites, some beside each other, each in a rehearsal of its own.
func (c *checkRun) all(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, checkTime)
	defer cancel()
	places, errs := make(chan struct{}, maxBeside), make([]error, len(c.suites))
	var all sync.WaitGroup
	all.Go(func() { // those that follow from the document write to the same rows: one after the other
		for i, one := range c.suites {
			if one.read == nil && errs[i] == nil {
				errs[i] = c.one(ctx, one)
			}
		}
	})
	for i, one := range c.suites {
		if one.read == nil {
			continue
		}
		all.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			errs[i] = c.one(ctx, one)
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (c *checkRun) one(ctx context.Context, one checkSuite) error {
	if one.read == nil {
		_, err := probes.Run(ctx, one.name, probes.Options{Policy: c.api.Policy, Callers: c.callers, Begin: c.sender, Seed: c.in.Seed,
			Only: c.in.Only,
			Done: c.done})
		return err
	}
	send, end, err := c.sender(ctx)
	if err != nil {
		return err
	}
	defer end()
	described, err := contractOf(c.api)
	if err != nil {
		return err
	}
	_, err = one.read.Run(ctx, suite.Options{Name: one.name, Contract: described, Server: "/api/" + c.window, Inputs: c.in.Inputs,
		Only: c.in.Only, Send: send,
		Done: c.done})
	return err
}

// sender sends requests to the version within this process, in a rehearsal unless they are to last. end rolls it back.
func (c *checkRun) sender(ctx context.Context) (suite.Send, func(), error) {
	if c.in.Lasting {
		return func(ctx context.Context, q suite.Request) (suite.Answer, error) { return c.send(ctx, nil, q) }, func() {}, nil
	}
	rehearsal, err := c.api.Rehearse(ctx, access.Caller{Operator: true, Subject: c.email}, checkTime)
	if err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context, q suite.Request) (suite.Answer, error) { return c.send(ctx, rehearsal, q) }, rehearsal.Close, nil
}

// blank is an answer to nobody.
type blank struct{}

func (blank) Header() http.Header         { return http.Header{} }
func (blank) Write(p []byte) (int, error) { return len(p), nil }
func (blank) WriteHeader(int)             {}

func (c *checkRun) send(ctx context.Context, rehearsal *data.Rehearsal, q suite.Request) (suite.Answer, error) {
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

// required runs the suites that a document demands of a release on its draft, and refuses where a check fails.
func (s *Server) required(ctx context.Context, window, email string) error {
	api, err := s.service.DraftAPI(ctx, window)
	if err != nil {
		return err
	}
	var names []string
	for _, t := range api.Model.Document.Require {
		names = append(names, t.Value)
	}
	if names == nil {
		return nil
	}
	run, err := s.newChecks(ctx, window, email, windows.NewChecks{Suites: names})
	if err != nil {
		return err
	}
	var turn sync.Mutex
	var failed fault.List
	run.done = func(r suite.Result) {
		turn.Lock()
		defer turn.Unlock()
		if !r.Passed {
			failed.Add("release.checks", "", 0, 0, "%s, %s: %s", r.Suite, r.Check, strings.TrimSpace(r.Failure+r.Skipped))
		}
	}
	if err := run.all(ctx); err != nil {
		return err
	}
	if len(failed) == 0 {
		return nil
	}
	more := ""
	if len(failed) > 20 {
		more = fmt.Sprintf(" The first 20 of %d:", len(failed))
		failed = failed[:20]
	}
	return &fault.Fault{Kind: fault.Conflict, Code: "release.checks", Message: "the document demands " + strings.Join(names, ", ") +
		" of a release, and checks fail; mend them, or publish with --skip-checks and a reason." + more, Details: failed}
}
