package store

import (
	"context"
	"fmt"
	"log/slog"

	"github.com/klauspost/compress/zstd"
)

// Records read journals, captures and sheets of revisions from a plant's file. They use short read transactions; the writer never
// waits for one.
type Records struct {
	*Store
	unpacker *zstd.Decoder
}

// OpenRecords opens the file of a plant that another process writes. The file must exist.
func OpenRecords(file string, log *slog.Logger) (*Records, error) {
	s, err := OpenToRead(file)
	if err != nil {
		return nil, err
	}
	s.options.Log = log
	return newRecords(s)
}

func newRecords(s *Store) (*Records, error) {
	unpacker, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostUnpacked))
	return &Records{s, unpacker}, err
}

// Ping reports whether the file can be used.
func (p *Records) Ping(ctx context.Context) error {
	var one int
	if err := p.read.WithContext(ctx).Raw("SELECT 1 FROM armed LIMIT 1").Scan(&one).Error; err != nil {
		return fmt.Errorf("asking the plant's file: %w", readable(err))
	}
	if p.log == nil {
		return nil
	}
	return p.log.settle(ctx)
}
