package backend_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
)

func TestFolderConforms(t *testing.T) {
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		dir := filepath.Join(t.TempDir(), "media", "oak") // made when it is missing
		return func() backend.Backend { return backend.InFolder(dir) }
	})
}

func TestHastyFolderConforms(t *testing.T) {
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		dir := filepath.Join(t.TempDir(), "oak")
		return func() backend.Backend { return backend.InFolderHastily(dir) }
	})
}

func TestFolderByRelativePath(t *testing.T) {
	t.Chdir(t.TempDir())
	b := backend.InFolder(".")
	if err := backend.Put(t.Context(), b, "twins/kiosk/1.twin", []byte("x"), backend.Options{}, nil); err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile("twins/kiosk/1.twin"); err != nil || string(got) != "x" {
		t.Errorf("%q, %v", got, err)
	}
	if b.Lag() != 0 {
		t.Errorf("a local folder lags by %v", b.Lag())
	}
}

// TestFolderConcerns looks at folders that others may read or write.
func TestFolderConcerns(t *testing.T) {
	for _, c := range []struct {
		mode   fs.FileMode
		sealed bool
		want   string
	}{{0o700, false, ""}, {0o755, false, "others can read"}, {0o755, true, ""}, {0o777, true, "others can write"}} {
		dir := t.TempDir()
		if err := os.Chmod(dir, c.mode); err != nil {
			t.Fatal(err)
		}
		got := strings.Join(backend.InFolder(dir).(backend.Exposed).Concerns(t.Context(), c.sealed), "; ")
		if c.want == "" && got != "" || !strings.Contains(got, c.want) {
			t.Errorf("mode %o, sealed %v: %q", c.mode, c.sealed, got)
		}
	}
}

// TestFolderFull puts objects onto a file system without room: nothing is left of them, and the error tells.
func TestFolderFull(t *testing.T) {
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=256k"); err != nil {
		if errors.Is(err, unix.EPERM) {
			t.Skip("mounting needs root")
		}
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := unix.Unmount(dir, 0); err != nil {
			t.Error(err)
		}
	})
	b := backend.InFolder(dir)
	err := backend.Put(t.Context(), b, "packs/1", make([]byte, 1<<20), backend.Options{}, nil)
	if !backend.IsFull(err) {
		t.Errorf("put: %v", err)
	}
	if names, err := b.List(t.Context(), "tmp"); err != nil || len(names) > 0 {
		t.Errorf("left behind: %q, %v", names, err)
	}
	if err := backend.Put(t.Context(), b, "packs/2", make([]byte, 1000), backend.Options{}, nil); err != nil {
		t.Errorf("a small one: %v", err)
	}
}
