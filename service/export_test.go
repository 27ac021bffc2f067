package service

import "time"

// BenchMay sets for how long the bench may be silent, and how much larger than its limit it may be, until it is ended.
func BenchMay(silence time.Duration, size float64) { mostSilence, oversize = silence, size }
