package cli

import (
	"fmt"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"twinshelf/internal/bench"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

type benchPart struct {
	Number  int        `json:"number"`
	Start   int64      `json:"start"`
	Size    int64      `json:"size"`
	Role    table.Role `json:"role"`
	Type    string     `json:"type,omitempty"`
	Kind    string     `json:"file_system,omitempty"`
	Label   string     `json:"label,omitempty"`
	ID      string     `json:"id,omitempty"`
	Used    int64      `json:"used"`
	Maps    bool       `json:"used_from_maps"`
	Unclean string     `json:"unclean,omitempty"`
	Why     string     `json:"why_whole,omitempty"`
}

type benchDisk struct {
	*bench.Disk
	Words    string          `json:"words"`
	Mounted  []string        `json:"mounted_at,omitempty"`
	Table    table.Kind      `json:"table"`
	Findings []table.Finding `json:"findings,omitempty"`
	Parts    []benchPart     `json:"parts"`
	Used     int64           `json:"used"`
}

func describeDisk(d *bench.Disk) benchDisk {
	out := benchDisk{Disk: d, Words: d.Words(), Mounted: d.Points(), Parts: []benchPart{}}
	if d.Survey == nil {
		return out
	}
	out.Table, out.Findings, out.Used = d.Survey.Table.Kind, d.Survey.Table.Findings, d.Survey.Used()
	for _, a := range d.Survey.Parts() {
		c := a.Content
		out.Parts = append(out.Parts, benchPart{a.Part.Number, a.Span.Start, a.Span.Len(), a.Role, a.Part.Type,
			c.Info.Kind, c.Info.Label, c.Info.ID, c.Used, c.Maps, c.Info.Unclean, c.Why})
	}
	return out
}

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
				out := make([]benchDisk, 0, len(disks))
				for _, d := range disks {
					out = append(out, describeDisk(d))
				}
				return o.print(out)
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
				fmt.Fprintln(o.err, "note: without root only what the kernel tells about attached disks is shown; run "+
					"as root to see what is on them")
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
	}
	t.Flush()
	for _, f := range d.Survey.Table.Findings {
		o.say("  %s: %s", f.Severity, f.Text)
	}
	for _, n := range d.Survey.Notes {
		o.say("  %s", n)
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
