package server

import (
	"context"
	"errors"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/encode"
)

// statuses are the HTTP statuses of the kinds of fault.
var statuses = map[fault.Kind]int{
	fault.Invalid:          http.StatusBadRequest,
	fault.Unauthenticated:  http.StatusUnauthorized,
	fault.Forbidden:        http.StatusForbidden,
	fault.NotFound:         http.StatusNotFound,
	fault.MethodNotAllowed: http.StatusMethodNotAllowed,
	fault.NotAcceptable:    http.StatusNotAcceptable,
	fault.Conflict:         http.StatusConflict,
	fault.VersionMismatch:  http.StatusPreconditionFailed,
	fault.TooLarge:         http.StatusRequestEntityTooLarge,
	fault.TooLong:          http.StatusRequestURITooLong,
	fault.UnsupportedMedia: http.StatusUnsupportedMediaType,
	fault.Unprocessable:    http.StatusUnprocessableEntity,
	fault.FailedDependency: http.StatusFailedDependency,
	fault.VersionNeeded:    http.StatusPreconditionRequired,
	fault.TooMany:          http.StatusTooManyRequests,
	fault.Unsupported:      http.StatusNotImplemented,
	fault.Unavailable:      http.StatusServiceUnavailable,
	fault.TimedOut:         http.StatusGatewayTimeout,
}

// errorBody is the standard's form of an error (JSON Format, 21).
type errorBody struct {
	Error struct {
		Code    string         `json:"code"`
		Message string         `json:"message"`
		Target  string         `json:"target,omitempty"`
		Details []fault.Detail `json:"details,omitempty"`
		Inner   *inner         `json:"innererror,omitempty"`
	} `json:"error"`
}

// inner is what operators are reported besides: the database's own words.
type inner struct {
	Database   string `json:"database,omitempty"`
	Constraint string `json:"constraint,omitempty"`
}

// fail answers a request with what went wrong. What the caller did not cause is logged, and shown as no more than its number.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		err = fault.New(fault.TooLarge, "body.large", "the body has more than %d bytes", tooLarge.Limit)
	}
	f, ok := fault.From(err)
	if !ok {
		if !errors.Is(err, context.Canceled) {
			s.log.Error("request failed", "id", idOf(w), "method", r.Method, "path", r.URL.Path, "error", err)
		}
		s.internal(w, r)
		return
	}
	var in *inner
	var refusal *fault.Refusal
	if errors.As(err, &refusal) && strings.HasPrefix(r.URL.Path, "/draft/") {
		in = &inner{refusal.Words, refusal.Constraint}
	}
	e := exchangeOf(w)
	e.refused, e.says = f.Code, f.Message
	if f.Kind == fault.Unavailable && refusal != nil {
		e.cause = refusal.Words
	}
	refuse(w, r, f, in)
}

func (s *Server) internal(w http.ResponseWriter, r *http.Request) {
	exchangeOf(w).refused, exchangeOf(w).says = "internal", "internal error; the log says which, by the request's number"
	var body errorBody
	body.Error.Code, body.Error.Message = "internal", "internal error; its number is "+idOf(w)
	writeJSON(w, http.StatusInternalServerError, body)
}

func refuse(w http.ResponseWriter, r *http.Request, f *fault.Fault, in *inner) {
	h := w.Header()
	if isData(r) {
		h["OData-Version"] = versionOf(r)
	}
	if f.Wait > 0 {
		h.Set("Retry-After", strconv.Itoa(int(math.Ceil(f.Wait.Seconds()))))
	}
	switch f.Kind {
	case fault.Unauthenticated:
		challenge := `Bearer realm="` + realm(r) + `"`
		if bearer(r) != "" { // RFC 6750, 3.1
			challenge += `, error="invalid_token"`
		}
		h.Set("WWW-Authenticate", challenge)
	case fault.MethodNotAllowed:
		if f.Allow != nil {
			h.Set("Allow", allowed(f.Allow))
		}
	case fault.UnsupportedMedia:
		if f.Target == "Content-Encoding" { // RFC 9110, 15.5.16
			h.Set("Accept-Encoding", "identity")
		}
	case fault.Unavailable:
		h.Set("Retry-After", "2")
	case fault.Conflict:
		if f.Code == "key.running" {
			h.Set("Retry-After", "1")
		}
	}
	var body errorBody
	body.Error.Code, body.Error.Message, body.Error.Target, body.Error.Details, body.Error.Inner = f.Code, f.Message, f.Target, f.Details, in
	if wished, err := negotiate(r, r.URL.RawQuery); err == nil && wished.Kind == encode.XML && isData(r) {
		refuseXML(w, statuses[f.Kind], body)
		return
	}
	writeJSON(w, statuses[f.Kind], body)
}

// isData reports whether a request is one of the data API.
func isData(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/draft/")
}

// refuseXML writes the parts of an error as elements, for callers who read XML.
func refuseXML(w http.ResponseWriter, status int, body errorBody) {
	out := []byte(encode.XMLHead + "<error>")
	add := func(name, text string) {
		if text != "" {
			out = append(encode.AppendXMLText(append(out, "<"+name+">"...), []byte(text)), "</"+name+">"...)
		}
	}
	add("code", body.Error.Code)
	add("message", body.Error.Message)
	add("target", body.Error.Target)
	for _, d := range body.Error.Details {
		out = append(out, "<detail>"...)
		add("code", d.Code)
		add("message", d.Message)
		add("target", d.Target)
		out = append(out, "</detail>"...)
	}
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(append(out, "</error>\n"...))
}

// realm is what a token is for: the window, or the management API.
func realm(r *http.Request) string {
	if name := chi.URLParam(r, "window"); name != "" && strings.HasPrefix(r.URL.Path, "/api/") {
		return name
	}
	return "eager window"
}
