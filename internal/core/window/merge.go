package window

import (
	"cmp"
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"eagerwindow/internal/core/fault"
)

// Diff is the difference of two documents as a unified diff (POSIX diff -u) with their names, "" where they are the same.
func Diff(from, to, fromName, toName string) string {
	text, _ := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(from), B: lines(to), FromFile: fromName, ToFile: toName,
		Context: 3}) // it writes to memory
	return text
}

// lines are the lines of a text, each with its end.
func lines(text string) []string {
	list := strings.SplitAfter(text, "\n")
	if last := len(list) - 1; list[last] == "" {
		return list[:last]
	} else if last >= 0 {
		list[last] += "\n" // so that a missing end of the last line is no difference
	}
	return list
}

// hunk is what one side made of some lines of the base; the lines of the base are counted from 0, end is not among them.
type hunk struct {
	start, end int
	lines      []string
	theirs     bool
}

func hunks(base, side []string, theirs bool) (list []hunk) {
	m := difflib.NewMatcherWithJunk(base, side, false, nil)
	for _, op := range m.GetOpCodes() {
		if op.Tag != 'e' {
			list = append(list, hunk{op.I1, op.I2, side[op.J1:op.J2], theirs})
		}
	}
	return list
}

// Merge puts the edits of two documents that were made of the same base together. Where both edited the same lines, or lines beside each
// other, in different ways, it refuses, with each place and both sides.
func Merge(base, ours, theirs string) (string, error) {
	of := lines(base)
	all := slices.Concat(hunks(of, lines(ours), false), hunks(of, lines(theirs), true))
	slices.SortStableFunc(all, func(a, b hunk) int { return cmp.Or(cmp.Compare(a.start, b.start), cmp.Compare(a.end, b.end)) })
	var out []string
	var conflicts fault.List
	at := 0
	for i := 0; i < len(all); {
		start, end, next := all[i].start, all[i].end, i+1
		for next < len(all) && all[next].start <= end { // they touch
			end = max(end, all[next].end)
			next++
		}
		group := all[i:next]
		i = next
		out = append(out, of[at:start]...)
		at = end
		a, b := apply(of, start, end, group, false), apply(of, start, end, group, true)
		switch {
		case !slices.ContainsFunc(group, func(h hunk) bool { return h.theirs }) || slices.Equal(a, b):
			out = append(out, a...)
		case !slices.ContainsFunc(group, func(h hunk) bool { return !h.theirs }):
			out = append(out, b...)
		default:
			conflicts.Add("draft.conflict", "", start+1, 1, "yours:\n%s  the draft:\n%s", indentText(a), strings.TrimSuffix(indentText(b), "\n"))
		}
	}
	if conflicts != nil {
		return "", &fault.Fault{Kind: fault.Conflict, Code: "draft.conflict", Details: conflicts,
			Message: "the draft was changed in the same lines as your document, so nothing is saved; the lines are those of what both began with"}
	}
	return strings.Join(append(out, of[at:]...), ""), nil
}

// apply is what one side made of the lines of the base from start to end.
func apply(base []string, start, end int, group []hunk, theirs bool) (out []string) {
	at := start
	for _, h := range group {
		if h.theirs == theirs {
			out = append(append(out, base[at:h.start]...), h.lines...)
			at = h.end
		}
	}
	return append(out, base[at:end]...)
}

func indentText(list []string) string {
	if len(list) == 0 {
		return "    (removed)\n"
	}
	return "    " + strings.Join(list, "    ")
}
