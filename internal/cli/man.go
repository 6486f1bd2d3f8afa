package cli

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"twinshelf/internal/workshop"
)

// manCommand makes the manual pages. It is for who packs the program, so the help doesn't list it.
func manCommand(o *options, root *cobra.Command) *cobra.Command {
	var to, date string
	c := &cobra.Command{
		Use: "man", Short: "Make the manual pages, one for each command", Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if to == "" {
				return usageError{errors.New("name the folder: --to FOLDER")}
			}
			day, err := time.Parse(time.DateOnly, date)
			if err != nil {
				return usageError{fmt.Errorf("--date %s: write it as 2026-11-29", date)}
			}
			if err := os.Mkdir(to, 0o755); err != nil {
				return fmt.Errorf("the folder can't be made: %w; name one that isn't there yet", err)
			}
			root.DisableAutoGenTag = true
			head := &doc.GenManHeader{Title: "TWINSHELF", Section: "1", Source: workshop.Tool(), Date: &day}
			if err := doc.GenManTree(root, head, to); err != nil {
				return err
			}
			o.say("The manual pages are in %s.", to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder to make; it must not be there yet")
	c.Flags().StringVar(&date, "date", time.Now().Format(time.DateOnly), "the date that the pages carry")
	return c
}
