package server

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"mullein/internal/core/feed"
	"mullein/internal/engine"
	"mullein/internal/extract"
	"mullein/internal/landing"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/localpg"
	"mullein/internal/notice"
	"mullein/internal/place"
	"mullein/internal/queue"
	"mullein/internal/settings"
	"mullein/internal/table"
	"mullein/internal/trace"
)

// Config is how a service is started.
type Config struct {
	Home string // its own folder
	// Settings are those of the start. Sessions and AddedColumns that are 0 stand for their defaults;
	// what Keep does not say is kept for ever.
	settings.Settings
	// Reread reads the settings again, of which outlets, who is told, and new connections are taken while the
	// service runs; nil where they stay.
	Reread   func() (*settings.Loaded, error)
	Log      *slog.Logger
	Out      io.Writer          // what people are told at the start
	Terminal bool               // Out is one: links that sign in may be shown there
	Ready    func(Running)      // may be nil; called when the service answers
	OnStep   engineStepObserver // may be nil
	Objects  place.Dial         // how object stores are reached; nil where the program has none
	Queues   queue.Dial         // how queues are reached; nil where the program has none
	Stray    <-chan string      // what libraries wrote to the standard error, a line each; may be nil

	Private *localpg.Server                    // the private PostgreSQL, where it runs already; nil to start it
	disk    func() (free uint64, where string) // of the private PostgreSQL; nil for another
	own     []string                           // files and folders of the service itself
}

type engineStepObserver = func(feed string, arrival int64, step load.Step)

// withMain returns the URLs of all databases that may have targets, by connection; extracts read others too.
func withMain(connections map[string]string, main string) map[string]string {
	out := map[string]string{feed.MainConnection: main}
	for name, url := range connections {
		if !extract.IsMySQL(url) {
			out[name] = url
		}
	}
	return out
}

// Running is how to reach a service.
type Running struct {
	URL    string // of the service
	Token  string // the owner's
	SignIn string // a link to the console, good for one sign-in
	Root   string // the first landing root
}

// The files of a service's home folder that the command line reads too.
const (
	TokenFile   = "owner.token"
	AddressFile = "address"
	LinkFile    = "sign-in.link"
	serviceFile = "service.id"
	lockFile    = "lock"
	// Landings is the folder of the landings, where no other root is named.
	Landings = "landings"
)

// Serve runs a service until ctx ends. It stops cleanly within ten seconds.
func Serve(ctx context.Context, c Config) error {
	c.Sessions, c.RecordSessions = cmp.Or(c.Sessions, table.DefaultSessions),
		cmp.Or(c.RecordSessions, ledger.DefaultSessions)
	c.AddedColumns = cmp.Or(c.AddedColumns, load.DefaultAddedColumns)
	home, err := filepath.Abs(c.Home)
	if err != nil {
		return fmt.Errorf("home folder: %w", err)
	}
	if err := os.MkdirAll(home, 0o755); err != nil {
		return fmt.Errorf("home folder: %w", err)
	}
	unlock, err := lock(home)
	if err != nil {
		return err
	}
	defer unlock()
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; is another service running? --listen 127.0.0.1:0 takes any free port",
			c.Listen, err)
	}
	defer listener.Close()
	url := c.Database
	if url == "" {
		own, err := startOwn(ctx, home, c)
		if err != nil {
			return err
		}
		defer func() {
			stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
			defer cancel()
			if err := own.Stop(stop); err != nil {
				c.Log.Error("the private PostgreSQL did not stop", "error", err)
			}
		}()
		go keepOwn(ctx, own, c.Log)
		url = own.URL()
		c.disk, c.own = diskOf(own.Data), append(c.own, own.Data)
	}
	if len(c.LandingRoots) == 0 {
		c.LandingRoots = []string{filepath.Join(home, Landings)}
		if err := os.MkdirAll(c.LandingRoots[0], 0o755); err != nil {
			return fmt.Errorf("landings: %w", err)
		}
	}
	for _, name := range []string{TokenFile, AddressFile, serviceFile, lockFile, seenFile, spoolFolder, recordsFolder, extractsFolder, "postgres"} {
		c.own = append(c.own, filepath.Join(home, name))
	}
	return serve(ctx, home, url, listener, c)
}

func startOwn(ctx context.Context, home string, c Config) (*localpg.Server, error) {
	if c.Private != nil {
		return c.Private, nil
	}
	own, err := localpg.Start(ctx, localpg.Options{Dir: home})
	if err != nil {
		return nil, err
	}
	if own.Moved {
		fmt.Fprintf(c.Out, "PostgreSQL's data are in %s: its user cannot reach the home folder.\n", own.Data)
	}
	if own.Adopted {
		c.Log.Info("took over the private PostgreSQL that an earlier service left running")
	}
	return own, nil
}

// keepOwn starts the private PostgreSQL again when it has died.
func keepOwn(ctx context.Context, own *localpg.Server, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
		if own.Answers(ctx, time.Second) || ctx.Err() != nil {
			continue
		}
		log.Warn("the private PostgreSQL does not answer; starting it again")
		if err := own.Restart(ctx); err != nil && ctx.Err() == nil {
			log.Error("the private PostgreSQL could not be started", "error", err)
		}
	}
}

func serve(ctx context.Context, home, url string, listener net.Listener, c Config) error {
	records, err := openLedger(ctx, url, c)
	if err != nil {
		return err
	}
	defer records.Close()
	if err := sayOlder(ctx, records, home, c.Log); err != nil {
		return err
	}
	databases, err := table.OpenConnections(ctx, withMain(c.Connections, url), c.Sessions)
	if err != nil {
		return err
	}
	defer databases.Close()
	who, token, err := identify(ctx, records, home, listener)
	if err != nil {
		return err
	}
	places, err := openPlaces(home, &c)
	if err != nil {
		return err
	}
	env := &load.Env{Ledger: records, Databases: databases, Roots: c.LandingRoots, Places: places, AddedColumns: c.AddedColumns,
		Guard:   landing.NewGuard(c.own...),
		Service: who.Name, Log: c.Log, OnStep: c.OnStep, Progress: &load.Progresses{}}
	e := engine.New(engine.Options{Env: env, ID: who.ID, Disk: c.disk, Keep: kept(c.Keep)})
	working, stopWorking := context.WithCancel(ctx)
	worked := make(chan error, 1)
	go func() { worked <- e.Run(working) }()
	var noting sync.WaitGroup
	noting.Go(func() { keepSeen(working, records, home, c.Log) })
	noting.Go(func() { logStray(working, c.Stray, env.Progress, c.Log) })
	noting.Go(func() { places.Run(working) })
	noting.Go(func() { countRequests(working, places, records, c.Log) })
	defer noting.Wait()
	defer stopWorking()

	scheme := "http://"
	var shown *certificate
	if c.TLS != nil {
		if shown, err = newCertificate(*c.TLS); err != nil {
			return err
		}
		scheme = "https://"
		noting.Go(func() { shown.keep(working, c.Log.Warn) })
	}
	s := New(records, e, who, c.LandingRoots, c.Log)
	s.places = places
	s.gather = s.newGatherer(filepath.Join(home, recordsFolder))
	s.database = url
	s.extracts = s.newExtracts(extract.Options{Service: who.ID, Folder: filepath.Join(home, extractsFolder)})
	s.settings.now.Store(&c.Settings)
	s.queues = queue.New(queue.Options{Dial: c.Queues, Take: s.takeMessage, Log: c.Log})
	if c.Queues != nil {
		s.queues.Set(c.Settings.Queues)
		noting.Go(func() { s.queues.Run(working) })
	}
	if err := s.router.SetTrustedProxies(c.Proxies); err != nil {
		return fmt.Errorf("proxies: %w", err)
	}
	s.listens = scheme + listener.Addr().String()
	s.secured = shown != nil || strings.HasPrefix(c.Address, "https://")
	s.teller = notice.New(notice.Options{Ledger: records, Service: who.ID, Settings: s.settings.now.Load,
		Address: s.listens, Rollups: s.rollupsFor, Database: e.Where, Log: c.Log, Ending: func() map[string]string {
			out := places.Ending(time.Now(), toldAhead)
			if shown != nil {
				maps.Copy(out, shown.endsSoon())
			}
			return out
		}})
	if c.Traces != "" {
		traces, err := trace.New(working, c.Traces, who.Name, Version)
		if err != nil {
			return err
		}
		defer func() {
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer cancel()
			if err := traces.Close(last); err != nil {
				c.Log.Debug("traces were not sent", "error", err)
			}
		}()
		s.teller.Trace = traces.Arrival
	}
	noting.Go(func() { s.teller.Run(working) })
	if c.Reread != nil {
		noting.Go(func() {
			s.settings.reread(working, c.Reread, func(now settings.Settings) {
				changed, err := databases.Change(working, withMain(now.Connections, url), c.Sessions)
				if err != nil {
					c.Log.Warn("a connection could not be taken up", "error", err)
				}
				if changed {
					e.Reconnected()
				}
				places.Set(now.Places)
				if c.Queues != nil {
					s.queues.Set(now.Queues)
				}
			}, c.Log.Warn)
		})
	}
	noting.Go(func() { s.gather.Run(working) })
	noting.Go(func() { s.extracts.Run(working) })
	go s.follow(working)
	web := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug)}
	served := make(chan error, 1)
	go func() {
		if shown == nil {
			served <- web.Serve(listener)
			return
		}
		web.TLSConfig = &tls.Config{GetCertificate: shown.get, MinVersion: tls.VersionTLS12}
		served <- web.ServeTLS(listener, "", "")
	}()
	if err := s.announce(ctx, home, Running{URL: scheme + listener.Addr().String(), Token: token,
		Root: c.LandingRoots[0]}, c); err != nil && ctx.Err() == nil { // one that is stopped already stops as any other
		return err
	}
	select {
	case <-ctx.Done():
	case err = <-served:
	}
	c.Log.Info("stopping")
	stopWorking()
	// Live streams end by themselves when working ends; others get a second.
	quick, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	if web.Shutdown(quick) != nil {
		web.Close()
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return errors.Join(err, <-worked)
}

// recordsFolder is the folder of the home where rows of senders without files are gathered.
const recordsFolder = "records"

// extractsFolder is the folder of the home where extracts write files before they are put down.
const extractsFolder = "extracts"

// spoolFolder is the folder of the home where bytes of files of places are kept while they are read.
const spoolFolder = "spool"

// countRequests adds what is asked of places to the volumes, now and then.
func countRequests(ctx context.Context, places *place.Places, records *ledger.Ledger, log *slog.Logger) {
	const every = 10 * time.Second
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(every):
		}
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		if err := records.CountRequests(last, time.Now(), places.TakeRequests()); err != nil {
			log.Warn("requests of places were not counted", "error", err)
		}
		cancel()
	}
}

// openPlaces opens the places of the settings.
func openPlaces(home string, c *Config) (*place.Places, error) {
	spool := filepath.Join(home, spoolFolder)
	if err := os.MkdirAll(spool, 0o700); err != nil {
		return nil, fmt.Errorf("room for files of places: %w", err)
	}
	places := place.New(place.Options{Spool: spool, SpoolBytes: int64(cmp.Or(c.SpoolBytes, settings.Default().SpoolBytes)),
		Roots: c.LandingRoots, Objects: c.Objects})
	places.Set(c.Places)
	return places, nil
}

// logStray logs what libraries say, with the files that are being loaded: they know no log, and
// not whose bytes they read.
func logStray(ctx context.Context, lines <-chan string, loads *load.Progresses, log *slog.Logger) {
	for {
		select {
		case <-ctx.Done():
			return
		case line := <-lines:
			var files []string
			for _, p := range loads.List() {
				files = append(files, p.Feed+": "+p.Path)
			}
			log.Warn("a library says", "says", line, "files", files)
		}
	}
}

// kept says how long the records are kept.
func kept(k settings.Keep) ledger.Keep {
	return ledger.Keep{Rejects: time.Duration(k.Rejects), Events: time.Duration(k.Events), Runs: time.Duration(k.Runs),
		Checks: time.Duration(k.Checks), Slots: time.Duration(k.Slots), Decisions: time.Duration(k.Decisions),
		Arrivals: time.Duration(k.Arrivals), Order: time.Duration(k.Order), Notices: time.Duration(k.Notices)}
}

// Reconcile says of each feed how its records differ from what its table holds, without a service.
func Reconcile(ctx context.Context, c Config, database string) (map[string][]string, error) {
	records, err := openLedger(ctx, database, c)
	if err != nil {
		return nil, err
	}
	defer records.Close()
	databases, err := table.OpenConnections(ctx, withMain(c.Connections, database), cmp.Or(c.Sessions, table.DefaultSessions))
	if err != nil {
		return nil, err
	}
	defer databases.Close()
	roots := c.LandingRoots
	if len(roots) == 0 {
		roots = []string{filepath.Join(c.Home, Landings)}
	}
	c.LandingRoots = roots
	places, err := openPlaces(c.Home, &c)
	if err != nil {
		return nil, err
	}
	env := &load.Env{Ledger: records, Databases: databases, Roots: roots, Places: places, Guard: landing.NewGuard(), Service: "restore", Log: c.Log,
		Progress: &load.Progresses{}}
	inspector := engine.New(engine.Options{Env: env}).Inspector()
	feeds, err := records.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, f := range feeds {
		list, err := inspector.Reconcile(ctx, f.Name)
		if err != nil {
			return nil, fmt.Errorf("feed %s: %w", f.Name, err)
		}
		for _, d := range list {
			out[f.Name] = append(out[f.Name], strings.TrimPrefix(d.Path+": "+d.What, ": "))
		}
	}
	return out, nil
}

// identify says which service this is, and returns the owner's token.
func identify(ctx context.Context, records *ledger.Ledger, home string, listener net.Listener) (who Identity,
	token string, err error) {
	if token, err = secretFile(filepath.Join(home, TokenFile), ledger.NewSecret); err != nil {
		return who, "", err
	}
	if who.Owner, err = ownerToken(ctx, records, filepath.Join(home, TokenFile), token); err != nil {
		return who, "", err
	}
	if who.ID, err = secretFile(filepath.Join(home, serviceFile), uuid.NewString); err != nil {
		return who, "", err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "mullein"
	}
	who.Name = fmt.Sprintf("%s:%s", host, portOf(listener))
	return who, token, nil
}

// announce says where the service is to be found.
func (s *Server) announce(ctx context.Context, home string, r Running, c Config) (err error) {
	if err := os.WriteFile(filepath.Join(home, AddressFile), []byte(r.URL+"\n"), 0o644); err != nil {
		return fmt.Errorf("write the address: %w", err)
	}
	if r.SignIn, err = s.signInLink(ctx, r.URL+s.base()); err != nil {
		return err
	}
	console := r.SignIn
	if !c.Terminal {
		if console, err = keepLink(home, r); err != nil {
			return err
		}
	}
	fmt.Fprintf(c.Out, "Console   %s\nAPI       %s/api/v1   (token in %s)\nLanding   %s\n", console, r.URL,
		filepath.Join(home, TokenFile), strings.Join(c.LandingRoots, ", "))
	if c.Ready != nil {
		c.Ready(r)
	}
	return nil
}

func portOf(l net.Listener) string {
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		return l.Addr().String()
	}
	return port
}

// diskOf returns how much room is left where the private PostgreSQL keeps its data.
func diskOf(data string) func() (uint64, string) {
	return func() (uint64, string) {
		var s syscall.Statfs_t
		if err := syscall.Statfs(data, &s); err != nil {
			return math.MaxUint64, data // it does not say; PostgreSQL will
		}
		return s.Bavail * uint64(s.Bsize), data
	}
}

// keepLink writes the link that signs in where only the owner reads it, since what is
// printed may end in a log, and says where.
func keepLink(home string, r Running) (string, error) {
	file := filepath.Join(home, LinkFile)
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("write the link that signs in: %w", err)
	}
	if err := os.WriteFile(file, []byte(r.SignIn+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the link that signs in: %w", err)
	}
	return fmt.Sprintf("%s   (a link that signs in is in %s)", r.URL, file), nil
}

// openLedger waits for a database that is just starting.
func openLedger(ctx context.Context, url string, c Config) (*ledger.Ledger, error) {
	const patience = 30 * time.Second
	limit := time.Now().Add(patience)
	for {
		l, err := ledger.OpenWith(ctx, url, c.RecordSessions)
		if newer := (*ledger.NewerError)(nil); err == nil || errors.Is(err, ledger.ErrBadURL) || errors.As(err, &newer) || time.Now().After(limit) || ctx.Err() != nil {
			return l, err
		}
		c.Log.Warn("the database does not answer yet; trying on", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// lock makes sure that a home folder has one service at a time.
func lock(home string) (unlock func(), err error) {
	file, err := os.OpenFile(filepath.Join(home, lockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the home folder: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return nil, fmt.Errorf("another service works in %s; stop it, or give this one another --home", home)
	}
	return func() { file.Close() }, nil
}

// secretFile reads a secret, or makes it on first use.
func secretFile(path string, make func() string) (string, error) {
	text, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("read %s: %w", path, err)
	}
	secret := make()
	if err := os.WriteFile(path, []byte(secret+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write %s: %w", path, err)
	}
	return secret, nil
}

// ownerToken makes the secret in the owner's file good, and returns the number of its
// token. A secret that was ended is not good again: another takes its place in the file.
func ownerToken(ctx context.Context, records *ledger.Ledger, file, secret string) (int64, error) {
	id, err := records.AddToken(ctx, secret, "owner", ledger.UseAPI, 0, 0)
	if err != nil {
		return 0, err
	}
	if _, err = records.CheckToken(ctx, secret, ledger.UseAPI); !errors.Is(err, ledger.ErrToken) {
		return id, err
	}
	if err := os.Remove(file); err != nil {
		return 0, fmt.Errorf("replace the owner's token, which was ended: %w", err)
	}
	if secret, err = secretFile(file, ledger.NewSecret); err != nil {
		return 0, err
	}
	return records.AddToken(ctx, secret, "owner", ledger.UseAPI, 0, 0)
}
