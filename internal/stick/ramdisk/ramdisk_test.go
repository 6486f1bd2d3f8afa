package ramdisk

import (
	"bytes"
	"errors"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/cavaliergopher/cpio"
	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/testkit"
)

// TestRamdisk: the first file system has the program, the pieces that are kept and their list, each in folders that
// come before it.
func TestRamdisk(t *testing.T) {
	busybox, err := testkit.Path("busybox") // a program that needs no libraries
	if err != nil {
		testkit.Lacks(t, "busybox-static")
	}
	program, err := os.ReadFile(busybox)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	b, err := Begin(io.Discard, program, &base.Manifest{Kernel: "6.1", Made: time.Unix(1_790_000_000, 0)})
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"lib/modules/6.1/kernel/a.ko", "lib/modules/6.1/kernel/b.ko",
		"lib/firmware/x/y.bin"} {
		if err := b.Add(base.Piece{Name: name, Size: 5}, strings.NewReader("hello")); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Add(base.Piece{Name: "lib/cut", Size: 5}, strings.NewReader("he")); err == nil {
		t.Error("a piece that is too short is taken")
	}
	_ = b.End()
	if b, err = Begin(&out, program, &base.Manifest{Kernel: "6.1"}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"lib/modules/6.1/kernel/a.ko", "lib/firmware/x/y.bin"} {
		if err := b.Add(base.Piece{Name: name, Size: 5}, strings.NewReader("hello")); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	found := unpacked(t, out.Bytes())
	for name, want := range map[string]string{"lib/modules/6.1/kernel/a.ko": "hello", "lib/firmware/x/y.bin": "hello",
		Program: string(program), Modprobe: "/" + Program, "dev": "", "proc": "", "run": ""} {
		if got, ok := found[name]; !ok || got != want {
			t.Errorf("%s is there: %v, with %d bytes", name, ok, len(got))
		}
	}
	if !strings.Contains(found[Manifest], `"kernel":"6.1"`) {
		t.Errorf("the list is %q", found[Manifest])
	}
}

// unpacked gives what an archive holds, by name, and fails where a folder comes after what is in it.
func unpacked(t *testing.T, b []byte) map[string]string {
	t.Helper()
	z, err := zstd.NewReader(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	out := map[string]string{}
	for r := cpio.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if i := strings.LastIndexByte(h.Name, '/'); i > 0 {
			if _, ok := out[h.Name[:i]]; !ok {
				t.Errorf("%s comes before its folder", h.Name)
			}
		}
		if out[h.Name] = string(text); h.Linkname != "" {
			out[h.Name] = h.Linkname
		}
	}
}

// TestPrograms: what can't be the first process of a PC is refused, and it is said why.
func TestPrograms(t *testing.T) {
	shell, err := os.ReadFile("/bin/sh") // needs libraries
	if err != nil {
		t.Fatal(err)
	}
	foreign := append([]byte(nil), shell...)
	foreign[18] = 0xB7 // e_machine: another architecture
	for says, b := range map[string][]byte{"needs libraries": shell, "it is no Linux program": []byte("#!/bin/sh"),
		"is for": foreign} {
		if err := CheckProgram(b); !errors.Is(err, ErrProgram) || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
		if _, err := Begin(io.Discard, b, &base.Manifest{}); err == nil {
			t.Errorf("%s: it is taken", says)
		}
	}
}
