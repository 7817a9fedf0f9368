package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/windows"
)

func (a *app) look() *cobra.Command {
	c := &cobra.Command{
		Use:   "look SOURCE [TABLE]",
		Short: "Show what is in a database, or in one table and how the API shows it",
		Long: `Show the tables and views of a database: their keys, foreign keys and sizes. SOURCE is a DSN, or the name of a source that ` +
			`the service
keeps. With a TABLE, the first argument is a window: the columns, keys, relations, checks and comments of the table, and how the
window's draft shows each; TABLE is the name of a table or of a resource.`,
		Example: `  eager look saltmere
  eager look saltmere port_call
  eager look "$EAGER_DEMO_DSN" -o json`,
		Args: cobra.ArbitraryArgs,
	}
	a.outputFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 2 {
			t, err := a.service().LookAtTable(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(t, func(w io.Writer) { printTable(w, t) })
		}
		if err := exactly("SOURCE")(c, args); err != nil {
			return err
		}
		cat, err := a.service().Look(c.Context(), args[0])
		if err != nil {
			return err
		}
		return a.print(cat, func(w io.Writer) { printCatalog(w, cat) })
	}
	return c
}

func printTable(w io.Writer, v windows.TableView) {
	shown := "not shown by the window"
	if v.Resource != "" {
		shown = "shown as " + v.Resource + ": " + strings.Join(v.Operations, ", ")
	}
	rows := ""
	if v.Rows >= 0 {
		rows = fmt.Sprintf(", about %d rows", v.Rows)
	}
	fmt.Fprintf(w, "%s, a %s%s, %s\n", v.Table, v.Kind, rows, shown)
	if v.About != "" {
		fmt.Fprintln(w, v.About)
	}
	fmt.Fprintln(w)
	columns(w, func(t io.Writer) {
		fmt.Fprintln(t, "COLUMN\tTYPE\tFIELD\tREAD BY\tABOUT")
		for _, c := range v.Columns {
			kind := c.Type
			if c.NotNull {
				kind += " not null"
			}
			field, roles := dash(c.Field), dash(strings.Join(c.Roles, ", "))
			if len(c.Roles) > 1 && len(c.Roles) == len(v.RolesReading) {
				roles = "all who read it"
			}
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", c.Name, kind, field, roles, oneLine(c.About))
		}
	})
	fmt.Fprintln(w)
	part := func(name string, lines []string) {
		for i, line := range lines {
			if i > 0 {
				name = ""
			}
			fmt.Fprintf(w, "%-12s%s\n", name, line)
		}
	}
	if len(v.Primary) > 0 {
		part("key", []string{strings.Join(v.Primary, ", ")})
	}
	for _, u := range v.Uniques {
		part("unique", []string{strings.Join(u, ", ")})
	}
	part("refers to", v.Refers)
	part("referred by", v.ReferredBy)
	part("checks", v.Checks)
	part("indexes", v.Indexes)
	relations := make([]string, len(v.Relations))
	for i, rel := range v.Relations {
		how := "one"
		if rel.Many {
			how = "many"
		}
		relations[i] = rel.Name + " → " + rel.To + " (" + how + ")"
	}
	part("relations", relations)
	if v.NotPossible != "" {
		part("note", []string{v.NotPossible})
	}
}

func printCatalog(w io.Writer, cat *catalog.Catalog) {
	fmt.Fprintf(w, "Database %s, PostgreSQL %d, %d tables and views\n\n", cat.Database, cat.Version/10000, len(cat.Tables))
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "TABLE\tKIND\t     ROWS\tCOLUMNS\tKEY\tREFERS TO")
	for _, table := range cat.Tables {
		rows := strconv.FormatInt(table.RowEstimate, 10)
		if table.RowEstimate < 0 || table.Kind == catalog.View {
			rows = "-"
		}
		var refers []string
		for _, k := range table.ForeignKeys {
			refers = append(refers, strings.Join(k.Columns, ",")+" → "+k.ToTable)
		}
		fmt.Fprintf(t, "%s.%s\t%s\t%9s\t%7d\t%s\t%s\n", table.Schema, table.Name, table.Kind, rows, len(table.Columns),
			dash(strings.Join(table.Primary, ", ")), dash(strings.Join(refers, "; ")))
	}
	t.Flush()
}
