package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/load"
)

func (c *command) status() *cobra.Command {
	var all, check bool
	cmd := &cobra.Command{Use: "status [FEED]", Short: "What needs a person, what is waiting and working",
		Args: arguments(0, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				f, err := service.Feed(ctx, args[0])
				if err != nil {
					return err
				}
				waiting, err := waitingFiles(ctx, service, f)
				if err != nil {
					return err
				}
				return c.checked(check && feedIsWrong(f), f, func() {
					c.feedStatus(f)
					c.showWaiting(f, waiting)
				})
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
			wrong := status.Settings != "" || len(status.Stopped)+len(status.Extracts)+len(status.Needs)+len(status.Wrong) > 0 ||
				anyNotKept(status.Rollups)
			return c.checked(check && wrong, status, func() { c.wholeStatus(status, all) })
		})}
	cmd.Flags().BoolVar(&all, "all", false, "all feeds, not only those that files came for lately")
	cmd.Flags().BoolVar(&check, "check", false, "exit 3 when something needs a person")
	return cmd
}

// checked shows what was found, and says by the exit code when it is wrong.
func (c *command) checked(wrong bool, what any, people func()) error {
	if err := c.show(what, people); err != nil || !wrong {
		return err
	}
	return errWrong
}

// feedIsWrong reports whether something of a feed needs a person.
func feedIsWrong(f api.FeedView) bool {
	return f.Problem != "" || f.Counts.NeedsPerson+f.Counts.Missing+f.Counts.Late > 0
}

// wholeStatus shows what needs a person first, then totals, then feeds.
func (c *command) wholeStatus(s api.Status, all bool) {
	if s.Totals.Feeds == 0 {
		c.feedTable(nil)
		return
	}
	c.needs(s)
	c.lags(s.Rollups)
	for _, x := range s.Extracts {
		c.say("extract %s has failed: %s; since %s\n", x.Extract, oneLine(x.Problem), when(&x.Since).text)
	}
	if len(s.Extracts) > 0 {
		fmt.Fprintln(c.out)
	}
	t := s.Totals
	c.say("%s: %s; %s rows in 24 h\n", plural(t.Feeds, "feed"), arrivalsByState(t.States),
		grouped(t.RowsToday))
	for _, one := range []struct {
		n    int64
		what string
	}{{t.Paused, "paused"},
		{t.ListedOnly, "listed only, since no events come from their landings; mullein feed list --all marks them"}} {
		if one.n > 0 {
			c.say("%s %s\n", plural(one.n, "feed"), one.what)
		}
	}
	fmt.Fprintln(c.out)
	if len(s.Feeds) > 0 {
		c.feedTable(s.Feeds)
		fmt.Fprintln(c.out)
	}
	if !all && t.Feeds > int64(len(s.Feeds)) {
		c.say("%s no files lately; --all shows all\n\n",
			plural(t.Feeds-int64(len(s.Feeds)), "more feed")+" had")
	}
	c.serviceTable(s.Services)
}

// anyNotKept reports whether something is wrong with one of the rollups.
func anyNotKept(rollups []api.RollupLag) bool {
	return slices.ContainsFunc(rollups, func(r api.RollupLag) bool { return r.Problem != "" })
}

// lags shows rollups that are not in step.
func (c *command) lags(rollups []api.RollupLag) {
	for _, r := range rollups {
		since := "it has never been computed"
		if r.ComputedAt != nil {
			since = "it was computed last on " + when(r.ComputedAt).text
		}
		if r.Problem != "" {
			fmt.Fprintf(c.out, "rollup %s is not kept: %s; %s\n", r.Rollup, harmlessLines(r.Problem, "  "), since)
		} else {
			c.say("rollup %s lags: %s wait; %s\n", r.Rollup, plural(r.Waiting, "note")+" of touched keys", since)
		}
	}
	if len(rollups) > 0 {
		fmt.Fprintln(c.out)
	}
}

// needs shows what needs a person.
func (c *command) needs(s api.Status) {
	if s.Settings != "" {
		fmt.Fprintf(c.out, "The settings are wrong, and the old ones hold:\n  %s\n", s.Settings)
	}
	if len(s.Stopped)+len(s.Needs)+len(s.Wrong) == 0 {
		if !anyNotKept(s.Rollups) {
			fmt.Fprint(c.out, "Nothing needs a person.\n\n")
		}
		return
	}
	c.say("Needs a person, %s\n", plural(s.Totals.Wrong, "feed"))
	const shown = 8
	for _, f := range s.Stopped[:min(shown, len(s.Stopped))] {
		fmt.Fprintf(c.out, "\n%s is not working: %s\n", f.Feed, harmlessLines(f.Problem, ""))
	}
	if more := s.Totals.Stopped - int64(min(shown, len(s.Stopped))); more > 0 {
		c.say("\nand %s more are not working; see mullein feed list --wrong\n", plural(more, "feed"))
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
	var ways []string
	if f.Arrival {
		ways = append(ways, "on arrival")
	}
	if f.Cron != "" {
		ways = append(ways, "by "+f.Cron)
	}
	if len(f.After) > 0 {
		ways = append(ways, "after "+strings.Join(f.After, ", "))
	}
	starts := strings.Join(ways, ", and ")
	if starts == "" {
		starts = "only by hand: mullein run " + f.Name
	}
	into := f.Table
	if len(f.Key) > 0 {
		into += " by " + strings.Join(f.Key, ", ")
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
		{"files", f.Landing + "/" + f.Files}, {"table", into}, {"wins", f.Wins},
		{"starts", starts},
		{"arrivals", strings.Join(states, ", ")}, {"last noticed", when(f.Counts.LastNoticed).text},
		{"last loaded", when(f.Counts.LastLoaded).text},
	}
	if f.Counts.LastLoaded != nil {
		lines = append(lines,
			[2]string{"lag", fmt.Sprintf("%.1f s from the coming of the file that was loaded last to its load",
				f.Counts.LagSeconds)})
	}
	lines = append(lines, [2]string{"due", f.Due}, [2]string{"waits", f.Waits})
	if f.Counts.Missing+f.Counts.Late > 0 {
		lines = append(lines,
			[2]string{"missing",
				fmt.Sprintf("%d slots of the last 7 days missing or refused, %d late; see mullein due %s",
					f.Counts.Missing, f.Counts.Late, f.Name)})
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

// waitingShown is how many waiting files of each state are shown.
const waitingShown = 5

// waitingFiles returns the newest files of a feed that are still on their way.
func waitingFiles(ctx context.Context, service *client.Client, f api.FeedView) ([]api.Arrival, error) {
	var out []api.Arrival
	if f.Counts.Waiting == 0 {
		return nil, nil
	}
	for _, state := range []string{api.ArrivalSettling, api.ArrivalReady, api.ArrivalFailed, api.ArrivalHeld} {
		if f.Counts.States[state] == 0 {
			continue
		}
		list, err := service.Arrivals(ctx, client.ArrivalQuery{Feed: f.Name, State: state, Most: waitingShown})
		if err != nil {
			return nil, err
		}
		out = append(out, list.Items...)
	}
	return out, nil
}

// showWaiting says for what files wait, and until when.
func (c *command) showWaiting(f api.FeedView, files []api.Arrival) {
	t := &grid{head: []string{"ID", "WAITING FILE", "STATE", "FOR", "UNTIL"}}
	for _, a := range files {
		if a.State == api.ArrivalFailed && a.TryAfter == nil {
			continue
		}
		why, until := waitsFor(f, a)
		t.add(id(a.ID), text(a.Path), state(a.State), text(shorten(why, 100)), when(until))
	}
	if len(t.rows) > 0 {
		fmt.Fprintln(c.out)
		t.write(c.out)
	}
}

// waitsFor says for what a file waits, and until when, as far as that is known.
func waitsFor(f api.FeedView, a api.Arrival) (what string, until *time.Time) {
	switch {
	case a.State == api.ArrivalHeld:
		return "a person: " + a.Reason, nil
	case f.Problem != "":
		return "the feed to work again", nil
	case a.State == api.ArrivalFailed:
		return "another attempt, after " + a.Reason, a.TryAfter
	case a.State == api.ArrivalReady && f.Waits != "":
		return f.Waits, nil
	case a.State == api.ArrivalReady:
		return "its turn", nil
	case f.Settle > 0 && a.SettlingAt != nil:
		at := a.SettlingAt.Add(time.Duration(f.Settle * float64(time.Second)))
		return "it to be whole, if it stays as it is", &at
	}
	return "it to be whole", nil
}

func (c *command) pairs(lines [][2]string) {
	for _, l := range lines {
		if l[1] != "" {
			fmt.Fprintf(c.out, "%-13s %s\n", l[0], harmlessLines(l[1], strings.Repeat(" ", 14)))
		}
	}
}

func (c *command) ledger() *cobra.Command {
	var f client.ArrivalQuery
	var s, day string
	var check bool
	cmd := &cobra.Command{Use: "ledger [FEED]", Short: "What arrived and what became of it, the newest first",
		Args: arguments(0, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				if _, err := service.Versions(ctx, args[0]); err != nil { // it may have been removed
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
			wrong := false
			if check {
				if wrong, err = anyWrong(ctx, service, f); err != nil {
					return err
				}
			}
			return c.checked(wrong, list, func() {
				if len(list.Items) == 0 && list.Next == 0 {
					fmt.Fprintln(c.out, "Nothing has arrived.")
					return
				}
				arrivalTable(list.Items).write(c.out)
				if list.Next > 0 {
					c.say("There are more: --%s %d\n", nextPage(f.Ascending), list.Next)
				}
			})
		})}
	cmd.Flags().StringVar(&s, "state", "", "only those in a state")
	cmd.Flags().BoolVar(&check, "check", false, "exit 3 when some of them need a person: refused, failed or held, and "+
		"not overtaken")
	cmd.Flags().StringVar(&f.Text, "text", "", "only those whose path holds this text; * and ? stand for any text and "+
		"one character")
	cmd.Flags().StringVar(&day, "day", "", "only those noticed on a day, as 2026-07-01")
	cmd.Flags().Int64Var(&f.Before, "before", 0, "only those before a number")
	cmd.Flags().BoolVar(&f.Ascending, "ascending", false, "the oldest first")
	cmd.Flags().Int64Var(&f.After, "after", 0, "only those after a number, with --ascending")
	cmd.Flags().IntVar(&f.Most, "limit", 50, "how many, 1 to 1000")
	return cmd
}

// anyWrong reports whether arrivals that a query finds, on whatever page, need a person.
func anyWrong(ctx context.Context, service *client.Client, q client.ArrivalQuery) (bool, error) {
	q.Needs, q.Most, q.Before = true, 1, 0
	list, err := service.Arrivals(ctx, q)
	return len(list.Items) > 0, err
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
			loads, err := service.Loads(ctx, n)
			if err != nil && !c.json() { // a target that is away has no say in the rest
				fmt.Fprintf(c.errOut, "mullein: its loads are not known: %v\n", err)
			}
			type life struct {
				api.Arrival
				Loads []api.LoadEntry `json:"loads"`
			}
			return c.show(life{a, loads}, func() {
				c.life(a)
				c.generations(loads)
				for _, d := range decisions {
					c.say("\n%s by %s on %s: %s", d.What, d.By, when(&d.At).text, d.Because)
				}
				if len(decisions) > 0 {
					fmt.Fprintln(c.out)
				}
			})
		})}
}

// generations shows the loads of an arrival that was loaded more than once.
func (c *command) generations(loads []api.LoadEntry) {
	if len(loads) < 2 {
		return
	}
	t := &grid{head: []string{"GENERATION", "RUN", "OPENED", "READ", "COMMITTED", "IN FORCE", "BALANCE"}}
	for _, l := range loads {
		force := ""
		if l.Active {
			force = "yes"
		}
		t.add(id(int64(l.Generation)), id(l.Run), when(l.OpenedAt), when(l.ReadAt), when(&l.CommittedAt), text(force),
			text(balanceLine(l.Balance)))
	}
	fmt.Fprintln(c.out)
	t.write(c.out)
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
		if _, err := service.Versions(ctx, arg); err != nil {
			return "", n, nil
		}
	}
	_, err := service.Versions(ctx, arg)
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
	var q client.RunQuery
	cmd := &cobra.Command{Use: "runs [FEED]", Short: "Runs, the newest first", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 1 {
				q.Feed = args[0]
				if _, err := service.Versions(ctx, q.Feed); err != nil {
					return err
				}
			}
			list, err := service.Runs(ctx, q)
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
					c.say("There are more: --%s %d\n", nextPage(q.Ascending), list.Next)
				}
			})
		})}
	cmd.Flags().Int64Var(&q.Before, "before", 0, "only those before a number")
	cmd.Flags().BoolVar(&q.Ascending, "ascending", false, "the oldest first")
	cmd.Flags().Int64Var(&q.After, "after", 0, "only those after a number, with --ascending")
	cmd.Flags().IntVar(&q.Most, "limit", 30, "how many, 1 to 1000")
	return cmd
}

// nextPage says with which flags the next page of a list is asked for.
func nextPage(ascending bool) string {
	if ascending {
		return "ascending --after"
	}
	return "before"
}

// whereabouts says in a few words where a load is, or other work.
func whereabouts(l api.Progress) string {
	out := l.Step
	if l.Work != "" && l.Work != string(load.Loading) { // a service of an older version names no work
		out = l.Work + ", " + out
	}
	if l.Waits != "" {
		out += ", waits for " + l.Waits
	}
	return out
}
