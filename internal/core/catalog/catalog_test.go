package catalog_test

import (
	"fmt"
	"testing"

	"eagerwindow/internal/core/catalog"
)

func ExampleQuote() {
	fmt.Println(catalog.Quote(`odd "name"`))
	// Output: "odd ""name"""
}

func TestFind(t *testing.T) {
	t.Parallel()
	text := &catalog.Type{Kind: catalog.Scalar, Name: "text"}
	code := &catalog.Type{Kind: catalog.Domain, Element: &catalog.Type{Kind: catalog.Domain, Element: text}}
	view := &catalog.Table{Schema: "s", Name: "v", Kind: catalog.View}
	c := &catalog.Catalog{Tables: []*catalog.Table{view, {Schema: "S", Name: "T t", Kind: catalog.Base,
		Columns: []*catalog.Column{{Name: "c", Type: code}}}}}
	if c.Find("s", "T t") != nil || c.Find("S", "T t") == nil || c.Find("s", "v") != view {
		t.Error("tables are found by other names than their own")
	}
	table := c.Find("S", "T t")
	if table.QualifiedName() != `"S"."T t"` || !table.Writable() || view.Writable() || table.Column("C") != nil {
		t.Errorf("table %+v", table)
	}
	if got := table.Column("c").Type.Base(); got != text {
		t.Errorf("the base of a domain over a domain is %+v", got)
	}
}
