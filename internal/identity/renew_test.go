package identity_test

import (
	"reflect"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/identity"
	"twinshelf/internal/table"
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
