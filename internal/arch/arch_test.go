// Package arch checks the arrows between the rooms of the house.
package arch

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// order lists the packages from the ground up; each may use only what stands before it.
var order = []string{
	"span", "units", "sizes", "durable", "disk", "disk/health", "disk/careful", "table", "signature", "lock",
	"container",
	"container/bitlocker", "container/fusion", "container/ldm", "container/lvm", "lzfse", "lzx", "xpress",
	"fsys", "fsys/upcase", "fsys/decmpfs",
	"fsys/apfs", "fsys/fat", "fsys/exfat", "fsys/hfsplus", "fsys/ntfs", "fsys/ext", "fsys/swap",
	"fsys/families", "fsys/prelist",
	"hive", "names", "survey", "store/backend", "store/door", "store/spool", "store/pace", "store/server",
	"store/bucket",
	"store/near", "store/far", "store",
	"shelf",
	"keeping", "inside", "fit", "rehearse",
	"startup/image",
	"startup/realmode", "startup/script", "startup/bcd", "startup/windows", "startup", "identity", "plan", "run",
	"takeout", "capture", "rescue",
	"restore",
	"prove", "job", "routine",
	"ready", "stick/drivers", "stick/font", "stick/keys", "stick/base", "stick/ramdisk", "stick/drive",
	"mounts", "firmware", "machine", "network", "live", "bench",
	"settings", "scene", "draw", "sheet", "answer", "workshop", "demo", "demo/cutoff",
	"demo/walk",
	"stick/first",
	"cli", "tui",
}

// testsOnly are the packages that serve tests; they may use anything, and nothing of the product uses them.
var testsOnly = map[string]bool{"testkit": true, "tmuxtest": true, "demotest": true, "arch": true,
	"store/backend/backendtest": true, "container/bitlocker/bitlockertest": true, "hive/hivetest": true,
	"fsys/fsystest":   true,
	"shelf/shelftest": true, "testkit/filler": true, "lzfse/lzfsetest": true, "lzx/lzxtest": true,
	"fsys/decmpfs/decmpfstest": true, "container/ldm/ldmtest": true,
	"disk/disktest": true}

type pkg struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []pkg {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = "../.."
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []pkg
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
}

func TestArrowsRunDownward(t *testing.T) {
	for _, p := range packages(t) {
		room, inside := strings.CutPrefix(p.ImportPath, "twinshelf/internal/")
		if !inside || testsOnly[room] {
			continue
		}
		at := slices.Index(order, room)
		if at < 0 {
			t.Errorf("package %s is not in the order of rooms: add it where it belongs", room)
			continue
		}
		for _, imp := range p.Imports {
			if below, ok := strings.CutPrefix(imp, "twinshelf/internal/"); ok {
				k := slices.Index(order, below)
				if k < 0 || k >= at {
					t.Errorf("%s uses %s, which doesn't stand below it", room, below)
				}
				if strings.HasPrefix(room, "fsys/") && room != "fsys/families" && strings.HasPrefix(below, "fsys/") &&
					below != "fsys/upcase" && below != "fsys/decmpfs" {
					t.Errorf("file system family %s knows %s", room, below)
				}
			}
			screen := strings.Contains(imp, "charm.land") || strings.Contains(imp, "charmbracelet")
			if screen && room != "tui" || strings.Contains(imp, "spf13/cobra") && room != "cli" {
				t.Errorf("%s uses the interface library %s", room, imp)
			}
			if room == "tui" && strings.HasSuffix(imp, "/internal/cli") || room == "cli" &&
				strings.HasSuffix(imp, "/internal/tui") {
				t.Errorf("%s uses %s", room, imp)
			}
		}
	}
}

// TestOneDoorForWriting looks for files opened for writing outside the rooms
// that may: the guard, the shelf's own files, settings, the record of cases, the log, and the
// demo's stand-ins.
func TestOneDoorForWriting(t *testing.T) {
	allowed := []string{"disk/guard.go", "disk/file.go", "disk/create.go", "store/backend/folder.go",
		"store/server/upload.go", "store/spool/spool.go", "store/door/door.go",
		"store/door/log.go", "store/door/session.go",
		"store/door/change.go", "store/near/copies.go", "testkit/ssh.go", "testkit/cert.go", "testkit/s3.go",
		"durable/durable.go", "ready/keepsake.go", "cli/log.go", "demo/build.go", "demo/scenes.go",
		"takeout/folder.go",
		"stick/base/core.go", "stick/first/first.go", "stick/first/console.go", "stick/first/dress.go",
		"mounts/mounts.go", "firmware/variables.go",
		"workshop/insidewords.go", "testkit/testkit.go", "testkit/filler/main.go", "testkit/guest.go",
		"testkit/system.go", "testkit/lvm.go",
		"container/bitlocker/bitlockertest/bitlockertest.go", "container/ldm/ldmtest/ldmtest.go",
		"hive/hivetest/hivetest.go", "hive/hivetest/till.go",
		"fsys/fsystest/conform.go", "fsys/fsystest/changes.go",
		"shelf/shelftest/shelftest.go"}
	err := filepath.WalkDir("..", func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for _, call := range []string{"os.OpenFile", "os.Create(", "os.WriteFile", "O_RDWR", "O_WRONLY"} {
			if strings.Contains(string(b), call) &&
				!slices.Contains(allowed, strings.TrimPrefix(filepath.ToSlash(path), "../")) {
				t.Errorf("%s uses %s: disks are written through disk.Guard only", path, call)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
