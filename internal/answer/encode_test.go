package answer

import (
	"testing"

	"twinshelf/internal/shelf"
)

// TestAbsent: what isn't there is absent, also where a member is a pointer to nothing of a type with a shape of its
// own.
func TestAbsent(t *testing.T) {
	var nobody *shelf.Twin
	b, err := Encode(map[string]any{"before": nobody, "words": []string(nil), "nothing": nil})
	if want := "{\n  \"words\": []\n}"; err != nil || string(b) != want {
		t.Errorf("%s (%v), want %s", b, err, want)
	}
}
