package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
)

func (c *command) notices() *cobra.Command {
	var outlet, feed, state string
	var most int
	cmd := &cobra.Command{Use: "notices", Short: "What people and programs were told, the newest first", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Notices(ctx, outlet, feed, state, 0, most)
			if err != nil {
				return err
			}
			return c.show(list, func() { c.noticeTable(list.Items) })
		})}
	cmd.Flags().StringVar(&outlet, "outlet", "", "only by this outlet")
	cmd.Flags().StringVar(&feed, "feed", "", "only of this feed")
	cmd.Flags().StringVar(&state, "state", "", "only in this state: waiting, sent or failed")
	cmd.Flags().IntVar(&most, "limit", 50, "how many, 1 to 1000")
	return cmd
}

func (c *command) noticeTable(list []api.Notice) {
	if len(list) == 0 {
		fmt.Fprintln(c.out, "No notices.")
		return
	}
	t := &grid{head: []string{"NOTICE", "AT", "OUTLET", "TO", "STATE", "SUBJECT", "ANSWER"}}
	for _, n := range list {
		state := n.State
		if n.State == "waiting" && n.Attempts > 0 {
			state = fmt.Sprintf("waiting, tried %d times", n.Attempts)
		}
		t.add(id(n.ID), when(&n.At), text(n.Outlet), text(n.Whom), text(state), text(shorten(n.Subject, 80)),
			text(shorten(strings.ReplaceAll(n.Answer, "\n", " "), 60)))
	}
	t.write(c.out)
}

func (c *command) notice() *cobra.Command {
	cmd := &cobra.Command{Use: "notice", Short: "One notice: show it, send it again, or rehearse one"}
	rehearse := &cobra.Command{Use: "rehearse FEED --as KIND", Short: "Send what would be told of a feed, marked as a rehearsal",
		Example: "  mullein notice rehearse gauge-readings --as missing", Args: arguments(1, 1)}
	as := rehearse.Flags().String("as", "missing", "as what: late, missing, refused, failed, held, loaded and so on")
	rehearse.RunE = c.call(func(ctx context.Context, service *client.Client, args []string) error {
		list, err := service.RehearseNotice(ctx, args[0], *as)
		if err != nil {
			return err
		}
		return c.followNotices(ctx, service, list.Items)
	})
	cmd.AddCommand(rehearse,
		&cobra.Command{Use: "show NOTICE", Short: "What a notice says", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				n, err := number(args[0], "a notice; `mullein notices` lists them")
				if err != nil {
					return err
				}
				whole, err := service.Notice(ctx, n)
				if err != nil {
					return err
				}
				return c.show(whole, func() {
					c.noticeTable([]api.Notice{whole.Notice})
					fmt.Fprintf(c.out, "\n%s", whole.Text)
				})
			})},
		&cobra.Command{Use: "again NOTICE", Short: "Send a notice again", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				n, err := number(args[0], "a notice; `mullein notices` lists them")
				if err != nil {
					return err
				}
				again, err := service.SendNotice(ctx, n)
				if err != nil {
					return err
				}
				return c.followNotices(ctx, service, []api.Notice{again})
			})})
	return cmd
}

// followNotices waits until notices were sent or tried, and shows what came of it.
func (c *command) followNotices(ctx context.Context, service *client.Client, list []api.Notice) error {
	const patience, between = time.Minute, 200 * time.Millisecond
	deadline := time.Now().Add(patience)
	wrong := false
	for i := range list {
		n := &list[i]
		for n.State == "waiting" && n.Attempts == 0 && time.Now().Before(deadline) {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(between):
			}
			whole, err := service.Notice(ctx, n.ID)
			if err != nil {
				return err
			}
			*n = whole.Notice
		}
		wrong = wrong || n.State != "sent"
	}
	if err := c.show(api.NoticeList{Items: list}, func() { c.noticeTable(list) }); err != nil {
		return err
	}
	if wrong {
		return errWrong
	}
	return nil
}

func (c *command) outlet() *cobra.Command {
	cmd := &cobra.Command{Use: "outlet", Short: "Ways out of the service for notices and events"}
	cmd.AddCommand(
		&cobra.Command{Use: "list", Short: "The outlets of the settings, and how they do", Args: arguments(0, 0),
			RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
				list, err := service.Outlets(ctx)
				if err != nil {
					return err
				}
				return c.show(list, func() {
					if len(list.Items) == 0 {
						fmt.Fprintln(c.out, "No outlets. Name one under outlets in mullein.yaml; docs/who-is-told.md shows how.")
						return
					}
					t := &grid{head: []string{"OUTLET", "WAY", "TO", "WAITING", "FAILED", "LAST SENT", "PROBLEM"}}
					for _, o := range list.Items {
						t.add(text(o.Name), text(o.Way), text(shorten(o.To, 60)), integer(o.Waiting), integer(o.Failed), when(o.SentAt),
							text(shorten(strings.ReplaceAll(o.Problem, "\n", " "), 60)))
					}
					t.write(c.out)
				})
			})},
		&cobra.Command{Use: "test OUTLET", Short: "Send a notice that says that the outlet works", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				n, err := service.TestOutlet(ctx, args[0])
				if err != nil {
					return err
				}
				return c.followNotices(ctx, service, []api.Notice{n})
			})})
	return cmd
}

func (c *command) problems() *cobra.Command {
	var over bool
	var most int
	cmd := &cobra.Command{Use: "problems", Short: "What is wrong, told as one each", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Problems(ctx, over, 0, most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "No problems.")
					return
				}
				t := &grid{head: []string{"PROBLEM", "KIND", "CAUSE", "SINCE", "OVER", "PARTS", "FIRST"}}
				for _, p := range list.Items {
					first := ""
					if len(p.Parts) > 0 {
						first = strings.TrimPrefix(p.Parts[0].Feed+": "+p.Parts[0].What, ": ")
					}
					t.add(id(p.ID), text(p.Kind), text(p.Cause), when(&p.BeganAt), when(p.OverAt), integer(int64(len(p.Parts))),
						text(shorten(first, 70)))
				}
				t.write(c.out)
			})
		})}
	cmd.Flags().BoolVar(&over, "over", false, "with those that are over")
	cmd.Flags().IntVar(&most, "limit", 50, "how many, 1 to 1000")
	return cmd
}
