package capture_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"rectura/core/capture"
)

// points and poll are those of a large plant: 15 requests of 120 registers.
const (
	requests  = 15
	registers = 120
	poll      = 100 * time.Millisecond
	lasting   = 60 * time.Second
)

// answers are the readings of a minute of that plant, request by request; noise is how far each strays, in counts.
func answers(noise float64) (all [][]capture.Event) {
	random := rand.New(rand.NewPCG(1, 2))
	level := make([]float64, requests*registers)
	for i := range level {
		level[i] = 500 + random.Float64()*3000
	}
	for t := time.Duration(0); t < lasting; t += poll {
		for q := range requests {
			at := int64(t) + int64(q)*int64(3*time.Millisecond) + random.Int64N(int64(200*time.Microsecond))
			var some []capture.Event
			for k := range registers {
				i := q*registers + k
				level[i] += random.NormFloat64() * noise / 10
				some = append(some, capture.Event{Kind: capture.Reading, T: at, Of: int32(i), Value: float64(int(level[i] + random.NormFloat64()*noise))})
			}
			all = append(all, some)
		}
	}
	return all
}

// BenchmarkCapture prints how many bytes an hour of a plant of 1,800 points at 100 ms takes, noisy and quiet, compressed as the store
// does, beside what a list of its events takes; and how many times faster than real time it is read.
func BenchmarkCapture(b *testing.B) {
	packer, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(b, err)
	perHour := func(n int) float64 { return float64(n) * float64(time.Hour) / float64(lasting) / 1e6 }
	for _, plant := range []struct {
		name  string
		noise float64
	}{{"noisy", 1}, {"noisier", 3}, {"quiet", 0}} {
		all := answers(plant.noise)
		for range b.N {
			var e capture.Encoder
			var stretches [][]byte
			packed, listed, next := 0, 0, int64(10*time.Second)
			var list []byte
			cut := func() {
				s := e.Flush()
				stretches = append(stretches, s)
				packed, listed = packed+len(s), listed+len(packer.EncodeAll(list, nil))
				list = list[:0]
			}
			for _, some := range all {
				if some[0].T >= next {
					cut()
					next += int64(10 * time.Second)
				}
				e.Add(some)
				list = append(list, capture.Write(some)...)
			}
			cut()
			var d capture.Decoder
			began, n := time.Now(), 0
			for _, s := range stretches {
				require.NoError(b, d.Read(s, func(some []capture.Event) error { n += len(some); return nil }))
			}
			took := time.Since(began)
			require.Equal(b, len(all)*registers, n)
			b.ReportMetric(perHour(packed), plant.name+"-MB/h")
			b.ReportMetric(float64(listed)/float64(packed), plant.name+"-smaller")
			b.ReportMetric(float64(lasting)/float64(took), plant.name+"-faster")
		}
	}
}
