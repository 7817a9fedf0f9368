package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/payload"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
)

// jsonBody reads a body that must be JSON, of one row or, where it may be large, of many.
func jsonBody(r *http.Request, most int64) ([]byte, error) {
	given := r.Header.Get("Content-Type")
	if given == "" && r.ContentLength == 0 {
		return nil, nil // that there is none is told by who reads it
	}
	if kind, _, err := mediaType(given); err != nil || kind != "application/json" {
		found := "has no Content-Type"
		if given != "" {
			found = fmt.Sprintf("is %q", given)
		}
		return nil, fault.New(fault.UnsupportedMedia, "body.media", "the body %s; send it as Content-Type: application/json",
			found).On("Content-Type")
	}
	return bodyOf(r, most)
}

// maxAnnounced is how much room is made for a body before it has arrived.
const maxAnnounced = 64 << 10

// bodyOf reads a body, which must come as it is.
func bodyOf(r *http.Request, most int64) ([]byte, error) {
	if coding := r.Header.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		return nil, fault.New(fault.UnsupportedMedia, "body.media", "the body is compressed with %q; send it as it is",
			coding).On("Content-Encoding")
	}
	var body []byte
	var err error
	if n := r.ContentLength; n >= 0 && n <= maxAnnounced { // its length is known, so it is read at once
		body = make([]byte, n)
		_, err = io.ReadFull(r.Body, body)
	} else { // room is made as it arrives: an announced length costs its sender nothing
		body, err = io.ReadAll(http.MaxBytesReader(nil, r.Body, most))
	}
	var tooLarge *http.MaxBytesError
	if err != nil && !errors.As(err, &tooLarge) {
		return nil, fault.New(fault.Invalid, "body.cut", "the body broke off or took too long; nothing was changed")
	}
	return body, err
}

// mediaType splits a media type from its parameters; most come without any.
func mediaType(given string) (string, map[string]string, error) {
	if given == "application/json" {
		return given, nil, nil
	}
	return mime.ParseMediaType(given)
}

func (s *Server) create(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	if strings.HasSuffix(r.URL.Path, "/$ref") {
		return s.link(w, r, api, caller)
	}
	return s.change(w, r, caller, api.Create)
}

func (s *Server) update(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	return s.change(w, r, caller, api.Update)
}

func (s *Server) replace(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	if strings.HasSuffix(r.URL.Path, "/$ref") {
		return s.link(w, r, api, caller)
	}
	return s.change(w, r, caller, api.Replace)
}

func (s *Server) remove(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	if strings.HasSuffix(r.URL.Path, "/$ref") {
		return s.unlink(w, r, api, caller)
	}
	in, err := writeOf(r)
	if err != nil {
		return err
	}
	e, start := exchangeOf(w), time.Now()
	written, err := api.Delete(r.Context(), caller, in)
	e.waited = time.Since(start)
	if err != nil {
		return err
	}
	e.rows = max(1, written.Rows)
	if written.Many {
		return writeRows(w, r, written, format{})
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// link ties the row of the path to the one that the body names: {"@id":"tugs/3"} (JSON Format, 14).
func (s *Server) link(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	in, err := unconditional(r)
	if err != nil {
		return err
	}
	if _, err := linkOption(r); err != nil {
		return err
	}
	err = api.Link(r.Context(), caller, in, r.Method == http.MethodPut)
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

func (s *Server) unlink(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	if _, err := unconditional(r); err != nil {
		return err
	}
	id, err := linkOption(r)
	if err != nil {
		return err
	}
	if err := api.Unlink(r.Context(), caller, below(r), id); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// linkOption is the row that $id names, with which a link is removed (Protocol, 11.4.6.2). Links take no other option.
func linkOption(r *http.Request) (id string, err error) {
	options, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return "", fault.New(fault.Invalid, "query.invalid", "the query can't be read: %v", err)
	}
	for name, values := range options {
		switch {
		case r.Method != http.MethodDelete || strings.ToLower(strings.TrimPrefix(name, "$")) != "id":
			return "", fault.New(fault.Invalid, "option.misplaced",
				"%s does not go with a link: the row is named in the body, or for DELETE in the path or as $id", name).On(name)
		case id != "" || len(values) > 1:
			return "", fault.New(fault.Invalid, "option.twice",
				"$id stands twice; remove one link at a time, or as many as you like with PATCH of the row").On(name)
		}
		id = values[0]
	}
	return id, nil
}

// unconditional is a link that is to be made or removed; a condition of it is refused.
func unconditional(r *http.Request) (data.Write, error) {
	in, err := writeOf(r)
	if err == nil {
		err = in.Unconditional("a relation is written with a version as a part of its row, with PATCH")
	}
	return in, err
}

// estimateWrite tells what a write would touch, in place of writing: nobody who asks for an explanation wants to have it done.
func (s *Server) estimateWrite(w http.ResponseWriter, r *http.Request, api *data.API, caller access.Caller) error {
	op := map[string]window.Operation{http.MethodPatch: window.Update, http.MethodDelete: window.Delete}[r.Method]
	told, err := api.EstimateWrite(r.Context(), caller, op, below(r), r.URL.RawQuery)
	if err != nil {
		return err
	}
	explained(w, told)
	return nil
}

// change writes a row, and answers with it as it is stored.
func (s *Server) change(w http.ResponseWriter, r *http.Request, caller access.Caller,
	do func(context.Context, access.Caller, data.Write) (*data.Written, error)) error {
	in, err := writeOf(r)
	if err != nil {
		return err
	}
	f, err := negotiateJSON(w, r)
	if err != nil {
		return err
	}
	in.Format = f.Format
	prefer := preferences(r).Return
	in.Show = prefer == "representation"
	e, start := exchangeOf(w), time.Now()
	written, err := do(r.Context(), caller, in)
	e.waited = time.Since(start)
	if err != nil {
		return err
	}
	e.rows = max(1, written.Rows)
	if written.Ignored != nil {
		w.Header().Set("Warning", `299 - "passed over, as the database fills them itself: `+strings.Join(written.Ignored, ", ")+`"`)
	}
	if written.Many {
		return writeRows(w, r, written, f)
	}
	status := http.StatusOK
	if written.Created {
		status = http.StatusCreated
		if path := written.Path(); path != "" {
			w.Header()["Location"] = []string{root(r) + "/" + path}
		}
	}
	if written.ETag != "" {
		w.Header()["Etag"] = []string{written.ETag}
	}
	switch prefer {
	case "minimal":
		w.Header().Set("Preference-Applied", "return=minimal")
		written.Row = nil
	case "representation":
		if written.Row != nil {
			w.Header().Set("Preference-Applied", "return=representation")
		}
	}
	writeRow(w, r, status, written, f)
	return nil
}

// writeRows tells how many rows were written, and shows them where that was asked for.
func writeRows(w http.ResponseWriter, r *http.Request, written *data.Written, f format) error {
	w.Header().Set("Rows-Affected", strconv.FormatInt(written.Rows, 10))
	if written.Row == nil {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	w.Header().Set("Preference-Applied", "return=representation")
	w.Header().Set("Content-Type", f.contentType())
	_, _ = w.Write(f.envelope(contextURL(r, written.Context)).Collection(written.Row))
	return nil
}

// contextURL is the address of the description of an answer, relative to the request.
func contextURL(r *http.Request, context string) string {
	return strings.Repeat("../", strings.Count(below(r), "/")) + "$metadata#" + context
}

// writeOf is what a request asks to be written, with its conditions (RFC 9110, 13.1).
func writeOf(r *http.Request) (data.Write, error) {
	in := data.Write{Path: below(r), Query: r.URL.RawQuery, Body: func() ([]byte, error) { return jsonBody(r, maxBody) },
		Rows: func() ([]byte, error) { return jsonBody(r, maxBulk) }}
	for _, line := range r.Header.Values("If-Match") {
		for tag := range strings.SplitSeq(line, ",") {
			version := strings.TrimSpace(tag)
			if version != "*" {
				version = payload.Version(version)
			}
			in.IfMatch = append(in.IfMatch, version)
		}
	}
	if _, params, err := mediaType(r.Header.Get("Content-Type")); err == nil {
		in.Quoted = strings.EqualFold(params["ieee754compatible"], "true")
	}
	switch none := r.Header.Get("If-None-Match"); none {
	case "", "*":
		in.MustBeNew = none == "*"
	default:
		return in, fault.New(fault.Invalid, "version.condition",
			"with a write, If-None-Match is * and asks for a new row; a version goes into If-Match").On("If-None-Match")
	}
	return in, nil
}

// writeRow answers with the row as stored, or with nothing where the role may not read it or nobody asked.
func writeRow(w http.ResponseWriter, r *http.Request, status int, written *data.Written, f format) {
	if written.Row == nil {
		if path := written.Path(); path != "" {
			w.Header().Set("OData-EntityId", root(r)+"/"+path)
		}
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header()["Content-Type"] = []string{f.contentType()}
	w.WriteHeader(status)
	pooled := buffers.Get().(*[]byte)
	*pooled = f.envelope(contextURL(r, written.Context)).One((*pooled)[:0], func(dst []byte) []byte { return append(dst, written.Row...) })
	_, _ = w.Write(*pooled)
	buffers.Put(pooled)
}
