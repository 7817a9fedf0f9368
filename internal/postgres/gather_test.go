package postgres

import (
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Reads that come while trips are under way go together, all of them, and never on more trips at once than there may be.
func TestGather(t *testing.T) {
	var g gather
	var under, most, answered atomic.Int32
	var mu sync.Mutex
	var parties []int
	hold := make(chan bool)
	trip := func(party []*ask) {
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
	const asks = mostTrips + 3*mostTogether
	var all sync.WaitGroup
	for i := range asks {
		all.Go(func() {
			key := []byte{byte(i)}
			if a := g.read([]any{key}, trip); a.done && &a.row[0][0] == &key[0] {
				answered.Add(1)
			}
		})
	}
	for waiting := 0; waiting < asks-mostTrips; time.Sleep(time.Millisecond) {
		g.mu.Lock()
		waiting = len(g.waiting)
		g.mu.Unlock()
	}
	close(hold)
	all.Wait()
	if answered.Load() != asks {
		t.Errorf("%d of %d reads have their own answers", answered.Load(), asks)
	}
	if most.Load() != mostTrips {
		t.Errorf("%d trips were under way at once, %d may be", most.Load(), mostTrips)
	}
	if len(parties) > 3*mostTrips || slices.Max(parties) > mostTogether {
		t.Errorf("the reads went as %v", parties)
	}
	if g.trips != 0 || len(g.waiting) != 0 {
		t.Errorf("%d trips and %d reads are left", g.trips, len(g.waiting))
	}
	// One that is broken off by a mistake of ours leaves its place, and those that went with it go alone.
	func() {
		defer func() { _ = recover() }()
		g.read(nil, func([]*ask) { panic("a mistake") })
	}()
	if g.trips != 0 {
		t.Error("a trip that broke off holds its place")
	}
}
