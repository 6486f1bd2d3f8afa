// Package spool keeps what is on its way to a far backend, until it has arrived: in memory, or in a file without a
// name.
package spool

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"sync"
)

// inMemory is how much is kept in memory, in bytes.
const inMemory = 4 << 20

// Spool takes bytes at its end and gives them back anywhere. Its methods may be called from many goroutines.
type Spool struct {
	mu    sync.RWMutex
	small []byte
	file  *os.File
	size  int64
}

// Size is how much was written, in bytes.
func (s *Spool) Size() int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.size
}

// Write takes bytes.
func (s *Spool) Write(p []byte) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file == nil && s.size+int64(len(p)) > inMemory {
		err = s.spill()
	}
	switch {
	case err != nil:
	case s.file != nil:
		n, err = s.file.WriteAt(p, s.size)
	default:
		s.small, n = append(s.small, p...), len(p)
	}
	s.size += int64(n)
	if err != nil {
		err = fmt.Errorf("what is on its way can't be kept in %s meanwhile: %w", os.TempDir(), err)
	}
	return n, err
}

// spill goes on in a file. mu is held.
func (s *Spool) spill() error {
	f, err := os.CreateTemp("", "twinshelf-spool-*")
	if err != nil {
		return err
	}
	if err = os.Remove(f.Name()); err == nil { // it ends with the process
		_, err = f.WriteAt(s.small, 0)
	}
	if err != nil {
		return errors.Join(err, f.Close())
	}
	s.file, s.small = f, nil
	return nil
}

// ReadAt reads what was written.
func (s *Spool) ReadAt(p []byte, off int64) (int, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.file == nil {
		return bytes.NewReader(s.small).ReadAt(p, off)
	}
	return s.file.ReadAt(p, off)
}

// Close lets go of it.
func (s *Spool) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.small = nil
	if s.file == nil {
		return nil
	}
	f := s.file
	s.file = nil
	return f.Close()
}
