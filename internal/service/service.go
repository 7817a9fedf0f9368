// Package service puts together what one instance serves: the windows and their data APIs, and who calls them, over one set of records.
package service

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"runtime"
	"runtime/debug"
	"sync"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"

	"eagerwindow/internal/core/fault"
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
	end     context.CancelFunc // of what goes on beside requests
	beside  sync.WaitGroup
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
	store, err := records.Open(ctx, o.Records, box.MAC)
	if err != nil {
		return nil, err
	}
	registry := windows.New(store, box, o.Log)
	directory, err := identity.New(ctx, store, registry, box, o.Hashing, o.Log)
	if err != nil {
		store.Close()
		return nil, err
	}
	watching, end := context.WithCancel(context.WithoutCancel(ctx))
	s := &Service{Registry: registry, Directory: directory, records: store, end: end}
	s.beside.Go(func() { registry.Watch(watching) })
	s.beside.Go(func() { registry.WatchSources(watching) })
	s.beside.Go(func() { registry.KeepUses(watching) })
	s.beside.Go(func() { s.clean(watching, o.Log) })
	return s, nil
}

// cleanEvery is how often what need not be remembered any more is forgotten.
const cleanEvery = 10 * time.Minute

func (s *Service) clean(ctx context.Context, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(cleanEvery):
		}
		if err := errors.Join(s.records.ForgetOld(ctx), s.records.ForgetUses(ctx), s.records.ForgetTraffic(ctx)); err != nil && ctx.Err() == nil {
			log.Warn("what is old can't be forgotten", "error", err)
		}
	}
}

// TuneRuntime sets how the process uses memory and processors, as far as Go's own variables do not say otherwise; main calls it.
//
// Twice as much garbage gathers as is in use before it is collected: what a service holds are the models of its windows, many small things
// that take long to look through, and it holds little else. The process keeps within the memory that its control group allows.
//
// On a machine of few processors there are more threads than those: Go gives a large request turns of 10 ms, and the system shares out its
// processors in shorter ones. Where a control group allows less than the machine has, it stays at that: more threads would use up the
// share at once, and then stand still.
func TuneRuntime(log *slog.Logger) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
	if n := runtime.NumCPU(); os.Getenv("GOMAXPROCS") == "" && n < fewThreads && runtime.GOMAXPROCS(0) == n {
		runtime.GOMAXPROCS(fewThreads)
	}
	// Where there is no group, or none with a limit, there is nothing to keep to.
	if limit, err := memlimit.Set(memlimit.WithRatio(memoryShare), memlimit.WithProvider(memlimit.FromCgroup)); err == nil &&
		limit > 0 {
		log.Debug("memory is limited", "bytes", limit)
	}
}

// fewThreads is how many threads run at once at least.
const fewThreads = 4

// memoryShare is how much of its control group's memory the process uses: what lies outside of the heap needs the rest.
const memoryShare = 0.8

// Close gives all connections back.
func (s *Service) Close() {
	s.end()
	s.beside.Wait()
	s.Directory.Close()
	s.Registry.Shut()
	s.records.Close()
}

// Ready reports whether the records answer, and the sources of all live windows: nil, or what is away.
func (s *Service) Ready(ctx context.Context) error {
	away := make(chan error, 2)
	go func() {
		err := s.records.Ping(ctx)
		if err != nil {
			err = &fault.Refusal{Fault: fault.New(fault.Unavailable, "records.unavailable", "the records do not answer"), Words: err.Error()}
		}
		away <- err
	}()
	go func() { away <- s.Registry.Ready(ctx) }()
	return errors.Join(<-away, <-away)
}
