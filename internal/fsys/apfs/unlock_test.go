package apfs_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/lock"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

const (
	password = "Möwe und Boje 7"
	recovery = "K4TE-9PLM-22QX-AAB7-ZZ31-0NQR"
)

// locked is an encrypted container, and what is in it.
func locked(t testing.TB, name string, half bool) (img string, all []testkit.Seen) {
	t.Helper()
	img, all = container(t, name)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	testkit.Write(t, img, apfs.Seal(t, d, half, password, recovery))
	return img, all
}

// withKeys opens a container with a secret.
func withKeys(t testing.TB, img, secret string) fsys.Volume {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	c := v.(*apfs.Container)
	all := c.Locked()
	if len(all) != 1 || c.Encrypted() {
		t.Fatalf("%d volumes are locked", len(all))
	}
	ring := &lock.Keyring{}
	k, err := all[0].Unlock(t.Context(), lock.Secret{Text: []byte(secret)})
	if err != nil {
		t.Fatal(err)
	}
	ring.Add(k)
	if v, err = families.Identify(lock.With(t.Context(), ring), d, d.Size(), 512); err != nil {
		t.Fatal(err)
	}
	if c = v.(*apfs.Container); len(c.Locked()) != 0 || !c.Encrypted() || !families.Encrypted(c) {
		t.Error("it stays locked")
	}
	if on := ring.OnPart(v.Info().ID); len(on) != 1 {
		t.Errorf("%d keys are of the part", len(on))
	}
	return v
}

// TestUnlocks: an encrypted volume shows its files by its password or recovery key, with its snapshot, in both
// forms of keys; every byte of them is right.
func TestUnlocks(t *testing.T) {
	_, before := container(t, "ferry")
	for _, c := range []struct {
		name, secret string
		half         bool
	}{{"ferry", password, false}, {"noon", strings.ToLower(strings.ReplaceAll(recovery, "-", " ")), true}} {
		img, now := locked(t, c.name, c.half)
		tree, err := fsys.TreeOf(withKeys(t, img, c.secret))
		if err != nil {
			t.Fatal(err)
		}
		sameIn(t, tree, now, before)
	}
}

// TestStaysLocked: wrong secrets and keys are told as such, and nothing is shown.
func TestStaysLocked(t *testing.T) {
	img, _ := locked(t, "ferry", false)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	if c := s.Areas[0].Content; !c.Sound {
		t.Errorf("its maps aren't believed: %s", c.Why)
	}
	all := s.Locked()
	if len(all) != 1 || !strings.Contains(all[0].Words(), "the ferry's name") || len(all[0].Asks()) != 2 {
		t.Fatalf("%+v", all)
	}
	v := all[0]
	id, label := v.Name()
	if label != volumeName {
		t.Errorf("it is called %q", label)
	}
	for _, c := range []struct {
		s    lock.Secret
		want error
	}{{lock.Secret{Text: []byte("gulls")}, lock.ErrWrongKey}, {lock.Secret{File: "x.bek"}, lock.ErrNoProtector},
		{lock.Secret{Text: []byte(strings.ReplaceAll(recovery, "K", "L"))}, lock.ErrWrongKey}} {
		if _, err := v.Unlock(t.Context(), c.s); !errors.Is(err, c.want) {
			t.Errorf("%+v: %v", c.s, err)
		}
	}
	if err := v.Opens(lock.KeyOf(id, "", make([]byte, 32))); !errors.Is(err, lock.ErrWrongKey) {
		t.Errorf("another key: %v", err)
	}
	if err := v.Opens(lock.KeyOf(id, "", make([]byte, 7))); !errors.Is(err, lock.ErrWrongKey) {
		t.Errorf("a short key: %v", err)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := v.Unlock(over, lock.Secret{Text: []byte(password)}); !errors.Is(err, context.Canceled) {
		t.Errorf("when it is over: %v", err)
	}
	check := v.Asks()[1].Check
	for typed, want := range map[string]int{"": 0, "K4TE": 1, "k4te-9pl": 1, recovery: 6} {
		if n, of, err := check(typed); n != want || of != 6 || err != nil {
			t.Errorf("%q: %d of %d, %v", typed, n, of, err)
		}
	}
	for _, typed := range []string{"K4TEX", "K4!E", recovery + "-AAAA"} {
		if _, _, err := check(typed); err == nil {
			t.Errorf("%q can be one", typed)
		}
	}
}
