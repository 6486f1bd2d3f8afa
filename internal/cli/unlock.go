package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"twinshelf/internal/bench"
	"twinshelf/internal/lock"
	"twinshelf/internal/shelf"
	"twinshelf/internal/workshop"
)

// unlocking is how locked volumes are opened: by files that were named, or by asking the person.
type unlocking struct {
	files []string
	ask   bool
}

// wanted says whether anything is to be unlocked.
func (u *unlocking) wanted() bool { return len(u.files) > 0 || u.ask }

// open opens locked volumes as far as it can, and says whether any of them is open now.
func (u *unlocking) open(ctx context.Context, o *options, locked []lock.Volume) (bool, error) {
	if len(locked) == 0 || !u.wanted() {
		return false, nil
	}
	var secrets []lock.Secret
	for _, file := range u.files {
		s, err := workshop.ReadSecret(file)
		if err != nil {
			return false, fmt.Errorf("a key can't be read: %w", err)
		}
		secrets = append(secrets, s)
	}
	opened := 0
	var last error
	for _, v := range locked {
		n, err := workshop.Unlock(ctx, []lock.Volume{v}, secrets...)
		if n == 0 && u.ask {
			n, err = u.asked(ctx, o, v)
		}
		if opened += n; err != nil {
			last = err
		}
	}
	return opened > 0, last
}

// asked asks the person for the key of a volume.
func (u *unlocking) asked(ctx context.Context, o *options, v lock.Volume) (int, error) {
	fd := int(os.Stdin.Fd())
	_, label := v.Name()
	if !term.IsTerminal(fd) {
		return 0,
			fmt.Errorf("the volume %s stays locked: there is nobody to ask; give the key in a file: --key-file",
				label)
	}
	fmt.Fprintf(o.err, "%s is locked (%s).\nIts recovery key or password: ", label, v.Words())
	b, err := term.ReadPassword(fd)
	fmt.Fprintln(o.err)
	defer clear(b)
	if err != nil {
		return 0, err
	}
	return workshop.Unlock(ctx, []lock.Volume{v}, lock.Secret{Text: b})
}

// disks unlocks what is on attached disks, and looks at them again.
func (u *unlocking) disks(ctx context.Context, o *options, w *workshop.Workshop, disks []*bench.Disk) error {
	if !u.wanted() {
		return nil
	}
	var last error
	for _, d := range disks {
		opened, err := u.open(ctx, o, workshop.LockedOn(d))
		if opened {
			w.Bench.Probe(ctx, d)
		}
		if err != nil {
			last = err
		}
	}
	return last
}

// twin unlocks what is in a twin.
func (u *unlocking) twin(ctx context.Context, o *options, w *workshop.Workshop, t *shelf.Twin) error {
	if !u.wanted() {
		return nil
	}
	locked, err := w.LockedIn(ctx, t)
	if err != nil {
		return err
	}
	_, err = u.open(ctx, o, locked)
	return err
}

// newest unlocks what is in the newest twin of each machine, or of one: older ones have the same volumes.
func (u *unlocking) newest(ctx context.Context, o *options, w *workshop.Workshop, machine string) error {
	if !u.wanted() {
		return nil
	}
	twins, _ := w.Shelf.Twins(ctx) // what can't be read is said by what reads it
	seen := map[string]bool{}
	var last error
	for _, t := range twins { // by machine, the newest first
		if seen[t.Machine] || machine != "" && !strings.EqualFold(t.Machine, machine) {
			continue
		}
		seen[t.Machine] = true
		if err := u.twin(ctx, o, w, t); err != nil {
			last = err
		}
	}
	return last
}
