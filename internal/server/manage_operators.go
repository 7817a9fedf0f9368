package server

import (
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/identity"
)

// manageOperators serves who edits and publishes, and what they did.
func (s *Server) manageOperators(r chi.Router) {
	const operator = "/operators/{caller}"
	r.Get("/operators", s.forOperator(func(r *http.Request, _ string) (any, error) { return s.service.Operators(r.Context()) }))
	r.Post("/operators", s.forOperator(withInput(func(r *http.Request, _ string, in identity.NewOperator) (any, error) {
		return s.service.AddOperator(r.Context(), in)
	})))
	r.Patch(operator, s.forOperator(withInput(func(r *http.Request, _ string, in identity.OperatorChange) (any, error) {
		return struct{}{}, s.service.ChangeOperator(r.Context(), caller(r), in, sessionToken(r))
	})))
	r.Delete(operator, s.forOperator(func(r *http.Request, _ string) (any, error) {
		return struct{}{}, s.service.RemoveOperator(r.Context(), caller(r))
	}))
	r.Get("/audit", s.forOperator(func(r *http.Request, _ string) (any, error) {
		q := r.URL.Query()
		before, err := atMost(q.Get("before"), "before", 0, 1<<53)
		if err != nil {
			return nil, err
		}
		limit, err := atMost(q.Get("limit"), "limit", auditPage, auditMost)
		if err != nil {
			return nil, err
		}
		return s.service.Audit(r.Context(), q.Get("target"), before, int(limit))
	}))
	r.Get("/audit/verify", s.forOperator(func(r *http.Request, _ string) (any, error) {
		return s.service.VerifyAudit(r.Context(), r.URL.Query().Get("seal"))
	}))
}

// How many entries of the audit are sent where no limit is given, and at most.
const (
	auditPage = 100
	auditMost = 1000
)

// atMost is a number in a query, or what holds without it.
func atMost(text, name string, without, most int64) (int64, error) {
	if text == "" {
		return without, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 || n > most {
		return 0, fault.New(fault.Invalid, "parameter.invalid", "%s is a number from 1 to %d, not %q", name, most, text).On(name)
	}
	return n, nil
}
