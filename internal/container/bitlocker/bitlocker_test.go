package bitlocker

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/lock"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

const (
	miB      = int64(1 << 20)
	size     = 48 * miB
	recovery = "239987-140250-451055-702834-180939-598983-033132-009669"
	password = "gulls över the pier"
)

// steady gives the same bytes each time.
func steady(seed byte) *rand.ChaCha8 { return rand.NewChaCha8([32]byte{seed}) }

// plainVolume is an NTFS with contents.
func plainVolume(t testing.TB) string {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfscp")
	img := testkit.Image(t, "plain.img", size)
	testkit.Do(t, "mkntfs", "-q", "-F", "-L", "Office", img)
	file := filepath.Join(t.TempDir(), "letter")
	if err := os.WriteFile(file, testkit.Noise(1, 3<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ntfscp", img, file, "letter.bin")
	return img
}

// sealed makes an encrypted volume of a plain one.
func sealed(t testing.TB, plain string, o Making) (string, *Made) {
	t.Helper()
	in, err := os.Open(plain)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if o.Sector == 0 {
		o.Sector = 512
	}
	if o.Form == "" {
		o.Form = Fixed
	}
	if o.Cipher == 0 {
		o.Cipher = XTS128
	}
	o.Areas = [4]int64{30 * miB, 33 * miB, 36 * miB, 40 * miB}
	o.Label, o.When, o.Random = "OFFICE-PC C: 11/28/2026", time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC), steady(7)
	img := testkit.Image(t, "sealed.img", size)
	out, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	made, err := Make(t.Context(), in, size, slices.Values([]span.Span{span.At(0, size)}), o, out)
	if err != nil {
		t.Fatal(err)
	}
	return img, made
}

func read(t testing.TB, img string) (*Volume, *disk.File) {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := Read(container.Member{R: d, Size: d.Size()})
	if err != nil {
		t.Fatal(err)
	}
	return v, d
}

// opened reads all that a key shows.
func shown(t testing.TB, v *Volume, k *lock.Key) []byte {
	t.Helper()
	c, err := v.Open(k)
	if err != nil {
		t.Fatal(err)
	}
	d := container.Open(c.Devices()[0], []container.Member{v.member}, int(v.sector))
	b := make([]byte, d.Size())
	if err := disk.ReadFull(d, b, 0); err != nil {
		t.Fatal(err)
	}
	for range 200 { // anywhere, in pieces of any size
		at := rand.Int64N(d.Size())
		n := min(rand.Int64N(3000)+1, d.Size()-at)
		p := make([]byte, n)
		if err := disk.ReadFull(d, p, at); err != nil || !bytes.Equal(p, b[at:at+n]) {
			t.Fatalf("%d bytes at %d: %v", n, at, err)
		}
	}
	return b
}

// TestOpensLikeOthers: every form and cipher opens with each of its keys, to the same bytes that independent readers
// see.
func TestOpensLikeOthers(t *testing.T) {
	plain := plainVolume(t)
	was, err := os.ReadFile(plain)
	if err != nil {
		t.Fatal(err)
	}
	for i, o := range []Making{{Cipher: CBC128Diffuser}, {Cipher: CBC256Diffuser}, {Cipher: CBC128}, {Cipher: CBC256},
		{Cipher: XTS128}, {Cipher: XTS256}, {Form: ToGo, Cipher: XTS128}, {Form: Vista, Cipher: CBC128Diffuser}} {
		o.Recovery, o.Password = recovery, password
		slow := i%3 == 0 // keys of words take long: not every form is opened by them
		if !slow {
			o.Password = ""
		}
		t.Run(fmt.Sprintf("%s %s", o.Form, o.Cipher), func(t *testing.T) {
			img, made := sealed(t, plain, o)
			v, _ := read(t, img)
			if v.ID != made.ID || v.Cipher != o.Cipher || len(v.Protectors) < 2 || len(v.Damaged) > 0 ||
				!strings.Contains(v.Words(), "recovery key has the ID "+made.RecoveryID) ||
				v.Label != "OFFICE-PC C: 11/28/2026" {
				t.Errorf("%+v %s", v, v.Words())
			}
			bek := filepath.Join(t.TempDir(), "key.BEK")
			if err := os.WriteFile(bek, made.KeyFile, 0o600); err != nil {
				t.Fatal(err)
			}
			byFile, err := v.UnlockFile(bek)
			if err != nil {
				t.Fatal(err)
			}
			if slow {
				sameByWords(t, v, byFile)
			}
			got := shown(t, v, byFile)
			want := bytes.Clone(was)
			for _, a := range v.areas {
				clear(want[a.Start:a.End])
			}
			differ(t, "the plain volume", got, want)
			other := byDislocker(t, img, bek)
			if o.Form == Vista { // it leaves the place of the metadata in the first sector
				copy(other[headVista:headVista+8], got[headVista:])
			}
			differ(t, "dislocker", got, other)
			if o.Form != Vista && o.Cipher != XTS256 { // it opens neither
				differ(t, "libbde", got, byLibbde(t, img))
			}
		})
	}
}

// sameByWords: recovery key and password open what the key file does.
func sameByWords(t *testing.T, v *Volume, byFile *lock.Key) {
	t.Helper()
	byDigits, err := v.UnlockRecovery(t.Context(), recovery)
	if err != nil {
		t.Fatal(err)
	}
	byWord, err := v.UnlockPassword(t.Context(), []byte(password))
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(byDigits.Bytes(), byWord.Bytes()) || !bytes.Equal(byWord.Bytes(), byFile.Bytes()) {
		t.Error("the keys differ")
	}
}

func differ(t *testing.T, who string, got, want []byte) {
	t.Helper()
	if len(got) != len(want) {
		t.Errorf("%s sees %d bytes, not %d", who, len(want), len(got))
		return
	}
	n, first := 0, -1
	for i := 0; i < len(got); i += 512 {
		if !bytes.Equal(got[i:i+512], want[i:i+512]) {
			if n++; first < 0 {
				first = i
			}
		}
	}
	if n > 0 {
		t.Errorf("%s sees %d sectors otherwise, the first at %d", who, n, first)
	}
}

func byDislocker(t *testing.T, img, bek string) []byte {
	t.Helper()
	testkit.Need(t, "dislocker-file")
	out := filepath.Join(t.TempDir(), "open.img")
	testkit.Do(t, "dislocker-file", "-q", "-V", img, "-f", bek, "--", out)
	b, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func byLibbde(t *testing.T, img string) []byte {
	t.Helper()
	testkit.Need(t, "bdemount")
	testkit.Root(t)
	var b []byte
	testkit.Mounted(t, []string{"bdemount", "-r", recovery, img}, func(point string) {
		var err error
		if b, err = os.ReadFile(filepath.Join(point, "bde1")); err != nil {
			t.Fatal(err)
		}
	})
	return b
}

// TestHalfConverted: what isn't enciphered yet is read as it lies; where a stretch is under way nothing is believed.
func TestHalfConverted(t *testing.T) {
	plain := plainVolume(t)
	for _, state := range []State{Converting, Paused} {
		img, _ := sealed(t, plain, Making{Recovery: recovery, State: state, Done: 20 * miB})
		v, _ := read(t, img)
		k, err := v.UnlockRecovery(t.Context(), recovery)
		if err != nil {
			t.Fatal(err)
		}
		want, err := os.ReadFile(plain) // the other readers can't open such a volume
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range v.areas {
			clear(want[a.Start:a.End])
		}
		differ(t, "the plain volume", shown(t, v, k), want)
		if c, err := v.Open(k); err != nil || c.Devices()[0].Doubt == "" {
			t.Errorf("a half-converted volume is certain: %v", err)
		}
		v.onWrite = true
		if _, err := v.Open(k); err == nil || !strings.Contains(err.Error(), "can't be told") {
			t.Errorf("a volume that changes is opened: %v", err)
		}
	}
}

// TestSuspended: a key that lies open is used without asking.
func TestSuspended(t *testing.T) {
	img, _ := sealed(t, plainVolume(t), Making{Recovery: recovery, Open: true})
	v, _ := read(t, img)
	if !v.Suspended() || !strings.Contains(v.Words(), "clear key") {
		t.Error(v.Words())
	}
	if b := shown(t, v, nil); string(b[headSign:headSign+4]) != "NTFS" {
		t.Errorf("% x", b[:16])
	}
}

// TestWrongKeys: keys of others, and what can't be a key, open nothing and say why.
func TestWrongKeys(t *testing.T) {
	plain := plainVolume(t)
	img, _ := sealed(t, plain, Making{Recovery: recovery, Password: password})
	v, _ := read(t, img)
	ctx := t.Context()
	if _, err := v.Open(nil); !errors.As(err, new(*LockedError)) {
		t.Error(err)
	}
	other := strings.Replace(recovery, "239987", "239998", 1)
	if _, err := v.UnlockRecovery(ctx, other); !errors.Is(err, lock.ErrWrongKey) {
		t.Error(err)
	}
	if _, err := v.UnlockPassword(ctx, []byte("gulls")); !errors.Is(err, lock.ErrWrongKey) {
		t.Error(err)
	}
	if _, err := v.UnlockRecovery(ctx, recovery[:40]); err == nil {
		t.Error("half a recovery key opens it")
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := v.UnlockRecovery(cancelled, recovery); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	dir := t.TempDir()
	_, foreign := sealed(t, plain, Making{Cipher: CBC128})
	for name, b := range map[string][]byte{"foreign.BEK": foreign.KeyFile, "half.BEK": foreign.KeyFile[:60],
		"empty.BEK": nil, "noise.BEK": testkit.Noise(3, 300)} {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := v.UnlockFile(file); name != "foreign.BEK" && err == nil {
			t.Errorf("%s opens it", name)
		}
	}
	if _, err := v.UnlockFile(dir); err == nil {
		t.Error("a folder opens it")
	}
	bare, _ := sealed(t, plain, Making{})
	w, _ := read(t, bare)
	if _, err := w.UnlockPassword(ctx, []byte(password)); !errors.Is(err, lock.ErrNoProtector) {
		t.Error(err)
	}
}

// TestGroups: the first group that can't be right is pointed at, while it is typed.
func TestGroups(t *testing.T) {
	for _, c := range []struct {
		typed string
		group int // that is wrong; 0 for none
		whole bool
	}{{"", 0, false}, {"239", 0, false}, {"239987", 0, false}, {"239987-140250-45", 0, false}, {"239986-", 1, false},
		{"239987-14025-451055", 2, false}, {"239987-1402500", 2, false}, {recovery, 0, true},
		{strings.ReplaceAll(recovery, "-", ""), 0, true}, {strings.ReplaceAll(recovery, "-", "  "), 0, true},
		{recovery + "-11", 9, false}, {"720896", 1, false}, {"720885", 0, false},
		{strings.Repeat("9", 200), 1, false}} {
		_, whole, err := Groups(c.typed)
		var wrong *GroupError
		errors.As(err, &wrong)
		if whole != c.whole || c.group == 0 && err != nil || c.group > 0 && (wrong == nil || wrong.Group != c.group) {
			t.Errorf("%q: %v, %v", c.typed, whole, err)
		}
	}
}

// TestDamagedMetadata: each copy alone is enough; a damaged one is named.
func TestDamagedMetadata(t *testing.T) {
	img, _ := sealed(t, plainVolume(t), Making{Recovery: recovery})
	whole, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	at := []int64{30 * miB, 33 * miB, 36 * miB}
	for keep := range at {
		b := bytes.Clone(whole)
		for i, off := range at {
			if i != keep {
				b[off+100+int64(i)] ^= 0x40
			}
		}
		v, err := Read(container.Member{R: bytes.NewReader(b), Size: size})
		if err != nil || len(v.Damaged) != 2 || v.Cipher != XTS128 {
			t.Fatalf("%v %+v", err, v)
		}
		if _, err := v.UnlockRecovery(t.Context(), recovery); err != nil {
			t.Error(err)
		}
	}
	b := bytes.Clone(whole) // a whole copy that names another cipher
	copied := b[at[1] : at[1]+metadataLen]
	le.PutUint16(copied[blockLen+setCipher:], uint16(XTS256))
	n := int(le.Uint16(copied[blockSize:])) * 16
	le.PutUint32(copied[n+checkCRC:], crc32.ChecksumIEEE(copied[:n]))
	v, err := Read(container.Member{R: bytes.NewReader(b), Size: size})
	if err != nil || len(v.Damaged) > 0 {
		t.Fatalf("%v %+v", err, v)
	}
	if k, err := v.UnlockRecovery(t.Context(), recovery); err == nil {
		if _, err := v.Open(k); err == nil || !strings.Contains(err.Error(), "contradict") {
			t.Errorf("copies that contradict each other are believed: %v", err)
		}
	}
	for _, off := range at {
		whole[off+200] ^= 1
	}
	if _, err := Read(container.Member{R: bytes.NewReader(whole), Size: size}); err == nil {
		t.Error("metadata of which no copy is whole are believed")
	}
	if _, err := Read(container.Member{R: bytes.NewReader(make([]byte, 4096)), Size: 4096}); err == nil {
		t.Error("zeros are a volume")
	}
}

// FuzzRead: whatever metadata say, nothing panics, and what is opened lies within the volume.
func FuzzRead(f *testing.F) {
	const small = 4 * miB
	plain := bytes.NewReader(append([]byte("\xEB\x52\x90NTFS    \x00\x02\x08"), make([]byte, small)...))
	for _, form := range []Form{Fixed, ToGo, Vista} {
		out := &memory{make([]byte, small)}
		_, err := Make(f.Context(), plain, small, slices.Values([]span.Span{span.At(0, small)}), Making{Form: form,
			Cipher: CBC128,
			Sector: 512, Open: true, Label: "x", When: time.Unix(1.79e9, 0), Random: steady(1),
			Areas: [4]int64{miB, 3 * miB / 2, 2 * miB, 3 * miB}}, out)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(out.b[:512], out.b[miB:miB+2048], uint16(0), byte(0))
		f.Add(out.b[:512], out.b[miB:miB+2048], uint16(112+4), byte(0xFF))
	}
	f.Fuzz(func(t *testing.T, head, block []byte, at uint16, x byte) {
		b := make([]byte, small)
		copy(b, head)
		block = bytes.Clone(block[:min(len(block), 2048)])
		if int(at) < len(block) {
			block[at] ^= x
		}
		if len(block) > blockLen { // as whoever makes one would: with a checksum
			n := int(le.Uint16(block[blockSize:]))
			if le.Uint16(block[blockVersion:]) == 2 {
				n *= 16
			}
			if n+checkLen <= len(block) {
				le.PutUint32(block[n+checkCRC:], crc32.ChecksumIEEE(block[:n]))
			}
		}
		copy(b[miB:], block)
		v, err := Read(container.Member{R: bytes.NewReader(b), Size: small})
		if err != nil {
			return
		}
		_ = v.Words()
		c, err := v.Open(nil)
		if err != nil {
			return
		}
		if own := c.Own(0); own.Bounds().Start < 0 || own.Bounds().End > small {
			t.Errorf("it has %s for itself", own.Bounds())
		}
		d := container.Open(c.Devices()[0], []container.Member{v.member}, int(v.sector))
		p := make([]byte, 5000)
		for _, at := range []int64{0, 8000, miB - 100, d.Size() - 5000} {
			_, _ = d.ReadAt(p, at)
		}
	})
}

// memory is a volume in memory.
type memory struct{ b []byte }

func (m *memory) WriteAt(p []byte, off int64) (int, error) { return copy(m.b[off:], p), nil }

// TestEncryptedAnew: a key of before doesn't open a volume that was encrypted anew under the same ID, and nothing that
// was proven of the one counts for the other.
func TestEncryptedAnew(t *testing.T) {
	plain := plainVolume(t)
	first, _ := sealed(t, plain, Making{Recovery: recovery})
	second, _ := sealed(t, plain, Making{Recovery: recovery, Cipher: XTS256}) // its keys come later in the stream
	v, _ := read(t, first)
	w, _ := read(t, second)
	k, err := v.UnlockRecovery(t.Context(), recovery)
	if err != nil {
		t.Fatal(err)
	}
	other, err := w.UnlockRecovery(t.Context(), recovery)
	if err != nil {
		t.Fatal(err)
	}
	other.Bytes()[3] ^= 1
	if _, err := w.Open(other); !errors.As(err, new(*LockedError)) {
		t.Errorf("another master key opens it: %v", err)
	}
	other.Bytes()[3] ^= 1
	a, err := v.Open(k)
	if err != nil {
		t.Fatal(err)
	}
	b, err := w.Open(other)
	if err != nil {
		t.Fatal(err)
	}
	same := func(x, y container.Container) bool { return x.Devices()[0].Sectors.Same(y.Devices()[0].Sectors) }
	if !same(a, a) || same(a, b) || same(b, a) {
		t.Error("volumes with different keys are taken for alike, or one isn't like itself")
	}
}
