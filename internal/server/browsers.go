package server

import (
	"net/http"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/cors"
)

// browsers lets pages of the origins that the document names call a window's API (CORS, Fetch standard). Nobody's cookies go along:
// callers are known by their tokens.
func (s *Server) browsers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header["Origin"] == nil {
			next.ServeHTTP(w, r)
			return
		}
		api, err := s.service.Live(r.Context(), chi.URLParam(r, "window"))
		if err != nil || len(api.Model.Document.Origins) == 0 {
			next.ServeHTTP(w, r)
			return
		}
		var origins []string
		for _, o := range api.Model.Document.Origins {
			origins = append(origins, o.Value)
		}
		cors.Handler(cors.Options{
			AllowedOrigins: origins,
			AllowedMethods: []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, "QUERY"},
			AllowedHeaders: []string{"*"},
			ExposedHeaders: []string{"Deprecation", "ETag", "Idempotency-Replayed", "Link", "Location", "OData-EntityId", "OData-Version",
				"Preference-Applied", "RateLimit",
				"RateLimit-Policy", "Request-Id", "Retry-After", "Rows-Affected", "Sunset", "WWW-Authenticate"},
			MaxAge: 600,
		})(next).ServeHTTP(w, r)
	})
}
