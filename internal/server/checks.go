package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/probes"
	"eagerwindow/internal/core/suite"
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
	r.Patch(at+"/{suite}", s.forOperator(withInput(func(r *http.Request, email string, in windows.Amendments) (any, error) {
		return s.service.AmendSuite(r.Context(), chi.URLParam(r, "window"), chi.URLParam(r, "suite"), in.Amendments, email)
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
	line := func(v any) {
		_ = control.SetWriteDeadline(time.Now().Add(writeLimit)) // a recorder has none
		_ = json.NewEncoder(w).Encode(v)                         // the operator has gone away if this fails
		_ = control.Flush()
	}
	if _, err := run.recorded(r.Context(), func(result suite.Result) { line(result) }); err != nil {
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
	inProcess
	in      windows.NewChecks
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
	api, err := s.service.VersionAPI(ctx, window, in.On)
	if err != nil {
		return nil, err
	}
	run := &checkRun{inProcess: inProcess{s, window, email, api}, in: in}
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

// recorded runs the suites, and keeps the run among those of the window. each hears of each result as it comes, of one at a time.
func (c *checkRun) recorded(ctx context.Context, each func(suite.Result)) (results []suite.Result, err error) {
	id, err := c.server.service.BeginRun(ctx, c.window, c.email, c.in.On)
	if err != nil {
		return nil, err
	}
	var turn sync.Mutex
	c.done = func(r suite.Result) {
		turn.Lock()
		defer turn.Unlock()
		results = append(results, r)
		each(r)
	}
	defer func() { c.server.keepRun(ctx, id, results) }()
	err = c.all(ctx)
	return results, err
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
	run, err := s.newChecks(ctx, window, email, windows.NewChecks{Suites: names, On: "draft"})
	if err != nil {
		return err
	}
	results, err := run.recorded(ctx, func(suite.Result) {})
	if err != nil {
		return err
	}
	var failed fault.List
	for _, r := range results {
		if !r.Passed {
			failed.Add("release.checks", "", 0, 0, "%s, %s: %s", r.Suite, r.Check, strings.TrimSpace(r.Failure+r.Skipped))
		}
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
