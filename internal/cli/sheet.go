package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/settings"
	"twinshelf/internal/sheet"
	"twinshelf/internal/workshop"
)

func sheetCommand(o *options) *cobra.Command {
	var to, only string
	var erasure, checks bool
	c := &cobra.Command{
		Use: "sheet [CASE]", Short: "Make the job sheet of a case, for the customer and for the file",
		Long: "The sheet says what was done to which disk, with a drawing of before and after, what the\n" +
			"proof came to, and on its later pages what engineers want to know. FILE.pdf is the whole\n" +
			"sheet, FILE.svg the drawing. --erasure makes the certificate of what was erased in the case\n" +
			"instead: only disks that were overwritten from end to end and read back are certified.\n" +
			"--checks makes the report of the drives that were checked from end to end.\n" +
			"--only customer leaves the pages for engineers out, --only engineers the others.",
		Example: "  twinshelf job sheet --to sheet.pdf\n" +
			"  twinshelf job sheet \"Harbour kiosk\" --to before-and-after.svg\n" +
			"  twinshelf job sheet --erasure --to erased.pdf\n" +
			"  twinshelf job sheet --checks --to checked.pdf",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{errors.New("name the file: --to FILE.pdf, or --to FILE.svg for the drawing")}
			}
			w, j, err := theJob(cmd.Context(), o, args)
			if err != nil {
				return err
			}
			if !slices.Contains([]sheet.Pages{"", sheet.ForCustomer, sheet.ForEngineers}, sheet.Pages(only)) {
				return usageError{fmt.Errorf("--only takes %s or %s, not %q", sheet.ForCustomer, sheet.ForEngineers,
					only)}
			}
			paper, noLogo := w.SheetOf(j, sheet.Pages(only))
			o.withoutLogo(noLogo)
			made := func() ([]byte, error) { return paper.As(filepath.Ext(to)) }
			if erasure {
				made = paper.Certificate
			}
			if checks {
				made = paper.Report
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
	c.Flags().StringVar(&only, "only", "", "customer or engineers: only the pages for them")
	c.Flags().BoolVar(&erasure, "erasure", false, "make the certificate of what was erased, as PDF")
	c.Flags().BoolVar(&checks, "checks", false, "make the report of the drives that were checked, as PDF")
	c.MarkFlagsMutuallyExclusive("erasure", "checks")
	c.Flags().StringVar(&to, "to", "", "the file to make: .pdf or .svg; nothing is written over")
	return c
}

// withoutLogo says that a paper is made without the logo that is set.
func (o *options) withoutLogo(why error) {
	if why != nil {
		fmt.Fprintf(o.err, "twinshelf: made without the logo: %v\n", why)
	}
}

func shopCommand(o *options) *cobra.Command {
	var given settings.Shop
	var address, offset string
	c := &cobra.Command{
		Use: "shop", Short: "Say who works here, as it is printed on papers; without flags it is shown",
		Example: "  twinshelf job shop --name \"Ternhouse Repairs\" --address \"Quay 4\\nSkarnholm\"\n" +
			"  twinshelf job shop --numbers F-YYYY-NNN --paper Letter --dates \"D Mon Y\"\n" +
			"  twinshelf job shop --labels A4-24 --label-offset 0.5,-1",
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
				{"numbers", &shop.Numbers, &given.Numbers}, {"paper", &shop.Paper, &given.Paper},
				{"logo", &shop.Logo, &given.Logo}, {"dates", &shop.Dates, &given.Dates},
				{"labels", &shop.Labels, &given.Labels}}
			changed := cmd.Flags().Changed("address") || offset != ""
			if offset != "" {
				if shop.LabelsRight, shop.LabelsBelow, err = sheet.Offset(offset); err != nil {
					return usageError{err}
				}
			}
			if cmd.Flags().Changed("address") {
				shop.Address = strings.Split(strings.ReplaceAll(strings.TrimSpace(address), `\n`, "\n"), "\n")
			}
			for _, f := range fields {
				if cmd.Flags().Changed(f.flag) {
					*f.at, changed = strings.TrimSpace(*f.from), true
				}
			}
			if err := workshop.CheckShop(&shop, cmd.Flags().Changed("logo")); err != nil {
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
			o.say("%-12s%g mm to the right, %g mm down", "labels by", shop.LabelsRight, shop.LabelsBelow)
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
	f.StringVar(&given.Logo, "logo", "", "a PNG or SVG file that is printed at the top; \"\" for none")
	f.StringVar(&given.Dates, "dates", "", fmt.Sprintf("how dates are written: %s; \"\": as the system does",
		strings.Join(sheet.DateForms, ", ")))
	f.StringVar(&given.Labels, "labels", "", "sheets of labels that are used here: "+
		strings.Join(sheet.GridNames(), ", "))
	f.StringVar(&offset, "label-offset", "", "RIGHT,DOWN: by how many millimetres labels are moved for the printer")
	f.StringVar(&given.Paper, "paper", "", fmt.Sprintf("paper of the sheets: %s", strings.Join(sheet.Papers, " or ")))
	return c
}
