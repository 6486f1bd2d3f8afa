package workshop

import (
	"fmt"
	"os"

	"twinshelf/internal/bench"
	"twinshelf/internal/ready"
	"twinshelf/internal/stick/drive"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/table"
)

// DraftStick drafts a starting stick of a probed disk: anew, with a part for shelves where one is wished, or with
// another system on one that was made before.
func DraftStick(d *bench.Disk, s *drive.System, data drive.Data, renew bool) (*ready.Draft, error) {
	if renew {
		draft, err := DraftChange(d)
		if err != nil {
			return nil, err
		}
		return draft, s.Renew(draft)
	}
	draft, err := DraftAnew(d, table.GPT)
	if err != nil {
		return nil, err
	}
	return draft, s.Lay(draft, data)
}

// StickProgram reads the program that a machine is started into; this one where none is named.
func StickProgram(name string) (b []byte, err error) {
	if name == "" {
		if name, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	if b, err = os.ReadFile(name); err == nil {
		err = ramdisk.CheckProgram(b)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return b, nil
}
