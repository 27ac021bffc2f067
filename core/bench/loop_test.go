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

// A handLoop is what a programmer would write by hand for the rules of weekJob:
// one pass over the rows of the columns in memory, with the same comparisons,
// hysteresis and delays, and a count of what the outputs do.
type handLoop struct {
	low, high, tripped  [weekColumns]bool
	lowSince, riseSince [weekColumns]int64
	out                 [weekColumns]bool
	changes             int
}

func (h *handLoop) run(r *recording.Recording) {
	for k, block := range r.Columns[0].Blocks {
		for i, t := range block.Times {
			var x [weekColumns]float64
			var good [weekColumns]bool
			for c := range x {
				mA := r.Columns[c].Blocks[k].Values[i]
				good[c] = mA >= 3.6 && mA <= 21
				x[c] = (mA - 4) * 20 / 16
			}
			for c := range x {
				h.row(c, t, x[c], x[(c+1)%weekColumns], good[c] && good[(c+1)%weekColumns])
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
		h.changes++
	}
}

// BenchmarkStepping plays two days at 1 Hz of eight columns through sixteen
// rules, beside a loop that is written by hand for them, and gives how many
// times as long it takes.
func BenchmarkStepping(b *testing.B) {
	var text bytes.Buffer
	require.NoError(b, writeWeek(&text, 2*24*3600))
	r, err := csv.Reader{Name: "days.csv"}.Read(&text)
	require.NoError(b, err)
	p := weekJob(b)
	var ours, byHand time.Duration
	for b.Loop() {
		began := time.Now()
		result, err := bench.Replay(p, r, bench.Options{})
		require.NoError(b, err)
		ours += time.Since(began)
		began = time.Now()
		var h handLoop
		h.run(r)
		byHand += time.Since(began)
		changes := 0
		for _, t := range result.Transitions {
			if t.Kind == logic.OutputKind {
				changes++
			}
		}
		require.Equal(b, h.changes, changes, "both do the same")
	}
	b.ReportMetric(ours.Seconds()/byHand.Seconds(), "times-hand-loop")
	b.ReportMetric(0, "ns/op")
}
