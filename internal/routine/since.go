package routine

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// sinceFile says since when disks are attached.
const sinceFile = "attached.json"

// attached is what it has: of one start of the machine.
type attached struct {
	Boot  string               `json:"boot"`
	Since map[string]time.Time `json:"since"`
}

// bootID is that of this start of the machine; empty where it isn't told.
func bootID() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
}

// Since is since when disks are attached, by their serial numbers, as far as it was seen since the machine was started.
func (b *Book) Since() map[string]time.Time {
	var a attached
	raw, err := os.ReadFile(filepath.Join(b.dir, sinceFile))
	if err != nil || json.Unmarshal(raw, &a) != nil || a.Boot != bootID() || a.Since == nil {
		return map[string]time.Time{}
	}
	return a.Since
}

// KeepSince keeps it for the next process. Where there are no routines there is nothing to keep it for.
func (b *Book) KeepSince(since map[string]time.Time) error {
	err := changed(filepath.Join(b.dir, sinceFile), func() ([]byte, error) {
		raw, err := json.Marshal(attached{bootID(), since})
		return append(raw, '\n'), err
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("since when disks are attached can't be kept: %w", err)
	}
	return nil
}
