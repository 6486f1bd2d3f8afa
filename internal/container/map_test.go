package container_test

import (
	"math/rand/v2"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/span"
)

// random lays a device over two members in linear and striped segments, and says byte by byte where it lies.
func random(t *testing.T, r *rand.Rand) (*container.Map, []container.Place) {
	t.Helper()
	var segments []container.Segment
	var bytes []container.Place
	next := [2]int64{512, 1024}
	for range 1 + r.IntN(5) {
		n := 1 + r.IntN(3)
		s := container.Segment{Stripe: int64(1+r.IntN(4)) * 512}
		length := s.Stripe * int64(1+r.IntN(4))
		for range n {
			m := r.IntN(2)
			s.Places = append(s.Places, container.Place{Member: m, Off: next[m]})
			next[m] += length + int64(r.IntN(3))*512
		}
		s.Inner = span.At(int64(len(bytes)), length*int64(n))
		for off := range s.Inner.Len() {
			chunk := off / s.Stripe
			p := s.Places[chunk%int64(n)]
			p.Off += chunk/int64(n)*s.Stripe + off%s.Stripe
			bytes = append(bytes, p)
		}
		segments = append(segments, s)
	}
	m, err := container.NewMap(segments)
	if err != nil {
		t.Fatal(err)
	}
	return m, bytes
}

// TestMapBothWays: in random layouts every byte is where it should be, whichever way it is asked for.
func TestMapBothWays(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 3))
	for range 300 {
		m, bytes := random(t, r)
		if m.Size() != int64(len(bytes)) {
			t.Fatalf("%d bytes of %d", m.Size(), len(bytes))
		}
		from := r.Int64N(m.Size())
		want := span.Span{Start: from, End: from + 1 + r.Int64N(m.Size()-from)}
		at := want.Start
		var on [2]span.Set
		for run := range m.Runs(want) {
			for off := range run.Inner.Len() {
				p := bytes[run.Inner.Start+off]
				if run.Inner.Start+off != at || p.Member != run.Member || p.Off != run.Off+off {
					t.Fatalf("byte %d of %v: %+v, not %+v", run.Inner.Start+off, want, run, p)
				}
				at++
			}
			on[run.Member].Add(run.Outer())
		}
		if at != want.End {
			t.Fatalf("the runs end at %d of %v", at, want)
		}
		for member := range 2 {
			var got, back, inside span.Set
			if m.On(member, want, &got); !got.Equal(on[member]) {
				t.Fatalf("%v lies on member %d at %v, not %v", want, member, got, on[member])
			}
			for sp := range got.All() {
				for in := range m.Inner(member, sp) {
					back.Add(in)
				}
			}
			for i, p := range bytes {
				if p.Member == member && got.Covers(span.At(p.Off, 1)) {
					inside.Add(span.At(int64(i), 1))
				}
			}
			if !back.Equal(inside) {
				t.Fatalf("back from member %d: %v, not %v", member, back, inside)
			}
		}
	}
}

func TestDeviceConforms(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 4))
	for range 5 {
		m, bytes := random(t, r)
		var members []container.Member
		var content [2]*disk.Memory
		for i := range content {
			content[i] = disk.NewMemory(1<<20, 512)
			for k := range content[i].Bytes {
				content[i].Bytes[k] = byte(r.Uint32())
			}
			members = append(members, container.Member{R: content[i], Size: 1 << 20})
		}
		want := make([]byte, len(bytes))
		for i, p := range bytes {
			want[i] = content[p.Member].Bytes[p.Off]
		}
		disktest.Conform(t, container.Open(container.Device{Name: "desk/root", Map: m}, members, 512), want)
	}
}

// TestMapsThatDontAddUp are refused.
func TestMapsThatDontAddUp(t *testing.T) {
	one := []container.Place{{}}
	for name, segments := range map[string][]container.Segment{
		"a gap":          {{Inner: span.At(512, 512), Places: one}},
		"an overlap":     {{Inner: span.At(0, 1024), Places: one}, {Inner: span.At(512, 1024), Places: one}},
		"nowhere":        {{Inner: span.At(0, 512)}},
		"empty":          {{Inner: span.At(0, 0), Places: one}},
		"uneven stripes": {{Inner: span.At(0, 1536), Stripe: 1024, Places: make([]container.Place, 2)}},
		"no stripes":     {{Inner: span.At(0, 1024), Places: make([]container.Place, 2)}},
	} {
		if _, err := container.NewMap(segments); err == nil {
			t.Errorf("%s passes", name)
		}
	}
}
