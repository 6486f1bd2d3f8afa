// Package demotest gives tests the real program and demo benches. The program
// is built once for each test binary, without the race detector: a demo bench
// is then made in a second.
package demotest

import (
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

// Bench makes a demo bench in a folder of the test.
func Bench(t testing.TB) demo.Bench {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "demo")
	c := exec.Command(Program(t), "demo", "--keep", dir, "--only-make")
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("the demo can't be made: %v\n%s", err, out)
	}
	return demo.Paths(dir)
}

// Done removes the program; call it at the end of TestMain.
func Done() {
	if bin, err := build(); err == nil {
		os.RemoveAll(filepath.Dir(bin))
	}
}
