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

func (c *command) token() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Tokens for calls: who has one, new ones, and their end"}
	cmd.AddCommand(
		&cobra.Command{Use: "list", Short: "Tokens that are good", Args: arguments(0, 0),
			RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
				list, err := service.Tokens(ctx)
				if err != nil {
					return err
				}
				return c.show(list, func() {
					t := &grid{head: []string{"TOKEN", "NAME", "ROLE", "FEEDS", "DATA", "SINCE", "UNTIL", "LAST USED", "SESSIONS"}}
					for _, k := range list.Items {
						t.add(id(k.ID), text(k.Name), text(k.Role), text(feedsOf(k.Rights)), text(dataOf(k.Rights)), when(&k.CreatedAt), when(k.ExpiresAt), when(k.LastUsedAt), integer(k.Sessions))
					}
					t.write(c.out)
				})
			})},
		c.newToken(),
		&cobra.Command{Use: "end TOKEN", Short: "End a token, and the sessions and streams that were begun with it",
			Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				n, err := number(args[0], "a token; `mullein token list` lists them")
				if err != nil {
					return err
				}
				if err := service.EndToken(ctx, n); err != nil {
					return err
				}
				return c.show(api.Token{ID: n}, func() { c.say("token %d is ended\n", n) })
			})},
	)
	return cmd
}

func (c *command) newToken() *cobra.Command {
	var of api.TokenWanted
	var until string
	cmd := &cobra.Command{Use: "new NAME", Short: "Make a token; its secret is shown once", Args: arguments(1, 1),
		Example: "  mullein token new dashboard --role look --blind\n" +
			"  mullein token new hydrology --role operate --feeds 'gauge-*' --until 2027-06-30",
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			of.Name = args[0]
			if until != "" {
				at, err := moment(until, time.Now())
				if err != nil {
					return err
				}
				of.Until = &at
			}
			made, err := service.NewToken(ctx, of)
			if err != nil {
				return err
			}
			return c.show(made, func() { fmt.Fprintln(c.out, made.Secret) })
		})}
	cmd.Flags().StringVar(&of.Role, "role", "own", "look: see; operate: run, decide, mend, recall, deliver too; own: put feeds and make tokens too")
	cmd.Flags().StringArrayVar(&of.Feeds, "feeds", nil, "only these feeds may be changed, and their data seen; * stands for any characters; repeatable")
	cmd.Flags().BoolVar(&of.Blind, "blind", false, "rows of tables, and rejects, are not shown")
	cmd.Flags().StringVar(&until, "until", "", "the day or time when it ends")
	return cmd
}

func (c *command) acts() *cobra.Command {
	var feed, by, what string
	var most int
	var all bool
	cmd := &cobra.Command{Use: "acts", Short: "What people and programs did, the newest first",
		Example: "  mullein acts --feed gauge-readings\n  mullein acts --all -o jsonl > acts.jsonl", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Acts(ctx, feed, by, what, 0, most)
			for next := list.Next; err == nil && all && next != 0; {
				var page api.ActList
				page, err = service.Acts(ctx, feed, by, what, next, most)
				list.Items, next = append(list.Items, page.Items...), page.Next
			}
			if err != nil {
				return err
			}
			if all {
				list.Next = 0
			}
			return c.show(list, func() {
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "Nobody did anything.")
					return
				}
				t := &grid{head: []string{"ACT", "AT", "BY", "WAY", "FROM", "WHAT", "OF", "BECAUSE", "BEFORE", "AFTER", "STATUS"}}
				for _, a := range list.Items {
					t.add(id(a.ID), when(&a.At), text(a.By), text(a.Way), text(a.From), text(a.What), text(strings.TrimPrefix(a.Of, "/api/v1")),
						text(shorten(a.Because, 40)), text(a.Before), text(a.After), id(int64(a.Status)))
				}
				t.write(c.out)
			})
		})}
	cmd.Flags().StringVar(&feed, "feed", "", "only of this feed")
	cmd.Flags().StringVar(&by, "by", "", "only by this name")
	cmd.Flags().StringVar(&what, "what", "", "only this operation, such as put-feed")
	cmd.Flags().IntVar(&most, "limit", 50, "how many, 1 to 1000")
	cmd.Flags().BoolVar(&all, "all", false, "all that are kept")
	return cmd
}
