package identity

import (
	"regexp"
	"testing"

	"twinshelf/internal/table"
)

// TestDerive: the same plan gives the same identities; others differ by seed and by what they replace, and are random
// ones.
func TestDerive(t *testing.T) {
	seen := map[[16]byte]string{}
	for _, seed := range []string{"HH1-90C2E7731", "PP5-3300B41C8", ""} {
		for _, old := range []string{"a5c1e2f0", "9D2A7C40-5B1E-4C0D-8E77-0C5A1B2C3D4E", "", "a5c1e2f1"} {
			id := Derive(seed, old)
			if id != Derive(seed, old) {
				t.Errorf("%q from %q isn't the same twice", seed, old)
			}
			if other, twice := seen[id]; twice {
				t.Errorf("%q from %q is that of %s", seed, old, other)
			}
			seen[id] = seed + " from " + old
			if id[6]>>4 != 4 || id[8]>>6 != 2 {
				t.Errorf("%x isn't a random identity of the second variant", id)
			}
		}
	}
}

// TestSeedsDontRunTogether: seed and old identity are told apart where one ends and the other begins.
func TestSeedsDontRunTogether(t *testing.T) {
	if Derive("ab", "c") == Derive("a", "bc") {
		t.Error("two plans share an identity")
	}
}

func TestText(t *testing.T) {
	id := Derive("HH1-90C2E7731", "a5c1e2f0")
	for kind, form := range map[table.Kind]string{
		table.MBR: `^[0-9a-f]{8}$`,
		table.GPT: `^[0-9A-Fa-f]{8}-[0-9A-Fa-f]{4}-4[0-9A-Fa-f]{3}-[89ABab][0-9A-Fa-f]{3}-[0-9A-Fa-f]{12}$`,
	} {
		if got := Text(kind, id); !regexp.MustCompile(form).MatchString(got) {
			t.Errorf("%s: %q", kind, got)
		}
	}
}
