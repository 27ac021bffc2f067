package service

import "syscall"

// apart returns how the bench is started: in a group of its own, so that a key in the terminal ends control alone, and ended with
// control, whatever ends that.
func apart() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}
