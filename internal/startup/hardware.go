package startup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/startup/windows"
)

// SystemHive is where a Windows keeps, among other things, which letters its drives have and which drivers it loads.
const SystemHive = "Windows/System32/config/SYSTEM"

// winWay looks at what the Windows on a disk say of themselves.
type winWay struct{ *checker }

// registries looks whether the Windows on parts of this disk find their drives, and from which controllers they start.
func (c *winWay) registries() {
	for i := range c.parts {
		p := &c.parts[i]
		if _, err := p.resolve(SystemHive); err != nil {
			continue
		}
		if err := errors.Join(c.settings(p), c.recovery(p)); err != nil {
			c.add(Finding{Way: References, Verdict: Doubt, Aside: true,
				Says: fmt.Sprintf("what the Windows on %s says of its drives, drivers and recovery can't be "+
					"told", p.where()),
				Evidence: err.Error()})
		}
	}
}

// settings changes in a registry what has to be changed, all at once.
func (c *winWay) settings(p *part) error {
	h, err := c.home(p)
	if err != nil {
		return err
	}
	reg, err := openRegistry(h, SystemHive)
	if err != nil {
		return err
	}
	letters, changed, err := c.letters(reg)
	if err != nil {
		return err
	}
	drivers, err := c.drivers(p, reg)
	if err != nil || !changed && len(drivers.does) == 0 {
		return err
	}
	var all []Finding
	if changed {
		all = append(all, Finding{Way: References, Verdict: Doubt,
			Says: fmt.Sprintf("the Windows on %s would give its drives other letters", p.where()),
			Repair: fmt.Sprintf("the Windows on %s keeps its drive letters (%s)", p.where(),
				strings.Join(letters, " "))})
	}
	if len(drivers.does) > 0 {
		all = append(all, Finding{Way: References, Verdict: Doubt, Aside: true,
			Says: fmt.Sprintf("the Windows on %s may not find its disk on %s", p.where(),
				strings.Join(drivers.asleep, ", ")),
			Repair: fmt.Sprintf("the Windows on %s starts from disks on %s, too (drivers loaded at its start: %s)",
				p.where(), strings.Join(drivers.asleep, ", "), strings.Join(drivers.does, "; "))})
	}
	patches, err := reg.patches()
	for i := range all {
		if err != nil {
			all[i].Verdict, all[i].Repair, all[i].Evidence = Bad, "", err.Error()
		}
		if i == 0 { // the file is written once for all of them
			all[i].Patches = patches
		}
		c.add(all[i])
	}
	return nil
}

// letters has a registry's letters follow parts that were moved, and says which did.
func (c *winWay) letters(reg *registry) (moved []string, changed bool, err error) {
	drives, err := windows.Drives(reg.Hive)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	for _, d := range drives {
		to, is := c.moved(d.Place)
		if !is || to == d.Place || err != nil {
			continue
		}
		err = d.Set(to)
		if changed = true; d.Letter != "" {
			moved = append(moved, d.Letter)
		}
	}
	return moved, changed, err
}

// driven is what is to become of a Windows' drivers.
type driven struct {
	does, asleep []string
}

// drivers looks with which controllers a Windows starts, and has it start with all that it has drivers for, where that
// is wished.
func (c *winWay) drivers(p *part, reg *registry) (out driven, err error) {
	all, err := windows.Drivers(reg.Hive)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	var loaded []string
	for i := range all {
		d := &all[i]
		if _, missing := p.resolve(relative(d.File)); missing != nil {
			continue // loading what isn't there keeps it from starting
		}
		if d.AtBoot() {
			loaded = append(loaded, d.For)
			continue
		}
		out.asleep = append(out.asleep, fmt.Sprintf("%s (%s)", d.For, d.Name))
		out.does = append(out.does, d.Words()+" → 0")
		if c.o.OtherHardware && err == nil {
			err = d.Load()
		}
	}
	if err != nil || len(loaded)+len(out.asleep) == 0 {
		return out, err
	}
	slices.Sort(loaded)
	loaded = slices.Compact(loaded)
	f := Finding{Way: References, Verdict: Good, Aside: true,
		Says: fmt.Sprintf("the Windows on %s starts from disks on %s", p.where(), strings.Join(loaded, ", "))}
	if len(loaded) == 0 {
		f.Verdict = Doubt
		f.Says = fmt.Sprintf("the Windows on %s loads no driver for storage of those that come with it", p.where())
	}
	c.report.Narrow = c.report.Narrow || len(out.asleep) > 0
	if len(out.asleep) > 0 {
		f.Says += "; in another machine it may not find its disk on " + strings.Join(out.asleep, ", ")
	}
	if !c.o.OtherHardware {
		out.does = nil
	}
	c.add(f)
	return out, nil
}

// AnyHardware says whether a disk has a Windows, and each of them starts with all controllers that it has drivers for.
func AnyHardware(ctx context.Context, d disk.Device) (bool, error) {
	c, err := newChecker(ctx, d, Options{OtherHardware: true})
	if err != nil || c == nil {
		return false, err
	}
	(&winWay{c}).registries()
	found := slices.ContainsFunc(c.report.Findings, func(f Finding) bool { return f.Verdict == Good })
	return found && !slices.ContainsFunc(c.report.Findings, func(f Finding) bool { return f.Verdict != Good }),
		ctx.Err()
}
