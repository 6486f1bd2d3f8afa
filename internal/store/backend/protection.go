package backend

import (
	"context"
	"time"
)

// Protection is what keeps those from destroying what lies in a backend who get hold of what it is opened with.
type Protection struct {
	// Safe says that it was tried to destroy something, and that it didn't go.
	Safe bool `json:"safe"`
	// For is for how long what is put stays at the least, in nanoseconds; 0 where no end is known, or nothing is safe.
	For time.Duration `json:"for"`
	// Says is the verdict in words, and Warnings what else endangers it.
	Says     string   `json:"says"`
	Warnings []string `json:"warnings"`
}

// Protected are backends of which it can be tried out.
type Protected interface {
	// Protection tries to destroy an object of its own, and says what became of it.
	Protection(ctx context.Context) (Protection, error)
}

// Retainer are backends that can lock single objects against deleting.
type Retainer interface {
	// Retain has an object stay at least until a time; one that stays longer already is left as it is.
	Retain(ctx context.Context, name string, until time.Time) error
}

// Reviver are backends that keep what was deleted or replaced, and can bring it back.
type Reviver interface {
	// BringBack brings everything back as it was at a time; step, which may be nil, hears of how many objects were
	// looked at. It gives how many were brought back.
	BringBack(ctx context.Context, asOf time.Time, step func(looked int)) (back int, err error)
}

// ProbeName is the object that protection is tried out with.
const ProbeName = "probe"
