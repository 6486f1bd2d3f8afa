package takeout

import (
	"strings"
	"testing"
)

func TestNamesForEverySystem(t *testing.T) {
	for name, want := range map[string]string{
		"fares-2026.csv": "fares-2026.csv", "Überfahrt.txt": "Überfahrt.txt", `a\b:c*d?e"f<g>h|i`: "a_b_c_d_e_f_g_h_i",
		"C:": "C_", "con": "con_", "NUL.txt": "NUL_.txt", "com1": "com1_", "COM10": "COM10", "LPT³.a": "LPT³_.a",
		"console": "console", "ends. ": "ends_", "..": "_", ".": "_", "\x1b[2Jx": "_[2Jx", "a\u202Egpj": "a_gpj",
		"bad\xff": "bad_", ".config": ".config", "aux .x": "aux _.x",
	} {
		if got := everywhere(name); got != want {
			t.Errorf("%q becomes %q, not %q", name, got, want)
		}
	}
	n := newNamer(true)
	seen := map[string]bool{}
	for _, name := range []string{"a:b", "a?b", "A_B", "a_b", "a_b.txt", "A_b.TXT", "con", "con_"} {
		got := n.take(name)
		if low := strings.ToLower(got); seen[low] || everywhere(got) != got {
			t.Errorf("%q becomes %q", name, got)
		} else {
			seen[low] = true
		}
	}
	if got := newNamer(false).take(`a\b:c`); got != `a\b:c` {
		t.Errorf("a tar keeps names: %q", got)
	}
}

func FuzzEverywhere(f *testing.F) {
	f.Add("con.txt")
	f.Add("a. .")
	f.Fuzz(func(t *testing.T, name string) {
		got := everywhere(name)
		if everywhere(got) != got || strings.ContainsAny(got, "/\\:\x00") || got == "." || got == ".." {
			t.Errorf("%q becomes %q", name, got)
		}
	})
}
