// Package pgtest gives each test a real PostgreSQL database of its own, made
// from a template on a private server that the test binary starts.
package pgtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"mullein/internal/localpg"
)

var server *localpg.Server
var number atomic.Int64

const template = "mullein_template"

// Main runs a package's tests with a server. prepare brings the template
// database to the form that tests begin with.
func Main(m *testing.M, prepare func(ctx context.Context, database string) error) {
	os.Exit(run(m, prepare))
}

func run(m *testing.M, prepare func(ctx context.Context, database string) error) int {
	ctx := context.Background()
	dir, err := Folder()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	// The loss of a power cut is not what these tests look for, and kill -9 of a
	// process loses nothing that the kernel holds.
	server, err = localpg.Start(ctx, localpg.Options{Dir: dir,
		Settings: []string{"fsync = off", "shared_buffers = 128MB", "max_connections = 400"}})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer server.Crash(ctx)
	if err := trust(ctx); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if err := exec(ctx, server.URL(), "CREATE DATABASE "+template); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if prepare != nil {
		if err := prepare(ctx, server.DatabaseURL(template)); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
	}
	return m.Run()
}

// trust lets whoever is on this machine in without a password: proving that one knows it
// takes longer than most of what tests ask, with the race detector most of all.
func trust(ctx context.Context) error {
	const rules = "local all all trust\nhost all all 127.0.0.1/32 trust\nhost all all ::1/128 trust\n"
	if err := os.WriteFile(filepath.Join(server.Data, "pg_hba.conf"), []byte(rules), 0o600); err != nil {
		return err
	}
	superuser, err := server.SuperuserURL("postgres")
	if err != nil {
		return err
	}
	return exec(ctx, superuser, "SELECT pg_reload_conf()")
}

// enough is how much memory must be free for a server's files to lie in it.
const enough = 4 << 30

// Folder makes a folder for a server, which its user can reach. It is in memory where
// there is enough: each test makes a database of some 300 files and removes it, and file
// systems get slower by that.
func Folder() (string, error) {
	parent := "/var/tmp"
	var memory syscall.Statfs_t
	if syscall.Statfs("/dev/shm", &memory) == nil && memory.Bavail*uint64(memory.Bsize) > enough {
		parent = "/dev/shm"
	}
	dir, err := os.MkdirTemp(parent, "mullein-test-")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

func exec(ctx context.Context, database, statement string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, statement)
	return err
}

// AsSuperuser executes a statement in a test's database, given by its URL, as the server's
// superuser, as whoever looks after it would.
func AsSuperuser(t testing.TB, database, statement string) {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	as, err := server.SuperuserURL(strings.TrimPrefix(u.Path, "/"))
	if err != nil {
		t.Fatal(err)
	}
	if err := exec(context.Background(), as, statement); err != nil {
		t.Fatal(err)
	}
}

// Database returns the URL of a fresh database, which goes with the test.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", number.Add(1))
	if err := exec(context.Background(), server.URL(), "CREATE DATABASE "+name+" TEMPLATE "+template); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := exec(context.Background(), server.URL(), "DROP DATABASE "+name+" WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	return server.DatabaseURL(name)
}
