package describe_test

import (
	"os"
	"strconv"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/window"
)

// An overlay is applied to the description each time it is made; what does not fit is reported with its line.
func TestOverlay(t *testing.T) {
	t.Parallel()
	harbour, err := os.ReadFile("../../../demo/saltmere.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	line := strings.Count(string(harbour), "\n") + 1
	const head = "---\noverlay: 1.0.0\ninfo: {title: Ours, version: 1.0.0}\nactions:\n"
	for _, tt := range []struct{ name, actions, path, want, mistake string }{
		{"a member", "  - {target: $.info, update: {x-team: quay}}", "info/x-team", `"quay"`, ""},
		{"deep", "  - {target: $.info, update: {contact: {url: https://quay.example}}}", "info/contact",
			`{"name":"Harbour office","email":"api@saltmere.example","url":"https://quay.example"}`, ""},
		{"by a filter", `  - {target: "$.paths.*.get[?@.operationId == 'list-tugs'].operationId", update: x}`, "paths//tugs/get/operationId",
			`"list-tugs"`,
			"is not in the description any more"},
		{"every summary", "  - {target: $.paths.*.*.summary, update: Ours}", "paths//tugs/get/summary", `"Ours"`, ""},
		{"taken out", "  - {target: \"$.paths['/tugs'].patch\", remove: true}", "paths//tugs/patch", "null", ""},
		{"taken out of a list", "  - {target: \"$.tags[?@.name == 'agents' || @.name == 'window']\", remove: true}", "tags/0/name", `"vessels"`,
			""},
		{"added to a list", "  - {target: $.servers, update: {url: https://api.saltmere.example}}", "servers/1/url",
			`"https://api.saltmere.example"`, ""},
		{"one after the other", "  - {target: $.info, update: {x-a: {b: 1}}}\n  - {target: \"$.info['x-a']\", update: {c: [2]}}", "info/x-a",
			`{"b":1,"c":[2]}`, ""},
		{"vanished", "  - {target: $.info, update: {x: 1}}\n  - target: $.paths['/tags']\n    remove: true", "", "",
			"line LINE+6, column 13: the overlay's target $.paths['/tags'] is not in the description any more"},
		{"no path", "  - {target: \"info[\", update: {x: 1}}", "", "", "line LINE+5, column 14: the target info[ is no JSONPath"},
		{"all of it", "  - {target: $, remove: true}", "", "", "can't be removed"},
		{"no target", "  - {update: {x: 1}}", "", "", "an action needs a target"},
		{"no act", "  - {target: $.info}", "", "", "needs update or remove"},
		{"another key", "  - {target: $.info, updates: {x: 1}}", "", "", `did you mean "update"?`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			text := strings.TrimSpace(string(harbour)) + "\n" + head + tt.actions + "\n"
			doc, err := window.Parse([]byte(text), func(string) (string, bool) { return "", false })
			var policy *access.Policy
			if err == nil {
				policy, err = access.Bind(doc, coretest.Catalog(t))
			}
			if err == nil {
				err = describe.CheckOverlay(policy)
			}
			want := strings.NewReplacer("LINE+5", strconv.Itoa(line+4), "LINE+6", strconv.Itoa(line+5)).Replace(tt.mistake)
			if want != "" {
				if err == nil || !strings.Contains(err.Error(), want) {
					t.Errorf("%v, want %q", err, want)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			out, err := describe.Describe(policy, scopeOf(t, policy, ""), place, "")
			if err != nil {
				t.Fatal(err)
			}
			if got := string(jsontree.Append(nil, lookUp(out, tt.path), false)); got != tt.want {
				t.Errorf("%s is %s, want %s", tt.path, got, tt.want)
			}
		})
	}
	for _, more := range []struct{ text, want string }{
		{"---\nopenapi: 3.1.0\n", "begins with \"overlay: 1.0.0\""}, {"---\noverlay: 2.0.0\nactions: [{target: $, update: {}}]\n",
			"1.0.0 is read here"},
		{head + "  - {target: $.info, update: {x: 1}}\n" + head + "  - {target: $.info, update: {x: 1}}\n", "there is an overlay already"},
	} {
		if _, err := window.Parse([]byte(strings.TrimSpace(string(harbour))+"\n"+more.text), nil); err == nil || !strings.Contains(err.Error(),
			more.want) {
			t.Errorf("%v, want %q", err, more.want)
		}
	}
}

// lookUp is what stands at a path, where a name may begin with a slash itself; nil where there is nothing.
func lookUp(v any, path string) any {
	for path != "" {
		at := strings.IndexByte(path[1:], '/') + 1
		if at == 0 {
			at = len(path)
		}
		name := path[:at]
		switch within := v.(type) {
		case *jsontree.Object:
			v = within.Get(name)
		case jsontree.List:
			i, err := strconv.Atoi(name)
			if err != nil {
				return nil
			}
			v = within[i]
		}
		path = strings.TrimPrefix(path[at:], "/")
	}
	return v
}
