package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/core/feed"
)

func (c *command) volumes() *cobra.Command {
	var q client.VolumeQuery
	var from, to string
	cmd := &cobra.Command{Use: "volumes [FEED]", Short: "Work over a span: files, rows, bytes, seconds, and what it cost",
		Example: "  mullein volumes --from 7d --by day\n  mullein volumes gauge-readings --from 2026-11-01 --by month -o csv\n" +
			"  mullein volumes --feeds --from 30d\n  mullein volumes --suppliers --by week --from 84d",
		Args: arguments(0, 1), RunE: c.call(func(ctx context.Context, service *client.Client, args []string) (err error) {
			if len(args) > 0 {
				q.Feed = args[0]
			}
			now := time.Now()
			if q.From, err = moment(from, now); err != nil {
				return err
			}
			if q.To, err = moment(to, now); err != nil {
				return err
			}
			list, err := service.Volumes(ctx, q)
			if err != nil {
				return err
			}
			return c.show(list, func() { c.volumeTable(list, q) })
		})}
	cmd.Flags().StringVar(&from, "from", "1d", "from when: a day, a time, or so long ago, such as 7d")
	cmd.Flags().StringVar(&to, "to", "", "until when; default: now")
	cmd.Flags().StringVar(&q.By, "by", "hour", "hour, or day, week or month of UTC; hours are known for 90 days, days for ten years")
	cmd.Flags().StringVar(&q.Supplier, "supplier", "", "only feeds of this supplier")
	cmd.Flags().BoolVar(&q.Feeds, "feeds", false, "by feed, those with the most seconds of work first")
	cmd.Flags().BoolVar(&q.Suppliers, "suppliers", false, "each span of time apart by supplier")
	cmd.Flags().IntVar(&q.Most, "limit", 1000, "how many lines, 1 to 10000")
	return cmd
}

// moment reads a day, a time, or how long ago something was; the zero time for nothing.
func moment(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if ago, err := feed.ParseSpan(text); err == nil {
		return now.Add(-ago), nil
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02T15:04", time.RFC3339} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, usageError{fmt.Errorf("%q is no time; write 2026-11-28, 2026-11-28T06:00, or 7d for seven days ago", text)}
}

func (c *command) volumeTable(list api.VolumeList, q client.VolumeQuery) {
	if len(list.Items) == 0 {
		fmt.Fprintln(c.out, "No work in that span.")
		return
	}
	first := map[bool]string{false: "FROM", true: "FEED"}[q.Feeds]
	head := []string{first}
	if q.Suppliers && !q.Feeds {
		head = append(head, "SUPPLIER")
	}
	head = append(head, "FILES", "REFUSED", "READ", "INSERTED", "UPDATED", "UNCHANGED", "REJECTED", "MB", "SECONDS", "DB", "VISIBLE 95%", "LATE 95%")
	if list.Total.Requests > 0 {
		head = append(head, "REQUESTS")
	}
	if list.Total.Cost != nil {
		head = append(head, "COST")
	}
	t := &grid{head: head}
	add := func(name string, v api.Volume) {
		cells := []cell{text(name)}
		if q.Suppliers && !q.Feeds {
			cells = append(cells, text(v.Supplier))
		}
		cells = append(cells, integer(v.Files), integer(v.Refused), integer(v.Balance.Read), integer(v.Balance.Inserted),
			integer(v.Balance.Updated), integer(v.Balance.Unchanged), integer(v.Balance.Rejected), decimal(float64(v.Bytes)/1e6),
			decimal(v.Seconds), decimal(v.DBSeconds), below(v.Lag.P95), below(v.Late.P95))
		if list.Total.Requests > 0 {
			cells = append(cells, integer(v.Requests))
		}
		if v.Cost != nil {
			cells = append(cells, cell{text: fmt.Sprintf("%.4f %s", *v.Cost, harmless(list.Currency)), number: true})
		}
		t.add(cells...)
	}
	layout := map[string]string{"hour": "2006-01-02 15:04", "day": time.DateOnly, "week": time.DateOnly, "month": "2006-01"}[q.By]
	for _, v := range list.Items {
		name := v.Feed
		if v.At != nil {
			name = v.At.UTC().Format(layout)
		}
		add(name, v)
	}
	add("all", list.Total)
	t.write(c.out)
}

func decimal(x float64) cell { return cell{text: fmt.Sprintf("%.1f", x), number: true} }

// below writes below which time a share of files stayed.
func below(seconds *float64) cell {
	if seconds == nil {
		return cell{text: "-", number: true}
	}
	return cell{text: "< " + (time.Duration(*seconds) * time.Second).String(), number: true}
}
