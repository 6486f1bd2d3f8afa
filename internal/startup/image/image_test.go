package image

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/testkit"
)

func made(t testing.TB, args ...string) []byte {
	t.Helper()
	testkit.Need(t, args[0])
	out := filepath.Join(t.TempDir(), "out")
	config := filepath.Join(t.TempDir(), "first.cfg")
	if err := os.WriteFile(config, []byte("search --set=root --label kiosk\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, args[0], append(args[1:], "-c", config, "-o", out)...)
	return read(t, out)
}

func read(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func found(t testing.TB, pattern string) []byte {
	t.Helper()
	all, _ := filepath.Glob(pattern)
	if len(all) == 0 {
		testkit.Lacks(t, pattern)
	}
	return read(t, all[len(all)-1])
}

func efiLoader(t testing.TB) []byte {
	return made(t, "grub-mkimage", "-O", "x86_64-efi", "-p", "/EFI/kiosk", "part_gpt", "fat", "ext2", "search",
		"normal", "linux")
}

func core(t testing.TB) []byte {
	return made(t, "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "biosdisk", "part_msdos", "ext2", "search",
		"normal", "linux")
}

func TestWholeImages(t *testing.T) {
	b := efiLoader(t)
	p, err := Parse(b)
	if err != nil {
		t.Fatal(err)
	}
	g, err := GrubOf(p)
	if err != nil || g.Prefix != "/EFI/kiosk" || g.Config != "search --set=root --label kiosk\n" ||
		!slices.Contains(g.Modules, "linux") {
		t.Errorf("%+v %v", g, err)
	}
	if g, err = Core(core(t)); err != nil || g.Prefix != "/boot/grub" ||
		g.Config != "search --set=root --label kiosk\n" || !slices.Contains(g.Modules, "normal") {
		t.Errorf("%+v %v", g, err)
	}
	kernel := found(t, "/boot/vmlinuz-*-cloud-amd64")
	if how, err := Kernel(kernel); err != nil || how == "" {
		t.Errorf("a kernel: %q %v", how, err)
	}
	if how, err := RAMDisk(bytes.NewReader(found(t, "/boot/initrd.img-*-cloud-amd64"))); err != nil || how == "" {
		t.Errorf("an initial RAM disk: %q %v", how, err)
	}
	// The signed kernel's own checksum was made before it was signed; one without a signature proves itself by either.
	bare := slices.Clone(kernel)
	if p, err := Parse(bare); err == nil && p.Checked != "" {
		if _, err := x86(bare); err != nil {
			t.Error(err)
		}
	}
}

// TestPackedRAMDisks packs an archive in every way that kernels know, in front of it a plain one as processors'
// microcode has.
func TestPackedRAMDisks(t *testing.T) {
	testkit.Need(t, "cpio", "gzip", "xz", "zstd", "bzip2")
	dir := t.TempDir()
	noise := make([]byte, 300_000)
	for i, r := 0, rand.New(rand.NewPCG(1, 2)); i < len(noise); i++ {
		noise[i] = byte(r.Uint32() & 0x3F)
	}
	if err := os.WriteFile(filepath.Join(dir, "init"), noise, 0o700); err != nil {
		t.Fatal(err)
	}
	do := func(script string) []byte {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		c := exec.CommandContext(ctx, "sh", "-c", script)
		c.Dir = dir
		out, err := c.Output()
		if err != nil {
			t.Fatalf("%s: %v", script, err)
		}
		return out
	}
	plain := do("echo init | cpio -o -H newc --quiet")
	for _, pack := range []string{"cat", "gzip -9", "xz --check=crc32", "xz --format=lzma", "zstd -q", "bzip2"} {
		b := append(slices.Clone(plain), do("echo init | cpio -o -H newc --quiet | "+pack)...)
		if how, err := RAMDisk(bytes.NewReader(b)); err != nil || how == "" {
			t.Errorf("%s: %q %v", pack, how, err)
		}
		if _, err := RAMDisk(bytes.NewReader(append(slices.Clone(b), make([]byte, 700)...))); err != nil {
			t.Errorf("%s with zeros behind it: %v", pack, err)
		}
		if _, err := RAMDisk(bytes.NewReader(b[:len(b)-1000])); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s, cut short: %v", pack, err)
		}
		if pack == "cat" {
			continue // has no checksum
		}
		clear(b[len(plain)+20_000 : len(plain)+20_512])
		if _, err := RAMDisk(bytes.NewReader(b)); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s with zeros in it: %v", pack, err)
		}
	}
	for name, b := range map[string][]byte{"zeros": make([]byte, 9000),
		"a text": []byte(strings.Repeat("not one", 400)), "nothing": nil} {
		if _, err := RAMDisk(bytes.NewReader(b)); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestDamagedImages: 512 bytes that became zeros or random anywhere in what is packed, signed or code are found.
func TestDamagedImages(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	grub := func(b []byte) error {
		p, err := Parse(b)
		if err == nil {
			err = p.Code()
		}
		if err == nil {
			_, err = GrubOf(p)
		}
		return err
	}
	loader, second := efiLoader(t), core(t)
	kernel := found(t, "/boot/vmlinuz-*-cloud-amd64")
	// The second stage's last object, the folder of its menu, is checked by what stands there.
	for _, c := range []struct {
		name     string
		whole    []byte
		from, to int
		check    func([]byte) error
		least    int // of 40
	}{
		{"the code of an EFI loader", loader, 0x1000, 0x1000 + 46*1024, grub, 38},
		{"the second stage", second, 512, len(second) - 1024,
			func(b []byte) error { _, err := Core(b); return err }, 39},
		{"a kernel", kernel, 512, len(kernel) - 4096, func(b []byte) error { _, err := Kernel(b); return err }, 40},
	} {
		if err := c.check(c.whole); err != nil {
			t.Errorf("%s, whole: %v", c.name, err)
		}
		seen := 0
		for i := range 40 {
			b := slices.Clone(c.whole)
			at := (c.from + r.IntN(c.to-c.from-512)) / 512 * 512
			for k := range b[at : at+512] {
				b[at+k] = 0
				if i%2 == 0 {
					b[at+k] = byte(r.Uint32())
				}
			}
			if err := c.check(b); errors.Is(err, ErrDamaged) {
				seen++
			} else {
				t.Logf("%s: damage %d at byte %#x isn't noticed: %v", c.name, i, at, err)
			}
		}
		if seen < c.least {
			t.Errorf("%s: %d of 40 damages were noticed", c.name, seen)
		}
	}
}

// TestUnknownPacking: what is packed in a way that isn't read here is neither whole nor damaged.
func TestUnknownPacking(t *testing.T) {
	if how, err := RAMDisk(bytes.NewReader(append([]byte("\x89LZO\x00\r\n\x1a\n"), make([]byte, 3000)...))); how !=
		"" || err != nil {
		t.Errorf("a RAM disk: %q %v", how, err)
	}
	b := make([]byte, 8192)
	copy(b[kernelAt:], "HdrS")
	b[setupAt], b[versionAt], b[versionAt+1], b[sizeAt+1] = 1, 0x0F, 2, 1 // 1024 bytes of setup, 4096 after it
	b[payloadAt+5] = 4
	copy(b[1024:], "\x89LZO\x00\r\n\x1a\n")
	if how, err := Kernel(b); how != "" || err != nil {
		t.Errorf("a kernel: %q %v", how, err)
	}
	copy(b[1024:], "nothing that is known")
	if _, err := Kernel(b); !errors.Is(err, ErrDamaged) {
		t.Errorf("no kernel: %v", err)
	}
}

func FuzzImages(f *testing.F) {
	f.Add(efiLoader(f)[:0x1200], uint16(0), byte(1))
	f.Add(core(f)[:8000], uint16(520), byte(1))
	f.Add(found(f, "/boot/vmlinuz-*-cloud-amd64")[:30000], uint16(0x248), byte(0xFF))
	end := "070701" + strings.Repeat("0", 88) + "0000000B" + "00000000" + "TRAILER!!!\x00\x00\x00\x00"
	f.Add([]byte(end), uint16(60), byte('9'))
	f.Fuzz(func(t *testing.T, b []byte, at uint16, c byte) {
		if int(at) < len(b) {
			b[at] = c
		}
		if p, err := Parse(b); err == nil {
			_, _ = GrubOf(p)
		}
		_, _ = Core(b)
		_, _ = Kernel(b)
		_, _ = RAMDisk(bytes.NewReader(b))
	})
}
