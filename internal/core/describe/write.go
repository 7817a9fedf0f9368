package describe

import (
	"slices"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/jsontree"
)

// Versions are the versions of OpenAPI that a description is written in, the first where none is asked for.
var Versions = []string{"3.1", "3.0", "2.0"}

// Form is how a description is written.
type Form struct {
	Version string // one of Versions; "": the first
	YAML    bool
	Compact bool // JSON for machines, without blanks
}

// Write writes the description of what a scope may do, with the overlay of its document. The error is a fault if there is no such resource
// or version.
func Write(p *access.Policy, scope *access.Scope, at Place, form Form) ([]byte, error) {
	doc, err := Describe(p, scope, at, form.Version)
	if err != nil {
		return nil, err
	}
	if form.YAML {
		return jsontree.AppendYAML(doc)
	}
	return append(jsontree.Append(nil, doc, !form.Compact), '\n'), nil
}

// Describe is the description as a value, with the overlay of its document, in a version of OpenAPI.
func Describe(p *access.Policy, scope *access.Scope, at Place, version string) (*jsontree.Object, error) {
	if version != "" && !slices.Contains(Versions, version) {
		return nil, fault.New(fault.Invalid, "option.unknown", "there is no description in OpenAPI %q; write 3.1, 3.0 or 2.0",
			version).On("openapi")
	}
	doc, err := OpenAPI(p, scope, at)
	if err != nil {
		return nil, err
	}
	// A part of the description need not have all that the overlay speaks of.
	if overlay := p.Model().Document.Overlay; overlay != nil {
		if _, err := patch(doc, overlay); err != nil {
			return nil, err
		}
		prune(doc)
	}
	switch version {
	case "3.0":
		return To30(doc), nil
	case "2.0":
		return To20(doc), nil
	}
	return doc, nil
}
