package cli

import (
	"fmt"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/bench"
	"twinshelf/internal/units"
)

func benchCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:     "bench [DISK]",
		Short:   "Show what is attached, and what is on it",
		Example: "  twinshelf bench\n  twinshelf bench --disk images/\n  twinshelf bench /dev/sdb --json",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			disks, err := o.probed(cmd.Context(), w, args...)
			if err != nil {
				return err
			}
			if o.json {
				var out []answer.Disk
				for _, d := range disks {
					out = append(out, answer.DiskOf(d))
				}
				if err := o.print(map[string]any{"disks": out}); err != nil {
					return err
				}
				return problemOf(disks, len(o.disks) > 0)
			}
			for i, d := range disks {
				if i > 0 {
					o.say("")
				}
				o.showDisk(d)
			}
			if len(disks) == 0 {
				o.say("No disk is attached. Attach one, or name image files with --disk.")
			}
			if os.Geteuid() != 0 && w.Bench.System {
				fmt.Fprintln(o.err, "note: without root only what the kernel tells about attached disks is shown; "+
					"run as root to see what is on them")
			}
			return problemOf(disks, len(o.disks) > 0)
		},
	}
}

// problemOf turns a disk that was asked for and can't be read into a failure.
func problemOf(disks []*bench.Disk, named bool) error {
	for _, d := range disks {
		if named && d.Image && d.Problem != "" {
			return fmt.Errorf("%s: %s", d.Path, d.Problem)
		}
	}
	return nil
}

func (o *options) showDisk(d *bench.Disk) {
	id := d.Identity
	o.say("%s  %s  %s  %s", d.Path, id.Model, units.Bytes(id.Size), id.Bus)
	o.say("  serial %s   sectors of %d bytes   %s", orNone(id.Serial), id.Sector, units.Exact(id.Size))
	o.say("  %s", d.Words())
	if m := d.MountWords(); m != "" {
		o.say("  %s", m)
	}
	if d.Reach != "" {
		o.say("  out of reach: %s", d.Reach)
	}
	if d.Health.Told() {
		o.say("  %s", d.Health.Words())
	}
	if d.Survey == nil {
		return
	}
	t := tabwriter.NewWriter(o.out, 2, 8, 2, ' ', 0)
	for _, a := range d.Survey.Parts() {
		used := units.Bytes(a.Content.Used) + " in use"
		if !a.Content.Maps {
			used = "all of it is read: " + a.Content.Why
		}
		fmt.Fprintf(t, "    %d\t%s\t%s\t%s\t%s\t%s\n", a.Part.Number, a.Role, a.Holds(), a.Title(),
			units.Bytes(a.Span.Len()), used)
		for _, words := range a.InnerWords() {
			fmt.Fprintf(t, "    \t\t\t%s\n", words)
		}
	}
	t.Flush()
	for _, f := range d.Survey.Table.Findings {
		o.say("  %s: %s", f.Severity, f.Text)
	}
	for _, n := range d.Survey.Notes {
		o.say("  %s", n)
	}
	for _, s := range d.Systems {
		o.say("  %s", strings.Join(s.Words(), ". "))
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
