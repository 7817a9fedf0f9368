package window

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/yamltext"
)

// Draft writes the first document of a window over a catalog: every table of some schemas (none: of all) as a resource, and a
// role that may read them, for its operator to cut down. Nobody without a token may do anything.
func Draft(name string, cat *catalog.Catalog, chosen ...string) (string, error) {
	if !windowName.MatchString(name) {
		return "", fault.New(fault.Invalid, "name.invalid",
			"%q can't be the name of a window: use lower-case letters, digits and hyphens, at most 63, a letter first; choose one with --name", name)
	}
	var tables []*catalog.Table
	var schemas []string
	for _, t := range cat.Tables {
		if !slices.Contains(schemas, t.Schema) {
			schemas = append(schemas, t.Schema)
		}
		if (len(chosen) == 0 || slices.Contains(chosen, t.Schema)) && t.Schema != "eager_window" {
			tables = append(tables, t)
		}
	}
	for _, schema := range chosen {
		if !slices.Contains(schemas, schema) {
			return "", fault.New(fault.Invalid, "schema.unknown", "database %q has no table in a schema %q%s", cat.Database, schema,
				fault.Suggest(schema, schemas))
		}
	}
	if len(tables) == 0 {
		return "", fault.New(fault.Invalid, "catalog.empty", "database %q has no tables to open a window over", cat.Database)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "window: %s\ntitle: %s\nversion: 1.0.0\nsource: %s\n\n", name, strconv.Quote(cat.Database), name)
	b.WriteString("# Every table is listed; take out what callers should not know of.\nresources:\n")
	used := map[string]bool{}
	for _, t := range tables {
		resource := ResourceName(t, used)
		fmt.Fprintf(&b, "  %s: {from: %s}", resource, yamltext.Scalar(t.String()))
		if !t.Writable() || t.Primary == nil && len(t.Uniques) == 0 {
			fmt.Fprintf(&b, "  # a %s without a key: read only", t.Kind)
		}
		b.WriteByte('\n')
	}
	b.WriteString(`
# No role, no access. This one reads everything and changes nothing.
roles:
  reader:
    may: {"*": read}

sign_in:
  clients: true
`)
	return b.String(), nil
}

// ResourceName is the table's name in a form that can be in a URL, with its schema before it where the name is taken.
func ResourceName(t *catalog.Table, used map[string]bool) string {
	clean := func(s string) string {
		var b strings.Builder
		for _, c := range s {
			if IsName("x" + string(c)) {
				b.WriteRune(c)
			} else {
				b.WriteByte('_')
			}
		}
		if s = b.String(); !IsName(s) {
			s = "table_" + s
		}
		return s
	}
	name := clean(t.Name)
	if used[name] {
		name = clean(t.Schema + "_" + t.Name)
	}
	for n := 2; used[name]; n++ {
		name = fmt.Sprintf("%s_%d", clean(t.Name), n)
	}
	used[name] = true
	return name
}
