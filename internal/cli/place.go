package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
)

func (c *command) place() *cobra.Command {
	cmd := &cobra.Command{Use: "place", Short: "Places outside of the service's machine where files lie"}
	cmd.AddCommand(c.placeList(), c.placeTest(), c.placeBrowse())
	return cmd
}

func (c *command) placeList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "The places and queues of the settings, and how they do", Args: arguments(0, 0),
		RunE: c.call(func(ctx context.Context, service *client.Client, _ []string) error {
			list, err := service.Places(ctx)
			if err != nil {
				return err
			}
			queues, err := service.Queues(ctx)
			if err != nil {
				return err
			}
			both := struct {
				api.PlaceList
				Queues []api.Queue `json:"queues"`
			}{list, queues.Items}
			return c.show(both, func() {
				defer c.queueTable(queues.Items)
				if len(list.Items) == 0 {
					fmt.Fprintln(c.out, "No places. Name one under places in mullein.yaml; docs/places.md shows how.")
					return
				}
				t := &grid{head: []string{"PLACE", "ADDRESS", "USER", "FEEDS", "REQUESTS", "UNTIL", "PROBLEM"}}
				for _, p := range list.Items {
					until := ""
					if p.Until != nil {
						until = p.Until.Format("2006-01-02")
					}
					t.add(text(p.Name), text(shorten(p.Address, 60)), text(p.User), integer(int64(p.Feeds)), integer(p.Requests), text(until),
						text(shorten(strings.ReplaceAll(p.Problem, "\n", " "), 70)))
				}
				t.write(c.out)
			})
		})}
}

// queueTable shows queues, as the service that answers reads them.
func (c *command) queueTable(queues []api.Queue) {
	if len(queues) == 0 {
		return
	}
	fmt.Fprintln(c.out)
	t := &grid{head: []string{"QUEUE", "URL", "MESSAGES", "LAST", "UNKNOWN", "PROBLEM"}}
	for _, q := range queues {
		t.add(text(q.Name), text(shorten(q.URL, 60)), integer(q.Messages), when(q.LastAt), integer(q.Unknown), text(shorten(oneLine(q.Problem+q.LastSaid), 70)))
	}
	t.write(c.out)
}

func (c *command) placeTest() *cobra.Command {
	return &cobra.Command{Use: "test PLACE", Short: "Sign in at a place and list it", Args: arguments(1, 1),
		Long: "Sign in at a place and list it. Of a host that is not known yet it says which key it shows. Exit code 3 when a step failed.",
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			test, err := service.TestPlace(ctx, args[0])
			if err != nil {
				return err
			}
			if err := c.show(test, func() {
				for _, s := range test.Steps {
					how := "good"
					if !s.Good {
						how = "WRONG"
					}
					fmt.Fprintf(c.out, "%-8s %-5s  %s\n", s.What, how, s.Said)
				}
			}); err != nil {
				return err
			}
			if !test.Good {
				return errWrong
			}
			return nil
		})}
}

func (c *command) placeBrowse() *cobra.Command {
	var most int
	cmd := &cobra.Command{Use: "browse PLACE[/FOLDER]", Short: "The files of a folder of a place, and below it", Args: arguments(1, 1),
		RunE: c.call(func(ctx context.Context, service *client.Client, args []string) error {
			name, folder, _ := strings.Cut(strings.TrimPrefix(args[0], "place:"), "/")
			list, err := service.BrowsePlace(ctx, name, folder, most)
			if err != nil {
				return err
			}
			return c.show(list, func() {
				t := &grid{head: []string{"FILE", "SIZE", "MODIFIED", "PROBLEM"}}
				for _, f := range list.Items {
					t.add(text(f.Path), text(bytesOf(f.Size)), when(&f.Modified), text(f.Problem))
				}
				t.write(c.out)
				if list.More {
					fmt.Fprintf(c.out, "And more; --limit shows up to 1000 of them.\n")
				}
			})
		})}
	cmd.Flags().IntVar(&most, "limit", 100, "how many, 1 to 1000")
	return cmd
}
