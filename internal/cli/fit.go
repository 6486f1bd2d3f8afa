package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/fit"
	"twinshelf/internal/sizes"
)

// fitFlags say what shall become of the parts on a target of another size.
type fitFlags struct {
	keep       bool
	grow, size []string
	without    []int
}

func (f *fitFlags) flags(c *cobra.Command) {
	c.Flags().BoolVar(&f.keep, "keep", false, "let no part grow")
	c.Flags().StringArrayVar(&f.grow, "grow", nil, "let a part take the room: its number, or NUMBER:SHARE; may be repeated")
	c.Flags().StringArrayVar(&f.size, "size", nil, "NUMBER=SIZE: make a part this large; may be repeated")
	c.Flags().IntSliceVar(&f.without, "without", nil, "leave a part out: its number; may be repeated")
}

// wish turns the flags into a wish for a target of so many bytes.
func (f *fitFlags) wish(target int64) (fit.Wish, error) {
	w := fit.Wish{Keep: f.keep, Parts: map[int]fit.PartWish{}}
	if f.keep && len(f.grow)+len(f.size) > 0 {
		return w, usageError{fmt.Errorf("--keep lets nothing grow: leave it out, or leave --grow and --size out")}
	}
	for _, s := range f.grow {
		number, share, shared := strings.Cut(s, ":")
		n, err := strconv.Atoi(number)
		k := 1
		if err == nil && shared {
			k, err = strconv.Atoi(share)
		}
		if err != nil || k < 1 || k > 1000 {
			return w, usageError{fmt.Errorf("--grow %s: write the part's number, or NUMBER:SHARE such as 3:2", s)}
		}
		w.Parts[n] = fit.PartWish{Share: k}
	}
	for _, s := range f.size {
		number, text, ok := strings.Cut(s, "=")
		n, err := strconv.Atoi(number)
		if err != nil || !ok {
			return w, usageError{fmt.Errorf("--size %s: write NUMBER=SIZE such as 3=400GB", s)}
		}
		size, err := sizes.Parse(text, sizes.Room{Disk: target, Rest: target})
		if err != nil {
			return w, usageError{fmt.Errorf("--size %s: %w", s, err)}
		}
		w.Parts[n] = fit.PartWish{Size: size.Bytes}
	}
	for _, n := range f.without {
		w.Parts[n] = fit.PartWish{Leave: true}
	}
	return w, nil
}

// fittedPart is a part before and after, for --json.
type fittedPart struct {
	Part    int    `json:"part"`
	Kind    string `json:"kind,omitempty"`
	From    int64  `json:"from"`
	Size    int64  `json:"size"`
	To      int64  `json:"to"`
	NewSize int64  `json:"new_size"`
	Volume  int64  `json:"volume,omitempty"`
	Becomes int64  `json:"volume_becomes,omitempty"`
	LeftOut bool   `json:"left_out,omitempty"`
	Fixed   string `json:"cannot_grow,omitempty"`
}

func fitParts(p *fit.Plan) []fittedPart {
	out := []fittedPart{}
	for _, x := range p.Parts {
		out = append(out, fittedPart{x.Part.Number, x.Kind, x.From.Start, x.From.Len(), x.To.Start, x.To.Len(), x.Volume, x.Becomes, x.To.Empty(), x.Fixed})
	}
	return out
}
