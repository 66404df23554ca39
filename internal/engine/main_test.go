package engine

import (
	"syscall"
	"testing"

	"mullein/internal/localpg/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m, prepare) }

func mkfifo(path string) error { return syscall.Mkfifo(path, 0o644) }
