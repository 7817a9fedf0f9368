package window

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

const edited = `window: harbour
title: Port   # of Saltmere
# what callers see
resources:
  vessels:
    from: harbour.vessel
    fields:
      note: {expose: false}  # kept to ourselves
    relations:
      calls: {to: calls}
  tides: {from: harbour.tide}   # no key

  calls:
    from: harbour.port_call
    order: [eta desc, id]
roles:
  agent:
    may: {vessels: read, "*": read}
sign_in:
  accounts: {default_role: agent}
`

// Edits change the lines that they must; everything else stays as it was written.
func TestApply(t *testing.T) {
	for _, tt := range []struct {
		name     string
		edits    []Edit
		old, new string // the lines that change
		err      string
	}{
		{name: "a scalar keeps its comment", edits: []Edit{{At: []string{"title"}, Value: []byte(`"The port"`)}},
			old: "title: Port   # of Saltmere", new: "title: The port  # of Saltmere"},
		{name: "in braces", edits: []Edit{{At: []string{"resources", "vessels", "fields", "note", "expose"}, Value: []byte(`true`)}},
			old: "note: {expose: false}  #", new: "note: {expose: true}  #"},
		{name: "a new field", edits: []Edit{{At: []string{"resources", "vessels", "fields", "imo", "name"}, Value: []byte(`"imo_number"`)}},
			old: "# kept to ourselves\n", new: "# kept to ourselves\n      imo: {name: imo_number}\n"},
		{name: "into braces that then hold a mapping", edits: []Edit{{At: []string{"resources", "tides", "page", "max"}, Value: []byte(`500`)}},
			old: "  tides: {from: harbour.tide}   # no key\n",
			new: "  tides:  # no key\n    from: harbour.tide\n    page: {max: 500}\n"},
		{name: "into braces", edits: []Edit{{At: []string{"resources", "tides", "key"}, Value: []byte(`["at","place"]`)}},
			old: "{from: harbour.tide}   # no key", new: "{from: harbour.tide, key: [at, place]}  # no key"},
		{name: "a new resource goes last", edits: []Edit{{At: []string{"resources", "tugs", "from"}, Value: []byte(`"harbour.tug"`)}},
			old: "order: [eta desc, id]\n", new: "order: [eta desc, id]\n  tugs: {from: harbour.tug}\n"},
		{name: "a new section", edits: []Edit{{At: []string{"publish", "require"}, Value: []byte(`["access"]`)}},
			old: "{default_role: agent}\n", new: "{default_role: agent}\npublish: {require: [access]}\n"},
		{name: "removing the last field removes fields", edits: []Edit{{At: []string{"resources", "vessels", "fields", "note"}}},
			old: "    fields:\n      note: {expose: false}  # kept to ourselves\n", new: ""},
		{name: "removing in braces", edits: []Edit{{At: []string{"roles", "agent", "may", "vessels"}}},
			old: `{vessels: read, "*": read}`, new: `{"*": read}`},
		{name: "a role without grants stays", edits: []Edit{{At: []string{"roles", "agent", "may", "vessels"}},
			{At: []string{"roles", "agent", "may", "*"}}}, old: "  agent:\n    may: {vessels: read, \"*\": read}\n", new: "  agent:\n"},
		{name: "a resource without fields stays", edits: []Edit{{At: []string{"resources", "tides", "from"}}},
			old: "  tides: {from: harbour.tide}   # no key\n", new: "  tides: {}  # no key\n"},
		{name: "removing a resource", edits: []Edit{{At: []string{"resources", "tides"}}},
			old: "  tides: {from: harbour.tide}   # no key\n", new: ""},
		{name: "removing what is not there", edits: []Edit{{At: []string{"resources", "x", "y"}}}},
		{name: "a role is renamed where it is named", edits: []Edit{{At: []string{"roles", "agent"}, Rename: "shipper"}},
			old: "  agent:\n    may: {vessels: read, \"*\": read}\nsign_in:\n  accounts: {default_role: agent}",
			new: "  shipper:\n    may: {vessels: read, \"*\": read}\nsign_in:\n  accounts: {default_role: shipper}"},
		{name: "a text that would be a number is quoted", edits: []Edit{{At: []string{"title"}, Value: []byte(`"7"`)}},
			old: "title: Port   #", new: `title: "7"  #`},
		{name: "a new role", edits: []Edit{{At: []string{"roles", "clerk"}, Value: []byte(`{"may":{}}`)}},
			old: "\nsign_in", new: "\n  clerk: {may: {}}\nsign_in"},
		{name: "no path", edits: []Edit{{}}, err: `"at" is empty`},
		{name: "renaming what is not there", edits: []Edit{{At: []string{"roles", "x"}, Rename: "y"}}, err: `the document has no "roles.x"`},
		{name: "renaming to a name that is taken", edits: []Edit{{At: []string{"resources", "tides"}, Rename: "calls"}},
			err: `there is a "calls" already, in line 13`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := Apply([]byte(edited), tt.edits)
			if tt.err != "" {
				if err == nil || !strings.Contains(err.Error(), tt.err) {
					t.Fatalf("%v, want %s", err, tt.err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if want := strings.Replace(edited, tt.old, tt.new, 1); string(got) != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
			if tt.old != "" && !strings.Contains(edited, tt.old) {
				t.Errorf("the document has no %q", tt.old)
			}
		})
	}
}

// A resource that is renamed keeps its grants and the relations that lead to it.
func TestRenameResource(t *testing.T) {
	got, err := Apply([]byte(edited), []Edit{{At: []string{"resources", "calls"}, Rename: "port_calls"},
		{At: []string{"resources", "vessels"}, Rename: "ships"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"\n  port_calls:\n", "calls: {to: port_calls}", "\n  ships:\n", `may: {ships: read, "*": read}`} {
		if !strings.Contains(string(got), want) {
			t.Errorf("%q is missing in\n%s", want, got)
		}
	}
}

// Whatever is edited, the text stays YAML that says what was asked for.
func FuzzApply(f *testing.F) {
	f.Add(edited, "resources", "tides", "k", `{"a":[1,"x"]}`)
	f.Add("{a: {b: c}}", "a", "b", "c", `"x: y"`)
	f.Add("a:\nb: 1\n", "a", "b", "c", `"- "`)
	f.Fuzz(func(t *testing.T, text, a, b, c, value string) {
		var want string
		if !utf8.ValidString(a+b+c) || json.Unmarshal([]byte(value), &want) != nil {
			return
		}
		got, err := Apply([]byte(text), []Edit{{At: []string{a, b, c}, Value: []byte(value)}})
		if err != nil {
			return
		}
		var read map[string]map[string]map[string]any
		if err := yaml.Unmarshal(got, &read); err != nil && yaml.Unmarshal([]byte(text), &map[string]map[string]map[string]any{}) == nil {
			t.Errorf("%q at %q %q %q of\n%s\ngives\n%s\n%v", value, a, b, c, text, got, err)
		} else if err == nil && read[a][b][c] != any(want) {
			t.Errorf("%q at %q %q %q of\n%s\ngives\n%s", value, a, b, c, text, got)
		}
	})
}

// A role that an edit has made in braces takes grants.
func TestGrantOfNewRole(t *testing.T) {
	for _, value := range []string{`{"may":{}}`, `{}`, `{"about":"A clerk."}`, `{"may":{"vessels":"read"}}`} {
		text, err := Apply([]byte(edited), []Edit{{At: []string{"roles", "clerk"}, Value: []byte(value)}})
		if err != nil {
			t.Fatal(err)
		}
		got, err := SetGrant(text, "clerk", "calls", []*Allowance{{Operation: Read}, {Operation: Create}})
		if err != nil {
			t.Fatalf("%s: %v", value, err)
		}
		g, own, err := GrantOf(got, "clerk", "calls")
		if err != nil || !own || len(g.Allow) != 2 {
			t.Errorf("%s: %+v %v of\n%s", value, g, err, got)
		}
	}
}
