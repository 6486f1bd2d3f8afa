package keys

import (
	"errors"
	"testing"
	"testing/fstest"
)

func FuzzRead(f *testing.F) {
	f.Add("keymaps 0-2,4\nkeycode 16 = q Q at\nshift keycode 86 = greater\n")
	f.Add("include \"layout\"\n")
	f.Add("charset \"iso-8859-2\"\nkeycode 2 = 0xb3 U+20ac dead_caron +zcaron\n")
	f.Add("keymaps 0-255\nkeycode 16 = + \\\n")
	f.Fuzz(func(t *testing.T, text string) {
		root := fstest.MapFS{Dir + "layout": {Data: []byte(text)}}
		m, err := Read(root, Layout{ID: "made up", File: "layout"})
		if err != nil {
			if !errors.Is(err, ErrLayout) {
				t.Error(err)
			}
			return
		}
		m.entries()
	})
}
