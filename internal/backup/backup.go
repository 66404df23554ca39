// Package backup writes the records and the settings of a service into one file, and puts them
// back. Target tables are not in it: their markers tell what was loaded, and a restore is
// held against them.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/localpg"
	"mullein/internal/settings"
)

// Meta says what a back-up holds. It is its first member.
type Meta struct {
	Format   int       `json:"format"`  // 1
	Mullein  string    `json:"mullein"` // the version that wrote it
	At       time.Time `json:"at"`
	Database string    `json:"database"` // where the records were, without the password
	Arrivals int64     `json:"arrivals"`
	Feeds    int64     `json:"feeds"`
}

const (
	format   = 1
	metaName = "backup.json"
	dumpName = "records.dump"
	schema   = "mullein_records"
)

// Write writes a back-up of the records behind an address, and of the settings file of a home
// folder. It may be done while services work. The file appears whole, or not at all.
func Write(ctx context.Context, database, home, version, file string) (Meta, error) {
	meta, err := describe(ctx, database, version)
	if err != nil {
		return meta, err
	}
	dir, err := os.MkdirTemp(filepath.Dir(file), ".backup-*")
	if err != nil {
		return meta, fmt.Errorf("write the back-up: %w", err)
	}
	defer os.RemoveAll(dir)
	dump := filepath.Join(dir, dumpName)
	if err := run(ctx, database, "pg_dump", "--format=custom", "--schema="+schema, "--no-owner", "--no-privileges", "--file="+dump); err != nil {
		return meta, err
	}
	part := filepath.Join(dir, "backup")
	if err := pack(part, meta, dump, filepath.Join(home, settings.FileName)); err != nil {
		return meta, fmt.Errorf("write the back-up: %w", err)
	}
	return meta, os.Rename(part, file)
}

// describe says what the records hold.
func describe(ctx context.Context, database, version string) (Meta, error) {
	meta := Meta{Format: format, Mullein: version, At: time.Now().UTC().Truncate(time.Second)}
	at, _ := separate(database)
	meta.Database = at
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return meta, fmt.Errorf("the database with the records: %w", err)
	}
	defer conn.Close(ctx)
	err = conn.QueryRow(ctx, "SELECT (SELECT count(*) FROM mullein_records.feed WHERE removed_at IS NULL), "+
		"(SELECT coalesce(sum(n), 0)::bigint FROM mullein_records.tally)").Scan(&meta.Feeds, &meta.Arrivals)
	if err != nil {
		return meta, fmt.Errorf("there are no records of Mullein in that database: %w", err)
	}
	return meta, nil
}

// pack writes the back-up's members.
func pack(to string, meta Meta, dump, said string) error {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	w := tar.NewWriter(f)
	text, err := json.MarshalIndent(meta, "", "  ")
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: metaName, Mode: 0o600, Size: int64(len(text)), ModTime: meta.At}); err != nil {
		return err
	}
	if _, err := w.Write(text); err != nil {
		return err
	}
	for name, from := range map[string]string{dumpName: dump, settings.FileName: said} {
		if err := add(w, name, from, meta.At); err != nil && !(name == settings.FileName && errors.Is(err, os.ErrNotExist)) {
			return err
		}
	}
	return errors.Join(w.Close(), f.Sync(), f.Close())
}

func add(w *tar.Writer, name, from string, at time.Time) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: info.Size(), ModTime: at}); err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}

// Restored says what was put back.
type Restored struct {
	Meta
	Settings string `json:"settings"` // where the settings file of the back-up lies now; "" where it held none
}

// ErrAlive says that a service works on the records.
var ErrAlive = errors.New("a service works on these records; stop it first")

// Restore puts back the records, in one transaction, and lays the settings into the home folder:
// under another name where there are some.
func Restore(ctx context.Context, database, home, file string) (Restored, error) {
	var out Restored
	if err := nobodyWorks(ctx, database); err != nil {
		return out, err
	}
	dir, err := os.MkdirTemp("", "mullein-restore-*")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(dir)
	if out.Meta, err = unpack(file, dir); err != nil {
		return out, fmt.Errorf("%s: %w", file, err)
	}
	dump := filepath.Join(dir, dumpName)
	if err := run(ctx, database, "pg_restore", "--clean", "--if-exists", "--single-transaction", "--no-owner", "--no-privileges",
		"--exit-on-error", "--dbname={}", dump); err != nil {
		return out, err
	}
	said, err := os.ReadFile(filepath.Join(dir, settings.FileName))
	if errors.Is(err, os.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Settings = filepath.Join(home, settings.FileName)
	if now, err := os.ReadFile(out.Settings); err == nil && !bytes.Equal(now, said) {
		out.Settings += ".restored"
	}
	return out, os.WriteFile(out.Settings, said, 0o600)
}

// nobodyWorks fails with ErrAlive while a service holds its lease.
func nobodyWorks(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("the database for the records: %w", err)
	}
	defer conn.Close(ctx)
	var there, alive bool
	if err := conn.QueryRow(ctx, "SELECT to_regclass('mullein_records.service') IS NOT NULL").Scan(&there); err != nil || !there {
		return err
	}
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM mullein_records.service WHERE lease_until > now())").Scan(&alive); err != nil {
		return err
	}
	if alive {
		return ErrAlive
	}
	return nil
}

// unpack lays the members of a back-up into a folder.
func unpack(file, dir string) (meta Meta, err error) {
	f, err := os.Open(file)
	if err != nil {
		return meta, err
	}
	defer f.Close()
	r := tar.NewReader(f)
	members := map[string]bool{}
	for {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return meta, fmt.Errorf("it is no back-up, or cut short: %w", err)
		}
		switch h.Name {
		case metaName:
			if err := json.NewDecoder(io.LimitReader(r, 1<<20)).Decode(&meta); err != nil {
				return meta, fmt.Errorf("it is no back-up: %w", err)
			}
			if meta.Format != format {
				return meta, fmt.Errorf("it has format %d; this version reads %d", meta.Format, format)
			}
		case dumpName, settings.FileName:
			if err := lay(r, filepath.Join(dir, h.Name)); err != nil {
				return meta, fmt.Errorf("it is cut short: %w", err)
			}
		default:
			return meta, fmt.Errorf("it is no back-up: %q is in it", h.Name)
		}
		members[h.Name] = true
	}
	if !members[metaName] || !members[dumpName] {
		return meta, errors.New("it is no back-up of Mullein, or cut short")
	}
	return meta, nil
}

func lay(r io.Reader, to string) error {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	return errors.Join(err, f.Close())
}

// separate returns an address without its password, and the password.
func separate(database string) (address, password string) {
	at, err := url.Parse(database)
	if err != nil {
		return "", ""
	}
	if secret, given := at.User.Password(); given {
		password = secret
		at.User = url.User(at.User.Username())
	}
	return at.String(), password
}

// run runs one of PostgreSQL's programs on a database; {} in its arguments stands for the
// address, which is added otherwise. The password goes by the environment.
func run(ctx context.Context, database, program string, args ...string) error {
	path, err := localpg.Program(program)
	if err != nil {
		return err
	}
	address, password := separate(database)
	placed := false
	for i, a := range args {
		if strings.Contains(a, "{}") {
			args[i], placed = strings.ReplaceAll(a, "{}", address), true
		}
	}
	if !placed {
		args = append(args, address)
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+password)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", program, err, strings.TrimSpace(string(out[max(0, len(out)-2000):])))
	}
	return nil
}
