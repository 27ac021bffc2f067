package views

import (
	"math"
	"time"
)

// A Wall is the time zone in which the times of a job are answered, as in its sentences.
type Wall struct{ *time.Location }

// At returns a service time.
func (w Wall) At(t int64) time.Time { return time.Unix(0, t).In(w.Location) }

// When returns a service time; nil for 0, which is none.
func (w Wall) When(t int64) *time.Time {
	if t == 0 {
		return nil
	}
	x := w.At(t)
	return &x
}

// Instant returns a time as Nanos does; 0 for none.
func Instant(t *time.Time) int64 {
	if t == nil {
		return 0
	}
	return Nanos(*t)
}

// Nanos returns a time in nanoseconds since 1970, or the nearest one from 1970 to 2262, which they reach.
func Nanos(t time.Time) int64 {
	switch {
	case t.Before(time.Unix(0, 1)):
		return 1
	case t.After(time.Unix(0, math.MaxInt64)):
		return math.MaxInt64
	}
	return t.UnixNano()
}
