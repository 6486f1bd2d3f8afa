package shelf

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
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
	sq, err := newSqueezer()
	if err != nil {
		t.Fatal(err)
	}
	defer sq.close()
	s := newTest(t)
	for what, c := range map[string]struct {
		plain []byte
		codec byte
	}{"text": {text, codecZstd}, "noise": {noise, codecRaw}, "half": {half, codecS2}, "short": {half[:1000], codecZstd}, "nothing": {nil, codecRaw}} {
		buf := getBuffer(0)
		codec, stored := sq.squeeze(c.plain, buf)
		if codec != c.codec {
			t.Errorf("%s: method %d, want %d", what, codec, c.codec)
		}
		back, err := s.unsqueeze(codec, stored, nil, len(c.plain))
		if err != nil || !bytes.Equal(back, c.plain) {
			t.Errorf("%s: %v", what, err)
		}
		putBuffer(buf)
	}
	// A block that claims to be huge isn't believed.
	if _, err := s.unsqueeze(codecS2, binary.AppendUvarint(nil, 1<<31), nil, 1<<20); err == nil {
		t.Error("a huge length was believed")
	}
}

func TestParityShare(t *testing.T) {
	s := newTest(t)
	for _, bad := range []int{0, -1, MostParity + 1} {
		if s.SetParity(bad) == nil {
			t.Errorf("%d %% was taken", bad)
		}
	}
	sizes := map[int]int64{}
	for i, percent := range []int{DefaultParity, 20} {
		if err := s.SetParity(percent); err != nil {
			t.Fatal(err)
		}
		s = reopen(t, s)
		if s.ParityShare() != percent {
			t.Fatalf("%d %%", s.ParityShare())
		}
		commit(t, s, "Kiosk", content(150, uint64(i+1)))
		files, err := os.ReadDir(s.b.(folder).path("parity"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			st, _ := f.Info()
			sizes[i] += st.Size()
		}
		sizes[i+1] -= sizes[i]
	}
	if sizes[1] < 4*sizes[0] {
		t.Errorf("parity of 3 %%: %d bytes, of 20 %%: %d", sizes[0], sizes[1])
	}
}
