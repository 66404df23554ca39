// Package localpg runs a private PostgreSQL on loopback, from the binaries of
// Debian's packages: made on first use, adopted when it is still running after
// its service was killed, recovered by itself when it was not stopped cleanly.
//
// Start at [Start].
package localpg

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"crypto/rand"
	"encoding/hex"
)

// Options say where the server lives and how.
type Options struct {
	Dir      string   // absolute; the server's data come below it
	Settings []string // further lines of postgresql.conf, when the data are made
}

// Server is a running PostgreSQL.
type Server struct {
	Data    string // the folder of its data
	Moved   bool   // the data are not below Dir, because PostgreSQL's user cannot reach it
	Adopted bool   // it was running already
	bin     string
	port    int
	secret  string
	runAs   *syscall.Credential
}

// The service works as a role that owns its databases and is no superuser: what a feed or
// a rollup makes it do cannot reach files and programs of the machine. The superuser is
// for whoever looks after the server; the service never works as it. To drop a database,
// the role has to end whoever is in it, such as a vacuum.
const (
	owner     = "mullein"
	superuser = "mullein_superuser"
)

// roles make what the service works as, and the lesser role that it computes rollups as,
// in a new server. The database is the service's own.
const roles = `CREATE ROLE ` + owner + ` LOGIN CREATEDB PASSWORD '%s'
CREATE ROLE mullein_rollup NOLOGIN ROLE ` + owner + `
GRANT pg_signal_backend TO ` + owner + `
ALTER DATABASE postgres OWNER TO ` + owner + `
`

// settings suit a private server on a machine that it shares.
var settings = []string{
	"listen_addresses = '127.0.0.1'",
	"unix_socket_directories = ''",
	"max_connections = 100",
	"shared_buffers = 256MB",
	"max_wal_size = 4GB",
	"wal_compression = lz4", // an update of rows here and there logs whole pages
	"wal_level = minimal",   // nobody replicates it; back it up with pg_dump
	"max_wal_senders = 0",
	"checkpoint_timeout = 15min",
	"work_mem = 16MB",
	"jit = off",
	"timezone = 'UTC'",
	"log_timezone = 'UTC'",
	"lc_messages = 'C'",
}

// Start brings the server up and waits until it answers.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	s := &Server{bin: bin}
	if err := s.place(o.Dir); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(s.Data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := s.create(ctx, o.Settings); err != nil {
			return nil, err
		}
	}
	secret, err := os.ReadFile(s.secretFile())
	if err != nil {
		return nil, fmt.Errorf("read the password of the private PostgreSQL: %w", err)
	}
	s.secret = strings.TrimSpace(string(secret))
	if s.adopt(ctx) {
		return s, nil
	}
	for try := 1; ; try++ {
		err := s.start(ctx)
		if err == nil || try == 3 || ctx.Err() != nil {
			return s, err
		}
	}
}

// Program returns the path of one of PostgreSQL's programs, such as pg_dump.
func Program(name string) (string, error) {
	if bin, err := binaries(); err == nil {
		path := filepath.Join(bin, name)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", fmt.Errorf("%w; it comes with Debian's package postgresql-client", err)
	}
	return path, nil
}

// binaries finds the newest PostgreSQL of the machine.
func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		if p, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(p), nil
		}
		return "", errors.New("PostgreSQL is not installed; run: apt-get install postgresql, or give --database")
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	newest := found[len(found)-1]
	if version(newest) < 15 {
		return "", fmt.Errorf("PostgreSQL %d is too old; 15 or later is needed", version(newest))
	}
	return filepath.Dir(newest), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// place decides where the data are and who runs the server. PostgreSQL refuses
// to run as root, so root lends it to the user postgres.
func (s *Server) place(dir string) error {
	s.Data = filepath.Join(dir, "postgres")
	if os.Geteuid() != 0 {
		return os.MkdirAll(s.Data, 0o700)
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return fmt.Errorf("user postgres: %w", err)
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return fmt.Errorf("user postgres: %w", err)
	}
	s.runAs = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if err := os.MkdirAll(s.Data, 0o700); err != nil {
		return fmt.Errorf("make the folder of the private PostgreSQL: %w", err)
	}
	if err := os.Chown(s.Data, uid, gid); err != nil {
		return fmt.Errorf("make the folder of the private PostgreSQL: %w", err)
	}
	reach := exec.Command("/bin/sh", "-c", `cd "$0" && test -w .`, s.Data)
	reach.SysProcAttr = &syscall.SysProcAttr{Credential: s.runAs}
	reach.Dir = "/"
	if reach.Run() == nil {
		return nil
	}
	os.Remove(s.Data)
	s.Moved, s.Data = true, elsewhere(u, dir)
	if err := os.MkdirAll(s.Data, 0o700); err != nil {
		return fmt.Errorf("make the folder of the private PostgreSQL: %w", err)
	}
	return os.Chown(s.Data, uid, gid)
}

// elsewhere is where the data lie when PostgreSQL's user cannot reach dir.
func elsewhere(u *user.User, dir string) string {
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join(u.HomeDir, "mullein-"+hex.EncodeToString(sum[:6]))
}

// Running is how to connect to the main database of a server that runs with its data below
// dir. It holds a password.
func Running(dir string) (url string, err error) {
	places := []string{filepath.Join(dir, "postgres")}
	if u, err := user.Lookup("postgres"); err == nil {
		places = append(places, elsewhere(u, dir))
	}
	for _, data := range places {
		text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", fmt.Errorf("find the private PostgreSQL: %w", err)
		}
		const portLine = 3 // as PostgreSQL writes it, from 0
		lines := strings.Split(string(text), "\n")
		if len(lines) <= portLine {
			return "", fmt.Errorf("find the private PostgreSQL: %s is cut short; it may just be starting",
				filepath.Join(data, "postmaster.pid"))
		}
		s := &Server{Data: data}
		if s.port, err = strconv.Atoi(strings.TrimSpace(lines[portLine])); err != nil {
			return "", fmt.Errorf("find the private PostgreSQL: %w", err)
		}
		secret, err := os.ReadFile(s.secretFile())
		if err != nil {
			return "", fmt.Errorf("find the private PostgreSQL: %w", err)
		}
		s.secret = strings.TrimSpace(string(secret))
		return s.URL(), nil
	}
	return "", fmt.Errorf("no private PostgreSQL runs below %s; start the service, or name a database with "+
		"MULLEIN_DATABASE", dir)
}

func (s *Server) secretFile() string      { return filepath.Join(s.Data, "mullein.secret") }
func (s *Server) superSecretFile() string { return filepath.Join(s.Data, superuser+".secret") }
func (s *Server) log() string             { return filepath.Join(s.Data, "server.log") }

func newSecret() string {
	random := make([]byte, 24)
	rand.Read(random) // never fails, crypto/rand says
	return hex.EncodeToString(random)
}

func (s *Server) create(ctx context.Context, more []string) error {
	secret, superSecret := newSecret(), newSecret()
	passwordFile := s.Data + ".password"
	if err := s.lend(passwordFile, superSecret); err != nil {
		return fmt.Errorf("hand the password to initdb: %w", err)
	}
	defer os.Remove(passwordFile)
	// Collation C compares texts by their bytes: the order is the same on every
	// machine, and keys compare several times faster.
	command := s.command(ctx, "initdb", "-D", s.Data, "-U", superuser, "-E", "UTF8", "--locale=C.UTF-8",
		"--lc-collate=C",
		"-A", "scram-sha-256", "--pwfile="+passwordFile)
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, bytes.TrimSpace(out))
	}
	config, err := os.OpenFile(filepath.Join(s.Data, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("write postgresql.conf: %w", err)
	}
	_, err = config.WriteString("\n# Mullein\n" + strings.Join(append(settings, more...), "\n") + "\n")
	if err = errors.Join(err, config.Close()); err != nil {
		return fmt.Errorf("write postgresql.conf: %w", err)
	}
	alone := s.command(ctx, "postgres", "--single", "-D", s.Data, "postgres") // a line is a statement
	alone.Stdin = strings.NewReader(fmt.Sprintf(roles, secret))
	if out, err := alone.CombinedOutput(); err != nil || bytes.Contains(out, []byte("ERROR:")) {
		return fmt.Errorf("make the roles of the private PostgreSQL: %w: %s", err, bytes.TrimSpace(out))
	}
	for name, password := range map[string]string{s.superSecretFile(): superSecret, s.secretFile(): secret} {
		if err := os.WriteFile(name, []byte(password+"\n"), 0o600); err != nil {
			return fmt.Errorf("keep the password: %w", err)
		}
	}
	return nil
}

// lend writes a file that only the server's user can read.
func (s *Server) lend(path, text string) error {
	if err := os.WriteFile(path, []byte(text+"\n"), 0o600); err != nil || s.runAs == nil {
		return err
	}
	return os.Chown(path, int(s.runAs.Uid), int(s.runAs.Gid))
}

func (s *Server) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(s.bin, name), args...)
	c.Dir = s.Data
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	c.Env = environment(os.Environ(), s.Data)
	if s.runAs != nil {
		c.SysProcAttr.Credential = s.runAs
	}
	return c
}

// environment is what the server is given of ours: whoever may run programs in it must
// not find the service's secrets there.
func environment(ours []string, home string) []string {
	env := []string{"HOME=" + home}
	for _, v := range ours {
		name, _, _ := strings.Cut(v, "=")
		if name == "PATH" || name == "LANG" || name == "TZ" || strings.HasPrefix(name, "LC_") {
			env = append(env, v)
		}
	}
	return env
}

// adopt takes over a server that is running on our data already.
func (s *Server) adopt(ctx context.Context) bool {
	pidFile, err := os.ReadFile(filepath.Join(s.Data, "postmaster.pid"))
	if err != nil {
		return false
	}
	lines := strings.Split(string(pidFile), "\n")
	if len(lines) < 4 {
		return false
	}
	if s.port, err = strconv.Atoi(strings.TrimSpace(lines[3])); err != nil {
		return false
	}
	s.Adopted = s.Answers(ctx, 2*time.Second)
	return s.Adopted
}

func (s *Server) start(ctx context.Context) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("find a free port: %w", err)
	}
	s.port = listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	command := s.command(ctx, "pg_ctl", "-D", s.Data, "-l", s.log(), "-o", fmt.Sprintf("-p %d", s.port), "-w", "-t",
		"120", "start")
	if out, err := command.CombinedOutput(); err != nil {
		log, _ := os.ReadFile(s.log())
		return fmt.Errorf("start the private PostgreSQL: %w: %s\n%s", err, bytes.TrimSpace(out), tail(log, 2000))
	}
	if !s.Answers(ctx, 30*time.Second) {
		return fmt.Errorf("the private PostgreSQL does not answer on port %d; see %s", s.port, s.log())
	}
	return nil
}

func tail(b []byte, n int) []byte { return b[max(0, len(b)-n):] }

// Answers waits for so long until the server takes a connection.
func (s *Server) Answers(ctx context.Context, within time.Duration) bool {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.URL())
		if err == nil {
			conn.Close(ctx)
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// URL is how to connect to the server's main database. It holds a password.
func (s *Server) URL() string { return s.DatabaseURL("postgres") }

// DatabaseURL is how to connect to one of the server's databases.
func (s *Server) DatabaseURL(name string) string { return s.urlOf(owner, s.secret, name) }

// SuperuserURL is how whoever looks after the server connects to one of its databases.
func (s *Server) SuperuserURL(name string) (string, error) {
	secret, err := os.ReadFile(s.superSecretFile())
	if err != nil {
		return "", fmt.Errorf("read the password of the superuser: %w", err)
	}
	return s.urlOf(superuser, strings.TrimSpace(string(secret)), name), nil
}

func (s *Server) urlOf(user, secret, database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(user, secret),
		Host: fmt.Sprintf("127.0.0.1:%d", s.port), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Stop ends the server cleanly.
func (s *Server) Stop(ctx context.Context) error {
	return s.stop(ctx, "fast")
}

// Crash ends the server as a power cut would: what was not committed is gone,
// and the next start recovers.
func (s *Server) Crash(ctx context.Context) error {
	return s.stop(ctx, "immediate")
}

func (s *Server) stop(ctx context.Context, how string) error {
	out, err := s.command(ctx, "pg_ctl", "-D", s.Data, "-m", how, "-w", "-t", "60", "stop").CombinedOutput()
	if err != nil {
		return fmt.Errorf("stop the private PostgreSQL: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}

// Restart starts a stopped server again on the same port.
func (s *Server) Restart(ctx context.Context) error {
	command := s.command(ctx, "pg_ctl", "-D", s.Data, "-l", s.log(), "-o", fmt.Sprintf("-p %d", s.port), "-w", "-t",
		"120", "start")
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("start the private PostgreSQL again: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}
