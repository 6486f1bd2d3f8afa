package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

// TestHearing: what a planning is busy with is only shown once it lasts, and goes when it is over.
func TestHearing(t *testing.T) {
	for name, c := range map[string]struct {
		patience time.Duration
		shown    bool
	}{"short": {time.Hour, false}, "long": {time.Millisecond, true}} {
		var out bytes.Buffer
		doing, over := hearingOn(&out, c.patience)
		doing("reading what the parts hold")
		time.Sleep(2 * time.Millisecond)
		doing("giving identities")
		over()
		doing("after the end")
		text := out.String()
		seen := strings.Contains(text, "planning: giving identities")
		cleared := text == "" || strings.HasSuffix(text, "\r\x1b[K")
		if seen != c.shown || !cleared || strings.Contains(text, "after the end") {
			t.Errorf("%s: %q", name, text)
		}
	}
}
