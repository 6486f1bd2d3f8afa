package exfat

import (
	"encoding/binary"
	"sync"

	"twinshelf/internal/fsys/upcase"
)

// upcaseTable is the table in the compressed form of section 7.2.5.1: a run of
// units that are their own upper case is 0xFFFF and its length.
var upcaseTable = sync.OnceValue(func() []byte {
	t := upcase.Table()
	var b []byte
	for i := 0; i < len(t); {
		j := i
		for j < len(t) && int(t[j]) == j {
			j++
		}
		if j-i > 2 || i == 0xFFFF { // shorter runs take less room as they are
			b = binary.LittleEndian.AppendUint16(b, 0xFFFF)
			b = binary.LittleEndian.AppendUint16(b, uint16(j-i))
			i = j
			continue
		}
		b = binary.LittleEndian.AppendUint16(b, t[i])
		i++
	}
	return b
})
