package decmpfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs/decmpfstest"
	"twinshelf/internal/testkit"
)

func opened(form decmpfstest.Form) (fsys.Contents, error) {
	p, err := Parse(form.Attr)
	if err != nil {
		return nil, err
	}
	return p.Open(func() (fsys.Contents, error) { return &fsys.Resident{Bytes: form.Resource}, nil })
}

// TestEveryForm: what was packed comes back, all of it and from anywhere.
func TestEveryForm(t *testing.T) {
	mixed := append(bytes.Repeat([]byte("pier 7, berth 2\n"), 9000), testkit.Noise(2, 90_000)...)
	for size, content := range map[string][]byte{"empty": {}, "short": mixed[:500], "one piece": mixed[:packedPiece],
		"a byte more": mixed[:packedPiece+1], "long": mixed} {
		for how, form := range decmpfstest.Forms(content) {
			c, err := opened(form)
			if err != nil {
				t.Errorf("%s, %s: %v", size, how, err)
				continue
			}
			got, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
			if err != nil || !bytes.Equal(got, content) || c.Size() != int64(len(content)) {
				t.Errorf("%s, %s: %d bytes of %d, %v", size, how, len(got), len(content), err)
			}
			for _, off := range []int64{0, 1, packedPiece - 3, packedPiece, 150_000} {
				b := make([]byte, 7)
				n, err := c.ReadAt(b, off)
				want := content[min(off, int64(len(content))):min(off+7, int64(len(content)))]
				if !bytes.Equal(b[:n], want) || n < len(b) && !errors.Is(err, io.EOF) {
					t.Errorf("%s, %s: at %d: %q, not %q, %v", size, how, off, b[:n], want, err)
				}
			}
			if fsys.Plain(c) != nil {
				t.Errorf("%s, %s: its bytes are said to lie as they are", size, how)
			}
		}
	}
}

// TestHurt: whatever is wrong with it is an error, and nothing more than there is comes out.
func TestHurt(t *testing.T) {
	content := bytes.Repeat([]byte("fare 12\n"), 20_000)
	forms := decmpfstest.Forms(content)
	le := binary.LittleEndian
	for why, c := range map[string]struct {
		how    string
		change func(f *decmpfstest.Form)
	}{
		"isn't known (5 bytes)":  {"lzvn in pieces", func(f *decmpfstest.Form) { f.Attr = f.Attr[:5] }},
		"isn't known (16 bytes)": {"lzvn in pieces", func(f *decmpfstest.Form) { f.Attr[0] = 'x' }},
		"way that isn't known":   {"lzvn in pieces", func(f *decmpfstest.Form) { f.Attr[4] = 99 }},
		"kept elsewhere":         {"lzvn in pieces", func(f *decmpfstest.Form) { f.Attr[4] = 5 }},
		"pieces are claimed":     {"lzvn in pieces", func(f *decmpfstest.Form) { le.PutUint64(f.Attr[8:], 1<<60) }},
		"a piece lies at": {"lzvn in pieces", func(f *decmpfstest.Form) {
			le.PutUint32(f.Resource[4:],
				1<<30)
		}},
		"follow their format": {"lzvn in pieces", func(f *decmpfstest.Form) { clear(f.Resource[20:]) }},
		"there are 9, and 3 should": {"zlib in pieces", func(f *decmpfstest.Form) {
			le.PutUint32(f.Resource[260:],
				9)
		}},
		"its packed pieces":    {"zlib in pieces", func(f *decmpfstest.Form) { f.Resource = f.Resource[:30] }},
		"zlib: invalid header": {"zlib in pieces", func(f *decmpfstest.Form) { f.Resource[260+4+24] = 0x70 }},
	} {
		f := decmpfstest.Form{Attr: bytes.Clone(forms[c.how].Attr), Resource: bytes.Clone(forms[c.how].Resource)}
		c.change(&f)
		contents, err := opened(f)
		if err == nil {
			_, err = io.ReadAll(io.NewSectionReader(contents, 0, contents.Size()))
		}
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
	var gone *fsys.Unreadable
	p, err := Parse(forms["lzfse"].Attr)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Open(func() (fsys.Contents, error) {
		return nil,
			&fsys.Unreadable{Why: "locked"}
	}); !errors.As(err, &gone) {
		t.Errorf("without the resource fork: %v", err)
	}
}

// FuzzOpen: whatever a file says of its contents, nothing panics.
func FuzzOpen(f *testing.F) {
	for _, form := range decmpfstest.Forms(bytes.Repeat([]byte("wind from west\n"), 100)) {
		f.Add(form.Attr, form.Resource)
	}
	f.Fuzz(func(t *testing.T, attr, resource []byte) {
		c, err := opened(decmpfstest.Form{Attr: attr, Resource: resource})
		if err != nil {
			return
		}
		_, _ = c.ReadAt(make([]byte, 3*packedPiece), 0)
		_, _ = c.ReadAt(make([]byte, 10), max(0, c.Size()-5))
	})
}
