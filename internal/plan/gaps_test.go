package plan

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/inside"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/span"
)

const fares = "FARES.DAT"

// gappy is the kiosk's disk with a file in each part, of which some can't be read, and a gap outside of any file.
func gappy(t *testing.T) Order {
	t.Helper()
	o := order(t, Wish{})
	o.Made = time.Date(2026, 11, 29, 7, 0, 0, 0, time.UTC)
	m := o.Source.(mapped).Memory
	parts, err := inside.Parts(t.Context(), m, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range parts {
		v, err := families.Identify(t.Context(), disk.Section(m, p.Span.Start, p.Span.Len()), p.Span.Len(), 512)
		if err != nil {
			t.Fatal(err)
		}
		patches, err := v.(fsys.RootWriter).AddToRoot(fares, bytes.Repeat([]byte("fare"), 20_000), o.Made)
		if err != nil {
			t.Fatal(err)
		}
		for _, q := range patches {
			copy(m.Bytes[p.Span.Start+q.Off:], append(q.Bytes(), make([]byte, q.Zeros)...))
		}
	}
	lying, err := inside.Lying(t.Context(), m, 0, []string{fares})
	if err != nil || lying[0].Files != 2 {
		t.Fatalf("%+v, %v", lying, err)
	}
	for sp := range lying[0].Where.All() {
		o.Missing.Add(span.At(sp.Start+4096, 5120))
	}
	o.Missing.Add(span.At(10*miB, 4096)) // free room of the first part
	for sp := range o.Missing.All() {
		clear(m.Bytes[sp.Start:sp.End])
	}
	return o
}

// TestGapsAreMarked: gaps of files get the text, others stay zeros, each file system gets its list; all of it is found
// again in the disk that was made, and without a wish everything is as it was captured.
func TestGapsAreMarked(t *testing.T) {
	o := gappy(t)
	const text = "LOST: ask the ferry office"
	for name, w := range map[string]Wish{
		"both":     {Gaps: Gaps{Text: text, List: true}},
		"the text": {Gaps: Gaps{Text: text}, Fresh: true},
		"the list": {Gaps: Gaps{List: true}},
		"moved, shrunk": {Gaps: Gaps{Text: text, List: true},
			Wish: fit.Wish{Parts: map[int]fit.PartWish{2: {Least: true}}}},
		"nothing of it.": {},
	} {
		t.Run(name, func(t *testing.T) {
			o := o
			o.Wish = w
			p, err := Make(t.Context(), o)
			if err != nil {
				t.Fatal(err)
			}
			for part := range 2 {
				got, _ := fsystest.FileOf(t, p.Disk, part+1, fares)
				if len(got) != 80_000 || strings.Count(got, "fare") != (80_000-5120)/4 {
					t.Errorf("part %d: %d bytes with %d fares", part+1, len(got), strings.Count(got, "fare"))
				}
				if want := w.Gaps.Text != ""; (strings.Count(got, text+"\n") > 100) != want ||
					(strings.Count(got, "\x00") == 5120) == want {
					t.Errorf("part %d: the text is there %d times", part+1, strings.Count(got, text))
				}
				listed, _ := fsystest.FileOf(t, p.Disk, part+1, ListName)
				if (strings.Contains(listed, "5120  "+fares) && strings.Contains(listed, w.Gaps.Text)) != w.Gaps.List {
					t.Errorf("part %d: the list says %q", part+1, listed)
				}
			}
			if strings.Count(string(contents(t, p.Disk)), text+"\n"+text) < 100 && w.Gaps.Text != "" {
				t.Error("the text is nowhere")
			}
			if free := contents(t, p.Disk)[10*miB:][:4096]; !bytes.Equal(free, make([]byte, 4096)) {
				t.Errorf("free room holds %q", free[:40])
			}
			made := disk.NewMemory(p.Disk.Size(), 512)
			copy(made.Bytes, contents(t, p.Disk))
			late := o
			late.Wish = Wish{}
			again, err := Retrace(t.Context(), late, made)
			if err != nil || !bytes.Equal(contents(t, again.Disk), made.Bytes) {
				t.Errorf("the plan found is another (%v): %+v", err, again.Order.Wish)
			}
			if n := len(p.Notes()); (n > len(p.Layout.Notes)+len(p.Layout.Unused)) != (w.Gaps != Gaps{}) {
				t.Errorf("it says %q", p.Notes())
			}
		})
	}
}

// TestGapsSayWhatCantBe: a list that has no place is said, a text that nobody could read refused.
func TestGapsSayWhatCantBe(t *testing.T) {
	o := gappy(t)
	o.Wish.Gaps.List = true
	p, err := Make(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	o.Source = p.Disk // there is a list already
	again, err := Make(t.Context(), o)
	if err != nil || strings.Count(strings.Join(again.Notes(), "\n"), "there is a file GAPS.TXT already") != 2 {
		t.Errorf("%v: %q", err, again.Notes())
	}
	for _, text := range []string{"\x07", "Fähre", strings.Repeat("x", rehearse.MostMark+1)} {
		o.Wish.Gaps.Text = text
		if _, err := Make(t.Context(), o); err == nil || !strings.Contains(err.Error(), "can't stand in gaps") {
			t.Errorf("%q: %v", text, err)
		}
	}
}
