package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"twinshelf/internal/workshop"
)

func mountCommand(o *options) *cobra.Command {
	var writable bool
	c := &cobra.Command{
		Use:     "mount DISK PART",
		Short:   "Mount a part read-only, or writable for a new shelf (as root)",
		Example: "  twinshelf ready mount /dev/sdd 1\n  twinshelf ready mount /dev/sdd 1 --writable",
		Args:    exactly("the disk", "the number of the part"),
		RunE: func(cmd *cobra.Command, args []string) error {
			number, err := strconv.Atoi(args[1])
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a part", args[1])}
			}
			w, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			how := "read-only"
			var dir string
			if writable {
				how = "writable"
				dir, err = w.MountWritable(cmd.Context(), d, number)
			} else {
				dir, err = workshop.Mount(d, number)
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"mounted_at": dir, "writable": writable})
			}
			o.say("Mounted %s at %s", how, dir)
			return nil
		},
	}
	c.Flags().BoolVar(&writable, "writable", false, "mount it read-write, for a shelf; disks that were captured as "+
		"a machine's are refused")
	return c
}

func unmountCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:     "unmount DISK",
		Short:   "Unmount whatever is mounted of a disk (as root)",
		Example: "  twinshelf ready unmount /dev/sdd",
		Args:    exactly("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, d, err := o.readyWork.oneDisk(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			done, err := workshop.Unmount(d)
			if o.json && err == nil {
				return o.print(map[string]any{"unmounted": done})
			}
			for _, p := range done {
				o.say("Unmounted %s", p)
			}
			return err
		},
	}
}
