package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func watchRoutinesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "watch", Short: "Run routines when they are due, until it is ended", Args: cobra.NoArgs,
		Long: "Looks every 15 seconds which routines are due, and runs them one after the other. What was\n" +
			"missed while it didn't run is made up for once.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			return w.WatchRoutines(cmd.Context(), o.follow, told(o))
		},
	}
}

func told(o *options) workshop.Told {
	return func(name, what string) {
		o.say("%s  %s: %s", time.Now().Format("2006-01-02 15:04:05"), name, what)
	}
}

func dueRoutinesCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "due", Short: "Run the routines that are due now, and end", Args: cobra.NoArgs,
		Long: "What \"routine watch\" does every 15 seconds, once: for systemd (\"routine service\") or another\n" +
			"program that starts it every minute. Disks count as attached since they were seen first.",
		Example: "  twinshelf routine due",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			said := []string{}
			failed, err := w.RunDue(cmd.Context(), o.follow, func(name, what string) {
				if said = append(said, name+": "+what); !o.json {
					told(o)(name, what)
				}
			})
			if o.json && err == nil {
				err = o.print(map[string]any{"said": said, "failed": failed})
			}
			if err == nil && failed > 0 {
				err = fmt.Errorf("%s failed; \"twinshelf routine show NAME\" says why", units.Plural(failed, "routine"))
			}
			return err
		},
	}
}

func serviceCommand(o *options) *cobra.Command {
	var install, remove bool
	c := &cobra.Command{
		Use: "service", Short: "Show, install or remove what has systemd run routines", Args: cobra.NoArgs,
		Long: "Without flags it shows the files: a service, a timer that starts it every minute and, as root, a\n" +
			"rule that starts it when a disk is attached. They are for the machine as root, otherwise for the\n" +
			"person. All times stay in the routines: one that is made later needs nothing else. A file that was\n" +
			"edited by hand is neither overwritten nor removed.",
		Example: "  twinshelf routine service",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			s, err := w.Service(cmd.Context())
			if err != nil {
				return err
			}
			did := ""
			switch {
			case install:
				did, err = "installed", s.Install(cmd.Context())
			case remove:
				did, err = "removed", s.Remove(cmd.Context())
			}
			if errors.As(err, new(*workshop.Edited)) {
				err = refusal{err}
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"unit_files": answer.UnitFilesOf(s.Units), "in_place": s.Installed()})
			}
			for _, u := range s.Units {
				if did != "" {
					o.say("%s is %s.", u.Path, did)
					continue
				}
				o.say("# %s", u.Path)
				fmt.Fprintln(o.out, u.Text)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&install, "install", false, "write the files and switch the timer on")
	c.Flags().BoolVar(&remove, "remove", false, "switch the timer off and remove the files")
	c.MarkFlagsMutuallyExclusive("install", "remove")
	return c
}
