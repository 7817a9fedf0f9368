package access_test

import (
	"os"
	"strings"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/coretest"
	"eagerwindow/internal/core/window"
)

// Sentences about a role hold, or the document is refused at their line.
func TestExpectations(t *testing.T) {
	t.Parallel()
	harbour, err := os.ReadFile("../../../demo/saltmere.window.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ role, sentence, want string }{
		{"agent", "may not read port_calls/remarks", ""}, {"agent", "may not delete anything", ""}, {"agent", "may not read inspections", ""},
		{"board", "reads nothing but arrivals_board", ""}, {"board", "creates nothing", ""}, {"agent", "may not update port_calls/status", ""},
		{"agent", "updates nothing but port_calls", ""}, {"agent", "may not create port_calls/status", ""},
		{"agent", "may not read port_calls/eta", "role agent: it is expected that it may not read port_calls/eta, and line"},
		{"agent", "may not read tugs", "it is expected that it may not read tugs, and line"},
		{"agent", "may not create anything", "it is expected that it may not create anything, and it may create port_calls"},
		{"board", "reads nothing but tugs", "it is expected to read nothing but tugs, and it may read arrivals_board"},
		{"harbour_master", "may not delete vessels", "it is expected that it may not delete vessels"},
		{"agent", "may not red tugs", `"red" is no operation; did you mean "read"?`}, {"agent", "may not read tuggs", `did you mean "tugs"?`},
		{"agent", "may not read tugs/nam", `tugs has no field "nam"; did you mean "name"?`}, {"agent", "must not read tugs",
			"can't be read; write"},
		{"agent", "reads nothing but tuggs", `there is no resource "tuggs"`},
	} {
		text := strings.Replace(string(harbour), "  "+tt.role+":\n", "  "+tt.role+":\n    expect: ["+tt.sentence+"]\n", 1)
		doc, err := window.Parse([]byte(text), func(string) (string, bool) { return "", false })
		if err != nil {
			t.Fatal(err)
		}
		_, err = access.Bind(doc, coretest.Catalog(t))
		if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want) ||
			!strings.Contains(err.Error(), "line ")) {
			t.Errorf("%s: %s: %v, want %q", tt.role, tt.sentence, err, tt.want)
		}
	}
}
