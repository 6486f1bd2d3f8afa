package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// CreateImage makes a new image file of size bytes that reads as zeros and takes no room yet. It never touches a file
// that is there.
func CreateImage(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already; choose another name", path)
	}
	if err != nil {
		return fmt.Errorf("%s can't be made: %w", path, rootOf(err))
	}
	if err = errors.Join(f.Truncate(size), f.Sync(), f.Close()); err != nil {
		os.Remove(path)
		return fmt.Errorf("%s can't become %d bytes large: %w; choose a file system that takes such files",
			filepath.Base(path), size, rootOf(err))
	}
	return nil
}
