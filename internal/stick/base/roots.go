package base

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"

	"pault.ag/go/debian/deb"

	"twinshelf/internal/stick/keys"
)

// Root is where pieces are taken from.
type Root struct {
	FS fs.FS
	// Dir is the same as a folder.
	Dir string
	// Owner is the package that a file belongs to, with its version; empty where that isn't known.
	Owner func(name string) (pkg, version string)

	made map[string][]byte // loaders, once they are composed
}

const (
	dpkgStatus = "var/lib/dpkg/status"
	dpkgLists  = "var/lib/dpkg/info"
	// mostStatus bounds the list of installed packages, in bytes.
	mostStatus = 256 << 20
)

// relevant are how the names of packages begin that pieces come from.
var relevant = []string{"linux-image-", "shim", "grub", "firmware-", "intel-microcode", "amd64-microcode",
	"console-"}

// Installed takes pieces from a system as it is installed below a folder, whose list of packages tells where each comes
// from (deb(5), dpkg).
func Installed(folder string) Root {
	dir := os.DirFS(folder)
	owners := map[string]string{}
	lists, _ := fs.ReadDir(dir, dpkgLists)
	for _, l := range lists {
		pkg, ok := strings.CutSuffix(l.Name(), ".list")
		pkg, _, _ = strings.Cut(pkg, ":")
		if !ok || !isRelevant(pkg) {
			continue
		}
		f, err := dir.Open(path.Join(dpkgLists, l.Name()))
		if err != nil {
			continue
		}
		for s := bufio.NewScanner(io.LimitReader(f, mostStatus)); s.Scan(); {
			owners[strings.TrimPrefix(s.Text(), "/")] = pkg
		}
		f.Close()
	}
	versions := installedVersions(dir)
	return Root{FS: dir, Dir: folder, Owner: func(name string) (string, string) {
		pkg := owners[name]
		if pkg == "" {
			pkg = owners["usr/"+name]
		}
		return pkg, versions[pkg]
	}}
}

func isRelevant(pkg string) bool {
	for _, r := range relevant {
		if strings.HasPrefix(pkg, r) {
			return true
		}
	}
	return false
}

// installedVersions are the versions of the packages that matter.
func installedVersions(dir fs.FS) map[string]string {
	out := map[string]string{}
	f, err := dir.Open(dpkgStatus)
	if err != nil {
		return out
	}
	defer f.Close()
	pkg := ""
	s := bufio.NewScanner(io.LimitReader(f, mostStatus))
	s.Buffer(nil, 1<<20)
	for s.Scan() {
		key, value, _ := strings.Cut(s.Text(), ": ")
		switch key {
		case "Package":
			pkg = value
		case "Version":
			if isRelevant(pkg) {
				out[pkg] = value
			}
		}
	}
	return out
}

// Packages takes pieces from package files, or folders of them; what matters of them is unpacked into a folder that
// whoever calls gives and removes. Of several versions of a package the one that is named last counts.
func Packages(ctx context.Context, into string, names []string) (Root, error) {
	var files []string
	for _, n := range names {
		st, err := os.Stat(n)
		if err != nil {
			return Root{}, fmt.Errorf("the package file can't be opened: %w", err)
		}
		if !st.IsDir() {
			files = append(files, n)
			continue
		}
		inside, err := filepath.Glob(filepath.Join(n, "*.deb"))
		if err != nil || len(inside) == 0 {
			return Root{}, fmt.Errorf("%s has no package files (.deb)", n)
		}
		files = append(files, inside...)
	}
	type owner struct{ pkg, version string }
	owners := map[string]owner{}
	for _, file := range files {
		pkg, version, got, err := unpack(ctx, into, file)
		if err != nil {
			return Root{}, fmt.Errorf("%s: %w", file, err)
		}
		for _, name := range got {
			owners[name] = owner{pkg, version}
		}
	}
	if err := tabled(ctx, into); err != nil {
		return Root{}, err
	}
	return Root{FS: os.DirFS(into), Dir: into, Owner: func(name string) (string, string) {
		return owners[name].pkg, owners[name].version
	}}, nil
}

// tabled makes the tables of kernels' modules where they aren't there: they are made when a package is installed.
func tabled(ctx context.Context, into string) error {
	kernels, err := filepath.Glob(filepath.Join(into, Modules("*")))
	if err != nil {
		return err
	}
	for _, k := range kernels {
		if _, err := os.Stat(filepath.Join(k, "modules.dep")); err == nil {
			continue
		}
		tool, err := exec.LookPath("depmod")
		if err != nil {
			return &Missing{"sbin/depmod", "kmod"}
		}
		var said bytes.Buffer
		c := exec.CommandContext(ctx, tool, "-b", into, filepath.Base(k))
		c.Stderr = &said
		if err := c.Run(); err != nil {
			return fmt.Errorf("the tables of the modules of %s can't be made: %w: %s", filepath.Base(k), err,
				bytes.TrimSpace(said.Bytes()))
		}
	}
	return nil
}

// unpack unpacks what matters of a package file, and gives the names.
func unpack(ctx context.Context, into, file string) (pkg, version string, got []string, err error) {
	d, done, err := deb.LoadFile(file)
	if err != nil {
		return "", "", nil, fmt.Errorf("it can't be read as a package: %w", err)
	}
	defer func() { err = errors.Join(err, done()) }()
	root, err := os.OpenRoot(into)
	if err != nil {
		return "", "", nil, err
	}
	defer root.Close()
	for range mostPieces {
		if err := ctx.Err(); err != nil {
			return "", "", nil, err
		}
		h, err := d.Data.Next()
		if errors.Is(err, io.EOF) {
			return d.Control.Package, d.Control.Version.String(), got, nil
		}
		if err != nil {
			return "", "", nil, fmt.Errorf("it is hurt: %w", err)
		}
		name := plain(h.Name)
		if h.Typeflag != tar.TypeReg || !wanted(name) || h.Size > mostPiece {
			continue
		}
		if err := place(root, name, d.Data); err != nil {
			return "", "", nil, err
		}
		got = append(got, name)
	}
	return "", "", nil, fmt.Errorf("it has more than %d files", mostPieces)
}

// plain is a name below the root; usr/lib/modules and usr/lib/firmware stand where they stood before.
func plain(name string) string {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	for _, moved := range []string{"lib/modules/", "lib/firmware/"} {
		if rest, ok := strings.CutPrefix(name, "usr/"+moved); ok {
			return moved + rest
		}
	}
	return name
}

func place(root *os.Root, name string, from io.Reader) error {
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := root.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	return errors.Join(err, f.Close())
}

// wanted says whether a file of a package may become a piece.
func wanted(name string) bool {
	for _, p := range []string{"boot/vmlinuz-", "lib/modules/", "lib/firmware/", "usr/lib/shim/",
		"usr/lib/grub/x86_64-efi-signed/", biosDir, narrowDir, FontsDir + "Uni2-Terminus", keys.Dir + "i386/",
		keys.Dir + "include/"} {
		if strings.HasPrefix(name, p) {
			return true
		}
	}
	return false
}
