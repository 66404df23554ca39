// Package doctor looks at everything that keeps a service from working, from the machine that it
// runs on, and says of each what is wrong and the way out.
package doctor

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"mullein/internal/localpg"
	"mullein/internal/settings"
)

// Finding is what was found of one thing.
type Finding struct {
	Of   string `json:"of"`            // what was looked at
	Good bool   `json:"good"`          // nothing is wrong with it
	Saw  string `json:"saw"`           // what was found
	Way  string `json:"way,omitempty"` // what mends it
}

// patience is how long each thing may take to answer.
const patience = 5 * time.Second

// look gathers findings.
type look struct {
	ctx  context.Context
	said *settings.Loaded
	home string
	out  []Finding
}

func (l *look) good(of, saw string, args ...any) {
	l.out = append(l.out, Finding{Of: of, Good: true, Saw: fmt.Sprintf(saw, args...)})
}

func (l *look) bad(of string, err error, way string) {
	l.out = append(l.out, Finding{Of: of, Saw: err.Error(), Way: way})
}

// Look looks at a home folder with its settings. database is the address of that with the
// records, or why there is none.
func Look(ctx context.Context, home string, said *settings.Loaded, database string, noDatabase error) []Finding {
	l := &look{ctx: ctx, said: said, home: home}
	l.homeFolder()
	l.good("settings", "%s", map[bool]string{true: said.File, false: "no file; what is not in the environment is at its default"}[said.File != ""])
	if noDatabase != nil {
		l.bad("database", noDatabase, "start the service, or name a database in the settings")
	} else {
		l.database("database", database, true)
	}
	for _, name := range slices.Sorted(maps.Keys(said.Connections)) {
		l.database("connection "+name, said.Connections[name], false)
	}
	l.roots()
	l.watches()
	l.disk(home)
	l.disk(os.TempDir())
	l.programs()
	for _, name := range slices.Sorted(maps.Keys(said.Outlets)) {
		o := said.Outlets[name]
		l.outlet(name, &o)
	}
	for _, name := range slices.Sorted(maps.Keys(said.Places)) {
		p := said.Places[name]
		l.place(name, &p)
	}
	l.service()
	return l.out
}

func (l *look) homeFolder() {
	const of = "home folder"
	f, err := os.CreateTemp(l.home, ".doctor-*")
	if err != nil {
		l.bad(of, err, "make the folder, and let the service's user write into it")
		return
	}
	_ = f.Close()
	_ = os.Remove(f.Name())
	if info, err := os.Stat(filepath.Join(l.home, "owner.token")); err == nil && info.Mode().Perm()&0o077 != 0 {
		l.bad(of, fmt.Errorf("others can read owner.token (mode %04o)", info.Mode().Perm()), "chmod 600 owner.token")
		return
	}
	l.good(of, "%s can be written", l.home)
}

// database looks at a database: whether it answers, its version, its clock, and rights.
func (l *look) database(of, address string, records bool) {
	ctx, cancel := context.WithTimeout(l.ctx, patience)
	defer cancel()
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		l.bad(of, withoutPassword(err, address), "is PostgreSQL running, and are address, user and password right?")
		return
	}
	defer conn.Close(ctx)
	var version int
	var now time.Time
	var create bool
	before := time.Now()
	err = conn.QueryRow(ctx, `SELECT current_setting('server_version_num')::integer, clock_timestamp(),
		has_database_privilege(current_database(), 'CREATE') OR to_regnamespace('mullein') IS NOT NULL`).Scan(&version, &now, &create)
	if err != nil {
		l.bad(of, err, "can this user read?")
		return
	}
	const oldest, apart, thousand = 15, 5 * time.Second, 10_000
	drift := now.Sub(before.Add(time.Since(before) / 2))
	switch {
	case version/thousand < oldest:
		l.bad(of, fmt.Errorf("PostgreSQL %d", version/thousand), "15 or later is needed")
	case !create:
		l.bad(of, errors.New("no right to make schemas"), "GRANT CREATE ON DATABASE ... TO ...; docs/operations.md has the rest")
	case drift.Abs() > apart:
		l.bad(of, fmt.Errorf("its clock is %s from this machine's", drift.Round(time.Second)), "let both keep their time by NTP")
	default:
		l.good(of, "PostgreSQL %d.%d answers in %d ms", version/thousand, version%thousand, time.Since(before).Milliseconds())
	}
	if !records {
		return
	}
	var there bool
	if err := conn.QueryRow(ctx, "SELECT to_regclass('mullein_records.notice') IS NOT NULL").Scan(&there); err != nil {
		l.bad("records", err, "")
	} else if !there {
		l.bad("records", errors.New("there are none of this version"), "start a service on this database; it makes them")
	} else {
		l.good("records", "are there")
	}
}

// withoutPassword keeps a password out of an error.
func withoutPassword(err error, address string) error {
	text := err.Error()
	if at, parsed := url.Parse(address); parsed == nil {
		if password, given := at.User.Password(); given && password != "" {
			text = strings.ReplaceAll(text, password, "...")
		}
	}
	return errors.New(text)
}

func (l *look) roots() {
	roots := l.said.LandingRoots
	if len(roots) == 0 {
		roots = []string{filepath.Join(l.home, "landings")}
	}
	for _, root := range roots {
		of := "landing root " + root
		info, err := os.Stat(root)
		switch {
		case err != nil:
			l.bad(of, err, "make the folder, or mount it; or name another under landing_roots")
		case !info.IsDir():
			l.bad(of, errors.New("it is no folder"), "name a folder under landing_roots")
		case syscall.Access(root, 4|1) != nil:
			l.bad(of, errors.New("it cannot be read"), "let the service's user read it and what is below")
		default:
			l.good(of, "can be read")
		}
	}
}

// watches looks at how many folders the kernel lets a user watch.
func (l *look) watches() {
	const of, few = "watches of folders", 8192
	text, err := os.ReadFile("/proc/sys/fs/inotify/max_user_watches")
	if err != nil {
		l.good(of, "are not bounded here, or not known")
		return
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err == nil && n < few {
		l.bad(of, fmt.Errorf("%d at the most", n), "sysctl fs.inotify.max_user_watches=524288; landings are listed only else")
		return
	}
	l.good(of, "%d at the most", n)
}

func (l *look) disk(folder string) {
	of := "disk of " + folder
	var s syscall.Statfs_t
	if err := syscall.Statfs(folder, &s); err != nil {
		l.bad(of, err, "")
		return
	}
	free := s.Bavail * uint64(s.Bsize)
	const least = 1 << 30
	if free < least {
		l.bad(of, fmt.Errorf("%d MiB are free", free>>20), "make room; loads wait where there is less than they need")
		return
	}
	l.good(of, "%d GiB are free", free>>30)
}

func (l *look) programs() {
	for _, name := range []string{"psql", "pg_dump"} {
		if path, err := localpg.Program(name); err != nil {
			l.bad("program "+name, err, "apt-get install postgresql-client")
		} else {
			l.good("program "+name, "%s", path)
		}
	}
}

// outlet looks at whether an outlet can be reached, and its secrets be read. Nothing is sent.
func (l *look) outlet(name string, o *settings.Outlet) {
	of := "outlet " + name
	for _, file := range []string{o.PasswordFile, o.SecretFile} {
		if file == "" {
			continue
		}
		if _, err := os.ReadFile(file); err != nil {
			l.bad(of, err, "let the service's user read the file")
			return
		}
	}
	at := o.Mail
	switch {
	case o.Hook != "":
		u, err := url.Parse(o.Hook)
		if err != nil {
			l.bad(of, err, "")
			return
		}
		at = net.JoinHostPort(u.Hostname(), portOf(u))
	case len(o.Command) > 0:
		if err := syscall.Access(o.Command[0], 1); err != nil {
			l.bad(of, fmt.Errorf("%s: %w", o.Command[0], err), "is the program there, and may the service's user run it?")
			return
		}
		l.good(of, "%s is there", o.Command[0])
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, patience)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		l.bad(of, err, "is the address right, and does a firewall let it through? mullein outlet test "+name)
		return
	}
	_ = conn.Close()
	l.good(of, "%s answers; mullein outlet test %s sends something", at, name)
}

// place looks at whether a place can be reached, and what signs in there be read. Nobody signs in.
func (l *look) place(name string, p *settings.Place) {
	of := "place " + name
	for _, file := range []string{p.PasswordFile, p.KeyFile, p.PassphraseFile, p.Authority} {
		if file == "" {
			continue
		}
		if _, err := os.ReadFile(file); err != nil {
			l.bad(of, err, "let the service's user read the file")
			return
		}
	}
	address := p.Address
	if p.IsObjects() {
		address = p.Endpoint
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		l.good(of, "is the vendor's; mullein place test %s signs in", name)
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, patience)
	defer cancel()
	at := net.JoinHostPort(u.Hostname(), portOf(u))
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		l.bad(of, err, "is the address right, and does a firewall let it through? mullein place test "+name)
		return
	}
	_ = conn.Close()
	l.good(of, "%s answers; mullein place test %s signs in", at, name)
}

func portOf(u *url.URL) string {
	if p := u.Port(); p != "" {
		return p
	}
	return map[string]string{"http": "80", "https": "443", "sftp": "22", "ftp": "21", "ftps": "990"}[u.Scheme]
}

// service looks at the service of the home folder.
func (l *look) service() {
	const of = "service"
	text, err := os.ReadFile(filepath.Join(l.home, "address"))
	if err != nil {
		l.bad(of, errors.New("none was started with this home folder"), "mullein serve")
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, patience)
	defer cancel()
	address := strings.TrimSpace(string(text))
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/readyz", nil)
	if err != nil {
		l.bad(of, err, "")
		return
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		l.bad(of, fmt.Errorf("none answers at %s", address), "mullein serve; its log says why it ended")
		return
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		l.bad(of, fmt.Errorf("%s answers %s", address, answer.Status), "the database is away; see above")
		return
	}
	l.good(of, "%s is ready", address)
}
