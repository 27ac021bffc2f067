package api

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Work waits for its turn in the order in which it came, sees its place, and is
// given up when its client goes, when it takes too long, or when the service
// closes, each time with a sentence and without holding its place.
func TestCrew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		closing, end := context.WithCancel(t.Context())
		c := newCrew(closing, slog.New(slog.DiscardHandler), time.Minute)
		c.free, c.places = 1, 1
		work := func(ctx context.Context, for_ time.Duration) error {
			_, err := do(ctx, c, func(work context.Context) (int, error) {
				for range int(for_ / time.Second) {
					time.Sleep(time.Second)
					if err := stop(work)(); err != nil {
						return 0, err
					}
				}
				return 1, nil
			})
			return err
		}
		named := func(name string) context.Context { return context.WithValue(t.Context(), requestKey{}, name) }
		first, second, third := make(chan error, 1), make(chan error, 1), make(chan error, 1)
		go func() { first <- work(t.Context(), 10*time.Second) }()
		synctest.Wait()
		go func() { second <- work(named("second"), 5*time.Second) }()
		synctest.Wait()
		gone, leave := context.WithCancel(named("third"))
		go func() { third <- work(gone, 5*time.Second) }()
		synctest.Wait()
		running, waiting := c.queue()
		assert.Equal(t, 1, running)
		require.Len(t, waiting, 2)
		assert.Equal(t, Waiting{Request: "third", Place: 2}, waiting[1])
		leave()
		assert.ErrorIs(t, <-third, context.Canceled)
		require.NoError(t, <-first)
		require.NoError(t, <-second)

		assert.ErrorContains(t, work(t.Context(), 2*time.Minute), "This took longer than 1 min and was given up; nothing was changed.")
		go func() { first <- work(t.Context(), 50*time.Second) }()
		synctest.Wait()
		assert.EqualError(
			t,
			work(t.Context(), time.Second),
			"The bench is busy: 1 computations are under way, and 0 wait before this one. Nothing was done; try again in a while.",
			"after half a minute",
		)
		go func() { second <- work(t.Context(), time.Second) }()
		synctest.Wait()
		end()
		for _, x := range []chan error{first, second} {
			assert.EqualError(t, <-x, "The service is closing; nothing was changed. Ask again once it is back.")
		}
		assert.Equal(t, 1, c.free)
		assert.Empty(t, c.waiting)
	})
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

// A body must come in at a pace, and is free of it once it is there.
func TestPaceOfBodies(t *testing.T) {
	var deadlines []time.Time
	b := &pacedBody{
		ReadCloser: io.NopCloser(strings.NewReader(strings.Repeat("x", 3*bodyPart))),
		deadline:   func(d time.Time) error { deadlines = append(deadlines, d); return nil },
	}
	data, err := io.ReadAll(b)
	require.NoError(t, err)
	assert.Len(t, data, 3*bodyPart)
	assert.GreaterOrEqual(t, len(deadlines), 3)
	assert.WithinDuration(t, time.Now().Add(bodyTime), deadlines[0], time.Second)
	assert.True(t, deadlines[len(deadlines)-1].IsZero())
	broken := errors.New("broken")
	_, err = io.ReadAll(&pacedBody{ReadCloser: io.NopCloser(strings.NewReader("x")), deadline: func(time.Time) error { return broken }})
	assert.ErrorIs(t, err, broken)
}
