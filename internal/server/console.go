package server

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"eagerwindow/internal/core/fault"
)

// policy lets the console use what this service itself serves, and nothing else.
// Styles that the console makes as it runs carry the nonce.
const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-%s'; img-src 'self' data:; font-src 'self'; " +
	"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// page serves the files of the console; any other path outside the APIs is one of its pages.
func (s *Server) page(w http.ResponseWriter, r *http.Request) {
	for _, known := range []string{"/api", "/draft", "/auth", "/manage", "/schemas", "/describe", "/.well-known", "/metrics", "/healthz",
		"/readyz", "/favicon.ico", "/robots.txt"} {
		if r.URL.Path == known || strings.HasPrefix(r.URL.Path, known+"/") {
			s.fail(w, r, fault.New(fault.NotFound, "path.unknown", "there is nothing at %s", r.URL.Path))
			return
		}
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		s.methodNotAllowed(w, r)
		return
	}
	if s.console == nil {
		http.Error(w, "The console was not built. Run: make console", http.StatusNotFound)
		return
	}
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if _, err := fs.Stat(s.console, name); err != nil || name == "" || name == "index.html" {
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		s.index(w, r)
		return
	}
	if strings.HasPrefix(name, "assets/") { // their names hold a sum of what is in them
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		name = s.compressedAsset(w, r, name)
	}
	http.ServeFileFS(w, r, s.console, name)
}

// compressedAsset is the name of an asset as it was compressed when the console was built, in a way that the caller takes.
func (s *Server) compressedAsset(w http.ResponseWriter, r *http.Request, name string) string {
	w.Header().Set("Vary", "Accept-Encoding")
	for _, way := range []struct{ coding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if _, err := fs.Stat(s.console, name+way.suffix); err != nil || !takesCoding(r, way.coding) {
			continue
		}
		w.Header().Set("Content-Encoding", way.coding)
		w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		return name + way.suffix
	}
	return name
}

// takesCoding reports whether a caller takes a content coding (RFC 9110, 12.5.3).
func takesCoding(r *http.Request, coding string) bool {
	for _, one := range strings.Split(r.Header.Get("Accept-Encoding"), ",") {
		name, quality, _ := strings.Cut(strings.TrimSpace(one), ";")
		if strings.EqualFold(strings.TrimSpace(name), coding) {
			q, err := strconv.ParseFloat(strings.TrimPrefix(strings.TrimSpace(quality), "q="), 64)
			return err != nil || q > 0
		}
	}
	return false
}

// index serves the one page of the console, with a nonce of its own each time.
func (s *Server) index(w http.ResponseWriter, r *http.Request) {
	page, err := fs.ReadFile(s.console, "index.html")
	if err != nil {
		s.fail(w, r, err)
		return
	}
	nonce := rand.Text()
	w.Header().Set("Referrer-Policy", "same-origin")
	w.Header().Set("X-Frame-Options", "DENY")
	w.Header().Set("Content-Security-Policy", fmt.Sprintf(policy, nonce))
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = w.Write(bytes.Replace(page, []byte(`content="NONCE"`), []byte(`content="`+nonce+`"`), 1))
}
