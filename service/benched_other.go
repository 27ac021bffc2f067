//go:build !linux

package service

import (
	"os"
	"os/exec"
)

// itself returns the command that runs this program once more.
func itself(arguments ...string) (*exec.Cmd, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	return exec.Command(program, arguments...), nil
}
