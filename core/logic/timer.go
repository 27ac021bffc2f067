package logic

import "rectura/core/due"

// never is the time of a timer that does not run.
const never = due.Never

// after is t + d, or never where that is beyond the end of time.
func after(t, d int64) int64 {
	if s := t + d; s >= t {
		return s
	}
	return never
}
