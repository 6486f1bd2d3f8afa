package cli

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/units"
)

// TestWishes: what the flags say becomes what is wished, for each disk its own.
func TestWishes(t *testing.T) {
	parts := func(m map[int]fit.PartWish) plan.Wish { return plan.Wish{Wish: fit.Wish{Parts: m}} }
	none := map[int]fit.PartWish{}
	for name, c := range map[string]struct {
		flags fitFlags
		disk  int // of two, from 0; -1 for the only one
		want  plan.Wish
	}{
		"nothing":  {fitFlags{}, -1, parts(none)},
		"keep":     {fitFlags{keep: true}, -1, plan.Wish{Wish: fit.Wish{Keep: true, Parts: none}}},
		"grow one": {fitFlags{grow: []string{"3"}}, -1, parts(map[int]fit.PartWish{3: {Share: 1}})},
		"by shares": {fitFlags{grow: []string{"3:2", "4:1"}}, -1,
			parts(map[int]fit.PartWish{3: {Share: 2}, 4: {Share: 1}})},
		"a size":     {fitFlags{size: []string{"3=400GB"}}, -1, parts(map[int]fit.PartWish{3: {Size: 400 * units.GB}})},
		"least":      {fitFlags{size: []string{"2=least"}}, -1, parts(map[int]fit.PartWish{2: {Least: true}})},
		"left out":   {fitFlags{without: []string{"4"}}, -1, parts(map[int]fit.PartWish{4: {Leave: true}})},
		"the first":  {fitFlags{grow: []string{"1/2", "2/3"}}, 0, parts(map[int]fit.PartWish{2: {Share: 1}})},
		"the second": {fitFlags{grow: []string{"1/2", "2/3"}}, 1, parts(map[int]fit.PartWish{3: {Share: 1}})},
		"fresh, as is": {fitFlags{fresh: true, asIs: true}, -1,
			plan.Wish{Wish: fit.Wish{Parts: none}, Fresh: true, AsItStarts: true}},
		"a new part": {fitFlags{keep: true, fill: "ext4:SPARE"}, -1,
			plan.Wish{Wish: fit.Wish{Keep: true, Parts: none}, NewPart: plan.NewPart{Kind: "ext4", Label: "SPARE"}}},
	} {
		i, n := c.disk, 2
		if i < 0 {
			i, n = 0, 1
		}
		got, err := c.flags.wish(i, n, units.TB)
		if err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
}

// TestWishesThatCantBe are mistakes of whoever typed them, and say what to write.
func TestWishesThatCantBe(t *testing.T) {
	for says, f := range map[string]fitFlags{
		"--keep lets nothing grow":    {keep: true, grow: []string{"3"}},
		"write the part's number, or": {grow: []string{"three"}},
		"a share of 0":                {grow: []string{"3:0"}},
		"a share of 1001":             {grow: []string{"3:1001"}},
		"write NUMBER=SIZE":           {size: []string{"3"}},
		"--size x=1GB":                {size: []string{"x=1GB"}},
		"write the part's number (":   {without: []string{"boot"}},
	} {
		_, err := f.wish(0, 1, units.TB)
		var usage usageError
		if !errors.As(err, &usage) || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
	for says, entry := range map[string]string{"say of which disk": "3", "is no disk": "x/3"} {
		f := fitFlags{grow: []string{entry}}
		if _, err := f.wish(0, 2, units.TB); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
}
