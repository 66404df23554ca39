package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"

	"mullein/internal/cli"
	"mullein/internal/localpg"
	"mullein/internal/shapes"
)

// bench measures shapes with a service that is this program.
func bench(ctx context.Context, o cli.BenchOptions) (err error) {
	only, err := regexp.Compile(o.Only)
	if err != nil {
		return fmt.Errorf("--only: %w", err)
	}
	var chosen []shapes.Shape
	for _, s := range shapes.Matrix(o.Most) {
		if only.MatchString(s.String()) {
			chosen = append(chosen, s)
		}
	}
	if o.List {
		for _, s := range chosen {
			fmt.Println(s)
		}
		return nil
	}
	if len(chosen) == 0 {
		return fmt.Errorf("no shape has a name that %q matches; `mullein bench --list` names them", o.Only)
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	if o.Database == "" {
		dir, err := os.MkdirTemp("", "mullein-bench-")
		if err != nil {
			return err
		}
		own, err := localpg.Start(ctx, localpg.Options{Dir: dir})
		if err != nil {
			return errors.Join(err, os.RemoveAll(dir))
		}
		defer func() {
			last := context.WithoutCancel(ctx)
			err = errors.Join(err, own.Crash(last), os.RemoveAll(own.Data), os.RemoveAll(dir))
		}()
		if o.Database, err = own.SuperuserURL("postgres"); err != nil {
			return err
		}
	}
	return shapes.Run(ctx, shapes.Options{Program: program, Server: o.Database, Shapes: chosen, Rounds: o.Rounds, Out: os.Stdout})
}
