package bench_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/csv"
)

// A handLoop is what a good programmer would write by hand for the rules of weekJob:
// one pass over the rows of the columns in memory, with the same comparisons,
// hysteresis and delays, that keeps what the outputs do.
type handLoop struct {
	low, high, tripped  [weekColumns]bool
	lowSince, riseSince [weekColumns]int64
	out                 [weekColumns]bool
	changes             []handChange
}

// A handChange is one of an output.
type handChange struct {
	t      int64
	output int
	on     bool
}

func (h *handLoop) run(r *recording.Recording) {
	for k, block := range r.Columns[0].Blocks {
		var columns [weekColumns][]float64
		for c := range columns {
			columns[c] = r.Columns[c].Blocks[k].Values[:len(block.Times)]
		}
		var x [weekColumns]float64
		var good [weekColumns]bool
		for i, t := range block.Times {
			for c := range columns {
				mA := columns[c][i]
				good[c] = mA >= 3.6 && mA <= 21
				x[c] = (mA - 4) * (20.0 / 16)
			}
			for c := range x {
				next := c + 1
				if next == weekColumns {
					next = 0
				}
				h.row(c, t, x[c], x[next], good[c] && good[next])
			}
		}
	}
}

func (h *handLoop) row(c int, t int64, x, next float64, good bool) {
	if !good {
		return
	}
	if x >= 6 {
		h.lowSince[c] = 0
	} else if h.lowSince[c] == 0 {
		h.lowSince[c] = t
	}
	if x <= 6.4 {
		h.riseSince[c] = 0
	} else if h.riseSince[c] == 0 {
		h.riseSince[c] = t
	}
	switch {
	case !h.low[c] && h.lowSince[c] != 0 && t-h.lowSince[c] >= 45e9:
		h.low[c] = true
	case h.low[c] && h.riseSince[c] != 0 && t-h.riseSince[c] >= 120e9:
		h.low[c] = false
	}
	if h.tripped[c] {
		h.tripped[c] = x > 13.5
	} else {
		h.tripped[c] = x > 14
	}
	h.high[c] = h.tripped[c] && next < 19
	if on := h.low[c] || h.high[c]; on != h.out[c] {
		h.out[c] = on
		h.changes = append(h.changes, handChange{t, c, on})
	}
}

// BenchmarkStepping plays two days at 1 Hz of eight columns through sixteen
// rules, handing over every reading, beside a loop that is written by hand for them, and gives
// how many times as long it takes. At most 4 times is wanted.
func BenchmarkStepping(b *testing.B) { besideHandLoop(b, bench.Stepping(bench.Options{})) }

// BenchmarkSkipping does so with what can change nothing passed over. A fifth is wanted.
func BenchmarkSkipping(b *testing.B) { besideHandLoop(b, bench.Options{}) }

func besideHandLoop(b *testing.B, o bench.Options) {
	var text bytes.Buffer
	require.NoError(b, writeWeek(&text, 2*24*3600))
	r, err := csv.Reader{Name: "days.csv"}.Read(&text)
	require.NoError(b, err)
	p := weekJob(b)
	var ours, byHand time.Duration
	for b.Loop() {
		began := time.Now()
		result, err := bench.Replay(p, r, o)
		require.NoError(b, err)
		ours += time.Since(began)
		began = time.Now()
		var h handLoop
		h.run(r)
		byHand += time.Since(began)
		var changes []handChange
		for _, t := range result.Transitions {
			if t.Kind == logic.OutputKind {
				changes = append(changes, handChange{t.Time, int(t.Index), t.To.State == logic.On})
			}
		}
		require.Equal(b, h.changes, changes, "both do the same")
	}
	b.ReportMetric(ours.Seconds()/byHand.Seconds(), "times-hand-loop")
	b.ReportMetric(float64(ours.Nanoseconds())/float64(b.N)/float64(r.Samples()), "ns/reading")
	b.ReportMetric(0, "ns/op")
}
