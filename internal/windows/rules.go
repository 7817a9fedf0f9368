package windows

import (
	"context"
	"fmt"
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/compare"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
)

// countRules says with each change of a row rule how many rows it covers, then and now, for a caller of the role where there is one.
// What can't be counted in time is left out.
func (s *Registry) countRules(ctx context.Context, name string, api *data.API, changes []compare.Change) {
	for i, c := range changes {
		role, r := api.Model.Role(c.Role), api.Model.Resource(c.Target)
		if !isRule(c) || role == nil || r == nil {
			continue
		}
		scope, err := api.Policy.Scope(access.Caller{Subject: "difference", Roles: []string{role.Name}})
		if err != nil {
			continue
		}
		who, claims := s.someCaller(ctx, name, role)
		was, of := s.rowsOf(ctx, api, scope, r, c.From, claims)
		is, _ := s.rowsOf(ctx, api, scope, r, c.To, claims)
		if was == "" || is == "" {
			continue
		}
		if who != "" {
			who = " for " + who
		}
		changes[i].Message += fmt.Sprintf("; %s of %s rows%s", is, of, who)
		if !c.Gained {
			changes[i].Message += ", it was " + was
		}
	}
}

// isRule reports whether a change is one of a row rule over rows that are there.
func isRule(c compare.Change) bool {
	return c.Operation != "" && c.Operation != window.Create && (c.From != "" || c.To != "")
}

// rowsOf counts the rows that a rule covers, "" for all, and all that there are; "" where they can't be counted.
func (s *Registry) rowsOf(ctx context.Context, api *data.API, scope *access.Scope, r *model.Resource, rule string,
	claims map[string]any) (rows, of string) {
	if rule == "" {
		rule = "true"
	}
	found, err := s.covered(ctx, api, scope, r, rule, claims)
	if err != nil || found.Rows == nil || found.Of == nil {
		return "", ""
	}
	return fmt.Sprint(*found.Rows), fmt.Sprint(*found.Of)
}

// someCaller is a client of a role that has the claims that it needs, or none.
func (s *Registry) someCaller(ctx context.Context, name string, role *model.Role) (id string, claims map[string]any) {
	clients, err := s.records.Clients(ctx, name)
	if err != nil {
		return "", nil
	}
	for _, c := range clients {
		has := func(claim model.Claim) bool {
			_, err := access.ClaimValue(c.Claims, claim.Name, claim.Type)
			return err == nil
		}
		if slices.Contains(c.Roles, role.Name) && !slices.ContainsFunc(role.Claims, func(claim model.Claim) bool { return !has(claim) }) {
			return c.ID, c.Claims
		}
	}
	return "", nil
}
