package server

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/snippet"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/data"
	"eagerwindow/internal/windows"
)

// NewSuite is a suite to be made of requests of the history, in their order; without requests, one to begin with.
type NewSuite struct {
	Name  string  `json:"name"`
	Asked []int64 `json:"asked,omitempty"`
}

// Snippet is a request in a language.
type Snippet struct {
	Language string `json:"language"`
	Text     string `json:"text"`
}

// ToWrite is a request that is to be written in languages: Path is below the window, with its query, as people write it.
type ToWrite struct {
	Method  string            `json:"method"`
	Path    string            `json:"path"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
	Draft   bool              `json:"draft,omitempty"`
}

func (s *Server) manageRecorded(r chi.Router) {
	r.Post("/windows/{window}/suites", s.forOperator(withInput(func(r *http.Request, email string, in NewSuite) (any, error) {
		return s.newSuite(r.Context(), chi.URLParam(r, "window"), email, in)
	})))
	r.Post("/windows/{window}/snippets", s.forOperator(withInput(func(r *http.Request, _ string, in ToWrite) (any, error) {
		return s.snippets(r, chi.URLParam(r, "window"), in), nil
	})))
}

// newSuite makes a suite and keeps it.
func (s *Server) newSuite(ctx context.Context, window, email string, in NewSuite) (windows.Suite, error) {
	known, err := s.service.Suites(ctx, window)
	if err != nil {
		return windows.Suite{}, err
	}
	if slices.ContainsFunc(known, func(one windows.Suite) bool { return one.Name == in.Name }) {
		return windows.Suite{}, fault.New(fault.Conflict, "suite.exists", "there is a suite %q already; choose another name", in.Name).On("name")
	}
	api, err := s.service.DraftAPI(ctx, window)
	if err != nil {
		return windows.Suite{}, err
	}
	described, err := contractOf(api)
	if err != nil {
		return windows.Suite{}, err
	}
	var text []byte
	if len(in.Asked) == 0 {
		if text, err = suite.Begin(window, described); err != nil {
			return windows.Suite{}, fault.New(fault.Invalid, "suite.begin", "%s; keep requests of Ask as checks", err)
		}
	} else {
		recorded, err := s.askedBefore(ctx, window, email, in.Asked)
		if err != nil {
			return windows.Suite{}, err
		}
		var unknown []string
		if text, unknown, err = suite.Write(in.Name, window, described, recorded, nil); err != nil {
			return windows.Suite{}, err
		}
		if len(unknown) == len(recorded) {
			return windows.Suite{}, fault.New(fault.Invalid, "suite.operation", "the description has no operation for %s, so it can't be a check",
				strings.Join(unknown, ", "))
		}
	}
	out, err := s.service.SaveSuite(ctx, window, in.Name, string(text), email)
	return out, err
}

// contractOf is what the description of an API promises to operators.
func contractOf(api *data.API) (*contract.Contract, error) {
	scope, err := api.Policy.Scope(access.Caller{Operator: true})
	if err != nil {
		return nil, err
	}
	doc, err := describe.OpenAPI(api.Policy, scope, describe.Place{Server: "/"})
	if err != nil {
		return nil, err
	}
	return contract.New(doc)
}

// maxAsked is how many requests of an operator the history has.
const maxAsked = 200

// askedBefore finds requests of the history, in the order that they were made in.
func (s *Server) askedBefore(ctx context.Context, window, email string, ids []int64) ([]suite.Recorded, error) {
	list, err := s.service.Asked(ctx, window, email, maxAsked)
	if err != nil {
		return nil, err
	}
	var out []suite.Recorded
	for _, q := range slices.Backward(list) {
		if !slices.Contains(ids, q.ID) {
			continue
		}
		var headers map[string]string
		_ = json.Unmarshal(q.Headers, &headers) // texts
		delete(headers, "Rehearsal")
		out = append(out, suite.Recorded{Method: q.Method, Path: q.Path, Headers: headers, Body: q.Body, Status: q.Status, Kind: q.Kind,
			Answer: q.Answer, ActAs: q.ActAs})
	}
	if len(out) == 0 {
		return nil, fault.New(fault.NotFound, "asked.unknown", "the history has none of these requests any more; ask again").On("asked")
	}
	return out, nil
}

// snippets writes a request in all languages.
func (s *Server) snippets(r *http.Request, window string, in ToWrite) []Snippet {
	path, query, _ := strings.Cut(strings.TrimPrefix(in.Path, "/"), "?")
	at := "/api/"
	if in.Draft {
		at = "/draft/"
	}
	request := snippet.Request{Method: in.Method, URL: s.origin(r) + at + window + "/" + (&url.URL{Path: path}).EscapedPath(), Body: in.Body,
		Token: true}
	for _, option := range strings.Split(query, "&") {
		if name, value, is := strings.Cut(option, "="); is {
			request.Query = append(request.Query, snippet.Pair{Name: name, Value: value})
		}
	}
	for name, value := range in.Headers {
		request.Headers = append(request.Headers, snippet.Pair{Name: name, Value: value})
	}
	slices.SortFunc(request.Headers, func(a, b snippet.Pair) int { return strings.Compare(a.Name, b.Name) })
	out := make([]Snippet, len(snippet.Languages))
	for i, l := range snippet.Languages {
		out[i] = Snippet{l.Name, l.Write(request)}
	}
	return out
}
