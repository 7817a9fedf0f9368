package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"eagerwindow/internal/client"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/probes"
	"eagerwindow/internal/core/report"
	"eagerwindow/internal/core/suite"
	"eagerwindow/internal/windows"
)

func (a *app) check() *cobra.Command {
	c := &cobra.Command{Use: "check", Short: "Test a window before anyone depends on it",
		Long: `Run suites of checks. Three follow from the document: access (who may do what, tried for real), contract (every answer is as it is
described) and edges (what can't be right is refused). Others are Arazzo 1.0.1 documents, in files or kept in the service. Checks run
in rehearsals: nothing that they write lasts.`,
		Example: "  eager check run saltmere\n  eager check new saltmere > a-visit.yaml\n  eager check run saltmere access --only agent"}
	return group(c, a.checkRun(), a.checkList(), a.checkNew(), a.checkKeep(), a.checkRemove(), a.checkRecord(), a.checkCompare(),
		a.checkHistory(), a.checkAgain())
}

func (a *app) checkRun() *cobra.Command {
	c := &cobra.Command{
		Use:   "run WINDOW [SUITE|FILE …]",
		Short: "Run suites of checks",
		Long: `Run suites against a window's draft: those that follow from the document where none is named. A suite is access, contract or
edges, the name of one that is kept, or a file. The exit status is 1 where a check fails.

--accept takes the answers of checks that fail as right: it rewrites the criteria that compare a part of an answer with a value, in files
and in suites that are kept, and leaves all else as it is.

--at sends the requests of files to an address instead, such as another service's API, with the token in EAGER_CHECK_TOKEN; what they
write there lasts.`,
		Example: `  eager check run saltmere
  eager check run saltmere access contract --on live
  eager check run saltmere access --only "agent: read" --report junit=checks.xml --report html=checks.html`,
		Args: cobra.MinimumNArgs(1),
	}
	k := &checking{app: a}
	a.outputFlag(c)
	c.Flags().StringVar(&k.in.On, "on", "draft", "draft, live, or the number of a release")
	c.Flags().StringVar(&k.in.Only, "only", "", "only checks whose name contains this")
	c.Flags().Uint64Var(&k.in.Seed, "seed", 0, "another choice of made-up values")
	c.Flags().BoolVar(&k.in.Lasting, "lasting", false, "without a rehearsal: what is written stays")
	c.Flags().StringArrayVar(&k.inputs, "input", nil, "an input of the suites, as name=value; the value as JSON, or else a text")
	c.Flags().StringVar(&k.inputFile, "inputs", "", "a file of inputs, YAML or JSON; of a list, the suites run once for each")
	c.Flags().StringVar(&k.inputRows, "input-rows", "", "a read of the draft whose rows are inputs: the suites run once for each")
	c.Flags().BoolVar(&k.accept, "accept", false, "take the answers of checks that fail as right, and rewrite their suites")
	c.Flags().StringArrayVar(&k.reports, "report", nil, "a file to write, as junit=FILE, json=FILE or html=FILE")
	c.Flags().StringVar(&k.at, "at", "", "the address of an API to send the requests of files to")
	c.RunE = func(c *cobra.Command, args []string) error { return k.run(c, args[0], args[1:]) }
	return c
}

// checking is what is asked of a run of suites.
type checking struct {
	app                      *app
	in                       windows.NewChecks
	reports, inputs          []string
	at, inputFile, inputRows string
	accept                   bool
}

func (k *checking) run(c *cobra.Command, window string, names []string) error {
	if err := checkReports(k.reports); err != nil {
		return err
	}
	rows, err := k.app.inputRows(c, window, k.inputFile, k.inputRows, k.inputs)
	if err != nil {
		return err
	}
	if k.accept && len(rows) > 1 {
		return usage("--accept goes with one run of the suites, not with %d rows of inputs", len(rows))
	}
	if err := chooseSuites(&k.in, names); err != nil {
		return err
	}
	begun := time.Now()
	results, err := k.app.runEach(c, window, k.at, k.in, rows)
	if err != nil {
		return err
	}
	slices.SortStableFunc(results, func(x, y suite.Result) int { return strings.Compare(x.Suite, y.Suite) })
	all := report.Report{Window: window, On: k.in.On, At: begun.UTC().Truncate(time.Second), Seconds: time.Since(begun).Seconds(),
		Results: results}
	if err := writeReports(k.reports, all); err != nil {
		return err
	}
	if err := k.app.print(all, func(w io.Writer) { printReport(w, all) }); err != nil {
		return err
	}
	failed := all.Failed()
	if k.accept {
		accepted, err := k.app.accept(c, window, results)
		if err != nil {
			return err
		}
		failed -= accepted
	}
	if failed > 0 {
		return errFound
	}
	return nil
}

// runEach runs the suites once with each row of inputs.
func (a *app) runEach(c *cobra.Command, window, at string, in windows.NewChecks, rows []map[string]any) ([]suite.Result, error) {
	var results []suite.Result
	done := a.progress(&results)
	defer a.clearProgress()
	for i, row := range rows {
		of := done
		if len(rows) > 1 {
			of = func(r suite.Result) {
				r.Check += fmt.Sprintf(" [%d]", i+1)
				done(r)
			}
		}
		in.Inputs = row
		run := func() error { return a.service().RunChecks(c.Context(), window, in, of) }
		if at != "" {
			run = func() error { return a.checkAt(c, window, at, in, of) }
		}
		if err := run(); err != nil {
			return nil, err
		}
	}
	return results, nil
}

// isFile reports whether a suite is named by its file: names of suites that are kept have neither points nor slashes.
func isFile(name string) bool { return strings.ContainsAny(name, "./") }

// chooseSuites takes those that are named: suites of the service, and files.
func chooseSuites(in *windows.NewChecks, names []string) error {
	for _, name := range names {
		if !isFile(name) {
			in.Suites = append(in.Suites, name)
			continue
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return usage("%w", err)
		}
		if _, err := suite.Parse(text); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		in.Documents = append(in.Documents, windows.NamedDocument{Name: filepath.Clean(name), Text: string(text)})
	}
	return nil
}

// inputRows are the inputs of each run of the suites, with those that are given for all of them.
func (a *app) inputRows(c *cobra.Command, window, file, read string, given []string) ([]map[string]any, error) {
	rows, err := a.readInputs(c, window, file, read)
	if err != nil || len(given) == 0 {
		return rows, err
	}
	text, err := bodyOf(given)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if err := json.Unmarshal([]byte(text), &row); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

// readInputs are those of a file, or the rows that a read of the draft answers; one without any where none is named.
func (a *app) readInputs(c *cobra.Command, window, file, read string) ([]map[string]any, error) {
	var text []byte
	var err error
	switch {
	case file != "" && read != "":
		return nil, usage("--inputs and --input-rows both give inputs; keep one")
	case file == "" && read == "":
		return []map[string]any{{}}, nil
	case file != "":
		if text, err = os.ReadFile(file); err != nil {
			return nil, usage("%w", err)
		}
	default:
		if text, err = a.fetch(c, "/draft/"+window+"/"+strings.TrimPrefix(read, "/")); err != nil {
			return nil, err
		}
	}
	v, err := jsontree.Parse(text)
	if err != nil {
		return nil, usage("the inputs can't be read: %w", err)
	}
	if page, is := v.(*jsontree.Object); is && read != "" && page.List("value") != nil {
		v = page.List("value")
	}
	list, is := v.(jsontree.List)
	if !is {
		list = jsontree.List{v}
	}
	var rows []map[string]any
	for _, item := range list {
		row, is := jsontree.Plain(item).(map[string]any)
		if !is {
			return nil, usage("inputs are names with values, or a list of such")
		}
		maps.DeleteFunc(row, func(name string, _ any) bool { return strings.HasPrefix(name, "@") })
		rows = append(rows, row)
	}
	return rows, nil
}

// progress collects results, and counts them on a terminal while they come.
func (a *app) progress(results *[]suite.Result) func(suite.Result) {
	shown := time.Now()
	return func(r suite.Result) {
		*results = append(*results, r)
		if a.onTerminal() && time.Since(shown) > 200*time.Millisecond {
			shown = time.Now()
			fmt.Fprintf(a.Err, "\r\x1b[K%s: %d checks", r.Suite, len(*results))
		}
	}
}

func (a *app) onTerminal() bool {
	f, is := a.Err.(*os.File)
	if !is {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func (a *app) clearProgress() {
	if a.onTerminal() {
		fmt.Fprint(a.Err, "\r\x1b[K")
	}
}

func printReport(w io.Writer, all report.Report) {
	for _, r := range all.Results {
		switch {
		case r.Skipped != "":
			fmt.Fprintf(w, "skipped  %s, %s: %s\n", r.Suite, r.Check, r.Skipped)
		case !r.Passed:
			fmt.Fprintf(w, "failed   %s, %s\n", r.Suite, r.Check)
			if r.At != "" {
				fmt.Fprintf(w, "         at %s\n", r.At)
			}
			fmt.Fprintf(w, "         %s\n", indented(r.Failure))
			if r.Request != "" {
				fmt.Fprintf(w, "         sent     %s\n", indented(short(r.Request)))
			}
			if r.Answer != "" {
				fmt.Fprintf(w, "         answered %s\n", indented(short(strings.ReplaceAll(r.Answer, "\n", " "))))
			}
		}
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "SUITE\tCHECKS\tFAILED\tREQUESTS\tSECONDS")
	for _, s := range all.Suites() {
		fmt.Fprintf(t, "%s\t%d\t%d\t%d\t%.1f\n", s.Name, s.Checks, s.Failed, s.Asked, s.Seconds)
	}
	_ = t.Flush() // as what follows
}

func indented(text string) string {
	return strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n                  ")
}

func checkReports(list []string) error {
	for _, r := range list {
		if kind, file, is := strings.Cut(r, "="); !is || file == "" || report.Writers[kind] == nil {
			return usage("--report takes junit=FILE, json=FILE or html=FILE, not %q", r)
		}
	}
	return nil
}

func writeReports(list []string, all report.Report) error {
	for _, r := range list {
		kind, file, _ := strings.Cut(r, "=")
		var out bytes.Buffer
		if err := report.Writers[kind](&out, all); err != nil {
			return fmt.Errorf("write the report %s: %w", file, err)
		}
		if err := os.WriteFile(file, out.Bytes(), 0o644); err != nil {
			return usage("%w", err)
		}
	}
	return nil
}

// checkAt runs suites of files against an address: no rehearsal is there, so what they write lasts.
func (a *app) checkAt(c *cobra.Command, window, at string, in windows.NewChecks, done func(suite.Result)) error {
	if len(in.Suites) > 0 || len(in.Documents) == 0 {
		return usage("--at runs suites from files only")
	}
	described, err := a.contract(c, window)
	if err != nil {
		return err
	}
	for _, d := range in.Documents {
		read, err := suite.Parse([]byte(d.Text))
		if err != nil {
			return err
		}
		if _, err := read.Run(c.Context(), suite.Options{Name: d.Name, Contract: described, Server: at, Inputs: in.Inputs, Only: in.Only,
			Done: done,
			Send: func(ctx context.Context, q suite.Request) (suite.Answer, error) { return sendTo(ctx, at, q) }}); err != nil {
			return err
		}
	}
	return nil
}

func sendTo(ctx context.Context, at string, q suite.Request) (suite.Answer, error) {
	r, err := http.NewRequestWithContext(ctx, q.Method, strings.TrimSuffix(at, "/")+"/"+q.Path, bytes.NewReader(q.Body))
	if err != nil {
		return suite.Answer{}, err
	}
	r.Header = http.Header(q.Header)
	if token := os.Getenv("EAGER_CHECK_TOKEN"); token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return suite.Answer{}, fmt.Errorf("%w at %s: %w", client.ErrUnreachable, at, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	return suite.Answer{Status: res.StatusCode, Header: map[string][]string(res.Header), Body: body}, err
}

func (a *app) checkList() *cobra.Command {
	c := &cobra.Command{Use: "list WINDOW", Short: "List a window's suites",
		Long:    "List the suites of checks that are kept for a window, and those that follow from its document.",
		Example: "  eager check list saltmere", Args: exactly("WINDOW")}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		list, err := a.service().Suites(c.Context(), args[0])
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
			fmt.Fprintln(t, "SUITE\tSAVED\tBY")
			for _, name := range probes.Suites {
				fmt.Fprintf(t, "%s\tfollows from the document\t\n", name)
			}
			for _, s := range list {
				fmt.Fprintf(t, "%s\t%s\t%s\n", s.Name, when(s.SavedAt), s.SavedBy)
			}
			_ = t.Flush() // as what follows
		})
	}
	return c
}

func (a *app) checkKeep() *cobra.Command {
	c := &cobra.Command{Use: "keep WINDOW FILE", Short: "Keep a suite in the service",
		Long:    "Keep a suite of checks in the service under the name of its file, so that it can be run by that and demanded of releases.",
		Example: "  eager check new saltmere > a-visit.yaml\n  eager check keep saltmere a-visit.yaml", Args: exactly("WINDOW", "FILE")}
	c.RunE = func(c *cobra.Command, args []string) error {
		text, err := os.ReadFile(args[1])
		if err != nil {
			return usage("%w", err)
		}
		name := strings.TrimSuffix(filepath.Base(args[1]), filepath.Ext(args[1]))
		if _, err := a.service().SaveSuite(c.Context(), args[0], name, string(text)); err != nil {
			return fmt.Errorf("%s: %w", args[1], err)
		}
		fmt.Fprintf(a.Out, "Suite %s of %s is kept. Run it: eager check run %s %s\n", name, args[0], args[0], name)
		return nil
	}
	return c
}

func (a *app) checkRemove() *cobra.Command {
	c := &cobra.Command{Use: "remove WINDOW SUITE", Short: "Forget a suite that is kept",
		Long:    "Forget a suite of checks that is kept in the service.",
		Example: "  eager check new saltmere > a-visit.yaml\n  eager check keep saltmere a-visit.yaml\n  eager check remove saltmere a-visit",
		Args:    exactly("WINDOW", "SUITE")}
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := a.service().RemoveSuite(c.Context(), args[0], args[1]); err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "Suite %s of %s is removed.\n", args[1], args[0])
		return nil
	}
	return c
}
