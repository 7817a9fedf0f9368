package postgres

import (
	"context"
	"testing"
	"time"
)

// A caller, a role and a resource take no more than their share of the connections; who waits gets one in turn, as far as the shares allow.
func TestShares(t *testing.T) {
	t.Parallel()
	share := func(caller, role, resource string) Share {
		return Share{Window: "w", Caller: caller, Role: role, Resource: resource}
	}
	slow := share("a", "r", "t")
	slow.Slow = true
	for _, tt := range []struct {
		name  string
		share func(i int) Share
		want  int // connections of 16
	}{
		{"the service itself", func(int) Share { return Share{} }, 16},
		{"one caller", func(int) Share { return share("a", "r", "t") }, 8},
		{"slow statements of one caller", func(int) Share { return slow }, 2},
		{"one role", func(i int) Share { return share(string(rune('a'+i)), "r", string(rune('a'+i))) }, 12},
		{"one resource", func(i int) Share { return share(string(rune('a'+i)), string(rune('a'+i)), "t") }, 12},
		{"everybody", func(i int) Share { return share(string(rune('a'+i)), string(rune('a'+i)), string(rune('a'+i))) }, 16},
		{"a group of one caller, about nothing yet", func(int) Share { return share("a", "", "") }, 8},
	} {
		p := &boundedPool{most: 16}
		got := 0
		for i := range 20 {
			if p.take(tt.share(i)) {
				got++
			}
		}
		if got != tt.want {
			t.Errorf("%s: %d connections, want %d", tt.name, got, tt.want)
		}
		got = 0
		for i := range 20 { // those that were taken were the first
			if got < tt.want {
				p.give(tt.share(i))
				got++
			}
		}
		if p.held != 0 || len(p.by) != 0 {
			t.Errorf("%s: afterwards %d are held, %v", tt.name, p.held, p.by)
		}
	}

	beside := &boundedPool{most: 16}
	beside.note(share("a", "r", "t"))
	beside.note(share("b", "r", "t"))
	for _, s := range []struct {
		share Share
		want  int
	}{{slow, 1}, {share("a", "r", "t"), 4}, {share("b", "q", "t"), 4}} {
		got := 0
		for beside.take(s.share) {
			got++
		}
		for range got {
			beside.give(s.share)
		}
		if got != s.want {
			t.Errorf("beside others %+v has %d connections, want %d", s.share, got, s.want)
		}
	}

	p := &boundedPool{most: 4}
	a, b := share("a", "r", "t"), share("b", "q", "u")
	for range 2 {
		p.take(a)
	}
	order := make(chan string, 3)
	wait := func(name string, s Share) {
		before := p.use().Waiting
		go func() {
			if p.wait(context.Background(), s) == nil {
				order <- name
			}
		}()
		for p.use().Waiting == before && len(order) == 0 {
			time.Sleep(time.Millisecond)
		}
	}
	wait("a", a) // has two already, which is half
	p.take(share("c", "s", "v"))
	p.take(share("d", "s", "w"))
	wait("b", b)
	p.give(share("c", "s", "v"))
	if got := <-order; got != "b" { // the first in line may not have it
		t.Errorf("%s got the connection that came free", got)
	}
	p.give(a)
	p.give(a) // beside others it may have one
	if got := <-order; got != "a" {
		t.Errorf("%s got the next one", got)
	}
	leaving, leave := context.WithCancel(context.Background())
	leave()
	if err := p.wait(leaving, a); err == nil || p.use().Waiting != 0 {
		t.Errorf("who leaves is still in line: %v", err)
	}
	full := &boundedPool{most: 1}
	full.take(b)
	full.waiting = make([]*waiter, maxWaiting)
	if err := full.wait(context.Background(), a); err == nil {
		t.Error("the line has no end")
	}
}
