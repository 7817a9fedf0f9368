package postgres

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Reads that come while trips are under way go together, all of them, and never on more trips at once than there may be.
func TestGather(t *testing.T) {
	t.Parallel()
	var g coalescer
	var under, most, answered atomic.Int32
	var mu sync.Mutex
	var parties []int
	hold := make(chan bool)
	trip := func(party []*pendingRead) {
		if n := under.Add(1); n > most.Load() {
			most.Store(n)
		}
		mu.Lock()
		parties = append(parties, len(party))
		mu.Unlock()
		<-hold
		for _, a := range party {
			a.row, a.done = [][]byte{a.args[0].([]byte)}, true
		}
		under.Add(-1)
	}
	const asks = maxRoundTrips + 3*maxBatch
	var all sync.WaitGroup
	for i := range asks {
		all.Go(func() {
			key := []byte{byte(i)}
			if a := g.read(t.Context(), []any{key}, trip); a.done && &a.row[0][0] == &key[0] {
				answered.Add(1)
			}
		})
	}
	for waiting := 0; waiting < asks-maxRoundTrips; time.Sleep(time.Millisecond) {
		g.mu.Lock()
		waiting = len(g.waiting)
		g.mu.Unlock()
	}
	close(hold)
	all.Wait()
	if answered.Load() != asks {
		t.Errorf("%d of %d reads have their own answers", answered.Load(), asks)
	}
	if most.Load() != maxRoundTrips {
		t.Errorf("%d trips were under way at once, %d may be", most.Load(), maxRoundTrips)
	}
	if len(parties) > 3*maxRoundTrips || slices.Max(parties) > maxBatch {
		t.Errorf("the reads went as %v", parties)
	}
	if g.roundTrips != 0 || len(g.waiting) != 0 {
		t.Errorf("%d trips and %d reads are left", g.roundTrips, len(g.waiting))
	}
	// One that is broken off by a mistake of ours leaves its place, and those that went with it go alone.
	func() {
		defer func() { _ = recover() }()
		g.read(t.Context(), nil, func([]*pendingRead) { panic("a mistake") })
	}()
	if g.roundTrips != 0 {
		t.Error("a trip that broke off holds its place")
	}
}

// A caller that leaves while its read waits is let go at once, and neither its place nor anybody's turn is lost.
func TestCoalescedCallerLeaves(t *testing.T) {
	t.Parallel()
	var g coalescer
	hold := make(chan struct{})
	roundTrip := func(batch []*pendingRead) {
		<-hold
		for _, a := range batch {
			a.done = true
		}
	}
	var busy, others sync.WaitGroup
	for range maxRoundTrips {
		busy.Go(func() { g.read(t.Context(), nil, roundTrip) })
	}
	waiting := func(n int) {
		for {
			g.mu.Lock()
			ready := len(g.waiting) == n && g.roundTrips == maxRoundTrips
			g.mu.Unlock()
			if ready {
				return
			}
			time.Sleep(time.Millisecond)
		}
	}
	waiting(0)
	ctx, leave := context.WithCancel(t.Context())
	left := make(chan *pendingRead)
	go func() { left <- g.read(ctx, nil, roundTrip) }()
	waiting(1)
	var answered atomic.Int64
	for range 3 {
		others.Go(func() {
			if a := g.read(t.Context(), nil, roundTrip); a.done {
				answered.Add(1)
			}
		})
	}
	waiting(4)
	leave()
	if a := <-left; !errors.Is(a.err, context.Canceled) || a.done {
		t.Errorf("the one that left has %v", a.err)
	}
	waiting(3)
	close(hold)
	busy.Wait()
	others.Wait()
	if answered.Load() != 3 || g.roundTrips != 0 || len(g.waiting) != 0 {
		t.Errorf("%d of 3 are answered, %d trips and %d reads are left", answered.Load(), g.roundTrips, len(g.waiting))
	}
}
