package fsystest

import (
	"encoding/binary"
	"os"
	"testing"

	"twinshelf/internal/testkit"
)

// ChangePage is what no record of a change journal crosses, in bytes.
const ChangePage = 4096

// Changes adds records of changes to what a change journal of NTFS holds: one for each file, by the number of its
// record, in version 2 or 3.
func Changes(journal []byte, version uint16, files ...int64) []byte {
	const length = 80
	le := binary.LittleEndian
	for _, n := range files {
		if left := ChangePage - len(journal)%ChangePage; left < length {
			journal = append(journal, make([]byte, left)...)
		}
		r := make([]byte, length)
		le.PutUint32(r, length)
		le.PutUint16(r[4:], version)
		le.PutUint64(r[8:], uint64(n)|3<<48)
		at := 24
		if version > 2 {
			at = 40
		}
		le.PutUint64(r[at:], uint64(len(journal)))
		journal = append(journal, r...)
	}
	return journal
}

// SetChanges gives an NTFS volume on an image a change journal.
func SetChanges(t testing.TB, img string, id uint64, lowest int64, journal []byte) {
	t.Helper()
	testkit.Need(t, "ntfscp")
	le := binary.LittleEndian
	head := le.AppendUint64(le.AppendUint64(le.AppendUint64(nil, 32<<20), 8<<20), id)
	head = le.AppendUint64(head, uint64(lowest))
	for stream, b := range map[string][]byte{"$Max": head, "$J": journal} {
		file := testkit.Image(t, "stream", int64(len(b)))
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "ntfscp", "-q", "-f", "-N", stream, img, file, "$Extend/$UsnJrnl")
	}
}
