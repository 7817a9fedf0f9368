package fault_test

import (
	"errors"
	"fmt"
	"testing"

	"eagerwindow/internal/core/fault"
)

func ExampleSuggest() {
	fmt.Println(`unknown field "statuss"` + fault.Suggest("statuss", []string{"id", "status", "eta"}))
	// Output: unknown field "statuss"; did you mean "status"?
}

func TestNearest(t *testing.T) {
	t.Parallel()
	fields := []string{"id", "vessel_id", "status", "eta", "etd", "draught_m", "hazardous"}
	tests := []struct{ name, want string }{
		{"statuss", "status"}, {"STATUS", "status"}, {"vesselid", "vessel_id"}, {"draught", "draught_m"}, {"hazardosu", "hazardous"},
		{"xyzzy", ""}, {"", "id"}, {"completely_different", ""},
	}
	for _, tt := range tests {
		if got := fault.Nearest(tt.name, fields); tt.name != "" && got != tt.want {
			t.Errorf("Nearest(%q) = %q, want %q", tt.name, got, tt.want)
		}
	}
}

func TestList(t *testing.T) {
	t.Parallel()
	var l fault.List
	if err := l.Fault(fault.Invalid, "x", "several"); err != nil {
		t.Errorf("an empty list gives %v, want nil", err)
	}
	l.Add("one", "f", 3, 7, "wrong %d", 1)
	if err := l.Fault(fault.Invalid, "x", "several"); err.Error() != "line 3, column 7: wrong 1" {
		t.Errorf("one mistake gives %q", err)
	}
	l.Add("two", "", 0, 0, "wrong 2")
	err := fmt.Errorf("bind: %w", l.Fault(fault.Invalid, "x", "several"))
	f, ok := fault.From(err)
	if !ok || len(f.Details) != 2 || f.Error() != "several\nline 3, column 7: wrong 1\nwrong 2" {
		t.Errorf("two mistakes give %q", err)
	}
	if _, ok := fault.From(errors.New("other")); ok {
		t.Error("an ordinary error is taken for a fault")
	}
}
