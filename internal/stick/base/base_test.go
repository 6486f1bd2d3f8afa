package base_test

import (
	"bytes"
	ctx "context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/keys"
	"twinshelf/internal/testkit"
)

const kernel = "6.1.0-kiosk"

// root is a small system with all pieces; the loaders of the BIOS are those of this machine.
func root(t testing.TB) string {
	t.Helper()
	testkit.Need(t, "grub-mkimage")
	if _, err := os.Stat("/" + base.BootCode); err != nil {
		testkit.Lacks(t, "grub-pc-bin")
	}
	dir := t.TempDir()
	modules := base.Modules(kernel)
	for name, text := range map[string]string{
		base.KernelImage(kernel): "kernel", base.KernelImage("5.10.0-9-amd64"): "older",
		base.KernelImage("6.1.0-99-cloud-amd64"): "of clouds", base.Shim: "first", base.ShimKeys: "keys",
		base.Loader: "second", modules + "modules.dep": "kernel/drivers/nvme/nvme.ko: kernel/core/nvme-core.ko\n" +
			"kernel/core/nvme-core.ko:\nkernel/drivers/gpu/large.ko:\n",
		modules + "modules.alias": "alias pci:v*bc01sc08* nvme\n", modules + "modules.softdep": "",
		modules + "modules.builtin": "", modules + "kernel/drivers/nvme/nvme.ko": "nvme",
		modules + "kernel/core/nvme-core.ko": "core", modules + "kernel/drivers/gpu/large.ko": "large",
		"var/lib/dpkg/status": "Package: shim-signed\nStatus: install ok\nVersion: " +
			"1.51\n\nPackage: bash\nVersion: 5\n",
		"var/lib/dpkg/info/shim-signed.list": "/.\n/usr/lib/shim\n/" + base.Shim + "\n/" + base.ShimKeys + "\n",
	} {
		put(t, filepath.Join(dir, name), text)
	}
	bios := filepath.Join(dir, filepath.Dir(base.BootCode))
	if err := os.MkdirAll(filepath.Dir(bios), 0o755); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "cp", "-r", "/"+filepath.Dir(base.BootCode), bios)
	if _, err := os.Stat("/usr/lib/grub/i386-efi/kernel.img"); err != nil {
		testkit.Lacks(t, "grub-efi-ia32-bin")
	}
	testkit.Do(t, "cp", "-r", "/usr/lib/grub/i386-efi", filepath.Dir(bios))
	for pkg, from := range map[string]string{"console-setup-linux": base.FontsDir, "console-data": keys.Dir} {
		if _, err := os.Stat("/" + from); err != nil {
			testkit.Lacks(t, pkg)
		}
		to := filepath.Join(dir, from)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "cp", "-rL", "/"+strings.TrimSuffix(from, "/"), to)
	}
	return dir
}

func put(t testing.TB, path, text string) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
		t.Fatal(err)
	}
}

// read gives the pieces of a base.
func read(b []byte) (m *base.Manifest, pieces map[string]string, err error) {
	pieces = map[string]string{}
	err = base.Read(ctx.Background(), bytes.NewReader(b), func(x *base.Manifest) error {
		m = x
		return nil
	}, func(p base.Piece, r io.Reader) error {
		text, err := io.ReadAll(r)
		pieces[p.Name] = string(text)
		return err
	})
	return m, pieces, err
}

// TestBase: what is collected is read again, with the package of each piece; what the chosen modules need comes along,
// and nothing else.
func TestBase(t *testing.T) {
	dir := root(t)
	var out bytes.Buffer
	m, err := base.Collect(t.Context(), &out, base.Installed(dir), kernel, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	again, pieces, err := read(out.Bytes())
	if err != nil || len(pieces) != len(m.Pieces) || again.Kernel != kernel {
		t.Fatalf("%d pieces of %d, %v", len(pieces), len(m.Pieces), err)
	}
	for name, want := range map[string]string{base.KernelImage(kernel): "kernel", base.Shim: "first",
		base.Modules(kernel) + "kernel/core/nvme-core.ko": "core", base.Modules(kernel) +
			"kernel/drivers/nvme/nvme.ko": "nvme"} {
		if pieces[name] != want {
			t.Errorf("%s is %q, want %q", name, pieces[name], want)
		}
	}
	if _, there := pieces[base.Modules(kernel)+"kernel/drivers/gpu/large.ko"]; there || len(pieces[base.Core]) < 1024 {
		t.Error("there is a module too many, or no second stage")
	}
	if v := m.Versions(); len(v) != 1 || v[0].Package != "shim-signed" || v[0].Version != "1.51" {
		t.Errorf("the packages are %+v", v)
	}
	if all, err := base.Kernels(base.Installed(dir)); err != nil || len(all) != 3 || all[0] != kernel ||
		!strings.Contains(all[2], "cloud") {
		t.Errorf("the kernels are %v (%v)", all, err)
	}
}

// TestMissing: a piece that isn't there is named with the package that has it.
func TestMissing(t *testing.T) {
	for name, pkg := range map[string]string{base.Shim: "shim-signed", base.Loader: "grub-efi-amd64-signed",
		base.BootCode: "grub-pc-bin", base.KernelImage(kernel): "linux-image-" + kernel,
		base.Modules(kernel) + "modules.dep": "linux-image-" + kernel} {
		dir := root(t)
		if err := os.Remove(filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
		var missing *base.Missing
		_, err := base.Collect(t.Context(), io.Discard, base.Installed(dir), kernel, time.Now())
		if !errors.As(err, &missing) || missing.Package != pkg {
			t.Errorf("without %s: %v", name, err)
		}
	}
	var missing *base.Missing
	if _, err := base.Collect(t.Context(), io.Discard, base.Root{FS: os.DirFS(t.TempDir()), Owner: nobody}, "",
		time.Now()); !errors.As(err, &missing) || missing.Package != "linux-image-amd64" {
		t.Errorf("an empty system: %v", err)
	}
}

func nobody(string) (pkg, version string) { return "", "" }

// TestHurtBase: whatever byte of a base is wrong, it is found, and nothing that isn't a base is taken for one.
func TestHurtBase(t *testing.T) {
	var out bytes.Buffer
	if _, err := base.Collect(t.Context(), &out, base.Installed(root(t)), kernel, time.Now()); err != nil {
		t.Fatal(err)
	}
	good := out.Bytes()
	for at := 0; at < len(good); at += max(1, len(good)/97) {
		bad := bytes.Clone(good)
		bad[at] ^= 0x10
		if _, pieces, err := read(bad); err == nil {
			if _, want, _ := read(good); len(want) != len(pieces) || want[base.Shim] != pieces[base.Shim] {
				t.Errorf("byte %d is wrong, and nothing is said", at)
			}
		}
		if _, _, err := read(good[:at]); err == nil {
			t.Errorf("cut at byte %d it is taken for whole", at)
		}
	}
	if _, _, err := read([]byte("PK\x03\x04")); !errors.Is(err, base.ErrOther) {
		t.Errorf("something else: %v", err)
	}
}

// TestPackages: pieces come out of package files as out of an installed system.
func TestPackages(t *testing.T) {
	testkit.Need(t, "dpkg-deb")
	dir := root(t)
	if err := os.RemoveAll(filepath.Join(dir, "var")); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(dir, "DEBIAN/control"), "Package: kiosk-base\nVersion: 3.1-2\nArchitecture: amd64\n"+
		"Maintainer: Tam Leclair <tam@ternhouse.example>\nDescription: all of it\n")
	put(t, filepath.Join(dir, "etc/passwd"), "not wanted")
	folder := t.TempDir()
	testkit.Do(t, "dpkg-deb", "-b", "--root-owner-group", dir, filepath.Join(folder, "kiosk.deb"))
	into := t.TempDir()
	r, err := base.Packages(t.Context(), into, []string{folder})
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	m, err := base.Collect(t.Context(), &out, r, kernel, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if v := m.Versions(); len(v) != 1 || v[0].Version != "3.1-2" {
		t.Errorf("the packages are %+v", v)
	}
	if _, err := os.Stat(filepath.Join(into, "etc/passwd")); err == nil {
		t.Error("what isn't wanted is unpacked")
	}
	bad := filepath.Join(t.TempDir(), "bad.deb")
	put(t, bad, "!<arch>\nnothing")
	for _, n := range []string{bad, t.TempDir(), "/nowhere.deb"} {
		if _, err := base.Packages(t.Context(), t.TempDir(), []string{n}); err == nil {
			t.Errorf("%s is taken for packages", n)
		}
	}
}
