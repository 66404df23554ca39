package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
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
				return c.show(run, func() { fmt.Fprintf(c.out, "run %d of %s is %s\n", run.ID, run.Feed, run.State) })
			}
			return c.waitForRun(ctx, service, run, require)
		})}
	cmd.Flags().BoolVar(&wait, "wait", false, "until it is done; exit 3 when something was refused, failed or is missing")
	cmd.Flags().Int64Var(&require, "require", 0, "wait, and exit 3 when fewer arrivals than that were there")
	cmd.Flags().StringArrayVar(&wanted.Paths, "file", nil, "only this file, by its path below the landing; repeatable")
	cmd.Flags().StringVar(&wanted.From, "from", "", "go through slots in order, from this one: 2026, 2026-07, 2026-07-01, 2026-07-01T06, yesterday, or a number")
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
			return c.show(run, func() { fmt.Fprintf(c.out, "run %d of %s is told to end\n", run.ID, run.Feed) })
		})}
}

const askEvery = 150 * time.Millisecond

func (c *command) waitForRun(ctx context.Context, service *client.Client, run api.Run, require int64) error {
	people := terminal(c.errOut)
	var err error
	for run.State == api.RunQueued || run.State == api.RunRunning {
		if people {
			c.progress(ctx, service, run)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(askEvery):
		}
		if run, err = service.Run(ctx, run.ID); err != nil {
			return err
		}
	}
	if people {
		fmt.Fprint(c.errOut, "\r\x1b[K")
	}
	list, err := service.Arrivals(ctx, client.ArrivalQuery{Run: run.ID, Most: 1000})
	if err != nil {
		return err
	}
	missing, err := missingNow(ctx, service, run.Feed)
	if err != nil {
		return err
	}
	there := run.Loaded + run.Refused + run.Failed + run.Skipped
	err = c.show(run, func() {
		c.runTold(run, list.Items, missing)
		if there < require {
			fmt.Fprintf(c.out, "%d arrivals were there; %d were required\n", there, require)
		}
	})
	if err == nil && (run.State != api.RunDone || run.Refused+run.Failed > 0 || there < require || len(missing) > 0) {
		return errWrong
	}
	return err
}

func (c *command) runTold(run api.Run, arrivals []api.Arrival, missing []api.SlotView) {
	if len(arrivals) == 0 {
		fmt.Fprintf(c.out, "run %d of %s is %s: nothing new was there\n", run.ID, run.Feed, run.State)
	} else {
		slices.Reverse(arrivals)
		arrivalTable(arrivals).write(c.out)
		fmt.Fprintf(c.out, "\nrun %d of %s is %s: %s\n", run.ID, run.Feed, run.State, balanceLine(run.Balance))
	}
	if run.Told.Slots > 0 {
		fmt.Fprintf(c.out, "%s slots up to %s; %s without files", grouped(run.Told.Slots), run.Told.At,
			grouped(run.Told.Empty))
		if len(run.Told.Named) > 0 {
			fmt.Fprintf(c.out, ": %s", shorten(strings.Join(run.Told.Named, ", "), 300))
		}
		fmt.Fprintln(c.out)
	}
	if run.Reason != "" {
		fmt.Fprintln(c.out, run.Reason)
	}
	for _, s := range missing {
		fmt.Fprintln(c.out, missingLine(s))
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
		if l.Feed == run.Feed {
			share := int64(100)
			if l.Size > 0 {
				share = 100 * l.Bytes / l.Size
			}
			line = fmt.Sprintf("run %d: %s, %s, %d%%, %s rows", run.ID, shorten(l.Path, 50), whereabouts(l), share,
				grouped(l.Rows))
		}
	}
	fmt.Fprintf(c.errOut, "\r\x1b[K%s", line)
}

func (c *command) status() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "status [FEED]", Short: "What needs a person, what is waiting and working",
		Args: arguments(0, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				f, err := service.Feed(ctx, args[0])
				if err != nil {
					return err
				}
				return c.show(f, func() { c.feedStatus(f) })
			}
			status, err := service.Status(ctx)
			if err != nil {
				return err
			}
			if all {
				if status.Feeds, err = service.AllFeeds(ctx, client.FeedQuery{}); err != nil {
					return err
				}
			}
			return c.show(status, func() { c.wholeStatus(status, all) })
		})}
	cmd.Flags().BoolVar(&all, "all", false, "all feeds, not only those that files came for lately")
	return cmd
}

// wholeStatus shows what needs a person first, then totals, then feeds.
func (c *command) wholeStatus(s api.Status, all bool) {
	if s.Totals.Feeds == 0 {
		c.feedTable(nil)
		return
	}
	c.needs(s)
	t := s.Totals
	fmt.Fprintf(c.out, "%s: %s; %s rows in 24 h\n", plural(t.Feeds, "feed"), arrivalsByState(t.States),
		grouped(t.RowsToday))
	for _, one := range []struct {
		n    int64
		what string
	}{{t.Paused, "paused"}, {t.ListedOnly, "listed only, since no events come from their landings; mullein feed list --all marks them"}} {
		if one.n > 0 {
			fmt.Fprintf(c.out, "%s %s\n", plural(one.n, "feed"), one.what)
		}
	}
	fmt.Fprintln(c.out)
	if len(s.Feeds) > 0 {
		c.feedTable(s.Feeds)
		fmt.Fprintln(c.out)
	}
	if !all && t.Feeds > int64(len(s.Feeds)) {
		fmt.Fprintf(c.out, "%s no files lately; --all shows all\n\n",
			plural(t.Feeds-int64(len(s.Feeds)), "more feed")+" had")
	}
	c.serviceTable(s.Services)
}

// needs shows what needs a person.
func (c *command) needs(s api.Status) {
	if len(s.Stopped)+len(s.Needs)+len(s.Wrong) == 0 {
		fmt.Fprint(c.out, "Nothing needs a person.\n\n")
		return
	}
	fmt.Fprintf(c.out, "Needs a person, %s\n", plural(s.Totals.Wrong, "feed"))
	const shown = 8
	for _, f := range s.Stopped[:min(shown, len(s.Stopped))] {
		fmt.Fprintf(c.out, "\n%s is not working: %s\n", f.Feed, f.Problem)
	}
	if more := s.Totals.Stopped - int64(min(shown, len(s.Stopped))); more > 0 {
		fmt.Fprintf(c.out, "\nand %s more are not working; see mullein feed list --wrong\n", plural(more, "feed"))
	}
	if len(s.Needs) > 0 {
		fmt.Fprintln(c.out)
		arrivalTable(s.Needs[:min(shown, len(s.Needs))]).write(c.out)
		if len(s.Needs) > shown {
			fmt.Fprintln(c.out, "and more; see mullein ledger FEED --state refused, held or failed")
		}
	}
	c.wrongSlots(s.Wrong)
	fmt.Fprintln(c.out)
}

// arrivalsByState says in a line how many arrivals are in which state.
func arrivalsByState(states map[string]int64) string {
	var parts []string
	for _, s := range api.ArrivalStates() {
		if n := states[string(s)]; n > 0 {
			parts = append(parts, grouped(n)+" "+string(s))
		}
	}
	if len(parts) == 0 {
		return "no arrivals yet"
	}
	return "arrivals " + strings.Join(parts, ", ")
}

// plural writes a number and what it counts.
func plural(n int64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + one + "s"
}

func (c *command) serviceTable(services []api.ServiceView) {
	t := &grid{head: []string{"SERVICE", "", "FEEDS", "SINCE", "DOING"}}
	for _, s := range services {
		alive := text("alive")
		if !s.Alive {
			alive = state("gone")
		}
		doing := "idle"
		for i, l := range s.Loads {
			what := fmt.Sprintf("%s of %s: %s, %s rows", l.Path, l.Feed, whereabouts(l), grouped(l.Rows))
			if l.Files > 1 {
				what = fmt.Sprintf("%d files of %s: %s", l.Files, l.Feed, whereabouts(l))
			}
			if i == 0 {
				doing = what
			} else {
				doing += "; " + what
			}
		}
		t.add(text(s.Name), alive, integer(int64(s.Feeds)), when(&s.StartedAt), text(shorten(doing, 100)))
	}
	fmt.Fprintln(c.out)
	t.write(c.out)
}

func (c *command) feedStatus(f api.FeedView) {
	starts := "on arrival"
	if f.Cron != "" {
		starts = strings.TrimPrefix(map[bool]string{true: "on arrival, and "}[f.Arrival]+"by "+f.Cron, ", ")
	}
	if len(f.After) > 0 {
		starts = "after " + strings.Join(f.After, ", ")
	}
	var states []string
	for _, s := range api.ArrivalStates() {
		if n := f.Counts.States[string(s)]; n > 0 {
			states = append(states, fmt.Sprintf("%s %s", grouped(n), s))
		}
	}
	lines := [][2]string{
		{"feed", fmt.Sprintf("%s, version %d", f.Name, f.Version)}, {"about", f.About},
		{"supplier", strings.TrimSpace(f.Supplier + " " + f.Contact)},
		{"files", f.Landing + "/" + f.Files}, {"table", f.Table + " by " + strings.Join(f.Key, ", ")},
		{"starts", starts},
		{"arrivals", strings.Join(states, ", ")}, {"last noticed", when(f.Counts.LastNoticed).text},
		{"last loaded", when(f.Counts.LastLoaded).text},
	}
	if f.Counts.LastLoaded != nil {
		lines = append(lines, [2]string{"lag", fmt.Sprintf("%.1f s from the coming of the file that was loaded last to its load", f.Counts.LagSeconds)})
	}
	lines = append(lines, [2]string{"due", f.Due}, [2]string{"waits", f.Waits})
	if f.Counts.Missing+f.Counts.Late > 0 {
		lines = append(lines, [2]string{"missing", fmt.Sprintf("%d slots of the last 7 days missing or refused, %d late; see mullein due %s", f.Counts.Missing, f.Counts.Late, f.Name)})
	}
	if f.NextRun != nil {
		lines = append(lines, [2]string{"next run", when(f.NextRun).text})
	}
	if f.Counts.Waiting > 0 {
		lines = append(lines, [2]string{"waiting", fmt.Sprintf("%s, the oldest since %s", grouped(f.Counts.Waiting),
			when(f.Counts.OldestAt).text)})
	}
	if f.Paused {
		lines = append(lines, [2]string{"paused", "no run begins by itself"})
	}
	if f.Problem != "" {
		lines = append(lines, [2]string{"not working", f.Problem})
	}
	if f.Counts.LastProblem != "" {
		lines = append(lines, [2]string{"wrong", fmt.Sprintf("arrival %d: %s", f.Counts.LastProblemA,
			f.Counts.LastProblem)})
	}
	c.pairs(lines)
}

func (c *command) pairs(lines [][2]string) {
	for _, l := range lines {
		if l[1] != "" {
			fmt.Fprintf(c.out, "%-13s %s\n", l[0], l[1])
		}
	}
}

func (c *command) ledger() *cobra.Command {
	var f client.ArrivalQuery
	var s, day string
	cmd := &cobra.Command{Use: "ledger [FEED]", Short: "What arrived and what became of it, the newest first",
		Args: arguments(0, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				if _, err := service.Feed(ctx, args[0]); err != nil {
					return err
				}
				f.Feed = args[0]
			}
			if f.State = s; s != "" && !slices.Contains(api.ArrivalStates(), f.State) {
				return usageError{fmt.Errorf("unknown state %q; the states are %v", s, api.ArrivalStates())}
			}
			if day != "" {
				from, err := time.ParseInLocation(time.DateOnly, day, time.Local)
				if err != nil {
					return usageError{fmt.Errorf("%q is no day; write it as 2026-07-01", day)}
				}
				f.Since, f.Until = from, from.AddDate(0, 0, 1)
			}
			list, err := service.Arrivals(ctx, f)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				if len(list.Items) == 0 && list.Next == 0 {
					fmt.Fprintln(c.out, "Nothing has arrived.")
					return
				}
				arrivalTable(list.Items).write(c.out)
				if list.Next > 0 {
					fmt.Fprintf(c.out, "There are more: --before %d\n", list.Next)
				}
			})
		})}
	cmd.Flags().StringVar(&s, "state", "", "only those in a state")
	cmd.Flags().StringVar(&f.Text, "text", "", "only those whose path holds this text; * and ? stand for any text and one character")
	cmd.Flags().StringVar(&day, "day", "", "only those noticed on a day, as 2026-07-01")
	cmd.Flags().Int64Var(&f.Before, "before", 0, "only those before a number")
	cmd.Flags().IntVar(&f.Most, "limit", 50, "how many, 1 to 1000")
	return cmd
}

func number(arg, what string) (int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return 0, usageError{fmt.Errorf("%q is not the number of %s", arg, what)}
	}
	return n, nil
}

func (c *command) arrival() *cobra.Command {
	return &cobra.Command{Use: "arrival ID", Short: "One file's life", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			n, err := number(args[0], "an arrival")
			if err != nil {
				return err
			}
			a, err := service.Arrival(ctx, n)
			if err != nil {
				return err
			}
			decisions, err := service.Decisions(ctx, n)
			if err != nil {
				return err
			}
			return c.show(a, func() {
				c.life(a)
				for _, d := range decisions {
					fmt.Fprintf(c.out, "\n%s by %s on %s: %s", d.What, d.By, when(&d.At).text, d.Because)
				}
				if len(decisions) > 0 {
					fmt.Fprintln(c.out)
				}
			})
		})}
}

func (c *command) life(a api.Arrival) {
	var captures []string
	for name, value := range a.Captures {
		captures = append(captures, fmt.Sprintf("%s=%v", name, value))
	}
	slices.Sort(captures)
	c.pairs([][2]string{
		{"arrival", fmt.Sprintf("%d of %s", a.ID, a.Feed)}, {"path", a.Path}, {"state", string(a.State)},
		{"why", a.Reason},
		{"size", grouped(a.Size) + " bytes"}, {"modified", when(&a.Modified).text},
		{"says", strings.Join(captures, ", ")}, {"sha256", a.SHA256},
		{"delivery", a.Delivery}, {"lies at", a.AwayTo}, {"balance", balanceLine(a.Balance)},
	})
	steps := []struct {
		name string
		at   *time.Time
	}{{"noticed", &a.NoticedAt}, {"settling", a.SettlingAt}, {"ready", a.ReadyAt}, {"opened", a.OpenedAt},
		{"read", a.StagedAt}, {string(a.State), a.FinishedAt}}
	fmt.Fprintln(c.out)
	t := &grid{head: []string{"STEP", "AT", "AFTER"}}
	var last *time.Time
	for _, s := range steps {
		if s.at == nil {
			continue
		}
		after := ""
		if last != nil {
			after = s.at.Sub(*last).Round(time.Millisecond).String()
		}
		t.add(text(s.name), text(s.at.Local().Format("2006-01-02 15:04:05.000")), cell{text: after, number: true})
		last = s.at
	}
	t.write(c.out)
}

// feedOrArrival reads an argument that is a feed's name or an arrival's number.
func feedOrArrival(ctx context.Context, service *client.Client, arg string) (string, int64, error) {
	if n, err := strconv.ParseInt(arg, 10, 64); err == nil && n > 0 {
		if _, err := service.Feed(ctx, arg); err != nil {
			return "", n, nil
		}
	}
	_, err := service.Feed(ctx, arg)
	return arg, 0, err
}

func (c *command) rows() *cobra.Command {
	var most int
	var of string
	cmd := &cobra.Command{Use: "rows FEED|ARRIVAL", Short: "Rows of the target, with their lineage",
		Args: arguments(1, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			feed, arrival, err := feedOrArrival(ctx, service, args[0])
			if err != nil {
				return err
			}
			rows, err := service.Rows(ctx, feed, of, arrival, most)
			if err != nil {
				return err
			}
			return c.show(rows, func() { c.rowTable(rows) })
		})}
	cmd.Flags().IntVar(&most, "limit", 20, "how many, 1 to 1000")
	cmd.Flags().StringVar(&of, "table", "", "schema.table, of a feed that ends in several")
	return cmd
}

func (c *command) rowTable(rows api.TableRows) {
	if len(rows.Rows) == 0 {
		fmt.Fprintln(c.out, "No rows.")
		return
	}
	t := &grid{head: rows.Columns}
	for _, row := range rows.Rows {
		cells := make([]cell, len(row))
		for i, v := range row {
			if v != nil {
				cells[i] = text(shorten(fmt.Sprint(v), 40))
			}
		}
		t.add(cells...)
	}
	t.write(c.out)
}

func (c *command) runs() *cobra.Command {
	var before int64
	var most int
	cmd := &cobra.Command{Use: "runs [FEED]", Short: "Runs, the newest first", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			feed := ""
			if len(args) == 1 {
				feed = args[0]
				if _, err := service.Feed(ctx, feed); err != nil {
					return err
				}
			}
			list, err := service.Runs(ctx, feed, before, most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				var balances []api.Balance
				for _, r := range list.Items {
					balances = append(balances, r.Balance)
				}
				head, cells := balanceColumns(balances)
				t := &grid{head: append(append([]string{"RUN", "FEED", "CAUSE", "STATE", "STARTED", "LOADED", "REFUSED",
					"FAILED", "SKIPPED"}, head...), "WHY")}
				for _, r := range list.Items {
					row := append([]cell{id(r.ID), text(r.Feed), text(r.Cause), state(string(r.State)),
						when(r.StartedAt),
						integer(r.Loaded), integer(r.Refused), integer(r.Failed), integer(r.Skipped)},
						cells(r.Balance)...)
					t.add(append(row, text(shorten(r.Reason, 60)))...)
				}
				t.write(c.out)
				if list.Next > 0 {
					fmt.Fprintf(c.out, "There are more: --before %d\n", list.Next)
				}
			})
		})}
	cmd.Flags().Int64Var(&before, "before", 0, "only those before a number")
	cmd.Flags().IntVar(&most, "limit", 30, "how many, 1 to 1000")
	return cmd
}

// whereabouts says in a few words where a load is.
func whereabouts(l api.Progress) string {
	if l.Waits == "" {
		return l.Step
	}
	return l.Step + ", waits for " + l.Waits
}
