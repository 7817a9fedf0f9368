package server_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"eagerwindow/internal/core/generate"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/snippet"
	"eagerwindow/internal/harbourtest"
)

// Two linters with the rules that they recommend have nothing to say against a description, in any version of OpenAPI.
func TestLinters(t *testing.T) {
	t.Parallel()
	r := start(t)
	args := []string{"lint.mjs"}
	for i, query := range []string{"", "?role=agent&formats=all", "?openapi=3.0&role=pilot", "?openapi=2.0&role=agent"} {
		file := filepath.Join(t.TempDir(), "openapi"+string(rune('0'+i))+".json")
		writeFile(t, file, get(t, r, "", "/describe/saltmere/openapi.json"+query).Raw)
		args = append(args, file)
	}
	if out := run(t, r, "standard", append([]string{"node"}, args...)...); out != "" {
		t.Errorf("%.4000s", out)
	}
}

func writeFile(t *testing.T, file, text string) {
	t.Helper()
	err := os.MkdirAll(filepath.Dir(file), 0o755)
	if err == nil {
		err = os.WriteFile(file, []byte(text), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func readFile(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// Clients that are generated from the description compile as strictly as can be, and read, create, change with a version and delete without
// losing a digit: by our own generators and by the usual ones.
func TestGeneratedClients(t *testing.T) {
	t.Parallel()
	r := start(t)
	text := get(t, r, "", "/describe/saltmere/openapi.json?role=harbour_master").Raw
	v, err := jsontree.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	doc := v.(*jsontree.Object)
	modules, err := filepath.Abs("standard/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	api, token := r.URL+"/api/saltmere", r.Token(t, "harbour_master")
	typescript := func(t *testing.T, types func(dir string)) {
		t.Parallel()
		dir := t.TempDir()
		writeFile(t, filepath.Join(dir, "fetch.ts"), readFile(t, "standard/clients/fetch.ts"))
		writeFile(t, filepath.Join(dir, "tsconfig.json"), readFile(t, "standard/clients/fetch.tsconfig.json"))
		writeFile(t, filepath.Join(dir, "package.json"), `{"type": "module"}`)
		if err := os.Symlink(modules, filepath.Join(dir, "node_modules")); err != nil {
			t.Fatal(err)
		}
		types(dir)
		run(t, r, dir, "node_modules/.bin/tsc", "-p", "tsconfig.json")
		if out, want := run(t, r, dir, "node", "compiled/fetch.js", api, token), "Bram number 1234.5 1234.6 412 204\n"; out != want {
			t.Errorf("got %q, want %q", out, want)
		}
	}
	t.Run("TypeScript", func(t *testing.T) {
		typescript(t, func(dir string) { writeFile(t, filepath.Join(dir, "types.ts"), generate.TypeScript(doc)) })
	})
	t.Run("openapi-typescript", func(t *testing.T) {
		typescript(t, func(dir string) {
			writeFile(t, filepath.Join(dir, "openapi.json"), text)
			run(t, r, dir, "node_modules/.bin/openapi-typescript", "openapi.json", "-o", "types.ts")
		})
	})
	t.Run("Go", func(t *testing.T) {
		t.Parallel()
		dir := t.TempDir()
		out, err := generate.Go(doc, "saltmere")
		if err != nil {
			t.Fatal(err)
		}
		writeFile(t, filepath.Join(dir, "go.mod"), "module ownclient\n\ngo 1.26\n")
		writeFile(t, filepath.Join(dir, "saltmere/saltmere.go"), string(out))
		writeFile(t, filepath.Join(dir, "main.go"), readFile(t, "testdata/ownclient/main.go.txt"))
		run(t, r, dir, "go", "vet", "./...")
		if out, want := run(t, r, dir, "go", "run", ".", api, token), "Bram 1234.5 1234.6 412\n"; out != want {
			t.Errorf("got %q, want %q", out, want)
		}
	})
	t.Run("oapi-codegen", func(t *testing.T) {
		t.Parallel()
		dir := t.TempDir()
		for _, name := range []string{"go.mod", "go.sum", "main.go", "config.yaml"} {
			writeFile(t, filepath.Join(dir, name), readFile(t, filepath.Join("standard/goclient", name)))
		}
		writeFile(t, filepath.Join(dir, "openapi.json"), get(t, r, "",
			"/describe/saltmere/openapi.json?role=harbour_master&resource=tugs&openapi=3.0").Raw)
		writeFile(t, filepath.Join(dir, "client/doc.go"), "// Package client is generated.\npackage client\n")
		run(t, r, dir, "go", "tool", "oapi-codegen", "-config", "config.yaml", "openapi.json")
		if out, want := run(t, r, dir, "go", "run", ".", api, token), "Bram 1234.5 1234.6 412 204\n"; out != want {
			t.Errorf("got %q, want %q", out, want)
		}
	})
}

// Requests that people copy run as they stand.
func TestSnippets(t *testing.T) {
	t.Parallel()
	r := start(t)
	token := r.Token(t, "harbour_master")
	for _, tt := range []struct {
		name    string
		request snippet.Request
		want    string
	}{
		{"read", snippet.Request{Method: "GET", URL: r.URL + "/api/saltmere/tugs", Token: true, Query: []snippet.Pair{
			{Name: "filter", Value: "name eq 'Bram' or name eq 'it''s & \"100 %\" +1 $HOME `x` \\n ${y}'"}, {Name: "select", Value: "name"}}},
			`"name":"Bram"`},
		{"write", snippet.Request{Method: "PATCH", URL: r.URL + "/api/saltmere/tugs/1", Token: true, Headers: []snippet.Pair{
			{Name: "If-Match", Value: `"none"`}}, Body: `{"name":"it's \"100 %\" $HOME ` + "`x`" + ` ${y} é"}`}, `version.changed`},
		{"public", snippet.Request{Method: "GET", URL: r.URL + "/api/saltmere/arrivals_board/$count"}, "200"},
	} {
		for i, l := range snippet.Languages {
			if tt.name == "public" && i > 0 {
				break
			}
			t.Run(tt.name+" "+l.Name, func(t *testing.T) {
				t.Parallel()
				dir, text := t.TempDir(), l.Write(tt.request)
				var cmd *exec.Cmd
				switch l.Name {
				case "curl":
					cmd = exec.CommandContext(t.Context(), "sh", "-c", strings.TrimSpace(text)+" -s -w '%{http_code}'")
				case "JavaScript":
					writeFile(t, filepath.Join(dir, "ask.mjs"), text)
					cmd = exec.CommandContext(t.Context(), "node", "ask.mjs")
				case "Go":
					writeFile(t, filepath.Join(dir, "main.go"), text)
					cmd = exec.CommandContext(t.Context(), "go", "run", "main.go")
				case "Python":
					writeFile(t, filepath.Join(dir, "ask.py"), text)
					cmd = exec.CommandContext(t.Context(), "python3", "ask.py")
				default:
					if _, err := exec.LookPath("http"); err != nil {
						harbourtest.Need(t, false, "HTTPie is not installed; run make setup-test")
					}
					cmd = exec.CommandContext(t.Context(), "sh", "-c", text)
				}
				if _, err := exec.LookPath(cmd.Args[0]); err != nil {
					harbourtest.Need(t, false, cmd.Args[0]+" is not installed")
				}
				cmd.Dir, cmd.Env = dir, append(os.Environ(), "TOKEN="+token)
				out, err := cmd.CombinedOutput()
				if err != nil || !bytes.Contains(out, []byte(tt.want)) {
					t.Errorf("%v\n%s\n%s", err, text, out)
				}
			})
		}
	}
}
