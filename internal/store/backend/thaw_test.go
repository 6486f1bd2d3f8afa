package backend

import (
	"context"
	"errors"
	"testing"

	"golang.org/x/sys/unix"
)

// TestOnDemand: what is written in a file system that can't be written to has it made writable, once; where that fails
// both reasons are said.
func TestOnDemand(t *testing.T) {
	thaws := 0
	frozen := true
	f := folder{root: t.TempDir(), thaw: func(context.Context) error { thaws++; frozen = false; return nil }}
	write := func() error {
		if frozen {
			return &wrapped{unix.EROFS}
		}
		return nil
	}
	for range 2 {
		if err := f.thawed(t.Context(), write); err != nil {
			t.Error(err)
		}
	}
	if thaws != 1 {
		t.Errorf("it was made writable %d times", thaws)
	}
	frozen = true
	locked := errors.New("the switch on the drive is set")
	f.thaw = func(context.Context) error { return locked }
	if err := f.thawed(t.Context(), write); !errors.Is(err, unix.EROFS) || !errors.Is(err, locked) {
		t.Errorf("a drive that can't be written: %v", err)
	}
	f.thaw = nil
	if err := f.thawed(t.Context(), write); !errors.Is(err, unix.EROFS) {
		t.Errorf("without a way: %v", err)
	}
}

// wrapped wraps an error of the system.
type wrapped struct{ error }

func (e *wrapped) Unwrap() error { return e.error }
