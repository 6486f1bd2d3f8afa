package hivetest

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"twinshelf/internal/table"
)

// Object is something in a store of Windows' boot manager. Elements are []byte, a text, or several texts.
type Object struct {
	ID       string
	Kind     uint32
	Elements map[uint32]any
}

// Boot is a start-up configuration store.
func Boot(t testing.TB, objects ...Object) []byte {
	t.Helper()
	lines := []string{`cd \`, "add Description", "cd Description", "setval 1", "KeyName", "string:BCD00000000", `cd \`,
		"add Objects"}
	for _, o := range objects {
		in := `cd \Objects\` + o.ID
		lines = append(lines, `cd \Objects`, "add "+o.ID, in, "add Description", "cd Description", "setval 1", "Type",
			fmt.Sprintf("dword:%#x", o.Kind), in, "add Elements")
		for id, e := range o.Elements {
			name := fmt.Sprintf("%08x", id)
			lines = append(lines, in+`\Elements`, "add "+name, "cd "+name, "setval 1", "Element", Setting(e))
		}
	}
	return Written(t, lines)
}

// Setting is a value as hivexsh takes it: of bytes, a text, several texts, or a number.
func Setting(v any) string {
	switch v := v.(type) {
	case []byte:
		return "hex:3:" + hexed(v)
	case string:
		return "string:" + v
	case []string:
		return "hex:7:" + hexed(wide(strings.Join(v, "\x00")+"\x00\x00"))
	case int:
		return fmt.Sprintf("dword:%#x", v)
	}
	return ""
}

func hexed(b []byte) string {
	out := make([]string, len(b))
	for i := range b {
		out[i] = hex.EncodeToString(b[i : i+1])
	}
	return strings.Join(out, ",")
}

func wide(s string) (out []byte) {
	for _, c := range utf16.Encode([]rune(s)) {
		out = le.AppendUint16(out, c)
	}
	return out
}

// OnGPT is an element that names a part by GUIDs.
func OnGPT(t testing.TB, diskID, part string) []byte {
	t.Helper()
	b := device(6, 0)
	for at, s := range map[int]string{32: part, 56: diskID} {
		id, err := table.GUIDBytes(s)
		if err != nil {
			t.Fatal(err)
		}
		copy(b[at:], id)
	}
	return b
}

// OnMBR is an element that names a part by its first byte and the signature of its disk.
func OnMBR(signature uint32, at int64) []byte {
	b := device(6, 1)
	le.PutUint64(b[32:], uint64(at))
	le.PutUint32(b[56:], signature)
	return b
}

// FromBoot is an element that means the manager's own part, ByFile one that has the part looked for.
func FromBoot() []byte { return device(5, 0) }
func ByFile() []byte   { return device(8, 0) }

// device is an element with a device of a kind on a table of a kind.
func device(kind, of uint32) []byte {
	b := make([]byte, 88)
	le.PutUint32(b[16:], kind)
	le.PutUint32(b[24:], 72)
	le.PutUint32(b[52:], of)
	return b
}

// InMemory is an element that means an image in memory, from a file on the part that another element names.
func InMemory(on []byte, file string) []byte {
	b := make([]byte, 32+24)
	le.PutUint32(b[24:], uint32(len(b)-16+72+2*len(file)))
	le.PutUint32(b[32:], 3)
	return slices.Concat(b, on[16:], wide(file+"\x00"))
}
