package internal_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// core is the order of the core's packages: each may import those before it.
var core = []string{"fault", "jsontext", "jsontree", "yamltext", "snippet", "catalog", "window", "model",
	"syntax", "query", "request", "access",
	"payload", "change",
	"statement",
	"contract", "generate", "suite", "report", "describe", "probes", "compare", "doctor"}

// around is the order of the packages around the core.
var around = []string{"sized", "traffic", "encode", "seal", "postgres", "records", "data", "windows", "identity", "service"}

// formats are libraries that only read and write formats and names.
var formats = []string{"go.yaml.in/yaml/v4", "github.com/jinzhu/inflection",
	"github.com/pmezard/go-difflib/difflib", "github.com/theory/jsonpath", "github.com/theory/jsonpath/spec",
	"github.com/santhosh-tekuri/jsonschema/v6", "golang.org/x/text/language", "golang.org/x/text/message"}

// Who may import whom, as the architecture has it.
func TestImports(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "eagerwindow/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	packages := map[string][]string{}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		packages[p.ImportPath] = p.Imports
	}
	if len(packages) < 15 {
		t.Fatalf("go list found %d packages only", len(packages))
	}
	for path, imports := range packages {
		for _, imported := range imports {
			if why := forbidden(path, imported); why != "" {
				t.Errorf("%s imports %s: %s", path, imported, why)
			}
		}
	}
}

func TestForbidden(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		path, imported string
		forbidden      bool
	}{
		{"eagerwindow/internal/core/model", "eagerwindow/internal/core/request", true},
		{"eagerwindow/internal/core/request", "eagerwindow/internal/core/model", false},
		{"eagerwindow/internal/core/model", "net/http", true}, {"eagerwindow/internal/core/model", "github.com/jackc/pgx/v5", true},
		{"eagerwindow/internal/core/model", "strings", false}, {"eagerwindow/internal/cli", "eagerwindow/internal/server", true},
		{"eagerwindow/cmd/eager", "eagerwindow/internal/server", false}, {"eagerwindow/internal/records", "eagerwindow/internal/service", true},
		{"eagerwindow/internal/data", "eagerwindow/internal/windows", true},
		{"eagerwindow/internal/identity", "eagerwindow/internal/windows", false},
		{"eagerwindow/internal/server", "eagerwindow/internal/postgres", true}, {"eagerwindow/internal/encode", "github.com/jackc/pgx/v5", true},
		{"eagerwindow/internal/data", "eagerwindow/internal/client", true},
		{"eagerwindow/internal/postgres", "eagerwindow/internal/encode", false},
	} {
		if got := forbidden(tt.path, tt.imported) != ""; got != tt.forbidden {
			t.Errorf("forbidden(%s, %s) = %v", tt.path, tt.imported, got)
		}
	}
}

// forbidden says why one package may not import another, "" where it may.
func forbidden(path, imported string) string {
	const in = "eagerwindow/internal/"
	name, isCore := strings.CutPrefix(path, in+"core/")
	if isCore && name != "coretest" { // it serves the core's tests
		other, alsoCore := strings.CutPrefix(imported, in+"core/")
		switch {
		case alsoCore && slices.Index(core, other) >= slices.Index(core, name):
			return "it does not stand before it"
		case !alsoCore && strings.HasPrefix(imported, "eagerwindow/"):
			return "the core knows only the core"
		case !alsoCore && strings.Contains(imported, ".") && !slices.Contains(formats, imported):
			return "the core takes only libraries of formats"
		case slices.Contains([]string{"net/http", "database/sql", "os", "os/exec"}, imported):
			return "the core knows no outside"
		}
	}
	own, other := slices.Index(around, strings.TrimPrefix(path, in)), slices.Index(around, strings.TrimPrefix(imported, in))
	switch {
	case own >= 0 && other >= own:
		return "it does not stand before it"
	case own >= 0 && other < 0 && strings.HasPrefix(imported, in) && !strings.HasPrefix(imported, in+"core/"):
		return "it stands below it"
	case path == in+"encode" && strings.Contains(imported, "jackc/pgx"):
		return "rows are encoded without a driver"
	case path == in+"server" && slices.Contains([]string{"postgres", "records"}, strings.TrimPrefix(imported, in)):
		return "the server knows no database"
	}
	if (imported == in+"server" || imported == in+"cli") && !strings.HasPrefix(path, "eagerwindow/cmd/") && path != "eagerwindow/bench" {
		return "only cmd puts the outside together"
	}
	return ""
}
