package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/settings"
	"twinshelf/internal/sheet"
	"twinshelf/internal/workshop"
)

func sheetCommand(o *options) *cobra.Command {
	var to string
	var erasure bool
	c := &cobra.Command{
		Use: "sheet [CASE]", Short: "Make the job sheet of a case, for the customer and for the file",
		Long: "The sheet says what was done to which disk, with a drawing of before and after, what the\n" +
			"proof came to, and on its later pages what engineers want to know. FILE.pdf is the whole\n" +
			"sheet, FILE.svg the drawing. --erasure makes the certificate of what was erased in the case\n" +
			"instead: only disks that were overwritten from end to end and read back are certified.",
		Example: "  twinshelf job sheet --to sheet.pdf\n" +
			"  twinshelf job sheet \"Harbour kiosk\" --to before-and-after.svg\n" +
			"  twinshelf job sheet --erasure --to erased.pdf",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{errors.New("name the file: --to FILE.pdf, or --to FILE.svg for the drawing")}
			}
			w, j, err := theJob(cmd.Context(), o, args)
			if err != nil {
				return err
			}
			paper := sheet.Sheet{Job: j, Shop: w.Shop(), Made: time.Now()}
			made := func() ([]byte, error) { return paper.As(filepath.Ext(to)) }
			if erasure {
				made = paper.Certificate
			}
			b, err := made()
			if err != nil {
				return err
			}
			if err := workshop.WriteNew(to, b); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"job": j.ID, "file": to, "bytes": len(b)})
			}
			o.say("The sheet of case %s is in %s.", j.Title(), to)
			return nil
		},
	}
	c.Flags().BoolVar(&erasure, "erasure", false, "make the certificate of what was erased, as PDF")
	c.Flags().StringVar(&to, "to", "", "the file to make: .pdf or .svg; nothing is written over")
	return c
}

func shopCommand(o *options) *cobra.Command {
	var given settings.Shop
	var address string
	c := &cobra.Command{
		Use: "shop", Short: "Say who works here, as it is printed on papers; without flags it is shown",
		Example: "  twinshelf job shop --name \"Ternhouse Repairs\" --address \"Quay 4\\nSkarnholm\"\n" +
			"  twinshelf job shop --numbers F-YYYY-NNN --paper Letter",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			shop := w.Shop()
			fields := []struct {
				flag     string
				at, from *string
			}{{"name", &shop.Name, &given.Name}, {"technician", &shop.Technician, &given.Technician},
				{"numbers", &shop.Numbers, &given.Numbers}, {"paper", &shop.Paper, &given.Paper}}
			changed := cmd.Flags().Changed("address")
			if changed {
				shop.Address = strings.Split(strings.ReplaceAll(strings.TrimSpace(address), `\n`, "\n"), "\n")
			}
			for _, f := range fields {
				if cmd.Flags().Changed(f.flag) {
					*f.at, changed = strings.TrimSpace(*f.from), true
				}
			}
			if err := sheet.CheckShop(shop); err != nil {
				return usageError{err}
			}
			if changed {
				if err := w.SetShop(shop); err != nil {
					return err
				}
			}
			if o.json {
				return o.print(map[string]any{"shop": shop})
			}
			for _, f := range fields {
				o.say("%-12s%s", f.flag, *f.at)
			}
			o.say("%-12s%s", "address", strings.Join(shop.Address, ", "))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&given.Name, "name", "", "name of the shop")
	f.StringVar(&address, "address", "", "its address; \\n begins a new line")
	f.StringVar(&given.Technician, "technician", "", "whose cases new ones are")
	f.StringVar(&given.Numbers, "numbers", "",
		"how cases are numbered: YYYY is the year, each N a digit of the running "+
			"number")
	f.StringVar(&given.Paper, "paper", "", fmt.Sprintf("paper of the sheets: %s", strings.Join(sheet.Papers, " or ")))
	return c
}
