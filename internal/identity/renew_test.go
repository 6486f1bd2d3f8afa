package identity_test

import (
	"reflect"
	"strings"
	"testing"

	"twinshelf/internal/container/ldm/ldmtest"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/identity"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// shown are all identities that a disk shows, by where they stand.
func shown(t *testing.T, d disk.Device) map[string]string {
	t.Helper()
	tab, err := table.Read(d, d.Size(), 512)
	if err != nil || tab.Worst() != "" {
		t.Fatalf("%v %+v", err, tab)
	}
	out := map[string]string{"table": tab.ID}
	for _, p := range tab.Parts {
		out["part "+p.Name+p.Span.String()] = p.GUID
		c, err := families.Examine(t.Context(), disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), 512)
		if err != nil || !c.Sound {
			t.Fatalf("%v %s", err, c.Why)
		}
		out["file system "+p.Span.String()] = c.Info.ID
	}
	return out
}

// TestRenewAll: every identity of a disk becomes another one and is named, or is said to stay, the same for the same
// seed and another for another; everything else stays, byte for byte.
func TestRenewAll(t *testing.T) {
	d := fsystest.Kiosk(t)
	before := shown(t, d)
	seen := map[string]bool{}
	for _, id := range before {
		seen[id] = true
	}
	for _, seed := range []string{"HH1-90C2E7731", "PP5-3300B41C8"} {
		r, err := identity.Renew(t.Context(), d, identity.Options{Seed: seed})
		if err != nil {
			t.Fatal(err)
		}
		again, err := identity.Renew(t.Context(), d, identity.Options{Seed: seed})
		if err != nil || !reflect.DeepEqual(r.Patches, again.Patches) || !reflect.DeepEqual(r.IDs, again.IDs) {
			t.Errorf("%s: not the same twice: %v", seed, err)
		}
		o, err := disk.NewOverlay(d, r.Patches, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		for where, now := range shown(t, o) {
			if now == before[where] && strings.Contains(strings.Join(r.Stays, "\n"), now) {
				continue // its checksums are made with it, and it is said that it stays
			}
			if seen[now] || r.IDs[before[where]] != now {
				t.Errorf("%s: %s was %s and is %s, and %s was said", seed, where, before[where], now,
					r.IDs[before[where]])
			}
			seen[now] = true
		}
		if len(r.Stays) != 1 || len(r.Does) != 2 {
			t.Errorf("%q stays, %q changes", r.Stays, r.Does)
		}
	}
}

// TestOwnPartKeeps: a part that has an identity of its own already keeps it.
func TestOwnPartKeeps(t *testing.T) {
	d := fsystest.Kiosk(t)
	before := shown(t, d)
	r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "a copy", Own: 1})
	if err != nil {
		t.Fatal(err)
	}
	o, err := disk.NewOverlay(d, r.Patches, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	kept := 0
	for where, now := range shown(t, o) {
		if now == before[where] {
			kept++
		}
	}
	if kept != 2 { // and that of the ext4, whose checksums are made with it
		t.Errorf("%d identities are kept: %v", kept, r.IDs)
	}
}

// TestDynamicKeeps: the tables of dynamic disks keep their identities, by which their database goes, and it is said; a
// volume that lies in one place gets one of its own, which that place holds then.
func TestDynamicKeeps(t *testing.T) {
	testkit.Need(t, "mkntfs")
	const sectors = 16 << 10
	g := ldmtest.Office(testkit.Image(t, "a.img", 40<<20), testkit.Image(t, "b.img", 36<<20), sectors)
	g.Write(t)
	fs := testkit.Image(t, "fs", sectors*512)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", fs)
	g.Fill(t, 0, fs)
	g.Fill(t, 3, fs)
	for i, x := range g.Disks {
		d, err := disk.Open(x.Image, disk.Identity{})
		if err != nil {
			t.Fatal(err)
		}
		defer d.Close()
		r, err := identity.Renew(t.Context(), d, identity.Options{Seed: "HH1-90C2E7731"})
		if err != nil {
			t.Fatal(err)
		}
		stays := strings.Join(r.Stays, "\n")
		for _, want := range []string{"its parts keep their identities: the database of the dynamic disk",
			"one of several mirrors"} {
			if !strings.Contains(stays, want) {
				t.Errorf("disk %d: no %q in %s", i, want, stays)
			}
		}
		o, err := disk.NewOverlay(d, r.Patches, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		was, err := table.Read(d, d.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		now, err := table.Read(o, o.Size(), 512)
		if err != nil || now.ID != was.ID || !reflect.DeepEqual(now.Parts, was.Parts) {
			t.Errorf("disk %d: %v, %s and %s", i, err, was.ID, now.ID)
		}
		serial := func(d disk.Device) string {
			v, err := ntfs.Probe(disk.Section(d, 63*512, sectors*512), sectors*512, 512)
			if err != nil {
				t.Fatal(err)
			}
			return v.Info().ID
		}
		if i == 0 && (serial(o) == serial(d) || r.IDs[serial(d)] != serial(o)) {
			t.Errorf("the volume has %s and had %s", serial(o), serial(d))
		}
	}
}
