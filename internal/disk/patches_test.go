package disk

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"twinshelf/internal/span"
)

// somePatches are patches that don't overlap in themselves, of data and of zeros.
func somePatches(r *rand.Rand, size int64) []Patch {
	var out []Patch
	at := r.Int64N(30)
	for at < size-50 {
		n := 1 + r.Int64N(40)
		if r.IntN(2) == 0 {
			out = append(out, Patch{Off: at, Zeros: n})
		} else {
			b := make([]byte, n)
			for i := range b {
				b[i] = byte(1 + r.IntN(255))
			}
			out = append(out, Patch{Off: at, Data: b})
		}
		at += n + r.Int64N(60)
	}
	r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}

// apply puts patches onto bytes, the later ones over the earlier ones.
func apply(b []byte, ps ...[]Patch) {
	for _, layer := range ps {
		for _, p := range layer {
			p.read(b, 0)
		}
	}
}

// TestOverWins compares layers of patches with what they do one after the other.
func TestOverWins(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	const size = 2000
	for range 300 {
		base := make([]byte, size)
		for i := range base {
			base[i] = byte(r.Uint32())
		}
		lower, upper, top := somePatches(r, size), somePatches(r, size), somePatches(r, size)
		want := bytes.Clone(base)
		apply(want, lower, upper, top)
		all := Over(top, Over(upper, lower))
		sorted, err := SortPatches(all, size)
		if err != nil {
			t.Fatalf("layers overlap: %v", err)
		}
		got := bytes.Clone(base)
		apply(got, sorted)
		if !bytes.Equal(got, want) {
			t.Fatal("the layers give other bytes than one after the other")
		}
		m := NewMemory(size, 512)
		copy(m.Bytes, base)
		o, err := NewOverlay(m, all, size)
		if err != nil {
			t.Fatal(err)
		}
		read := make([]byte, size)
		if err := ReadFull(o, read, 0); err != nil || !bytes.Equal(read, want) {
			t.Fatal("the overlay reads otherwise", err)
		}
		for range 10 {
			at := r.Int64N(size - 1)
			part := make([]byte, 1+r.Int64N(size-at))
			if err := ReadFull(o, part, at); err != nil || !bytes.Equal(part, want[at:at+int64(len(part))]) {
				t.Fatalf("a piece of it at %d reads otherwise", at)
			}
		}
		w := NewMemory(size, 512)
		copy(w.Bytes, base)
		for _, p := range sorted {
			if err := p.Write(w, nil); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(w.Bytes, want) {
			t.Fatal("written, they give other bytes")
		}
	}
}

func TestSortPatchesRefuses(t *testing.T) {
	for what, ps := range map[string][]Patch{
		"overlap":          {{Off: 10, Zeros: 10}, {Off: 15, Data: []byte{1}}},
		"beyond the end":   {{Off: 95, Zeros: 10}},
		"before the start": {{Off: -1, Zeros: 10}},
		"twice the same":   {{Off: 1, Zeros: 1}, {Off: 1, Zeros: 1}},
	} {
		if _, err := SortPatches(ps, 100); err == nil {
			t.Errorf("%s: taken", what)
		}
	}
	ps, err := SortPatches([]Patch{{Off: 50, Zeros: 5}, {Off: 20}, {Off: 0, Data: []byte{1}}, {Off: 99, Zeros: 1}}, 100)
	if err != nil || len(ps) != 3 || ps[0].Off != 0 || ps[2].Off != 99 {
		t.Errorf("%v %v", ps, err)
	}
}

func TestPatchKinds(t *testing.T) {
	zero, data := Patch{Off: 5, Zeros: 7}, Patch{Off: 5, Data: []byte("fare")}
	if zero.Kind() != Zero || data.Kind() != Data || zero.Span() != span.At(5, 7) || data.Span() != span.At(5, 4) {
		t.Errorf("%v %v", zero.Span(), data.Span())
	}
	if left := Over([]Patch{data}, []Patch{{Off: 0, Zeros: 20}}); len(left) != 3 {
		t.Errorf("%d patches", len(left))
	}
	if left := Over([]Patch{{Off: 0, Zeros: 20}}, []Patch{data}); len(left) != 1 {
		t.Errorf("a covered one is left: %d", len(left))
	}
}

// TestPacked: packed patches say what others say, in whole and in part, whether their bytes pack well or not.
func TestPacked(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var packer Packer
	for range 300 {
		data := make([]byte, 1+r.IntN(3000))
		for i := range data {
			data[i] = byte(r.IntN(1 + r.IntN(255)))
		}
		if r.IntN(2) == 0 {
			data = bytes.Repeat(data[:1+len(data)/20], 15)
		}
		p := packer.Patch(1000, data, "some")
		if q := packer.Patch(7, data, "again"); (q.packed == nil) != (p.packed == nil) ||
			q.packed != nil && q.packed.b != p.packed.b {
			t.Fatalf("%d bytes are kept twice", len(data))
		}
		if p.Kind() != Data || p.Span() != span.At(1000, int64(len(data))) || !bytes.Equal(p.Bytes(), data) {
			t.Fatalf("%d bytes: %v, %v", len(data), p.Kind(), p.Span())
		}
		a, b := r.IntN(len(data)), r.IntN(len(data)+1)
		a, b = min(a, b), max(a, b)
		part := p.Part(span.Span{Start: 1000 + int64(a), End: 1000 + int64(b)})
		if !bytes.Equal(part.Bytes(), data[a:b]) || part.Off != 1000+int64(a) || part.Why != "some" {
			t.Fatalf("%d to %d of %d bytes", a, b, len(data))
		}
		m := NewMemory(8000, 512)
		if err := p.Write(m, nil); err != nil || !bytes.Equal(m.Bytes[1000:1000+len(data)], data) {
			t.Fatalf("%d bytes are written as others: %v", len(data), err)
		}
		window := bytes.Repeat([]byte{7}, 500)
		p.read(window, 1000+int64(a)-100)
		want := bytes.Repeat([]byte{7}, 500)
		for i := range want {
			if k := a - 100 + i; k >= 0 && k < len(data) {
				want[i] = data[k]
			}
		}
		if !bytes.Equal(window, want) {
			t.Fatalf("read at %d of %d bytes", a-100, len(data))
		}
	}
}
