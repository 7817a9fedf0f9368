package server

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/dunglas/httpsfv"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/data"
)

// recorder is an answer that is kept, or becomes a part of another one.
type recorder struct {
	status int
	header http.Header
	body   bytes.Buffer
	most   int // bytes of the body; 0: no limit
	over   bool
}

// errTooLarge ends an answer that does not fit into the one that it is to become a part of.
var errTooLarge = errors.New("the answer is larger than the rest of the batch leaves room for")

func newRecorder(w http.ResponseWriter) *recorder {
	a := &recorder{header: w.Header().Clone()}
	a.header.Del("Preference-Applied") // that is the batch's
	return a
}

func (a *recorder) Header() http.Header { return a.header }

func (a *recorder) WriteHeader(status int) {
	if a.status == 0 {
		a.status = status
	}
}

func (a *recorder) Write(p []byte) (int, error) {
	a.WriteHeader(http.StatusOK)
	if a.over = a.over || a.most > 0 && a.body.Len()+len(p) > a.most; a.over {
		return 0, errTooLarge
	}
	return a.body.Write(p)
}

// Flush is there for answers that come in parts.
func (a *recorder) Flush() {}

// part is what of the headers belongs to the answer itself, not to its way.
func (a *recorder) part() http.Header {
	h := http.Header{}
	for name, values := range a.header {
		switch name {
		case "Request-Id", "Content-Length", "Trailer", "X-Content-Type-Options", "Vary":
		default:
			h[name] = values
		}
	}
	return h
}

// writes reports whether a request of the data API may change something.
func writes(r *http.Request) bool {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, "QUERY":
		return false
	}
	return !strings.HasSuffix(r.URL.Path, "/$query")
}

// serve answers a request of the data API; one with an Idempotency-Key is done once
// (draft-ietf-httpapi-idempotency-key-header).
func (s *Server) serve(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	if err := fixed(r); err != nil {
		return err
	}
	if api.Rehearses() {
		return api.Attempt(r.Context(), func(api *data.API) error { return s.dispatch(w, r, api, caller) })
	}
	if !writes(r) {
		return s.dispatch(w, r, api, caller)
	}
	if preferences(r).Explain {
		return s.estimateWrite(w, r, api, caller)
	}
	if r.Header["Idempotency-Key"] == nil {
		return s.dispatch(w, r, api, caller)
	}
	key, err := idempotencyKey(r)
	if err != nil {
		return err
	}
	body, err := bodyOf(r, maxBulk)
	if err != nil {
		return err
	}
	sum := sha256.New()
	for _, part := range []string{r.Method, below(r), r.URL.RawQuery, r.Header.Get("Content-Type"), r.Header.Get("If-Match"),
		r.Header.Get("If-None-Match")} {
		_, _ = io.WriteString(sum, part+"\x00") // a hash takes everything
	}
	_, _ = sum.Write(body)
	again := true
	answer, err := api.Idempotent(r.Context(), caller, key, sum.Sum(nil), func(api *data.API) (data.Answer, error) {
		again = false
		rec := newRecorder(w)
		r.Body = io.NopCloser(bytes.NewReader(body))
		if err := s.dispatch(rec, r, api, caller); err != nil {
			return data.Answer{}, err
		}
		return data.Answer{Status: rec.status, Header: rec.part(), Body: rec.body.Bytes()}, nil
	})
	if err != nil {
		return err
	}
	for name, values := range answer.Header {
		w.Header()[name] = values
	}
	if again {
		w.Header().Set("Idempotency-Replayed", "true")
	}
	w.WriteHeader(answer.Status)
	_, _ = w.Write(answer.Body)
	return nil
}

// mostKey is the length of an Idempotency-Key.
const mostKey = 255

// idempotencyKey is the key of a request: a string (RFC 9651, 3.3.3), or the bare text of one.
func idempotencyKey(r *http.Request) (string, error) {
	if below(r) == "$batch" {
		return "", fault.New(fault.Invalid, "key.batch",
			"a batch takes no Idempotency-Key; the requests in it, outside of a group, take their own").On("Idempotency-Key")
	}
	values := r.Header.Values("Idempotency-Key")
	key := strings.TrimSpace(values[0])
	if item, err := httpsfv.UnmarshalItem(values); err == nil {
		if text, ok := item.Value.(string); ok {
			key = text
		}
	}
	if len(values) > 1 || key == "" || len(key) > mostKey || strings.IndexByte(key, 0) >= 0 {
		return "", fault.New(fault.Invalid, "key.invalid",
			"an Idempotency-Key is one text of at most %d characters that no other request has, such as a UUID", mostKey).On("Idempotency-Key")
	}
	return key, nil
}
