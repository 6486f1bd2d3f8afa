package restore_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// unsparse is a disk that doesn't know its holes, like most real ones.
type unsparse struct{ disk.Device }

// TestWholeCapture: on demand every byte that isn't zero is kept, what nobody uses too, and the volume still grows;
// zeros count as used nowhere, whether the disk knows its holes or not.
func TestWholeCapture(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	img := testkit.Image(t, "desk.img", 64*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", img)
	deleted := []byte("a letter that was deleted, and is wanted again")
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	at := 40 * miB
	for bytes.Count(b[at:at+4096], []byte{0}) != 4096 {
		at += 4096
	}
	testkit.Write(t, img, []disk.Patch{{Off: int64(at), Data: deleted}})
	s := newShelf(t)
	taken := func(d disk.Device, whole bool) *shelf.Twin {
		sv, err := survey.Of(context.Background(), d, nil)
		if err != nil {
			t.Fatal(err)
		}
		if whole {
			sv.TakeWhole("it was wanted")
		}
		p := capture.Plan{Shelf: s, Machine: "Kiosk", Tool: "test", Sources: []capture.Source{{Survey: sv}},
			Trust: capture.TrustNone}
		var tw *shelf.Twin
		if err := testkit.Run(t, func(rc *run.Context) (err error) {
			tw, err = p.Run(rc)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return tw
	}
	holds := func(tw *shelf.Twin) bool {
		d, err := s.OpenDisk(t.Context(), tw, 0)
		if err != nil {
			t.Fatal(err)
		}
		got := make([]byte, len(deleted))
		if err := disk.ReadFull(d, got, int64(at)); err != nil {
			t.Fatal(err)
		}
		return bytes.Equal(got, deleted)
	}
	usual, sparse, plain := taken(opened(t, img), false), taken(opened(t, img), true),
		taken(unsparse{opened(t, img)}, true)
	if holds(usual) || !holds(sparse) || !holds(plain) {
		t.Errorf("kept: %v, %v, %v", holds(usual), holds(sparse), holds(plain))
	}
	if plain.Used > 16*miB || plain.Disks[0].Used != plain.Used {
		t.Errorf("%d bytes are called used", plain.Used)
	}
	proof, made, err := putBackAs(t, s, sparse, testkit.Image(t, "larger.img", 128*miB), plan.Wish{})
	if err != nil || made.Layout.Parts[0].Grown() == 0 {
		t.Fatalf("%v %+v", err, made)
	}
	wantHolds(t, proof)
}

// TestProofOfAShelfThatCannotBeWritten: the claims are made all the same.
func TestProofOfAShelfThatCannotBeWritten(t *testing.T) {
	s := newShelf(t)
	m := disk.NewMemory(8*miB, 512)
	copy(m.Bytes[3*miB:], "fares")
	twin, err := take(t, s, m)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(s.Place(), "proofs"), nil, 0o400); err != nil { // where a folder should be
		t.Fatal(err)
	}
	var p *shelf.Proof
	err = testkit.Run(t, func(rc *run.Context) (err error) {
		p, err = prove.Twin(rc, s, twin, "test")
		return err
	})
	var not *prove.NotKept
	if !errors.As(err, &not) || p == nil || !p.Holds() {
		t.Errorf("%v %+v", err, p)
	}
}
