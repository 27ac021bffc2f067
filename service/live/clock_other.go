//go:build !linux

package live

import "time"

var started = time.Now()

// steadyNow is the time since the program was started.
func steadyNow() int64 { return int64(time.Since(started)) }

func synchronised() (is, known bool) { return false, false }
