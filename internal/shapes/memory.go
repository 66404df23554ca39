package shapes

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
)

// forgetPeak has Linux take the present memory of the service for the most that it has had
// (proc(5), clear_refs).
func (m *machine) forgetPeak() {
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", m.service.Process.Pid), []byte("5"), 0) // elsewhere there is none
}

// peak returns the most resident memory of the service since forgetPeak, in MB; 0 where nobody tells it.
func (m *machine) peak() int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", m.service.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := bytes.Cut(status, []byte("VmHWM:"))
	kilobytes, _, _ := bytes.Cut(bytes.TrimSpace(rest), []byte(" "))
	n, err := strconv.Atoi(string(kilobytes))
	if err != nil {
		return 0
	}
	return n >> 10
}
