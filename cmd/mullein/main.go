// Command mullein takes in the files that suppliers leave.
package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
	_ "time/tzdata" // zones work on machines without a zone database

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"
	"golang.org/x/term"

	"mullein/internal/cli"
	"mullein/internal/client"
	"mullein/internal/demo"
	"mullein/internal/localpg"
	"mullein/internal/place/objects"
	"mullein/internal/queue/brokers"
	"mullein/internal/server"
	"mullein/internal/settings"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second signal ends the process at once
	os.Exit(cli.Run(ctx, cli.Program{Serve: serve, Demo: runDemo, Bench: bench, Private: localpg.Running,
		Open: open, Reconcile: reconcile, Version: server.Version + " (" + server.Commit +
			")"}, os.Args[1:], os.Stdout, os.Stderr))
}

// logger writes text for people and JSON for programs. What repeats is counted.
func logger() *slog.Logger {
	if term.IsTerminal(int(os.Stderr.Fd())) {
		return slog.New(server.CountRepeats(slog.NewTextHandler(os.Stderr, nil)))
	}
	return slog.New(server.CountRepeats(slog.NewJSONHandler(os.Stderr, nil)))
}

func config(o cli.ServeOptions) server.Config {
	return server.Config{Home: o.Home, Settings: o.Settings.Settings, Reread: func() (*settings.Loaded, error) { return settings.Read(o.From) },
		Log: logger(), Objects: objects.Dial, Queues: brokers.Dial, Out: os.Stdout, Terminal: term.IsTerminal(int(os.Stdout.Fd()))}
}

// open returns the address of a database that is named, or starts the private one.
func open(ctx context.Context, home, database string) (url string, done func(), err error) {
	if database != "" {
		return database, func() {}, nil
	}
	own, err := localpg.Start(ctx, localpg.Options{Dir: home})
	if err != nil {
		return "", nil, err
	}
	return own.URL(), func() {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		defer cancel()
		if err := own.Stop(last); err != nil {
			fmt.Fprintln(os.Stderr, "mullein: the private PostgreSQL did not stop:", err)
		}
	}, nil
}

func reconcile(ctx context.Context, o cli.ServeOptions, database string) (map[string][]string, error) {
	return server.Reconcile(ctx, config(o), database)
}

func serve(ctx context.Context, o cli.ServeOptions) error {
	stray, err := strayLines()
	if err != nil {
		return err
	}
	c := config(o)
	c.Stray = stray
	return server.Serve(ctx, c)
}

func runDemo(ctx context.Context, o cli.ServeOptions) error {
	if o.Once {
		return example(ctx, o)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	failed := make(chan error, 1)
	c := config(o)
	root := filepath.Join(c.Home, server.Landings)
	if len(c.LandingRoots) > 0 {
		root = c.LandingRoots[0]
	}
	if err := demo.CatchUp(root, time.Now()); err != nil {
		return fmt.Errorf("the sample suppliers: %w", err)
	}
	told, err := demo.Receivers(ctx)
	if err != nil {
		return err
	}
	database := c.Database
	if database == "" {
		home, err := filepath.Abs(c.Home)
		if err != nil {
			return err
		}
		if c.Private, err = localpg.Start(ctx, localpg.Options{Dir: home}); err != nil {
			return err
		}
		database = c.Private.URL()
	}
	far, err := demo.FarSide(ctx, c.Home, root, database)
	if err != nil {
		return err
	}
	reread := c.Reread
	c.Settings, c.Reread = far.Settings(told(c.Settings)), func() (*settings.Loaded, error) {
		l, err := reread()
		if err == nil {
			l.Settings = far.Settings(told(l.Settings))
		}
		return l, err
	}
	c.Ready = func(r server.Running) {
		service := client.New(r.URL, r.Token)
		go func() {
			err := demo.PutAtPlaces(ctx, service, r.Root)
			if err == nil {
				fmt.Println("Suppliers  at work in the landing; open the console and watch. Ctrl-C ends the demo.")
				err = workAtOnce(ctx, func(ctx context.Context) error { return demo.Work(ctx, r.Root) },
					func(ctx context.Context) error { return far.Work(ctx, service) })
			}
			if err != nil && ctx.Err() == nil {
				failed <- fmt.Errorf("the sample suppliers: %w", err)
				cancel()
			}
		}()
	}
	if err := server.Serve(ctx, c); err != nil {
		return err
	}
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// workAtOnce runs functions at once, until ctx ends or one fails.
func workAtOnce(ctx context.Context, do ...func(context.Context) error) error {
	all, each := errgroup.WithContext(ctx)
	for _, one := range do {
		all.Go(func() error { return one(each) })
	}
	return all.Wait()
}

// example runs the fixed example in a fresh database and shows what happened.
func example(ctx context.Context, o cli.ServeOptions) error {
	home, err := filepath.Abs(filepath.Join(o.Home, "once"))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(home, 0o755); err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(home, server.Landings)); err != nil {
		return err
	}
	c := config(o)
	c.Home, c.Listen, c.LandingRoots, c.Out = home, "127.0.0.1:0", nil, io.Discard
	c.Log = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	if c.Database == "" {
		own, err := localpg.Start(ctx, localpg.Options{Dir: home})
		if err != nil {
			return err
		}
		defer func() {
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
			defer cancel()
			if err := own.Stop(last); err != nil {
				c.Log.Error("the private PostgreSQL did not stop", "error", err)
			}
		}()
		if c.Database, err = fresh(ctx, own); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	done := make(chan error, 1)
	c.Ready = func(r server.Running) {
		go func() {
			defer cancel()
			service := client.New(r.URL, r.Token)
			err := demo.Put(ctx, service, r.Root)
			if err == nil {
				err = demo.Example(ctx, service, r.Root)
			}
			if err == nil {
				tell(ctx, home)
			}
			done <- err
		}()
	}
	if err := server.Serve(ctx, c); err != nil {
		return err
	}
	return <-done
}

// fresh makes an empty database, so that the example is the same every time.
func fresh(ctx context.Context, own *localpg.Server) (string, error) {
	conn, err := pgx.Connect(ctx, own.URL())
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	for _, statement := range []string{"DROP DATABASE IF EXISTS example WITH (FORCE)", "CREATE DATABASE example"} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return "", err
		}
	}
	return own.DatabaseURL("example"), nil
}

// tell shows what happened, with the commands that show it.
func tell(ctx context.Context, home string) {
	for _, args := range [][]string{{"ledger"}, {"rejects", "gauge-readings"},
		{"rows", "gauge-readings", "--limit", "3"}, {"rows", "station-registry", "--limit", "3"},
		{"rows", "buoy-profiles", "--limit", "3"},
		{"checks", "lab-samples"}, {"rehearse", "rain-observers"}, {"feed", "which", "gauge-readings"},
		{"due", "station-registry", "--simulate", "2026-03-28..2026-03-30"}, {"status"}} {
		fmt.Print("$ mullein")
		for _, a := range args {
			fmt.Print(" ", a)
		}
		fmt.Println()
		cli.Run(ctx, cli.Program{}, append(args, "--home", home), os.Stdout, os.Stderr)
		fmt.Println()
	}
}
