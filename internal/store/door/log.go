package door

import (
	"encoding/json"
	"io"
	"os"
	"sync"
	"time"
)

// Entry is a line of the log: who did what.
type Entry struct {
	When    time.Time `json:"when"`
	Key     string    `json:"key,omitempty"`
	From    string    `json:"from,omitempty"`
	Op      string    `json:"op"` // such as put, replace, remove, come in, leave
	Name    string    `json:"name,omitempty"`
	Bytes   int64     `json:"bytes,omitempty"` // of the object; of a visit that ends: read in it
	Refused string    `json:"refused,omitempty"`
}

// Log takes entries, a line of JSON each. A nil Log takes none.
type Log struct {
	mu sync.Mutex
	w  io.Writer
}

// NewLog gives a log that writes.
func NewLog(w io.Writer) *Log { return &Log{w: w} }

// Note writes an entry.
func (l *Log) Note(e Entry) {
	if l == nil {
		return
	}
	e.When = time.Now()
	b, err := json.Marshal(e)
	if err != nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	_, _ = l.w.Write(append(b, '\n')) // a log that can't be written stops nobody
}

// OpenLog opens the file of a log, which is only ever appended to.
func OpenLog(file string) (*os.File, error) {
	return os.OpenFile(file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
}
