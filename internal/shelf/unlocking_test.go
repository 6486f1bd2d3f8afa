package shelf

import (
	"errors"
	"path/filepath"
	"testing"

	"twinshelf/internal/lock"
	"twinshelf/internal/store"
)

// TestKeysOfParts: a sealed shelf keeps the keys of all volumes on a twin's parts, by their own IDs, and gives them
// back to another ring; of other parts none.
func TestKeysOfParts(t *testing.T) {
	ctx := t.Context()
	s, err := Create(ctx, filepath.Join(t.TempDir(), "ash"), store.New{Name: "Ash",
		Passphrase: []byte("gulls over pier 7"),
		Cost:       store.Cost{Memory: 64, Passes: 1, Threads: 1}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	twin := &Twin{ID: "20261129T120000Z-aaaaaa", Disks: []TwinDisk{{Regions: []Region{{ID: "container"}, {}}}}}
	keys, ring := KeysOn(s), &lock.Keyring{}
	if err := keys.Keep(lock.With(ctx, ring), twin); !errors.Is(err, ErrNothingUnlocked) {
		t.Errorf("without a key: %v", err)
	}
	ring.Add(lock.KeyOf("elsewhere", "another part", []byte("z")))
	ring.Add(lock.KeyOf("first", "container", []byte("a")))
	ring.Add(lock.KeyOf("second", "container", []byte("b")))
	ring.Add(lock.KeyOf("container", "container", []byte("c")))
	if err := keys.Keep(lock.With(ctx, ring), twin); err != nil {
		t.Fatal(err)
	}
	other := &lock.Keyring{}
	keys.use(lock.With(ctx, other), twin.ID)
	for volume, want := range map[string]string{"first": "a", "second": "b", "container": "c"} {
		if k := other.Of(volume); k == nil || string(k.Bytes()) != want || k.Part() != "container" {
			t.Errorf("%s: %+v", volume, k)
		}
	}
	if other.Of("elsewhere") != nil {
		t.Error("a key of another part is kept")
	}
	if err := keys.Forget(ctx, twin.ID); err != nil || keys.Are(ctx, twin.ID) {
		t.Errorf("they stay: %v", err)
	}
}
