package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"mullein/internal/api"
	"mullein/internal/client"
)

func (c *command) user() *cobra.Command {
	cmd := &cobra.Command{Use: "user", Short: "People who sign in: who may, what they may, and their end"}
	cmd.AddCommand(
		&cobra.Command{Use: "list", Short: "People who may sign in", Args: arguments(0, 0),
			RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
				list, err := service.Users(ctx)
				if err != nil {
					return err
				}
				return c.show(list, func() {
					if len(list.Items) == 0 {
						fmt.Fprintln(c.out, "Nobody has a name of their own here; `mullein user put NAME --role look` makes one.")
						return
					}
					t := &grid{head: []string{"USER", "SIGNS IN BY", "ROLE", "FEEDS", "DATA", "SINCE", "LAST USED", "SESSIONS"}}
					for _, u := range list.Items {
						t.add(text(u.Name), text(u.By), text(u.Role), text(feedsOf(u.Rights)), text(dataOf(u.Rights)), when(&u.CreatedAt),
							when(u.LastUsedAt), integer(u.Sessions))
					}
					t.write(c.out)
				})
			})},
		c.putUser(),
		&cobra.Command{Use: "remove USER", Short: "End a user, and their sessions and streams", Args: arguments(1, 1),
			RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
				if err := service.RemoveUser(ctx, args[0]); err != nil {
					return err
				}
				return c.show(api.User{Name: args[0]}, func() { c.say("user %s is ended\n", args[0]) })
			})},
	)
	return cmd
}

func (c *command) putUser() *cobra.Command {
	var of api.UserWanted
	var file string
	var keep bool
	cmd := &cobra.Command{Use: "put USER", Short: "Make a user who signs in by a password, or change one", Args: arguments(1, 1),
		Long: "Make a user who signs in by a password, or change one. The password, of 10 characters or more, is asked for, or is\n" +
			"the first line of the standard input or of --password-file.",
		Example: "  mullein user put ada --role operate --feeds 'gauge-*' --password-file ada.txt\n" +
			"  mullein user put ada --role look --keep-password",
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			if !keep {
				password, err := c.password(args[0], file)
				if err != nil {
					return err
				}
				of.Password = password
			}
			if err := service.PutUser(ctx, args[0], of); err != nil {
				return err
			}
			return c.show(api.User{Name: args[0], By: api.ByPassword, Rights: api.Rights{Role: of.Role, Feeds: append([]string{}, of.Feeds...),
				Data: !of.Blind}}, func() { c.say("user %s may %s\n", args[0], of.Role) })
		})}
	cmd.Flags().StringVar(&of.Role, "role", "look", "look: see; operate: run, decide, mend, recall, deliver too; own: put feeds, make tokens and users too")
	cmd.Flags().StringArrayVar(&of.Feeds, "feeds", nil, "only these feeds may be changed, and their data seen; * stands for any characters; repeatable")
	cmd.Flags().BoolVar(&of.Blind, "blind", false, "rows of tables, and rejects, are not shown")
	cmd.Flags().StringVar(&file, "password-file", "", "a file whose first line is the password")
	cmd.Flags().BoolVar(&keep, "keep-password", false, "change what the user may only")
	return cmd
}

// password reads a password: from a file, from a person who types it twice, or from the standard
// input.
func (c *command) password(of, file string) (string, error) {
	if file != "" {
		text, err := os.Open(file)
		if err != nil {
			return "", err
		}
		defer text.Close()
		return firstLine(text, file)
	}
	in, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return firstLine(c.in, "the standard input")
	}
	ask := func(what string) (string, error) {
		fmt.Fprint(c.errOut, what)
		text, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(c.errOut)
		return string(text), err
	}
	first, err := ask(fmt.Sprintf("Password of %s: ", of))
	if err != nil {
		return "", err
	}
	again, err := ask("Once more: ")
	if err == nil && first != again {
		err = usageError{errors.New("the two are not the same")}
	}
	return first, err
}

// firstLine reads a line.
func firstLine(from io.Reader, name string) (string, error) {
	const most = 1000
	line, _ := bufio.NewReader(io.LimitReader(from, most)).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" { // whatever the reason is
		return "", usageError{fmt.Errorf("no password is in %s", name)}
	}
	return line, nil
}

func feedsOf(r api.Rights) string {
	if len(r.Feeds) == 0 {
		return "all"
	}
	return strings.Join(r.Feeds, ", ")
}

func dataOf(r api.Rights) string {
	if r.Data {
		return "shown"
	}
	return "not shown"
}
