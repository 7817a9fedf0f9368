// Package sized is a cache that keeps what was used last, up to a number of entries and to a sum of their sizes.
package sized

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Cache is safe for concurrent use.
type Cache[K comparable, V any] struct {
	mu      sync.Mutex
	entries *simplelru.LRU[K, entry[V]]
	size    int // of all entries
	most    int
	dropped func(K, V)
}

type entry[V any] struct {
	value V
	size  int
}

// New makes a cache of at most so many entries, at most that large together. dropped, where it is not nil, is called with what makes room
// or is removed.
func New[K comparable, V any](entries, size int, dropped func(K, V)) *Cache[K, V] {
	c := &Cache[K, V]{most: size, dropped: dropped}
	c.entries, _ = simplelru.NewLRU(entries, c.drop) // fails for a size under 1 only
	return c
}

func (c *Cache[K, V]) drop(key K, e entry[V]) {
	c.size -= e.size
	if c.dropped != nil {
		c.dropped(key, e.value)
	}
}

// Get is what is kept under the key.
func (c *Cache[K, V]) Get(key K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.entries.Get(key)
	return e.value, ok
}

// Add keeps a value, whose size is in the unit of the cache's. The newest stays, however large it is.
func (c *Cache[K, V]) Add(key K, value V, size int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.entries.Remove(key)
	c.entries.Add(key, entry[V]{value, size})
	c.size += size
	for c.size > c.most && c.entries.Len() > 1 {
		c.entries.RemoveOldest()
	}
}

// Len is the number of entries.
func (c *Cache[K, V]) Len() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.entries.Len()
}

// Values are all that is kept, in no order.
func (c *Cache[K, V]) Values() []V {
	c.mu.Lock()
	defer c.mu.Unlock()
	list := make([]V, 0, c.entries.Len())
	for _, e := range c.entries.Values() {
		list = append(list, e.value)
	}
	return list
}

// Remove forgets what is kept under the key.
func (c *Cache[K, V]) Remove(key K) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.entries.Remove(key)
}
