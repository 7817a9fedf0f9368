package window

import (
	"errors"
	"io"
	"net/mail"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
)

// Description says of the description of the API who may read it, and what it says besides what follows from the document.
type Description struct {
	All     bool   // anyone may read all of it
	Public  []Text // roles whose part anyone may read, besides that of the anonymous role
	Overlay string // the file that the overlay was read from; the command line keeps the two apart
	Servers []Text // where callers reach the API; none: where the service is reached
	Contact Contact
	License License
}

// Contact is who answers for the API (OpenAPI 3.1, 4.8.3).
type Contact struct{ Name, URL, Email string }

// License is under what the API may be used (OpenAPI 3.1, 4.8.4).
type License struct{ Name, Identifier, URL string }

func (p *parser) description(n *yaml.Node) (d Description) {
	p.keys(n, "description", map[string]func(*yaml.Node){
		"public": func(n *yaml.Node) {
			if d.Public = p.list(n, "public"); len(d.Public) == 1 && d.Public[0].Value == "all" {
				d.All, d.Public = true, nil
			}
		},
		"overlay": p.str(&d.Overlay, "overlay"),
		"servers": p.reading(addressVariables, func(n *yaml.Node) {
			for _, s := range p.list(n, "servers") {
				if p.lookup != nil && !isURL(s.Value) {
					p.mistakes.Add("document.value", "", s.Line, s.Column,
						"a server is the address of the API, such as https://api.example/api/harbour; this is %q", s.Value)
				}
				d.Servers = append(d.Servers, s)
			}
		}),
		"contact": func(n *yaml.Node) {
			p.keys(n, "contact", map[string]func(*yaml.Node){"name": p.str(&d.Contact.Name, "name"), "url": p.str(&d.Contact.URL, "url"),
				"email": p.str(&d.Contact.Email, "email")})
			if _, err := mail.ParseAddress(d.Contact.Email); d.Contact.Email != "" && err != nil {
				p.addError(n, "document.value", "email is an address, such as api@harbour.example; this is %q", d.Contact.Email)
			}
			p.checkAddress(n, d.Contact.URL)
		},
		"license": func(n *yaml.Node) {
			p.keys(n, "license", map[string]func(*yaml.Node){"name": p.str(&d.License.Name, "name"),
				"identifier": p.str(&d.License.Identifier, "identifier"), "url": p.str(&d.License.URL, "url")})
			switch {
			case d.License.Name == "":
				p.addError(n, "key.missing", `"name" is missing in license`)
			case d.License.Identifier != "" && d.License.URL != "":
				p.addError(n, "document.value", "a license has an identifier (SPDX) or a url, not both")
			}
			p.checkAddress(n, d.License.URL)
		},
	})
	return d
}

func (p *parser) checkAddress(n *yaml.Node, url string) {
	if url != "" && !isURL(url) {
		p.addError(n, "document.value", "url is an address, such as https://harbour.example; this is %q", url)
	}
}

// Deprecated says of a resource that it will go.
type Deprecated struct {
	Since time.Time // the day from which on it should not be used (RFC 9745)
	Until time.Time // the day on which it goes (RFC 8594); zero: not known
	About string
}

// Sentence is what people read of it.
func (d *Deprecated) Sentence() string {
	text := "Deprecated since " + d.Since.Format(time.DateOnly)
	if !d.Until.IsZero() {
		text += ", and served until " + d.Until.Format(time.DateOnly)
	}
	return strings.TrimSpace(text + ". " + d.About)
}

func (p *parser) deprecated(n *yaml.Node) *Deprecated {
	d, given := &Deprecated{}, false
	day := func(t *time.Time) func(*yaml.Node) {
		return func(n *yaml.Node) {
			var err error
			if *t, err = time.Parse(time.DateOnly, strings.TrimSuffix(n.Value, "T00:00:00Z")); err != nil {
				p.addError(n, "document.value", "a day is written 2027-01-31, this is %q", n.Value)
			}
		}
	}
	p.keys(n, "deprecated", map[string]func(*yaml.Node){"since": func(n *yaml.Node) { given = true; day(&d.Since)(n) },
		"until": day(&d.Until), "about": p.str(&d.About, "about")})
	switch {
	case !given:
		p.addError(n, "key.missing", `"since" is missing in deprecated: the day, such as 2026-12-01`)
	case !d.Until.IsZero() && d.Until.Before(d.Since):
		p.addError(n, "document.value", "until is before since")
	}
	return d
}

// Overlay is what is patched into the description each time it is made (OpenAPI Overlay 1.0.0). It is the second YAML document of the
// text.
type Overlay struct {
	Pos     Pos
	Actions []OverlayAction
}

// OverlayAction is one patch: of what a JSONPath (RFC 9535) selects, taken out or merged with a value.
type OverlayAction struct {
	Target Text
	Remove bool
	Update any // as jsontree has it; nil: none
}

// overlays reads what follows the document in its text.
func (p *parser) overlays(d *Document, stream *yaml.Decoder) error {
	for {
		var next yaml.Node
		switch err := stream.Decode(&next); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case len(next.Content) == 0:
			continue
		case d.Overlay != nil:
			p.addError(next.Content[0], "overlay.invalid", "there is an overlay already; a window document has one after it, with all actions")
			return nil
		}
		d.Overlay = p.overlay(next.Content[0])
	}
}

func (p *parser) overlay(n *yaml.Node) *Overlay {
	o := &Overlay{Pos: Pos{n.Line, n.Column}}
	version, known, acts := "", false, false
	none := func(*yaml.Node) {}
	p.keys(n, "the overlay", map[string]func(*yaml.Node){
		"overlay": func(n *yaml.Node) { version, known = n.Value, true },
		"info": func(n *yaml.Node) {
			p.keys(n, "info", map[string]func(*yaml.Node){"title": none, "version": none, "description": none})
		},
		"extends": none,
		"actions": func(n *yaml.Node) {
			acts = true
			if n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
				p.addError(n, "overlay.invalid", "actions is a list of at least one action")
				return
			}
			for _, item := range n.Content {
				o.Actions = append(o.Actions, p.overlayAction(item))
			}
		},
	})
	switch {
	case !known:
		p.addError(n, "overlay.invalid",
			"what follows the window document is an overlay of its description, which begins with \"overlay: 1.0.0\"")
	case !strings.HasPrefix(version, "1.0."):
		p.addError(n, "overlay.invalid", "the overlay has version %q; 1.0.0 is read here", version)
	case !acts:
		p.addError(n, "overlay.invalid", "\"actions\" is missing in the overlay")
	}
	return o
}

func (p *parser) overlayAction(n *yaml.Node) (a OverlayAction) {
	a.Target.Pos = Pos{n.Line, n.Column}
	updates := false
	p.keys(n, "an action of the overlay", map[string]func(*yaml.Node){
		"target": p.into(&a.Target, "target"), "description": func(*yaml.Node) {}, "remove": p.boolean(&a.Remove, "remove"),
		"update": func(n *yaml.Node) { a.Update, updates = jsontree.FromYAML(n), true },
	})
	switch {
	case a.Target.Value == "":
		p.addError(n, "overlay.invalid", "an action needs a target, such as \"$.info\"")
	case !updates && !a.Remove:
		p.addError(n, "overlay.invalid", "an action needs update or remove: true")
	}
	return a
}

// checkPublic checks that the roles are there whose part of the description is public.
func (p *parser) checkPublic(d *Document) {
	var names []string
	for _, r := range d.Roles {
		names = append(names, r.Name.Value)
	}
	for _, name := range d.Description.Public {
		if !slices.Contains(names, name.Value) {
			p.mistakes.Add("role.unknown", "", name.Line, name.Column, "there is no role %q; public is all, or a list of roles%s", name.Value,
				fault.Suggest(name.Value, names))
		}
	}
}

// Split parts a text into the window document and the overlay that follows it, "" where none does. What divides them is a line of three
// hyphens, which belongs to neither.
func Split(text string) (document, overlay string) {
	at, begun := 0, false
	for line := range strings.Lines(text) {
		bare := strings.TrimRight(line, " \r\n")
		if bare == "---" && begun {
			return text[:at], text[at+len(line):]
		}
		begun = begun || bare != "" && bare != "---" && !strings.HasPrefix(bare, "#") && !strings.HasPrefix(bare, "%")
		at += len(line)
	}
	return text, ""
}

// OverlayFile is the file that a document names for its overlay, "" where it names none. The text may have any other mistake.
func OverlayFile(text string) string {
	var head struct {
		Description struct{ Overlay string }
	}
	if yaml.Unmarshal([]byte(text), &head) != nil {
		return ""
	}
	return head.Description.Overlay
}
