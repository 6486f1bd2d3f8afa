package cli

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/scene"
	"twinshelf/internal/sheet"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func drawCommand(o *options) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "draw REF", Short: "Draw the parts of a twin's disks, or of an attached disk, to scale",
		Long: refHelp +
			"FILE ends in .svg or .pdf. Patterns say what colours say, so that it can be printed in black.",
		Example: "  twinshelf draw \"Purser's laptop\" --to laptop.svg\n  twinshelf draw 40B1 --to desk.pdf",
		Args:    exactly("a twin or a disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{errors.New("name the file: --to FILE.svg, or --to FILE.pdf")}
			}
			_, statErr := os.Stat(args[0])
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			from, err := o.insideLook.origin(cmd.Context(), w, args[0], statErr == nil)
			if err != nil {
				return err
			}
			title := from.Title()
			if from.Twin != nil {
				title += ", " + units.Moment(from.Twin.Taken)
			}
			var strips []scene.Strip
			for _, d := range workshop.DisksOf(from) {
				strips = append(strips, sheet.StripOf("", d))
			}
			b, err := sheet.Drawing(filepath.Ext(to), title, strips, false, time.Now())
			if err != nil {
				return err
			}
			if err := workshop.WriteNew(to, b); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"file": to, "bytes": len(b)})
			}
			o.say("%s is drawn in %s.", title, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the file to make: .svg or .pdf; nothing is written over")
	return c
}
