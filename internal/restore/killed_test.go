package restore

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/settings"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// TestRestoreProcess is the process that TestKilledRestore kills.
func TestRestoreProcess(t *testing.T) {
	dir := os.Getenv("TWINSHELF_TEST_RESTORE")
	if dir == "" {
		return // it is only of use when it is killed
	}
	src, err := disk.Open(filepath.Join(dir, "source.img"), disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Of(context.Background(), src, nil)
	if err != nil {
		t.Fatal(err)
	}
	target := testkit.Target(t, filepath.Join(dir, "target.img"))
	made, err := plan.Make(t.Context(), plan.Order{Source: sv.Mapped(), Target: target.Identity})
	if err != nil {
		t.Fatal(err)
	}
	p, err := New(made, target, &disk.Guard{})
	if err != nil {
		t.Fatal(err)
	}
	p.every = 0
	state, err := settings.Load(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.GoOn(state.Note("restores/target"), "the source"); err != nil {
		t.Fatal(err)
	}
	if p.Before() != nil {
		os.WriteFile(filepath.Join(dir, "went on"), nil, 0o600)
	}
	if err := testkit.Run(t, p.Run); err != nil {
		t.Fatal(err)
	}
}

// TestKilledRestore kills the process that writes at random moments and starts it again, until it ends by itself: the
// target is what it would have been.
func TestKilledRestore(t *testing.T) {
	src := noise(48 << 20)
	wentOn := 0
	for seed := range uint64(12) {
		dir := t.TempDir()
		if err := errors.Join(os.WriteFile(filepath.Join(dir, "source.img"), src.Bytes, 0o600),
			os.WriteFile(filepath.Join(dir, "target.img"), make([]byte, src.Size()), 0o600)); err != nil {
			t.Fatal(err)
		}
		r := rand.New(rand.NewPCG(3, seed))
		for life := 0; ; life++ {
			c := exec.Command(os.Args[0], "-test.run=^TestRestoreProcess$")
			c.Env = append(os.Environ(), "TWINSHELF_TEST_RESTORE="+dir)
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			k := time.AfterFunc(time.Duration(50+r.IntN(900*(life+1)))*time.Millisecond, func() { c.Process.Kill() })
			err := c.Wait()
			k.Stop()
			if err == nil {
				break
			}
			if c.ProcessState.ExitCode() >= 0 {
				t.Fatalf("seed %d: %v\n%s", seed, err, out.String())
			}
		}
		if _, err := os.Stat(filepath.Join(dir, "went on")); err == nil {
			wentOn++
		}
		if b, err := os.ReadFile(filepath.Join(dir, "target.img")); err != nil || !bytes.Equal(b, src.Bytes) {
			t.Errorf("seed %d: the target differs (%v)", seed, err)
		}
	}
	if wentOn == 0 {
		t.Error("none of them went on from where it was cut off")
	}
}
