package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
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
	var most int
	cmd := &cobra.Command{Use: "watch [FEED]", Short: "What happens, as it happens", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			w := &watching{command: c, service: service, last: after, most: most}
			if len(args) > 0 {
				if _, err := service.Feed(ctx, args[0]); err != nil {
					return err
				}
				w.feed = args[0]
			}
			return w.run(ctx)
		})}
	cmd.Flags().Int64Var(&after, "after", client.FromNow, "go on after this event, instead of from now on; 0 begins with the first that is kept")
	cmd.Flags().IntVar(&most, "limit", 0, "end after so many events; 0 for no end")
	return cmd
}

// watching prints events, a line each.
type watching struct {
	*command
	service *client.Client
	feed    string // "" for all
	last    int64  // event
	most    int
	shown   int
	arrival api.Arrival // of the last line: its events come in a row
}

// enough ends a watch that has shown as many events as were asked for.
var errEnough = errors.New("enough")

// run goes on where it was when the service was away.
func (w *watching) run(ctx context.Context) error {
	for answered := false; ; {
		err := w.service.Watch(ctx, w.last, func(e api.Event) error { return w.event(ctx, e) })
		answered = answered || errors.Is(err, client.ErrEnded)
		switch {
		case errors.Is(err, errEnough), ctx.Err() != nil:
			return nil
		case !answered:
			return err
		}
		fmt.Fprintf(w.errOut, "mullein: %v; waiting for it\n", err)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(comeBack):
		}
	}
}

func (w *watching) event(ctx context.Context, e api.Event) error {
	w.last = e.ID
	if w.feed != "" && e.Feed != w.feed {
		return nil
	}
	if w.json() {
		if err := json.NewEncoder(w.out).Encode(e); err != nil {
			return err
		}
	} else {
		w.line(ctx, e)
	}
	if w.shown++; w.shown == w.most {
		return errEnough
	}
	return nil
}

// line describes an event: when, whose, what, and of a file its name and where its
// rows went.
func (w *watching) line(ctx context.Context, e api.Event) {
	what := e.Kind
	switch {
	case e.Arrival != 0:
		what = fmt.Sprintf("%s %d", e.Kind, e.Arrival)
	case e.Run != 0:
		what = fmt.Sprintf("%s %d", e.Kind, e.Run)
	}
	shown := state(e.State).shown(colors(w.out)) + strings.Repeat(" ", max(0, 9-len(e.State)))
	line := fmt.Sprintf("%s  %-18s  %-14s  %s  %s", e.At.Local().Format("15:04:05"), e.Feed, what, shown, harmless(w.of(ctx, e)))
	fmt.Fprintln(w.out, strings.TrimRight(line, " "))
}

// of describes the file that an event is about.
func (w *watching) of(ctx context.Context, e api.Event) string {
	if e.Arrival == 0 {
		return ""
	}
	onItsWay := []string{api.ArrivalSettling, api.ArrivalReady, api.ArrivalLoading}
	if w.arrival.ID != e.Arrival || !slices.Contains(onItsWay, e.State) {
		a, err := w.service.Arrival(ctx, e.Arrival)
		if err != nil { // the line says which it is all the same
			return ""
		}
		w.arrival = a
	}
	switch {
	case e.Kind == "load":
		return w.arrival.Path + "  " + balanceLine(w.arrival.Balance)
	case string(w.arrival.State) == e.State && w.arrival.Reason != "":
		return w.arrival.Path + "  " + w.arrival.Reason
	}
	return w.arrival.Path
}
