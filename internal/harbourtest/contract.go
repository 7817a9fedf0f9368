package harbourtest

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"eagerwindow/demo"
	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/window"
)

// witness holds the answers of every test's service against the description of the role that asked, as long as the service has the
// harbour's own document.
type witness struct {
	mu        sync.Mutex
	contracts map[string]*contract.Contract // by role, "" for callers of several or of none that is known
	tried     map[string]int                // how often, by role, operation, status and options
	seen      map[string]bool               // kinds of operations with a status: "get 200"
}

var answers = witness{contracts: map[string]*contract.Contract{}, tried: map[string]int{}, seen: map[string]bool{}}

// How many answers of a kind are looked at, and how large they may be.
const (
	maxTries = 12
	maxSize  = 64 << 10
)

// Unseen lists what the description promises of a kind of operation, such as "get 200", and what no caller was answered with.
func Unseen() (list []string) {
	answers.mu.Lock()
	defer answers.mu.Unlock()
	for _, c := range answers.contracts {
		for _, op := range c.Operations {
			for _, status := range op.Statuses() {
				if one := kindOf(op) + " " + status; !answers.seen[one] && !slices.Contains(list, one) {
					list = append(list, one)
				}
			}
		}
	}
	slices.Sort(list)
	return list
}

// kindOf is the kind of an operation: what of its ID is not the resource's name.
func kindOf(op *contract.Operation) string {
	for _, kind := range []string{"list", "get", "create", "change", "replace", "delete", "apply-changes-to", "link-to", "set-links-of",
		"unlink-from"} {
		if strings.HasPrefix(op.ID, kind+"-") && op.Tag != "window" {
			return kind
		}
	}
	return op.ID
}

// Contract is what the harbour's description promises a role.
func Contract(role string, cat *catalog.Catalog) (*contract.Contract, error) {
	doc, err := window.Parse([]byte(demo.Document), func(string) (string, bool) { return "", false })
	if err != nil {
		return nil, err
	}
	policy, err := access.Bind(doc, cat)
	if err != nil {
		return nil, err
	}
	scope, err := policy.Scope(access.Caller{Subject: "x", Operator: role == "", Roles: []string{role}})
	if err != nil {
		return nil, err
	}
	described, err := describe.OpenAPI(policy, scope, describe.Place{Server: "http://127.0.0.1/api/saltmere"})
	if err != nil {
		return nil, err
	}
	return contract.New(described)
}

// of is the contract with a role.
func (w *witness) of(r *Running, role string) (*contract.Contract, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if c := w.contracts[role]; c != nil {
		return c, nil
	}
	api, err := r.Service.Live(context.Background(), demo.Window)
	if err != nil {
		return nil, err
	}
	c, err := Contract(role, api.Catalog)
	w.contracts[role] = c
	return c, err
}

// again reports whether an answer is to be looked at, and counts it.
func (w *witness) again(key string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tried[key]++
	return w.tried[key] <= maxTries
}

// witnessed looks at the answers that a service gives to requests of the live harbour.
func (r *Running) witnessed(t testing.TB, next http.Handler) http.Handler {
	const at = "/api/" + demo.Window + "/"
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if strings.HasPrefix(req.URL.Path, "/manage/") && req.Method != http.MethodGet {
			r.callers.changed.Store(true) // another document may be live now, or other callers there
		}
		path, is := strings.CutPrefix(strings.ReplaceAll(req.URL.EscapedPath(), "%24", "$"), at)
		if !is || r.callers.changed.Load() || skips(path, req) {
			next.ServeHTTP(w, req)
			return
		}
		role := "board"
		if token, sent := strings.CutPrefix(req.Header.Get("Authorization"), "Bearer "); sent {
			known, _ := r.callers.roles.Load(token)
			role, _ = known.(string)
		}
		c, err := answers.of(r, role)
		if err != nil {
			t.Error(err)
			return
		}
		op := c.Find(req.Method, path)
		if op == nil {
			next.ServeHTTP(w, req)
			return
		}
		kept := &keeping{ResponseWriter: w, status: http.StatusOK}
		next.ServeHTTP(kept, req)
		if kind := w.Header().Get("Content-Type"); req.Header.Get("Accept") != "" && kind != "" && !strings.HasPrefix(kind, "application/json") {
			return // one of the other formats
		}
		key := fmt.Sprint(role, op.ID, kept.status, strings.Contains(req.URL.RawQuery, "select"))
		if kept.size > maxSize || r.callers.changed.Load() || kept.status == http.StatusNotModified || !answers.again(key) {
			return
		}
		e := contract.Exchange{Method: req.Method, Path: path, Query: req.URL.RawQuery, Status: kept.status, Kind: w.Header().Get("Content-Type"),
			Body: kept.body.Bytes()}
		switch w.Header().Get("Content-Encoding") {
		case "":
		case "gzip":
			z, err := gzip.NewReader(&kept.body)
			if err == nil {
				e.Body, err = io.ReadAll(z)
			}
			if err != nil {
				return // broken off
			}
		default:
			return
		}
		if wrong := c.Check(op, e); wrong != nil {
			t.Errorf("as %q, %s %s?%s is answered %d, not as described: %s\n%.600s", role, req.Method, path, req.URL.RawQuery, kept.status,
				strings.Join(wrong, "; "), e.Body)
			return
		}
		status := strconv.Itoa(kept.status)
		if !slices.Contains(op.Statuses(), status) {
			status = "default"
		}
		answers.mu.Lock()
		answers.seen[kindOf(op)+" "+status] = true
		answers.mu.Unlock()
	})
}

// skips passes over what asks for other answers than those that are described: other formats, and rows that compute or apply make others
// of.
func skips(path string, req *http.Request) bool {
	accept := strings.Join(req.Header.Values("Accept"), ",") + req.URL.RawQuery + req.Header.Get("OData-MaxVersion")
	for _, other := range []string{"metadata=", "IEEE754", "xml", "csv", "ndjson", "jsonl", "text/", "format", "apply", "compute", "4.0",
		"multipart", "_schema"} {
		if strings.Contains(accept, other) {
			return true
		}
	}
	return req.Method == http.MethodHead || strings.HasPrefix(path, "openapi.") || strings.Contains(req.Header.Get("Prefer"), "explain") ||
		strings.Contains(req.Header.Get("Content-Type"), "multipart")
}

// keeping keeps the beginning of an answer beside sending it.
type keeping struct {
	http.ResponseWriter
	status, size int
	body         bytes.Buffer
}

func (k *keeping) Unwrap() http.ResponseWriter { return k.ResponseWriter }

func (k *keeping) WriteHeader(status int) {
	k.status = status
	k.ResponseWriter.WriteHeader(status)
}

func (k *keeping) Write(p []byte) (int, error) {
	if k.size += len(p); k.size <= maxSize {
		k.body.Write(p)
	}
	return k.ResponseWriter.Write(p)
}
