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
		{Exact(256060514304), "256 060 514 304 bytes"}, {Exact(1), "1 byte"}, {Grouped(-1234), "-1 234"},
		{Grouped(123), "123"},
		{Duration(0), "a moment"}, {Duration(59 * time.Second), "59 s"}, {Duration(200 * time.Second), "3 min 20 s"},
		{Duration(30 * time.Minute), "30 min"}, {Duration(125 * time.Minute), "2 h 05 min"},
		{Percent(999, 1000), "99 %"}, {Percent(1, 0), "–"}, {Plural(1, "part"), "1 part"},
		{Plural(2, "part"), "2 parts"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

func TestVisible(t *testing.T) {
	for in, want := range map[string]string{"oak": "oak", "\x1b[31mred\x07": "\uFFFD[31mred\uFFFD",
		"a\u202Eb\u009b": "a\uFFFDb\uFFFD", "Käpt’n": "Käpt’n", "two\nlines": "two\uFFFDlines"} {
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

// TestVisibleJSON: what a hostile shelf or settings file says moves no cursor, and stays JSON; everything else stays as
// it is.
func TestVisibleJSON(t *testing.T) {
	for in, want := range map[string]string{
		`{"machine":"Ticket desk \"A\" \\ / é 日"}`: `{"machine":"Ticket desk \"A\" \\ / é 日"}`,
		`{"a":"x\u001b]0;y\u0007"}`:                `{"a":"x\ufffd]0;y\ufffd"}`,
		`{"a":"\\u001b"}`:                          `{"a":"\\u001b"}`,
		"{\"a\":\"\u009b31m\u202e\"}":              `{"a":"\ufffd31m\ufffd"}`,
		`{"a":"line\nline\ttab"}`:                  `{"a":"line line tab"}`,
		`{"a":"\u00e9\ud83d\ude00"}`:               `{"a":"\u00e9\ud83d\ude00"}`,
		`{"a":"cut\`:                               `{"a":"cut\`,
		`{"a":"cut\u00`:                            `{"a":"cut\u00`,
	} {
		if got := string(VisibleJSON([]byte(in))); got != want {
			t.Errorf("%s becomes %s, not %s", in, got, want)
		}
	}
}
