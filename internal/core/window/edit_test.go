package window_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/core/window"
)

const edited = `window: w # ours
source: s

roles:
  # the first
  agent:
    about: An agent.
    may:
      vessels: read   # all of them

      # planned by agents
      port_calls:
        # not the remarks
        read: {rows: "a eq 1", except: [remarks]}
        update:
          fields: [eta]
      berths: read
  master:
    may: {"*": [read, create], dues: []}
  empty:
  inline: {may: {berths: read}}

sign_in: {clients: true}
`

func text(s string) window.Text { return window.Text{Value: s} }

// A grant changes in its own lines; comments, order and spelling of the rest stay.
func TestSetGrant(t *testing.T) {
	t.Parallel()
	read := &window.Allowance{Operation: window.Read, Rows: text("a eq 1"), Except: []window.Text{text("remarks")}}
	update := &window.Allowance{Operation: window.Update, Fields: []window.Text{text("eta"), text("etd")}}
	plain := func(ops ...window.Operation) (list []*window.Allowance) {
		for _, op := range ops {
			list = append(list, &window.Allowance{Operation: op})
		}
		return list
	}
	replaced := func(old, new string) string { return strings.Replace(edited, old, new, 1) }
	for _, tt := range []struct {
		name, role, resource string
		allow                []*window.Allowance
		want                 string
	}{
		{"one operation of several", "agent", "port_calls", []*window.Allowance{read, update},
			replaced("        update:\n          fields: [eta]\n", "        update: {fields: [eta, etd]}\n")},
		{"one more", "agent", "port_calls", append([]*window.Allowance{read}, plain(window.Delete)...),
			replaced("        update:\n          fields: [eta]\n", "        delete: {}\n")},
		{"without limits", "agent", "port_calls", plain(window.Read),
			replaced(edited[strings.Index(edited, "      port_calls:"):strings.Index(edited, "      berths: read")], "      port_calls: read\n")},
		{"gone", "agent", "port_calls", nil,
			replaced(edited[strings.Index(edited, "      port_calls:"):strings.Index(edited, "      berths: read")], "")},
		{"a word becomes lines", "agent", "vessels", []*window.Allowance{{Operation: window.Read, Rows: text("name eq 'a, b' and x in (1,2)")}},
			replaced("      vessels: read   # all of them\n", "      vessels:\n        read: {rows: \"name eq 'a, b' and x in (1,2)\"}\n")},
		{"new", "agent", "tugs", plain(window.Read, window.Create),
			replaced("      berths: read\n", "      berths: read\n      tugs: [read, create]\n")},
		{"beside all others", "master", "tugs", plain(window.Read),
			replaced(`    may: {"*": [read, create], dues: []}`, "    may:\n      \"*\": [read, create]\n      dues: []\n      tugs: read")},
		{"nothing, against all others", "master", "tugs", nil, replaced(`    may: {"*": [read, create], dues: []}`,
			"    may:\n      \"*\": [read, create]\n      dues: []\n      tugs: []")},
		{"the first", "empty", "tugs", []*window.Allowance{{Operation: window.Create,
			Set: []window.Preset{{Field: text("on"), Value: text("@caller/me")}}}},
			replaced("  empty:\n", "  empty:\n    may:\n      tugs:\n        create: {set: {on: \"@caller/me\"}}\n")},
		{"a role in braces", "inline", "tugs", plain(window.Read),
			replaced("  inline: {may: {berths: read}}\n", "  inline:\n    may:\n      berths: read\n      tugs: read\n")},
	} {
		got, err := window.SetGrant([]byte(edited), tt.role, tt.resource, tt.allow)
		if err != nil || string(got) != tt.want {
			t.Errorf("%s: %v, got\n%s\nwant\n%s", tt.name, err, got, tt.want)
			continue
		}
		again, err := window.SetGrant(got, tt.role, tt.resource, tt.allow)
		if err != nil || string(again) != string(got) {
			t.Errorf("%s: a second time it is\n%s, %v", tt.name, again, err)
		}
		if _, err := window.Parse(got, environment); err != nil && !strings.Contains(err.Error(), "role") {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
	for role, want := range map[string]string{"none": `no role "none"`} {
		if _, err := window.SetGrant([]byte(edited), role, "tugs", plain(window.Read)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", role, err, want)
		}
	}
	g, own, err := window.GrantOf([]byte(edited), "agent", "port_calls")
	if err != nil || !own || len(g.Allow) != 2 || g.Allow[0].Rows.Value != "a eq 1" {
		t.Errorf("%+v %v %v", g, own, err)
	}
	if g, own, err = window.GrantOf([]byte(edited), "master", "tugs"); err != nil || own || len(g.Allow) != 2 {
		t.Errorf("%+v %v %v", g, own, err)
	}
}
