package base

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"debug/elf"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"github.com/zeebo/blake3"

	"twinshelf/internal/stick/drivers"
	"twinshelf/internal/stick/font"
	"twinshelf/internal/stick/keys"
)

// classes are the folders below a kernel's modules of which all are taken: storage, its buses, keyboards, file systems,
// wired networks, and what these need.
var classes = []string{"arch/x86/crypto", "crypto", "lib", "drivers/ata", "drivers/nvme", "drivers/scsi", "drivers/usb",
	"drivers/mmc", "drivers/message", "drivers/hid", "drivers/input", "drivers/md", "drivers/virtio", "drivers/cdrom",
	"drivers/thunderbolt", "drivers/memstick", "drivers/block", "drivers/power", "drivers/acpi", "drivers/pci",
	"drivers/firewire", "drivers/ufs", "drivers/i2c", "drivers/pinctrl", "drivers/net/ethernet", "drivers/net/phy",
	"drivers/net/usb", "drivers/net/virtio_net.ko", "drivers/net/mii.ko", "drivers/misc/cardreader",
	"drivers/char/hw_random",
	"fs/ext4", "fs/fat", "fs/exfat", "fs/xfs", "fs/btrfs", "fs/fuse", "fs/isofs", "fs/udf", "fs/nls", "fs/efivarfs",
	"fs/ntfs3", "fs/hfs", "fs/hfsplus", "fs/squashfs", "net/packet"}

// mostModule bounds a module that is looked into, in bytes.
const mostModule = 64 << 20

// Kernels are the releases of the kernels that a root has, the one to take first: the newest that is for real machines.
func Kernels(root Root) ([]string, error) {
	images, err := fs.Glob(root.FS, KernelImage("*"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, i := range images {
		out = append(out, strings.TrimPrefix(i, KernelImage("")))
	}
	slices.SortStableFunc(out, func(a, b string) int {
		cloud := func(s string) int { return strings.Count(s, "cloud") }
		return cmp.Or(cmp.Compare(cloud(a), cloud(b)), compareReleases(b, a))
	})
	return out, nil
}

// compareReleases compares numbers in texts by what they count.
func compareReleases(a, b string) int {
	numbers := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	}
	x, y := numbers(a), numbers(b)
	for i := range min(len(x), len(y)) {
		if c := cmp.Or(cmp.Compare(len(x[i]), len(y[i])), cmp.Compare(x[i], y[i])); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(x), len(y))
}

// Collect writes a base of a kernel onto w; of the first one that Kernels gives where kernel is empty. What can't be
// had is a *Missing.
func Collect(ctx context.Context, w io.Writer, root Root, kernel string, now time.Time) (*Manifest, error) {
	if kernel == "" {
		all, err := Kernels(root)
		if err != nil {
			return nil, err
		}
		if len(all) == 0 {
			return nil, &Missing{KernelImage("…"), "linux-image-amd64"}
		}
		kernel = all[0]
	}
	root, err := composed(ctx, root)
	if err != nil {
		return nil, err
	}
	m := &Manifest{Format: Format, Architecture: Architecture, Kernel: kernel, Made: now.UTC()}
	names, err := pick(root, kernel)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		p, err := measure(root, n)
		if err != nil {
			return nil, err
		}
		m.Pieces = append(m.Pieces, p)
	}
	if err := m.check(); err != nil {
		return nil, err
	}
	return m, write(ctx, w, root, m)
}

// pick chooses the pieces.
func pick(root Root, kernel string) ([]string, error) {
	names := []string{KernelImage(kernel), Shim, ShimKeys, Loader, BootCode, Core, Narrow}
	for _, n := range names {
		if root.made[n] == nil && !has(root, n) {
			pkg := packageOf[n]
			if pkg == "" {
				pkg = "linux-image-" + kernel
			}
			return nil, &Missing{n, pkg}
		}
	}
	modules, err := modulesFor(root, kernel)
	if err != nil {
		return nil, err
	}
	names = append(names, modules...)
	console, err := consoleFiles(root)
	if err != nil {
		return nil, err
	}
	names = append(names, console...)
	slices.Sort(names)
	return slices.Compact(names), nil
}

// consoleFiles are the fonts and keyboard layouts that a machine's own console gets.
func consoleFiles(root Root) ([]string, error) {
	names := []string{FontsDir + font.Small, FontsDir + font.Large}
	for _, n := range names {
		if !has(root, n) {
			return nil, &Missing{n, "console-setup-linux"}
		}
	}
	for _, l := range keys.Layouts() {
		files, err := keys.Files(root.FS, l)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &Missing{keys.Dir + l.File, "console-data"}
		}
		if err != nil {
			return nil, err
		}
		names = append(names, files...)
	}
	return names, nil
}

// modulesFor are the modules of the classes with all that they need, their tables, and the firmware that they name as
// far as it is there.
func modulesFor(root Root, kernel string) ([]string, error) {
	dir := Modules(kernel)
	sub, err := fs.Sub(root.FS, strings.TrimSuffix(dir, "/"))
	if err != nil {
		return nil, err
	}
	tables, err := drivers.Read(sub)
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", &Missing{dir + "modules.dep", "linux-image-" + kernel}, err)
	}
	var chosen []string
	for _, f := range tables.Files() {
		if slices.ContainsFunc(classes, func(c string) bool { return strings.HasPrefix(f, "kernel/"+c) }) {
			chosen = append(chosen, drivers.Name(f))
		}
	}
	order, err := tables.Order(chosen...)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range order {
		names = append(names, dir+f)
		for _, fw := range firmwareOf(sub, f) {
			if name := path.Join("lib/firmware", fw); has(root, name) {
				names = append(names, name)
			}
		}
	}
	for _, t := range []string{"modules.dep", "modules.alias", "modules.softdep", "modules.builtin"} {
		names = append(names, dir+t)
	}
	return names, nil
}

func has(root Root, name string) bool {
	st, err := fs.Stat(root.FS, name)
	return err == nil && st.Mode().IsRegular()
}

// firmwareOf are the firmware files that a module names (modinfo). One that can't be looked into names none.
func firmwareOf(dir fs.FS, file string) (out []string) {
	f, err := dir.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	r := io.Reader(f)
	if strings.HasSuffix(file, ".xz") {
		if r, err = xz.NewReader(f); err != nil {
			return nil
		}
	}
	b, err := io.ReadAll(io.LimitReader(r, mostModule))
	if err != nil {
		return nil
	}
	e, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return nil
	}
	info := e.Section(".modinfo")
	if info == nil {
		return nil
	}
	text, err := info.Data()
	if err != nil {
		return nil
	}
	for part := range bytes.SplitSeq(text, []byte{0}) {
		if name, ok := bytes.CutPrefix(part, []byte("firmware=")); ok {
			out = append(out, string(name))
		}
	}
	return out
}

// measure reads a piece for its manifest.
func measure(root Root, name string) (Piece, error) {
	f, err := root.open(name)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return Piece{}, &Missing{name, cmp.Or(packageOf[name], "that it belongs to")}
		}
		return Piece{}, err
	}
	defer f.Close()
	h := blake3.New()
	n, err := io.Copy(h, io.LimitReader(f, mostPiece+1))
	if err == nil && n > mostPiece {
		err = fmt.Errorf("it has more than %d bytes", mostPiece)
	}
	if err != nil {
		return Piece{}, fmt.Errorf("/%s can't be read: %w", name, err)
	}
	pkg, version := root.owner(name)
	return Piece{Name: name, Package: pkg, Version: version, Size: n, Sum: hex.EncodeToString(h.Sum(nil))}, nil
}

// write writes the file: the manifest, and after it the pieces in its order.
func write(ctx context.Context, w io.Writer, root Root, m *Manifest) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	head, err := json.MarshalIndent(m, "", " ")
	if err == nil {
		err = t.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o644, Size: int64(len(head)), ModTime: m.Made})
	}
	if err == nil {
		_, err = t.Write(head)
	}
	for _, p := range m.Pieces {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			err = writePiece(t, root, p, m.Made)
		}
	}
	if err != nil {
		_ = z.Close()
		return err
	}
	return errors.Join(t.Close(), z.Close())
}

func writePiece(t *tar.Writer, root Root, p Piece, made time.Time) error {
	f, err := root.open(p.Name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := t.WriteHeader(&tar.Header{Name: piecesFolder + p.Name, Mode: 0o644, Size: p.Size,
		ModTime: made}); err != nil {
		return err
	}
	if _, err := io.Copy(t, f); err != nil {
		return fmt.Errorf("/%s changed while it was being read: %w", p.Name, err)
	}
	return nil
}
