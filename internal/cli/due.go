package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/due"
	"mullein/internal/core/feed"
)

func (c *command) deliver() *cobra.Command {
	var as string
	var replace bool
	cmd := &cobra.Command{Use: "deliver FEED FILE...",
		Short: "Put files of one's own into the landing, whole at once", Args: arguments(2, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if as != "" && len(args) > 2 {
				return usageError{errors.New("--as names one file")}
			}
			out := []api.Delivered{}
			for _, name := range args[1:] {
				to := as
				if to == "" {
					to = filepath.Base(name)
				}
				file, err := os.Open(name)
				if err != nil {
					return err
				}
				done, err := service.Deliver(ctx, args[0], to, file, replace)
				file.Close()
				if err != nil {
					return err
				}
				out = append(out, done)
			}
			return c.show(out, func() {
				for _, d := range out {
					c.say("%s: %s bytes for %s; %s\n", d.Path, grouped(d.Size), d.Feed, says(d.Captures))
				}
			})
		})}
	cmd.Flags().StringVar(&as, "as", "", "its path below the landing (default: the file's own name)")
	cmd.Flags().BoolVar(&replace, "replace", false, "write over the file that lies there")
	return cmd
}

// verb makes the command that does something to arrivals.
func (c *command) verb(v, short string) *cobra.Command {
	d := api.Verdict{Verb: v}
	var s string
	cmd := &cobra.Command{Use: v + " [ARRIVAL...]", Short: short, Args: arguments(0, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			for _, arg := range args {
				n, err := number(arg, "an arrival")
				if err != nil {
					return err
				}
				d.Arrivals = append(d.Arrivals, n)
			}
			d.State = s
			switch {
			case d.Because == "":
				return usageError{fmt.Errorf("%s needs --because \"...\": the reason is kept", v)}
			case len(args) == 0 && d.Feed == "":
				return usageError{fmt.Errorf("%s takes the numbers of arrivals, or --feed with --text, --day, --state "+
					"or --backlog", v)}
			case len(args) > 0 && d.Feed != "":
				return usageError{errors.New("either numbers of arrivals or --feed")}
			}
			done, err := service.Decide(ctx, d)
			if err != nil {
				return err
			}
			return c.show(done, func() {
				for _, a := range done.Items {
					c.say("arrival %d, %s: %s\n", a.ID, a.Path, a.State)
				}
				if n := done.Arrivals - int64(len(done.Items)); n > 0 {
					c.say("and %s more\n", grouped(n))
				}
			})
		})}
	cmd.Flags().StringVar(&d.Because, "because", "", "why; it is kept with who and when")
	cmd.Flags().StringVar(&d.Feed, "feed", "", "arrivals of this feed")
	cmd.Flags().StringVar(&d.Text, "text", "", "whose path holds this text; * and ? stand for any text and one "+
		"character")
	cmd.Flags().StringVar(&d.Day, "day", "", "of whose slot this is the day, as 2026-07-01")
	cmd.Flags().StringVar(&s, "state", "", "that are in this state")
	if v == "redo" {
		cmd.Flags().BoolVar(&d.Backlog, "backlog", false, "that lay there before the feed and were skipped for it")
	}
	return cmd
}

func (c *command) accept() *cobra.Command {
	var file api.AcceptFile
	cmd := &cobra.Command{Use: "accept SLOT PATH", Short: "Take a file for a slot although its name does not fit",
		Args: arguments(2, 2), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			slot, err := number(args[0], "a slot; `mullein due` lists them")
			if err != nil {
				return err
			}
			if file.Because == "" {
				return usageError{errors.New("accept needs --because \"...\": the reason is kept")}
			}
			file.Path = args[1]
			a, err := service.Accept(ctx, slot, file)
			if err != nil {
				return err
			}
			return c.show(a, func() {
				c.say("%s is arrival %d of %s, for slot %d\n", a.Path, a.ID, a.Feed,
					slot)
			})
		})}
	cmd.Flags().StringVar(&file.Because, "because", "", "why; it is kept with who and when")
	cmd.Flags().BoolVar(&file.Although, "although", false,
		"also when the file is loaded already, perhaps for another slot")
	return cmd
}

func (c *command) excuse() *cobra.Command {
	var because string
	cmd := &cobra.Command{Use: "excuse SLOT...", Short: "Say that slots need not be filled", Args: arguments(1, -1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if because == "" {
				return usageError{errors.New("excuse needs --because \"...\": the reason is kept")}
			}
			out := []api.SlotDetail{}
			for _, arg := range args {
				slot, err := number(arg, "a slot; `mullein due` lists them")
				if err != nil {
					return err
				}
				s, err := service.Excuse(ctx, slot, because)
				if err != nil {
					return err
				}
				out = append(out, s)
			}
			return c.show(out, func() {
				for _, s := range out {
					c.say("slot %d of %s, %s, is excused\n", s.ID, s.Feed, slotWords(s.SlotView))
				}
			})
		})}
	cmd.Flags().StringVar(&because, "because", "", "why; it is kept with who and when")
	return cmd
}

func (c *command) reconcile() *cobra.Command {
	var mend bool
	cmd := &cobra.Command{Use: "reconcile [FEED]", Short: "Hold the ledger and the target's markers against each " +
		"other, after a restore", Args: arguments(0, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if len(args) == 0 {
				feeds, err := service.AllFeeds(ctx, client.FeedQuery{})
				if err != nil {
					return err
				}
				for _, f := range feeds {
					args = append(args, f.Name)
				}
			}
			out := map[string]api.DifferenceList{}
			open := 0
			for _, name := range args {
				list, err := service.Reconcile(ctx, name, mend)
				if err != nil {
					return err
				}
				out[name] = list
				for _, d := range list.Items {
					if !d.Mended {
						open++
					}
				}
			}
			err := c.show(out, func() {
				t := &grid{head: []string{"FEED", "ARRIVAL", "PATH", "DIFFERENCE", "WAY OUT", ""}}
				for _, name := range args {
					for _, d := range out[name].Items {
						mended := ""
						if d.Mended {
							mended = "mended"
						}
						t.add(text(name), id(d.Arrival), text(d.Path), text(d.What), text(d.Way), text(mended))
					}
				}
				if len(t.rows) == 0 {
					fmt.Fprintln(c.out, "Ledger and markers agree.")
					return
				}
				t.write(c.out)
				if !mend {
					fmt.Fprintln(c.out, "\nNothing was changed; --mend mends what is safe.")
				}
			})
			if err == nil && open > 0 {
				return errWrong
			}
			return err
		})}
	cmd.Flags().BoolVar(&mend, "mend", false, "mend what is safe")
	return cmd
}

func (c *command) due() *cobra.Command {
	var simulate string
	var days int
	var check bool
	cmd := &cobra.Command{Use: "due [FEED|FILE]", Short: "What is expected, what is late, what name came close",
		Args: arguments(0, 1), RunE: func(cmd *cobra.Command, args []string) error {
			if simulate != "" {
				return c.simulate(cmd.Context(), args, simulate)
			}
			service, err := c.client()
			if err != nil {
				return err
			}
			name := ""
			if len(args) == 1 {
				name = args[0]
				if _, err := service.Feed(cmd.Context(), name); err != nil {
					return err
				}
				if !cmd.Flags().Changed("days") {
					days = 7
				}
			}
			return c.calendar(cmd.Context(), service, name, days, check)
		}}
	cmd.Flags().StringVar(&simulate, "simulate", "", "show what would be due in a span, as 2026-03-28..2026-03-30; "+
		"FILE may be a feed file that is not put yet")
	cmd.Flags().IntVar(&days, "days", 1, "how many days back, 1 to 62")
	cmd.Flags().BoolVar(&check, "check", false, "exit 3 when a slot is missing or refused, or late and not here yet")
	return cmd
}

// simulate shows what a calendar will have. A feed file is read here, without
// a service.
func (c *command) simulate(ctx context.Context, args []string, span string) error {
	first, last, two := strings.Cut(span, "..")
	if !two {
		last = first
	}
	if len(args) == 0 {
		return usageError{errors.New("--simulate needs a feed, or a feed file")}
	}
	if ext := filepath.Ext(args[0]); ext == ".yaml" || ext == ".yml" {
		good, bad, err := c.parseFiles(args)
		if err != nil {
			return err
		}
		if len(bad) > 0 {
			return bad
		}
		f := good[0].feed
		if f.Due == nil || f.Due.Times == nil {
			return fmt.Errorf("feed %s has no schedule of what is due", f.Name)
		}
		from, to, err := days(first, last, f.Due.Times.Zone())
		if err != nil {
			return err
		}
		var slots []api.PlannedSlot
		for _, slot := range f.Plan(from, to) {
			slots = append(slots, api.PlannedSlot(slot))
		}
		return c.plan(api.Plan{Zone: f.Due.Times.Zone().String(), Items: slots})
	}
	service, err := c.client()
	if err != nil {
		return err
	}
	text, err := service.Versions(ctx, args[0])
	if err != nil {
		return err
	}
	f, err := feed.Parse(args[0]+".yaml", []byte(text[0].Definition))
	if err != nil {
		return err
	}
	zone := time.UTC
	if f.Due != nil && f.Due.Times != nil {
		zone = f.Due.Times.Zone()
	}
	from, to, err := days(first, last, zone)
	if err != nil {
		return err
	}
	plan, err := service.Plan(ctx, args[0], from, to)
	if err != nil {
		return err
	}
	return c.plan(plan)
}

func days(first, last string, zone *time.Location) (from, to time.Time, err error) {
	from, err = time.ParseInLocation(time.DateOnly, first, zone)
	if err == nil {
		to, err = time.ParseInLocation(time.DateOnly, last, zone)
	}
	if err != nil || to.Before(from) {
		return from, to, usageError{errors.New("--simulate takes days, as 2026-03-28..2026-03-30")}
	}
	return from, to.AddDate(0, 0, 1), nil
}

func (c *command) plan(plan api.Plan) error {
	return c.show(plan, func() {
		zone, err := time.LoadLocation(plan.Zone)
		if err != nil {
			zone = time.UTC
		}
		t := &grid{head: []string{"DUE (" + plan.Zone + ")", "OFFSET", "LATE", "MISSING", "FILES", "EXPECTED"}}
		for _, s := range plan.Items {
			at := s.DueAt.In(zone)
			t.add(text(at.Format("Mon 2006-01-02 15:04")), text(at.Format("-07:00")),
				text(s.LateAt.In(zone).Format("15:04")), text(s.MissingAt.In(zone).Format("15:04")),
				integer(int64(s.Files)), text(s.Expected))
		}
		t.write(c.out)
		c.say("%s slots\n", grouped(int64(len(plan.Items))))
	})
}

// slotMarks are the signs of the states in a calendar; a state is never only
// a colour.
var slotMarks = map[string]cell{
	api.SlotOnTime: {text: "o", color: "32"}, api.SlotLate: {text: "l", color: "33"},
	api.SlotMissing: {text: "X", color: "31"}, api.SlotRefused: {text: "R", color: "31"},
	api.SlotExcused: {text: "e"}, api.SlotOpen: {text: "."}, api.SlotSurplus: {text: "+"},
}

const slotLegend = "o on time  l late  X missing  R refused  e excused  . open  + surplus"

const maxSlots = 20000

func (c *command) calendar(ctx context.Context, service *client.Client, feed string, days int, check bool) error {
	if days < 1 || days > 62 {
		return usageError{errors.New("--days takes 1 to 62")}
	}
	now := time.Now()
	from := now.Add(-time.Duration(days) * 24 * time.Hour)
	list, err := service.Slots(ctx, feed, from, now.Add(time.Minute), maxSlots)
	if err != nil {
		return err
	}
	var wrong []api.SlotView
	for _, s := range slices.Backward(list.Items) {
		if s.State == api.SlotMissing || s.State == api.SlotRefused || s.State == api.SlotLate && s.CompleteAt == nil {
			wrong = append(wrong, s)
		}
	}
	return c.checked(check && len(wrong) > 0, list, func() {
		if len(list.Items) == 0 {
			fmt.Fprintln(c.out, "Nothing was due.")
			return
		}
		c.slotGrid(list.Items, days > 1)
		c.wrongSlots(wrong)
		if list.More {
			fmt.Fprintln(c.out, "There are more; a feed and fewer --days narrow them.")
		}
	})
}

// slotGrid draws a line for each feed and set of captures, and for each day
// where there are several.
func (c *command) slotGrid(slots []api.SlotView, byDay bool) {
	type line struct {
		head  string
		marks []cell
	}
	lines := map[string]*line{}
	for _, s := range slots {
		head := strings.TrimSpace(s.Feed + " " + strings.Join(slices.Sorted(maps.Values(s.Per)), " "))
		if byDay {
			head += "  " + s.DueAt.Local().Format("Mon 01-02")
		}
		if s.State == api.SlotSurplus {
			head += "  unexpected"
		}
		key := fmt.Sprintf("%s\x00%s\x00%s", s.Feed, due.Key(s.Per), head)
		if byDay {
			key = fmt.Sprintf("%s\x00%s\x00%s", s.Feed, s.DueAt.Local().Format(time.DateOnly), head)
		}
		if lines[key] == nil {
			lines[key] = &line{head: head}
		}
		lines[key].marks = append(lines[key].marks, slotMarks[s.State])
	}
	color := terminal(c.out) && os.Getenv("NO_COLOR") == ""
	width := 0
	for _, l := range lines {
		width = max(width, len(l.head))
	}
	for _, key := range slices.Sorted(maps.Keys(lines)) {
		l := lines[key]
		var b strings.Builder
		for _, m := range l.marks {
			if color && m.color != "" {
				b.WriteString("\x1b[" + m.color + "m" + m.text + "\x1b[0m")
			} else {
				b.WriteString(m.text)
			}
		}
		fmt.Fprintf(c.out, "%-*s  %s\n", width, harmless(l.head), b.String()) // the marks have colours
	}
	c.say("\n%s\n", slotLegend)
}

// slotWords names a slot.
func slotWords(s api.SlotView) string {
	return strings.TrimSpace(s.DueAt.Local().Format("2006-01-02 15:04") + " " +
		strings.Join(slices.Sorted(maps.Values(s.Per)), " "))
}

func missingLine(s api.SlotView) string {
	line := fmt.Sprintf("slot %d of %s, %s, is %s", s.ID, s.Feed, slotWords(s), s.State)
	if s.Files > 1 {
		line += fmt.Sprintf(" (%d of %d files came)", s.Came, s.Files)
	}
	if s.State == api.SlotRefused {
		return line + fmt.Sprintf(": what came was refused; mullein ledger %s --state refused", s.Feed)
	}
	if s.Expected != "" {
		line += "; expected " + s.Expected
	}
	if s.Say != "" {
		line += ". " + s.Say
	}
	return line
}

// wrongSlots says what did not come, what came close, and what takes it.
func (c *command) wrongSlots(slots []api.SlotView) {
	const shown = 8
	for i, s := range slots {
		if i == shown {
			c.say("\nand %d more slots; see mullein due FEED\n", len(slots)-shown)
			return
		}
		c.say("\n%s\n", missingLine(s))
		for _, n := range s.Near {
			c.say("  came close: %s (%s)\n    mullein accept %d %q --because \"...\"\n", n.Path, n.Why,
				s.ID, n.Path)
		}
	}
}
