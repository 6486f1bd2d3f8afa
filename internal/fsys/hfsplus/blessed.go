package hfsplus

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"strings"

	"twinshelf/internal/fsys"
)

var _ fsys.MacStart = (*Volume)(nil)

// What the volume header keeps for the firmware, as numbers of the catalog (TN1150, Volume Header, finderInfo): the
// folder that a system is in, and the loader in it.
const (
	headBlessedFolder = headFinder
	headBlessedFile   = headFinder + 4
	mostFolders       = 256 // on the way to a file
)

// usualLoader is what firmware takes in a blessed folder where no file is named.
const usualLoader = "boot.efi"

// Blessed is the file that the volume header names, or the usual one in the folder that it names.
func (v *Volume) Blessed() ([]string, error) {
	be := binary.BigEndian
	file, folder := be.Uint32(v.head[headBlessedFile:]), be.Uint32(v.head[headBlessedFolder:])
	if file == 0 && folder == 0 {
		return nil, nil
	}
	if file != 0 {
		path, err := v.path(file)
		if err != nil {
			return nil, err
		}
		return []string{path}, nil
	}
	path, err := v.path(folder)
	if err != nil {
		return nil, err
	}
	return []string{strings.TrimPrefix(path+"/"+usualLoader, "./")}, nil
}

// path is where a file or a folder is; "." for the root.
func (v *Volume) path(id uint32) (string, error) {
	out := ""
	for range mostFolders {
		if id == idRoot {
			return cmp.Or(out, "."), nil
		}
		t, err := v.catalog.thread(id)
		if err != nil {
			return "", err
		}
		out = strings.TrimSuffix(nameOf(t.name)+"/"+out, "/")
		id = t.parent
	}
	return "", fmt.Errorf("number %d lies more than %d folders deep", id, mostFolders)
}
