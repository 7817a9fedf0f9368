package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/windows"
)

func (a *app) access() *cobra.Command {
	c := &cobra.Command{
		Use:   "access",
		Short: "Show who may do what in a draft, and why",
		Long:  "Show what the roles of a window's draft may do, and why one of them may or may not do something.",
		Example: `  eager access show saltmere
  eager access why saltmere update port_calls 17 --as agent --claim agent_id=3`,
	}
	return group(c, a.accessShow(), a.accessWhy())
}

// marks are the lights as a terminal shows them.
var marks = map[access.Light]string{access.Dark: "·", access.Half: "◐", access.Lit: "●", access.None: "-"}

func (a *app) accessShow() *cobra.Command {
	return shows(a, &cobra.Command{
		Use:   "show WINDOW",
		Short: "Show the lights: what each role may do with each resource",
		Long: `Show the lights of a window's draft: for each resource and role create, read, update and delete, in this order.
● all of it, ◐ some rows or fields only, · nothing.`,
		Example: "  eager access show saltmere",
		Args:    exactly("WINDOW"),
	}, func(ctx context.Context, args []string) (windows.Lights, error) {
		return a.service().Lights(ctx, args[0])
	}, printLights)
}

func printLights(w io.Writer, lights windows.Lights) {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, role := range lights.Roles {
		fmt.Fprint(t, "\t"+role.Name)
	}
	fmt.Fprintln(t)
	for _, r := range lights.Resources {
		line := r.Name
		for _, four := range r.Lights {
			line += "\t"
			for _, l := range four {
				line += marks[l]
			}
		}
		fmt.Fprintln(t, line)
	}
	_ = t.Flush() // the terminal has gone away if this fails
	fmt.Fprintln(w, "\nEach crossing: create, read, update, delete. ● all, ◐ some rows or fields, · nothing, - not possible.")
}

func (a *app) accessWhy() *cobra.Command {
	c := &cobra.Command{
		Use:   "why WINDOW OPERATION RESOURCE [KEY...]",
		Short: "Say why a role may or may not do something",
		Long: `Say why a role of a window's draft may or may not read, create, update or delete: the grant and where it stands, the row rule with
the caller's values and whether a row meets it, the statement, and for a refusal the smallest change of the document that would allow it.
The exit status is 1 where the role may not.`,
		Example: `  eager access why saltmere update port_calls --as harbour_master
  eager access why saltmere read port_calls 17 --as harbour_master --field remarks`,
		Args: cobra.ArbitraryArgs,
	}
	as := c.Flags().StringSlice("as", nil, "the role, or several: pilot,agent")
	claims := c.Flags().StringToString("claim", nil, "a claim of the role, as name=value")
	field := c.Flags().String("field", "", "a field that is to be read or sent")
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case len(args) < 3:
			return exactly("WINDOW", "OPERATION", "RESOURCE")(c, args)
		case len(*as) == 0:
			return usage("--as is missing: the role")
		}
		q := windows.Question{Roles: *as, Claims: map[string]any{}, Operation: args[1], Resource: args[2], Key: args[3:], Field: *field}
		for name, value := range *claims {
			q.Claims[name] = value
		}
		reason, err := a.service().Why(c.Context(), args[0], q)
		if err != nil {
			return err
		}
		if err := a.print(reason, func(w io.Writer) { printReason(w, reason) }); err != nil {
			return err
		}
		if !reason.May {
			return errFound
		}
		return nil
	}
	return c
}

func printReason(w io.Writer, r windows.Reason) {
	fmt.Fprintln(w, r.Says)
	part := func(name, text string) {
		if text != "" {
			fmt.Fprintf(w, "  %-8s%s\n", name, strings.ReplaceAll(text, "\n", "\n          "))
		}
	}
	if r.Grant != "" {
		part("grant", fmt.Sprintf("%s, line %d", r.Grant, r.Line))
	}
	part("fields", strings.Join(r.Fields, ", "))
	part("rows", r.Rule)
	for _, c := range r.Conditions {
		says := ""
		if c.Holds != nil {
			says = map[bool]string{true: "  holds", false: "  does not hold"}[*c.Holds]
		}
		part("", c.Text+says)
	}
	part("SQL", r.SQL)
	part("change", r.Change)
}
