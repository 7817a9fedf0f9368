package windows

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/core/catalog"
	"eagerwindow/internal/core/describe"
	"eagerwindow/internal/core/fault"
	"eagerwindow/internal/core/model"
	"eagerwindow/internal/core/window"
	"eagerwindow/internal/data"
	"eagerwindow/internal/postgres"
)

// bound is a document bound to a catalog, with the connections to its source.
type bound struct {
	document []byte
	policy   *access.Policy
	catalog  *catalog.Catalog
	pool     *postgres.Source
}

// introspectLimit is how long it may take to read the catalog of a source.
const introspectLimit = 20 * time.Second

// bind binds a document to its source as that is now.
func (s *Registry) bind(ctx context.Context, document []byte) (*bound, error) {
	doc, err := window.Parse(document, lookup)
	if err != nil {
		return nil, err
	}
	pool, err := s.pool(ctx, doc.Source.Value)
	if f, is := fault.From(err); is { // with its place in the document
		var l fault.List
		l.Add(f.Code, "", doc.Source.Line, doc.Source.Column, "%s", f.Message)
		return nil, l.Fault(f.Kind, f.Code, "the window document has mistakes:")
	}
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, introspectLimit)
	defer cancel()
	cat, err := postgres.Introspect(ctx, pool, model.Queries(doc)...)
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = fault.New(fault.TimedOut, "time.limit", "the catalog of the database can't be read within %s; is a table locked?", introspectLimit)
	}
	if err != nil {
		return nil, err
	}
	b, err := bindDocument(doc, cat)
	if err != nil {
		return nil, err
	}
	b.document, b.pool = document, pool
	if err := describe.CheckOverlay(b.policy); err != nil {
		return nil, err
	}
	return b, checkKeys(ctx, b)
}

// checkKeys refuses keys that the document names and that do not tell rows apart, as the rows are now.
func checkKeys(ctx context.Context, b *bound) error {
	m := b.policy.Model()
	var mistakes fault.List
	for _, d := range m.Document.Resources {
		r := m.Resource(d.Name.Value)
		if d.Key == nil || r == nil || len(r.Key) == 0 || r.KeyIsUnique() {
			continue
		}
		columns, names := make([]string, len(r.Key)), make([]string, len(r.Key))
		for i, k := range r.Key {
			columns[i], names[i] = k.Column.Name, k.Name
		}
		found, err := postgres.HasDuplicates(ctx, b.pool, r.Table, columns)
		if err != nil {
			return fmt.Errorf("look for rows of %s with the same key: %w", r.Name, err)
		}
		if found {
			mistakes.Add("key.duplicate", r.Name, d.Key[0].Line, d.Key[0].Column, "rows of %s have the same %s, so it is no key; name fields that "+
				"tell all rows apart, or leave \"key\" out", r.Name, strings.Join(names, ", "))
		}
	}
	return mistakes.Fault(fault.Invalid, "document.invalid", "the window document does not fit the database:")
}

func parseAndBind(document []byte, cat *catalog.Catalog) (*bound, error) {
	doc, err := window.Parse(document, lookup)
	if err != nil {
		return nil, err
	}
	return bindDocument(doc, cat)
}

func bindDocument(doc *window.Document, cat *catalog.Catalog) (*bound, error) {
	policy, err := access.Bind(doc, cat)
	if err != nil {
		return nil, err
	}
	return &bound{policy: policy, catalog: cat}, nil
}

func (s *Registry) api(b *bound, release int) *data.API {
	return data.New(data.Options{Policy: b.policy, Catalog: b.catalog, Source: b.pool, Box: s.box, Records: s.records, Release: release})
}
