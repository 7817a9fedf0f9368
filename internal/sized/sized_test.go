package sized

import (
	"fmt"
	"testing"
)

func TestCache(t *testing.T) {
	t.Parallel()
	var dropped []string
	c := New(3, 10, func(key string, value int) { dropped = append(dropped, fmt.Sprint(key, value)) })
	has := func(want ...string) {
		t.Helper()
		if got := fmt.Sprint(c.entries.Keys()); got != fmt.Sprint(want) {
			t.Errorf("got %v, want %v (dropped %v, size %d)", got, want, dropped, c.size)
		}
	}
	c.Add("a", 1, 2)
	c.Add("b", 2, 2)
	c.Add("c", 3, 2)
	if v, ok := c.Get("a"); !ok || v != 1 {
		t.Errorf("got %d %t, want 1 true", v, ok)
	}
	c.Add("d", 4, 2) // the fourth: b has not been used for longest
	has("c", "a", "d")
	c.Add("e", 5, 7) // too large for all to stay
	has("d", "e")
	c.Add("e", 6, 9)
	has("e")
	c.Add("f", 7, 30) // the newest stays
	has("f")
	c.Remove("f")
	has()
	if want := "[b2 c3 a1 e5 d4 e6 f7]"; fmt.Sprint(dropped) != want || c.size != 0 {
		t.Errorf("dropped %v, want %s; size %d", dropped, want, c.size)
	}
}
