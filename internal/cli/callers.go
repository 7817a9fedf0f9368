package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/identity"
)

func (a *app) client() *cobra.Command {
	c := &cobra.Command{Use: "client", Short: "Programs that call a window's API"}
	add, roles, claims := callerFlags(&cobra.Command{
		Use:   "add WINDOW ID",
		Short: "Add a program that may call the API",
		Long: `Add a program that may ask for tokens with its id and secret, or replace it. The secret is made and told this once. With several
roles it may do what one of them may.`,
		Example: "  eager client add saltmere timetable --role agent --claim agent_id=3",
		Args:    exactly("WINDOW", "ID"),
	})
	add.RunE = func(c *cobra.Command, args []string) error {
		if len(*roles) == 0 {
			return usage("--role is missing: the role that the program acts in")
		}
		s := a.service()
		added, err := s.AddClient(c.Context(), args[0], args[1], identity.NewClient{Roles: *roles, Claims: values(*claims)})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, `Client %s may act as %s. Its secret, told this once:

  %s

  curl -s %s/auth/%s/token -u %s:%s -d grant_type=client_credentials
`, added.ID, strings.Join(*roles, ", "), added.Secret, s.URL, args[0], added.ID, added.Secret)
		return nil
	}
	list := a.callerList("client", "programs", "eager client list saltmere", func(w *tabwriter.Writer, r identity.Roster) {
		fmt.Fprintln(w, "ID\tROLES\tCLAIMS\tLAST SEEN\tLAST REQUEST")
		for _, e := range r.Clients {
			id := e.ID
			if e.Disabled {
				id += " (disabled)"
			}
			fmt.Fprintf(w, "%s\t%s\n", id, entry(e.Entry))
		}
	})
	set := a.callerSet("client", "ID",
		"eager client set saltmere timetable --role office\n  eager client set saltmere timetable --new-secret\n"+
			"  eager client set saltmere timetable --disabled", func(c *cobra.Command, in *identity.CallerChange) {
			in.NewSecret, _ = c.Flags().GetBool("new-secret")
		})
	set.Flags().Bool("new-secret", false, "make another secret; the tokens of the one before are refused")
	set.Flags().Bool("disabled", false, "it may not call any more, with tokens that are out neither; --disabled=false lets it again")
	remove := a.callerRemove("client", "ID", "eager client remove saltmere timetable",
		func(s *client.Client, c *cobra.Command, window, id string) error {
			return s.RemoveClient(c.Context(), window, id)
		})
	return group(c, add, list, set, remove)
}

func (a *app) account() *cobra.Command {
	c := &cobra.Command{Use: "account", Short: "People who sign in to a window's API"}
	add, roles, claims := callerFlags(&cobra.Command{
		Use:     "add WINDOW EMAIL",
		Short:   "Add a person who may call the API",
		Long:    "Add a person who may sign in with an address and a password. The password is made and told this once; they can change it.",
		Example: "  eager account add saltmere ada@board.example --role agent --claim agent_id=3",
		Args:    exactly("WINDOW", "EMAIL"),
	})
	add.RunE = func(c *cobra.Command, args []string) error {
		if len(*roles) == 0 {
			return usage("--role is missing: the role that the person acts in")
		}
		added, err := a.service().AddAccount(c.Context(), args[0], identity.NewAccount{Email: args[1], Roles: *roles, Claims: values(*claims)})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s may sign in and act as %s. The password, told this once:\n\n  %s\n", added.Email, strings.Join(*roles, ", "),
			added.Password)
		return nil
	}
	list := a.callerList("account", "people", "eager account list saltmere", func(w *tabwriter.Writer, r identity.Roster) {
		fmt.Fprintln(w, "EMAIL\tSTATE\tROLES\tCLAIMS\tLAST SEEN\tLAST REQUEST")
		for _, e := range r.Accounts {
			state := "signed out"
			switch {
			case e.Disabled:
				state = "disabled"
			case e.Sessions == 1:
				state = "signed in"
			case e.Sessions > 1:
				state = fmt.Sprintf("signed in (%d)", e.Sessions)
			}
			fmt.Fprintf(w, "%s\t%s\t%s\n", e.Email, state, entry(e.Entry))
		}
	})
	set := a.callerSet("account", "EMAIL", "eager account set saltmere ada@board.example --role pilot --claim "+
		"pilot_id=db202dc9-ae78-ed03-c6e0-2d3c193ecfa8\n  eager account set saltmere ada@board.example --disabled",
		func(*cobra.Command, *identity.CallerChange) {})
	set.Flags().Bool("disabled", false, "it may not sign in any more, and is signed out; --disabled=false lets it again")
	remove := a.callerRemove("account", "EMAIL", "eager account remove saltmere ada@board.example",
		func(s *client.Client, c *cobra.Command, window, id string) error {
			return s.RemoveAccount(c.Context(), window, id)
		})
	return group(c, add, list, set, remove)
}

func (a *app) token() *cobra.Command {
	c := &cobra.Command{
		Use:   "token WINDOW",
		Short: "Print a token to call the live API as a role for a while",
		Long: `Print a token with which you call what is published as a role, with claims of your choice. It is for trying things: it is ` +
			`good for ten
minutes, or --for another time up to an hour, and only as long as you are an operator; its making is in the audit.`,
		Example: "  eager token saltmere --as agent --claim agent_id=3 --for 1m",
		Args:    exactly("WINDOW"),
	}
	as := c.Flags().StringSlice("as", nil, "the role, or several")
	claims := c.Flags().StringToString("claim", nil, "a claim of the role, as name=value")
	life := c.Flags().Duration("for", 10*time.Minute, "how long it is good")
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(*as) == 0 {
			return usage("--as says as which role")
		}
		in := identity.NewTrial{Roles: *as, Claims: map[string]any{}, Seconds: int(life.Seconds())}
		for name, value := range *claims {
			in.Claims[name] = value
		}
		token, err := a.service().TrialToken(c.Context(), args[0], in)
		if err != nil {
			return err
		}
		fmt.Fprintln(a.Out, token.AccessToken)
		return nil
	}
	return c
}

func (a *app) keys() *cobra.Command {
	c := &cobra.Command{Use: "keys", Short: "The keys that sign tokens"}
	rotate := &cobra.Command{
		Use:   "rotate",
		Short: "Make a new signing key",
		Long: `Make a new signing key. Keys are made anew every 30 days by themselves; this is for one that may have been seen.
Tokens of the older keys are good as long as they last, or with --forget not at all any more: then every program and person must ask
for a new one.`,
		Example: "  eager keys rotate",
		Args:    noArgs,
	}
	forget := rotate.Flags().Bool("forget", false, "refuse the tokens of the older keys from now on")
	rotate.RunE = func(c *cobra.Command, _ []string) error {
		if err := a.service().RotateKeys(c.Context(), *forget); err != nil {
			return err
		}
		if *forget {
			fmt.Fprintln(a.Out, "A new key signs tokens. Tokens of the older ones are refused from now on.")
		} else {
			fmt.Fprintln(a.Out, "A new key signs tokens. Tokens of the older ones are good as long as they last.")
		}
		return nil
	}
	return group(c, rotate)
}

// callerFlags adds the flags of a caller's roles and claims.
func callerFlags(c *cobra.Command) (_ *cobra.Command, roles *[]string, claims *map[string]string) {
	roles = c.Flags().StringSlice("role", nil, "the role, or several: pilot,agent")
	claims = c.Flags().StringToString("claim", nil, "a claim that a role needs, as name=value")
	return c, roles, claims
}

func values(claims map[string]string) map[string]any {
	out := map[string]any{}
	for name, v := range claims {
		out[name] = v
	}
	return out
}

func (a *app) callerList(kind, what, example string, table func(*tabwriter.Writer, identity.Roster)) *cobra.Command {
	c := &cobra.Command{Use: "list WINDOW", Short: "List the " + what + " that may call the API", Example: "  " + example,
		Args: exactly("WINDOW")}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		roster, err := a.service().Callers(c.Context(), args[0])
		if err != nil {
			return err
		}
		var list any = roster.Clients
		if kind == "account" {
			list = roster.Accounts
		}
		return a.print(list, func(w io.Writer) {
			t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
			if len(roster.Clients) == 0 && kind == "client" || len(roster.Accounts) == 0 && kind == "account" {
				fmt.Fprintf(w, "There are no %s yet; see \"eager %s add --help\".\n", what, kind)
				return
			}
			table(t, roster)
			_ = t.Flush() // the terminal has gone away if this fails
		})
	}
	return c
}

func (a *app) callerSet(kind, name, example string, more func(*cobra.Command, *identity.CallerChange)) *cobra.Command {
	c, roles, claims := callerFlags(&cobra.Command{
		Use:   "set WINDOW " + name,
		Short: "Change what a " + kind + " may do",
		Long: "Give a " + kind + " other roles or claims; what is left out stays, and --claim name= takes a claim away. It takes effect at " +
			"once, with\nthe tokens that are out.",
		Example: "  " + example,
		Args:    exactly("WINDOW", name),
	})
	c.RunE = func(c *cobra.Command, args []string) error {
		in := identity.CallerChange{Roles: *roles}
		if len(*claims) > 0 {
			in.Claims = values(*claims)
			for name, v := range in.Claims {
				if v == "" {
					in.Claims[name] = nil
				}
			}
		}
		if c.Flags().Changed("disabled") {
			disabled, _ := c.Flags().GetBool("disabled")
			in.Disabled = &disabled
		}
		more(c, &in)
		if len(in.Roles) == 0 && in.Claims == nil && in.Disabled == nil && !in.NewSecret {
			return usage("nothing is to be changed; see \"%s --help\"", c.CommandPath())
		}
		if kind == "account" {
			if err := a.service().ChangeAccount(c.Context(), args[0], args[1], in); err != nil {
				return err
			}
			fmt.Fprintln(a.Out, "Changed. It holds for the tokens that are out.")
			return nil
		}
		changed, err := a.service().ChangeClient(c.Context(), args[0], args[1], in)
		if err != nil {
			return err
		}
		if changed.Secret != "" {
			fmt.Fprintf(a.Out, "Client %s has another secret, told this once; tokens of the one before are refused:\n\n  %s\n", args[1],
				changed.Secret)
			return nil
		}
		fmt.Fprintln(a.Out, "Changed. It holds for the tokens that are out.")
		return nil
	}
	return c
}

func (a *app) callerRemove(kind, name, example string, remove func(*client.Client, *cobra.Command, string, string) error) *cobra.Command {
	c := &cobra.Command{
		Use:     "remove WINDOW " + name,
		Short:   "Remove a " + kind,
		Long:    "Remove a " + kind + ". Its tokens are refused from now on.",
		Example: "  " + example,
		Args:    exactly("WINDOW", name),
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := remove(a.service(), c, args[0], args[1]); err != nil {
			return err
		}
		fmt.Fprintln(a.Out, "Removed. Its tokens are refused from now on.")
		return nil
	}
	return c
}

// entry is what programs and people have in common, in the columns of a table.
func entry(e identity.Entry) string {
	var claims []string
	for _, name := range slices.Sorted(maps.Keys(e.Claims)) {
		claims = append(claims, fmt.Sprintf("%s=%v", name, e.Claims[name]))
	}
	for _, name := range e.Missing {
		claims = append(claims, name+" is missing")
	}
	seen := "never"
	if e.LastSeen != nil {
		seen = e.LastSeen.Local().Format(time.DateTime)
	}
	return strings.Join([]string{strings.Join(e.Roles, ", "), strings.Join(claims, ", "), seen, e.LastRequest}, "\t")
}
