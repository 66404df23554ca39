package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestStrayLines has a process of its own write to its standard error as libraries do, and as
// the program does, and break in the end.
func TestStrayLines(t *testing.T) {
	if os.Getenv("MULLEIN_TEST_STRAY") != "" {
		lines, err := strayLines()
		if err != nil {
			fmt.Println(err)
		}
		println("parquet: warning: padded")
		fmt.Println("heard:", <-lines)
		fmt.Fprintln(os.Stderr, "said by the program")
		panic("it breaks")
	}
	run := exec.Command(os.Args[0], "-test.run", "^TestStrayLines$")
	run.Env = append(os.Environ(), "MULLEIN_TEST_STRAY=1")
	var out, errOut bytes.Buffer
	run.Stdout, run.Stderr = &out, &errOut
	assert.Error(t, run.Run(), "it broke")
	assert.Contains(t, out.String(), "heard: parquet: warning: padded")
	assert.NotContains(t, errOut.String(), "padded")
	assert.Contains(t, errOut.String(), "said by the program")
	assert.Contains(t, errOut.String(), "it breaks", "what the runtime says is not lost")
}
