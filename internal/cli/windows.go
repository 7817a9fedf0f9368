package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"
	"golang.org/x/term"

	"eagerwindow/internal/windows"
)

// saved is what "eager login" keeps.
type saved struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func loginFile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "eager-window", "login.json")
}

func readLogin() (s saved) {
	if text, err := os.ReadFile(loginFile()); err == nil {
		_ = json.Unmarshal(text, &s) // a file that can't be read is no login
	}
	return s
}

func (a *app) login() *cobra.Command {
	c := &cobra.Command{
		Use:   "login",
		Short: "Sign in as an operator",
		Long: `Sign in as an operator and keep the session for the commands that follow. The password is asked for, or read from
standard input. Programs set EAGER_URL and EAGER_TOKEN instead.`,
		Example: "  echo open-the-window | eager login --email keeper@saltmere.example",
		Args:    noArgs,
	}
	email := c.Flags().String("email", "", "the operator's address")
	c.RunE = func(c *cobra.Command, _ []string) error {
		if *email == "" {
			return usage("--email is missing: the operator's address")
		}
		password, err := a.password()
		if err != nil {
			return err
		}
		s := a.service()
		session, err := s.SignIn(c.Context(), *email, password)
		if err != nil {
			return err
		}
		text, err := json.Marshal(saved{s.URL, session.Token})
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(loginFile()), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(loginFile(), text, 0o600); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Signed in at %s as %s for twelve hours.\n", s.URL, session.Email)
		return nil
	}
	return c
}

func (a *app) password() (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.Err, "Password: ")
		p, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(p), err
	}
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && err != io.EOF {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (a *app) open() *cobra.Command {
	c := &cobra.Command{
		Use:   "open DSN",
		Short: "Open a window over a database",
		Long: `Open a window over a database: the service keeps the DSN, and a first window document is drafted that exposes every
table to one role, "reader". The document is written to NAME.window.yaml for you to edit.`,
		Example: `  eager open "$EAGER_DEMO_DSN" --name harbour --schema harbour`,
		Args:    exactly("DSN"),
	}
	name := c.Flags().String("name", "", "the window's name, part of its address (default: the database's)")
	schemas := c.Flags().StringSlice("schema", nil, "only the tables of these schemas")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, s := c.Context(), a.service()
		if *name == "" {
			cat, err := s.Look(ctx, args[0])
			if err != nil {
				return err
			}
			*name = strings.ReplaceAll(strings.ToLower(cat.Database), "_", "-")
		}
		file := *name + ".window.yaml"
		if _, err := os.Stat(file); err == nil {
			return usage("%s is there already; move it, or choose another name with --name", file)
		}
		document, err := s.Open(ctx, windows.NewWindow{Name: *name, Source: args[0], Schemas: *schemas})
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(document), 0o644); err != nil {
			return fmt.Errorf("the window is open, but its document could not be written: %w", err)
		}
		fmt.Fprintf(a.Out, `Window %s is open as a draft; its document is %s.

  eager ask %s / --as reader
  eager draft push %s
  eager publish %s
`, *name, file, *name, file, *name)
		return nil
	}
	return c
}

// outputFlag adds -o to a command whose result programs read too. What it does not take is refused before anything is done.
func (a *app) outputFlag(c *cobra.Command) {
	c.Flags().StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	c.PreRunE = func(*cobra.Command, []string) error {
		if !slices.Contains([]string{"table", "json", "yaml"}, a.output) {
			return usage("-o is table, json or yaml, not %q", a.output)
		}
		return nil
	}
}

// shows lets a command fetch something and print it as -o asks.
func shows[T any](a *app, c *cobra.Command, fetch func(context.Context, []string) (T, error), table func(io.Writer, T)) *cobra.Command {
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		found, err := fetch(c.Context(), args)
		if err != nil {
			return err
		}
		return a.print(found, func(w io.Writer) { table(w, found) })
	}
	return c
}

// columns writes lines whose parts are between tabs, one part below the other.
func columns(w io.Writer, write func(io.Writer)) {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	write(t)
	_ = t.Flush() // the terminal has gone away if this fails
}

// print writes a result as the -o flag asks.
func (a *app) print(v any, table func(io.Writer)) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.Out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "yaml":
		plain, err := json.Marshal(v)
		if err != nil {
			return err
		}
		return a.yaml(plain)
	}
	table(a.Out)
	return nil
}

// yaml writes JSON as YAML.
func (a *app) yaml(text []byte) error {
	var v any
	if err := yaml.Unmarshal(text, &v); err != nil {
		return err
	}
	out, err := yaml.Marshal(v)
	if err != nil {
		return err
	}
	_, err = a.Out.Write(out)
	return err
}
