package startup

import (
	"debug/pe"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/startup/image"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// fallbacks are where firmware looks for a loader without knowing of it, by machine (UEFI Specification, table 3.3).
var fallbacks = []struct {
	name    string
	machine uint16 // PE/COFF
	title   string
}{
	{"BOOTX64.EFI", pe.IMAGE_FILE_MACHINE_AMD64, "64-bit PCs"},
	{"BOOTIA32.EFI", pe.IMAGE_FILE_MACHINE_I386, "32-bit PCs"},
	{"BOOTAA64.EFI", pe.IMAGE_FILE_MACHINE_ARM64, "64-bit ARM machines"},
	{"BOOTARM.EFI", pe.IMAGE_FILE_MACHINE_ARMNT, "32-bit ARM machines"},
}

const (
	fallbackDir = "EFI/BOOT"
	mbrESP      = "0xef"
	maxLoader   = 16 << 20 // bytes
	maxListed   = 200
)

// whole are names of loaders that work from another folder than their own.
var whole = []string{"bootmgfw.efi", "systemd-bootx64.efi", "systemd-bootaa64.efi", "grubx64.efi", "grubaa64.efi"}

// uefi looks for what firmware needs: a part of the right type, FAT on it, and a loader where it is looked for.
func (c *uefiWay) uefi() {
	esp := c.systemPart()
	if esp == nil {
		return // not meant for this way
	}
	name := fmt.Sprintf("part %d", esp.Number)
	if _, readable := esp.volume.(fsys.FirmwareRead); !readable {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: name + " is an EFI system part without a FAT file system",
			Evidence: esp.why})
		return
	}
	content, err := families.Examine(c.ctx, disk.Section(c.d, esp.Span.Start, esp.Span.Len()), esp.Span.Len(),
		c.d.SectorSize())
	if err != nil {
		return // cancelled
	}
	files, err := fsys.TreeOf(esp.volume)
	switch {
	case err == nil && content.Info.Unclean != "":
		c.add(Finding{Way: UEFI, Verdict: Doubt, Aside: true,
			Says: fmt.Sprintf("%s, the EFI system part, wasn't quiet", name), Evidence: content.Info.Unclean})
	case err != nil:
		f := Finding{Way: UEFI, Verdict: Bad,
			Says:     fmt.Sprintf("the %s on %s, the EFI system part, can't be read", esp.volume.Info().Kind, name),
			Evidence: err.Error()}
		if esp.volume.Info().Opaque != "" {
			f.Verdict = Doubt
		}
		c.add(f)
		return
	case !content.Maps: // firmware follows files, as is done here, and asks no maps
		c.add(Finding{Way: UEFI, Verdict: Doubt, Aside: true,
			Says:     fmt.Sprintf("the %s on %s, the EFI system part, is not sound", esp.volume.Info().Kind, name),
			Evidence: content.Why})
	}
	c.add(Finding{Way: UEFI, Verdict: Good, Says: "there is an EFI system part",
		Evidence: fmt.Sprintf("%s, %s, %s", name, esp.volume.Info().Kind, units.Bytes(esp.Span.Len()))})
	esp.files = fsys.FS(files)
	c.fallbacks(esp)
}

// fallbacks looks at the loaders where firmware looks, the commonest machine first: one for others beside a sound one
// is no matter.
func (c *uefiWay) fallbacks(esp *part) {
	found := false
	for _, f := range fallbacks {
		p := fallbackDir + "/" + f.name
		if _, err := esp.resolve(p); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		program, err := c.loader(esp, p)
		if err == nil && program.Machine != f.machine {
			err = fmt.Errorf("it is for another kind of machine (%#x)", program.Machine)
		}
		switch {
		case err != nil && found:
			c.add(Finding{Way: UEFI, Verdict: Bad, Aside: true,
				Says: fmt.Sprintf("the loader for %s, \\%s, can't be what firmware starts", f.title,
					backslashed(p)),
				Evidence: err.Error()})
		case err != nil:
			c.replace(esp, p, f.machine, f.title, err)
		case found:
			c.add(Finding{Way: UEFI, Verdict: Good, Aside: true,
				Says: fmt.Sprintf("there is a loader for %s too", f.title)})
		default:
			c.add(Finding{Way: UEFI, Verdict: Good,
				Says: fmt.Sprintf("a loader is where any firmware for %s looks, so that it needs no entry there: \\%s",
					f.title, backslashed(p)), Evidence: program.Checked})
			c.follow(esp, p, program)
		}
		found = true
	}
	if !found {
		c.fallback(esp)
	}
}

// systemPart is the EFI system part that firmware starts from: of several the first with a loader where it is looked
// for.
func (c *uefiWay) systemPart() *part {
	var first *part
	for i := range c.parts {
		p := &c.parts[i]
		if p.Type != table.TypeESP && p.Type != mbrESP {
			continue
		}
		if first == nil {
			first = p
		}
		for _, f := range fallbacks {
			if _, err := p.resolve(fallbackDir + "/" + f.name); err == nil {
				return p
			}
		}
	}
	return first
}

func backslashed(p string) string { return strings.ReplaceAll(p, "/", "\\") }

// readFile reads a file of at most so many bytes.
func readFile(tree fs.FS, name string, most int64) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	return drained(f, name, most)
}

// candidate is a loader that could stand where firmware looks.
type candidate struct {
	name    string
	machine uint16
	// open is what can't be told of where it leads.
	open []Finding
}

// elsewhereOn lists loaders in other folders of the EFI system part, the one first that leads furthest.
func (c *uefiWay) elsewhereOn(esp *part) (found []string, best candidate) {
	vendors, _ := fs.ReadDir(esp.files, "EFI")
	for _, v := range vendors {
		if !v.IsDir() || len(found) >= maxListed || strings.EqualFold(v.Name(), "BOOT") {
			continue
		}
		for _, dir := range []string{"EFI/" + v.Name(), "EFI/" + v.Name() + "/Boot"} {
			files, _ := fs.ReadDir(esp.files, dir)
			for _, f := range files {
				if strings.EqualFold(path.Ext(f.Name()), ".efi") && !f.IsDir() {
					found = append(found, dir+"/"+f.Name())
				}
			}
		}
	}
	for _, name := range found {
		p, err := c.loader(esp, name)
		if err != nil || !fromAnywhere(p, name) {
			continue
		}
		r := c.trial(func() { c.follow(esp, name, p) })
		open := slices.DeleteFunc(r.Findings, func(f Finding) bool { return f.Verdict == Good })
		if len(open) == 0 {
			return found, candidate{name, p.Machine, nil}
		}
		if best.name == "" {
			best = candidate{name, p.Machine, open}
		}
	}
	return found, best
}

// fromAnywhere says whether a loader works from another folder than its own: it finds what it needs by itself.
func fromAnywhere(p *image.Program, name string) bool {
	return p.Section("mods") != nil || p.Section(".sdmagic") != nil || p.Section(".linux") != nil || isWindows(p) ||
		slices.Contains(whole, strings.ToLower(path.Base(name)))
}

// trial gives what a look would find, and notes nothing.
func (c *uefiWay) trial(look func()) *Report {
	was, followed := c.report, c.followed
	c.report = &Report{Ways: map[string]bool{}, seen: was.seen}
	look()
	r := c.report
	c.report, c.followed = was, followed
	return r
}

// fallback looks for loaders elsewhere on the part; one that works from any folder can be copied to where firmware
// looks.
func (c *uefiWay) fallback(esp *part) {
	found, best := c.elsewhereOn(esp)
	if len(found) == 0 {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: "there is no loader on the EFI system part",
			Evidence: "neither in \\EFI\\BOOT nor in any other folder of \\EFI"})
		return
	}
	f := Finding{Way: UEFI, Verdict: Bad, Says: "firmware that doesn't know this disk finds no loader: there is " +
		"none in \\EFI\\BOOT, and the entry that names another stays in the old machine",
		Evidence: "loaders: \\" + backslashed(strings.Join(found, ", \\"))}
	for _, to := range fallbacks {
		if best.name == "" || to.machine != best.machine {
			continue
		}
		if patches, err := c.copied(esp, best.name, fallbackDir+"/"+to.name, false); err == nil {
			f.Verdict, f.Patches = Doubt, patches
			f.Repair = fmt.Sprintf("\\%s is copied to \\%s\\%s, where any firmware looks", backslashed(best.name),
				backslashed(fallbackDir), to.name)
		}
	}
	c.add(f)
	c.open(best)
}

// replace is for a damaged loader where firmware looks: a sound one from elsewhere can take its place.
func (c *uefiWay) replace(esp *part, name string, machine uint16, title string, why error) {
	f := Finding{Way: UEFI, Verdict: Bad,
		Says:     fmt.Sprintf("the loader for %s, \\%s, can't be what firmware starts", title, backslashed(name)),
		Evidence: why.Error()}
	_, best := c.elsewhereOn(esp)
	if best.name == "" || best.machine != machine {
		c.add(f)
		return
	}
	if patches, err := c.copied(esp, best.name, name, true); err == nil {
		f.Verdict, f.Patches = Doubt, patches
		f.Repair = fmt.Sprintf("\\%s is copied over the damaged \\%s", backslashed(best.name), backslashed(name))
	}
	c.add(f)
	c.open(best)
}

// open notes what can't be told of a loader that takes another's place.
func (c *uefiWay) open(best candidate) {
	for _, f := range best.open {
		c.add(f)
	}
}

// copied gives the patches of the disk that copy a file within the part.
func (c *uefiWay) copied(esp *part, from, to string, over bool) ([]disk.Patch, error) {
	writer, ok := esp.volume.(fsys.FileWriter)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	b, err := esp.read(from, maxLoader)
	if err != nil {
		return nil, err
	}
	when := time.Time{}
	if st, err := fs.Stat(esp.files, from); err == nil {
		when = st.ModTime()
	}
	add := writer.CreateFile
	if over {
		add = writer.ReplaceFile
	}
	patches, err := add(to, b, when)
	for i := range patches {
		patches[i].Off += esp.Span.Start
	}
	return patches, err
}
