package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/windows"
)

func (a *app) draft() *cobra.Command {
	c := &cobra.Command{Use: "draft", Short: "Work on a window's document",
		Long: `Work on the document of a window. It is edited in a file, in the console, or both: what is pushed is put together with what
others have changed, as long as the edits do not touch.`,
		Example: "  eager draft pull saltmere\n  eager draft push saltmere.window.yaml\n  eager draft diff saltmere"}
	return group(c, a.draftShow(), a.draftPull(), a.draftPush(), a.draftCheck(), a.draftDiff(), a.draftLog(), a.draftDiscard(),
		a.draftSchema())
}

func (a *app) draftShow() *cobra.Command {
	c := &cobra.Command{
		Use:     "show WINDOW",
		Short:   "Print the draft's document",
		Long:    "Print the document of a window's draft, or of an earlier version of it.",
		Example: "  eager draft show saltmere\n  eager draft show saltmere --version 1",
		Args:    exactly("WINDOW"),
	}
	version := c.Flags().Int("version", 0, "a version of the draft, as \"eager draft log\" lists them (default: the last)")
	c.RunE = func(c *cobra.Command, args []string) error {
		d, err := a.versionOf(c.Context(), args[0], *version)
		if err != nil {
			return err
		}
		fmt.Fprint(a.Out, d.Document)
		return nil
	}
	return c
}

// versionOf is a version of a draft, 0 for the last.
func (a *app) versionOf(ctx context.Context, name string, number int) (windows.Document, error) {
	if number == 0 {
		return a.service().Draft(ctx, name)
	}
	return a.service().Version(ctx, name, number)
}

func (a *app) draftPull() *cobra.Command {
	c := &cobra.Command{
		Use:   "pull WINDOW [FILE]",
		Short: "Write the draft's document into a file",
		Long: `Write the document of a window's draft into FILE, WINDOW.window.yaml where none is given. Which version it is is remembered for
the next push.`,
		Example: "  eager draft pull saltmere",
		Args:    cobra.ArbitraryArgs,
	}
	force := c.Flags().Bool("force", false, "overwrite a file that differs")
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) != 2 {
			if err := exactly("WINDOW")(c, args); err != nil {
				return err
			}
			args = append(args, args[0]+".window.yaml")
		}
		d, err := a.service().Draft(c.Context(), args[0])
		if err != nil {
			return err
		}
		switch is, err := a.document(args[1]); {
		case err == nil && is.text == d.Document:
		case err == nil && !*force:
			return usage("%s is there and differs from the draft; push it, move it, or overwrite it with --force", args[1])
		}
		if err := writeDocument(args[1], d.Document); err != nil {
			return usage("%w", err)
		}
		a.remember(args[0], args[1], d.Version)
		fmt.Fprintf(a.Out, "%s is version %d of the draft of %s, saved by %s at %s.\n", args[1], d.Version, args[0], d.SavedBy, when(*d.SavedAt))
		return nil
	}
	return c
}

// when is a time as people read it.
func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// pulled remembers for files which version of a draft they hold, by service, window and path.
func pulledFile() string { return filepath.Join(filepath.Dir(loginFile()), "drafts.json") }

func (a *app) pulledKey(name, file string) string {
	path, err := filepath.Abs(file)
	if err != nil {
		path = file
	}
	return a.service().URL + " " + name + " " + path
}

func readPulled() map[string]int {
	versions := map[string]int{}
	if text, err := os.ReadFile(pulledFile()); err == nil {
		_ = json.Unmarshal(text, &versions) // a file that can't be read remembers nothing
	}
	return versions
}

// remember notes which version of a draft a file holds. Where that can't be kept, the service goes by who saved what.
func (a *app) remember(name, file string, version int) {
	versions := readPulled()
	versions[a.pulledKey(name, file)] = version
	text, err := json.Marshal(versions)
	if err == nil && os.MkdirAll(filepath.Dir(pulledFile()), 0o700) == nil {
		_ = os.WriteFile(pulledFile(), text, 0o600)
	}
}

func (a *app) draftPush() *cobra.Command {
	c := &cobra.Command{
		Use:   "push FILE",
		Short: "Save a document as its window's draft",
		Long: `Save a window document as the draft of the window that it names; - reads it from standard input. It is checked against the
database as that is now: with mistakes in it nothing is saved, and all of them are told with line and column.

Where the document names an overlay of its description, that file is read, too.

Where others have changed the draft since this file was pulled or pushed, their edits are kept and written into the file, too. Where
both changed the same lines, nothing is saved and both are shown.`,
		Example: "  eager draft push demo/saltmere.window.yaml",
		Args:    exactly("FILE"),
	}
	replace := c.Flags().Bool("replace", false, "overwrite what others have changed")
	create := c.Flags().Bool("new", false, "make a window that is not there yet, without asking")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, file := c.Context(), args[0]
		document, err := a.document(file)
		if err != nil {
			return err
		}
		name, err := window.NameOf([]byte(document.text))
		if err != nil {
			return document.placed(err)
		}
		s := a.service()
		in := windows.Push{Document: document.text, Replace: *replace}
		if file != "-" {
			in.Base = readPulled()[a.pulledKey(name, file)]
		}
		if err := a.announceNew(ctx, s, name, *create); err != nil {
			return err
		}
		w, err := s.Push(ctx, name, in)
		if err != nil {
			return document.placed(err)
		}
		for _, warning := range w.Warnings {
			fmt.Fprintf(a.Err, "%s: warning: %s\n", file, warning)
		}
		if w.Merged != "" {
			fmt.Fprintf(a.Err, "%s: edits of others were kept", file)
			if file != "-" {
				if err := writeDocument(file, w.Merged); err != nil {
					return fmt.Errorf("the draft is saved, but %s could not be written: %w", file, err)
				}
				fmt.Fprint(a.Err, ", and written into the file")
			}
			fmt.Fprintln(a.Err)
		}
		if file != "-" {
			a.remember(name, file, w.DraftVersion)
		}
		fmt.Fprintf(a.Out, "Draft of %s saved as version %d; it answers at /draft/%s. %s\n", w.Name, w.DraftVersion, w.Name, standing(w))
		return nil
	}
	return c
}

// announceNew says that a document is of a new window, and which one may be meant.
func (a *app) announceNew(ctx context.Context, s *client.Client, name string, create bool) error {
	list, err := s.Windows(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(list))
	for i, w := range list {
		if names[i] = w.Name; w.Name == name {
			return nil
		}
	}
	near := fault.Meant(name, names)
	if near != "" && !create {
		return usage("there is no window %q yet%s If a new one is meant, push with --new", name, near)
	}
	fmt.Fprintf(a.Err, "%s is a new window.\n", name)
	return nil
}

// standing says how a draft differs from what is live.
func standing(w windows.Window) string {
	switch {
	case w.LiveRelease == 0:
		return "Nothing is published yet."
	case w.Difference == nil || *w.Difference == (windows.Counts{}):
		if w.Changed {
			return fmt.Sprintf("Callers see no difference from release %d, which is live.", w.LiveRelease)
		}
		return "It is what is live."
	}
	return fmt.Sprintf("Against release %d, which is live: %s.", w.LiveRelease, countsText(*w.Difference))
}

// countsText says how many changes there are.
func countsText(c windows.Counts) string {
	var parts []string
	add := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, "1 "+one)
		case n > 1:
			parts = append(parts, strconv.Itoa(n)+" "+many)
		}
	}
	add(c.Breaking, "change breaks callers", "changes break callers")
	add(c.Widening, "opens more than the document names", "open more than the document names")
	add(c.Compatible-c.Widening, "compatible", "compatible")
	add(c.Internal, "internal", "internal")
	if parts == nil {
		return "no changes"
	}
	return strings.Join(parts, ", ")
}

func (a *app) draftCheck() *cobra.Command {
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Compare a document with what is live, without saving it",
		Long: `Bind a window document to its database and compare it with what is live; nothing is saved. The exit status is 0 where ` +
			`callers see no
difference, 1 where they see one, 3 where the document has mistakes; - reads standard input.`,
		Example: "  eager draft check demo/saltmere.window.yaml",
		Args:    exactly("FILE"),
	}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		document, err := a.document(args[0])
		if err != nil {
			return err
		}
		d, err := a.service().CheckDocument(c.Context(), document.text)
		if err != nil {
			return document.placed(err)
		}
		for _, warning := range d.Warnings {
			fmt.Fprintf(a.Err, "%s: warning: %s\n", args[0], warning)
		}
		if err := a.print(d, func(w io.Writer) { printDifference(w, d) }); err != nil {
			return err
		}
		if len(d.Changes) > 0 {
			return errFound
		}
		return nil
	}
	return c
}

func (a *app) draftDiff() *cobra.Command {
	c := &cobra.Command{
		Use:     "diff WINDOW",
		Short:   "Show how the draft differs from what is live",
		Long:    "Show how a window's draft differs from what is live: what changes for callers, and with --text the lines of the document.",
		Example: "  eager draft diff saltmere\n  eager draft diff saltmere --text",
		Args:    exactly("WINDOW"),
	}
	a.differenceFlags(c, func(c *cobra.Command, args []string) (windows.Difference, error) {
		return a.service().Difference(c.Context(), args[0], "", "")
	})
	return c
}

func (a *app) draftLog() *cobra.Command {
	return shows(a, &cobra.Command{
		Use:     "log WINDOW",
		Short:   "List the versions of a draft",
		Long:    "List the versions of a window's draft: who saved them, when and how. A hundred are kept.",
		Example: "  eager draft log saltmere",
		Args:    exactly("WINDOW"),
	}, func(ctx context.Context, args []string) ([]windows.DraftVersion, error) {
		return a.service().History(ctx, args[0])
	},
		func(w io.Writer, list []windows.DraftVersion) {
			columns(w, func(t io.Writer) {
				fmt.Fprintln(t, "VERSION\tSAVED\tBY\tLINES\tHOW")
				for _, v := range list {
					fmt.Fprintf(t, "%7d\t%s\t%s\t+%d -%d\t%s\n", v.Number, when(v.SavedAt), v.SavedBy, v.Added, v.Removed, v.How)
				}
			})
		})
}

func (a *app) draftDiscard() *cobra.Command {
	c := &cobra.Command{
		Use:     "discard WINDOW",
		Short:   "Make what is live the draft again",
		Long:    "Make the live document of a window its draft again. What was edited stays in the draft's history.",
		Example: "  eager draft discard saltmere",
		Args:    exactly("WINDOW"),
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		w, err := a.service().Discard(c.Context(), args[0])
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "The draft of %s is release %d again. What it was is in \"eager draft log %s\".\n", w.Name, w.LiveRelease, w.Name)
		return nil
	}
	return c
}

func (a *app) draftSchema() *cobra.Command {
	return &cobra.Command{Use: "schema", Short: "Print the JSON Schema of window documents", Example: "  eager draft schema", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := a.Out.Write(window.Schema)
			return err
		}}
}
