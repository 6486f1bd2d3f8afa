package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"twinshelf/internal/ready"
	"twinshelf/internal/units"
)

func checkDiskCommand(o *options) *cobra.Command {
	var plan bool
	c := &cobra.Command{
		Use:   "check DISK",
		Short: "Read every sector of a disk, writing nothing",
		Long: "Reads every sector of a disk and says which can't be read and where it is slow. Nothing on it is " +
			"changed.\n" +
			"\"ready erase DISK --how check\" writes every sector too, for a drive that is to be trusted.",
		Example: "  twinshelf ready check A0D2\n  twinshelf ready check /dev/sdb --plan",
		Args:    exactly("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			disks, err := listed(w, args)
			if err != nil {
				return err
			}
			d := disks[0]
			if d.Problem != "" {
				return errors.New(d.Path + ": " + d.Problem)
			}
			d.Health = w.Bench.Health(cmd.Context(), d)
			p, err := w.PlanSurface(d)
			if err != nil {
				return err
			}
			took := p.Expected().Total()
			u := undertaking{plan: plan, planned: map[string]any{"identity": d.Identity, "seconds": took},
				show: func() {
					o.say("Every sector of %s is read, about %s; nothing is written.", d.Identity.Model,
						units.Duration(took))
				}}
			u.work = func() error {
				err := afterCancel(o.follow(w.StartSurface(cmd.Context(), p)), "nothing on the disk is changed")
				if err != nil && !errors.Is(err, ready.ErrSurface) {
					return err
				}
				if o.json {
					err = errors.Join(err, o.print(map[string]any{"identity": d.Identity, "surface": p.Found}))
				} else {
					for _, s := range p.Found.Words("read") {
						o.say("%s.", s)
					}
				}
				if errors.Is(err, ready.ErrSurface) {
					return doubtful{err}
				}
				return err
			}
			err = o.undertake(u)
			if plan {
				p.Close()
			}
			return err
		},
	}
	c.Flags().BoolVar(&plan, "plan", false, "only show what would be done")
	return c
}
