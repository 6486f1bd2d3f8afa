package store

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"
)

// TestEveryMethod stores blocks that pack well, badly and not at all, and reads them back.
func TestEveryMethod(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	noise := make([]byte, 256<<10)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	half := bytes.Clone(noise) // every other run of 64 bytes is noise, three quarters of it all
	for i := 0; i < len(half); i += 64 {
		copy(half[i+48:i+64], "gull gull gull g")
	}
	text := bytes.Repeat([]byte("the ferry leaves at seven; "), 256<<10/27)
	sq := &compressor{}
	defer sq.close()
	s := newStore(t)
	for what, c := range map[string]struct {
		plain []byte
		codec byte
	}{"text": {text, codecZstd}, "noise": {noise, codecRaw}, "half": {half, codecS2}, "short": {half[:1000], codecZstd},
		"nothing": {nil, codecRaw}} {
		buf := getBuffer(0)
		codec, stored, err := sq.compress(c.plain, buf, Usual)
		if err != nil {
			t.Error(err)
		}
		if codec != c.codec {
			t.Errorf("%s: method %d, want %d", what, codec, c.codec)
		}
		back, err := s.packs.decompress(codec, stored, nil, len(c.plain))
		if err != nil || !bytes.Equal(back, c.plain) {
			t.Errorf("%s: %v", what, err)
		}
		putBuffer(buf)
	}
	// A block that claims to be huge isn't believed.
	if _, err := s.packs.decompress(codecS2, binary.AppendUvarint(nil, 1<<31), nil, 1<<20); err == nil {
		t.Error("a huge length was believed")
	}
}

// TestEfforts: whatever effort packs a block, it reads back; the more it costs, the less room it takes.
func TestEfforts(t *testing.T) {
	sq := &compressor{}
	defer sq.close()
	s := newStore(t)
	r := rand.New(rand.NewPCG(3, 3))
	words := make([]byte, 0, 1<<20)
	for len(words) < 1<<20-64 {
		words = fmt.Appendf(words, "line %d: the ferry %x leaves at %d:%02d; ", r.IntN(1000), r.Uint32N(1<<20),
			r.IntN(24), r.IntN(60))
	}
	noise := make([]byte, 300<<10)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	for what, plain := range map[string][]byte{"words": words, "noise": noise, "short": words[:20], "nothing": nil} {
		last := len(plain) + 1
		for e := range Efforts {
			buf := getBuffer(0)
			codec, stored, err := sq.compress(plain, buf, e)
			if err != nil {
				t.Fatal(err)
			}
			back, err := s.packs.decompress(codec, stored, nil, len(plain))
			if err != nil || !bytes.Equal(back, plain) {
				t.Errorf("%s, effort %d: %v", what, e, err)
			}
			if what == "words" && e != Firm && len(stored) >= last { // nothing of it is hard
				t.Errorf("effort %d brings nothing: %d bytes, %d before", e, len(stored), last)
			}
			last = len(stored)
			putBuffer(buf)
		}
	}
}
