package server

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/windows"
)

// How much of a request and of its answer is kept in the history.
const (
	maxKeptBody   = 64 << 10
	maxKeptAnswer = 16 << 10
)

// remembered keeps what operators ask of a draft, so that it can be asked again, copied and made into checks.
func (s *Server) remembered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := below(r)
		if r.Method == http.MethodOptions || path == "" || strings.HasPrefix(path, "openapi.") {
			next.ServeHTTP(w, r)
			return
		}
		sent := &begun{ReadCloser: r.Body, most: maxKeptBody}
		r.Body = sent
		got, start := &watchedAnswer{ResponseWriter: w, status: http.StatusOK}, time.Now()
		next.ServeHTTP(got, r)
		if got.status == http.StatusUnauthorized {
			return
		}
		if r.URL.RawQuery != "" {
			path += "?" + r.URL.RawQuery
		}
		headers := map[string]string{}
		for _, name := range []string{"Prefer", "If-Match", "If-None-Match", "Idempotency-Key", "Rehearsal"} {
			if v := r.Header.Get(name); v != "" {
				headers[name] = v
			}
		}
		text, _ := json.Marshal(headers) // texts
		one := windows.Asked{Method: r.Method, Path: path, ActAs: r.Header.Get("Act-As"), Headers: text, Body: plainText(sent.kept.Bytes()),
			Status: got.status,
			Kind:   w.Header().Get("Content-Type"), Answer: plainText(got.kept.Bytes()), TookMS: float64(time.Since(start).Microseconds()) / 1000}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), time.Second)
		defer cancel()
		email, err := s.operator(r.WithContext(ctx))
		if err == nil {
			err = s.service.KeepAsked(ctx, chi.URLParam(r, "window"), email, one)
		}
		if err != nil {
			s.log.Warn("a request can't be kept in the history", "error", err)
		}
	})
}

// plainText is a text that a database can keep; other bytes are left out.
func plainText(b []byte) string {
	if !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return ""
	}
	return string(b)
}

// begun keeps the beginning of a body beside reading it.
type begun struct {
	io.ReadCloser
	kept bytes.Buffer
	most int
}

func (b *begun) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.kept.Write(p[:min(n, max(0, b.most-b.kept.Len()))])
	return n, err
}

// watchedAnswer keeps the beginning of an answer beside sending it.
type watchedAnswer struct {
	http.ResponseWriter
	status int
	kept   bytes.Buffer
}

func (a *watchedAnswer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

func (a *watchedAnswer) WriteHeader(status int) {
	a.status = status
	a.ResponseWriter.WriteHeader(status)
}

func (a *watchedAnswer) Write(p []byte) (int, error) {
	a.kept.Write(p[:min(len(p), max(0, maxKeptAnswer-a.kept.Len()))])
	return a.ResponseWriter.Write(p)
}

func (s *Server) manageAsked(r chi.Router) {
	r.Get("/windows/{window}/asked", s.forOperator(func(r *http.Request, email string) (any, error) {
		limit := 50
		if text := r.URL.Query().Get("limit"); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil || n < 1 || n > 200 {
				return nil, fault.New(fault.Invalid, "path.number", "limit is a number from 1 to 200, not %q", text).On("limit")
			}
			limit = n
		}
		return s.service.Asked(r.Context(), chi.URLParam(r, "window"), email, limit)
	}))
}
