package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every code of a refusal is in docs/errors.md, and every code there is one that the program has.
func TestErrorCodes(t *testing.T) {
	text, err := os.ReadFile("../../docs/errors.md")
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	var families []string
	for _, m := range regexp.MustCompile("`([a-z_]+\\.(?:[a-z_]+|\\*))`").FindAllStringSubmatch(string(text), -1) {
		if family, ok := strings.CutSuffix(m[1], "*"); ok {
			families = append(families, family)
		}
		told[m[1]] = true
	}
	used := map[string]string{}
	code := regexp.MustCompile(`^"[a-z_]+\.[a-z_]+"$`)
	other := map[string]bool{"index.html": true, "login.json": true, "drafts.json": true, "browsers.origins": true,
		"description.public": true, "postmaster.pid": true, "server.log": true, "odata.maxpagesize": true,
		"eager_window.schema_version": true}
	err = filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && filepath.Base(path) != "observe.go" && lit.Kind == token.STRING && code.MatchString(lit.Value) {
				if name := strings.Trim(lit.Value, `"`); !other[name] {
					used[name] = path
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name, path := range used {
		family := false
		for _, f := range families {
			family = family || strings.HasPrefix(name, f)
		}
		if !told[name] && !family {
			t.Errorf("%s has the code %s, which docs/errors.md does not tell", path, name)
		}
	}
	for name := range told {
		if used[name] == "" && !strings.HasSuffix(name, "*") {
			t.Errorf("docs/errors.md tells of %s, which nothing says", name)
		}
	}
	if len(used) < 100 {
		t.Errorf("only %d codes were found", len(used))
	}
}

// Every test that the documents name as a proof is there.
func TestProofs(t *testing.T) {
	there := map[string]bool{}
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && d.Name() == "node_modules" {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, "_test.go") {
			return nil
		}
		text, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`).FindAllStringSubmatch(string(text), -1) {
			there[m[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for _, file := range []string{"conformance.md", "security.md"} {
		text, err := os.ReadFile("../../docs/" + file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile("`(?:\\w+\\.)?((?:Test|Fuzz)\\w+)`").FindAllStringSubmatch(string(text), -1) {
			named++
			if !there[m[1]] {
				t.Errorf("docs/%s names %s, which is no test", file, m[1])
			}
		}
	}
	if named < 40 {
		t.Errorf("only %d tests are named", named)
	}
}
