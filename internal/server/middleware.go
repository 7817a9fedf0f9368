package server

import (
	mathrand "math/rand/v2"
	"net/http"
	"runtime/debug"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzhttp"
	"github.com/klauspost/compress/gzip"

	"eagerwindow/internal/core/fault"
)

// requestID gives each request a number that is in the answer's headers and in the log.
func requestID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header()["Request-Id"] = []string{strconv.FormatUint(mathrand.Uint64()|1<<63, 16)} // to be told apart, not to be secret
		next.ServeHTTP(w, r)
	})
}

func idOf(w http.ResponseWriter) string { return w.Header().Get("Request-Id") }

// recovered keeps a mistake of ours in one request from ending the others.
func (s *Server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if v := recover(); v != nil {
				if v == http.ErrAbortHandler {
					panic(v)
				}
				s.log.Error("panic", "id", idOf(w), "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
				s.internal(w, r)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

var nosniff = []string{"nosniff"}

// secured keeps browsers from guessing what an answer is; pages of the console say more.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header()["X-Content-Type-Options"] = nosniff
		next.ServeHTTP(w, r)
	})
}

// limited refuses URLs that are too long and cuts bodies that are.
func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if len(r.RequestURI) > maxURL {
			refuse(w, r, fault.New(fault.TooLong, "url.long", "the URL has %d bytes, at most %d are read", len(r.RequestURI), maxURL), nil)
			return
		}
		if r.Body != http.NoBody && (r.ContentLength < 0 || r.ContentLength > maxBulk) { // else its end is known
			r.Body = http.MaxBytesReader(w, r.Body, maxBulk)
		}
		next.ServeHTTP(w, r)
	})
}

// worthCompressing is the length from which an answer is shorter compressed, and the work pays.
const worthCompressing = 2 << 10

// compressed answers with zstd or gzip where the caller takes it, at the speed of the fastest levels.
func compressed(next http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(worthCompressing), gzhttp.CompressionLevel(gzip.BestSpeed), gzhttp.PreferZstd(true))
	if err != nil {
		panic(err) // of settings that stand here
	}
	wrapped := wrap(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header["Accept-Encoding"] == nil { // nothing to choose, so nothing to pay for the choice
			next.ServeHTTP(w, r)
			return
		}
		wrapped.ServeHTTP(w, r)
	})
}

// bearer is the token of the Authorization header, "" where there is none.
func bearer(r *http.Request) string {
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if strings.EqualFold(scheme, "Bearer") {
		return strings.TrimSpace(token)
	}
	return ""
}
