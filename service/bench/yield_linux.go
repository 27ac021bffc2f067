package bench

import (
	"log/slog"
	"os"
	"syscall"
)

// niceness is by how much the bench yields the processors to control.
const niceness = 10

// yield has the system prefer control: the bench gets the processors after it, and is the first that is ended where memory is short.
func yield(log *slog.Logger) {
	if err := syscall.Setpriority(syscall.PRIO_PGRP, 0, niceness); err != nil { // the group is the bench alone, with all its threads
		log.Warn("the bench has the priority of control", slog.Any("error", err))
	}
	if err := os.WriteFile("/proc/self/oom_score_adj", []byte("1000"), 0); err != nil {
		log.Warn("the bench is not the first to be ended where memory is short", slog.Any("error", err))
	}
}
