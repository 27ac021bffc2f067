package service

import (
	"os"
	"os/exec"
	"syscall"
)

// itself returns the command that runs this program once more: the one that runs, even where an upgrade has put another in its place. It
// is in a process group of its own, so that a key in the terminal ends control alone, and it is ended with control, whatever ends that.
func itself(arguments ...string) (*exec.Cmd, error) {
	c := exec.Command("/proc/self/exe", arguments...)
	c.Args[0] = os.Args[0]
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	return c, nil
}
