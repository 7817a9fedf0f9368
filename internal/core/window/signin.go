package window

import (
	"net/url"
	"strings"

	"go.yaml.in/yaml/v4"
)

// SignIn says who may get a token, and whose tokens are taken.
type SignIn struct {
	Accounts *Accounts // nil: there are none
	Clients  bool      // programs may ask for tokens
	Issuers  []Issuer
}

// Accounts are people with an address and a password.
type Accounts struct {
	SignUp      bool
	DefaultRole Text // of those who sign up
}

// Issuer gives tokens that are taken here too.
type Issuer struct {
	Issuer   Text   // the iss of its tokens (RFC 7519, 4.1.1)
	JWKS     Text   // the URL of its keys (RFC 7517, 5); "": its tokens are not taken
	Role     string // the path of the claim that holds the role, or a list of them
	Audience Text
}

// Issuer is the one that gives tokens with that iss, or nil.
func (s *SignIn) Issuer(iss string) *Issuer {
	for i := range s.Issuers {
		if s.Issuers[i].Issuer.Value == iss && s.Issuers[i].JWKS.Value != "" {
			return &s.Issuers[i]
		}
	}
	return nil
}

func (p *parser) signIn(n *yaml.Node) (s SignIn) {
	p.keys(n, "sign_in", map[string]func(*yaml.Node){
		"clients": p.boolean(&s.Clients, "clients"),
		"accounts": func(n *yaml.Node) {
			s.Accounts = &Accounts{}
			p.keys(n, "accounts", map[string]func(*yaml.Node){
				"sign_up":      p.boolean(&s.Accounts.SignUp, "sign_up"),
				"default_role": p.into(&s.Accounts.DefaultRole, "default_role"),
			})
			if s.Accounts.SignUp && s.Accounts.DefaultRole.Value == "" {
				p.addError(n, "key.missing", "\"default_role\" is missing: the role of those who sign up")
			}
		},
		"issuers": func(n *yaml.Node) {
			if n.Kind != yaml.SequenceNode {
				p.addError(n, "document.type", "issuers is a list, this is %s", kindOf(n))
				return
			}
			for _, item := range n.Content {
				p.reading(addressVariables, func(n *yaml.Node) { s.Issuers = append(s.Issuers, p.issuer(n)) })(item)
			}
		},
	})
	return s
}

func (p *parser) issuer(n *yaml.Node) (i Issuer) {
	p.keys(n, "an issuer", map[string]func(*yaml.Node){
		"issuer":   p.into(&i.Issuer, "issuer"),
		"jwks":     p.into(&i.JWKS, "jwks"),
		"role":     p.str(&i.Role, "role"),
		"audience": p.into(&i.Audience, "audience"),
	})
	switch {
	case i.Issuer.Value == "":
		p.addError(n, "key.missing", `"issuer" is missing: the iss of its tokens`)
	case i.JWKS.Line == 0:
		p.addError(n, "key.missing", `"jwks" is missing: the URL of its keys`)
	case i.JWKS.Value != "" && !isURL(i.JWKS.Value):
		p.mistakes.Add("issuer.invalid", "", i.JWKS.Line, i.JWKS.Column,
			"jwks is the URL of a key set, such as https://id.example/keys.json, this is %q", i.JWKS.Value)
	case i.Role == "":
		p.addError(n, "key.missing", `"role" is missing: where in its tokens the role stands, such as realm/role`)
	case i.Audience.Value == "":
		p.addError(n, "key.missing", `"audience" is missing: what the aud of its tokens must hold, `+
			`so that tokens for other services are not taken`)
	}
	return i
}

func isURL(text string) bool {
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != ""
}

// browsers reads origins as browsers send them (RFC 6454, 6.1).
func (p *parser) browsers(n *yaml.Node) (origins []Text) {
	p.keys(n, "browsers", map[string]func(*yaml.Node){
		"origins": func(n *yaml.Node) { origins = p.list(n, "origins") },
	})
	for _, o := range origins {
		if o.Value != "*" && (!isURL(o.Value) || strings.Count(o.Value, "/") != 2) {
			p.mistakes.Add("origin.invalid", "", o.Line, o.Column,
				"an origin is scheme, host and port, such as https://board.example, or * for all; this is %q", o.Value)
		}
	}
	return origins
}
