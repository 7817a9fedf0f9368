package server

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"math"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dunglas/httpsfv"
	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/data"
	"eagerwindow/internal/encode"
	"eagerwindow/internal/identity"
)

// serveFunc answers a request of the data API; an error is what refuses it.
type serveFunc func(http.ResponseWriter, *http.Request, *data.API, access.Caller) error

// target finds out which API a request of the data API is for, and who calls.
type target func(*http.Request) (*data.API, access.Caller, error)

// The version stands in every answer, spelled as the standard does.
var version, version40 = []string{"4.01"}, []string{"4.0"}

// What answers differ by, and that no cache may give one to anybody without asking here.
var vary, private = []string{"Accept, Accept-Encoding, Authorization, OData-MaxVersion, Prefer"}, []string{"private, no-cache"}

// data serves the data API of a window (OData 4.01 Protocol, 11) and its description.
func (s *Server) data(r chi.Router, at string, find target) {
	handle := func(serve serveFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h["OData-Version"], h["Vary"], h["Cache-Control"] = versionOf(r), vary, private
			api, caller, err := find(r)
			if err == nil && api.Model.Deprecated {
				sayDeprecated(h, api.Model, below(r))
			}
			if err == nil {
				err = s.admitted(w, r, api, caller, s.rehearsing(r, serve))
			}
			if err != nil {
				s.fail(w, r, err)
			}
		}
	}
	for _, method := range []string{http.MethodGet, http.MethodHead} {
		r.Method(method, at, handle(s.dispatch))
		for _, form := range descriptionForms {
			r.Method(method, at+"/openapi."+form.name, s.describing(find, servedVersion, s.openAPI(form)))
		}
	}
	for _, method := range []string{http.MethodGet, http.MethodHead, "QUERY", http.MethodPost, http.MethodPatch, http.MethodPut,
		http.MethodDelete} {
		r.Method(method, at+"/*", handle(s.serve))
	}
	// The middleware answers browsers that ask before they send a request.
	for _, below := range []string{"", "/*"} {
		r.Options(at+below, handle(s.options))
	}
}

// sayDeprecated says of a resource that will go since when that is known and until when it is served (RFC 9745, RFC 8594).
func sayDeprecated(h http.Header, m *model.Model, path string) {
	name, err := url.PathUnescape(path[:max(0, strings.IndexAny(path+"/", "/("))])
	r := m.Resource(name)
	if err != nil || r == nil || r.Deprecated == nil {
		return
	}
	h.Set("Deprecation", "@"+strconv.FormatInt(r.Deprecated.Since.Unix(), 10))
	if until := r.Deprecated.Until; !until.IsZero() {
		h.Set("Sunset", until.Format(http.TimeFormat))
	}
}

// versionOf is the version of the standard that an answer speaks, spelled as it stands in the header.
func versionOf(r *http.Request) []string {
	if v40, err := maxVersion(r); err == nil && v40 {
		return version40
	}
	return version
}

// options tells which methods a path has (RFC 9110, 9.3.7).
func (s *Server) options(w http.ResponseWriter, r *http.Request, api *data.API, _ access.Caller) error {
	allow, err := api.Methods(below(r))
	if err != nil {
		return err
	}
	w.Header().Set("Allow", allowed(allow))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// allowed is the value of Allow: every path answers OPTIONS too.
func allowed(methods []string) string {
	return strings.Join(append(slices.Clone(methods), http.MethodOptions), ", ")
}

// unknownMethod refuses a method that no path of the data API has.
func (s *Server) unknownMethod(w http.ResponseWriter, r *http.Request) {
	w.Header()["OData-Version"] = versionOf(r)
	find := s.live
	if strings.HasPrefix(r.URL.Path, "/draft/") {
		find = s.draft
	}
	name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(r.URL.Path, "/draft/"), "/api/"), "/")
	chi.RouteContext(r.Context()).URLParams.Add("window", name)
	api, _, err := find(r)
	var allow []string
	if err == nil {
		allow, err = api.Methods(below(r))
	}
	if err == nil {
		err = notPossible(r, allow)
	}
	s.fail(w, r, err)
}

// fixed refuses the methods that paths which are not a resource's do not have.
func fixed(r *http.Request) error {
	var allow []string
	switch path := below(r); {
	case path == "", path == "$metadata", path == "$entity", strings.HasPrefix(path, "openapi."):
		allow = []string{http.MethodGet, http.MethodHead}
	case path == "$batch", strings.HasSuffix(path, "/$query"):
		allow = []string{http.MethodPost}
	}
	if allow == nil || slices.Contains(allow, r.Method) {
		return nil
	}
	return notPossible(r, allow)
}

func notPossible(r *http.Request, allow []string) error {
	return fault.NotAllowed("method.unknown", allow, "%s is not possible here", r.Method)
}

// dispatch answers a request by its method and what of its path is not a resource's.
func (s *Server) dispatch(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	path := below(r)
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		switch path {
		case "":
			return s.serviceDocument(w, r, api, caller)
		case "$metadata":
			return s.metadata(w, r, api, caller)
		case "$entity":
			path, options, err := request.Entity(root(r), r.URL.RawQuery)
			if err != nil {
				return err
			}
			return s.ask(w, r, path, options, api, caller)
		}
		return s.read(w, r, api, caller)
	case "QUERY":
		return s.query(w, r, path, "application/x-www-form-urlencoded", api, caller)
	case http.MethodPost:
		if path == "$batch" {
			return s.batch(w, r, api, caller)
		}
		if path, isQuery := strings.CutSuffix(path, "/$query"); isQuery {
			return s.query(w, r, path, "text/plain", api, caller)
		}
		return s.create(w, r, api, caller)
	case http.MethodPatch:
		return s.update(w, r, api, caller)
	case http.MethodPut:
		return s.replace(w, r, api, caller)
	}
	return s.remove(w, r, api, caller)
}

// live is the published release; the bearer token says who calls.
func (s *Server) live(r *http.Request) (*data.API, access.Caller, error) {
	name := chi.URLParam(r, "window")
	api, err := s.service.Live(r.Context(), name)
	if err != nil {
		return nil, access.Caller{}, err
	}
	token := bearer(r)
	if r.Header.Get("Rehearsal") != "" {
		email, err := s.operator(r)
		if err != nil {
			return nil, access.Caller{}, onlyOperators()
		}
		caller, err := actAs(r, api)
		if caller.Operator {
			caller.Subject = email
		}
		return api, caller, err
	}
	if strings.HasPrefix(token, "operator-") {
		return nil, access.Caller{}, fault.New(fault.Unauthenticated, "token.operator",
			"an operator's token does not call the live API; use /draft/%s, or a client's token from /auth/%s/token", name, name)
	}
	caller, err := s.service.Caller(r.Context(), api, token, func() string { return noted(r) })
	if caller.Anonymous() {
		caller.From = address(r)
	}
	return api, caller, err
}

// maxNoted is how much of a path is noted.
const maxNoted = 200

// noted is what a caller asks for, as operators read it: percent-encoded, so that nothing in it moves a terminal's cursor.
func noted(r *http.Request) string {
	path := r.URL.EscapedPath()
	return r.Method + " " + path[:min(len(path), maxNoted)]
}

// admitted serves a request that the limits of its caller let in, and tells what is left of them
// (draft-ietf-httpapi-ratelimit-headers).
func (s *Server) admitted(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller,
	serve serveFunc) error {
	e := exchangeOf(w)
	e.api, e.caller = api, caller
	leave, quota, err := s.service.Admit(api, caller)
	if quota != nil {
		seconds := int(math.Ceil(quota.Reset.Seconds()))
		h := w.Header()
		h["Ratelimit-Policy"] = []string{roleItem("q", quota.Count, "w", int(quota.Per.Seconds()))}
		h["Ratelimit"] = []string{roleItem("r", quota.Left, "t", seconds)}
		if err != nil {
			h.Set("Retry-After", strconv.Itoa(seconds))
		}
	}
	if f, ok := fault.From(err); ok && f.Code == "limit.concurrent" {
		w.Header().Set("Retry-After", "1")
	}
	if err != nil {
		s.service.HoldBack(r.Context(), api, caller)
		return err
	}
	defer leave()
	return serve(w, r, api, caller)
}

// roleItem is a list of one item, "role", with two numbers as its parameters (RFC 9651, 3.1).
func roleItem(first string, one int, second string, other int) string {
	item := httpsfv.NewItem("role")
	item.Params.Add(first, int64(one))
	item.Params.Add(second, int64(other))
	text, _ := httpsfv.Marshal(httpsfv.List{item}) // fails for names and values that a field can't hold only
	return text
}

// draft is the draft, for operators, who may act as any role.
func (s *Server) draft(r *http.Request) (*data.API, access.Caller, error) {
	email, err := s.operator(r)
	if err != nil {
		return nil, access.Caller{}, err
	}
	api, err := s.service.DraftAPI(r.Context(), chi.URLParam(r, "window"))
	if err != nil {
		return nil, access.Caller{}, err
	}
	caller, err := actAs(r, api)
	if caller.Operator {
		caller.Subject = email
	}
	// The rows of a draft are those that are live.
	if err == nil && writes(r) && r.Header.Get("Rehearsal") == "" && !strings.Contains(r.Header.Get("Prefer"), "explain") {
		err = s.service.NoteWrite(identity.Acting(r.Context(), email, address(r)), api.Model.Name, noted(r), strings.Join(caller.Roles, ", "))
	}
	return api, caller, err
}

// actAs reads `Act-As: agent;agent_id=3`, a list of items with parameters (RFC 9651, 3.1): roles, and the claims of a caller that has
// them. Without it, the operator acts as no role and may do all that the window exposes; the name of the anonymous role stands for
// a caller without a token.
func actAs(r *http.Request, api *data.API) (access.Caller, error) {
	header := r.Header.Values("Act-As")
	if len(header) == 0 {
		return access.Caller{Operator: true}, nil
	}
	wrong := func(why string) error {
		return fault.New(fault.Invalid, "act_as.invalid", "Act-As %s; write a role and its claims, such as agent;agent_id=3", why).On("Act-As")
	}
	list, err := httpsfv.UnmarshalList(header)
	if err != nil {
		return access.Caller{}, wrong("can't be read")
	}
	c := access.Caller{Subject: "operator", Claims: map[string]any{}}
	for _, member := range list {
		item, _ := member.(httpsfv.Item)
		role, ok := item.Value.(httpsfv.Token)
		if !ok {
			return access.Caller{}, wrong("names no role")
		}
		known := api.Model.Role(string(role))
		if known == nil {
			return access.Caller{}, fault.New(fault.Invalid, "role.unknown", "there is no role %q%s", string(role),
				fault.Suggest(string(role), api.Policy.RoleNames())).On("Act-As")
		}
		if known.Anonymous && len(list) == 1 {
			return access.Caller{}, nil
		}
		c.Roles = append(c.Roles, known.Name)
		for _, name := range item.Params.Names() {
			v, _ := item.Params.Get(name)
			if token, ok := v.(httpsfv.Token); ok {
				v = string(token)
			}
			c.Claims[name] = v
		}
	}
	if c.Roles == nil {
		return access.Caller{}, wrong("names no role")
	}
	return c, nil
}

// below is the path under the window, still percent-encoded.
func below(r *http.Request) string {
	path := r.URL.EscapedPath()
	for range 3 {
		_, path, _ = strings.Cut(path, "/")
	}
	if strings.Contains(path, "%24") { // a dollar sign is one however it is written (URL Conventions, 2)
		path = strings.ReplaceAll(path, "%24", "$")
	}
	return path
}

// root is the path of the window, as in /api/saltmere.
func root(r *http.Request) string {
	kind, rest, _ := strings.Cut(r.URL.Path[1:], "/")
	name, _, _ := strings.Cut(rest, "/")
	return r.URL.Path[:len("/")+len(kind)+len("/")+len(name)]
}

// writeLimit is how long a caller may leave a part of an answer unread, which holds a connection to the database meanwhile: whoever reads
// less than flushAt in that time is cut off.
const writeLimit = 10 * time.Second

func (s *Server) read(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	return s.ask(w, r, below(r), r.URL.RawQuery, api, caller)
}

// query reads with the options in the body, for those that are too long for a URL: POST …/$query with text/plain (URL
// Conventions, 5.1; Protocol, 11.2.6.8), and the QUERY method.
func (s *Server) query(w http.ResponseWriter, r *http.Request, path, media string, api *data.API, caller access.Caller) error {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != "text/plain" && kind != media {
		return fault.New(fault.UnsupportedMedia, "body.media", "the body holds query options; send it as Content-Type: %s",
			media).On("Content-Type")
	}
	body, err := bodyOf(r, maxBody)
	if err != nil {
		return err
	}
	options := strings.TrimSpace(string(body))
	if r.URL.RawQuery != "" {
		options = strings.Trim(r.URL.RawQuery+"&"+options, "&")
	}
	return s.ask(w, r, path, options, api, caller)
}

func (s *Server) ask(w http.ResponseWriter, r *http.Request, path, options string, api *data.API, caller access.Caller) error {
	f, err := negotiateFormat(w, r, options)
	if err != nil {
		return err
	}
	prefs := preferences(r)
	prefs.Format = f.Format
	prefs.Explain = prefs.Explain && api.Release == 0 // the draft is for operators alone
	e := exchangeOf(w)
	page, err := api.Read(r.Context(), caller, path, options, prefs)
	if err != nil {
		return err
	}
	e.waited = page.Waited
	e.shape = page.Shape()
	defer func() { e.rows = page.Rows() }()
	if page.Explained != nil {
		explained(w, page.Explained)
		return nil
	}
	tag := page.ETag()
	if asked := r.Header.Get("If-Match"); asked != "" && !(asked == "*" && !page.Empty) && (tag == "" || !matches(asked, tag)) {
		if err := page.Close(); err != nil {
			return err
		}
		return fault.New(fault.VersionMismatch, "version.changed",
			"the row has another version than If-Match asks for; its ETag says which").On("If-Match")
	}
	if tag != "" {
		w.Header()["Etag"] = []string{tag}
		if known := r.Header.Get("If-None-Match"); known != "" && matches(known, tag) {
			w.WriteHeader(http.StatusNotModified)
			return page.Close()
		}
	}
	return s.stream(w, r, page, path, options, f)
}

func explained(w http.ResponseWriter, e *data.Explanation) {
	w.Header().Set("Preference-Applied", "explain")
	writeJSON(w, http.StatusOK, e)
}

// matches compares weakly (RFC 9110, 13.1.2). A tag that tells the row's version alone, as writes and bodies do, means any representation.
func matches(list, tag string) bool {
	if list == "*" {
		return true
	}
	for _, t := range strings.Split(list, ",") {
		t = strings.TrimPrefix(strings.TrimSpace(t), "W/")
		if of := strings.TrimPrefix(tag, "W/"); t != "" && (t == of || !strings.Contains(t, ".") && payload.Version(t) == payload.Version(of)) {
			return true
		}
	}
	return false
}

// preferences are those of Prefer that are known (RFC 7240, Protocol, 8.2.8).
func preferences(r *http.Request) data.Preferences {
	var p data.Preferences
	if r.Header["Prefer"] == nil {
		return p
	}
	given := preferred(r.Header.Values("Prefer"))
	_, p.Explain = given["explain"]
	if value, ok := given["continue-on-error"]; ok {
		p.ContinueOnError = !strings.EqualFold(value, "false")
	}
	if value := strings.ToLower(given["return"]); value == "minimal" || value == "representation" {
		p.Return = value
	}
	if n, err := strconv.Atoi(given["maxpagesize"]); err == nil && n > 0 && n <= 1<<30 {
		p.MaxPageSize = n
	}
	return p
}

// preferred reads the preferences of a request: names in lower case, without the prefix of version 4.0. Of one that is given twice, the
// first counts (RFC 7240, 2). Parameters of preferences are passed over, as none is defined here.
func preferred(lines []string) map[string]string {
	given := map[string]string{}
	for text := strings.Join(lines, ","); text != ""; {
		var name, value string
		name, text = cutWord(text, "=;,")
		if strings.HasPrefix(text, "=") {
			value, text = cutWord(text[1:], ";,")
		}
		for strings.HasPrefix(text, ";") {
			_, text = cutWord(text[1:], ";,")
		}
		text = strings.TrimPrefix(text, ",")
		name = strings.TrimPrefix(strings.ToLower(name), "odata.")
		if _, twice := given[name]; !twice && name != "" {
			given[name] = value
		}
	}
	return given
}

// cutWord cuts a token, or a text in quotes, off a header field: what follows begins with one of the marks.
func cutWord(text, marks string) (word, rest string) {
	text = strings.TrimLeft(text, " \t")
	if !strings.HasPrefix(text, `"`) {
		end := strings.IndexAny(text, marks)
		if end < 0 {
			end = len(text)
		}
		return strings.TrimSpace(text[:end]), text[end:]
	}
	var out strings.Builder
	i := 1
	for ; i < len(text) && text[i] != '"'; i++ {
		if text[i] == '\\' && i+1 < len(text) {
			i++
		}
		out.WriteByte(text[i])
	}
	rest = text[min(i+1, len(text)):]
	if end := strings.IndexAny(rest, marks); end >= 0 {
		return out.String(), rest[end:]
	}
	return out.String(), ""
}

// flushAt is how much of an answer is gathered before its first part is sent. Most answers are shorter, and so carry their
// length and the link to the next page in the header.
const flushAt = 256 << 10

// buffers are kept from one request to the next.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0, 16<<10); return &b }}

// stream writes a page as it arrives.
func (s *Server) stream(w http.ResponseWriter, r *http.Request, page *data.Page, path, options string, f format) error {
	pooled := buffers.Get().(*[]byte)
	out := answer{w: w, kind: f.contentType(), buf: (*pooled)[:0]}
	defer func() { *pooled = out.buf; buffers.Put(pooled) }()
	closed := false
	defer func() {
		if !closed {
			_ = page.Close()
		}
	}()
	envelope := f.envelope(contextURL(r, page.Context))
	switch {
	case page.View == query.Number:
		out.kind, out.buf = "text/plain; charset=utf-8", strconv.AppendInt(out.buf[:0], page.Total(), 10)
		closed = true
		if err := page.Close(); err != nil {
			return s.cut(&out, r, err)
		}
		out.end()
		return nil
	case page.Single && page.Empty:
		w.WriteHeader(http.StatusNoContent)
		return nil
	case page.Field != nil && (page.View == query.Bare || f.Kind == encode.JSON):
		return s.field(w, page, f, envelope)
	case page.Single:
		out.buf = envelope.Single(out.buf, page.AppendHeader, page.AppendRow)
	default:
		left, err := out.rows(page, envelope, func(token string) string { return nextLink(root(r)+"/"+path, options, token) })
		if err != nil {
			return s.cut(&out, r, err)
		}
		if left {
			return nil
		}
	}
	closed = true
	if err := page.Close(); err != nil {
		return s.cut(&out, r, err)
	}
	out.end()
	return nil
}

// rows writes the rows of a collection, and the link to the next page where one follows. left reports that the caller has gone away.
func (a *answer) rows(page *data.Page, envelope encode.Envelope, link func(token string) string) (left bool, err error) {
	h := a.w.Header()
	if size := page.Preferred(); size > 0 {
		prefix := ""
		if envelope.V40 {
			prefix = "odata."
		}
		h.Set("Preference-Applied", prefix+"maxpagesize="+strconv.FormatInt(size, 10))
	}
	total := int64(-1)
	if page.Counted {
		total = page.Total()
	}
	a.buf = page.AppendHeader(envelope.Begin(a.buf, total))
	for page.Next() {
		a.buf = page.AppendRow(envelope.Row(a.buf, page.Rows() == 1))
		if len(a.buf) >= flushAt && a.flush() != nil {
			return true, nil
		}
	}
	token, err := page.SkipToken()
	if err != nil {
		return false, err
	}
	next := ""
	if token != "" {
		next = link(token)
		h.Set("Link", "<"+next+`>; rel="next"`)
	}
	a.buf = envelope.End(a.buf, next)
	return false, nil
}

// field answers with one field of a row (Protocol, 11.2.4): its value in an object, or bare; 204 where it is null.
func (s *Server) field(w http.ResponseWriter, page *data.Page, f format, envelope encode.Envelope) error {
	row := page.AppendRow(nil)
	if bytes.HasPrefix(row, []byte(`{"`+page.Field.Name+`@`)) {
		return fault.New(fault.Forbidden, "access.field", "none of the caller's roles that reach this row may read %s in it",
			page.Field.Name).On(page.Field.Name)
	}
	value := bytes.TrimSuffix(bytes.TrimPrefix(row, []byte(`{"`+page.Field.Name+`":`)), []byte("}"))
	if bytes.Equal(value, []byte("null")) {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	if page.View != query.Bare {
		w.Header().Set("Content-Type", f.contentType())
		if page.Field.Type.Parts() != nil { // an object by itself (JSON Format, 11)
			_, _ = w.Write(envelope.One(nil, func(dst []byte) []byte { return append(dst, value...) }))
			return nil
		}
		_, _ = w.Write(append(append(append(envelope.Context(nil), `"value":`...), value...), '}', '\n'))
		return nil
	}
	kind := "text/plain; charset=utf-8"
	var text string
	switch err := json.Unmarshal(value, &text); {
	case page.Field.Type.Kind == model.Binary:
		kind = "application/octet-stream"
		value, _ = base64.RawURLEncoding.DecodeString(text)
	case page.Field.Type.Kind == model.JSON:
		kind = "application/json"
	case err == nil:
		value = []byte(text)
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(value)
	return nil
}

// cut ends an answer that went wrong. What was sent already can't be taken back: the connection breaks off, so that nobody
// takes the part for the whole.
func (s *Server) cut(out *answer, r *http.Request, err error) error {
	if !out.sent {
		out.w.Header().Del("Link")
		return err
	}
	s.log.Error("an answer broke off", "id", idOf(out.w), "path", r.URL.Path, "error", err)
	panic(http.ErrAbortHandler)
}

// answer gathers a body and sends it in large parts.
type answer struct {
	w    http.ResponseWriter
	kind string
	buf  []byte
	sent bool
}

func (a *answer) flush() error {
	if !a.sent {
		a.w.Header().Set("Content-Type", a.kind)
		a.w.Header().Set("Trailer", "Link")
		a.sent = true
	}
	control := http.NewResponseController(a.w)
	_ = control.SetWriteDeadline(time.Now().Add(writeLimit)) // a recorder has none
	_, err := a.w.Write(a.buf)
	a.buf = a.buf[:0]
	if err != nil {
		return err
	}
	return control.Flush()
}

func (a *answer) end() {
	if !a.sent {
		h := a.w.Header()
		h["Content-Type"], h["Content-Length"] = []string{a.kind}, []string{strconv.Itoa(len(a.buf))}
	}
	if a.sent {
		_ = http.NewResponseController(a.w).SetWriteDeadline(time.Now().Add(writeLimit))
	}
	_, _ = a.w.Write(a.buf)
}

// nextLink is a request's path and options with the token of the next page.
func nextLink(path, options, token string) string {
	var kept []string
	for _, pair := range strings.Split(options, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if name, err := url.QueryUnescape(name); pair == "" || err == nil && strings.EqualFold(strings.TrimPrefix(name, "$"), "skiptoken") {
			continue
		}
		kept = append(kept, pair)
	}
	kept = append(kept, "skiptoken="+token)
	return path + "?" + strings.NewReplacer(" ", "%20", "<", "%3C", ">", "%3E", `"`, "%22").Replace(strings.Join(kept, "&"))
}
