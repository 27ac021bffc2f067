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

// synchronised is what adjtimex(2) says, of which reading alone needs no rights.
func synchronised() (is, known bool) {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	return err == nil && state != unix.TIME_ERROR && t.Status&unix.STA_UNSYNC == 0, err == nil
}
