package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/bench"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/units"
)

func healthCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "health [DISK]",
		Short: "Show what the drives say of themselves: errors, wear, age, temperature",
		Long: "Asks the drives how they are (ATA SMART, NVMe, SCSI) and says what their answers mean. Nothing " +
			"on them is " +
			"read or changed. A drive without a fault in its own figures can fail all the same.",
		Example: "  twinshelf health\n  twinshelf health /dev/sdb --json",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			disks, err := listed(w, args)
			if err != nil {
				return err
			}
			out := []answer.DiskHealth{}
			for _, d := range disks {
				if d.Problem == "" {
					d.Health = w.Bench.Health(cmd.Context(), d)
				}
				out = append(out, answer.DiskHealth{Path: d.Path, Identity: d.Identity, Problem: d.Problem,
					Health: answer.HealthOf(d.Health)})
				if !o.json {
					showHealth(o, d)
				}
			}
			if o.json {
				err = o.print(map[string]any{"drives": out})
			}
			if err != nil {
				return err
			}
			return problemOf(disks, len(args)+len(o.disks) > 0)
		},
	}
}

func showHealth(o *options, d *bench.Disk) {
	o.say("%s  %s  %s  serial %s", d.Path, d.Identity.Model, units.Bytes(d.Identity.Size), orNone(d.Identity.Serial))
	if d.Problem != "" {
		o.say("  %s", d.Problem)
		return
	}
	o.say("  %s", d.Health.Words())
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, l := range d.HealthLines() {
		mark := " "
		if l.Level >= health.Watch {
			mark = "!"
		}
		fmt.Fprintf(t, "  %s\t%s\t%s\n", mark, l.Name, l.Value)
	}
	t.Flush()
}
