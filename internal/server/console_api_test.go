package server_test

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"eagerwindow/demo"
	"eagerwindow/internal/client"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
	"eagerwindow/internal/windows"
)

// A sketch edits the text, says what it means, and saves nothing.
func TestSketch(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), start(t)
	before, err := r.Operator.Draft(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	at := func(path ...string) window.Edit { return window.Edit{At: path} }
	value := func(json string, path ...string) windows.SketchEdit {
		return windows.SketchEdit{Edit: window.Edit{At: path, Value: []byte(json)}}
	}
	for _, tt := range []struct {
		name     string
		edits    []windows.SketchEdit
		has, not string // lines of the document
		mistake  string
		refused  string
	}{
		{name: "nothing"},
		{name: "a field is hidden", edits: []windows.SketchEdit{value("false", "resources", "tugs", "fields", "name", "expose")},
			has: "      name: {expose: false}", mistake: ""},
		{name: "a table goes with its grants", edits: []windows.SketchEdit{{Hide: "harbour.tide_reading"}}, not: "tide_readings"},
		{name: "a table that is there comes twice", edits: []windows.SketchEdit{{Show: "harbour.tug"}}, has: "  tug: {from: harbour.tug}"},
		{name: "a key that is none", edits: []windows.SketchEdit{value(`["berth_code"]`, "resources", "port_calls", "key")},
			has: "    key: [berth_code]", mistake: "rows of port_calls have the same berth_code"},
		{name: "a column that is not there", edits: []windows.SketchEdit{value("false", "resources", "tugs", "fields", "nam", "expose")},
			has: "nam: {expose: false}", mistake: `did you mean "name"?`},
		{name: "a limit", edits: []windows.SketchEdit{value(`"60/minute"`, "roles", "agent", "limits", "requests")},
			has: "requests: 60/minute"},
		{name: "no table", edits: []windows.SketchEdit{{Show: "harbour.tugboat"}}, refused: `the database has no table "harbour.tugboat"`},
		{name: "no path", edits: []windows.SketchEdit{{Edit: at()}}, refused: `"at" is empty`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := r.Operator.Sketch(ctx, demo.Window, windows.NewSketch{Edits: tt.edits, Table: "harbour.tug"})
			if tt.refused != "" {
				if err == nil || !strings.Contains(err.Error(), tt.refused) {
					t.Errorf("%v, want %s", err, tt.refused)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			mistakes := ""
			for _, m := range got.Mistakes {
				mistakes += m.String()
			}
			if !strings.Contains(mistakes, tt.mistake) || tt.mistake == "" && mistakes != "" {
				t.Errorf("the mistakes are %q, want %q", mistakes, tt.mistake)
			}
			if !strings.Contains(got.Document, tt.has) || tt.not != "" && strings.Contains(got.Document, tt.not) {
				t.Errorf("the document has not %q, or has %q:\n%s", tt.has, tt.not, got.Document)
			}
			if len(got.Tables) != 15 || mistakes == "" && got.Table == nil {
				t.Errorf("%d tables, and the one asked for is %v", len(got.Tables), got.Table)
			}
		})
	}
	agent := "agent"
	described, err := r.Operator.Sketch(ctx, demo.Window, windows.NewSketch{Describe: &agent, Document: before.Document +
		"---\noverlay: 1.0.0\ninfo: {title: t, version: 1.0.0}\nactions:\n" +
		"- target: $.paths['/berths'].get\n  update: {summary: Where ships lie}\n"})
	if err != nil || !strings.Contains(string(described.OpenAPI), `"summary":"Where ships lie"`) ||
		strings.Contains(string(described.OpenAPI), "list-inspections") {
		t.Errorf("described as agent with the overlay: %v, %v, %.300s", err, described.Mistakes, described.OpenAPI)
	}
	if after, err := r.Operator.Draft(ctx, demo.Window); err != nil || after.Document != before.Document || after.Version != before.Version {
		t.Errorf("the draft has changed: version %d to %d, %v", before.Version, after.Version, err)
	}
	if _, err := r.Operator.Sketch(ctx, "nowhere", windows.NewSketch{}); err == nil || !strings.Contains(err.Error(), "no window") {
		t.Errorf("of a window that is not there: %v", err)
	}
}

// What callers ask is added up by time, resource, role and status; what operators ask and rehearse is not.
func TestTraffic(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), start(t)
	agent := r.Token(t, "agent")
	for range 5 {
		r.Send(t, agent, "GET", "/api/saltmere/vessels?top=2", nil)
		r.Send(t, "", "GET", "/api/saltmere/arrivals_board?top=1", nil)
	}
	r.Send(t, agent, "GET", "/api/saltmere/inspections", nil)
	r.Send(t, agent, "GET", "/api/saltmere/vessels?filter=nam eq 'private'", nil)
	r.Send(t, r.Operator.Token, "GET", "/draft/saltmere/vessels", nil)
	var got windows.Traffic
	for end := time.Now().Add(20 * time.Second); got.Total < 12 && time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		var err error
		if got, err = r.Operator.Traffic(ctx, demo.Window, windows.TrafficQuestion{}); err != nil {
			t.Fatal(err)
		}
	}
	if got.Total != 12 || got.Refused != 2 || got.Failed != 0 || len(got.Points) != 60 || got.P50 <= 0 || got.P99 < got.P50 {
		t.Errorf("%d requests, %d refused, %d failed, %d points, p50 %v, p99 %v", got.Total, got.Refused, got.Failed, len(got.Points), got.P50,
			got.P99)
	}
	if len(got.Shapes) != 2 || got.Shapes[0].Count != 5 || strings.Contains(got.Shapes[0].Shape, "2") {
		t.Errorf("shapes %+v", got.Shapes)
	}
	if len(got.Refusals) != 2 || got.Refusals[1].Status != 403 || !strings.Contains(got.Refusals[1].Message, "inspections") ||
		got.Refusals[0].Caller != "agent-demo" || strings.Contains(got.Refusals[0].Path, "private") {
		t.Errorf("refusals %+v", got.Refusals)
	}
	for _, tt := range []struct {
		name string
		q    windows.TrafficQuestion
		want int64
	}{
		{"of a resource", windows.TrafficQuestion{Resource: "vessels"}, 6},
		{"of a role", windows.TrafficQuestion{Role: "board"}, 5},
		{"what was refused", windows.TrafficQuestion{Status: "refused"}, 2},
		{"of a day", windows.TrafficQuestion{Over: "day"}, 12},
		{"of a week", windows.TrafficQuestion{Over: "week"}, 12},
		{"of a month", windows.TrafficQuestion{Over: "month"}, 12},
		{"of a resource that is not there", windows.TrafficQuestion{Resource: "x"}, 0},
	} {
		if got, err := r.Operator.Traffic(ctx, demo.Window, tt.q); err != nil || got.Total != tt.want {
			t.Errorf("%s: %d requests, %v, want %d", tt.name, got.Total, err, tt.want)
		}
	}
	if _, err := r.Operator.Traffic(ctx, demo.Window, windows.TrafficQuestion{Over: "year"}); err == nil ||
		!strings.Contains(err.Error(), "write hour, day, week or month") {
		t.Errorf("over a year: %v", err)
	}
	shape, err := r.Operator.Shape(ctx, demo.Window, got.Shapes[0].Shape)
	if err != nil || !strings.Contains(shape.SQL, "select") {
		t.Errorf("the statement of %q is %q, %v", got.Shapes[0].Shape, shape.SQL, err)
	}
	list, err := r.Operator.Windows(ctx)
	if err != nil || len(list[0].Minutes) != 30 || list[0].Minutes[29]+list[0].Minutes[28] != 12 {
		t.Errorf("the list of windows has %+v, %v", list[0].Minutes, err)
	}
}

// Operators hear of edits, releases and runs, those of another instance too.
func TestEvents(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), start(t)
	other := r.Another(t, server.New)
	res, err := (&client.Client{URL: other.URL, Token: r.Operator.Token}).Send(ctx, client.Request{Method: "GET", Path: "/manage/events"})
	if err != nil || res.StatusCode != 200 || res.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatalf("%v %v", res, err)
	}
	defer res.Body.Close()
	heard := make(chan string, 64)
	go func() {
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
				heard <- data
			}
		}
	}()
	time.Sleep(1500 * time.Millisecond) // until the other instance has looked at what is there
	if _, err := r.Operator.Push(ctx, demo.Window, windows.Push{Document: demo.Document + "# more\n", Replace: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Operator.Publish(ctx, demo.Window, windows.NewRelease{AllowBreaking: true}); err != nil {
		t.Fatal(err)
	}
	within(t, other, "", "/api/saltmere/arrivals_board?top=1", 200)          // so that it serves the window
	alter(t, r.Harbour, "alter table harbour.berth drop column shore_power") // before anybody has looked at what the new release is of
	want := map[string]bool{`{"kind":"draft","window":"saltmere"}`: true, `{"kind":"release","window":"saltmere"}`: true,
		`{"kind":"drift","window":"saltmere"}`: true}
	for end := time.After(20 * time.Second); len(want) > 0; {
		select {
		case got := <-heard:
			delete(want, got)
		case <-end:
			t.Fatalf("not heard of: %v", want)
		}
	}
	if a := r.Send(t, "", "GET", "/manage/events", nil); a.StatusCode != 401 {
		t.Errorf("without a session: %s", a.Status)
	}
}

// Requests of the history become a suite that holds, and are written in every language.
func TestRecordedSuites(t *testing.T) {
	t.Parallel()
	ctx, r := context.Background(), start(t)
	for _, path := range []string{"tugs/1", "vessels?filter=flag%20eq%20'NO'&top=1", "nowhere"} {
		r.Send(t, r.Operator.Token, "GET", "/draft/saltmere/"+path, nil)
	}
	asked, err := r.Operator.Asked(ctx, demo.Window, 3)
	if err != nil || len(asked) != 3 {
		t.Fatalf("%+v, %v", asked, err)
	}
	post := func(path, body string) (string, int) {
		a := r.Send(t, r.Operator.Token, "POST", "/manage/windows/saltmere/"+path, strings.NewReader(body))
		return a.Text, a.StatusCode
	}
	for _, tt := range []struct {
		name, body, has string
		status          int
	}{
		{"two requests", fmt.Sprintf(`{"name":"two","asked":[%d,%d]}`, asked[1].ID, asked[2].ID), "get-tug", 200},
		{"once more", fmt.Sprintf(`{"name":"two","asked":[%d]}`, asked[2].ID), `there is a suite \"two\" already`, 409},
		{"one to begin with", `{"name":"begin"}`, "create", 200},
		{"a request that is described nowhere", fmt.Sprintf(`{"name":"lost","asked":[%d]}`, asked[0].ID), "no operation for GET nowhere", 400},
		{"none that is kept", `{"name":"lost","asked":[999999]}`, "ask again", 404},
		{"no name", `{"name":"Two"}`, "can't be the name of a suite", 400},
	} {
		if text, status := post("suites", tt.body); status != tt.status || !strings.Contains(text, tt.has) {
			t.Errorf("%s: %d %s", tt.name, status, text)
		}
	}
	var failed []string
	if err := r.Operator.RunChecks(ctx, demo.Window, windows.NewChecks{Suites: []string{"two", "begin"}}, func(one suite.Result) {
		if !one.Passed {
			failed = append(failed, one.Suite+": "+one.Failure)
		}
	}); err != nil || len(failed) > 0 {
		t.Errorf("%v, %v", failed, err)
	}
	runs, err := r.Operator.Runs(ctx, demo.Window)
	if err != nil || len(runs) != 1 || runs[0].Passed != 2 || runs[0].EndedAt == nil {
		t.Errorf("runs %+v, %v", runs, err)
	}
	if one, err := r.Operator.RunOf(ctx, demo.Window, runs[0].ID); err != nil || !strings.Contains(string(one.Results), `"steps"`) {
		t.Errorf("the run has %s, %v", one.Results, err)
	}
	// What a check got is accepted: its criterion is rewritten, once.
	kept, err := r.Operator.Suites(ctx, demo.Window)
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(kept, func(s windows.Suite) bool { return s.Name == "begin" })
	wrong := strings.Replace(kept[at].Text, "$statusCode == 404", "$statusCode == 410 # is gone", 1)
	if _, err := r.Operator.SaveSuite(ctx, demo.Window, "begin", wrong); err != nil {
		t.Fatal(err)
	}
	var amendments []suite.Amendment
	again := func(want bool) {
		t.Helper()
		if err := r.Operator.RunChecks(ctx, demo.Window, windows.NewChecks{Suites: []string{"begin"}}, func(one suite.Result) {
			if amendments = one.Amendments; one.Passed != want {
				t.Errorf("passed %t: %s", one.Passed, one.Failure)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
	again(false)
	accepted := amendments
	if s, err := r.Operator.AmendSuite(ctx, demo.Window, "begin", accepted); err != nil ||
		s.Text != strings.Replace(wrong, "== 410 #", "== 404 #", 1) {
		t.Errorf("accepted: %v %v\n%s", accepted, err, s.Text)
	}
	again(true)
	for name, want := range map[string]string{"begin": "run the suite again", "began": "did you mean \"begin\""} {
		if _, err := r.Operator.AmendSuite(ctx, demo.Window, name, accepted); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s amended: %v", name, err)
		}
	}
	text, status := post("snippets", `{"method":"PATCH","path":"/tugs/1?select=id","headers":{"If-Match":"*"},"body":"{\"name\":\"it's\"}"}`)
	for _, want := range []string{`"curl"`, `"Python"`, "/api/saltmere/tugs/1", "If-Match"} {
		if status != 200 || !strings.Contains(text, want) {
			t.Errorf("snippets: %d, %q is missing in %s", status, want, text)
		}
	}
}

// Scripts are sent as they were compressed when the console was built, in a way that the caller takes.
func TestCompressedConsole(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"index.html": {Data: []byte("<p>")}, "assets/a.js": {Data: []byte("plain")},
		"assets/a.js.br": {Data: []byte("brotli")}, "assets/a.js.gz": {Data: []byte("gzipped")}, "assets/b.js": {Data: []byte("alone")}}
	r := harbourtest.Serve(t, files, server.New)
	for _, tt := range []struct{ path, takes, coding, body string }{
		{"/assets/a.js", "gzip, deflate, br, zstd", "br", "brotli"}, {"/assets/a.js", "gzip", "gzip", "gzipped"},
		{"/assets/a.js", "br;q=0, gzip;q=0.5", "gzip", "gzipped"}, {"/assets/a.js", "identity", "", "plain"},
		{"/assets/b.js", "br", "", "alone"},
	} {
		q, err := http.NewRequest("GET", r.URL+tt.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		q.Header.Set("Accept-Encoding", tt.takes)
		res, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Fatal(err)
		}
		a := harbourtest.Read(t, res)
		if a.StatusCode != 200 || a.Header.Get("Content-Encoding") != tt.coding || a.Text != tt.body ||
			!strings.Contains(a.Header.Get("Content-Type"), "javascript") || a.Header.Get("Vary") == "" {
			t.Errorf("%s for %q: %s %q %q %q", tt.path, tt.takes, a.Status, a.Header.Get("Content-Encoding"), a.Header.Get("Content-Type"), a.Text)
		}
	}
}
