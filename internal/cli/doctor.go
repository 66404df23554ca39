package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"mullein/internal/core/feed"
	"mullein/internal/doctor"
	"mullein/internal/settings"
)

func (c *command) doctor(p Program) *cobra.Command {
	return &cobra.Command{Use: "doctor", Short: "Look at everything that keeps a service from working, on its machine",
		Args: arguments(0, 0), RunE: func(cmd *cobra.Command, _ []string) error {
			home, err := filepath.Abs(c.home)
			if err != nil {
				return err
			}
			said, err := settings.Read(settings.From{Home: c.home, File: c.settings, Environ: os.Environ()})
			if err != nil {
				return err
			}
			database, noDatabase := c.database(p, feed.MainConnection)
			list := struct {
				Items []doctor.Finding `json:"items"`
			}{doctor.Look(cmd.Context(), home, said, database, noDatabase)}
			wrong := false
			t := &grid{head: []string{"", "LOOKED AT", "SAW", "WAY OUT"}}
			for _, f := range list.Items {
				mark := cell{text: "good", color: "32"}
				if !f.Good {
					mark, wrong = cell{text: "wrong", color: "31"}, true
				}
				t.add(mark, text(f.Of), text(shorten(f.Saw, 90)), text(f.Way))
			}
			return c.checked(wrong, list, func() { t.write(c.out) })
		}}
}
