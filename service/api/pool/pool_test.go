package pool

import (
	"context"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/api"
	"rectura/service/api/transport"
)

// Work waits for its turn in the order in which it came, sees its place, and is
// given up when its client goes, when it takes too long, or when the service
// closes, each time with a sentence and without holding its place.
func TestPool(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		closing, end := context.WithCancel(t.Context())
		c := New(closing, slog.New(slog.DiscardHandler), time.Minute)
		c.free, c.places = 1, 1
		work := func(ctx context.Context, for_ time.Duration) error {
			_, err := Do(ctx, c, func(work context.Context) (int, error) {
				for range int(for_ / time.Second) {
					time.Sleep(time.Second)
					if err := Stop(work)(); err != nil {
						return 0, err
					}
				}
				return 1, nil
			})
			return err
		}
		named := func(name string) context.Context { return transport.WithName(t.Context(), name) }
		first, second, third := make(chan error, 1), make(chan error, 1), make(chan error, 1)
		go func() { first <- work(t.Context(), 10*time.Second) }()
		synctest.Wait()
		go func() { second <- work(named("second"), 5*time.Second) }()
		synctest.Wait()
		gone, leave := context.WithCancel(named("third"))
		go func() { third <- work(gone, 5*time.Second) }()
		synctest.Wait()
		running, waiting := c.Queue()
		assert.Equal(t, 1, running)
		require.Len(t, waiting, 2)
		assert.Equal(t, api.Waiting{Request: "third", Place: 2}, waiting[1])
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
