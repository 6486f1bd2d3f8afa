package startup

import (
	"bytes"
	"debug/pe"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// fallbacks are where firmware looks for a loader without knowing of it, by machine (UEFI Specification, table 3.3).
var fallbacks = []struct {
	name    string
	machine uint16 // PE/COFF
	title   string
}{
	{"BOOTX64.EFI", pe.IMAGE_FILE_MACHINE_AMD64, "64-bit PCs"}, {"BOOTIA32.EFI", pe.IMAGE_FILE_MACHINE_I386, "32-bit PCs"},
	{"BOOTAA64.EFI", pe.IMAGE_FILE_MACHINE_ARM64, "64-bit ARM machines"}, {"BOOTARM.EFI", pe.IMAGE_FILE_MACHINE_ARMNT, "32-bit ARM machines"},
}

const (
	fallbackDir  = "EFI/BOOT"
	mbrESP       = "0xef"
	maxLoader    = 16 << 20 // bytes
	maxListed    = 200
	efiSubsystem = 10 // "EFI application"
	leastCode    = 512
)

// whole are loaders that work from another folder than their own: they find what they need by themselves.
var whole = []string{"bootmgfw.efi", "systemd-bootx64.efi", "systemd-bootaa64.efi", "grubx64.efi", "grubaa64.efi"}

// uefi looks for what firmware needs: a part of the right type, FAT on it, and a loader where it is looked for.
func (c *checker) uefi() {
	var esp *part
	for i := range c.parts {
		if p := &c.parts[i]; p.Type == table.TypeESP || p.Type == mbrESP {
			esp = p
			break
		}
	}
	if esp == nil {
		return // not meant for this way
	}
	name := fmt.Sprintf("part %d", esp.Number)
	if esp.volume == nil || !strings.HasPrefix(esp.volume.Info().Kind, "FAT") {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: name + " is an EFI system part without a FAT file system", Evidence: esp.why})
		return
	}
	content, err := fsys.Examine(c.ctx, disk.Section(c.d, esp.Span.Start, esp.Span.Len()), esp.Span.Len(), c.d.SectorSize())
	if err != nil {
		return // cancelled
	}
	files, err := fsys.TreeOf(esp.volume)
	switch {
	case err == nil && content.Info.Unclean != "":
		c.add(Finding{Way: UEFI, Verdict: Doubt, Aside: true, Says: fmt.Sprintf("%s, the EFI system part, wasn't quiet", name), Evidence: content.Info.Unclean})
	case err != nil || !content.Maps:
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: fmt.Sprintf("the %s on %s, the EFI system part, is not sound", esp.volume.Info().Kind, name), Evidence: content.Why})
		return
	}
	c.add(Finding{Way: UEFI, Verdict: Good, Says: "there is an EFI system part with a sound file system", Evidence: fmt.Sprintf("%s, %s, %s", name, esp.volume.Info().Kind, units.Bytes(esp.Span.Len()))})
	tree := fsys.FS(files)
	found := false
	for _, f := range fallbacks { // the commonest machine first: a loader for others beside a sound one is no matter
		p := fallbackDir + "/" + f.name
		why, err := loader(tree, p, f.machine)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			c.add(Finding{Way: UEFI, Verdict: Bad, Aside: found, Says: fmt.Sprintf("the loader for %s, \\%s, can't be what firmware starts", f.title, backslashed(p)), Evidence: err.Error()})
			found = true
		case c.oldInFile(tree, p) != "":
			c.add(Finding{Way: UEFI, Verdict: Bad, Aside: found, Says: fmt.Sprintf("\\%s names a file system by its old identity, %s, and can't be told the new one", backslashed(p), c.oldInFile(tree, p))})
			found = true
		default:
			c.add(Finding{Way: UEFI, Verdict: Good, Says: fmt.Sprintf("a loader is where any firmware for %s looks, so that it needs no entry there: \\%s", f.title, backslashed(p)), Evidence: why})
			found = true
		}
	}
	if !found {
		c.fallback(esp, tree)
	}
}

func backslashed(p string) string { return strings.ReplaceAll(p, "/", "\\") }

// loader says why a file can be started by firmware, or what is wrong with it.
func loader(tree fs.FS, name string, machine uint16) (string, error) {
	b, err := readFile(tree, name, maxLoader)
	if err != nil {
		return "", err
	}
	f, err := pe.NewFile(bytes.NewReader(b))
	if err != nil {
		return "", fmt.Errorf("it is no PE program: %w", err)
	}
	defer f.Close()
	if f.Machine != machine {
		return "", fmt.Errorf("it is for another kind of machine (%#x)", f.Machine)
	}
	subsystem := uint16(0)
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader64:
		subsystem = h.Subsystem
	case *pe.OptionalHeader32:
		subsystem = h.Subsystem
	}
	if subsystem != efiSubsystem {
		return "", fmt.Errorf("it is no EFI application (subsystem %d)", subsystem)
	}
	for _, s := range f.Sections {
		if s.Characteristics&pe.IMAGE_SCN_CNT_CODE != 0 && s.Size >= leastCode {
			if code, err := s.Data(); err == nil && bytes.Count(code, []byte{0}) == len(code) {
				return "", fmt.Errorf("its code is all zeros")
			}
		}
		if end := int64(s.Offset) + int64(s.Size); end > int64(len(b)) && s.Offset > 0 {
			return "", fmt.Errorf("it is cut short: %d of %d bytes are there", len(b), end)
		}
	}
	return fmt.Sprintf("an EFI application of %s", units.Bytes(int64(len(b)))), nil
}

// oldInFile is an old identity that stands in a file of a disk that got new ones.
func (c *checker) oldInFile(tree fs.FS, name string) string {
	if len(c.o.Renewed) == 0 {
		return ""
	}
	b, err := readFile(tree, name, maxLoader)
	if err != nil {
		return ""
	}
	return c.oldIn(b)
}

// readFile reads a file of at most so many bytes.
func readFile(tree fs.FS, name string, most int64) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("%s is larger than %s", name, units.Bytes(most))
	}
	return b, err
}

// fallback looks for loaders elsewhere on the part; one that works from any folder can be copied to where firmware looks.
func (c *checker) fallback(esp *part, tree fs.FS) {
	var found []string
	vendors, _ := fs.ReadDir(tree, "EFI")
	for _, v := range vendors {
		if !v.IsDir() || len(found) >= maxListed {
			continue
		}
		for _, dir := range []string{"EFI/" + v.Name(), "EFI/" + v.Name() + "/Boot"} {
			files, _ := fs.ReadDir(tree, dir)
			for _, f := range files {
				if strings.EqualFold(path.Ext(f.Name()), ".efi") && !f.IsDir() {
					found = append(found, dir+"/"+f.Name())
				}
			}
		}
	}
	if len(found) == 0 {
		c.add(Finding{Way: UEFI, Verdict: Bad, Says: "there is no loader on the EFI system part", Evidence: "neither in \\EFI\\BOOT nor in any other folder of \\EFI"})
		return
	}
	f := Finding{Way: UEFI, Verdict: Doubt, Says: "firmware that doesn't know this disk finds no loader: there is none in \\EFI\\BOOT, and the entry that names another stays in the old machine",
		Evidence: "loaders: \\" + backslashed(strings.Join(found, ", \\"))}
	for _, name := range found {
		if !slices.Contains(whole, strings.ToLower(path.Base(name))) {
			continue
		}
		for _, to := range fallbacks {
			if _, err := loader(tree, name, to.machine); err != nil {
				continue
			}
			if patches, err := c.copied(esp, tree, name, fallbackDir+"/"+to.name); err == nil {
				f.Patches = patches
				f.Repair = fmt.Sprintf("\\%s is copied to \\%s\\%s, where any firmware looks", backslashed(name), backslashed(fallbackDir), to.name)
				c.add(f)
				return
			}
		}
	}
	f.Verdict = Bad
	c.add(f)
}

// copied gives the patches of the disk that copy a file within the part.
func (c *checker) copied(esp *part, tree fs.FS, from, to string) ([]disk.Patch, error) {
	adder, ok := esp.volume.(fsys.Adder)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	b, err := readFile(tree, from, maxLoader)
	if err != nil {
		return nil, err
	}
	when := time.Time{}
	if st, err := fs.Stat(tree, from); err == nil {
		when = st.ModTime()
	}
	patches, err := adder.Add(to, b, when)
	for i := range patches {
		patches[i].Off += esp.Span.Start
	}
	return patches, err
}
