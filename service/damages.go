package service

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"

	"rectura/service/store"
)

// damages are what was found to be not as it was kept, the last time that
// everything was gone through.
type damages struct {
	found []string // when the service started

	mu  sync.Mutex
	all []string
}

func (d *damages) list() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Concat(d.found, d.all)
}

// watch goes through everything that is kept at once and once a day.
func (d *damages) watch(ctx context.Context, s *store.Store, plant *store.Plant, log *slog.Logger) {
	t := time.NewTicker(checkEvery)
	defer t.Stop()
	for {
		damaged, err := s.Verify(ctx)
		if err == nil {
			var more []error
			more, err = plant.Verify(ctx)
			damaged = append(damaged, more...)
		}
		switch {
		case ctx.Err() != nil || errors.Is(err, context.Canceled):
			return
		case err != nil:
			log.Error("what is kept could not be verified", slog.Any("error", err))
		default:
			var all []string
			for _, x := range damaged {
				log.Error("damaged", slog.Any("error", x))
				all = append(all, x.Error())
			}
			d.mu.Lock()
			d.all = all
			d.mu.Unlock()
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}
