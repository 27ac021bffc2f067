package live

import "golang.org/x/sys/unix"

// steadyNow is the time since the machine was started, its sleep included.
func steadyNow() int64 {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		panic(err) // no Linux is without it
	}
	return t.Nano()
}
