package bench

import (
	"math"

	"rectura/core/logic"
	"rectura/core/recording"
)

// A Range is how an analog output stood over a replay, in its unit.
type Range struct {
	Min, Max, Mean float64 // the mean over time
	Final          float64
}

// levels adds up the values of one analog output, and keeps them.
type levels struct {
	Range
	writer
	since int64
	area  float64 // value times nanoseconds
}

func newLevels(o *logic.Output, start int64) *levels {
	l := &levels{Range: Range{Min: math.Inf(1), Max: math.Inf(-1), Final: o.Low}, since: start}
	l.writer.column = &recording.Column{Name: o.Name, Unit: o.Unit.Name()}
	return l
}

// take notes the value that stands from a time on, if it is another.
func (l *levels) take(t int64, v float64) {
	if len(l.times) > 0 || len(l.column.Blocks) > 0 {
		if v == l.Final {
			return
		}
		if len(l.times) == recording.BlockSize {
			l.flush(nil)
		}
	}
	l.until(t)
	l.Final = v
	l.Min, l.Max = min(l.Min, v), max(l.Max, v)
	l.add(t, v)
}

// until adds up the value that stood up to a time.
func (l *levels) until(t int64) {
	l.area += l.Final * float64(t-l.since)
	l.since = t
}

// end closes the replay, which began at start.
func (l *levels) end(start, end int64) {
	l.until(end)
	l.Mean = l.Final
	if end > start {
		l.Mean = l.area / float64(end-start)
	}
	l.flush(nil)
}

// Level is the value of an analog output at each time at which it changed, from
// the start on; nil for an output that is on or off.
func (r *Result) Level(output int) *recording.Column { return r.levels[output] }
