package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/drive"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func stickCommand(o *options) *cobra.Command {
	c := &cobra.Command{Use: "stick", Short: "Start other machines into Twin Shelf",
		Long: "What starts another machine into Twin Shelf is made of a base, which is collected from the " +
			"packages of " +
			"this\nsystem, and of this program."}
	c.AddCommand(stickBaseCommand(o), stickMakeCommand(o), stickFilesCommand(o), stickCardCommand(o))
	return c
}

func stickBaseCommand(o *options) *cobra.Command {
	var to, kernel, from string
	c := &cobra.Command{
		Use:   "base [PACKAGE-FILE...]",
		Short: "Collect kernel, drivers, firmware and loaders into one file",
		Long: "Takes them from the system that is installed here (Debian and what is made from it), or from package " +
			"files\n(.deb) and folders of them. Missing pieces are named with the package that has them. The " +
			"file says " +
			"of every\npiece which package and version it comes from, and has a checksum of each.",
		Example: "  twinshelf stick base --to base.tsb\n" +
			"  twinshelf stick base --to base.tsb packages/",
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{errors.New("name the file: --to FILE")}
			}
			root := base.Installed(from)
			if len(args) > 0 {
				dir, err := os.MkdirTemp("", "twinshelf-base-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir)
				if root, err = base.Packages(cmd.Context(), dir, args); err != nil {
					return err
				}
			}
			var m *base.Manifest
			err := workshop.FillNew(to, func(w io.Writer) (err error) {
				m, err = base.Collect(cmd.Context(), w, root, kernel, time.Now())
				return err
			})
			if err != nil {
				return err
			}
			return showBase(o, m, to)
		},
	}
	c.Flags().StringVar(&to, "to", "", "the file to make; nothing is written over")
	c.Flags().StringVar(&kernel, "kernel", "", "release of the kernel (default: the newest that is for real machines)")
	c.Flags().StringVar(&from, "from", "/", "the root of the installed system to take the pieces from")
	return c
}

// showBase says what a base has.
func showBase(o *options, m *base.Manifest, file string) error {
	size := int64(0)
	for _, p := range m.Pieces {
		size += p.Size
	}
	if o.json {
		type version struct {
			Package string `json:"package"`
			Version string `json:"package_version"`
		}
		packages := []version{}
		for _, v := range m.Versions() {
			packages = append(packages, version{v.Package, v.Version})
		}
		return o.print(map[string]any{"file": file, "kernel": m.Kernel, "pieces": len(m.Pieces), "bytes": size,
			"packages": packages})
	}
	o.say("The base is in %s: kernel %s, %s, %s unpacked.", file, m.Kernel, units.Plural(len(m.Pieces), "piece"),
		units.Bytes(size))
	for _, v := range m.Versions() {
		o.say("  %s %s", v.Package, v.Version)
	}
	return nil
}

func stickFilesCommand(o *options) *cobra.Command {
	var to, program string
	c := &cobra.Command{
		Use:   "files BASE",
		Short: "Make the kernel and the first file system that start a machine into Twin Shelf",
		Long: "Makes vmlinuz and initrd.img in a new folder: for a loader of your own, or for machines that " +
			"start over " +
			"the\nnetwork. Twin Shelf is the first process there; with console=ttyS0,115200 on the kernel's " +
			"command line " +
			"it is\non the serial line too. The program must need no libraries (CGO_ENABLED=0 go build).",
		Example: "  twinshelf stick files base.tsb --to start",
		Args:    exactly("the base"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{errors.New("name the folder: --to FOLDER")}
			}
			b, err := workshop.StickProgram(program)
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			if err := os.Mkdir(to, 0o755); err != nil {
				return fmt.Errorf("the folder can't be made: %w; name one that isn't there yet", err)
			}
			var made *ramdisk.Files
			err = workshop.FillNew(filepath.Join(to, "initrd.img"), func(w io.Writer) (err error) {
				made, err = ramdisk.Make(cmd.Context(), w, f, b, nil)
				return err
			})
			if err == nil {
				err = workshop.FillNew(filepath.Join(to, "vmlinuz"), func(w io.Writer) error {
					_, err := io.Copy(w, bytes.NewReader(made.Kernel))
					return err
				})
			}
			if err != nil {
				return errors.Join(fmt.Errorf("%s: %w", args[0], err), os.RemoveAll(to))
			}
			if o.json {
				return o.print(map[string]any{"into": to, "kernel": made.Manifest.Kernel})
			}
			o.say("vmlinuz (%s) and initrd.img are in %s.", made.Manifest.Kernel, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder to make; it must not be there yet")
	c.Flags().StringVar(&program, "program", "", "the program to start (default: this one)")
	return c
}

func stickCardCommand(o *options) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "card", Short: "Make the card that goes with a stick: how to start a machine from it, and what if not",
		Args:    cobra.NoArgs,
		Example: "  twinshelf stick card --to stick.pdf",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := onlyPDF(to); err != nil {
				return err
			}
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			card, noLogo := w.StickCard()
			o.withoutLogo(noLogo)
			b, err := card.PDF()
			if err != nil {
				return err
			}
			if err := workshop.WriteNew(to, b); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"file": to, "bytes": len(b)})
			}
			o.say("The card is in %s.", to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the file to make: .pdf; nothing is written over")
	return c
}

func stickMakeCommand(o *options) *cobra.Command {
	var f writing
	var data drive.Data
	var program string
	var renew bool
	c := &cobra.Command{
		Use:   "make BASE DISK",
		Short: "Make a starting stick of a drive; nothing on it stays",
		Long: "The drive starts 64-bit PCs, with UEFI (Secure Boot on or off) and with a BIOS. The rest of it " +
			"can become a " +
			"part\nfor shelves (--data). With --renew a stick that was made before gets another system, and " +
			"everything " +
			"beside it stays.",
		Example: "  twinshelf stick make base.tsb 7731 --data exFAT:oak --plan\n" +
			"  twinshelf stick make base.tsb /dev/sdd --data ext4:oak\n" +
			"  twinshelf stick make base.tsb /dev/sdd --renew",
		Args: exactly("the base", "the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := workshop.StickProgram(program)
			if err != nil {
				return err
			}
			from, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer from.Close()
			w, d, err := o.readyWork.oneDisk(cmd.Context(), args[1])
			if err != nil {
				return err
			}
			system, err := drive.Read(cmd.Context(), from, b)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			draft, err := workshop.DraftStick(d, system, data, renew)
			if err != nil {
				return err
			}
			return o.readyWork.carryOut(cmd.Context(), w, d, draft, f)
		},
	}
	f.flags(c)
	f.drawFlag(c)
	c.Flags().Func("data", "KIND or KIND:LABEL: a part for shelves in the rest of the drive, such as exFAT:oak",
		func(s string) error {
			data.Kind, data.Label, _ = strings.Cut(s, ":")
			return nil
		})
	c.Flags().BoolVar(&renew, "renew", false, "give a stick that was made before another system; everything "+
		"beside it stays")
	c.Flags().StringVar(&program, "program", "", "the program to start (default: this one)")
	c.MarkFlagsMutuallyExclusive("data", "renew")
	return c
}
