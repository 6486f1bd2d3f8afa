package lzx_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/lzx"
	"twinshelf/internal/lzx/lzxtest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/xpress"
)

// samples are contents of several kinds, none larger than a piece.
func samples(t testing.TB) map[string][]byte {
	t.Helper()
	program, err := os.ReadFile("/bin/busybox")
	if err != nil {
		testkit.Lacks(t, "busybox-static")
	}
	calls := bytes.Repeat([]byte{0xE8, 1, 2, 3, 0, 0x90}, 900)
	for i := range len(calls) / 6 {
		calls[6*i+3] = byte(i)
		if i%3 == 0 {
			calls[6*i+4] = 0xFF
		}
	}
	text := []byte{}
	for i := range 1200 {
		text = fmt.Appendf(text, "sailing %d leaves pier %d at %02d:%02d\n", i, i%7, i%24, i*7%60)
	}
	return map[string][]byte{"program": program[200_000 : 200_000+lzx.Window], "calls": calls,
		"text": text[:lzx.Window], "short": []byte("abcabcabcabc"), "same": bytes.Repeat([]byte{7}, lzx.Window),
		"noise": testkit.Noise(3, lzx.Window), "odd": text[:777]}
}

var ways = map[string][]int{"verbatim": {lzxtest.Verbatim}, "aligned": {lzxtest.Aligned}, "plain": {lzxtest.Plain},
	"verbatim, aligned": {lzxtest.Verbatim, lzxtest.Aligned}, "plain, verbatim": {lzxtest.Plain, lzxtest.Verbatim},
	"aligned, plain, aligned": {lzxtest.Aligned, lzxtest.Plain, lzxtest.Aligned}}

// TestDecode: pieces packed in all ways come out as they were.
func TestDecode(t *testing.T) {
	for name, b := range samples(t) {
		for way, kinds := range ways {
			got := make([]byte, len(b))
			if err := lzx.Decode(got, lzxtest.LZX(b, kinds...)); err != nil || !bytes.Equal(got, b) {
				t.Errorf("%s, %s: %v", name, way, err)
			}
		}
		got := make([]byte, len(b))
		if err := xpress.Decode(got, lzxtest.Xpress(b)); err != nil || !bytes.Equal(got, b) {
			t.Errorf("%s, quickly: %v", name, err)
		}
	}
}

// TestOthersAgree: another program unpacks the same from what is packed here.
func TestOthersAgree(t *testing.T) {
	testkit.Need(t, "7zz")
	all := map[string]func([]byte) []byte{"quickly": lzxtest.Xpress}
	for way, kinds := range ways {
		all[way] = func(b []byte) []byte { return lzxtest.LZX(b, kinds...) }
	}
	var want []byte
	for _, b := range samples(t) {
		want = append(want, b...)
	}
	for way, pack := range all {
		how := uint32(lzxtest.Closely)
		if way == "quickly" {
			how = lzxtest.Quickly
		}
		dir := t.TempDir()
		path := filepath.Join(dir, "pier.wim")
		if err := os.WriteFile(path, lzxtest.Archive("sailings", want, how, pack), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "7zz", "x", "-bd", "-y", "-o"+dir, path)
		got, err := os.ReadFile(filepath.Join(dir, "sailings"))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: another program sees something else (%v)", way, err)
		}
	}
}

// TestDamaged: what is damaged is said, and so is what isn't long enough.
func TestDamaged(t *testing.T) {
	b := samples(t)["text"]
	packed := lzxtest.LZX(b, lzxtest.Verbatim)
	for name, src := range map[string][]byte{"empty": nil, "cut": packed[:300], "of no kind": {0, 0xE0, 1, 2, 3},
		"zeros": make([]byte, 4000), "cut plain": lzxtest.LZX(b, lzxtest.Plain)[:4000]} {
		if err := lzx.Decode(make([]byte, len(b)), src); err == nil {
			t.Errorf("%s: nothing is wrong with it", name)
		}
	}
	if err := lzx.Decode(make([]byte, lzx.Window+1), packed); err == nil {
		t.Error("a piece is larger than pieces are")
	}
}

// FuzzDecode: nothing panics, and all ends.
func FuzzDecode(f *testing.F) {
	for name, b := range samples(f) {
		if len(b) < 1000 {
			for _, kinds := range ways {
				f.Add(lzxtest.LZX(b, kinds...), uint16(len(b)))
			}
		} else if name == "text" {
			f.Add(lzxtest.LZX(b[:3000], lzxtest.Aligned), uint16(3000))
		}
	}
	f.Fuzz(func(_ *testing.T, src []byte, n uint16) {
		_ = lzx.Decode(make([]byte, n), src)
	})
}
