package cli

import (
	"os"
	"runtime"
	"runtime/debug"
)

// unhurried puts the first collection of garbage off until 16 MB are in use, which most commands never come to:
// what libraries prepare when the program starts would otherwise have it run at once. From then on it runs as usual.
func unhurried() {
	if os.Getenv("GOGC") != "" {
		return // somebody has said how often
	}
	usual := debug.SetGCPercent(400)
	first := new([64]byte) // collected by the first one
	runtime.AddCleanup(first, func(percent int) { debug.SetGCPercent(percent) }, usual)
}
