// Package doctor finds what is not as it should be between a window and its database. In go a policy, its catalog and facts about the
// database; out come findings, each with what to do, as SQL where it is SQL. It reads nothing itself.
package doctor

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/statement"
	"eagerwindow/internal/core/window"
)

// Finding is one thing that is not as it should be.
type Finding struct {
	About   string `json:"about"`         // drift, index, key, source, privilege, security, setting
	Target  string `json:"target"`        // a table, a resource, a setting
	Message string `json:"message"`       // what is the matter
	Do      string `json:"do,omitempty"`  // what to do about it, in words
	SQL     string `json:"sql,omitempty"` // or as SQL
}

// Facts are what is known of the database besides its catalog.
type Facts struct {
	User       string
	Superuser  bool
	BypassRLS  bool // it passes by row-level security
	CreateRole bool
	CreateDB   bool
	TLS        bool                  // the connection is encrypted
	Local      bool                  // the connection does not leave the machine
	Password   string                // password_encryption
	Most       int                   // max_connections
	Needed     int                   // connections that the service may open
	Tables     map[string]TableFacts // by schema.table
}

// TableFacts are what the database's user may do with a table.
type TableFacts struct {
	Select, Insert, Update, Delete bool
	Owner                          bool // the user owns it
	RowSecurity, Forced            bool
}

// Index is an index that may be missing: what would use it, and a statement to try it with.
type Index struct {
	Table   *catalog.Table
	Columns []string
	Why     string
	Try     string // SQL, whose arguments may be anything
}

// Definition is the SQL that makes the index.
func (ix Index) Definition(concurrently bool) string {
	columns := make([]string, len(ix.Columns))
	for i, c := range ix.Columns {
		name, direction, _ := strings.Cut(c, " ")
		if columns[i] = catalog.Quote(name); direction != "" {
			columns[i] += " " + direction
		}
	}
	how := "create index on "
	if concurrently {
		how = "create index concurrently on "
	}
	return how + ix.Table.QualifiedName() + " (" + strings.Join(columns, ", ") + ")"
}

// manyRows is from how many rows on a missing index is worth a finding.
const manyRows = 1000

// Indexes lists indexes that foreign keys and row rules of a window would use and that are not there.
func Indexes(p *access.Policy) []Index {
	var list []Index
	add := func(t *catalog.Table, columns []string, why, try string) {
		same := func(o Index) bool { return o.Table == t && slices.Equal(o.Columns, columns) }
		if t.RowEstimate >= manyRows && t.Writable() && !t.Indexed(columns...) && !slices.ContainsFunc(list, same) {
			list = append(list, Index{t, columns, why, try})
		}
	}
	for _, r := range p.Model().Resources {
		if r.View != nil || r.Query != nil {
			continue
		}
		for _, k := range r.Table.ForeignKeys {
			add(r.Table, k.Columns, fmt.Sprintf("the foreign key to %s.%s: relations to many rows, and deletions there, read all of %s", k.ToSchema,
				k.ToTable, r.Table.Name), "")
		}
	}
	for _, role := range p.Model().Roles {
		scope, err := p.Scope(access.Caller{Subject: "doctor", Roles: []string{role.Name}})
		if err != nil {
			continue
		}
		for _, r := range p.Model().Resources {
			d := scope.For(window.Read, r)
			if d == nil || d.Rule == nil || r.View != nil || r.Query != nil {
				continue
			}
			if columns := equalColumns(d.Rule); columns != nil {
				add(r.Table, columns, fmt.Sprintf("the row rule of role %s: %s", role.Name, d.Rule.Text), "")
			}
		}
	}
	return list
}

// equalColumns are the columns of its own table that all rows of a rule have equal to a value.
func equalColumns(rule *access.Rule) (columns []string) {
	for _, f := range access.Compared(rule) {
		columns = append(columns, f.Column.Name)
	}
	return columns
}

// OfPlan lists indexes that a statement would use and that are not there.
func OfPlan(p *statement.Plan, why string) (list []Index) {
	for _, u := range p.Uses {
		columns := slices.Clone(u.Equal)
		if len(u.Ranges) > 0 && !slices.Contains(columns, u.Ranges[0]) {
			columns = append(columns, u.Ranges[0])
		}
		if len(columns) == 0 {
			columns = u.Order
		}
		first, _, _ := strings.Cut(strings.Join(columns, ","), ",")
		first, _, _ = strings.Cut(first, " ")
		if first != "" && u.Table.RowEstimate >= manyRows && !u.Table.Indexed(first) {
			list = append(list, Index{u.Table, columns, why, p.SQL})
		}
	}
	return list
}

// TryOn is a statement that finds rows by the columns of an index, with its arguments in their types.
func (ix Index) TryOn() string {
	if ix.Try != "" {
		return ix.Try
	}
	conditions := make([]string, len(ix.Columns))
	for i, name := range ix.Columns {
		c := ix.Table.Column(name)
		conditions[i] = fmt.Sprintf("%s = $%d::%s", catalog.Quote(name), i+1, c.Type.SQL)
	}
	return "select * from " + ix.Table.QualifiedName() + " where " + strings.Join(conditions, " and ")
}

// Examine finds what is wrong with keys, privileges, row-level security and settings.
func Examine(p *access.Policy, f Facts) []Finding {
	e := &examiner{policy: p, facts: f, used: map[string]bool{}}
	e.keys()
	e.privileges()
	e.security()
	e.settings()
	return e.list
}

type examiner struct {
	policy *access.Policy
	facts  Facts
	used   map[string]bool // tables that the window is over, by schema.table
	list   []Finding
}

func (e *examiner) add(about, target, do, sql, format string, args ...any) {
	e.list = append(e.list, Finding{about, target, fmt.Sprintf(format, args...), do, sql})
}

// tables are the resources that are tables or views of the database.
func (e *examiner) tables() (list []*model.Resource) {
	for _, r := range e.policy.Model().Resources {
		if r.View == nil && r.Query == nil {
			list = append(list, r)
		}
	}
	return list
}

func (e *examiner) keys() {
	for _, r := range e.tables() {
		switch {
		case len(r.Key) == 0 && r.Table.Writable():
			e.add("key", r.Name, "", "alter table "+r.Table.QualifiedName()+" add column id bigint generated always as identity primary key",
				"%s has no key: its rows can't be named, changed or deleted", r.Table.String())
		case len(r.Key) > 0 && r.Table.Writable() && !r.KeyIsUnique():
			columns := make([]string, len(r.Key))
			for i, k := range r.Key {
				columns[i] = catalog.Quote(k.Column.Name)
			}
			e.add("key", r.Name, "", "create unique index concurrently on "+r.Table.QualifiedName()+" ("+strings.Join(columns, ", ")+")",
				"nothing keeps two rows of %s from having the same key", r.Table.String())
		}
	}
}

// privileges compares what roles are granted with what the database's user may do, and that with what is needed.
func (e *examiner) privileges() {
	needs := map[string]map[string]bool{}
	for _, role := range e.policy.Model().Roles {
		scope, err := e.policy.Scope(access.Caller{Subject: "doctor", Roles: []string{role.Name}})
		if err != nil {
			continue
		}
		for _, r := range e.tables() {
			e.used[r.Table.String()] = true
			for _, op := range scope.Operations(r) {
				if needs[r.Table.String()] == nil {
					needs[r.Table.String()] = map[string]bool{}
				}
				needs[r.Table.String()][privilegeOf[op]] = true
			}
		}
	}
	for _, r := range e.tables() {
		name := r.Table.String()
		is, known := e.facts.Tables[name]
		if !known {
			continue
		}
		var lacks []string
		for _, p := range []struct {
			name string
			is   bool
		}{{"select", is.Select}, {"insert", is.Insert}, {"update", is.Update}, {"delete", is.Delete}} {
			if needs[name][p.name] && !p.is {
				lacks = append(lacks, p.name)
			}
		}
		if lacks != nil {
			e.add("privilege", r.Name, "", fmt.Sprintf("grant %s on %s to %s", strings.Join(lacks, ", "), r.Table.QualifiedName(),
				catalog.Quote(e.facts.User)), "roles are granted what the database's user %s may not: %s on %s", e.facts.User,
				strings.Join(lacks, ", "), name)
		}
	}
	e.excess(needs)
}

var privilegeOf = map[window.Operation]string{window.Read: "select", window.Create: "insert", window.Update: "update",
	window.Delete: "delete"}

// excess tells what the database's user may do that nothing needs.
func (e *examiner) excess(needs map[string]map[string]bool) {
	user := catalog.Quote(e.facts.User)
	var powers, without []string
	for _, p := range []struct {
		is         bool
		what, less string
	}{
		{e.facts.CreateRole, "may make roles", "nocreaterole"},
		{e.facts.CreateDB, "may make databases", "nocreatedb"},
		{e.facts.BypassRLS, "passes by row-level security", "nobypassrls"},
	} {
		if p.is {
			powers, without = append(powers, p.what), append(without, p.less)
		}
	}
	switch {
	case e.facts.Superuser:
		e.add("privilege", e.facts.User, "then give the source a DSN of that user: eager source set", e.leastRole(needs),
			"the database's user %s is a superuser; a user that may do only what the window's roles are granted is enough", e.facts.User)
	case powers != nil:
		e.add("privilege", e.facts.User, "", "alter role "+user+" "+strings.Join(without, " "),
			"the database's user %s %s, which nothing here needs", e.facts.User, strings.Join(powers, ", "))
	}
	if e.facts.Superuser {
		return // then it may write everywhere
	}
	others := map[string]int{}
	var schemas []string
	for name, t := range e.facts.Tables {
		schema, _, _ := strings.Cut(name, ".")
		if !e.used[name] && (t.Insert || t.Update || t.Delete) {
			if others[schema] == 0 {
				schemas = append(schemas, schema)
			}
			others[schema]++
		}
	}
	slices.Sort(schemas)
	for _, schema := range schemas {
		e.add("privilege", schema, "", "revoke insert, update, delete on all tables in schema "+catalog.Quote(schema)+" from "+user+
			"; -- and grant again what the window's own tables there need",
			"the database's user %s may write to %d tables of schema %s that the window does not show", e.facts.User, others[schema], schema)
	}
}

// leastRole is SQL that makes a user who may do what the window's roles are granted, and no more.
func (e *examiner) leastRole(needs map[string]map[string]bool) string {
	user := catalog.Quote("eager_" + strings.ReplaceAll(e.policy.Model().Name, "-", "_"))
	tables := map[string][]string{} // by privileges
	var schemas []string
	grant := func(t *catalog.Table, list []string) {
		if schema := catalog.Quote(t.Schema); !slices.Contains(schemas, schema) {
			schemas = append(schemas, schema)
		}
		key := strings.Join(list, ", ")
		if key != "" && !slices.Contains(tables[key], t.QualifiedName()) {
			tables[key] = append(tables[key], t.QualifiedName())
		}
	}
	for _, r := range e.tables() {
		var list []string
		for _, op := range window.Operations {
			if p := privilegeOf[op]; needs[r.Table.String()][p] {
				list = append(list, p)
			}
		}
		grant(r.Table, list)
		for _, rel := range r.Relations {
			if rel.Through != nil && !e.used[rel.Through.Table.String()] {
				grant(rel.Through.Table, []string{"select", "insert", "delete"})
			}
		}
	}
	sql := "create role " + user + " login password '…'; grant usage on schema " + strings.Join(schemas, ", ") + " to " + user
	for _, key := range slices.Sorted(maps.Keys(tables)) {
		sql += ";\ngrant " + key + " on " + strings.Join(tables[key], ", ") + " to " + user
	}
	return sql
}

// security tells of row-level security that the database's user passes by.
func (e *examiner) security() {
	for _, r := range e.tables() {
		t, known := e.facts.Tables[r.Table.String()]
		if !known || !t.RowSecurity {
			continue
		}
		switch {
		case e.facts.Superuser || e.facts.BypassRLS:
			e.add("security", r.Name, "connect as a user that policies hold for, or repeat them as row rules", "",
				"%s has row-level security, and the database's user %s passes it by: its policies do not limit callers", r.Table.String(), e.facts.User)
		case t.Owner && !t.Forced:
			e.add("security", r.Name, "", "alter table "+r.Table.QualifiedName()+" force row level security",
				"%s has row-level security, and its owner %s passes it by: its policies do not limit callers", r.Table.String(), e.facts.User)
		}
	}
}

func (e *examiner) settings() {
	if !e.facts.TLS && !e.facts.Local {
		e.add("setting", "ssl", "add sslmode=verify-full to the source's DSN, and have the server offer TLS", "",
			"the connection to the database is not encrypted, and leaves this machine")
	}
	if e.facts.Password == "md5" {
		e.add("setting", "password_encryption", "then set the password of "+e.facts.User+" again",
			"alter system set password_encryption = 'scram-sha-256'",
			"the database keeps passwords as MD5")
	}
	if e.facts.Most > 0 && e.facts.Most < e.facts.Needed {
		e.add("setting", "max_connections", "or fewer for the service: pool_max_conns in the source's DSN",
			fmt.Sprintf("alter system set max_connections = %d",
				e.facts.Needed+20), "the service may open %d connections, and the database allows %d", e.facts.Needed, e.facts.Most)
	}
}
