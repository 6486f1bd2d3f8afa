package plan

import (
	"context"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/span"
)

// Wish says what shall become of a disk on its target. The zero Wish lets the main data part take the room of a larger
// target, repairs what starts the disk, and keeps its identities.
type Wish struct {
	fit.Wish
	// NewPart is what is made of the room that nothing takes.
	NewPart NewPart
	// AsItStarts leaves the start-up files and code as they are, also where they could be repaired.
	AsItStarts bool
	// OtherHardware has a Windows start in a machine with another controller, with the drivers that it has.
	OtherHardware bool
	// Fresh gives the target identities of its own, so that it can stand in one machine with its source.
	Fresh bool
	// Gaps says what becomes of places that couldn't be read when the source was captured.
	Gaps Gaps
	// Unlocked has the source's unlocked volumes written without their encryption; the Order's Source is made so.
	Unlocked bool
}

// NewPart is a part that the source doesn't have. Without a Kind none is made.
type NewPart struct {
	Kind  string // of its file system
	Label string
}

// Order is what a plan is made from: one disk, its target, what is wished, and what the plan has to know of the rest of
// the work. The same order makes the same plan.
type Order struct {
	Source disk.Mapped
	// Missing is what of it couldn't be read when it was captured, in bytes of the source.
	Missing span.Set
	Target  disk.Identity
	Wish    Wish
	// Origin names the source; the name changes when its contents do, as far as can be told without reading them.
	Origin string
	// Seed is what new identities are made from, Made the time that what is made new carries.
	Seed string
	Made time.Time
	// Elsewhere are the identities of file systems on the machine's other disks, to which start-up files may refer;
	// Others the new ones by the old ones, of those that get others in the same piece of work.
	Elsewhere []string
	Others    map[string]string
	// Earlier opens the machine's disk as it was before, to say what of its start-up changed; nil, or a nil Device,
	// where there is none.
	Earlier func(ctx context.Context) (d disk.Device, taken time.Time, err error)
	// Like are plans of the same source for other targets, made before. What they have in common with this one is
	// neither worked out twice nor kept twice.
	Like []*Plan
	// Doing hears what the planning is busy with, in words that follow "planning: "; it may be nil.
	Doing func(what string)
}
