package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
)

func (c *command) rebuild() *cobra.Command {
	var wanted api.Rebuild
	var yes bool
	cmd := &cobra.Command{Use: "rebuild FEED",
		Short: "Load all arrivals afresh; readers keep the old rows until it is done", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			return c.rebuildFeed(ctx, service, args[0], wanted, yes)
		})}
	cmd.Flags().StringVar(&wanted.Because, "because", "", "why; it is kept with who and when")
	cmd.Flags().BoolVar(&wanted.Without, "without-missing", false, "do without arrivals whose files are gone")
	cmd.Flags().BoolVar(&wanted.WithoutOthers, "without-others", false, "lose the rows that no arrival brought")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// rebuildFeed shows what a rebuild would do, asks, and does it.
func (c *command) rebuildFeed(ctx context.Context, service *client.Client, name string, wanted api.Rebuild,
	yes bool) error {
	if wanted.Because == "" {
		return usageError{errors.New("feed rebuild needs --because \"...\": the reason is kept")}
	}
	plan, err := service.PlanRebuild(ctx, name)
	if err != nil {
		return err
	}
	c.rebuilding(plan)
	switch {
	case len(plan.Missing) > 0 && !wanted.Without:
		return errors.New("the rows of files that are gone would be lost; --without-missing does without them")
	case plan.Others > 0 && !wanted.WithoutOthers:
		return errors.New("rows that no arrival brought would be lost; --without-others does without them")
	case !yes && !terminal(c.errOut):
		return usageError{errors.New("nothing was changed; say --yes to do this")}
	case !yes && !c.agrees():
		return nil
	}
	run, err := service.Rebuild(ctx, name, wanted)
	if err == nil {
		run, err = c.untilEnded(ctx, service, run)
	}
	if err != nil {
		return err
	}
	return c.checked(run.State != api.RunDone, run, func() {
		if run.State != api.RunDone {
			c.say("run %d of %s is %s: %s\n", run.ID, run.Feed, run.State, run.Reason)
			return
		}
		c.say("%s: %s arrivals loaded afresh, by run %d; %s\n", plan.Table, grouped(run.Loaded), run.ID,
			balanceLine(run.Balance))
	})
}

// goneShown is how many arrivals are named whose files are gone.
const goneShown = 20

func (c *command) rebuilding(p api.Rebuilding) {
	tell := func(format string, args ...any) {
		fmt.Fprintln(c.errOut, harmlessLines(fmt.Sprintf(format, args...), ""))
	}
	if !p.There {
		tell("  %s is not there, and is made", p.Table)
		return
	}
	tell("  %s: %s rows now; %s arrivals are loaded afresh, which make about %s", p.Table, grouped(p.Rows),
		grouped(p.Arrivals), grouped(p.RowsAfter))
	if p.Changed > 0 {
		tell("  %s rows were changed by somebody else; they become what the files say", grouped(p.Changed))
	}
	if p.Others > 0 {
		tell("  %s rows were brought by no arrival, and are lost", grouped(p.Others))
	}
	if len(p.Superseded) > 0 {
		tell("  arrivals %s are left out: later versions of their files took their place", numbers(p.Superseded))
	}
	for i, g := range p.Missing {
		if i == goneShown {
			tell("  and %d more", len(p.Missing)-i)
			break
		}
		tell("  arrival %d, %s: %s; its rows are lost", g.Arrival, g.Path, g.Why)
	}
}
