package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
)

// comeBack is how long a watch waits before it asks a service again that ended
// the stream.
const comeBack = time.Second

func (c *command) watch() *cobra.Command {
	var after int64
	var since string
	var most int
	cmd := &cobra.Command{Use: "watch [FEED]", Short: "What happens, as it happens",
		Long: "What happens, as it happens, a line an event. On a terminal, how things stand and what is being loaded stands below.", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			w := &watching{command: c, service: service, last: after, most: most}
			var err error
			if w.since, err = moment(since, time.Now()); err != nil {
				return err
			}
			if len(args) > 0 {
				if _, err := service.Feed(ctx, args[0]); err != nil {
					return err
				}
				w.feed = args[0]
			}
			if out, is := c.out.(*os.File); is && terminal(out) && c.format == "table" && most == 0 {
				w.footer = newFooter(out)
				ctx, cancel := context.WithCancel(ctx)
				defer w.footer.end()
				defer cancel()
				go w.footer.keep(ctx, service)
				return w.run(ctx)
			}
			return w.run(ctx)
		})}
	cmd.Flags().Int64Var(&after, "after", client.FromNow,
		"go on after this event, instead of from now on; 0 begins with the first that is kept")
	cmd.Flags().StringVar(&since, "since", "", "begin with what happened then: a day, a time, or so long ago, such as 2h")
	cmd.Flags().IntVar(&most, "limit", 0, "end after so many events; 0 for no end")
	return cmd
}

// watching prints events, a line each.
type watching struct {
	*command
	service *client.Client
	feed    string    // "" for all
	last    int64     // event
	since   time.Time // where none was seen
	most    int
	shown   int
	footer  *footer // nil where there is no terminal
}

// enough ends a watch that has shown as many events as were asked for.
var errEnough = errors.New("enough")

// run goes on where it was when the service was away.
func (w *watching) run(ctx context.Context) error {
	for answered := false; ; {
		err := w.service.Watch(ctx, w.last, w.since, func(e api.Event) error { return w.event(ctx, e) }, w.working())
		answered = answered || errors.Is(err, client.ErrEnded)
		switch {
		case errors.Is(err, errEnough), ctx.Err() != nil:
			return nil
		case !answered:
			return err
		}
		w.say(func() { fmt.Fprintf(w.errOut, "mullein: %v; waiting for it\n", err) })
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(comeBack):
		}
	}
}

// working returns who is told what is being loaded; nil for nobody.
func (w *watching) working() func([]api.Progress) {
	if w.footer == nil {
		return nil
	}
	return w.footer.working
}

// say writes lines, above the footer where there is one.
func (w *watching) say(write func()) {
	if w.footer == nil {
		write()
		return
	}
	w.footer.above(write)
}

func (w *watching) event(ctx context.Context, e api.Event) error {
	w.last = e.ID
	if w.feed != "" && e.Feed != w.feed { // of rollups, none
		return nil
	}
	if !w.json() && cmp.Or(e.Feed, e.Rollup, e.Extract) == "" { // something has changed that another list has: notices, problems
		return nil
	}
	if w.json() {
		if err := json.NewEncoder(w.out).Encode(e); err != nil {
			return err
		}
	} else {
		w.say(func() { w.line(e) })
	}
	if w.shown++; w.shown == w.most {
		return errEnough
	}
	return nil
}

// line describes an event: when, whose, what, and of a file its name and where its
// rows went.
func (w *watching) line(e api.Event) {
	what := e.Kind
	switch {
	case e.Arrival != 0:
		what = fmt.Sprintf("%s %d", e.Kind, e.Arrival)
	case e.Rollup != "":
		what = "rollup"
	case e.Extract != "":
		what = "extract"
	case e.Run != 0:
		what = fmt.Sprintf("%s %d", e.Kind, e.Run)
	}
	of := cmp.Or(e.Feed, e.Rollup, e.Extract)
	shown := state(e.State).shown(colors(w.out)) + strings.Repeat(" ", max(0, 9-len(e.State)))
	line := fmt.Sprintf("%s  %-18s  %-14s  %s  %s", e.At.Local().Format("15:04:05"), of, what, shown,
		harmless(about(e)))
	fmt.Fprintln(w.out, strings.TrimRight(line, " "))
}

// about says what an event is about: the file, or the slot, and why.
func about(e api.Event) string {
	var parts []string
	switch {
	case e.Path != "":
		parts = append(parts, e.Path)
	case e.Slot != nil && e.Slot.At != nil:
		parts = append(parts, "due "+e.Slot.At.Local().Format("2006-01-02 15:04"))
		for _, name := range slices.Sorted(maps.Keys(e.Slot.Per)) {
			parts = append(parts, name+"="+e.Slot.Per[name])
		}
	}
	if e.Rollup != "" {
		parts = append(parts, fmt.Sprintf("%s  for %d keys", e.Table, e.Keys))
	}
	if e.Kind == "load" && e.Balance != nil {
		parts = append(parts, balanceLine(*e.Balance))
	}
	if e.Reason != "" {
		parts = append(parts, e.Reason)
	}
	if e.Say != "" && (e.State == "late" || e.State == "missing") {
		parts = append(parts, e.Say)
	}
	return strings.Join(parts, "  ")
}
