package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/due"
)

func (c *command) run() *cobra.Command {
	var wait bool
	var require int64
	var wanted api.Wanted
	cmd := &cobra.Command{Use: "run FEED", Short: "Load what is there now", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			run, err := service.RunFeed(ctx, args[0], wanted)
			if err != nil {
				return err
			}
			if !wait && require == 0 {
				return c.show(run, func() { c.say("run %d of %s is %s\n", run.ID, run.Feed, run.State) })
			}
			return c.waitForRun(ctx, service, run, require)
		})}
	cmd.Flags().BoolVar(&wait, "wait", false, "until it is done; exit 3 when something was refused, failed or is "+
		"missing")
	cmd.Flags().Int64Var(&require, "require", 0, "wait, and exit 3 when fewer arrivals than that were there")
	cmd.Flags().StringArrayVar(&wanted.Paths, "file", nil, "only this file, by its path below the landing; repeatable")
	cmd.Flags().StringVar(&wanted.From, "from", "",
		"go through slots in order, from this one: 2026, 2026-07, 2026-07-01, 2026-07-01T06, yesterday, or a number")
	cmd.Flags().StringVar(&wanted.To, "to", "", "up to this slot")
	return cmd
}

func (c *command) cancel() *cobra.Command {
	return &cobra.Command{Use: "cancel RUN", Short: "End a run; what it has loaded stays", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			n, err := number(args[0], "a run")
			if err != nil {
				return err
			}
			run, err := service.CancelRun(ctx, n)
			if err != nil {
				return err
			}
			return c.show(run, func() { c.say("run %d of %s is told to end\n", run.ID, run.Feed) })
		})}
}

const askEvery = 150 * time.Millisecond

// waitForRun waits until a run has ended, and until what failed of it and is tried again
// has, and says what is not well.
func (c *command) waitForRun(ctx context.Context, service *client.Client, run api.Run, require int64) error {
	run, err := c.untilEnded(ctx, service, run)
	if err != nil {
		return err
	}
	list, err := c.untilTried(ctx, service, run)
	if err != nil {
		return err
	}
	wrong, err := notWell(ctx, service, run, list)
	if err != nil {
		return err
	}
	if there := run.Loaded + run.Refused + run.Failed + run.Skipped; there < require {
		wrong = append(wrong, fmt.Sprintf("%d arrivals were there; %d were required", there, require))
	}
	if err := c.show(run, func() { c.runTold(run, list, wrong) }); err != nil {
		return err
	}
	refused := slices.ContainsFunc(list, func(a api.Arrival) bool {
		return a.State == api.ArrivalRefused || a.State == api.ArrivalFailed || a.State == api.ArrivalHeld
	})
	if run.State != api.RunDone || refused || len(wrong) > 0 {
		return errWrong
	}
	return nil
}

func (c *command) untilEnded(ctx context.Context, service *client.Client, run api.Run) (api.Run, error) {
	people := terminal(c.errOut)
	var err error
	for run.State == api.RunQueued || run.State == api.RunRunning {
		if people {
			c.progress(ctx, service, run)
		}
		if err := pause(ctx); err != nil {
			return run, err
		}
		if run, err = service.Run(ctx, run.ID); err != nil {
			return run, err
		}
	}
	if people {
		fmt.Fprint(c.errOut, "\r\x1b[K")
	}
	return run, nil
}

// pause waits a moment before the service is asked again.
func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(askEvery):
		return nil
	}
}

// untilTried returns the arrivals of a run, when none is tried again any more. It says
// once of each attempt when the next is.
func (c *command) untilTried(ctx context.Context, service *client.Client, run api.Run) ([]api.Arrival, error) {
	list, err := service.Arrivals(ctx, client.ArrivalQuery{Run: run.ID, Most: 1000})
	if err != nil {
		return nil, err
	}
	said := map[int64]int{}
	for i := range list.Items {
		a := &list.Items[i]
		for waits(a) {
			f, err := service.Feed(ctx, a.Feed)
			if err != nil {
				return nil, err
			}
			if f.Paused || !f.Arrival {
				break // nobody tries it again before the next run
			}
			if a.TryAfter != nil && said[a.ID] < a.Attempts {
				said[a.ID] = a.Attempts
				fmt.Fprintf(c.errOut, "%s failed, attempt %d: %s; it is tried again at %s\n", harmless(a.Path),
					a.Attempts, harmless(a.Reason),
					a.TryAfter.Local().Format("15:04:05"))
			}
			if err := pause(ctx); err != nil {
				return nil, err
			}
			if *a, err = service.Arrival(ctx, a.ID); err != nil {
				return nil, err
			}
		}
	}
	return list.Items, nil
}

// waits reports whether an arrival that a run had is tried again.
func waits(a *api.Arrival) bool {
	switch a.State {
	case api.ArrivalFailed:
		return a.TryAfter != nil
	case api.ArrivalReady, api.ArrivalLoading:
		return a.Attempts > 0
	}
	return false
}

// notWell says what is not well with a feed after a run, beside what its arrivals say.
func notWell(ctx context.Context, service *client.Client, run api.Run, list []api.Arrival) ([]string, error) {
	var wrong []string
	f, err := service.Feed(ctx, run.Feed)
	if err != nil {
		return nil, err
	}
	if f.Problem != "" {
		wrong = append(wrong, fmt.Sprintf("%s is not working, and %s: %s", f.Name,
			plural(f.Counts.Waiting, "file")+" waiting", f.Problem))
	}
	missing, err := missingNow(ctx, service, run.Feed)
	if err != nil {
		return nil, err
	}
	for _, s := range missing {
		wrong = append(wrong, missingLine(s))
	}
	for _, p := range run.Wanted.Paths {
		if !slices.ContainsFunc(list, func(a api.Arrival) bool { return a.Path == p }) {
			why, err := notTaken(ctx, service, run.Feed, p)
			if err != nil {
				return nil, err
			}
			wrong = append(wrong, p+": "+why)
		}
	}
	if len(run.Wanted.Paths) > 0 || run.Wanted.From != "" || run.Wanted.To != "" {
		return wrong, nil
	}
	needs, err := service.Arrivals(ctx, client.ArrivalQuery{Feed: run.Feed, Needs: true, Most: 1000})
	if err != nil {
		return nil, err
	}
	for _, a := range needs.Items {
		if !slices.ContainsFunc(list, func(of api.Arrival) bool { return of.ID == a.ID }) {
			wrong = append(wrong, fmt.Sprintf("arrival %d, %s, is %s: %s", a.ID, a.Path, a.State, a.Reason))
		}
	}
	return wrong, nil
}

// mostSeen is how many files of a landing are gone through for one that was named.
const mostSeen = 20_000

// notTaken says why a run did not take a file that was named.
func notTaken(ctx context.Context, service *client.Client, feed, path string) (string, error) {
	files, err := service.Files(ctx, feed, mostSeen)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(files.Items, func(f api.SeenFile) bool { return f.Path == path })
	switch {
	case i < 0 && files.More:
		return fmt.Sprintf("it was not taken, and is not among the first %s files of the landing",
			grouped(mostSeen)), nil
	case i < 0:
		return "it is not at the landing", nil
	}
	f := files.Items[i]
	switch {
	case !f.Taken:
		return f.Why, nil
	case f.State == api.ArrivalLoaded:
		return fmt.Sprintf("it is loaded already, as arrival %d; mullein redo %d --because \"...\" loads it again",
			f.Arrival, f.Arrival), nil
	case f.Arrival > 0:
		return fmt.Sprintf("it is arrival %d, which is %s: %s", f.Arrival, f.State, f.Why), nil
	}
	return "it has not been noticed yet; run again in a moment", nil
}

func (c *command) runTold(run api.Run, arrivals []api.Arrival, wrong []string) {
	if len(arrivals) == 0 {
		c.say("run %d of %s is %s: nothing new was there\n", run.ID, run.Feed, run.State)
	} else {
		slices.Reverse(arrivals)
		arrivalTable(arrivals).write(c.out)
		c.say("\nrun %d of %s is %s: %s\n", run.ID, run.Feed, run.State, balanceLine(run.Balance))
	}
	if run.Told.Slots > 0 {
		c.say("%s slots up to %s; %s without files", grouped(run.Told.Slots), run.Told.At,
			grouped(run.Told.Empty))
		if len(run.Told.Named) > 0 {
			c.say(": %s", shorten(strings.Join(run.Told.Named, ", "), 300))
		}
		fmt.Fprintln(c.out)
	}
	if run.Reason != "" {
		c.say("%s\n", run.Reason)
	}
	for _, w := range wrong {
		c.say("%s\n", w)
	}
}

// missingNow returns the newest slots of a feed, one for each set of captures,
// that are missing.
func missingNow(ctx context.Context, service *client.Client, feed string) ([]api.SlotView, error) {
	now := time.Now()
	list, err := service.Slots(ctx, feed, now.Add(-7*24*time.Hour), now, 20000)
	if err != nil {
		return nil, err
	}
	newest := map[string]api.SlotView{}
	for _, s := range list.Items {
		if s.State != api.SlotSurplus && s.State != api.SlotOpen {
			newest[due.Key(s.Per)] = s
		}
	}
	var out []api.SlotView
	for _, key := range slices.Sorted(maps.Keys(newest)) {
		if newest[key].State == api.SlotMissing {
			out = append(out, newest[key])
		}
	}
	return out, nil
}

// progress shows one line that is written over and over.
func (c *command) progress(ctx context.Context, service *client.Client, run api.Run) {
	status, err := service.Status(ctx)
	if err != nil {
		return // the next answer about the run says it too
	}
	line := fmt.Sprintf("run %d %s", run.ID, run.State)
	for _, l := range status.Loads {
		if l.Run == run.ID {
			share := int64(100)
			if l.Size > 0 {
				share = 100 * l.Bytes / l.Size
			}
			line = fmt.Sprintf("run %d: %s, %s, %d%%, %s rows", run.ID, shorten(l.Path, 50), whereabouts(l), share,
				grouped(l.Rows))
		}
	}
	fmt.Fprintf(c.errOut, "\r\x1b[K%s", harmless(line))
}
