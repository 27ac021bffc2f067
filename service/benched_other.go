//go:build !linux

package service

import "syscall"

func apart() *syscall.SysProcAttr { return nil }
