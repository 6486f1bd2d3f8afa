package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/demo"
	"twinshelf/internal/demo/cutoff"
	"twinshelf/internal/demo/walk"
	"twinshelf/internal/workshop"
)

func demoCommand(o *options, screen Screen) *cobra.Command {
	var keep string
	var whole, only bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open the full screen on a bench of stand-in disks",
		Long: "Makes the disks of a small ferry line's machines and a shelf with dated twins in a\n" +
			"folder of its own, which is thrown away at the end unless --keep names one.\n" +
			"Nothing outside that folder is read or written; no root is needed.\n" +
			"The Booking office's system is locked, and sleeps: the recovery key on its paper is\n" +
			demo.BookingKey + ".",
		Example: "  twinshelf demo\n  twinshelf demo --keep /tmp/ferry\n  twinshelf demo --walk",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir := keep
			if dir == "" {
				var err error
				if dir, err = os.MkdirTemp("", "twinshelf-demo-"); err != nil {
					return err
				}
				defer os.RemoveAll(dir)
			}
			if whole {
				return o.walk(cmd.Context(), dir)
			}
			b, err := demo.Build(cmd.Context(), dir, workshop.Tool())
			if err != nil {
				return err
			}
			if err := cutoff.Leave(cmd.Context(), b); err != nil {
				return err
			}
			if only {
				if o.json {
					return o.print(map[string]any{"disk_folder": b.Disks, "shelf_folder": b.Shelf})
				}
				o.say("disks in %s, shelf in %s", b.Disks, b.Shelf)
				return nil
			}
			if o.json {
				return usageError{fmt.Errorf("a screen says nothing as JSON: give --walk, or --keep with --only-make")}
			}
			o.logTo(b.State)
			w, err := workshop.New(b.State, []string{b.Disks}, false)
			if err != nil {
				return err
			}
			w.Demo, w.Paper = true, "On the paper that came with it: "+demo.BookingKey
			if err := w.OpenShelf(cmd.Context(), b.Shelf); err != nil {
				return err
			}
			if err := o.show(cmd.Context(), screen, w); err != nil {
				return err
			}
			if keep != "" {
				fmt.Fprintf(o.err, "The demo is kept in %s.\n", keep)
			}
			return nil
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "a new folder for the demo, kept afterwards")
	c.Flags().BoolVar(&whole, "walk", false, "run the whole job without a screen and say what happens")
	c.Flags().BoolVar(&only, "only-make", false, "with --keep: make the disks and the shelf, and open no screen")
	return c
}

// walk runs the whole job of the demo.
func (o *options) walk(ctx context.Context, dir string) error {
	if !o.json {
		return walk.Run(ctx, dir, o.out)
	}
	var said bytes.Buffer
	if err := walk.Run(ctx, dir, &said); err != nil {
		return err
	}
	return o.print(map[string]any{"steps": strings.Split(strings.TrimSpace(said.String()), "\n")})
}
