package bench

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// A cache keeps what was used last, as far as it takes no more than so many
// bytes in all.
type cache[K comparable, V any] struct {
	mu    sync.Mutex
	lru   *simplelru.LRU[K, sized[V]]
	bytes int64
	most  int64
}

type sized[V any] struct {
	value V
	bytes int64
}

// entries bounds the number of things in a cache, small as they may be.
const entries = 4096

func newCache[K comparable, V any](most int64) *cache[K, V] {
	c := &cache[K, V]{most: most}
	lru, err := simplelru.NewLRU(entries, func(_ K, v sized[V]) { c.bytes -= v.bytes })
	if err != nil {
		panic(err) // only for a number of entries below 1
	}
	c.lru = lru
	return c
}

func (c *cache[K, V]) get(key K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, ok := c.lru.Get(key)
	return v.value, ok
}

// add keeps a value. One that is larger than the whole cache is not kept.
func (c *cache[K, V]) add(key K, value V, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lru.Remove(key)
	if bytes > c.most {
		return
	}
	c.lru.Add(key, sized[V]{value, bytes})
	c.bytes += bytes
	for c.bytes > c.most {
		c.lru.RemoveOldest()
	}
}

// forget removes what is no longer there.
func (c *cache[K, V]) forget(gone func(key K) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, key := range c.lru.Keys() {
		if gone(key) {
			c.lru.Remove(key)
		}
	}
}
