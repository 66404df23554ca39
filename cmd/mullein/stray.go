package main

import (
	"bufio"
	"fmt"
	"os"
	"runtime/debug"

	"golang.org/x/sys/unix"
)

// strayLines returns what libraries write to the standard error themselves, a line each. What
// the program writes goes on as before: os.Stderr is then another way to the same place, and so
// does what the runtime writes when the program breaks.
func strayLines() (<-chan string, error) {
	kept, err := unix.Dup(int(os.Stderr.Fd()))
	if err != nil {
		return nil, fmt.Errorf("keep the standard error: %w", err)
	}
	unix.CloseOnExec(kept)
	stderr := os.NewFile(uintptr(kept), os.Stderr.Name())
	if err := debug.SetCrashOutput(stderr, debug.CrashOptions{}); err != nil {
		return nil, fmt.Errorf("keep the standard error: %w", err)
	}
	from, to, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("keep the standard error: %w", err)
	}
	if err := unix.Dup3(int(to.Fd()), int(os.Stderr.Fd()), 0); err != nil {
		return nil, fmt.Errorf("keep the standard error: %w", err)
	}
	os.Stderr = stderr
	lines := make(chan string, 100)
	go func() {
		read := bufio.NewReader(from)
		for {
			line, _, err := read.ReadLine() // of a very long one the parts
			if err != nil {
				return
			}
			select {
			case lines <- string(line):
			default: // nobody listens; nothing may wait for that
			}
		}
	}()
	return lines, nil
}
