package signal

import (
	"math"
	"slices"

	"rectura/core/unit"
)

// looks is how finely the readings are looked over for where they turn good
// or bad, before each such place is found exactly.
const looks = 256

// Reach is the lowest and the highest value that the input can have while it is
// good, as far as its converter and its healthy range bound the readings; ok is
// false where they do not, or where no reading is good. Filters are left out:
// none of them leads beyond.
func (c *Chain) Reach() (low, high float64, ok bool) {
	if c.junction != nil {
		return 0, 0, false // another input takes part
	}
	at, readings, whole := c.readings()
	good := func(x float64) bool { return c.Judge(x, at) == None }
	low, high = math.Inf(1), math.Inf(-1)
	take := func(x float64) {
		v := c.shape(c.Carry(x, at, len(c.stages)))
		low, high = min(low, v), max(high, v)
	}
	for i, x := range readings {
		if good(x) {
			take(x)
		}
		if i > 0 && good(readings[i-1]) != good(x) {
			take(edge(good, readings[i-1], x, whole))
		}
	}
	return low, high, low <= high
}

// readings are the values at one place of the chain between which its values
// lie in order, from the lowest to the highest that there is, and whether they
// are whole numbers; none where nothing bounds them.
func (c *Chain) readings() (at int, all []float64, whole bool) {
	if len(c.stages) > 0 && c.Units[0].Dimension() == unit.Counts {
		low, high := c.ReadingSpan()
		whole, all = true, spread(math.Ceil(low), math.Floor(high), true)
	} else if c.healthyAt >= 0 {
		at, all = c.healthyAt, spread(c.low, c.high, false)
	}
	if len(all) == 0 {
		return at, nil, false
	}
	low, high := all[0], all[len(all)-1]
	add := func(x float64) {
		for _, v := range []float64{math.Floor(x), math.Ceil(x)} {
			if !whole {
				v = x
			}
			if v >= low && v <= high {
				all = append(all, v)
			}
		}
	}
	if whole && c.healthyAt >= 0 { // which may be narrower than a look is wide
		add(c.Carry(c.low, c.healthyAt, 0))
		add(c.Carry((c.low+c.high)/2, c.healthyAt, 0))
		add(c.Carry(c.high, c.healthyAt, 0))
	}
	for i, s := range c.stages { // where a table turns
		if t, ok := tableOf(s); ok {
			for _, x := range t.x {
				add(c.Carry(t.in.Convert(x, c.Units[i]), i, at))
			}
		}
	}
	slices.Sort(all)
	return at, slices.Compact(all), whole
}

func tableOf(s stage) (table, bool) {
	if v, ok := s.(*converted); ok {
		s = v.stage
	}
	t, ok := s.(table)
	return t, ok
}

// spread is so many values from one to another, in order.
func spread(low, high float64, whole bool) []float64 {
	var all []float64
	if low > high {
		return nil
	}
	for i := range looks + 1 {
		x := low + (high-low)*float64(i)/looks
		if whole {
			x = math.Round(x)
		}
		all = append(all, x)
	}
	all[looks] = high
	return all
}

// edge is the last good reading between one that is good and one that is not.
func edge(good func(float64) bool, a, b float64, whole bool) float64 {
	if !good(a) {
		a, b = b, a
	}
	for {
		middle := (a + b) / 2
		if whole {
			middle = math.Trunc(middle)
		}
		switch {
		case middle == a || middle == b || whole && math.Abs(a-b) <= 1:
			return a
		case good(middle):
			a = middle
		default:
			b = middle
		}
	}
}
