package cli

import (
	"os"

	"github.com/spf13/cobra"

	"mullein/internal/settings"
)

func (c *command) settingsCommand() *cobra.Command {
	return &cobra.Command{Use: "settings", Short: "List the settings, and where each comes from", Args: arguments(0, 0),
		Long: `Lists what holds for a service that is started here with this home folder: from its file, over it from
the environment, over that by flags of ` + "`mullein serve`" + `, which are not known here. Secrets are not shown. A
file that is wrong is answered with the line and what would be right.`,
		RunE: func(*cobra.Command, []string) error {
			l, err := settings.Read(settings.From{Home: c.home, File: c.settings, Environ: os.Environ()})
			if err != nil {
				return err
			}
			list := struct {
				Items []settings.Value `json:"items"`
			}{l.List()}
			return c.show(list, func() {
				t := &grid{head: []string{"SETTING", "VALUE", "FROM"}}
				for _, v := range list.Items {
					t.add(text(v.Name), text(v.Value), text(v.Source))
				}
				t.write(c.out)
			})
		}}
}
