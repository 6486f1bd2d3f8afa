package shelf

import "time"

// process is the folder as one process sees it: once the power failed it never sees it again, however long its goroutines take to notice.
func (s *storm) process() Backend {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.life++
	return living{s, s.life}
}

// living passes calls on while its process lives.
type living struct {
	s    *storm
	life int
}

func (l living) alive() error {
	l.s.mu.Lock()
	defer l.s.mu.Unlock()
	if l.life != l.s.life {
		return errDead
	}
	return nil
}

func (l living) Place() string { return l.s.Place() }

func (l living) ReadFile(name string, limit int64) ([]byte, error) {
	if err := l.alive(); err != nil {
		return nil, err
	}
	return l.s.ReadFile(name, limit)
}

func (l living) Open(name string) (Reader, error) {
	if err := l.alive(); err != nil {
		return nil, err
	}
	return l.s.Open(name)
}

func (l living) Create(name string) (Writer, error) {
	if err := l.alive(); err != nil {
		return nil, err
	}
	return l.s.Create(name)
}

func (l living) Rename(from, to string) error {
	if err := l.alive(); err != nil {
		return err
	}
	return l.s.Rename(from, to)
}

func (l living) Remove(name string) error {
	if err := l.alive(); err != nil {
		return err
	}
	return l.s.Remove(name)
}

func (l living) SyncDir(dir string) error {
	if err := l.alive(); err != nil {
		return err
	}
	return l.s.SyncDir(dir)
}

func (l living) List(dir string) ([]string, error) {
	if err := l.alive(); err != nil {
		return nil, err
	}
	return l.s.List(dir)
}

func (l living) Free() (int64, error) { return l.s.Free() }

func (l living) Stat(name string) (int64, time.Time, error) {
	if err := l.alive(); err != nil {
		return 0, time.Time{}, err
	}
	return l.s.Stat(name)
}
