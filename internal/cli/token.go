package cli

import (
	"context"
	"fmt"

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
					t := &grid{head: []string{"TOKEN", "NAME", "SINCE", "SESSIONS"}}
					for _, k := range list.Items {
						t.add(id(k.ID), text(k.Name), when(&k.CreatedAt), integer(k.Sessions))
					}
					t.write(c.out)
				})
			})},
		&cobra.Command{Use: "new NAME", Short: "Make a token; its secret is shown once", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				made, err := service.NewToken(ctx, args[0])
				if err != nil {
					return err
				}
				return c.show(made, func() { fmt.Fprintln(c.out, made.Secret) })
			})},
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
