package compare

import (
	"cmp"
	"slices"
	"strings"

	"eagerwindow/internal/core/window"
)

// document compares what a document says of the window as a whole.
func (c *comparer) document() {
	a, b := c.old.model().Document, c.new.model().Document
	c.text("title", a.Title, b.Title)
	c.text("about", a.About, b.About)
	c.text("version", a.Version, b.Version)
	if a.Source.Value != b.Source.Value {
		c.add(Internal, Endpoint, "", sourceName(a.Source.Value), sourceName(b.Source.Value), "the rows come from another source")
	}
	c.public(a.Description, b.Description)
	c.names("browsers.origins", Endpoint, texts(a.Origins), texts(b.Origins), "pages of %s may not call it any more",
		"pages of %s may call it")
	c.signIn(a.SignIn, b.SignIn)
}

// sourceName is a source without its password.
func sourceName(source string) string {
	if strings.ContainsAny(source, "=/") {
		return "a DSN in the document"
	}
	return source
}

// text compares words that only people read.
func (c *comparer) text(target, from, to string) {
	if from != to {
		c.add(Internal, Description, target, from, to, "has another text")
	}
}

func texts(list []window.Text) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.Value
	}
	return out
}

// names compares two sets, whose members break callers when they go.
func (c *comparer) names(target string, area Area, from, to []string, gone, added string) {
	if slices.Contains(to, "*") {
		to = append(slices.Clone(from), to...)
	}
	for _, name := range from {
		if !slices.Contains(to, name) {
			c.add(Breaking, area, target, name, "", gone, name)
		}
	}
	for _, name := range to {
		if !slices.Contains(from, name) {
			c.add(Compatible, area, target, "", name, added, strings.ReplaceAll(name, "*", "all sites"))
		}
	}
}

// public compares whose part of the description anyone may read.
func (c *comparer) public(a, b window.Description) {
	all := func(d window.Description) []string {
		if d.All {
			return c.old.Policy.RoleNames()
		}
		return texts(d.Public)
	}
	switch {
	case a.All && !b.All:
		c.add(Breaking, Description, "description.public", "all", strings.Join(texts(b.Public), ", "),
			"without a token, only part of the description can be read now")
	case b.All && !a.All:
		c.add(Compatible, Description, "description.public", strings.Join(texts(a.Public), ", "), "all",
			"anyone may read the whole description now, without a token")
	default:
		c.names("description.public", Description, all(a), all(b), "without a token, the part of role %s can't be read any more",
			"anyone may read the part of role %s, without a token")
	}
}

// signIn compares who gets tokens, and whose tokens are taken.
func (c *comparer) signIn(a, b window.SignIn) {
	sign := func(effect Effect, from, to, format string, args ...any) {
		c.add(effect, Permission, "sign_in", from, to, format, args...)
	}
	switch {
	case a.Clients && !b.Clients:
		sign(Breaking, "clients", "", "programs get no tokens any more")
	case b.Clients && !a.Clients:
		sign(Compatible, "", "clients", "programs can ask for tokens")
	}
	switch {
	case a.Accounts == nil && b.Accounts == nil:
	case b.Accounts == nil:
		sign(Breaking, "accounts", "", "people can't sign in any more")
	case a.Accounts == nil:
		sign(Compatible, "", "accounts", "people can sign in")
	}
	if a.Accounts != nil && b.Accounts != nil {
		switch {
		case a.Accounts.SignUp && !b.Accounts.SignUp:
			sign(Breaking, "sign_up", "", "nobody can sign up any more")
		case b.Accounts.SignUp && !a.Accounts.SignUp:
			sign(Compatible, "", "sign_up", "anyone can sign up now, as role %s", b.Accounts.DefaultRole.Value)
		case a.Accounts.SignUp && a.Accounts.DefaultRole.Value != b.Accounts.DefaultRole.Value:
			sign(Breaking, a.Accounts.DefaultRole.Value, b.Accounts.DefaultRole.Value, "those who sign up get another role")
		}
	}
	c.issuers(a, b)
}

func (c *comparer) issuers(a, b window.SignIn) {
	taken := func(s window.SignIn, iss string) *window.Issuer {
		i := s.Issuer(iss)
		if i == nil {
			return &window.Issuer{}
		}
		return i
	}
	for _, i := range slices.Concat(a.Issuers, b.Issuers) {
		iss := i.Issuer.Value
		before, after := taken(a, iss), taken(b, iss)
		if slices.ContainsFunc(c.list, func(ch Change) bool { return ch.Target == "sign_in "+iss }) {
			continue
		}
		add := func(effect Effect, from, to, format string, args ...any) {
			c.add(effect, Permission, "sign_in "+iss, from, to, format, args...)
		}
		switch {
		case before.Issuer.Value == after.Issuer.Value && before.Issuer.Value == "": // none is taken, before and after
		case after.Issuer.Value == "":
			add(Breaking, iss, "", "its tokens are not taken any more")
		case before.Issuer.Value == "":
			add(Compatible, "", iss, "its tokens are taken")
		case before.Role != after.Role:
			add(Breaking, before.Role, after.Role, "the role is read from another claim")
		case before.Audience.Value != after.Audience.Value:
			add(cmp.Or(map[bool]Effect{true: Compatible}[after.Audience.Value == ""], Breaking), before.Audience.Value, after.Audience.Value,
				"its tokens are for another audience")
		case before.JWKS.Value != after.JWKS.Value:
			add(Internal, before.JWKS.Value, after.JWKS.Value, "its keys are at another address")
		}
	}
}
