package compare

import (
	"cmp"
	"fmt"
	"reflect"
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
	words := func(v any) string { return strings.Trim(fmt.Sprint(v), "{} ") }
	for _, t := range []struct{ name, from, to string }{
		{"contact", words(a.Description.Contact), words(b.Description.Contact)},
		{"license", words(a.Description.License), words(b.Description.License)},
		{"servers", strings.Join(texts(a.Description.Servers), " "), strings.Join(texts(b.Description.Servers), " ")},
	} {
		c.text("description."+t.name, t.from, t.to)
	}
	c.text("publish require", strings.Join(texts(a.Require), ", "), strings.Join(texts(b.Require), ", "))
	if !reflect.DeepEqual(acts(a.Overlay), acts(b.Overlay)) {
		c.add(Internal, Description, "the overlay", actions(a.Overlay), actions(b.Overlay), "changes the description in another way")
	}
	c.names("browsers.origins", Endpoint, texts(a.Origins), texts(b.Origins), "lacks %s now: its pages can't call the API",
		"has %s: its pages can call the API")
	c.signIn(a.SignIn, b.SignIn)
}

// acts are the actions of an overlay, without their places.
func acts(o *window.Overlay) (list []window.OverlayAction) {
	if o == nil {
		return nil
	}
	for _, a := range o.Actions {
		a.Target.Pos = window.Pos{}
		list = append(list, a)
	}
	return list
}

// actions says how many actions an overlay has.
func actions(o *window.Overlay) string {
	if o == nil {
		return ""
	}
	return fmt.Sprintf("actions: %d", len(o.Actions))
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
			c.add(Compatible, area, target, "", name, added, strings.ReplaceAll(name, "*", "any site"))
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
			"is smaller: without a token, only part of the description can be read")
	case b.All && !a.All:
		c.add(Compatible, Description, "description.public", strings.Join(texts(a.Public), ", "), "all",
			"is larger: anyone may read the whole description, without a token")
	default:
		c.names("description.public", Description, all(a), all(b), "lacks role %s now: its part can't be read without a token",
			"has role %s: anyone may read its part, without a token")
	}
}

// signIn compares who gets tokens, and whose tokens are taken.
func (c *comparer) signIn(a, b window.SignIn) {
	sign := func(effect Effect, from, to, format string, args ...any) {
		c.add(effect, Permission, "sign_in", from, to, format, args...)
	}
	switch {
	case a.Clients && !b.Clients:
		sign(Breaking, "clients", "", "gives programs no tokens any more")
	case b.Clients && !a.Clients:
		sign(Compatible, "", "clients", "gives programs tokens")
	}
	switch {
	case a.Accounts == nil && b.Accounts == nil:
	case b.Accounts == nil:
		sign(Breaking, "accounts", "", "has no accounts any more: people can't sign in")
	case a.Accounts == nil:
		sign(Compatible, "", "accounts", "has accounts: people can sign in")
	}
	if a.Accounts != nil && b.Accounts != nil {
		switch {
		case a.Accounts.SignUp && !b.Accounts.SignUp:
			sign(Breaking, "sign_up", "", "lets nobody sign up any more")
		case b.Accounts.SignUp && !a.Accounts.SignUp:
			sign(Compatible, "", "sign_up", "lets anyone sign up, as role %s", b.Accounts.DefaultRole.Value)
		case a.Accounts.SignUp && a.Accounts.DefaultRole.Value != b.Accounts.DefaultRole.Value:
			sign(Breaking, a.Accounts.DefaultRole.Value, b.Accounts.DefaultRole.Value, "gives those who sign up another role")
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
			add(Breaking, iss, "", "is not trusted any more: its tokens are refused")
		case before.Issuer.Value == "":
			add(Compatible, "", iss, "is trusted: its tokens are taken")
		case before.Role != after.Role:
			add(Breaking, before.Role, after.Role, "has the role in another claim")
		case before.Audience.Value != after.Audience.Value:
			add(cmp.Or(map[bool]Effect{true: Compatible}[after.Audience.Value == ""], Breaking), before.Audience.Value, after.Audience.Value,
				"has tokens for another audience")
		case before.JWKS.Value != after.JWKS.Value:
			add(Internal, before.JWKS.Value, after.JWKS.Value, "has its keys at another address")
		}
	}
}
