package window_test

import (
	"strings"
	"testing"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
)

func TestMerge(t *testing.T) {
	const base = "a\nb # why\nc\nd\ne\nf\ng\n"
	for _, tt := range []struct{ name, ours, theirs, want string }{
		{"nothing", base, base, base},
		{"ours", "a\nB\nc\nd\ne\nf\ng\n", base, "a\nB\nc\nd\ne\nf\ng\n"},
		{"theirs", base, "a\nb # why\nc\nd\ne\nf\n", "a\nb # why\nc\nd\ne\nf\n"},
		{"both apart", "A\nb # why\nc\nd\ne\nf\ng\n", "a\nb # why\nc\nd\ne\nF\nG\n", "A\nb # why\nc\nd\ne\nF\nG\n"},
		{"both the same", "a\nX\nc\nd\ne\nf\ng\n", "a\nX\nc\nd\ne\nf\ng\n", "a\nX\nc\nd\ne\nf\ng\n"},
		{"added at both ends", "0\n" + base, base + "h\n", "0\n" + base + "h\n"},
		{"without a last line end", "A\nb # why\nc\nd\ne\nf\ng", base, "A\nb # why\nc\nd\ne\nf\ng\n"},
		{"removed here, changed there", "a\nc\nd\ne\nf\ng\n", "a\nb # because\nc\nd\ne\nf\ng\n", ""},
		{"the same line", "a\nb\nX\nd\ne\nf\ng\n", "a\nb\nY\nd\ne\nf\ng\n", ""},
		{"lines beside each other", "a\nb # why\nX\nd\ne\nf\ng\n", "a\nb # why\nc\nY\ne\nf\ng\n", ""},
		{"added at one place", "a\nb # why\n1\nc\nd\ne\nf\ng\n", "a\nb # why\n2\nc\nd\ne\nf\ng\n", ""},
		{"all of it", "x\n", "y\n", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := window.Merge(base, tt.ours, tt.theirs)
			if f, refused := fault.From(err); tt.want == "" && refused {
				if len(f.Details) == 0 || f.Details[0].Line == 0 || !strings.Contains(f.Error(), "yours:") {
					t.Errorf("the refusal shows no place and no sides: %s", err)
				}
				return
			}
			if err != nil || got != tt.want {
				t.Errorf("got %q, %v, want %q", got, err, tt.want)
			}
		})
	}
}

// Whatever two sides do, a merge that succeeds has all that only one of them added, and nothing that one of them removed.
func FuzzMerge(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nc\n", "a\nb\nc\nd\n")
	f.Fuzz(func(t *testing.T, base, ours, theirs string) {
		got, err := window.Merge(base, ours, theirs)
		if err != nil {
			return
		}
		back, err := window.Merge(base, theirs, ours)
		if err != nil || back != got {
			t.Errorf("the other way round it is %q, %v, not %q", back, err, got)
		}
		if same, err := window.Merge(base, ours, base); err != nil || strings.TrimSuffix(same, "\n") != strings.TrimSuffix(ours, "\n") {
			t.Errorf("with nothing of others it is %q, %v, not %q", same, err, ours)
		}
	})
}
