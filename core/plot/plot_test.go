package plot_test

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image/png"
	"io"
	"math"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

func chart(t *testing.T, name string) *plot.Chart {
	sources, err := sheet.ReadSources(os.DirFS("../../examples/hatchery"))
	require.NoError(t, err)
	job, found := sheet.Parse(sources)
	require.Empty(t, found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	f, err := os.Open("../../examples/hatchery/recordings/" + name)
	require.NoError(t, err)
	defer f.Close()
	rec, err := csv.Reader{}.Read(f)
	require.NoError(t, err)
	result, err := bench.Replay(p, rec, bench.Options{})
	require.NoError(t, err)
	c, err := plot.FromReplay(result, "Night & day <test>", name)
	require.NoError(t, err)
	return c
}

// texts are the texts of an SVG picture, which must be well formed.
func texts(t *testing.T, svg []byte) []string {
	var all []string
	d := xml.NewDecoder(bytes.NewReader(svg))
	in := false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return all
		}
		require.NoError(t, err)
		switch token := token.(type) {
		case xml.StartElement:
			in = token.Name.Local == "text"
		case xml.EndElement:
			in = false
		case xml.CharData:
			if s := strings.TrimSpace(string(token)); in && s != "" {
				all = append(all, s)
			}
		}
	}
}

func TestChart(t *testing.T) {
	c := chart(t, "broken-loop.csv")
	assert.Len(t, c.Panels, 6+2)
	assert.Len(t, c.Lanes, 2+1+6+2+1+9)
	var svg, picture bytes.Buffer
	require.NoError(t, c.SVG(&svg))
	all := texts(t, svg.Bytes())
	for _, want := range []string{"Night & day <test>", "oxygen", "mg/L", "6 ↓ trips standby_blower", "6.4 ↑ resets standby_blower", "4.5 ↓ trips emergency_oxygen, below",
		"35 ↑ trips drum_backwash", "7.8 kept by oxygen_dosing", "%, output", "bad", "09:00", "11:00", "rule, 2 starts", "bands", "trip point", "undecided"} {
		assert.Contains(t, all, want)
	}
	require.NoError(t, c.PNG(&picture))
	img, err := png.Decode(&picture)
	require.NoError(t, err)
	assert.Equal(t, plot.Width, img.Bounds().Dx())
	assert.GreaterOrEqual(t, img.Bounds().Dy(), plot.Height, "it grows with its lanes")
}

// A job without signals, and a recording of one instant, are drawn too.
func TestDegenerateCharts(t *testing.T) {
	for _, c := range []*plot.Chart{
		{Title: "empty"},
		{Title: "instant", From: 5, To: 5, Panels: []plot.Panel{{Name: "x", Signal: &recording.Column{Blocks: []*recording.Block{recording.NewBlock([]int64{5}, []float64{math.NaN()})}}}}},
	} {
		var b bytes.Buffer
		require.NoError(t, c.SVG(&b))
		assert.Contains(t, texts(t, b.Bytes()), c.Title)
	}
}

func TestLimits(t *testing.T) {
	signal := &recording.Column{Blocks: []*recording.Block{recording.NewBlock([]int64{0, 1}, []float64{10, 10.2})}}
	for _, c := range []struct {
		span      float64
		points    []float64
		low, high float64
	}{
		{0, nil, 9.817, 10.383},               // at least a twentieth of the value: noise stays noise
		{20, nil, 9.54, 10.66},                // at least a twentieth of the span
		{20, []float64{9, 60}, 8.904, 10.696}, // near points count, far ones do not
	} {
		p := plot.Panel{Signal: signal, Span: c.span}
		for _, v := range c.points {
			p.Points = append(p.Points, plot.Point{Value: v})
		}
		low, high := p.Limits()
		assert.InDelta(t, c.low, low, 0.001)
		assert.InDelta(t, c.high, high, 0.001)
	}
}

// Ticks are round, within the window, and no more than asked for.
func TestTicks(t *testing.T) {
	assert.Equal(t, []float64{5, 6, 7, 8}, plot.ValueTicks(4.7, 8.1, 4))
	clock := recording.Clock{Offset: 1800}
	ticks := plot.TimeTicks(1772417645e9, 1772417645e9+6*3600e9, clock, 8)
	for _, at := range ticks {
		assert.Regexp(t, `^\d\d:00:00$`, clock.Format(at))
	}
	assert.Len(t, ticks, 6)
	rapid.Check(t, func(t *rapid.T) {
		low := rapid.Float64Range(-1e6, 1e6).Draw(t, "low")
		high := low + rapid.Float64Range(1e-3, 1e6).Draw(t, "span")
		n := rapid.IntRange(1, 12).Draw(t, "n")
		values := plot.ValueTicks(low, high, n)
		require.LessOrEqual(t, len(values), n)
		for _, v := range values {
			require.True(t, v >= low-1e-9*math.Abs(low) && v <= high+1e-9*math.Abs(high))
		}
		from := rapid.Int64Range(0, 1e18).Draw(t, "from")
		to := from + rapid.Int64Range(1, 1e17).Draw(t, "length")
		times := plot.TimeTicks(from, to, recording.Clock{}, n)
		require.LessOrEqual(t, len(times), n+1)
		for _, at := range times {
			require.True(t, at >= from && at <= to && at%1e9 == 0)
		}
	})
}
