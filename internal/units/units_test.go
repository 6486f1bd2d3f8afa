package units

import (
	"testing"
	"time"
)

func TestWords(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Bytes(0), "0 B"}, {Bytes(999), "999 B"}, {Bytes(1000), "1.00 kB"}, {Bytes(999_949), "1.00 MB"},
		{Bytes(256_060_514_304), "256 GB"}, {Bytes(1_000_204_886_016), "1.00 TB"}, {Bytes(-5_000_000), "-5.00 MB"},
		{Bytes(9_223_372_036_854_775_807), "9.22 EB"},
		{Binary(1 << 30), "1.00 GiB"}, {Binary(1536 * MiB), "1.50 GiB"},
		{Exact(256060514304), "256 060 514 304 bytes"}, {Exact(1), "1 byte"}, {Grouped(-1234), "-1 234"}, {Grouped(123), "123"},
		{Duration(0), "a moment"}, {Duration(59 * time.Second), "59 s"}, {Duration(200 * time.Second), "3 min 20 s"},
		{Duration(30 * time.Minute), "30 min"}, {Duration(125 * time.Minute), "2 h 05 min"},
		{Percent(999, 1000), "99 %"}, {Percent(1, 0), "–"}, {Plural(1, "part"), "1 part"}, {Plural(2, "part"), "2 parts"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

func TestVisible(t *testing.T) {
	for in, want := range map[string]string{"oak": "oak", "\x1b[31mred\x07": "\uFFFD[31mred\uFFFD", "a\u202Eb\u009b": "a\uFFFDb\uFFFD", "Käpt’n": "Käpt’n", "two\nlines": "two\uFFFDlines"} {
		if got := Visible(in); got != want {
			t.Errorf("%q gives %q", in, got)
		}
	}
}

func TestChoices(t *testing.T) {
	for want, in := range map[string][]string{"": nil, "a": {"a"}, "a or b": {"a", "b"}, "a, b or c": {"a", "b", "c"}} {
		if got := Choices(in); got != want {
			t.Errorf("%q instead of %q", got, want)
		}
	}
}
