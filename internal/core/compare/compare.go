// Package compare finds what changes for callers between two versions of a window. In go two documents that are bound to their catalogs,
// out come changes, each with what it is about and whether it breaks callers. The rules are written down for users in docs/changes.md.
//
// What comes back may get narrower and what is taken may get wider without breaking anybody; the other way round, a caller that worked
// with the old version may fail with the new one. What no role of the old version could reach breaks nobody.
package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Effect is what a change means to callers of the old version.
type Effect string

// The effects.
const (
	Breaking   Effect = "breaking"   // a request that was answered may be refused, or the answer may be one that the caller can't read
	Compatible Effect = "compatible" // everything that worked goes on working
	Internal   Effect = "internal"   // callers see no difference
)

// Area is the part of a window that a change is about.
type Area string

// The areas, in the order in which they are reported.
const (
	Endpoint    Area = "endpoint"
	Permission  Area = "permission"
	Description Area = "description"
)

var areas = []Area{Endpoint, Permission, Description}

// Change is one difference. From and To are texts as the document or a message has them, "" where there is none.
type Change struct {
	Effect  Effect `json:"effect"`
	Widens  bool   `json:"widens"` // the database gives a role more than the document names
	Area    Area   `json:"area"`
	Target  string `json:"target"` // port_calls.draught_m; "" for the window
	Role    string `json:"role"`
	From    string `json:"from"`
	To      string `json:"to"`
	Message string `json:"message"`
	// Roles are those of the old version whose callers a change of an endpoint breaks. Callers are who lately used it, for whoever knows: a
	// comparison does not.
	Roles     []string         `json:"roles,omitempty"`
	Callers   []string         `json:"callers,omitempty"`
	Operation window.Operation `json:"-"` // of a row rule: From and To are its texts, "" for every row
	Gained    bool             `json:"-"` // the operation was not granted before
	Secret    bool             `json:"-"` // a field that is called like a secret
}

// Side is one version of a window.
type Side struct {
	Policy  *access.Policy
	Catalog *catalog.Catalog
}

func (s Side) model() *model.Model { return s.Policy.Model() }

// scope is what a role may do; nil where the version has no such role.
func (s Side) scope(role string) *access.Scope {
	if s.model().Role(role) == nil {
		return nil
	}
	scope, err := s.Policy.Scope(access.Caller{Subject: "compare", Roles: []string{role}})
	if err != nil {
		return nil
	}
	return scope
}

// table is the table in the version's catalog, nil where it has none of that name.
func (s Side) table(t *catalog.Table) *catalog.Table { return s.Catalog.Find(t.Schema, t.Name) }

// Versions compares two versions: first the fields that look like secrets and that the database opens to a role, then what else it opens,
// then what breaks callers, and the rest; in each of these by area.
func Versions(before, after Side) []Change {
	c := &comparer{old: before, new: after}
	c.document()
	c.resources()
	c.roles()
	rank := func(ch Change) int {
		switch {
		case ch.Secret && ch.Widens:
			return 0
		case ch.Widens:
			return 1
		case ch.Effect == Breaking:
			return 2
		case ch.Effect == Compatible:
			return 3
		}
		return 4
	}
	slices.SortStableFunc(c.list, func(a, b Change) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(slices.Index(areas, a.Area), slices.Index(areas, b.Area)))
	})
	return c.list
}

type comparer struct {
	old, new Side
	list     []Change
}

func (c *comparer) add(effect Effect, area Area, target, from, to, format string, args ...any) *Change {
	c.list = append(c.list, Change{Effect: effect, Area: area, Target: target, From: from, To: to, Message: fmt.Sprintf(format, args...)})
	return &c.list[len(c.list)-1]
}

// breaks adds a change that breaks callers of some roles; where there are none, no caller can see it.
func (c *comparer) breaks(roles []string, area Area, target, from, to, format string, args ...any) *Change {
	effect := Internal
	if len(roles) > 0 {
		effect = Breaking
	}
	ch := c.add(effect, area, target, from, to, format, args...)
	ch.Roles = roles
	return ch
}

// opens adds a change that breaks nobody, and that callers of some roles can see.
func (c *comparer) opens(roles []string, area Area, target, from, to, format string, args ...any) *Change {
	effect := Internal
	if len(roles) > 0 {
		effect = Compatible
	}
	return c.add(effect, area, target, from, to, format, args...)
}

// which lists the roles of the old version whose scope does something.
func (c *comparer) which(does func(*access.Scope) bool) (list []string) {
	for _, role := range c.old.model().Roles {
		if does(c.old.scope(role.Name)) {
			list = append(list, role.Name)
		}
	}
	return list
}

// any lists the roles of the old version that may do one of the operations with a resource of it.
func (c *comparer) any(r *model.Resource, ops ...window.Operation) []string {
	return c.which(func(s *access.Scope) bool {
		return slices.ContainsFunc(ops, func(op window.Operation) bool { return s.For(op, r) != nil })
	})
}

// read lists the roles of the old version that may read a field of it.
func (c *comparer) read(f *model.Field) []string {
	return c.which(func(s *access.Scope) bool {
		d := s.For(window.Read, f.Resource)
		return d != nil && d.Fields[f.Index]
	})
}

// sent lists the roles of the old version that may give a field of it a value.
func (c *comparer) sent(f *model.Field) []string {
	return c.which(func(s *access.Scope) bool {
		return slices.ContainsFunc([]window.Operation{window.Create, window.Update}, func(op window.Operation) bool {
			d := s.For(op, f.Resource)
			return d != nil && d.Takes(f)
		})
	})
}

// union is the members of both lists, each once.
func union(a, b []string) []string {
	out := slices.Clone(a)
	for _, name := range b {
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Counts are how many changes there are.
type Counts struct {
	Breaking   int `json:"breaking"`
	Compatible int `json:"compatible"`
	Internal   int `json:"internal"`
	Widening   int `json:"widening"` // of the compatible ones
}

// Count counts changes by what they mean.
func Count(list []Change) (n Counts) {
	for _, c := range list {
		switch c.Effect {
		case Breaking:
			n.Breaking++
		case Compatible:
			n.Compatible++
		default:
			n.Internal++
		}
		if c.Widens {
			n.Widening++
		}
	}
	return n
}

// Brief is a list to be read: what the database opens to several roles is one change.
func Brief(list []Change) (out []Change) {
	at := map[string]int{}
	for _, c := range list {
		if !c.Widens {
			out = append(out, c)
			continue
		}
		who := c.Role + " (" + c.To + ")"
		if i, known := at[c.Target]; known {
			_, why, _ := strings.Cut(out[i].Message, ";")
			before, _, _ := strings.Cut(out[i].Message, ";")
			out[i].Message = before + ", " + who + ";" + why
			continue
		}
		at[c.Target] = len(out)
		_, why, _ := strings.Cut(c.Message, ";")
		c.Role, c.Message = "", "is open to "+who+";"+why
		out = append(out, c)
	}
	return out
}

// Used is the resource, or the field or relation of one, that whoever is affected by the change has used: "port_calls.draught_m".
func (c Change) Used() string {
	if end := strings.IndexAny(c.Target, "/([ "); end >= 0 {
		return c.Target[:end]
	}
	return c.Target
}

// Notes say for which roles something breaks, and who used it lately; "" where neither is known.
func (c Change) Notes() string {
	var parts []string
	if len(c.Roles) > 0 {
		parts = append(parts, "for "+strings.Join(c.Roles, ", "))
	}
	if len(c.Callers) > 0 {
		names := slices.Clone(c.Callers)
		if i := slices.Index(names, ""); i >= 0 {
			names[i] = "callers without a token"
		}
		parts = append(parts, "used in the last week by "+strings.Join(names, ", "))
	}
	return strings.Join(parts, "; ")
}

// String is the change on one line: what it is about and what it says.
func (c Change) String() string {
	switch {
	case c.Role != "": // the message names the resource
		return c.Role + " " + c.Message
	case c.Target == "":
		return c.Message
	}
	return c.Target + " " + c.Message
}
