package server_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// Client libraries from npm, unchanged, each by a script that reads, filters, expands, pages, creates, changes with a version, sends a
// batch and calls functions, as far as the library can. A script prints "ok" or "no" for each.
func TestClientLibraries(t *testing.T) {
	t.Parallel()
	r := start(t)
	for _, tt := range []struct {
		script string
		tries  int
	}{{"ej2.mjs", 3}, {"lightdata.mjs", 5}, {"o.mjs", 5}, {"odataclient.mjs", 4}, {"odatajs.mjs", 4}, {"tsodata.mjs", 6}} {
		t.Run(tt.script, func(t *testing.T) {
			tried(t, r, tt.tries, "standard", "node", filepath.Join("clients", tt.script))
		})
	}
	t.Run("typed.ts", func(t *testing.T) {
		dir := t.TempDir()
		for _, name := range []string{"typed.ts", "tsconfig.json"} {
			text, err := os.ReadFile(filepath.Join("standard", "clients", name))
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		modules, err := filepath.Abs("standard/node_modules")
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(modules, filepath.Join(dir, "node_modules")); err != nil {
			t.Fatal(err)
		}
		metadata := get(t, r, r.Token(t, "harbour_master"), "/api/saltmere/$metadata", "OData-MaxVersion", "4.0")
		if err := os.WriteFile(filepath.Join(dir, "metadata.xml"), []byte(metadata.Text), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, line := range []string{
			"node_modules/.bin/odata2ts -s metadata.xml -o generated -m all -e ts -t tsconfig.json -name Saltmere",
			"node_modules/.bin/tsc -p tsconfig.json --outDir compiled",
		} {
			run(t, r, dir, strings.Fields(line)...)
		}
		tried(t, r, 5, dir, "node", "compiled/typed.js")
	})
}

// tried runs a script of tries and reports those that did not hold.
func tried(t *testing.T, r *harbourtest.Running, tries int, dir string, args ...string) {
	t.Helper()
	out := run(t, r, dir, args...)
	if held := strings.Count("\n"+out, "\nok "); held != tries || strings.Contains("\n"+out, "\nno ") {
		t.Errorf("%d of %d tries held\n%s", held, tries, out)
	}
}

// run starts a program that knows the API and a caller, and returns what it prints.
func run(t *testing.T, r *harbourtest.Running, dir string, args ...string) string {
	t.Helper()
	_, err := os.Stat("standard/node_modules")
	harbourtest.Need(t, err == nil, "the readers of the standard are not installed; run make setup-test")
	cmd := exec.CommandContext(t.Context(), args[0], args[1:]...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "EAGER_API="+r.URL+"/api/saltmere", "EAGER_CALLER="+r.Token(t, "harbour_master"))
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && (!exited || !strings.Contains("\n"+string(out), "\nno ")) {
		t.Fatalf("%s: %v\n%.2000s", args[0], err, out)
	}
	return string(out)
}
