// Package testkit is what several packages' tests share: the operating
// system's tools, file systems made by them, and runs that are waited for.
package testkit

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Need skips the test, with a clear message, where a tool is missing. In CI
// (the variable CI is set) nothing is skipped: a missing tool fails.
func Need(t testing.TB, tools ...string) {
	t.Helper()
	for _, tool := range tools {
		if _, err := Path(tool); err != nil {
			Lacks(t, tool+" is not installed: run scripts/test as root once")
		}
	}
}

// Lacks skips the test, or fails it in CI.
func Lacks(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatal(what)
	}
	t.Skip(what)
}

// Root skips the test unless it runs as root.
func Root(t testing.TB) {
	t.Helper()
	if os.Geteuid() != 0 {
		Lacks(t, "this test needs root: it mounts file systems and attaches loop devices")
	}
}

// Path finds a tool, also where only root's PATH looks.
func Path(tool string) (string, error) {
	if p, err := exec.LookPath(tool); err == nil {
		return p, nil
	}
	return exec.LookPath("/usr/sbin/" + tool)
}

// Try runs a tool and gives its output and error.
func Try(tool string, args ...string) (string, error) {
	p, err := Path(tool)
	if err != nil {
		return "", err
	}
	out, err := exec.Command(p, args...).CombinedOutput()
	return string(out), err
}

// Running is a tool that goes on while the test does.
type Running struct {
	cmd *exec.Cmd
	out io.ReadCloser
}

// Background starts a tool, which ends with the test.
func Background(t testing.TB, tool string, args ...string) *Running {
	t.Helper()
	p, err := Path(tool)
	if err != nil {
		Lacks(t, tool+" is not installed")
	}
	r := &Running{cmd: exec.Command(p, args...)}
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if r.out, err = r.cmd.StdoutPipe(); err != nil {
		t.Fatal(err)
	}
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Stop)
	return r
}

// Await waits until the tool has written a word.
func (r *Running) Await(t testing.TB, word string) {
	t.Helper()
	var got strings.Builder
	b := make([]byte, 256)
	for !strings.Contains(got.String(), word) {
		n, err := r.out.Read(b)
		if got.Write(b[:n]); err != nil {
			t.Fatalf("waited for %q of %s: %q (%v)", word, r.cmd.Path, got.String(), err)
		}
	}
}

// Stop ends the tool and everything that it started.
func (r *Running) Stop() {
	_ = syscall.Kill(-r.cmd.Process.Pid, syscall.SIGKILL)
	_ = r.cmd.Wait()
}

// Do runs a tool that must succeed.
func Do(t testing.TB, tool string, args ...string) string {
	t.Helper()
	out, err := Try(tool, args...)
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", tool, strings.Join(args, " "), err, out)
	}
	return out
}

// Image makes a sparse image file of size bytes.
func Image(t testing.TB, name string, size int64) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	Sparse(t, p, size)
	return p
}

// Sparse makes or resizes a sparse file.
func Sparse(t testing.TB, path string, size int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
}

// Place copies a file's data into another file at byte off, leaving holes.
func Place(t testing.TB, from, to string, off int64) {
	t.Helper()
	src, err := disk.Open(from, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	copyData(t, src, to, span.Span{End: src.Size()}, off)
}

// Extract copies n bytes at byte off of a file into a new sparse file.
func Extract(t testing.TB, from string, off, n int64) string {
	t.Helper()
	out := Image(t, "extract.img", n)
	src, err := disk.Open(from, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	copyData(t, src, out, span.At(off, n), -off)
	return out
}

// copyData copies what a stretch of a file holds to places that lie shift bytes further on in another one. Holes aren't
// read.
func copyData(t testing.TB, src *disk.File, to string, what span.Span, shift int64) {
	t.Helper()
	dst, err := os.OpenFile(to, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer dst.Close()
	buf := make([]byte, 1<<20)
	for at := what.Start; at < what.End; {
		sp, err := src.NextData(at)
		if err != nil {
			return // no data after it
		}
		for pos := sp.Start; pos < min(sp.End, what.End); pos += int64(len(buf)) {
			n := min(int64(len(buf)), min(sp.End, what.End)-pos)
			if err := disk.ReadFull(src, buf[:n], pos); err != nil {
				t.Fatal(err)
			}
			if _, err := dst.WriteAt(buf[:n], pos+shift); err != nil {
				t.Fatal(err)
			}
		}
		at = sp.End
	}
}

// WriteTable builds a table and writes it into an image file.
func WriteTable(t testing.TB, path string, l table.Layout, size int64) {
	t.Helper()
	patches, err := table.Build(l, size)
	if err != nil {
		t.Fatal(err)
	}
	Write(t, path, patches)
}

// Write writes patches into an image file that holds zeros where there is nothing yet.
func Write(t testing.TB, path string, patches []disk.Patch) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			t.Fatal(err)
		}
	}
}

// Run carries work out and waits for its end.
func Run(t testing.TB, work func(*run.Context) error) error {
	return run.Start(t.Context(), "test", nil, nil, work).Wait()
}

// Target describes a file or device for the guard, as it is now.
func Target(t testing.TB, path string) disk.Target {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{Model: filepath.Base(path), Serial: "SN-TEST-4711"})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	print, err := disk.Fingerprint(d)
	if err != nil {
		t.Fatal(err)
	}
	return disk.Target{Path: path, Identity: d.Identity(), Fingerprint: print}
}

// Loop attaches an image file as a block device with sectors of the given size
// in bytes and gives its path.
func Loop(t testing.TB, img string, sector int) string {
	t.Helper()
	return LoopOf(t, "-b", strconv.Itoa(sector), img)
}

// LoopOf attaches a block device by losetup's own arguments; it is let go at the end of the test, or by Detach. Every
// loop device of the tests comes from here: one that is let go twice may be another test's by then.
func LoopOf(t testing.TB, args ...string) string {
	t.Helper()
	Root(t)
	dev := strings.TrimSpace(Do(t, "losetup", append([]string{"--find", "--show"}, args...)...))
	_, _ = Try("partx", "-d", dev) // what a test that was killed may have left there
	mine := new(byte)
	attached.Store(dev, mine)
	t.Cleanup(func() {
		if attached.CompareAndDelete(dev, mine) {
			_, _ = Try("losetup", "-d", dev)
		}
	})
	return dev
}

// attached are the loop devices of this test binary and who attached them: the name of one that was let go may be
// another's by now.
var attached sync.Map

// Detach lets a loop device go, once.
func Detach(dev string) {
	if _, mine := attached.LoadAndDelete(dev); mine {
		_, _ = Try("losetup", "-d", dev)
	}
}

// LoopGone waits until no loop device is attached to a file any more: after an unmount it goes a
// little later, and writes what it still holds.
func LoopGone(t testing.TB, img string) {
	t.Helper()
	for range 500 {
		if out, _ := Try("losetup", "-j", img); strings.TrimSpace(out) == "" {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatalf("a loop device stays attached to %s", img)
}

// Mounted mounts with a command line that lacks the mount point, works on it, and unmounts.
func Mounted(t testing.TB, mount []string, work func(point string)) {
	t.Helper()
	m := t.TempDir()
	Do(t, mount[0], append(mount[1:], m)...)
	defer func() {
		for range 100 {
			if _, err := Try("umount", m); err == nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Errorf("%s can't be unmounted", m)
	}()
	work(m)
}

// Noise gives n bytes that can't be packed, the same for a seed each time.
func Noise(seed uint64, n int) []byte {
	var key [32]byte
	binary.LittleEndian.PutUint64(key[:], seed)
	b := make([]byte, n)
	_, _ = rand.NewChaCha8(key).Read(b)
	return b
}

// StandIn is an image file that holds some bytes and stands in for a drive with faults.
func StandIn(t testing.TB, b []byte, f *disk.Faults) *disk.File {
	t.Helper()
	img := filepath.Join(t.TempDir(), "petrel.img")
	label, err := json.Marshal(disk.Label{Model: "Petrel", Serial: "PT-4711", Faults: f})
	if err == nil {
		err = errors.Join(os.WriteFile(img, b, 0o600), os.WriteFile(disk.LabelPath(img), label, 0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}
