package lock

import (
	"bytes"
	"context"
	"testing"
)

// TestKeyring: keys are found by their volume and by their part, wiped when they are replaced or locked, and nothing is
// where there is no ring.
func TestKeyring(t *testing.T) {
	var none *Keyring
	if none.Of("a") != nil || none.Holds() || none.OnPart("p") != nil || From(t.Context()) != nil {
		t.Error("there is something where there is no ring")
	}
	r := &Keyring{}
	ctx := With(context.WithoutCancel(t.Context()), r)
	a, b := KeyOf("a", "p", []byte("key a")), KeyOf("b", "p", []byte("key b"))
	r.Add(b)
	r.Add(a)
	r.AddNew(KeyOf("a", "p", []byte("another")))
	if From(ctx) != r || r.Of("a") != a || !r.Holds() {
		t.Error("the ring doesn't hold what was put on it")
	}
	if on := r.OnPart("p"); len(on) != 2 || on[0] != a || on[1].Volume() != "b" || r.OnPart("") != nil {
		t.Errorf("on the part are %v", on)
	}
	newer := KeyOf("a", "p", []byte("newer"))
	if r.Add(newer); r.Of("a") != newer || !bytes.Equal(a.Bytes(), make([]byte, 5)) {
		t.Error("what is replaced isn't wiped")
	}
	if !r.Lock("b") || r.Lock("b") || !bytes.Equal(b.Bytes(), make([]byte, 5)) {
		t.Error("what is locked isn't wiped")
	}
	if r.Wipe(); r.Holds() || !bytes.Equal(newer.Bytes(), make([]byte, 5)) {
		t.Error("what is wiped is still there")
	}
}

// TestKeyOf: what can't be a key isn't one, and a key has bytes of its own.
func TestKeyOf(t *testing.T) {
	b := []byte("key")
	k := KeyOf("a", "p", b)
	b[0] = 'x'
	if string(k.Bytes()) != "key" || k.Part() != "p" {
		t.Errorf("%q on %s", k.Bytes(), k.Part())
	}
	if KeyOf("", "p", b) != nil || KeyOf("a", "p", nil) != nil || KeyOf("a", "p", make([]byte, 65)) != nil {
		t.Error("something is a key that can't be one")
	}
}
