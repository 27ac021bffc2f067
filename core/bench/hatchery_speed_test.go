package bench_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/bench"
)

// BenchmarkHatchery plays the demo's night, whose loop and follow look at every reading, and
// gives how many times faster it is than handing over every reading.
func BenchmarkHatchery(b *testing.B) {
	p := compileSources(b, hatcherySources(b))
	r := hatcheryRecording(b, "night")
	var skipped, stepped, overlooked time.Duration
	for b.Loop() {
		began := time.Now()
		_, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		skipped += time.Since(began)
		began = time.Now()
		_, err = bench.Replay(p, r, bench.Options{Overlook: true})
		require.NoError(b, err)
		overlooked += time.Since(began)
		began = time.Now()
		_, err = bench.Replay(p, r, bench.Stepping(bench.Options{}))
		require.NoError(b, err)
		stepped += time.Since(began)
	}
	b.ReportMetric(stepped.Seconds()/skipped.Seconds(), "times-stepping")
	b.ReportMetric(stepped.Seconds()/overlooked.Seconds(), "overlooked-times-stepping")
	b.ReportMetric(float64(overlooked.Nanoseconds())/float64(b.N)/float64(r.Samples()), "overlooked-ns/reading")
	b.ReportMetric(float64(skipped.Nanoseconds())/float64(b.N)/float64(r.Samples()), "ns/reading")
	b.ReportMetric(0, "ns/op")
}
