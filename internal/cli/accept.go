package cli

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"eagerwindow/internal/core/suite"
)

// accept rewrites the suites of checks that fail so that they hold of the answers that came, and returns how many checks that was done for.
func (a *app) accept(c *cobra.Command, window string, results []suite.Result) (accepted int, err error) {
	bySuite := map[string][]suite.Amendment{}
	for _, r := range results {
		if r.Passed || r.Skipped != "" {
			continue
		}
		if len(r.Amendments) == 0 {
			fmt.Fprintf(a.Err, "not accepted %s, %s: not all that fails at %s compares a part of the answer with a value; edit the suite there\n",
				r.Suite, r.Check, cmp.Or(r.At, "its beginning"))
			continue
		}
		accepted++
		for _, one := range r.Amendments {
			if !slices.Contains(bySuite[r.Suite], one) { // checks that call the same one
				bySuite[r.Suite] = append(bySuite[r.Suite], one)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(bySuite)) {
		list := bySuite[name]
		if isFile(name) {
			err = amendFile(name, list)
		} else {
			_, err = a.service().AmendSuite(c.Context(), window, name, list)
		}
		if err != nil {
			return 0, fmt.Errorf("accept the answers to %s: %w", name, err)
		}
		for _, one := range list {
			fmt.Fprintf(a.Err, "accepted %s, line %d: %s is now %s\n", name, one.Line, one.From, one.To)
		}
	}
	return accepted, nil
}

func amendFile(name string, list []suite.Amendment) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if text, err = suite.Amend(text, list); err != nil {
		return err
	}
	return os.WriteFile(name, text, 0o644)
}
