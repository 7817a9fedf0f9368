package server

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/data"
)

// How many bytes the answers of a batch may have: that of a read in it, and all together.
const (
	maxPart  = 8 << 20
	maxBatch = 64 << 20
)

var errFailed = errors.New("a request of the group has failed")

// batchResponse is the answer to a request of a batch (JSON Format, 19.2).
type batchResponse struct {
	ID      string            `json:"id"`
	Group   string            `json:"atomicityGroup,omitempty"`
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    json.RawMessage   `json:"body,omitempty"`
	header  http.Header
	raw     []byte
}

// batch runs the requests of a batch in their order.
type batch struct {
	server          *Server
	w               http.ResponseWriter
	r               *http.Request
	caller          access.Caller
	continueOnError bool                // after a failure, what does not depend on it is done all the same
	failed          map[string]bool     // requests and groups
	done            map[string]*outcome // requests that others may refer to
	broken          bool
	spent           int               // requests that were tried
	size            int               // bytes of their answers
	bodies          map[string][]byte // of answers that are JSON, by the request; nil where no condition looks into them
	looked          int               // bytes that conditions have looked into
}

// outcome is what others may refer to: the row that a request made or read, and its version.
type outcome struct{ path, tag string }

// batch answers many requests in one; those of an atomicity group are one transaction (Protocol, 11.7).
func (s *Server) batch(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	requests, inParts, err := batchRequests(r)
	if err != nil {
		return err
	}
	asParts := wantsMultipart(r, inParts)
	var f format
	if asParts {
		f.V40, err = maxVersion(r)
	} else {
		f, err = negotiateJSON(w, r)
	}
	if err != nil {
		return err
	}
	for name := range r.URL.Query() {
		if !strings.EqualFold(strings.TrimPrefix(name, "$"), "format") {
			return fault.New(fault.Invalid, "option.misplaced", "%s does not go with a batch, but with the url of a request in it", name).On(name)
		}
	}
	b := &batch{server: s, w: w, r: r, caller: caller, continueOnError: preferences(r).ContinueOnError, failed: map[string]bool{},
		done: map[string]*outcome{}}
	if slices.ContainsFunc(requests, func(q *payload.Request) bool { return q.If != "" }) {
		b.bodies = map[string][]byte{}
	}
	api = api.Referring(b.resolve)
	if b.continueOnError {
		w.Header().Set("Preference-Applied", "continue-on-error")
	}
	out := answer{w: w, kind: f.contentType(), buf: []byte(`{"responses":[`)}
	var p *parts
	if asParts {
		out.buf, p = nil, newParts(&out)
	}
	for i := 0; i < len(requests); {
		n := 1
		for requests[i].Group != "" && i+n < len(requests) && requests[i+n].Group == requests[i].Group {
			n++
		}
		responses := b.run(api, requests[i:i+n])
		if asParts {
			p.add(responses)
			responses = nil
		}
		for _, res := range responses {
			var text bytes.Buffer
			e := json.NewEncoder(&text)
			e.SetEscapeHTML(false) // nosniff, and a type that no browser renders
			if err := e.Encode(res); err != nil {
				return err
			}
			out.buf = append(append(out.buf, bytes.TrimSpace(text.Bytes())...), ",\n"...)
		}
		i += n
		if len(out.buf) >= flushAt && i < len(requests) {
			if err := out.flush(); err != nil {
				return nil // the caller has gone away
			}
		}
	}
	if asParts {
		p.end()
	} else {
		out.buf = append(bytes.TrimSuffix(out.buf, []byte(",\n")), "]}\n"...)
	}
	out.end()
	return nil
}

// batchRequests reads the requests of a batch, which is JSON or, inParts, a multipart message.
func batchRequests(r *http.Request) (requests []*payload.Request, inParts bool, err error) {
	kind, params, err := mediaType(r.Header.Get("Content-Type"))
	if err == nil && kind == "multipart/mixed" {
		body, err := bodyOf(r, maxBulk)
		if err != nil {
			return nil, true, err
		}
		requests, err = multipartRequests(body, params["boundary"])
		return requests, true, err
	}
	body, err := jsonBody(r, maxBulk)
	if err != nil {
		return nil, false, err
	}
	requests, err = payload.Batch(body)
	return requests, false, err
}

// run runs one request, or all of a group.
func (b *batch) run(api *data.API, list []*payload.Request) []*batchResponse {
	group := list[0].Group
	if group == "" {
		res, _ := b.one(api, list[0])
		return []*batchResponse{res}
	}
	responses := make([]*batchResponse, len(list))
	for i, q := range list {
		if id := b.unmet(q); id != "" {
			return b.fail(list, i, b.skipped(q, id))
		}
	}
	at := 0
	err := api.Atomically(b.r.Context(), b.caller, func(api *data.API) error {
		for i, q := range list {
			at = i
			var ok bool
			if responses[i], ok = b.one(api, q); !ok {
				return errFailed
			}
		}
		return nil
	})
	switch {
	case errors.Is(err, errFailed):
		return b.fail(list, at, responses[at])
	case err != nil: // what is checked at the end of a transaction
		return b.fail(list, at, b.refused(list[at], err))
	}
	return responses
}

// fail answers a group of which one request has failed: nothing of it was done.
func (b *batch) fail(list []*payload.Request, at int, failure *batchResponse) []*batchResponse {
	responses := make([]*batchResponse, len(list))
	for i, q := range list {
		b.failed[q.ID] = true
		delete(b.done, q.ID)
		if i == at {
			responses[i] = failure
			continue
		}
		responses[i] = b.refused(q, fault.New(fault.FailedDependency, "batch.undone",
			"request %q of the same group has failed, so nothing of the group was done", list[at].ID))
	}
	b.failed[list[0].Group] = true
	b.broken = true
	return responses
}

// unmet is a request that has failed and must not have for this one to be done; "" where there is none.
func (b *batch) unmet(q *payload.Request) string {
	if q.If != "" { // which says when the request is to be done
		return ""
	}
	for _, id := range q.DependsOn {
		if b.failed[id] {
			return id
		}
	}
	if b.broken && !b.continueOnError {
		return "before"
	}
	return ""
}

func (b *batch) skipped(q *payload.Request, id string) *batchResponse {
	if id == "before" {
		return b.refused(q, fault.New(fault.FailedDependency, "batch.stopped",
			"a request before has failed; with Prefer: continue-on-error the rest is done all the same"))
	}
	return b.refused(q, fault.New(fault.FailedDependency, "batch.dependency", "%q, which this request depends on, has failed", id))
}

// one runs one request and reports whether it went well.
func (b *batch) one(api *data.API, q *payload.Request) (*batchResponse, bool) {
	res := b.try(api, q)
	ok := res.Status < 400
	if !ok {
		b.failed[q.ID], b.broken = true, true
	}
	return res, ok
}

func (b *batch) try(api *data.API, q *payload.Request) *batchResponse {
	if id := b.unmet(q); id != "" {
		return b.skipped(q, id)
	}
	rec := newRecorder(b.w)
	if q.If != "" {
		is, err := b.holds(q.If)
		if err == nil && !is {
			err = fault.New(fault.FailedDependency, "batch.if", "the condition of the request does not hold: %s", q.If)
		}
		if err != nil {
			return b.refused(q, err)
		}
	}
	r, err := b.request(q)
	if err == nil && b.size >= maxBatch {
		err = fault.New(fault.TooLarge, "batch.large", "the answers of the batch have %d bytes, so no more requests of it are done; "+
			"send the rest in another batch", b.size)
	}
	if err == nil && !writes(r) {
		rec.most = maxPart
	}
	if b.spent++; err == nil && b.spent > 1 { // the first was counted with the batch
		_, err = b.server.service.Spend(api, b.caller)
	}
	if err == nil {
		err = b.server.serve(rec, r, api, b.caller)
	}
	if rec.over {
		err = fault.New(fault.TooLarge, "answer.large", "the answer has more than %d bytes, which is too large for a part of a batch; "+
			"ask for fewer rows or fields, or send the request by itself", maxPart)
	}
	if err != nil {
		return b.refused(q, err)
	}
	b.size += rec.body.Len()
	path := below(r)
	if link := rec.header.Get("Location") + rec.header.Get("OData-EntityId"); link != "" {
		path = strings.TrimPrefix(link, root(r)+"/")
	}
	b.done[q.ID] = &outcome{path, rec.header.Get("ETag")}
	return b.response(q, rec)
}

// refused is the answer to a request that can't be done.
func (b *batch) refused(q *payload.Request, err error) *batchResponse {
	rec := newRecorder(b.w)
	r := b.r.Clone(b.r.Context())
	r.Header.Del("Accept") // of the batch: errors in it are JSON
	b.server.fail(rec, r, err)
	return b.response(q, rec)
}

func (b *batch) response(q *payload.Request, rec *recorder) *batchResponse {
	res := &batchResponse{ID: q.ID, Group: q.Group, Status: rec.status, Headers: map[string]string{}}
	for name, values := range rec.part() {
		res.Headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	res.header, res.raw = rec.part(), rec.body.Bytes()
	body := bytes.TrimSpace(res.raw)
	switch kind := rec.header.Get("Content-Type"); {
	case len(body) == 0:
	case strings.HasPrefix(kind, "application/json"):
		res.Body = body
		if b.bodies != nil {
			b.bodies[q.ID] = body
		}
	case utf8.Valid(rec.body.Bytes()):
		res.Body, _ = json.Marshal(rec.body.String()) // a string is always JSON
	default:
		res.Body, _ = json.Marshal(base64.URLEncoding.EncodeToString(rec.body.Bytes()))
	}
	return res
}

// request makes a request of its own of one in the batch. The caller and the version are those of the batch.
func (b *batch) request(q *payload.Request) (*http.Request, error) {
	path, err := b.path(q.URL)
	if err != nil {
		return nil, err
	}
	at, err := url.Parse(root(b.r) + "/" + path)
	if err != nil {
		return nil, fault.New(fault.Invalid, "batch.url", "the url %q can't be read; write a path below the window, such as port_calls/17",
			q.URL).On("url")
	}
	body, kind := []byte(q.Body), "application/json"
	if q.Raw != nil {
		body = q.Raw
	}
	var text string
	if len(q.Body) > 0 && q.Body[0] == '"' && json.Unmarshal(q.Body, &text) == nil { // of another type than JSON
		body, kind = []byte(text), "text/plain"
	}
	r := b.r.Clone(b.r.Context())
	r.Method, r.URL, r.RequestURI = q.Method, at, at.RequestURI()
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	r.Header = http.Header{}
	for _, name := range []string{"OData-MaxVersion", "OData-Version"} {
		if v := b.r.Header.Get(name); v != "" {
			r.Header.Set(name, v)
		}
	}
	if len(body) > 0 {
		r.Header.Set("Content-Type", kind)
	}
	for name, value := range q.Headers {
		name = textproto.CanonicalMIMEHeaderKey(name)
		if id, ok := strings.CutPrefix(value, "$"); ok && (name == "If-Match" || name == "If-None-Match") {
			if b.done[id] == nil {
				return nil, b.noReference(value)
			}
			value = b.done[id].tag
		}
		r.Header.Set(name, value)
	}
	switch {
	case below(r) == "$batch":
		return nil, fault.New(fault.Invalid, "batch.nested", "a batch can't stand in a batch")
	case q.Group != "" && r.Header.Get("Idempotency-Key") != "":
		return nil, fault.New(fault.Invalid, "key.batch",
			"in a group, a request takes no Idempotency-Key: the group is one transaction").On("Idempotency-Key")
	}
	return r, nil
}

// path is a request's path below the window. $1 at its beginning stands for the row that request 1 has made or read.
func (b *batch) path(text string) (string, error) {
	elsewhere := fault.New(fault.Invalid, "batch.url", "the url %q leads out of this window; write a path below it, such as port_calls/17",
		text).On("url")
	if u, err := url.Parse(text); err == nil && u.Host != "" {
		if own, err := url.Parse(b.server.origin(b.r)); u.Host != b.r.Host && (err != nil || u.Host != own.Host) {
			return "", elsewhere
		}
		text = strings.TrimPrefix(text, u.Scheme+"://"+u.Host)
		if !strings.HasPrefix(text, root(b.r)+"/") {
			return "", elsewhere
		}
	}
	for _, other := range []string{"/api/", "/draft/"} {
		if strings.HasPrefix(text, other) && !strings.HasPrefix(text, root(b.r)+"/") {
			return "", elsewhere
		}
	}
	text = strings.TrimPrefix(strings.TrimPrefix(text, root(b.r)+"/"), "/")
	if !strings.HasPrefix(text, "$") || text == "$metadata" || text == "$batch" {
		return text, nil
	}
	return b.resolve(text)
}

// resolve puts the path of a row where $id stands for it.
func (b *batch) resolve(text string) (string, error) {
	end := strings.IndexAny(text, "/?")
	if end < 0 {
		end = len(text)
	}
	o := b.done[text[1:end]]
	if o == nil {
		return "", b.noReference(text[:end])
	}
	return o.path + text[end:], nil
}

func (b *batch) noReference(text string) error {
	return fault.New(fault.Invalid, "batch.reference", "%s stands for what a request before has made or read, and there is none of that id",
		text)
}
