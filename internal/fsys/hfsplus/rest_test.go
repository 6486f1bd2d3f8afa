package hfsplus

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// TestHowItWasLeft: what header and journal say of how the volume was left is told, nothing of its maps is believed
// where it wasn't quiet, and it is captured as after a power cut only where a journal says what it will be.
func TestHowItWasLeft(t *testing.T) {
	const size = 16 * units.MiB
	plain := build(t, size, []built{{name: "fares", data: bytes.Repeat([]byte("fare "), 900), mode: 0o100644}})
	be := binary.BigEndian
	flags := func(b []byte, set, not uint32) {
		at := b[headerAt+headAttributes:]
		be.PutUint32(at, be.Uint32(at)&^not|set)
	}
	info := func(b []byte) []byte { return b[int64(be.Uint32(b[headerAt+headJournal:]))*4096:] }
	for name, c := range map[string]struct {
		change func(b []byte)
		state  fsys.State
		words  string
		cut    string // why it can't be captured as after a power cut; empty where it can
	}{
		"at rest":         {func([]byte) {}, "", "", "it was shut down"},
		"without journal": {func(b []byte) { flags(b, 0, flagJournaled) }, "", "", "it was shut down"},
		"inconsistent": {func(b []byte) { flags(b, flagInconsistent, 0) }, fsys.Dirty, "marked dirty",
			"nobody knows"},
		"not unmounted": {func(b []byte) { flags(b, 0, flagUnmounted) }, fsys.Dirty, "unmounted cleanly", ""},
		"neither": {func(b []byte) { flags(b, 0, flagUnmounted|flagJournaled) }, fsys.Dirty, "marked dirty",
			"nobody knows"},
		"journal far away": {func(b []byte) { be.PutUint32(info(b), journalNeeds) }, fsys.Dirty, "another device",
			"nobody knows"},
	} {
		b := bytes.Clone(plain)
		c.change(b)
		d := &disk.Memory{Bytes: b, Sector: 512}
		p, err := Probe(d, size, 512)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		content, err := fsys.Judge(t.Context(), p, size)
		if err != nil || content.Maps != (c.state == "") || !strings.Contains(content.Info.Unclean, c.words) {
			t.Errorf("%s: maps %v, %q, %v", name, content.Maps, content.Info.Unclean, err)
		}
		if r, _ := fsys.RestOf(p); r.State != c.state {
			t.Errorf("%s: it is %q", name, r.State)
		}
		err = content.AsCut(t.Context())
		if (err == nil) != (c.cut == "") || err != nil && !strings.Contains(err.Error(), c.cut) {
			t.Errorf("%s, as after a power cut: %v", name, err)
		}
		if _, err := p.(*Volume).Reidentify([16]byte{4}); (err == nil) != (c.state == "") {
			t.Errorf("%s gets another identity: %v", name, err)
		}
	}
	b := bytes.Clone(plain)
	be.PutUint32(b[headerAt+headJournal:], 1<<30)
	if _, err := Probe(bytes.NewReader(b), size, 512); err == nil || !strings.Contains(err.Error(), "journal") {
		t.Errorf("a journal beyond the end: %v", err)
	}
}
