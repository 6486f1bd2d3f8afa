package takeout

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/run"
	"twinshelf/internal/testkit"
)

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// office fills a folder with what a desk has: unicode, links, owners, attributes, sparse files, times.
func office(t testing.TB, dir string, tickets int) {
	t.Helper()
	at := func(name string) string { return filepath.Join(dir, name) }
	for i := range tickets {
		p := at(fmt.Sprintf("tickets/%02d/ticket %05d.txt", i/200, i))
		must(t, os.MkdirAll(filepath.Dir(p), 0o755))
		must(t, os.WriteFile(p, bytes.Repeat([]byte{byte(i), 'x'}, i%3000), 0o640))
	}
	must(t, os.MkdirAll(at("papers/deep/er"), 0o750))
	for _, name := range []string{"Überfahrt — Fahrplan.txt", "日程表", "a: b?.txt", "Case.txt", "case.txt",
		"trailing dot.", strings.Repeat("long ", 50)} {
		must(t, os.WriteFile(at("papers/"+name), []byte(name), 0o604))
	}
	must(t, os.WriteFile(at("large.bin"), bytes.Repeat([]byte("0123456789abcdef"), 300_000), 0o644))
	must(t, os.Link(at("large.bin"), at("papers/second name")))
	must(t, os.Symlink("../large.bin", at("papers/link")))
	must(t, os.Symlink("/nowhere/at/all", at("papers/absolute")))
	must(t, unix.Mkfifo(at("papers/pipe"), 0o600))
	f, err := os.Create(at("sparse"))
	must(t, err)
	_, err = f.WriteAt([]byte("in the middle"), 30<<20)
	must(t, err)
	must(t, f.Truncate(64<<20))
	must(t, f.Close())
	if os.Geteuid() == 0 {
		must(t, os.Lchown(at("papers/case.txt"), 1234, 2345))
	}
	must(t, os.Chmod(at("papers/case.txt"), 0o755|fs.ModeSetuid))
	must(t, unix.Setxattr(at("papers/case.txt"), "user.colour", []byte("sea green"), 0))
	must(t, os.Chtimes(at("papers/deep"), time.Unix(1e9, 5), time.Unix(1e9, 123_456_789)))
}

// imaged makes an ext4 image of a folder by the kernel, and gives its tree.
func imaged(t testing.TB, fill func(dir string)) (img string, tree fsys.Tree) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "mount")
	testkit.Root(t)
	img = testkit.Image(t, "office.img", 400<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-N", "30000", img)
	testkit.Mounted(t, []string{"mount", "-o", "loop", img}, fill)
	testkit.LoopGone(t, img)
	d, err := disk.Open(img, disk.Identity{})
	must(t, err)
	t.Cleanup(func() { d.Close() })
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	must(t, err)
	tree, err = fsys.TreeOf(v)
	must(t, err)
	return img, tree
}

func choose(t testing.TB, tree fsys.Tree, paths ...string) (out []Choice) {
	t.Helper()
	for _, p := range paths {
		it, err := fsys.Find(tree, p)
		must(t, err)
		out = append(out, Choice{Tree: tree, Item: it, Path: p})
	}
	return out
}

func taken(t testing.TB, work func(rc *run.Context) (*Report, error)) *Report {
	t.Helper()
	var r *Report
	must(t, testkit.Run(t, func(rc *run.Context) (err error) {
		r, err = work(rc)
		return err
	}))
	return r
}

// state is everything of a file that is compared.
func state(path string) string {
	st, err := os.Lstat(path)
	if err != nil {
		return err.Error()
	}
	var x unix.Stat_t
	_ = unix.Lstat(path, &x)
	s := fmt.Sprintf("%v %d:%d", st.Mode(), x.Uid, x.Gid)
	if st.Mode()&fs.ModeSymlink != 0 {
		target, _ := os.Readlink(path)
		return s + " -> " + target
	}
	s += " " + st.ModTime().UTC().String()
	b := make([]byte, 100)
	if n, err := unix.Getxattr(path, "user.colour", b); err == nil {
		s += " " + string(b[:n])
	}
	if st.Mode().IsRegular() {
		f, err := os.Open(path)
		if err != nil {
			return err.Error()
		}
		defer f.Close()
		h := sha256.New()
		_, _ = io.Copy(h, f)
		s += fmt.Sprintf(" %d %x", x.Nlink, h.Sum(nil))
	}
	return s
}

func compareFolders(t *testing.T, from, to string, except ...string) (n int) {
	t.Helper()
	names := map[string]bool{}
	for _, root := range []string{from, to} {
		must(t, filepath.WalkDir(root, func(p string, _ fs.DirEntry, err error) error {
			name, _ := filepath.Rel(root, p)
			if names[name] = true; name == "lost+found" {
				return fs.SkipDir
			}
			return err
		}))
	}
	for name := range names {
		if name == "." || name == "lost+found" || slices.Contains(except, name) {
			continue
		}
		n++
		if a, b := state(filepath.Join(from, name)), state(filepath.Join(to, name)); a != b {
			t.Errorf("%s\n was %s\n is  %s", name, a, b)
		}
	}
	return n
}

func TestIntoAFolder(t *testing.T) {
	img, tree := imaged(t, func(dir string) { office(t, dir, 2000) })
	dest := filepath.Join(t.TempDir(), "new", "folder")
	all := choose(t, tree, "tickets", "papers", "large.bin", "sparse")
	r := taken(t, func(rc *run.Context) (*Report, error) { return ToFolder(rc, all, dest, Options{}) })
	if r.LeftOut != 1 || r.Left[0].Path != "papers/pipe" || r.Left[0].Why != "it is a pipe" ||
		r.Verified != r.Files-1 || r.Links != 2 || len(r.Renamed) > 0 || len(r.Lost) > 0 {
		t.Errorf("%s: %+v", r.Words(), *r)
	}
	testkit.Mounted(t, []string{"mount", "-o", "loop,ro,noatime", img}, func(point string) {
		if n := compareFolders(t, point, dest, "papers/pipe"); n < 2000 {
			t.Errorf("only %d items", n)
		}
	})
	var st unix.Stat_t
	if must(t, unix.Stat(filepath.Join(dest, "sparse"), &st)); st.Blocks*512 > 1<<20 {
		t.Errorf("the sparse file takes %d bytes", st.Blocks*512)
	}
	// Again: everything is there. A file that is missing and one that was cut off come, one that is other stays.
	must(t, os.Remove(filepath.Join(dest, "tickets/03/ticket 00700.txt")))
	must(t, os.WriteFile(filepath.Join(dest, "tickets/03", partial("ticket 00700.txt")), []byte("half of"), 0o600))
	must(t, os.WriteFile(filepath.Join(dest, "papers/日程表"), []byte("written here since"), 0o600))
	r = taken(t, func(rc *run.Context) (*Report, error) { return ToFolder(rc, all, dest, Options{}) })
	if r.Verified != 1 || r.LeftOut != 2 || r.Already != r.Files-1 {
		t.Errorf("again: %s: %+v", r.Words(), r.Left)
	}
	if b, _ := os.ReadFile(filepath.Join(dest, "papers/日程表")); string(b) != "written here since" {
		t.Errorf("it was written over: %q", b)
	}
	if left, _ := filepath.Glob(filepath.Join(dest, "*/*/.twinshelf*")); len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
	taken(t, func(rc *run.Context) (*Report, error) {
		return ToFolder(rc, all[1:2], dest, Options{Clash: KeepBoth, Tag: "2026-11-20"})
	})
	if b, _ := os.ReadFile(filepath.Join(dest, "papers/日程表 (2026-11-20)")); string(b) != "日程表" {
		t.Errorf("beside it stands %q", b)
	}
	taken(t, func(rc *run.Context) (*Report, error) { return ToFolder(rc, all[1:2], dest, Options{Clash: Replace}) })
	if b, _ := os.ReadFile(filepath.Join(dest, "papers/日程表")); string(b) != "日程表" {
		t.Errorf("it is still %q", b)
	}
}

// TestIntoASmallerWorld: a destination with fewer names, no owners and no links.
func TestIntoASmallerWorld(t *testing.T) {
	testkit.Need(t, "mkfs.exfat", "mount.exfat-fuse")
	_, tree := imaged(t, func(dir string) { office(t, dir, 10) })
	img := testkit.Image(t, "stick.img", 200<<20)
	testkit.Do(t, "mkfs.exfat", img)
	dev := testkit.Loop(t, img, 512)
	testkit.Mounted(t, []string{"mount.exfat-fuse", dev}, func(point string) {
		r := taken(t, func(rc *run.Context) (*Report, error) {
			return ToFolder(rc, choose(t, tree, "papers", "large.bin"), point, Options{})
		})
		names := map[string]string{}
		for _, x := range r.Renamed {
			names[x.Path] = x.As
		}
		if names["papers/a: b?.txt"] != "a_ b_.txt" || names["papers/case.txt"] == "" &&
			names["papers/Case.txt"] == "" {
			t.Errorf("renamed: %+v", r.Renamed)
		}
		for path, want := range map[string]string{"papers/a_ b_.txt": "a: b?.txt", "papers/日程表": "日程表",
			"papers/" + filepath.Base(names["papers/case.txt"]): "case.txt"} {
			if names["papers/case.txt"] == "" {
				continue
			}
			if b, err := os.ReadFile(filepath.Join(point, path)); string(b) != want {
				t.Errorf("%s holds %q, want %q (%v)", path, b, want, err)
			}
		}
		for _, l := range r.Left {
			if !slices.Contains([]string{"papers/pipe", "papers/link", "papers/absolute"}, l.Path) {
				t.Errorf("left: %+v", l)
			}
		}
		if len(r.Lost) == 0 {
			t.Error("nothing is said of owners and attributes")
		}
	})
	testkit.Detach(dev)
}

func TestTarAndZip(t *testing.T) {
	testkit.Need(t, "tar")
	img, tree := imaged(t, func(dir string) { office(t, dir, 600) })
	all := choose(t, tree, "tickets", "papers", "large.bin", "sparse")
	var packed bytes.Buffer
	r := taken(t, func(rc *run.Context) (*Report, error) { return ToTar(rc, all, &packed, Options{}) })
	if r.LeftOut != 1 || r.Left[0].Path != "papers/pipe" {
		t.Errorf("tar: %+v", r)
	}
	dir := t.TempDir()
	file := filepath.Join(t.TempDir(), "office.tar")
	must(t, os.WriteFile(file, packed.Bytes(), 0o600))
	testkit.Do(t, "tar", "--xattrs", "-xpf", file, "-C", dir)
	testkit.Mounted(t, []string{"mount", "-o", "loop,ro,noatime", img}, func(point string) {
		if n := compareFolders(t, point, dir, "papers/pipe"); n < 600 {
			t.Errorf("only %d items", n)
		}
	})
	packed.Reset()
	r = taken(t, func(rc *run.Context) (*Report, error) {
		return ToZip(rc, choose(t, tree, "papers"), &packed, Options{})
	})
	was := map[string]string{} // of names that some systems couldn't take
	for _, x := range r.Renamed {
		was["papers/"+x.As] = x.Path
	}
	if was["papers/a_ b_.txt"] != "papers/a: b?.txt" || was["papers/trailing dot_"] == "" {
		t.Errorf("renamed: %+v", r.Renamed)
	}
	z, err := zip.NewReader(bytes.NewReader(packed.Bytes()), int64(packed.Len()))
	must(t, err)
	seen := map[string]string{}
	for _, f := range z.File {
		rc, err := f.Open()
		must(t, err)
		b, err := io.ReadAll(rc)
		must(t, err)
		seen[f.Name] = fmt.Sprintf("%v %d", f.Mode(), len(b))
		name := strings.TrimSuffix(f.Name, "/")
		if x := was[name]; x != "" {
			name = x
		}
		if it, err := fsys.Find(tree, name); err != nil || f.Modified.Unix() != it.Modified.Unix() {
			t.Errorf("%s: %v, %v", f.Name, f.Modified, err)
		}
	}
	if seen["papers/second name"] != "-rw-r--r-- 4800000" || seen["papers/link"] != "Lrwxrwxrwx 12" ||
		seen["papers/deep/er/"] == "" {
		t.Errorf("zip: %v", seen)
	}
}

// hostile is a tree that lies.
type hostile map[string][]fsys.Item

func (h hostile) Root() (fsys.Item, error) { return fsys.Item{Mode: fs.ModeDir | 0o755, Ref: ""}, nil }
func (h hostile) List(f fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		for _, it := range h[f.Ref.(string)] {
			if !yield(it, nil) {
				return
			}
		}
	}
}
func (h hostile) Lookup(fsys.Item, string) (fsys.Item, error) { return fsys.Item{}, fs.ErrNotExist }
func (h hostile) Open(it fsys.Item, _ string) (fsys.Contents, error) {
	if it.Name == "unreadable" {
		return nil, errors.New("its extents are garbled")
	}
	return &fsys.Resident{Bytes: []byte("evil")}, nil
}
func (h hostile) More(it fsys.Item) (fsys.More, error) {
	return fsys.More{Target: map[bool]string{true: "/etc"}[it.Mode.Type() == fs.ModeSymlink]}, nil
}

func TestNothingLeadsOutside(t *testing.T) {
	file := func(name string) fsys.Item { return fsys.Item{Name: name, Mode: 0o644, Size: 4, Ref: name} }
	h := hostile{"": {
		file(".."), file("."), file("../escape"), file("/abs"), file("a\x00b"), file("ok"), file("unreadable"),
		{Name: "door", Mode: fs.ModeSymlink | 0o777}, {Name: "door", Mode: fs.ModeDir | 0o755, Ref: "door", ID: 9},
		{Name: "loop", Mode: fs.ModeDir | 0o755, Ref: "loop", ID: 7},
		{Name: "disk", Mode: fs.ModeDevice | 0o666, Major: 8},
		{Name: "outside", Mode: fs.ModeDir | 0o755, Ref: "outside", ID: 11},
	}, "door": {file("passwd")}, "loop": {{Name: "again", Mode: fs.ModeDir | 0o755, Ref: "loop", ID: 7}, file("in")},
		"outside": {file("through a link")}}
	top := t.TempDir()
	dest := filepath.Join(top, "dest")
	must(t, os.Mkdir(dest, 0o755))
	elsewhere := filepath.Join(top, "elsewhere")
	must(t, os.Mkdir(elsewhere, 0o755))
	must(t, os.MkdirAll(filepath.Join(dest, "all"), 0o755))
	must(t, os.Symlink(elsewhere, filepath.Join(dest, "all", "outside")))
	root, _ := h.Root()
	root.Name = "all"
	r := taken(t, func(rc *run.Context) (*Report, error) {
		return ToFolder(rc, []Choice{{Tree: h, Item: root, Path: "."}}, dest, Options{})
	})
	var paths []string
	must(t, filepath.WalkDir(top, func(p string, _ fs.DirEntry, err error) error {
		name, _ := filepath.Rel(top, p)
		paths = append(paths, name)
		return err
	}))
	want := []string{".", "dest", "dest/all", "dest/all/door", "dest/all/door (2)", "dest/all/door (2)/passwd",
		"dest/all/loop", "dest/all/loop/in", "dest/all/ok", "dest/all/outside", "elsewhere"}
	if !slices.Equal(paths, want) {
		t.Errorf("there are %q", paths)
	}
	if r.LeftOut != 9 {
		t.Errorf("%d left: %+v", r.LeftOut, r.Left)
	}
	var packed bytes.Buffer
	taken(t, func(rc *run.Context) (*Report, error) {
		return ToTar(rc, []Choice{{Tree: h, Item: root, Path: "."}}, &packed, Options{})
	})
	for tr := tar.NewReader(&packed); ; {
		head, err := tr.Next()
		if err != nil {
			break
		}
		if !strings.HasPrefix(head.Name, "all/") || strings.Contains(head.Name, "..") ||
			strings.Contains(head.Name, "//") {
			t.Errorf("the tar has %q", head.Name)
		}
	}
}

// TestTwoDatesInOneGo: items of two dates have the same identities and other contents, and a folder may be chosen
// beside one above it.
func TestTwoDatesInOneGo(t *testing.T) {
	date := func(text string) hostile {
		return hostile{"": {{Name: "papers", Mode: fs.ModeDir | 0o755, Ref: "papers", ID: 5}},
			"papers": {{Name: "first", Mode: 0o644, Size: 4, Ref: text, ID: 7, Links: 2},
				{Name: "inner", Mode: fs.ModeDir | 0o755, Ref: "inner", ID: 6}},
			"inner": {{Name: "deep", Mode: 0o644, Size: 4, Ref: text, ID: 8, Links: 1}}}
	}
	a, b := date("evil"), date("good")
	one, two := dated{a, "evil"}, dated{b, "good"}
	choices := []Choice{{Tree: one, Item: a[""][0], Path: "papers", Source: "one"},
		{Tree: one, Item: a["papers"][1], Path: "papers/inner", Source: "one"},
		{Tree: two, Item: b[""][0], Path: "papers", Source: "two", Name: "papers of the other date"}}
	dest := t.TempDir()
	r := taken(t, func(rc *run.Context) (*Report, error) { return ToFolder(rc, choices, dest, Options{}) })
	for name, want := range map[string]string{"papers/first": "evil", "papers/inner/deep": "evil", "inner/deep": "evil",
		"papers of the other date/first": "good", "papers of the other date/inner/deep": "good"} {
		if got, err := os.ReadFile(filepath.Join(dest, name)); err != nil || string(got) != want {
			t.Errorf("%s holds %q, want %q (%v)", name, got, want, err)
		}
	}
	if r.LeftOut != 0 {
		t.Errorf("left: %+v", r.Left)
	}
	var packed bytes.Buffer
	if r := taken(t, func(rc *run.Context) (*Report, error) {
		return ToTar(rc, choices, &packed,
			Options{})
	}); r.LeftOut != 0 || r.Files != 5 {
		t.Errorf("tar: %+v", r)
	}
	for tr := tar.NewReader(&packed); ; {
		head, err := tr.Next()
		if err != nil {
			break
		}
		if head.Typeflag == tar.TypeLink {
			t.Errorf("%s is a link to %s", head.Name, head.Linkname)
		}
	}
}

// dated is a tree whose files all hold one text.
type dated struct {
	hostile
	text string
}

func (d dated) Open(fsys.Item, string) (fsys.Contents, error) {
	return &fsys.Resident{Bytes: []byte(d.text)}, nil
}

func TestCancelledAndFull(t *testing.T) {
	testkit.Root(t)
	_, tree := imaged(t, func(dir string) { office(t, dir, 50) })
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	err := run.Start(ctx, "x", Phases, nil, func(rc *run.Context) error {
		_, err := ToFolder(rc, choose(t, tree, "tickets"), t.TempDir(), Options{})
		return err
	}).Wait()
	if !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	testkit.Mounted(t, []string{"mount", "-t", "tmpfs", "-o", "size=2m", "none"}, func(point string) {
		err := testkit.Run(t, func(rc *run.Context) error {
			_, err := ToFolder(rc, choose(t, tree, "large.bin"), point, Options{})
			return err
		})
		if !errors.Is(err, unix.ENOSPC) || !strings.Contains(err.Error(), "large.bin") {
			t.Errorf("a full destination: %v", err)
		}
		if left, _ := os.ReadDir(point); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	})
}
