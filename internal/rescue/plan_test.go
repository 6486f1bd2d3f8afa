package rescue

import (
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

var testTime = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// TestCheck: a plan that can't work is refused before anything is read.
func TestCheck(t *testing.T) {
	sources := []Source{{Device: disk.NewMemory(1<<20, 512)}}
	for words, p := range map[string]Plan{
		"has no name":        {Sources: sources},
		"control characters": {Machine: "Crane\x1b[31m", Sources: sources},
		"no disk is chosen":  {Machine: "Crane"},
		"none is number 9":   {Machine: "Crane", Sources: sources, Until: 9},
		"1 to 100 times":     {Machine: "Crane", Sources: sources, Tries: 101},
	} {
		if err := p.Check(t.Context()); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", words, err)
		}
	}
	if err := (&Plan{Machine: "Crane", Sources: sources, Until: Stride, Tries: 100}).Check(t.Context()); err != nil {
		t.Error(err)
	}
}

// TestHasAll: an older twin goes only when the newer one misses nothing that it has.
func TestHasAll(t *testing.T) {
	twin := func(missing ...span.Span) *shelf.Twin {
		return &shelf.Twin{Disks: []shelf.TwinDisk{{Missing: span.Of(missing...)}}}
	}
	for _, c := range []struct {
		now, was *shelf.Twin
		all      bool
	}{
		{twin(), twin(), true}, {twin(span.At(0, 512)), twin(span.At(0, 1024)), true},
		{twin(span.At(0, 512)), twin(span.At(512, 512)), false}, {twin(span.At(0, 512)), twin(), false},
		{twin(), &shelf.Twin{}, false}, {&shelf.Twin{}, twin(), false},
	} {
		if got := hasAll(c.now, c.was); got != c.all {
			t.Errorf("%v after %v: %v", c.now.Disks, c.was.Disks, got)
		}
	}
}
