package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

func (a *app) windows() *cobra.Command {
	return shows(a, &cobra.Command{
		Use:     "windows",
		Short:   "List the windows",
		Long:    "List the windows: what is live, whether the draft differs, what the database has changed since, and when a caller last asked.",
		Example: "  eager windows",
		Args:    noArgs,
	}, func(ctx context.Context, _ []string) ([]windows.Window, error) { return a.service().Windows(ctx) }, printWindows)
}

func printWindows(w io.Writer, list []windows.Window) {
	if len(list) == 0 {
		fmt.Fprintln(w, "There are no windows yet; see \"eager open --help\".")
		return
	}
	columns(w, func(t io.Writer) {
		fmt.Fprintln(t, "WINDOW\tLIVE\tDRAFT\tDATABASE\tLAST REQUEST")
		for _, x := range list {
			live := "-"
			if x.LiveRelease > 0 {
				live = fmt.Sprintf("release %d, %s", x.LiveRelease, ago(x.Published))
			}
			draft := "as live"
			if x.Changed {
				draft = fmt.Sprintf("version %d, by %s", x.DraftVersion, x.DraftBy)
			}
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", x.Name, live, draft, driftText(x), ago(x.LastRequest))
		}
	})
}

// driftText says what the database has changed since a release.
func driftText(x windows.Window) string {
	switch {
	case x.LiveRelease == 0:
		return "-"
	case x.Wrong != "":
		return "does not fit any more"
	case x.Drift == nil:
		return "as published"
	case *x.Drift == (windows.Counts{}):
		return "changed; callers see no difference"
	}
	parts := []string{}
	for _, part := range []struct {
		n    int
		word string
	}{{x.Drift.Breaking, "breaking"}, {x.Drift.Widening, "opening"}, {x.Drift.Compatible - x.Drift.Widening, "compatible"},
		{x.Drift.Internal, "internal"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.word))
		}
	}
	return "changed: " + strings.Join(parts, ", ")
}

// ago is how long ago something was, in one unit.
func ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	d := time.Since(*t)
	for _, unit := range []struct {
		name string
		of   time.Duration
	}{{"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}} {
		if n := int(d / unit.of); n > 0 {
			if n > 1 {
				unit.name += "s"
			}
			return fmt.Sprintf("%d %s ago", n, unit.name)
		}
	}
	return "just now"
}

func (a *app) status() *cobra.Command {
	c := &cobra.Command{
		Use:   "status",
		Short: "Show how the service does",
		Long: `Show the windows, the sources and what has changed in their databases since the live releases. The exit status is 1 where a
database breaks what is live, or can't be reached.`,
		Example: "  eager status",
		Args:    noArgs,
	}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, _ []string) error {
		s, err := a.service().Status(c.Context())
		if err != nil {
			return err
		}
		if err := a.print(s, func(w io.Writer) { printStatus(w, s) }); err != nil {
			return err
		}
		broken := slices.ContainsFunc(s.Drift, func(d windows.Drift) bool {
			return d.Wrong != "" || compare.Count(d.Changes).Breaking > 0
		})
		if broken || slices.ContainsFunc(s.Sources, func(x windows.Source) bool { return x.Wrong != "" }) {
			return errFound
		}
		return nil
	}
	return c
}

func printStatus(w io.Writer, s windows.Status) {
	printWindows(w, s.Windows)
	fmt.Fprintln(w)
	printSources(w, s.Sources)
	for _, d := range s.Drift {
		fmt.Fprintln(w)
		printDrift(w, d)
	}
}

func printDrift(w io.Writer, d windows.Drift) {
	fmt.Fprintf(w, "The database of %s has changed since the live release:\n", d.Window)
	for _, t := range d.Tables {
		fmt.Fprintf(w, "  %s\n", t)
	}
	if d.Wrong != "" {
		fmt.Fprintf(w, "The live document does not fit it any more:\n  %s\n", strings.ReplaceAll(d.Wrong, "\n", "\n  "))
	}
	if len(d.Changes) > 0 {
		fmt.Fprintln(w, "For callers that is:")
		printChanges(w, d.Changes)
	}
}

func (a *app) close() *cobra.Command {
	c := &cobra.Command{
		Use:   "close WINDOW",
		Short: "Close a window",
		Long: `Close a window: its document, its releases and its callers are removed, and whoever calls its API is answered 404. The database
is not touched, and its source is kept.`,
		Example: "  eager close harbour",
		Args:    exactly("WINDOW"),
	}
	yes := c.Flags().Bool("yes", false, "do not ask")
	c.RunE = func(c *cobra.Command, args []string) error {
		s, name := a.service(), args[0]
		if !*yes {
			releases, err := s.Releases(c.Context(), name)
			if err != nil {
				return err
			}
			roster, err := s.Callers(c.Context(), name)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, `Closing %s removes its document, %d releases, %d clients and %d accounts. Its callers will be answered 404.
The database is not touched. Write the window's name to close it: `, name, len(releases), len(roster.Clients), len(roster.Accounts))
			line, _ := bufio.NewReader(a.In).ReadString('\n') // the end of the input is no name
			if strings.TrimSpace(line) != name {
				return usage("nothing is closed")
			}
		}
		closed, err := s.Close(c.Context(), name)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s is closed; with it went %d releases, %d clients and %d accounts.\n", name, closed.Releases, closed.Clients,
			closed.Accounts)
		return nil
	}
	return c
}

func (a *app) audit() *cobra.Command {
	c := &cobra.Command{
		Use:   "audit",
		Short: "Show what operators did",
		Long: `Show what operators did, the newest first: who, when, from where, and what. Entries are only ever added, and each is sealed
together with the one before.`,
		Example: "  eager audit --target saltmere\n  eager audit verify",
	}
	target := c.Flags().String("target", "", "only of this window, or source/NAME or operator/EMAIL")
	limit := c.Flags().Int("limit", 50, "how many entries")
	shows(a, c, func(ctx context.Context, _ []string) ([]identity.AuditEntry, error) {
		return a.service().Audit(ctx, *target, 0, *limit)
	}, printAudit)
	return group(c, a.auditVerify())
}

func printAudit(w io.Writer, list []identity.AuditEntry) {
	columns(w, func(t io.Writer) {
		fmt.Fprintln(t, "ENTRY\tWHEN\tWHO\tFROM\tDID\tTO\tWITH")
		for _, e := range list {
			fmt.Fprintf(t, "%5d\t%s\t%s\t%s\t%s\t%s\t%s\n", e.ID, when(e.At), e.Who, dash(e.From), e.Act, dash(e.Target), withText(e.Details))
		}
	})
}

// withText is the details of an entry in words.
func withText(details json.RawMessage) string {
	var values map[string]any
	if json.Unmarshal(details, &values) != nil || len(values) == 0 {
		return "-"
	}
	var parts []string
	for name, value := range values {
		if text := fmt.Sprint(value); text != "" && text != "[]" && text != "map[]" {
			parts = append(parts, name+" "+oneLine(text))
		}
	}
	slices.Sort(parts)
	return dash(strings.Join(parts, ", "))
}

func (a *app) auditVerify() *cobra.Command {
	c := &cobra.Command{
		Use:   "verify",
		Short: "Find out whether the audit was tampered with",
		Long: `Look through all entries of the audit: one that was changed, removed or put in breaks the chain of seals. Entries that were removed
from the end leave no gap; note the last seal now and then, and ask for it with --seal. The exit status is 1 where something is wrong.`,
		Example: "  eager audit verify",
		Args:    noArgs,
	}
	seal := c.Flags().String("seal", "", "a seal that was noted earlier")
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, _ []string) error {
		v, err := a.service().VerifyAudit(c.Context(), *seal)
		if err != nil {
			return err
		}
		if err := a.print(v, func(w io.Writer) {
			if v.Broken > 0 {
				fmt.Fprintf(w, "The audit is not as it was written: %s. %s are as they were.\n", v.Why, entries(v.Entries, "before it"))
				return
			}
			fmt.Fprintf(w, "%s, all as they were written. The last seal is %s\n", entries(v.Entries, ""), v.Seal)
		}); err != nil {
			return err
		}
		if v.Broken > 0 {
			return errFound
		}
		return nil
	}
	return c
}

func entries(n int64, which string) string {
	word := "entries"
	if n == 1 {
		word = "entry"
	}
	return strings.TrimSpace(strconv.FormatInt(n, 10) + " " + word + " " + which)
}
