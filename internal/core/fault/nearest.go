package fault

import (
	"fmt"
	"strings"
)

// Nearest is the candidate that a mistyped name most likely meant, or "" where none is near enough: at most one edit for
// every three letters, without regard to case.
func Nearest(name string, candidates []string) string {
	best, bound := "", len(name)/3+1
	lower := strings.ToLower(name)
	for _, c := range candidates {
		if d := distance(lower, strings.ToLower(c), bound); d < bound {
			best, bound = c, d
		} else if best == "" && d == bound {
			best = c
		}
	}
	return best
}

// Meant is the end of a sentence about an unknown name that tells the choices itself: `; did you mean "x"?`, or "".
func Meant(name string, candidates []string) string {
	if near := Nearest(name, candidates); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// Suggest is the end of a sentence about an unknown name: what was perhaps meant, or the choices where there are few, or "".
func Suggest(name string, candidates []string) string {
	if meant := Meant(name, candidates); meant != "" {
		return meant
	}
	if len(candidates) > 0 && len(candidates) <= 16 {
		return "; there is " + Quoted(candidates)
	}
	return ""
}

// Quoted lists names in quotes, separated by commas.
func Quoted(names []string) string {
	var b strings.Builder
	for i, n := range names {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "%q", n)
	}
	return b.String()
}

// distance is the number of insertions, deletions, changes and swaps of neighbours that turn a into b, or more than bound.
func distance(a, b string, bound int) int {
	if len(a)-len(b) > bound || len(b)-len(a) > bound {
		return bound + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
