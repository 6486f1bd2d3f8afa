package ntfs

import "testing"

// FuzzRights: no descriptor and no list of extended attributes makes what puts them in words fail badly.
func FuzzRights(f *testing.F) {
	f.Add([]byte{1, 0, 4, 0x80, 48, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0, 2, 0, 28, 0, 1, 0, 0, 0,
		0, 0, 20, 0, 0xFF, 1, 0x1F, 0, 1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0, 1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0})
	f.Add([]byte("\x14\x00\x00\x00\x00\x06\x05\x00COLOUR\x00grey!"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		rightsInWords(b)
		eaNames(b)
	})
}
