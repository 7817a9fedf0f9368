package server_test

import (
	"strings"
	"testing"
	"time"

	"eagerwindow/internal/identity"
)

// A token that an operator makes calls the live API as a role, for a while and as long as the operator is one; its making is in the audit.
func TestTrialTokens(t *testing.T) {
	t.Parallel()
	r := start(t)
	op := r.Operator
	for _, tt := range []struct {
		in   identity.NewTrial
		want string
	}{
		{identity.NewTrial{}, "a caller needs a role"}, {identity.NewTrial{Roles: []string{"agnt"}}, `did you mean "agent"?`},
		{identity.NewTrial{Roles: []string{"agent"}}, `needs the claim "agent_id"`}, {identity.NewTrial{Roles: []string{"board"}},
			"without a token"},
		{identity.NewTrial{Roles: []string{"office"}, Seconds: 3601}, "1 to 3600 seconds"}, {identity.NewTrial{Roles: []string{"office"},
			Seconds: -1}, "1 to 3600"},
	} {
		if _, err := op.TrialToken(t.Context(), "saltmere", tt.in); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %s", tt.in, err, tt.want)
		}
	}
	token, err := op.TrialToken(t.Context(), "saltmere", identity.NewTrial{Roles: []string{"agent"}, Claims: map[string]any{"agent_id": "3"}})
	if err != nil || token.ExpiresIn != 600 {
		t.Fatalf("%+v %v", token, err)
	}
	own := r.Send(t, r.Token(t, "agent"), "GET", "/api/saltmere/vessels?orderby=id", nil)
	if a := r.Send(t, token.AccessToken, "GET", "/api/saltmere/vessels?orderby=id", nil); a.Text != own.Text || a.StatusCode != 200 {
		t.Errorf("as agent 3: %s %.300s", a.Status, a.Text)
	}
	if a := r.Send(t, token.AccessToken, "GET", "/api/saltmere/inspections", nil); a.StatusCode != 403 {
		t.Errorf("what an agent may not: %s", a.Status)
	}
	for _, path := range []string{"/draft/saltmere/tugs", "/manage/windows"} {
		if a := r.Send(t, token.AccessToken, "GET", path, nil); a.StatusCode != 401 && a.StatusCode != 403 {
			t.Errorf("%s with it: %s %.200s", path, a.Status, a.Text)
		}
	}
	if a := r.Send(t, r.Token(t, "agent"), "POST", "/manage/windows/saltmere/tokens",
		strings.NewReader(`{"roles":["office"]}`)); a.StatusCode != 401 {
		t.Errorf("a caller makes a token: %s", a.Status)
	}
	if a := r.Send(t, op.Token, "GET", "/manage/audit?limit=3", nil); !strings.Contains(a.Text, "make token") || !strings.Contains(a.Text,
		`"agent_id":"3"`) {
		t.Errorf("the audit: %.400s", a.Text)
	}
	column(t, r.Records, "insert into eager_window.operator (email, password_hash) values ('second@saltmere.example', 'x')")
	column(t, r.Records, "update eager_window.operator set disabled = true where email = 'keeper@saltmere.example'")
	for end := time.Now().Add(10 * time.Second); r.Send(t, token.AccessToken, "GET", "/api/saltmere/vessels?top=1", nil).StatusCode != 401; {
		if time.Now().After(end) {
			t.Fatal("the token of one who is no operator any more is taken")
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// What operators ask of a draft is kept, the last two hundred of each; a repeat of a request with a key says that it is one.
func TestHistory(t *testing.T) {
	t.Parallel()
	r := start(t)
	op := r.Operator.Token
	for range 205 {
		r.Send(t, op, "GET", "/draft/saltmere/tugs?top=1", nil)
	}
	write(t, r, op, "PATCH", "/draft/saltmere/tugs/1", `{"bollard_pull_t":60}`, "Act-As", "office", "Rehearsal", "once", "Prefer",
		"return=minimal")
	list, err := r.Operator.Asked(t.Context(), "saltmere", 200)
	if err != nil || len(list) != 200 {
		t.Fatal(len(list), err)
	}
	if q := list[0]; q.Method != "PATCH" || q.Path != "tugs/1" || q.ActAs != "office" || q.Status != 204 ||
		q.Body != `{"bollard_pull_t":60}` ||
		!strings.Contains(string(q.Headers), "return=minimal") {
		t.Errorf("the last: %+v", q)
	}
	if q := list[1]; q.Path != "tugs?top=1" || !strings.Contains(q.Answer, "bollard_pull_t") {
		t.Errorf("the one before: %+v", q)
	}
	master := r.Token(t, "harbour_master")
	for i, want := range []string{"", "true"} {
		a := write(t, r, master, "POST", "/api/saltmere/tugs", `{"name":"Twice","bollard_pull_t":1}`, "Idempotency-Key", "twice")
		if a.StatusCode != 201 || a.Header.Get("Idempotency-Replayed") != want {
			t.Errorf("time %d: %s, replayed %q", i, a.Status, a.Header.Get("Idempotency-Replayed"))
		}
	}
}
