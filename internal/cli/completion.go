package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/client"
)

// complete lets a shell complete the feeds, arrivals and outlets that a command and those below it
// take.
func (c *command) complete(cmd *cobra.Command) {
	if cmd.ValidArgsFunction == nil {
		for word, of := range map[string]func(context.Context, *client.Client, string) ([]string, error){
			"FEED": feedNames, "ARRIVAL": arrivalNumbers, "ID": arrivalNumbers, "OUTLET": outletNames} {
			if strings.Contains(cmd.Use, " "+word) || strings.Contains(cmd.Use, "["+word) || strings.Contains(cmd.Use, "|"+word) {
				cmd.ValidArgsFunction = c.completing(of)
				break
			}
		}
	}
	for _, below := range cmd.Commands() {
		c.complete(below)
	}
}

// completing asks the service for what an argument can be. Where it does not answer at once,
// nothing is completed.
func (c *command) completing(of func(context.Context, *client.Client, string) ([]string, error)) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		const patience = 2 * time.Second
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		service, err := c.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		list, err := of(ctx, service, begun)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}

func feedNames(ctx context.Context, service *client.Client, begun string) (out []string, err error) {
	const most = 1000
	list, err := service.Feeds(ctx, client.FeedQuery{Text: begun, Most: most})
	for _, f := range list.Items {
		if strings.HasPrefix(f.Name, begun) {
			out = append(out, f.Name+"\t"+f.About)
		}
	}
	return out, err
}

func arrivalNumbers(ctx context.Context, service *client.Client, begun string) (out []string, err error) {
	const most = 100
	list, err := service.Arrivals(ctx, client.ArrivalQuery{Most: most})
	for _, a := range list.Items {
		if n := fmt.Sprint(a.ID); strings.HasPrefix(n, begun) {
			out = append(out, fmt.Sprintf("%s\t%s, %s", n, a.Path, a.State))
		}
	}
	return out, err
}

func outletNames(ctx context.Context, service *client.Client, begun string) (out []string, err error) {
	list, err := service.Outlets(ctx)
	for _, o := range list.Items {
		if strings.HasPrefix(o.Name, begun) {
			out = append(out, o.Name+"\t"+o.Way)
		}
	}
	return out, err
}
