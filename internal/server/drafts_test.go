package server_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

// another is a second operator of a service, signed in.
func another(t *testing.T, r *harbourtest.Running) *client.Client {
	t.Helper()
	o, err := r.Operator.AddOperator(t.Context(), identity.NewOperator{Email: "ada@saltmere.example"})
	if err != nil {
		t.Fatal(err)
	}
	c := &client.Client{URL: r.URL}
	s, err := c.SignIn(t.Context(), o.Email, o.Password)
	if err != nil {
		t.Fatal(err)
	}
	c.Token = s.Token
	return c
}

// wants fails the test unless an error says something, or there is none where nothing is said.
func wants(t *testing.T, what string, err error, want string) {
	t.Helper()
	if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
		t.Errorf("%s: %v, want %q", what, err, want)
	}
}

// Two operators edit one draft: what touches is refused with both sides, what does not is put together, and nothing is lost.
func TestTwoOperators(t *testing.T) {
	t.Parallel()
	r := start(t)
	ctx, keeper, ada := t.Context(), r.Operator, another(t, r)
	first, err := keeper.Draft(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	edit := func(old, new string) string { return strings.Replace(first.Document, old, new, 1) }
	title := edit("title: Port of Saltmere", "title: Saltmere")
	about := edit("  about: All of it.", "  about: All.")
	otherTitle := edit("title: Port of Saltmere", "title: The port")
	if title == first.Document || about == edit("", "") && about == first.Document {
		t.Fatal("the demo's document is another one")
	}

	_, err = ada.Push(ctx, demo.Window, windows.Push{Document: otherTitle})
	wants(t, "a push of who has never seen the draft", err, "you have not seen it")
	if _, err := keeper.Push(ctx, demo.Window, windows.Push{Document: title, Base: first.Version}); err != nil {
		t.Fatal(err)
	}
	_, err = ada.Push(ctx, demo.Window, windows.Push{Document: otherTitle, Base: first.Version})
	wants(t, "a push that touches", err, "yours:\n    title: The port\n  the draft:\n    title: Saltmere")
	w, err := ada.Push(ctx, demo.Window, windows.Push{Document: strings.Replace(first.Document, "about: All of it.", "about: All.", 1),
		Base: first.Version})
	if err != nil || !strings.Contains(w.Merged, "title: Saltmere") || !strings.Contains(w.Merged, "about: All.") {
		t.Fatalf("a push that does not touch: %v\n%s", err, w.Merged)
	}
	// A pipeline that pushes the same file again, without what others have added, does not remove that.
	again, err := ada.Push(ctx, demo.Window, windows.Push{Document: strings.Replace(first.Document, "about: All of it.", "about: All.", 1)})
	if err != nil {
		t.Fatal(err)
	}
	if kept, err := ada.Draft(ctx, demo.Window); err != nil || kept.Document != w.Merged || kept.Version != again.DraftVersion {
		t.Errorf("the same push again made %d of %d, %v", again.DraftVersion, w.DraftVersion, err)
	}
	if _, err := ada.Push(ctx, demo.Window, windows.Push{Document: otherTitle, Replace: true}); err != nil {
		t.Fatal(err)
	}
	history, err := keeper.History(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	var how []string
	for _, v := range history {
		how = append(how, fmt.Sprintf("%d %s by %s +%d -%d", v.Number, v.How, v.SavedBy, v.Added, v.Removed))
	}
	want := "5 pushed by ada@saltmere.example +2 -2; 4 merged by ada@saltmere.example +1 -1; 3 pushed by keeper@saltmere.example +1 -1; " +
		"2 pushed by keeper@saltmere.example +3 -1; 1 pushed by keeper@saltmere.example +0 -0"
	if got := strings.Join(how, "; "); got != want {
		t.Errorf("history\n got %s\nwant %s", got, want)
	}
	if third, err := keeper.Version(ctx, demo.Window, 3); err != nil || third.Document != title {
		t.Errorf("version 3: %v", err)
	}
	_, err = keeper.Version(ctx, demo.Window, 99)
	wants(t, "a version that is not there", err, "no version 99")
	_, err = keeper.Push(ctx, demo.Window, windows.Push{Document: title, Base: 99})
	wants(t, "a base that is not there", err, "no version 99")
	if _, err := keeper.Discard(ctx, demo.Window); err != nil {
		t.Fatal(err)
	}
	if d, err := keeper.Draft(ctx, demo.Window); err != nil || d.Document != demo.Document {
		t.Errorf("after discarding: %v", err)
	}
}

// grants are what a document lets each role do with each resource, in words.
func grants(t *testing.T, document string) map[string]string {
	t.Helper()
	doc, err := window.Parse([]byte(document), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, role := range doc.Roles {
		for _, g := range role.May {
			text := ""
			for _, a := range g.Allow {
				text += fmt.Sprint(a.Operation, " ", a.Rows.Value, " ", valuesOf(a.Fields), " ", valuesOf(a.Except), "; ")
			}
			out[role.Name.Value+"/"+g.Resource.Value] = text
		}
	}
	return out
}

func valuesOf(list []window.Text) (out []string) {
	for _, t := range list {
		out = append(out, t.Value)
	}
	return out
}

// outside are the lines of a document without the grants of one role, which begin after the line of its may.
func outside(document, role string) string {
	var out []string
	in, block := false, -1
	for _, line := range strings.Split(document, "\n") {
		indent := len(line) - len(strings.TrimLeft(line, " "))
		switch {
		case indent == 2 && strings.HasPrefix(line, "  "+role+":"):
			in = true
		case in && indent <= 2 && line != "":
			in, block = false, -1
		case in && strings.HasPrefix(strings.TrimSpace(line), "may:"):
			block = indent
			continue
		case block >= 0 && in && (line == "" || indent > block):
			continue
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

// randomGrant is a change of what a role may do with a resource.
func randomGrant(g *rand.Rand, m *windows.ModelView) (role, resource string, change windows.GrantChange) {
	r := m.Resources[g.IntN(len(m.Resources))]
	role = []string{"agent", "pilot", "office", "harbour_master"}[g.IntN(4)]
	change = windows.GrantChange{}
	for _, op := range r.Operations {
		if g.IntN(3) == 0 {
			continue
		}
		c := &windows.OperationChange{}
		if g.IntN(3) == 0 && len(r.Key) > 0 && op != "create" {
			c.Rows = r.Key[0] + " ne null"
		}
		if op == "read" && g.IntN(3) == 0 && r.Name != "arrivals_board" && r.Name != "berth_load" {
			for _, f := range r.Fields {
				if g.IntN(2) == 0 || slices.Contains(r.Key, f.Name) {
					c.Fields = append(c.Fields, f.Name)
				}
			}
		}
		change[window.Operation(op)] = c
	}
	return role, r.Name, change
}

// A hundred random edits through the management API: what is not edited stays as it is, comments, order and all.
func TestEditsKeepTheDocument(t *testing.T) {
	t.Parallel()
	r := start(t)
	g := rand.New(rand.NewPCG(19, 1))
	commented := strings.ReplaceAll(demo.Document, "\n    may:\n", "\n    # what it may do\n    may:   # by resource\n")
	if _, err := r.Operator.Push(t.Context(), demo.Window, windows.Push{Document: commented, Replace: true}); err != nil {
		t.Fatal(err)
	}
	m, err := r.Service.ModelOf(t.Context(), demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	changed := 0
	for i := range 100 {
		before, err := r.Operator.Draft(t.Context(), demo.Window)
		if err != nil {
			t.Fatal(err)
		}
		role, resource, change := randomGrant(g, m)
		if _, err := r.Service.SetGrant(t.Context(), demo.Window, role, resource, change, demo.Operator); err != nil {
			t.Fatalf("edit %d, %s/%s %v: %v", i, role, resource, change, err)
		}
		after, err := r.Operator.Draft(t.Context(), demo.Window)
		if err != nil {
			t.Fatal(err)
		}
		if a, b := outside(before.Document, role), outside(after.Document, role); a != b {
			t.Fatalf("edit %d, %s/%s, changed what it should not:\n%s", i, role, resource, window.Diff(a, b, "before", "after"))
		}
		is := grants(t, after.Document)
		for crossing, was := range grants(t, before.Document) {
			if now, kept := is[crossing]; crossing != role+"/"+resource && (!kept || now != was) {
				t.Fatalf("edit %d, %s/%s: %s was %q, is %q", i, role, resource, crossing, was, now)
			}
		}
		if before.Document != after.Document {
			changed++
		}
	}
	if changed < 50 {
		t.Errorf("only %d edits changed anything", changed)
	}
	last, err := r.Operator.Draft(t.Context(), demo.Window)
	if err != nil || strings.Count(last.Document, "#") != strings.Count(commented, "#") {
		t.Errorf("%d comments are left of %d, %v", strings.Count(last.Document, "#"), strings.Count(commented, "#"), err)
	}
}

// Two operators edit grants at once, each of a role of their own: the last edit of each is there.
func TestEditsAtOnce(t *testing.T) {
	t.Parallel()
	r := start(t)
	ada := another(t, r)
	operators := []struct {
		c    *client.Client
		role string
	}{{r.Operator, "pilot"}, {ada, "agent"}}
	var wg sync.WaitGroup
	for _, o := range operators {
		wg.Go(func() {
			for i := range 25 {
				body := `{"read":{"rows":"id ne ` + fmt.Sprint(i) + `"}}`
				a := write(t, r, o.c.Token, "PUT", "/manage/windows/saltmere/grants/"+o.role+"/tugs", body, "Content-Type", "application/json")
				if a.StatusCode != 200 {
					t.Errorf("%s: %s %s", o.role, a.Status, a.Text)
				}
			}
		})
	}
	wg.Wait()
	d, err := r.Operator.Draft(t.Context(), demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	is := grants(t, d.Document)
	for _, o := range operators {
		if got := is[o.role+"/tugs"]; !strings.Contains(got, "id ne 24") {
			t.Errorf("%s: %q", o.role, got)
		}
	}
	if history, err := r.Operator.History(t.Context(), demo.Window); err != nil || len(history) != 52 {
		t.Errorf("%d versions, %v", len(history), err)
	}
}

// A hundred versions are kept, and no more.
func TestVersionsKept(t *testing.T) {
	t.Parallel()
	r := start(t)
	small := func(n int) string {
		return fmt.Sprintf("window: small\nsource: saltmere\ntitle: version %d\nresources: {tugs: {from: harbour.tug}}\n", n)
	}
	for n := range 104 {
		if _, err := r.Service.SaveDraft(context.Background(), "small", small(n), "a"); err != nil {
			t.Fatal(err)
		}
	}
	history, err := r.Operator.History(t.Context(), "small")
	if err != nil || len(history) != 100 || history[0].Number != 104 || history[99].Number != 5 {
		t.Errorf("%d versions, %v", len(history), err)
	}
	var refused *client.Refused
	if _, err := r.Operator.Discard(t.Context(), "small"); !errors.As(err, &refused) || refused.Code != "release.none" {
		t.Errorf("discarding what was never published: %v", err)
	}
}
