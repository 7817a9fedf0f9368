package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/windows"
)

func (a *app) publish() *cobra.Command {
	c := &cobra.Command{
		Use:   "publish WINDOW",
		Short: "Make a window's draft live",
		Long: `Make the draft of a window a release, and the release live. Callers see the old one or the new one, whole.

The draft is bound to the database as it is now and compared with what is live. Where that would break callers, or where the database
has got columns or tables that a role would see though the document does not name them, nothing is published unless it is allowed.`,
		Example: "  eager publish saltmere --note 'Pilots see inspections'",
		Args:    exactly("WINDOW"),
	}
	a.releaseFlags(c, func(args []string) (int, error) { return 0, nil })
	return c
}

// releaseFlags are those of a command that makes a release.
func (a *app) releaseFlags(c *cobra.Command, restore func(args []string) (int, error)) {
	var in windows.NewRelease
	c.Flags().StringVar(&in.Note, "note", "", "what changed, for those who come after you")
	c.Flags().BoolVar(&in.AllowBreaking, "allow-breaking", false, "publish changes that break callers")
	c.Flags().StringVar(&in.SkipChecks, "skip-checks", "", "why the suites that the document demands are not run")
	c.Flags().BoolVar(&in.AllowWidening, "allow-widening", false, "let roles have what is new in the database and not in the document")
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		var err error
		if in.Restore, err = restore(args); err != nil {
			return err
		}
		s := a.service()
		r, err := s.Publish(c.Context(), args[0], in)
		if err != nil {
			return err
		}
		return a.print(r, func(w io.Writer) {
			what := ""
			if r.Number > 1 {
				what = ": " + countsText(r.Counts)
			}
			fmt.Fprintf(w, "Release %d of %s is live at %s/api/%s%s\n", r.Number, args[0], s.URL, args[0], what)
		})
	}
}

func (a *app) restore() *cobra.Command {
	c := &cobra.Command{
		Use:   "restore WINDOW RELEASE",
		Short: "Make an earlier release live again",
		Long: `Make a new release of the document of an earlier one, with the database as it is now. It is compared with what is live first, as
any release is. The draft stays as it is.`,
		Example: "  eager restore saltmere 1",
		Args:    exactly("WINDOW", "RELEASE"),
	}
	a.releaseFlags(c, func(args []string) (int, error) { return releaseNumber(args[1]) })
	return c
}

func releaseNumber(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, usage("a release is a number such as 3, not %q", text)
	}
	return n, nil
}

func (a *app) releases() *cobra.Command {
	c := &cobra.Command{
		Use:     "releases WINDOW [RELEASE]",
		Short:   "List the releases of a window, or show one",
		Long:    "List the releases of a window, or show what one of them changed; as JSON with its document.",
		Example: "  eager releases saltmere\n  eager releases saltmere 1",
		Args:    cobra.ArbitraryArgs,
	}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 2 {
			return a.release(c, args[0], args[1])
		}
		if err := exactly("WINDOW")(c, args); err != nil {
			return err
		}
		list, err := a.service().Releases(c.Context(), args[0])
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			if len(list) == 0 {
				fmt.Fprintf(w, "Nothing of %s is published yet; see \"eager publish --help\".\n", args[0])
				return
			}
			columns(w, func(t io.Writer) {
				fmt.Fprintln(t, "RELEASE\tPUBLISHED\tBY\tBREAKING\tCOMPATIBLE\tINTERNAL\tNOTE")
				for _, r := range list {
					number := strconv.Itoa(r.Number)
					if r.Live {
						number += " live"
					}
					fmt.Fprintf(t, "%s\t%s\t%s\t%8d\t%10d\t%8d\t%s\n", number, when(r.At), r.By, r.Counts.Breaking, r.Counts.Compatible, r.Counts.Internal,
						oneLine(r.Note))
				}
			})
		})
	}
	return c
}

// release shows one release.
func (a *app) release(c *cobra.Command, name, number string) error {
	n, err := releaseNumber(number)
	if err != nil {
		return err
	}
	r, err := a.service().Release(c.Context(), name, n)
	if err != nil {
		return err
	}
	return a.print(r, func(w io.Writer) {
		fmt.Fprintf(w, "Release %d of %s, published %s by %s. %s\n", r.Number, name, when(r.At), r.By, oneLine(r.Note))
		if len(r.Changes) > 0 {
			fmt.Fprintln(w)
			printAreas(w, r.Changes)
		}
	})
}

func (a *app) diff() *cobra.Command {
	c := &cobra.Command{
		Use:   "diff WINDOW FROM TO",
		Short: "Show how two releases differ",
		Long: `Show how two versions of a window differ, for callers and with --text in the document. FROM and TO are numbers of releases, or
draft.`,
		Example: "  eager diff saltmere 1 draft",
		Args:    exactly("WINDOW", "FROM", "TO"),
	}
	a.differenceFlags(c, func(c *cobra.Command, args []string) (windows.Difference, error) {
		return a.service().Difference(c.Context(), args[0], args[1], args[2])
	})
	return c
}

// differenceFlags are those of a command that shows a difference.
func (a *app) differenceFlags(c *cobra.Command, find func(*cobra.Command, []string) (windows.Difference, error)) {
	text := c.Flags().Bool("text", false, "show the lines of the documents")
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		d, err := find(c, args)
		if err != nil {
			return err
		}
		return a.print(d, func(w io.Writer) {
			if *text {
				fmt.Fprint(w, d.Diff)
				if d.Diff != "" {
					fmt.Fprintln(w)
				}
				return
			}
			printDifference(w, d)
		})
	}
}

// markOf is the effect of a change as a terminal shows it, with its word.
func markOf(c compare.Change) string {
	switch {
	case c.Widens:
		return "◆ opens"
	case c.Effect == compare.Breaking:
		return "▲ breaks"
	case c.Effect == compare.Compatible:
		return "  compatible"
	}
	return "  internal"
}

var areaTitles = []struct {
	area  compare.Area
	title string
}{{compare.Endpoint, "Endpoints and fields"}, {compare.Permission, "Permissions"}, {compare.Description, "Description"}}

// versionName is a side of a difference in words.
func versionName(version string) string {
	if _, err := strconv.Atoi(version); err == nil {
		return "release " + version
	}
	return "the " + version
}

func printDifference(w io.Writer, d windows.Difference) {
	if d.From == "" {
		fmt.Fprintf(w, "Nothing of %s is published yet, so there is nothing to compare with.\n", d.Window)
		return
	}
	from, to := versionName(d.From), versionName(d.To)
	switch {
	case len(d.Changes) > 0:
	case !d.Text && !d.Catalog:
		fmt.Fprintf(w, "%s of %s is the same as %s.\n", strings.ToUpper(to[:1])+to[1:], d.Window, from)
	default:
		fmt.Fprintf(w, "Callers see no difference between %s and %s of %s.\n", from, to, d.Window)
	}
	if len(d.Changes) == 0 {
		return
	}
	printAreas(w, d.Changes)
	fmt.Fprintln(w)
	fmt.Fprintf(w, "From %s to %s: %s.\n", from, to, countsText(compare.Count(d.Changes)))
}

// printAreas prints changes by what they are about.
func printAreas(w io.Writer, changes []compare.Change) {
	first := true
	for _, part := range areaTitles {
		list := inArea(changes, part.area)
		if list == nil {
			continue
		}
		if !first {
			fmt.Fprintln(w)
		}
		first = false
		fmt.Fprintln(w, part.title)
		printChanges(w, list)
	}
}

func inArea(changes []compare.Change, area compare.Area) (list []compare.Change) {
	for _, c := range changes {
		if c.Area == area {
			list = append(list, c)
		}
	}
	return list
}

func printChanges(w io.Writer, list []compare.Change) {
	columns(w, func(t io.Writer) {
		for _, c := range compare.Brief(list) {
			fmt.Fprintf(t, "  %s\t%s\n", markOf(c), strings.ReplaceAll(c.String(), "\t", " "))
			if c.From != "" && c.To != "" && c.Area != compare.Endpoint {
				fmt.Fprintf(t, "\t  %s → %s\n", oneLine(c.From), oneLine(c.To))
			}
			if notes := c.Notes(); notes != "" {
				fmt.Fprintf(t, "\t  %s\n", notes)
			}
		}
	})
}

// oneLine is a text on one line, cut where it is long.
func oneLine(text string) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && !unicode.IsSpace(r) { // which a terminal would obey
			return -1
		}
		return r
	}, strings.Join(strings.Fields(text), " "))
	if r := []rune(text); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return text
}
