package store

import (
	"context"
	"errors"
	"math"
	"strconv"

	"twinshelf/internal/units"
)

// Room is how much room is left, in bytes; Untold where nobody can tell, as in object storage.
type Room int64

// Untold is more than anything needs.
const Untold Room = math.MaxInt64

// Known says whether it can be told.
func (r Room) Known() bool { return r != Untold }

// Words says it, with "free".
func (r Room) Words() string {
	if !r.Known() {
		return "how much is free isn't told"
	}
	return units.Bytes(int64(r)) + " free"
}

// MarshalJSON gives null where it can't be told.
func (r Room) MarshalJSON() ([]byte, error) {
	if !r.Known() {
		return []byte("null"), nil
	}
	return strconv.AppendInt(nil, int64(r), 10), nil
}

// Free is the room left where the store lies.
func (s *Store) Free(ctx context.Context) (Room, error) {
	free, err := s.b.Free(ctx)
	if errors.Is(err, errors.ErrUnsupported) {
		return Untold, nil
	}
	return Room(free), err
}
