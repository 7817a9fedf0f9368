package access

import (
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
)

// Warnings tell what a document allows and may not mean: a saved view shows all its rows to a role that may read only some of
// what lies underneath.
func Warnings(m *model.Model) fault.List {
	var list fault.List
	for _, role := range m.Roles {
		limited := func(r *model.Resource) bool {
			g := role.Grants[r][window.Read]
			return g != nil && g.Rows.Value != ""
		}
		for _, view := range m.Resources {
			g := role.Grants[view][window.Read]
			if view.View == nil || g == nil || g.Rows.Value != "" {
				continue
			}
			for _, seen := range append([]*model.Resource{view}, m.Parts...) {
				if of := seen.View.Of; seen.View.Top == view && limited(of) {
					list.Add("view.rows", view.Name, g.Pos.Line, g.Pos.Column, "role %s may read only some rows of %s, but %s shows it those of all; if that is not meant, give the grant on %s rows of its own", role.Name, of.Name, view.Name, view.Name)
				}
			}
		}
	}
	return list
}
