package units

import (
	"strings"
	"testing"
)

func TestSystems(t *testing.T) {
	if Decimal.Other() != BinaryUnits || BinaryUnits.Other() != Decimal {
		t.Error("the other one isn't")
	}
	for _, c := range []struct{ got, want string }{
		{Decimal.Bytes(1_000_204_886_016), "1.00 TB"}, {BinaryUnits.Bytes(1_000_204_886_016), "932 GiB"},
		{Decimal.Rate(2e6), "2.00 MB/s"}, {BinaryUnits.Rate(2 << 20), "2.00 MiB/s"},
		{Decimal.String(), "kB, MB, GB"}, {BinaryUnits.String(), "KiB, MiB, GiB"},
	} {
		if c.got != c.want {
			t.Errorf("%q, not %q", c.got, c.want)
		}
	}
}

func TestSentence(t *testing.T) {
	names := []string{"Gannet G 500 GB", "Skua", "TB"}
	for _, c := range []struct{ says, want string }{
		{"", ""}, {"0 B of 512 B", "0 B of 512 B"},
		{"it needs 80.1 GB, the room is 64.0 GB.", "it needs 74.6 GiB, the room is 59.6 GiB."},
		{"256 GB", "238 GiB"}, {"(1.05 MB)", "(1.00 MiB)"}, {"at 212 MB/s", "at 202 MiB/s"},
		{"\x1b[1m256 GB\x1b[0m of 1.00 TB", "\x1b[1m238 GiB\x1b[0m of 931 GiB"},
		{"Heron H1 1 TB, 250 kB", "Heron H1 1 TB, 244 KiB"}, // the sticker has its own digits
		{"Gannet G 500 GB has 500 GB.", "Gannet G 500 GB has 466 GiB."},
		{"238 GiB", "238 GiB"}, {"1256 GB", "1256 GB"}, {"v1.256 GB", "v1.256 GB"}, {"256 GBit", "256 GBit"},
		{"now 64.0 GB (59.6 GiB), at most 1.00 TB (931 GiB)", "now 59.6 GiB (64.0 GB), at most 931 GiB (1.00 TB)"},
		{"9.22 EB", "8.00 EiB"}, {"999 EB", "999 EB"}, {"500 GB Gannet G", "466 GiB Gannet G"},
	} {
		if got := BinaryUnits.Sentence(c.says, names); got != c.want {
			t.Errorf("%q becomes %q, not %q", c.says, got, c.want)
		}
		if got := Decimal.Sentence(c.says, names); got != c.says {
			t.Errorf("%q becomes %q without being asked", c.says, got)
		}
	}
}

// FuzzSentence: whatever the sentence is, only sizes change, and once.
func FuzzSentence(f *testing.F) {
	f.Add("needs 80.1 GB of 1.00 TB", "G 500 GB")
	f.Fuzz(func(t *testing.T, text, name string) {
		once := BinaryUnits.Sentence(text, []string{name})
		if name == "" && !strings.Contains(text, "iB)") && BinaryUnits.Sentence(once, nil) != once {
			t.Errorf("%q becomes %q and then something else", text, once)
		}
		if strings.Count(once, "\n") != strings.Count(text, "\n") {
			t.Errorf("%q becomes %q", text, once)
		}
	})
}
