package startup_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/plan"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const (
	espAt, espLen   = units.MiB, 80 * units.MiB
	rootAt, rootLen = 81 * units.MiB, 100 * units.MiB
	coreAt          = 182 * units.MiB // a part for BIOS start-up code
	chainGUID       = "7A5E0F10-3B1C-4D5A-9C00-00000000E4"
	wrong           = "5d1c7a10-0000-4000-8000-00000000dead"
)

// bootable makes disks that start a small system in many ways, and breaks them.
type bootable struct {
	t      *testing.T
	tree   string // of the root
	root   string // its file system
	kernel []byte
	initrd []byte
}

func newBootable(t *testing.T) *bootable {
	testkit.Need(t, "objcopy")
	b := &bootable{t: t, tree: testkit.SmallSystem(t)}
	b.put("srv/room", "1\n")
	b.root = testkit.SystemRoot(t, b.tree, rootLen)
	b.kernel, b.initrd = b.get("boot/vmlinuz"), b.get("boot/initrd")
	return b
}

func (b *bootable) get(name string) []byte {
	b.t.Helper()
	all, err := os.ReadFile(filepath.Join(b.tree, name))
	if err != nil {
		b.t.Fatal(err)
	}
	return all
}

func (b *bootable) put(name, text string) {
	b.t.Helper()
	if err := os.WriteFile(filepath.Join(b.tree, name), []byte(text), 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// made runs a command that writes one file, and gives that.
func (b *bootable) made(command string, args ...string) []byte {
	b.t.Helper()
	out := filepath.Join(b.t.TempDir(), "out")
	testkit.Do(b.t, command, append(args, out)...)
	all, err := os.ReadFile(out)
	if err != nil {
		b.t.Fatal(err)
	}
	return all
}

func (b *bootable) file(contents []byte) string {
	b.t.Helper()
	name := filepath.Join(b.t.TempDir(), "f")
	if err := os.WriteFile(name, contents, 0o600); err != nil {
		b.t.Fatal(err)
	}
	return name
}

const modules = "part_gpt part_msdos fat ext2 search search_fs_uuid configfile normal linux"

// grub makes an EFI loader; without a script of its own it takes the menu in its folder.
func (b *bootable) grub(prefix, script string) []byte {
	args := []string{"-O", "x86_64-efi", "-p", prefix}
	if script != "" {
		args = append(args, "-c", b.file([]byte(script)))
	}
	args = append(append(args, strings.Fields(modules)...), "-o")
	return b.made("grub-mkimage", args...)
}

func find(uuid string) string {
	return "search --no-floppy --fs-uuid --set=root " + uuid + "\nconfigfile /boot/grub/grub.cfg\n"
}

// unnamed is a kernel with all that it needs in one program, unified one that says of which system it is too.
func (b *bootable) unnamed(kernel []byte, root string) []byte {
	const stub = "/usr/lib/systemd/boot/efi/linuxx64.efi.stub"
	line := b.file([]byte("root=UUID=" + root + " console=ttyS0 quiet panic=5\x00"))
	return b.made("objcopy", "--add-section", ".cmdline="+line, "--change-section-vma", ".cmdline=0x30000",
		"--add-section", ".linux="+b.file(kernel), "--change-section-vma", ".linux=0x2000000",
		"--add-section", ".initrd="+b.file(b.initrd), "--change-section-vma", ".initrd=0x4000000", stub)
}

func (b *bootable) unified(kernel []byte, root string) []byte {
	release := b.file([]byte("ID=kiosk\nNAME=Kiosk\nVERSION_ID=6\n"))
	return b.made("objcopy", "--add-section", ".osrel="+release, "--change-section-vma", ".osrel=0x20000",
		b.file(b.unnamed(kernel, root)))
}

// disk puts files onto an EFI system part, with the root after it.
func (b *bootable) disk(files map[string][]byte) string {
	b.t.Helper()
	esp := testkit.Image(b.t, "esp", espLen)
	testkit.Do(b.t, "mkfs.fat", "-F", "32", "-s", "1", esp)
	made := map[string]bool{".": true}
	for name, contents := range files {
		dir := ""
		for step := range strings.SplitSeq(filepath.Dir(name), "/") {
			if dir += "/" + step; !made[dir] && step != "." {
				testkit.Do(b.t, "mmd", "-i", esp, "::"+dir)
				made[dir] = true
			}
		}
		testkit.Do(b.t, "mcopy", "-i", esp, b.file(contents), "::"+name)
	}
	img := disked(b.t, table.Layout{Kind: table.GPT, Sector: 512, ID: chainGUID + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(espAt, espLen), Type: table.TypeESP, GUID: chainGUID + "01"},
		{Number: 2, Span: span.At(rootAt, rootLen), Type: table.TypeLinuxData, GUID: chainGUID + "02"},
	}}, map[int]string{1: esp, 2: b.root})
	return img
}

// bios makes a disk whose first sector loads the second stage from at on: in the gap, or in a part for it.
func (b *bootable) bios(script string) string {
	img := disked(b.t, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9f", Parts: []table.Part{
		{Number: 1, Span: span.At(rootAt, rootLen), Type: "0x83", Active: true}}}, map[int]string{1: b.root})
	first, second := b.stages(script, 512)
	testkit.Write(b.t, img, []disk.Patch{{Off: 0, Data: first}, {Off: 512, Data: second}})
	return img
}

func (b *bootable) biosPart(script string) string {
	img := disked(b.t, table.Layout{Kind: table.GPT, Sector: 512, ID: chainGUID + "10", Parts: []table.Part{
		{Number: 1, Span: span.At(rootAt, rootLen), Type: table.TypeLinuxData, GUID: chainGUID + "11"},
		{Number: 2, Span: span.At(coreAt, 2*units.MiB), Type: table.TypeBIOSBoot, GUID: chainGUID + "12"},
	}}, map[int]string{1: b.root})
	first, second := b.stages(script, coreAt)
	testkit.Write(b.t, img, []disk.Patch{{Off: 0, Data: first}, {Off: coreAt, Data: second}})
	return img
}

// stages makes both stages; without a script the second one knows the folder of its menu by the number of its part.
func (b *bootable) stages(script string, at int64) (first, second []byte) {
	args := []string{"-O", "i386-pc", "-p", "(,1)/boot/grub"}
	if script != "" {
		args = []string{"-O", "i386-pc", "-p", "/boot/grub", "-c", b.file([]byte(script))}
	}
	args = append(args, strings.Fields("biosdisk "+modules)...)
	return staged(b.t, b.made("grub-mkimage", append(args, "-o")...), at)
}

// place is where bytes of a file on a part lie on the disk.
func (b *bootable) place(img string, partAt, partLen int64, name string, at int64) int64 {
	b.t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		b.t.Fatal(err)
	}
	defer d.Close()
	v, err := families.Identify(b.t.Context(), disk.Section(d, partAt, partLen), partLen, 512)
	if err != nil {
		b.t.Fatal(err)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		b.t.Fatal(err)
	}
	item, err := fsys.Find(tree, name)
	if err != nil {
		b.t.Fatal(err)
	}
	f, err := tree.Open(item, "")
	if err != nil {
		b.t.Fatal(err)
	}
	for _, sp := range f.Spans() {
		if at < sp.Len() {
			return partAt + sp.Start + at
		}
		at -= sp.Len()
	}
	b.t.Fatalf("%s has no byte %d", name, at)
	return 0
}

var noise = func() []byte {
	out, r := make([]byte, 512), rand.New(rand.NewPCG(11, 3))
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}()

// hurt writes over a sector of a file on the root (or of the disk, when there is no name).
func (b *bootable) hurt(img, name string, at int64, with []byte) string {
	if name != "" {
		at = b.place(img, rootAt, rootLen, name, at)
	}
	testkit.Write(b.t, img, []disk.Patch{{Off: at, Data: with}})
	return img
}

func (b *bootable) hurtESP(img, name string, at int64, with []byte) string {
	testkit.Write(b.t, img, []disk.Patch{{Off: b.place(img, espAt, espLen, name, at), Data: with}})
	return img
}

// without removes or renames files on the root by the system's own tool.
func (b *bootable) without(img, name string) string {
	fs := testkit.Extract(b.t, img, rootAt, rootLen)
	testkit.Do(b.t, "debugfs", "-w", "-R", "rm /"+name, fs)
	testkit.Place(b.t, fs, img, rootAt)
	return img
}

// told puts another menu onto the root.
func (b *bootable) told(img, menu string) string {
	fs := testkit.Extract(b.t, img, rootAt, rootLen)
	testkit.Do(b.t, "debugfs", "-w", "-R", "rm /boot/grub/grub.cfg", fs)
	testkit.Do(b.t, "debugfs", "-w", "-R", "write "+b.file([]byte(menu))+" /boot/grub/grub.cfg", fs)
	testkit.Place(b.t, fs, img, rootAt)
	return img
}

// want is the beginning of a verdict.
const (
	should = "it should start by"
	cant   = "whether it starts"
	wont   = "it won't start"
)

// chain is a disk, and what becomes of it.
type chain struct {
	name string
	uefi bool
	img  func() string
	want string
}

func (b *bootable) chains() []chain {
	files := func(pairs ...any) map[string][]byte {
		out := map[string][]byte{}
		for i := 0; i < len(pairs); i += 2 {
			switch v := pairs[i+1].(type) {
			case string:
				out[pairs[i].(string)] = []byte(v)
			case []byte:
				out[pairs[i].(string)] = v
			}
		}
		return out
	}
	const fallback = "EFI/BOOT/BOOTX64.EFI"
	inner := b.grub("/EFI/kiosk", find(rootUUID))
	outer := b.grub("/EFI/kiosk", "")
	stub := "search.fs_uuid " + rootUUID + " root hd0,gpt2\nset prefix=($root)'/boot/grub'\nconfigfile " +
		"$prefix/grub.cfg\n"
	read := func(name string) []byte {
		all, err := os.ReadFile(name)
		if err != nil {
			testkit.Lacks(b.t, name)
		}
		return all
	}
	entries := read("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
	shim, signed := read("/usr/lib/shim/shimx64.efi.signed"), read("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed")
	entry := func(version, kernel string) string {
		return "title Kiosk\nversion " + version + "\nlinux " + kernel + "\ninitrd /k/initrd\noptions root=UUID=" +
			rootUUID + " console=ttyS0 quiet panic=5\n"
	}
	specs := func(more ...any) map[string][]byte {
		return files(append([]any{fallback, entries, "k/linux", b.kernel, "k/initrd", b.initrd}, more...)...)
	}
	plain := func() string { return b.disk(files(fallback, inner)) }
	bios := func() string { return b.bios(find(rootUUID)) }
	zeros := make([]byte, 512)
	menu := string(b.get("boot/grub/grub.cfg"))
	foreign := bytes.Clone(inner)
	foreign[0x84], foreign[0x85] = 0x64, 0xAA
	hurtKernel := bytes.Clone(b.kernel)
	copy(hurtKernel[3_000_000:], noise)
	return []chain{
		{"a loader with its own script", true, plain, should},
		{"no kernel", true, func() string { return b.without(plain(), "boot/vmlinuz") }, wont},
		{"no initial RAM disk", true, func() string { return b.without(plain(), "boot/initrd") }, wont},
		{"noise in the kernel", true, func() string { return b.hurt(plain(), "boot/vmlinuz", 3_000_320, noise) }, wont},
		{"zeros in the kernel", true, func() string { return b.hurt(plain(), "boot/vmlinuz", 5_000_192, zeros) }, wont},
		{"noise in the initial RAM disk", true,
			func() string { return b.hurt(plain(), "boot/initrd", 500_224, noise) }, wont},
		{"a root that isn't there", true,
			func() string { return b.told(plain(), strings.ReplaceAll(menu, rootUUID, wrong)) }, wont},
		{"a menu behind a menu", true, func() string {
			return b.told(plain(), "if [ x$feature_menuentry_id = xy ]; then set default=kiosk; fi\nmenuentry Other { "+
				"linux /none }\nmenuentry Kiosk --id kiosk {\n"+menu+"}\nset timeout=0\n")
		}, should},
		{"no menu", true, func() string { return b.without(plain(), "boot/grub/grub.cfg") }, wont},
		{"a loader that can't read the root", true, func() string {
			return b.disk(files(fallback,
				b.made("grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", b.file([]byte(find(rootUUID))),
					"part_gpt", "fat", "search", "search_fs_uuid", "configfile", "normal", "linux", "-o")))
		}, wont},
		{"a loader that can't read the table", true, func() string {
			return b.disk(files(fallback,
				b.made("grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "-c", b.file([]byte(find(rootUUID))),
					"fat", "ext2", "search", "search_fs_uuid", "configfile", "normal", "linux", "-o")))
		}, wont},
		{"a wrong identity in the loader", true,
			func() string { return b.disk(files(fallback, b.grub("/EFI/kiosk", find(wrong)))) }, wont},
		{"a menu on the EFI system part", true,
			func() string { return b.disk(files(fallback, outer, "EFI/kiosk/grub.cfg", stub)) }, should},
		{"a wrong identity there", true, func() string {
			return b.disk(files(fallback, outer, "EFI/kiosk/grub.cfg", strings.ReplaceAll(stub, rootUUID, wrong)))
		}, wont},
		{"no menu there", true, func() string { return b.disk(files(fallback, outer)) }, wont},
		{"noise in the loader's code", true,
			func() string { return b.hurtESP(plain(), fallback, 0x3200, noise) }, wont},
		{"zeros in the loader's code", true,
			func() string { return b.hurtESP(plain(), fallback, 0x5400, zeros) }, wont},
		{"noise in a loader's module", true,
			func() string { return b.hurtESP(plain(), fallback, 0x1D200, noise) }, wont},
		{"a loader cut short", true, func() string { return b.disk(files(fallback, inner[:len(inner)/2])) }, wont},
		{"a damaged loader beside a sound one", true, func() string {
			return b.hurtESP(b.disk(files(fallback, inner, "EFI/kiosk/grubx64.efi", inner)), fallback, 0x1000, noise)
		}, should},
		{"a loader in its own folder only", true,
			func() string { return b.disk(files("EFI/kiosk/grubx64.efi", inner)) }, should},
		{"a loader for other machines beside it", true,
			func() string { return b.disk(files(fallback, inner, "EFI/BOOT/BOOTARM.EFI", foreign)) }, should},
		{"entries", true, func() string { return b.disk(specs("loader/entries/kiosk.conf", entry("6", "/k/linux"))) },
			should},
		{"the newest entry without its kernel", true, func() string {
			return b.disk(specs("loader/entries/a.conf", entry("6", "/k/linux"), "loader/entries/b.conf",
				entry("10", "/k/none")))
		}, should},
		{"the only entry without its kernel", true,
			func() string { return b.disk(specs("loader/entries/b.conf", entry("10", "/k/none"))) }, wont},
		{"the newest entry without its initial RAM disk", true, func() string {
			return b.disk(specs("loader/entries/a.conf", entry("6", "/k/linux"), "loader/entries/b.conf",
				strings.ReplaceAll(entry("10", "/k/linux"), "/k/initrd", "/k/none")))
		}, wont},
		{"the settings name the other entry", true, func() string {
			return b.disk(specs("loader/loader.conf", "default a*\ntimeout 0\n", "loader/entries/a.conf",
				entry("6", "/k/linux"), "loader/entries/b.conf", entry("10", "/k/none")))
		}, should},
		{"no entries", true, func() string { return b.disk(specs()) }, wont},
		{"a unified kernel", true, func() string { return b.disk(files(fallback, b.unified(b.kernel, rootUUID))) },
			should},
		{"a unified kernel as an entry", true, func() string {
			return b.disk(files(fallback, entries, "EFI/Linux/kiosk.efi", b.unified(b.kernel, rootUUID)))
		}, should},
		{"a unified kernel as an entry that doesn't say of which system it is", true, func() string {
			return b.disk(files(fallback, entries, "EFI/Linux/kiosk.efi", b.unnamed(b.kernel, rootUUID)))
		}, wont},
		{"noise in a unified kernel", true,
			func() string { return b.disk(files(fallback, b.unified(hurtKernel, rootUUID))) }, wont},
		{"a unified kernel with a root that isn't there", true,
			func() string { return b.disk(files(fallback, b.unified(b.kernel, wrong))) }, wont},
		{"signed loaders", true, func() string {
			return b.disk(files(fallback, shim, "EFI/BOOT/grubx64.efi", signed, "EFI/debian/grub.cfg", stub))
		}, should},
		{"a signed loader alone", true, func() string { return b.disk(files(fallback, shim)) }, wont},
		{"noise in a signed loader", true, func() string {
			return b.hurtESP(b.disk(files(fallback, shim, "EFI/BOOT/grubx64.efi", signed, "EFI/debian/grub.cfg", stub)),
				fallback, 0x30000, noise)
		}, wont},
		{"BIOS, the second stage in the gap", false, bios, should},
		{"BIOS, the second stage in its part", false, func() string { return b.biosPart(find(rootUUID)) }, should},
		{"BIOS, the menu by the number of its part", false, func() string { return b.bios("") }, should},
		{"BIOS, a wrong identity in the second stage", false, func() string { return b.bios(find(wrong)) }, wont},
		{"BIOS, no code", false, func() string { return b.hurt(bios(), "", 0, zeros[:440]) }, wont},
		{"BIOS, a part for it and no code", false,
			func() string { return b.hurt(b.biosPart(find(rootUUID)), "", 0, zeros[:440]) }, wont},
		{"BIOS, noise for code", false, func() string { return b.hurt(bios(), "", 0, noise[:440]) }, wont},
		{"BIOS, some noise in the code", false, func() string { return b.hurt(bios(), "", 0x70, noise[:100]) }, wont},
		{"BIOS, no head of the second stage", false, func() string { return b.hurt(bios(), "", 512, zeros) }, wont},
		{"BIOS, noise for the head of the second stage", false,
			func() string { return b.hurt(bios(), "", 512, noise[:400]) }, wont},
		{"BIOS, noise in what unpacks", false, func() string { return b.hurt(bios(), "", 512+1024, noise) }, wont},
		{"BIOS, noise in the second stage", false, func() string { return b.hurt(bios(), "", 40*1024, noise) }, wont},
		{"BIOS, zeros in the second stage", false, func() string { return b.hurt(bios(), "", 90*1024, zeros) }, wont},
		{"BIOS, zeros in the second stage in its part", false,
			func() string { return b.hurt(b.biosPart(find(rootUUID)), "", coreAt+60*1024, zeros) }, wont},
		{"BIOS, no menu", false, func() string { return b.without(bios(), "boot/grub/grub.cfg") }, wont},
		{"BIOS, no kernel", false, func() string { return b.without(bios(), "boot/vmlinuz") }, wont},
	}
}

// TestChains: the verdict is what became of these disks when they were started in an emulated machine; and it is the
// same where a disk is said to be like a sound one.
func TestChains(t *testing.T) {
	b := newBootable(t)
	sound := checked(t, b.bios(find(rootUUID)), startup.Options{})
	for _, c := range b.chains() {
		img := c.img()
		r := checked(t, img, startup.Options{})
		if patches, _ := r.Repairs(); len(patches) > 0 {
			testkit.Write(t, img, patches)
			testkit.Do(t, "fsck.fat", "-n", testkit.Extract(t, img, espAt, espLen))
			r = checked(t, img, startup.Options{})
		}
		if !strings.HasPrefix(r.Words(), c.want) {
			t.Errorf("%s: %s\n%s", c.name, r.Words(), told(r))
		}
		if like := checked(t, img, startup.Options{Alike: sound}); told(like) != told(r) {
			t.Errorf("%s, beside a sound disk: %s, and by itself %s", c.name, told(like), told(r))
		}
		os.Remove(img)
	}
}

func told(r *startup.Report) string {
	var out strings.Builder
	for _, f := range r.Findings {
		fmt.Fprintf(&out, "  %s %s: %s (%s)\n", f.Way, f.Verdict, f.Says, f.Evidence)
	}
	return out.String()
}

// TestFreshIdentitiesStart: what a loader names in its own script, which nobody can change, keeps its identity; what a
// file names gets another one, and the file says so. Either way the disk should start.
func TestFreshIdentitiesStart(t *testing.T) {
	b := newBootable(t)
	b.root = testkit.Image(t, "root", rootLen) // with metadata_csum all checksums hang on its identity
	testkit.Do(t, "mkfs.ext4", "-q", "-O", "^metadata_csum", "-U", rootUUID, "-d", b.tree, b.root)
	stub := "search.fs_uuid " + rootUUID + " root hd0,gpt2\nset prefix=($root)'/boot/grub'\nconfigfile " +
		"$prefix/grub.cfg\n"
	const fallback = "EFI/BOOT/BOOTX64.EFI"
	for _, c := range []struct {
		name string
		img  string
		kept bool
	}{
		{"BIOS", b.bios(find(rootUUID)), true},
		{"a script in the loader", b.disk(map[string][]byte{fallback: b.grub("/EFI/kiosk", find(rootUUID))}), true},
		{"a script on the EFI system part",
			b.disk(map[string][]byte{fallback: b.grub("/EFI/kiosk", ""), "EFI/kiosk/grub.cfg": []byte(stub)}), false},
		{"a unified kernel", b.disk(map[string][]byte{fallback: b.unified(b.kernel, rootUUID)}), true},
	} {
		target := testkit.Image(t, "target.img", 2*size)
		p := moved(t, c.img, target, plan.Wish{Fresh: true})
		if !strings.HasPrefix(p.Startup.Words(), should) {
			t.Errorf("%s: %s\n%s", c.name, p.Startup.Words(), told(p.Startup))
		}
		r := checked(t, target, startup.Options{})
		if !strings.HasPrefix(r.Words(), should) {
			t.Errorf("%s, written: %s\n%s", c.name, r.Words(), told(r))
		}
		_, renewed := p.Fresh.IDs[rootUUID]
		if said := strings.Contains(strings.Join(p.Fresh.Stays, "\n"), "can't be told another"); renewed == c.kept ||
			said != c.kept {
			t.Errorf("%s: %v, %q", c.name, p.Fresh.IDs, p.Fresh.Stays)
		}
		os.Remove(target)
	}
}

// TestChanged: what of the start-up isn't what it was on an earlier date is named.
func TestChanged(t *testing.T) {
	b := newBootable(t)
	const fallback = "EFI/BOOT/BOOTX64.EFI"
	uefi := func() string { return b.disk(map[string][]byte{fallback: b.grub("/EFI/kiosk", find(rootUUID))}) }
	bios := func() string { return b.bios(find(rootUUID)) }
	part := func() string { return b.biosPart(find(rootUUID)) }
	for _, c := range []struct {
		name        string
		before, now string
		want        string
	}{
		{"nothing", bios(), bios(), ""},
		{"the code", bios(), b.hurt(bios(), "", 0x70, noise[:100]), "the code in the first sector (1 sector)"},
		{"the second stage in the gap", bios(), b.hurt(b.hurt(bios(), "", 40*1024, noise), "", 60*1024, noise),
			"what lies before the first part (2 sectors)"},
		{"the second stage in its part", part(), b.hurt(part(), "", coreAt+40*1024, noise),
			"part 2, for BIOS start-up code (1 sector)"},
		{"the loader", uefi(), b.hurtESP(uefi(), fallback, 0x3200, noise), "\\EFI\\BOOT\\BOOTX64.EFI"},
		{"a kernel", bios(), b.hurt(bios(), "boot/vmlinuz", 3_000_320, noise), ""},
	} {
		var devices []disk.Device
		for _, img := range []string{c.now, c.before} {
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			devices = append(devices, d)
		}
		got, err := startup.Changed(t.Context(), devices[0], devices[1])
		if err != nil || strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %q %v", c.name, got, err)
		}
	}
}
