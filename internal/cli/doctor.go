package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"eagerwindow/internal/windows"
)

func (a *app) doctor() *cobra.Command {
	c := &cobra.Command{
		Use:   "doctor [WINDOW]",
		Short: "Find what is not as it should be",
		Long: `Find what is not as it should be between windows and their databases, and what to do about it: drift, missing indexes, ` +
			`tables without
keys, sources out of reach, what the database's user may not do or need not, row-level security that it passes by, weak settings.
Indexes are tried on paper where the database has hypopg; nothing is changed. The exit status is 1 where something was found.`,
		Example: "  eager doctor saltmere",
		Args:    cobra.MaximumNArgs(1),
	}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		s, names := a.service(), args
		if len(args) == 0 {
			list, err := s.Windows(c.Context())
			if err != nil {
				return err
			}
			for _, w := range list {
				names = append(names, w.Name)
			}
		}
		found := map[string][]windows.Finding{}
		some := false
		for _, name := range names {
			list, err := s.Doctor(c.Context(), name)
			if err != nil {
				return err
			}
			found[name], some = list, some || len(list) > 0
		}
		if err := a.print(found, func(w io.Writer) {
			for _, name := range names {
				printFindings(w, name, found[name])
			}
		}); err != nil {
			return err
		}
		if some {
			return errFound
		}
		return nil
	}
	return c
}

func printFindings(w io.Writer, name string, list []windows.Finding) {
	if len(list) == 0 {
		fmt.Fprintf(w, "%s: all is as it should be.\n", name)
		return
	}
	word := "findings"
	if len(list) == 1 {
		word = "finding"
	}
	fmt.Fprintf(w, "%s: %d %s\n", name, len(list), word)
	for _, f := range list {
		fmt.Fprintf(w, "\n  %-9s  %s\n", f.About, strings.ReplaceAll(f.Message, "\n", "\n             "))
		if f.SQL != "" {
			fmt.Fprintf(w, "             %s;\n", strings.ReplaceAll(strings.TrimSuffix(f.SQL, ";"), "\n", "\n             "))
		}
		if f.Do != "" {
			fmt.Fprintf(w, "             %s\n", f.Do)
		}
	}
}
