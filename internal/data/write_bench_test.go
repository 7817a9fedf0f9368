package data_test

import (
	"context"
	"testing"

	"eagerwindow/internal/core/access"
	"eagerwindow/internal/data"
	"eagerwindow/internal/harbourtest"
	"eagerwindow/internal/server"
)

// BenchmarkWrite is a create and a change without HTTP around them; -memprofile tells what each allocation is for.
func BenchmarkWrite(b *testing.B) {
	r := harbourtest.Serve(b, nil, server.New)
	ctx := context.Background()
	api, err := r.Service.Live(ctx, "saltmere")
	if err != nil {
		b.Fatal(err)
	}
	c := access.Caller{Subject: "bench", Roles: []string{"harbour_master"}}
	for _, w := range []struct {
		name, path, body string
		do               func(context.Context, access.Caller, data.Write) (*data.Written, error)
	}{
		{"create", "cargo_items", `{"port_call_id":4711,"description":"Oats","hs_code":"100400","tonnes":12.5}`, api.Create},
		{"change", "port_calls/4711", `{"etd":"2026-07-03T10:00:00Z","remarks":"Late."}`, api.Update},
	} {
		b.Run(w.name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := w.do(ctx, c, data.Write{Path: w.path, Body: func() ([]byte, error) { return []byte(w.body), nil }}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
