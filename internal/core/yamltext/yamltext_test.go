package yamltext_test

import (
	"fmt"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/yamltext"
)

// A role is renamed, and the comment beside it stays.
func ExampleRespell() {
	lines := strings.Split("roles:\n  board: {}   # anyone", "\n")
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(strings.Join(lines, "\n")), &root); err != nil {
		panic(err)
	}
	name := root.Content[0].Content[1].Content[0]
	fmt.Println(yamltext.Respell(lines, name, "quay: board"))
	fmt.Println(strings.Join(lines, "\n"))
	// Output:
	// true
	// roles:
	//   "quay: board": {}   # anyone
}

// Whatever a text is, YAML reads what is written of it as that text, by itself and between braces.
func TestScalar(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"port_calls": "port_calls", "status eq 'expected'": "status eq 'expected'", "$statusCode == 200": "$statusCode == 200",
		"Müller": "Müller", "a b": "a b",
		"": `""`, "no: yes": `"no: yes"`, "true": `"true"`, "17": `"17"`, "null": `"null"`, "~": `"~"`, "a, b": `"a, b"`, "a #b": `"a #b"`,
		"[x]": `"[x]"`, "a ": `"a "`, " a": `" a"`, "- a": `"- a"`, "a\nb": `"a\nb"`, `say "x"`: `"say \"x\""`, "2026-07-01": `"2026-07-01"`,
		"'x'": `"'x'"`, "@caller/agent_id": `"@caller/agent_id"`, "a\x00": `"a\u0000"`,
	} {
		got := yamltext.Scalar(text)
		if got != want {
			t.Errorf("%q is written %s, want %s", text, got, want)
		}
		for _, document := range []string{"x: " + got, "x: {y: " + got + "}", "- [" + got + "]"} {
			var back yaml.Node
			if err := yaml.Unmarshal([]byte(document), &back); err != nil {
				t.Errorf("%s: %v", document, err)
				continue
			}
			leaf := &back
			for len(leaf.Content) > 0 {
				leaf = leaf.Content[len(leaf.Content)-1]
			}
			if leaf.Value != text || leaf.Tag != "!!str" {
				t.Errorf("%s reads as %q, %s", document, leaf.Value, leaf.Tag)
			}
		}
	}
}

// Only the scalar changes, in whatever quotes it stands; one on several lines is left alone.
func TestRespell(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ name, text, want string }{
		{"plain", "x: old # why", "x: new # why"},
		{"between others", "x: [a, old, b]", "x: [a, new, b]"},
		{"in double quotes", `x: "old"  # "old"`, `x: new  # "old"`},
		{"in single quotes", "x: 'old', 'y'", ""}, // no YAML
		{"with quotes in it", `x: {y: 'it''s old', z: 'b'}`, `x: {y: new, z: 'b'}`},
		{"with escapes in it", `x: {y: "an \"old\" one\\", z: "b"}`, `x: {y: new, z: "b"}`},
		{"after letters of two bytes", "äöü: {ß: 'ö', x: old}", "äöü: {ß: 'ö', x: new}"},
		{"a block", "x: >\n  old\n  older", ""},
		{"in quotes over two lines", "x: \"old\n  er\"", ""},
		{"plain over two lines", "x: old\n  er", ""},
	} {
		var root yaml.Node
		err := yaml.Unmarshal([]byte(tt.text), &root)
		lines := strings.Split(tt.text, "\n")
		done := err == nil && yamltext.Respell(lines, old(&root), "new")
		if want := tt.want; done != (want != "") || done && strings.Join(lines, "\n") != want || !done && strings.Join(lines, "\n") != tt.text {
			t.Errorf("%s: %t\n%s\nwant\n%s", tt.name, done, strings.Join(lines, "\n"), want)
		}
	}
}

// old is the scalar that has this in it.
func old(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.ScalarNode && strings.Contains(n.Value, "old") {
		return n
	}
	for _, inner := range n.Content {
		if found := old(inner); found != nil {
			return found
		}
	}
	return nil
}
