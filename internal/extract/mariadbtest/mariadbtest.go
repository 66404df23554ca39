// Package mariadbtest gives tests a private MariaDB on loopback, from Debian's mariadb-server.
package mariadbtest

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
	"github.com/stretchr/testify/require"
)

// Debian's programs.
const (
	daemon  = "/usr/sbin/mariadbd"
	install = "/usr/bin/mariadb-install-db"
)

// Server is a server that runs.
type Server struct {
	URL string  // of its database river, as connections of settings have it
	DB  *sql.DB // the same, for the test
	cmd *exec.Cmd
}

// User and Password are who may read and write.
const (
	User     = "sorrel"
	Password = "p@ss/word"
)

// Start starts a server, which goes with the test.
func Start(t testing.TB) *Server {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "mullein-mariadb-") // a short path: there is a socket in it
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	data, socket := filepath.Join(dir, "data"), filepath.Join(dir, "s")
	as := "--user=root"
	if os.Getuid() != 0 {
		as = "--skip-name-resolve"
	}
	out, err := exec.Command(install, "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db", as).CombinedOutput()
	require.NoError(t, err, string(out))
	port := freePort(t)
	start := filepath.Join(dir, "start.sql")
	require.NoError(t, os.WriteFile(start, fmt.Appendf(nil, "CREATE DATABASE river CHARACTER SET utf8mb4;\nCREATE USER '%s'@'%%' IDENTIFIED BY '%s';\n"+
		"GRANT ALL ON river.* TO '%[1]s'@'%%';\n", User, Password), 0o600))
	s := &Server{URL: fmt.Sprintf("mysql://%s:%s@127.0.0.1:%d/river", User, strings.ReplaceAll(strings.ReplaceAll(Password, "@", "%40"), "/", "%2F"), port)}
	s.cmd = exec.Command(daemon, "--no-defaults", "--datadir="+data, "--socket="+socket, fmt.Sprintf("--port=%d", port), "--bind-address=127.0.0.1",
		"--init-file="+start, "--innodb-flush-log-at-trx-commit=0", "--default-time-zone=+03:00", "--pid-file="+filepath.Join(dir, "pid"), as)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
	})
	s.DB, err = sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/river?multiStatements=true", User, Password, port))
	require.NoError(t, err)
	t.Cleanup(func() { s.DB.Close() })
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		return s.DB.PingContext(ctx) == nil
	}, time.Minute, 50*time.Millisecond, "MariaDB does not answer")
	return s
}

func freePort(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Exec executes statements.
func (s *Server) Exec(t testing.TB, statements string, args ...any) {
	t.Helper()
	_, err := s.DB.ExecContext(context.Background(), statements, args...)
	require.NoError(t, err)
}
