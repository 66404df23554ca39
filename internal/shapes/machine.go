package shapes

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/client"
)

// machine is a service of its own, at a database of its own, and who loads the same by hand.
type machine struct {
	dir     string
	db      *pgx.Conn // to the scratch database
	service *exec.Cmd
	exited  chan error // of the service
	client  *client.Client
	drop    func() error
	// noCheckpoint says that the role may not make PostgreSQL write out what it holds.
	noCheckpoint bool
}

// startMachine makes a scratch database on a server, and starts a service there. close takes
// both away.
func startMachine(ctx context.Context, o Options) (m *machine, err error) {
	m = &machine{}
	defer func() {
		if err != nil {
			err = errors.Join(err, m.close())
			m = nil
		}
	}()
	if m.dir, err = os.MkdirTemp(o.Dir, "mullein-shapes-"); err != nil {
		return m, err
	}
	database, err := m.scratch(ctx, o.Server)
	if err != nil {
		return m, err
	}
	if m.db, err = pgx.Connect(ctx, database); err != nil {
		return m, fmt.Errorf("connect to the scratch database: %w", err)
	}
	if _, err := m.db.Exec(ctx, "CREATE SCHEMA mullein_shapes"); err != nil {
		return m, err
	}
	return m, m.serve(ctx, o.Program, database)
}

// scratch makes a database beside the one that is named, and returns its address.
func (m *machine) scratch(ctx context.Context, server string) (string, error) {
	config, err := pgx.ParseConfig(server)
	if err != nil {
		return "", fmt.Errorf("read the address of the database: %w", err)
	}
	name := fmt.Sprintf("mullein_shapes_%d_%d", os.Getpid(), time.Now().UnixNano())
	quoted := pgx.Identifier{name}.Sanitize()
	on := func(ctx context.Context, statement string) error {
		db, err := pgx.ConnectConfig(ctx, config)
		if err != nil {
			return err
		}
		defer db.Close(context.WithoutCancel(ctx))
		_, err = db.Exec(ctx, statement)
		return err
	}
	if err := on(ctx, "CREATE DATABASE "+quoted); err != nil {
		var refused *pgconn.PgError
		if errors.As(err, &refused) && refused.Code == "42501" {
			return "", fmt.Errorf("make a scratch database: %w; it takes: ALTER ROLE %s CREATEDB", err,
				pgx.Identifier{config.User}.Sanitize())
		}
		return "", fmt.Errorf("make a scratch database: %w", err)
	}
	m.drop = func() error {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		if err := on(last, "DROP DATABASE "+quoted+" WITH (FORCE)"); err != nil {
			return fmt.Errorf("drop the scratch database %s: %w", name, err)
		}
		return nil
	}
	return addressOf(server, name), nil
}

// addressOf returns the address of another database of the same server.
func addressOf(server, name string) string {
	if u, err := url.Parse(server); err == nil && u.Scheme != "" {
		u.Path = "/" + name
		return u.String()
	}
	return server + " dbname=" + name // of two, the last counts
}

// serve starts the service, and waits until it answers.
func (m *machine) serve(ctx context.Context, program, database string) error {
	home := filepath.Join(m.dir, "home")
	if err := os.MkdirAll(filepath.Join(home, "landings", "in"), 0o755); err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(m.dir, "service.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	m.service = exec.Command(program, "serve", "--home", home, "--listen", "127.0.0.1:0")
	m.service.Env = append(os.Environ(), "MULLEIN_DATABASE="+database) // it may hold a password
	m.service.Stdout, m.service.Stderr = log, log
	if err := m.service.Start(); err != nil {
		m.service = nil
		return fmt.Errorf("start a service: %w", err)
	}
	m.exited = make(chan error, 1)
	go func() { m.exited <- m.service.Wait() }()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		address, errAddress := os.ReadFile(filepath.Join(home, "address"))
		token, errToken := os.ReadFile(filepath.Join(home, "owner.token"))
		if errAddress == nil && errToken == nil {
			m.client = client.New(strings.TrimSpace(string(address)), strings.TrimSpace(string(token)))
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the service does not answer: %w", ctx.Err())
		case err := <-m.exited:
			m.exited <- err
			said, _ := os.ReadFile(log.Name()) // of what it did not say, nothing is known
			return fmt.Errorf("the service has ended: %w; it said: %.500s", err, said)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// landing is the folder in which files are left.
func (m *machine) landing() string { return filepath.Join(m.dir, "home", "landings", "in") }

// close ends the service, and takes everything away.
func (m *machine) close() error {
	var failed error
	if m.service != nil {
		_ = m.service.Process.Signal(syscall.SIGTERM) // unless it has ended
		<-m.exited
	}
	if m.db != nil {
		failed = m.db.Close(context.Background())
	}
	if m.drop != nil {
		failed = errors.Join(failed, m.drop())
	}
	if m.dir != "" {
		failed = errors.Join(failed, os.RemoveAll(m.dir))
	}
	return failed
}

// quiet leaves nothing for PostgreSQL to do beside what is measured next: tables are vacuumed,
// with fresh statistics.
func (m *machine) quiet(ctx context.Context, tables ...string) error {
	for _, t := range tables {
		if _, err := m.db.Exec(ctx, "VACUUM ANALYZE "+qualified(t)); err != nil {
			return err
		}
	}
	if m.noCheckpoint {
		return nil
	}
	_, err := m.db.Exec(ctx, "CHECKPOINT")
	if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) && refused.Code == "42501" {
		m.noCheckpoint, err = true, nil
	}
	return err
}

func qualified(table string) string { return pgx.Identifier{"mullein_shapes", table}.Sanitize() }
