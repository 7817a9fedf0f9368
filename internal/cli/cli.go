// Package cli is the command line: arguments in, calls of the service's client out, and what comes back as text. What the
// commands do is done elsewhere.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/service"
)

// Version is the program's.
const Version = "0.1.0"

// Surroundings are what the command line touches of the world.
type Surroundings struct {
	In       io.Reader
	Out, Err io.Writer
	Handler  func(*service.Service, service.Front) http.Handler
	Metrics  func(*prometheus.Registry) http.Handler
	HTTP     func(http.Handler) *http.Server
	Console  fs.FS
}

// Exit statuses.
const (
	exitDone  = iota
	exitFound // what was looked for is not as it should be, and the output says so
	exitUsage
	exitRefused
	exitUnreachable
)

// errUsage marks what was called the wrong way.
type errUsage struct{ error }

// errFound ends a command whose output tells of something that is not as it should be.
var errFound = errors.New("found something")

func usage(format string, args ...any) error { return errUsage{fmt.Errorf(format, args...)} }

// Run runs one command and returns the exit status.
func Run(args []string, with Surroundings) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{Surroundings: with}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(with.In)
	root.SetOut(with.Out)
	root.SetErr(with.Err)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	if errors.Is(err, errFound) {
		return exitFound
	}
	fmt.Fprintln(with.Err, "eager: "+err.Error())
	var refused *client.Refused
	var wrong errUsage
	_, isFault := fault.From(err)
	if errors.As(err, &refused) && a.output != "" && a.output != "table" {
		_ = a.print(refused.Object(), nil) // whoever reads it has gone away if this fails
	}
	switch {
	case errors.As(err, &wrong):
		return exitUsage
	case errors.Is(err, client.ErrUnreachable):
		fmt.Fprintln(with.Err, "Is the service running? Start one with \"eager demo\" or \"eager serve\", or name another with --url.")
		return exitUnreachable
	case errors.As(err, &refused), isFault:
		return exitRefused
	}
	return exitUsage
}

// app is what the commands share.
type app struct {
	Surroundings
	url    string
	output string
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "eager",
		Short: "Tables as REST endpoints, with permissions, tests and a description",
		Long: `Eager Window turns the tables of a PostgreSQL database into a REST API: with filter, sort, page, relations, and
per-role permissions, from a window document of a page or two.

Start with "eager demo", which makes a made-up harbour and serves it.`,
		SilenceUsage: true, SilenceErrors: true,
	}
	root.Version = Version
	root.SetVersionTemplate("eager {{.Version}}\n")
	root.SetUsageTemplate(root.UsageTemplate() + exitStatuses)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%w; see \"%s --help\"", err, c.CommandPath())
	})
	root.PersistentFlags().StringVar(&a.url, "url", "", "address of the service (EAGER_URL; default: http://127.0.0.1:8080)")
	root.CompletionOptions.HiddenDefaultCmd = false
	root.AddCommand(a.demo(), a.serve(), a.login(), a.open(), a.windows(), a.close(), a.look(), a.source(), a.draft(), a.ask(), a.access(),
		a.check(), a.describe(), a.publish(), a.releases(), a.diff(), a.restore(), a.client(), a.account(), a.operator(), a.keys(), a.token(),
		a.status(),
		a.doctor(),
		a.audit(), a.version())
	return root
}

// exitStatuses ends what is said of every command.
const exitStatuses = `
Exit status: 0 done, 1 a check, a comparison or the doctor found something, 2 wrong usage, 3 refused by the service,
4 the service can't be reached.
`

// group is a command that holds others; what it does by itself, if nothing, is to tell of them.
func group(c *cobra.Command, parts ...*cobra.Command) *cobra.Command {
	c.AddCommand(parts...)
	c.Args = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return nil
		}
		var names []string
		for _, part := range c.Commands() {
			names = append(names, part.Name())
		}
		return usage("unknown command %q of %q%s", args[0], c.CommandPath(), fault.Suggest(args[0], names))
	}
	if c.RunE == nil {
		c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	}
	return c
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Print the version", Args: noArgs, Example: "  eager version",
		RunE: func(*cobra.Command, []string) error {
			fmt.Fprintln(a.Out, "eager "+Version)
			return nil
		}}
}

// service is the client of the service that the flags or the environment name.
func (a *app) service() *client.Client {
	saved := readLogin()
	c := &client.Client{URL: first(a.url, os.Getenv("EAGER_URL"), saved.URL, "http://127.0.0.1:8080"), Token: os.Getenv("EAGER_TOKEN")}
	if c.Token == "" && c.URL == saved.URL {
		c.Token = saved.Token
	}
	return c
}

func first(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no arguments, found %q", c.CommandPath(), strings.Join(args, " "))
	}
	return nil
}

// exactly asks for arguments by name.
func exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return usage("%s is missing; write: %s", names[len(args)], c.UseLine())
		}
		if len(args) > len(names) {
			return usage("unexpected argument %q; write: %s", args[len(names)], c.UseLine())
		}
		return nil
	}
}

// defaultHome is where a private database and the demo keep their files. Another user runs the database for root, and can't
// reach into root's own home.
func defaultHome() string {
	if os.Geteuid() == 0 {
		return "/var/lib/eager-window"
	}
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "eager-window")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ".eager-window"
	}
	return filepath.Join(home, ".local", "share", "eager-window")
}
