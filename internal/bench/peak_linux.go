package main

import (
	"os"
	"syscall"
)

// peak is the most memory that a process had, in bytes.
func peak(p *os.ProcessState) int64 { return p.SysUsage().(*syscall.Rusage).Maxrss * 1024 }
