// Package demotest gives tests the real program and demo benches. The program
// is built once for each test binary, without the race detector, and so is a demo
// bench: each test gets a copy.
package demotest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"twinshelf/internal/demo"
)

var build = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "twinshelf-test-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "twinshelf")
	out, err := exec.Command("go", "build", "-o", bin, "twinshelf/cmd/twinshelf").CombinedOutput()
	if err != nil {
		os.Stderr.Write(out)
	}
	return bin, err
})

// Program is the path of the program.
func Program(t testing.TB) string {
	t.Helper()
	bin, err := build()
	if err != nil {
		t.Fatalf("the program can't be built: %v", err)
	}
	return bin
}

// first makes the demo bench that all others are copies of.
var first = sync.OnceValues(func() (string, error) {
	bin, err := build()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(filepath.Dir(bin), "demo")
	c := exec.Command(bin, "demo", "--keep", dir, "--only-make")
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(filepath.Dir(bin), "state"))
	if out, err := c.CombinedOutput(); err != nil {
		return "", fmt.Errorf("the demo can't be made: %w: %s", err, out)
	}
	return dir, nil
})

// Bench gives a demo bench in a folder of the test.
func Bench(t testing.TB) demo.Bench {
	t.Helper()
	made, err := first()
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "demo")
	if out, err := exec.Command("cp", "-a", "--sparse=always", made, dir).CombinedOutput(); err != nil {
		t.Fatalf("the demo can't be copied: %v: %s", err, out)
	}
	return demo.Paths(dir)
}

// Done removes the program; call it at the end of TestMain.
func Done() {
	if bin, err := build(); err == nil {
		os.RemoveAll(filepath.Dir(bin))
	}
}
