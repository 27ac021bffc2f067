package bench

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"rectura/service/background"
)

// What many ask for at once is made once; if whoever makes it gives up, the others still
// get it.
func TestTogether(t *testing.T) {
	l := &library{log: slog.New(slog.DiscardHandler)}
	var made, waiting atomic.Int32
	begun, goOn := make(chan struct{}), make(chan struct{})
	first, giveUp := context.WithCancel(t.Context())
	build := func() (int, error) {
		if made.Add(1) == 1 {
			close(begun)
			<-first.Done()
			return 0, first.Err()
		}
		<-goOn
		return 7, nil
	}
	var all sync.WaitGroup
	all.Go(func() {
		_, err := together(first, l, "k", build)
		assert.ErrorIs(t, err, context.Canceled)
	})
	<-begun
	for range 5 {
		all.Go(func() {
			waiting.Add(1)
			v, err := together(t.Context(), l, "k", build)
			assert.NoError(t, err)
			assert.Equal(t, 7, v)
		})
	}
	assert.Eventually(t, func() bool { return waiting.Load() == 5 }, time.Minute, time.Millisecond)
	giveUp()
	assert.Eventually(t, func() bool { return made.Load() >= 2 }, time.Minute, time.Millisecond)
	close(goOn)
	all.Wait()
	assert.LessOrEqual(t, made.Load(), int32(6))

	refused := errors.New("refused")
	_, err := together(t.Context(), l, "k", func() (int, error) { return 0, refused })
	assert.ErrorIs(t, err, refused)
	_, err = together(t.Context(), l, "k", func() (int, error) { panic("no fish") })
	var p *background.Panic
	assert.ErrorAs(t, err, &p, "a panic ends no more than what was asked")
}

// A cache holds no more bytes than it may, however many things these are; what is
// too large for it goes by.
func TestCache(t *testing.T) {
	c := newCache[int, string](100)
	for i := range 50 {
		c.add(i, "x", 10)
	}
	assert.Equal(t, int64(100), c.bytes)
	_, kept := c.get(39)
	assert.False(t, kept)
	v, kept := c.get(40)
	assert.True(t, kept)
	assert.Equal(t, "x", v)
	c.add(100, "large", 101)
	_, kept = c.get(100)
	assert.False(t, kept)
	c.add(49, "y", 60)
	assert.LessOrEqual(t, c.bytes, int64(100))
	c.forget(func(k int) bool { return k == 49 })
	_, kept = c.get(49)
	assert.False(t, kept)
}
