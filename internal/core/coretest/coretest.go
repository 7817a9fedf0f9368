// Package coretest gives the tests of the core the Port of Saltmere without a database: its catalog as it was introspected,
// and its window document bound to it.
package coretest

import (
	_ "embed"
	"encoding/json"
	"flag"
	"os"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/query"
	"eagerwindow/internal/core/request"
	"eagerwindow/internal/core/window"
)

//go:embed catalog.json
var catalogJSON []byte

// Catalog is the harbour's catalog. A test of package postgres keeps it true to the database (-update writes it).
func Catalog(t testing.TB) *catalog.Catalog {
	t.Helper()
	c := &catalog.Catalog{}
	if err := json.Unmarshal(catalogJSON, c); err != nil {
		t.Fatal(err)
	}
	return c
}

// Saltmere is the demo's own document, bound.
func Saltmere(t testing.TB) (*model.Model, *access.Policy) {
	t.Helper()
	text, err := os.ReadFile("../../../demo/saltmere.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return Bind(t, string(text))
}

// Bind binds a document to the harbour's catalog.
func Bind(t testing.TB, document string) (*model.Model, *access.Policy) {
	t.Helper()
	doc, err := window.Parse([]byte(document), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	p, err := access.Bind(doc, Catalog(t))
	if err != nil {
		t.Fatal(err)
	}
	return p.Model(), p
}

// Request reads a request, whose options may have blanks in them, and what its caller may do.
func Request(t testing.TB, m *model.Model, p *access.Policy, caller access.Caller, path, query string) (*access.Scope, *request.Request,
	*query.Query) {
	t.Helper()
	scope, err := p.Scope(caller)
	if err != nil {
		t.Fatal(err)
	}
	r, err := request.Read(m, path, strings.ReplaceAll(query, " ", "%20"))
	if err != nil {
		t.Fatal(err)
	}
	q, err := r.Resolve()
	if err != nil {
		t.Fatal(err)
	}
	return scope, r, q
}

var update = flag.Bool("update", false, "write the golden files")

// Golden holds a text against a file, which -update writes anew: look at the difference then.
func Golden(t testing.TB, file, got string) {
	t.Helper()
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("the text differs from %s; look at it, and run with -update\n%s", file, got)
	}
}
