package store

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"
)

// checkEvery is the time between two verifications of a file.
const checkEvery = 24 * time.Hour

// Damages are the faults that the last verification of a file found.
type Damages struct {
	Found []string // when the file was opened

	mu  sync.Mutex
	all []string
}

// List returns them, in sentences.
func (d *Damages) List() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Concat([]string{}, d.Found, d.all)
}

// Watch goes through everything that is kept at once and once a day, until ctx ends.
func (d *Damages) Watch(ctx context.Context, log *slog.Logger, verify func(context.Context) ([]error, error)) {
	t := time.NewTicker(checkEvery)
	defer t.Stop()
	for {
		damaged, err := verify(ctx)
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
