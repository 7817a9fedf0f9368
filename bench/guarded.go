package main

import (
	"context"

	"eagerwindow/internal/identity"
	"eagerwindow/internal/service"
	"eagerwindow/internal/windows"
)

// Two windows over the same table. One is open to everyone, and the request itself says which rows; the other asks for a token, and its
// role has that as its row rule, and a claim that it needs, a field that it may not read, and limits that are counted. The statement is the
// same and cheap, so that the difference is what permissions cost.
const (
	openDocument = `window: open
source: saltmere
resources: {port_calls: {from: harbour.port_call}}
roles: {everyone: {anonymous: true, may: {port_calls: read}}}
`
	guardedDocument = `window: guarded
source: saltmere
resources: {port_calls: {from: harbour.port_call}}
roles:
  clerk:
    claims: {closed: text}
    limits: {rows: 1000, requests: 100000000/minute, concurrent: 1000, time: 10s}
    may:
      port_calls: {read: {rows: status eq 'departed', except: [remarks]}}
sign_in: {clients: true}
`
	guardedSecret = "a secret for benchmarks"
)

func publishGuarded(ctx context.Context, s *service.Service) error {
	for name, document := range map[string]string{"open": openDocument, "guarded": guardedDocument} {
		if _, err := s.SaveDraft(ctx, name, document, "bench"); err != nil {
			return err
		}
		if _, err := s.Publish(ctx, name, windows.NewRelease{Note: "", AllowBreaking: true}, "bench"); err != nil {
			return err
		}
	}
	_, err := s.AddClient(ctx, "guarded", "clerk", identity.NewClient{Secret: guardedSecret, Roles: []string{"clerk"},
		Claims: map[string]any{"closed": "N99"}})
	return err
}
