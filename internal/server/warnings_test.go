package server_test

import (
	"context"
	"strings"
	"testing"
)

// A document that is saved is reported what it allows and may not mean, with the place; one that means it is left alone.
func TestWarnings(t *testing.T) {
	t.Parallel()
	r := start(t)
	dsn := database(t, `create table account (id int generated always as identity primary key, name text not null, password_hash text,
			pincode text, token_count int, api_key text);
		create table big (id int primary key, kind text not null, owner_id int references account, day date);
		insert into big select n, 'k' || n % 7, null, '2026-01-01' from generate_series(1, 20000) n; create index on big (owner_id); analyze big`)
	document := func(may string) string {
		return "window: warned\nsource: " + dsn + "\nresources: {account: {}, big: {}}\nroles:\n  some:\n    claims: {me: integer}\n    may:\n" +
			may
	}
	for _, s := range []struct{ name, document, want string }{
		{"nothing", document("      big: {read: {rows: owner_id eq @caller/me}}\n      account: {read: {fields: [id, name, pincode, " +
			"token_count]}}\n"), ""},
		{"secrets", document("      account: read\n"), `role some may read password_hash of account, which looks like a secret; ` +
			`if it is one, say password_hash: {expose: false}|role some may read api_key of account`},
		{"a slow rule", document("      big: {read: {rows: kind eq 'k1'}}\n"),
			"line 8, column 13: role some, read of big: the rule compares kind, which no index begins with; big has about 20000 rows"},
		{"served by another field", document("      big: {read: {rows: kind eq 'k1' and owner_id eq @caller/me}}\n"), ""},
		{"no field", document("      big: {read: {rows: 1 eq 1}}\n"), `the rule "1 eq 1" names no field, so it holds for every row or for none`},
		{"two values", document("      big: {read: {rows: id eq 1 and (day eq null and id eq 2)}}\n"), "no row can meet the rule"},
		{"one of two values", document("      big: {read: {rows: id eq 1 or id eq 2}}\n"), ""},
		{"out of reach", document("      big: {read: {rows: owner/name eq 'x'}}\n"), "the rows depend on account, which the role may not read"},
		{"out of reach, many", strings.Replace(document("      account: {read: {fields: [id], rows: \"big/any(b: b/kind eq 'k1')\"}}\n"),
			"resources:", "resources:", 1), "the rows depend on big, which the role may not read"},
		{"anyone writes", "window: warned\nsource: " + dsn +
			"\nresources: {big: {}}\nroles:\n  all:\n    anonymous: true\n    may:\n      big: [read, create]\n",
			"role all may create big: anyone may, without a token"},
	} {
		w, err := r.Operator.PushDraft(context.Background(), "warned", s.document)
		if err != nil {
			t.Fatalf("%s: %v", s.name, err)
		}
		got := strings.Join(w.Warnings, "|")
		wants := strings.Split(s.want, "|")
		if s.want == "" && got != "" || s.want != "" && len(w.Warnings) != len(wants) {
			t.Errorf("%s: %q", s.name, w.Warnings)
			continue
		}
		for i := range w.Warnings {
			if !strings.Contains(w.Warnings[i], wants[i]) {
				t.Errorf("%s: %q, want %q", s.name, w.Warnings[i], wants[i])
			}
		}
	}
	// The demo means what it says.
	draft, err := r.Operator.Draft(context.Background(), "saltmere")
	if err != nil {
		t.Fatal(err)
	}
	if w, err := r.Operator.PushDraft(context.Background(), "saltmere", draft.Document); err != nil || len(w.Warnings) > 0 {
		t.Errorf("the demo: %q %v", w.Warnings, err)
	}
}
