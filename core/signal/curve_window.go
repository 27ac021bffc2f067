package signal

import "math"

// A Curve is a chain as a plot shows it: from the reading to the value, round what is
// healthy.
type Curve struct {
	X, Y      []float64 // readings at the chain's beginning, and the values that they give
	Low, High float64   // what is healthy, as readings; NaN if nothing is said
}

// Curve gives so many points of the chain; those that have no value are left out. It
// reaches beyond what is healthy on either side, where that is said.
func (c *Chain) Curve(n int) Curve {
	v := Curve{Low: math.NaN(), High: math.NaN()}
	low, high := c.ReadingSpan()
	if at, a, b, ok := c.Healthy(); ok {
		a, b = c.Carry(a, at, 0), c.Carry(b, at, 0)
		if a, b = min(a, b), max(a, b); !math.IsNaN(a) && !math.IsNaN(b) {
			v.Low, v.High = a, b
			beside := (b - a) * 0.3
			low, high = max(min(low, a), a-beside), min(max(high, b), b+beside)
		}
	}
	last := len(c.Units) - 1
	for i := range n {
		x := low + (high-low)*float64(i)/float64(n-1)
		if y := c.Carry(x, 0, last); !math.IsNaN(y) {
			v.X, v.Y = append(v.X, x), append(v.Y, y)
		}
	}
	return v
}
