// Package localssh starts a private SFTP server on loopback, from Debian's openssh-server: for the demo and for tests.
// Nothing of the machine's own SSH server is touched. Start at [Start].
package localssh

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
)

// program is Debian's server.
const program = "/usr/sbin/sshd"

// Server is a server that runs.
type Server struct {
	Address string // host:port
	User    string // who signs in
	KeyFile string // with the user's private key
	HostKey string // the fingerprint of the host's key
	dir     string
	cmd     *exec.Cmd
	ended   chan struct{}
}

// Start starts a server that keeps its keys in a folder, and serves this user's files to whoever has the key.
func Start(ctx context.Context, dir string) (*Server, error) {
	if _, err := os.Stat(program); err != nil {
		return nil, fmt.Errorf("%w; install Debian's openssh-server", err)
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	s := &Server{User: me.Username, KeyFile: filepath.Join(dir, "user"), dir: dir}
	host, err := newKey(filepath.Join(dir, "host"))
	if err != nil {
		return nil, err
	}
	s.HostKey = ssh.FingerprintSHA256(host)
	mine, err := newKey(s.KeyFile)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(mine), 0o600); err != nil {
		return nil, err
	}
	if me.Uid == "0" { // where it gives up its rights before anybody has signed in
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.Address = free.Addr().String()
	free.Close()
	return s, s.Again(ctx)
}

// newKey writes a new private key, and returns its public part.
func newKey(file string) (ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// Again starts the server once more after [Server.Stop], under the same address.
func (s *Server) Again(ctx context.Context) error {
	host, port, _ := net.SplitHostPort(s.Address)
	var said bytes.Buffer
	s.cmd = exec.Command(program, "-D", "-e", "-f", "/dev/null", "-h", filepath.Join(s.dir, "host"), "-p", port,
		"-o", "ListenAddress="+host, "-o", "PidFile=none", "-o", "UsePAM=no", "-o", "StrictModes=no", "-o", "PasswordAuthentication=no",
		"-o", "KbdInteractiveAuthentication=no", "-o", "PermitRootLogin=prohibit-password", "-o", "AllowTcpForwarding=no",
		"-o", "MaxStartups=100", "-o", "MaxSessions=100",
		"-o", "AuthorizedKeysFile="+filepath.Join(s.dir, "authorized"), "-o", "Subsystem=sftp internal-sftp", "-o", "ForceCommand=internal-sftp")
	s.cmd.Stderr = &said
	s.cmd.WaitDelay = time.Second                                        // for what connections still hold
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} // it does not outlive this process
	if err := s.cmd.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	s.ended = ended
	go func() {
		_ = s.cmd.Wait() // it is ended by a signal
		close(ended)
	}()
	for {
		if conn, err := net.DialTimeout("tcp", s.Address, time.Second); err == nil {
			return conn.Close()
		}
		select {
		case <-ended:
			return fmt.Errorf("the SFTP server ended: %s", strings.TrimSpace(said.String()))
		case <-ctx.Done():
			return errors.Join(ctx.Err(), s.Stop())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Stop kills the server. Connections that it has end too.
func (s *Server) Stop() error {
	err := kill(s.cmd.Process.Pid)
	<-s.ended
	return err
}

// kill ends a process and all below it: the server has one for each connection, in sessions of their own.
func kill(pid int) error {
	children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid)) // it may have ended
	err := syscall.Kill(pid, syscall.SIGKILL)
	if errors.Is(err, syscall.ESRCH) {
		err = nil
	}
	for text := range strings.FieldsSeq(string(children)) {
		if child, convErr := strconv.Atoi(text); convErr == nil {
			err = errors.Join(err, kill(child))
		}
	}
	return err
}
