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
		lasts time.Duration
		shown bool
	}{"short": {0, false}, "long": {2 * patience, true}} {
		var out bytes.Buffer
		doing, over := hearingOn(&out)
		doing("reading what the parts hold")
		time.Sleep(c.lasts)
		doing("giving identities")
		over()
		doing("after the end")
		text := out.String()
		if strings.Contains(text, "planning: giving identities") != c.shown || strings.Contains(text, "after the end") ||
			c.shown && !strings.HasSuffix(text, "\r\x1b[K") || !c.shown && text != "" {
			t.Errorf("%s: %q", name, text)
		}
	}
}
