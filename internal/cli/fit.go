package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/sizes"
)

// fitFlags say what shall become of the parts on a target of another size.
type fitFlags struct {
	keep       bool
	grow, size []string
	without    []string
	anew       bool
	asIs       bool
	fresh      bool
	// hardware has a Windows start with other controllers.
	hardware bool
	fill     string
	// unlocked has unlocked volumes written without their encryption.
	unlocked bool
	// gapText and gapList say what becomes of gaps in files.
	gapText string
	gapList bool
}

func (f *fitFlags) flags(c *cobra.Command) {
	c.Flags().BoolVar(&f.keep, "keep", false, "keep every part at its size")
	c.Flags().StringArrayVar(&f.grow, "grow", nil, "let a part take the extra space: its number, or NUMBER:SHARE; "+
		"may be repeated")
	c.Flags().StringArrayVar(&f.size, "size", nil, "NUMBER=SIZE: make a part this large (least: as small as it "+
		"gets); may be repeated")
	c.Flags().StringArrayVar(&f.without, "without", nil, "leave a part out: its number; may be repeated")
	c.Flags().BoolVar(&f.asIs, "no-repair", false, "leave start-up files and code as they are, even where they "+
		"could be repaired")
	c.Flags().BoolVar(&f.hardware, "other-hardware", false, "have a Windows load, when it starts, all drivers for "+
		"disks that it has, for a machine with another controller")
	c.Flags().BoolVar(&f.fresh, "fresh-identity", false, "give the target identities of its own, so that both disks "+
		"can stay in one machine")
	c.Flags().StringVar(&f.fill, "fill", "", "KIND or KIND:LABEL: make a new part with this file system in the "+
		"space left over (with --keep or --size)")
	c.Flags().BoolVar(&f.unlocked, "unlocked", false,
		"write encrypted volumes that are unlocked (--key-file, --unlock) "+
			"without their encryption: they can grow, and need no key to start")
	c.Flags().StringVar(&f.gapText, "gap-text", "", "put this text, over and over, into the gaps of files that "+
		"couldn't be read whole (instead of zeros)")
	c.Flags().BoolVar(&f.gapList, "gap-list", false, "put a list of the files with gaps, "+plan.ListName+
		", into the root folder of each file system that has some")
	c.Flags().BoolVar(&f.anew, "anew", false, "write everything again, even what an earlier run wrote before it was "+
		"cut off")
}

// mine strips the number of the disk ("2/" in front) from an entry, and says whether it is meant for disk i of n, from
// 0.
func mine(s string, i, n int) (entry string, yes bool, err error) {
	number, rest, named := strings.Cut(s, "/")
	if !named {
		if n > 1 {
			return "", false, usageError{fmt.Errorf("%s: say of which disk, as DISK/PART, such as 2/%s", s, s)}
		}
		return s, true, nil
	}
	d, err := strconv.Atoi(number)
	if err != nil || d < 1 {
		return "", false, usageError{fmt.Errorf("%s: %q is no disk", s, number)}
	}
	return rest, d == i+1, nil
}

// wish turns the flags into a wish for disk i of n, from 0, on a target of so many bytes.
func (f *fitFlags) wish(i, n int, target int64) (plan.Wish, error) {
	w := plan.Wish{Wish: fit.Wish{Keep: f.keep, Parts: map[int]fit.PartWish{}}, AsItStarts: f.asIs, Fresh: f.fresh,
		OtherHardware: f.hardware,
		Unlocked:      f.unlocked, Gaps: plan.Gaps{Text: f.gapText, List: f.gapList}}
	if f.keep && len(f.grow)+len(f.size) > 0 {
		return w, usageError{fmt.Errorf("--keep lets nothing grow: leave it out, or leave --grow and --size out")}
	}
	each := func(flag string, entries []string, how string, parse func(string) (int, fit.PartWish, error)) error {
		for _, s := range entries {
			entry, yes, err := mine(s, i, n)
			if err != nil {
				return err
			}
			if !yes {
				continue
			}
			part, wish, err := parse(entry)
			if err != nil {
				return usageError{fmt.Errorf("--%s %s: %s (%w)", flag, s, how, err)}
			}
			w.Parts[part] = wish
		}
		return nil
	}
	if err := each("grow", f.grow, "write the part's number, or NUMBER:SHARE such as 3:2",
		func(s string) (int, fit.PartWish, error) {
			number, share, shared := strings.Cut(s, ":")
			part, err := strconv.Atoi(number)
			k := 1
			if err == nil && shared {
				k, err = strconv.Atoi(share)
			}
			if err == nil && (k < 1 || k > 1000) {
				err = fmt.Errorf("a share of %d", k)
			}
			return part, fit.PartWish{Share: k}, err
		}); err != nil {
		return w, err
	}
	if err := each("size", f.size, "write NUMBER=SIZE such as 3=400GB", func(s string) (int, fit.PartWish, error) {
		number, text, _ := strings.Cut(s, "=")
		part, err := strconv.Atoi(number)
		if err != nil {
			return 0, fit.PartWish{}, err
		}
		if text == "least" {
			return part, fit.PartWish{Least: true}, nil
		}
		size, err := sizes.Parse(text, sizes.Room{Disk: target, Rest: target})
		return part, fit.PartWish{Size: size.Bytes}, err
	}); err != nil {
		return w, err
	}
	w.NewPart.Kind, w.NewPart.Label, _ = strings.Cut(f.fill, ":")
	return w, each("without", f.without, "write the part's number", func(s string) (int, fit.PartWish, error) {
		part, err := strconv.Atoi(s)
		return part, fit.PartWish{Leave: true}, err
	})
}
