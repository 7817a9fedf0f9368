package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"eagerwindow/internal/identity"
	"eagerwindow/internal/windows"
)

func (a *app) source() *cobra.Command {
	c := &cobra.Command{Use: "source", Short: "The databases that windows are over",
		Long: "The databases that windows are over. Their DSNs are kept sealed, and never shown.", Example: "  eager source list"}
	list := shows(a, &cobra.Command{Use: "list", Short: "List the sources, and whether they answer", Example: "  eager source list",
		Args: noArgs},
		func(ctx context.Context, _ []string) ([]windows.Source, error) { return a.service().Sources(ctx) }, printSources)
	add := a.sourceSave("add", "Keep a DSN under a new name",
		"Try a DSN and keep it, sealed, under a name that documents can give as their source.",
		"  eager source add copy \"$EAGER_DEMO_DSN\"")
	set := a.sourceSave("set", "Give a source another DSN",
		"Try another DSN of a source, such as one with a new password, and keep it. Windows over the source go on without a pause.",
		"  eager source set saltmere \"$EAGER_DEMO_DSN\"")
	remove := &cobra.Command{Use: "remove NAME", Short: "Forget a source that no window uses", Example: "  eager source remove copy",
		Args: exactly("NAME")}
	remove.RunE = func(c *cobra.Command, args []string) error {
		if err := a.service().RemoveSource(c.Context(), args[0]); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Source %s is forgotten.\n", args[0])
		return nil
	}
	return group(c, list, add, set, remove)
}

func (a *app) sourceSave(verb, short, long, example string) *cobra.Command {
	c := &cobra.Command{Use: verb + " NAME DSN", Short: short,
		Long: long + "\nWith - as the DSN it is read from standard input, where no list of processes shows it.", Example: example,
		Args: exactly("NAME", "DSN")}
	c.RunE = func(c *cobra.Command, args []string) error {
		dsn := args[1]
		if dsn == "-" {
			text, err := io.ReadAll(a.In)
			if err != nil {
				return err
			}
			dsn = strings.TrimSpace(string(text))
		}
		save := a.service().AddSource
		if verb == "set" {
			save = a.service().SetSource
		}
		s, err := save(c.Context(), args[0], dsn)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Source %s is %s.%s\n", s.Name, s.Address, usedByText(s.Windows))
		return nil
	}
	return c
}

func usedByText(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return " It is used by " + strings.Join(list, ", ") + "."
}

func printSources(w io.Writer, list []windows.Source) {
	if len(list) == 0 {
		fmt.Fprintln(w, "The service keeps no sources; see \"eager open --help\".")
		return
	}
	columns(w, func(t io.Writer) {
		fmt.Fprintln(t, "SOURCE\tDATABASE\tWINDOWS\tSTATE")
		for _, s := range list {
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\n", s.Name, dash(s.Address), dash(strings.Join(s.Windows, ", ")), cmp.Or(s.Wrong, "answers"))
		}
	})
}

func (a *app) operator() *cobra.Command {
	c := &cobra.Command{Use: "operator", Short: "People who edit and publish windows", Example: "  eager operator list"}
	list := shows(a, &cobra.Command{Use: "list", Short: "List the operators", Example: "  eager operator list", Args: noArgs},
		func(ctx context.Context, _ []string) ([]identity.OperatorEntry, error) {
			return a.service().Operators(ctx)
		}, printOperators)
	add := &cobra.Command{Use: "add EMAIL", Short: "Add an operator",
		Long:    "Add a person who may edit and publish all windows. The password is made and told this once.",
		Example: "  eager operator add ada@saltmere.example",
		Args:    exactly("EMAIL")}
	add.RunE = func(c *cobra.Command, args []string) error {
		o, err := a.service().AddOperator(c.Context(), identity.NewOperator{Email: args[0]})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s may sign in. The password, told this once:\n\n  %s\n", o.Email, o.Password)
		return nil
	}
	password := &cobra.Command{Use: "password EMAIL", Short: "Give an operator another password",
		Long:    "Give an operator another password, which is asked for or read from standard input. Other sessions of the operator end.",
		Example: "  echo open-the-window | eager operator password keeper@saltmere.example", Args: exactly("EMAIL")}
	password.RunE = func(c *cobra.Command, args []string) error {
		text, err := a.password()
		if err != nil {
			return err
		}
		if text == "" {
			return usage("the password is missing: write it, or send it to standard input")
		}
		if err := a.service().ChangeOperator(c.Context(), args[0], identity.OperatorChange{Password: text}); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s has another password; other sessions have ended.\n", args[0])
		return nil
	}
	remove := &cobra.Command{Use: "remove EMAIL", Short: "Remove an operator", Example: "  eager operator remove ada@saltmere.example",
		Args: exactly("EMAIL")}
	remove.RunE = func(c *cobra.Command, args []string) error {
		if err := a.service().RemoveOperator(c.Context(), args[0]); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s is removed and signed out.\n", args[0])
		return nil
	}
	return group(c, list, add, password, a.operatorDisable("disable", true, "may not sign in any more, and is signed out"),
		a.operatorDisable("enable", false, "may sign in again"), remove)
}

func printOperators(w io.Writer, list []identity.OperatorEntry) {
	columns(w, func(t io.Writer) {
		fmt.Fprintln(t, "EMAIL\tSTATE\tSINCE\tLAST SIGN-IN")
		for _, o := range list {
			state := "may sign in"
			if o.Disabled {
				state = "disabled"
			}
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\n", o.Email, state, o.Created.Local().Format(time.DateOnly), ago(o.LastSignIn))
		}
	})
}

func (a *app) operatorDisable(verb string, disabled bool, outcome string) *cobra.Command {
	c := &cobra.Command{Use: verb + " EMAIL", Short: strings.ToUpper(verb[:1]) + verb[1:] + " an operator, who " + outcome,
		Example: "  eager operator " + verb + " ada@saltmere.example", Args: exactly("EMAIL")}
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := a.service().ChangeOperator(c.Context(), args[0], identity.OperatorChange{Disabled: &disabled}); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s %s.\n", args[0], outcome)
		return nil
	}
	return c
}
