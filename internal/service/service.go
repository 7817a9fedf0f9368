// Package service puts together what one instance serves: the windows and their data APIs, and who calls them, over one set of records.
package service

import (
	"context"
	"log/slog"
	"os"
	"runtime/debug"

	"eagerwindow/internal/identity"
	"eagerwindow/internal/records"
	"eagerwindow/internal/seal"
	"eagerwindow/internal/windows"
)

// Service is one instance.
type Service struct {
	*windows.Registry
	*identity.Directory
	records *records.Store
}

// Options are what a service needs from its surroundings.
type Options struct {
	Records string // DSN
	Secret  string // seals DSNs and keys at rest; at least 16 characters
	Hashing identity.Hashing
	Log     *slog.Logger
}

// Start opens the records. Windows become live when they are first asked for, or with Load.
func Start(ctx context.Context, o Options) (*Service, error) {
	box, err := seal.New(o.Secret)
	if err != nil {
		return nil, err
	}
	store, err := records.Open(ctx, o.Records)
	if err != nil {
		return nil, err
	}
	registry := windows.New(store, box, o.Log)
	directory, err := identity.New(ctx, store, registry, box, o.Hashing, o.Log)
	if err != nil {
		store.Close()
		return nil, err
	}
	return &Service{registry, directory, store}, nil
}

// TuneMemory lets twice as much garbage gather as is in use before it is collected, where GOGC does not say otherwise. What a service
// holds are the models of its windows, many small things that take long to look through, and it holds little else. It is for the
// whole process, so main calls it.
func TuneMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
}

// Close gives all connections back.
func (s *Service) Close() {
	s.Directory.Close()
	s.Registry.Close()
	s.records.Close()
}

// Ready reports whether the records answer.
func (s *Service) Ready(ctx context.Context) error { return s.records.Ping(ctx) }
