package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/prove"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Say says a sentence.
type Say func(format string, args ...any)

// Hands do with the program itself what a walk shows: they lie above this package.
type Hands interface {
	// PutBack restores a twin onto the disk with a serial number, and proves it.
	PutBack(ctx context.Context, b Bench, s *shelf.Shelf, t *shelf.Twin, serial string, say Say) (*shelf.Proof,
		*fit.Layout, error)
	// HandBack prints the sheet of the work into a folder.
	HandBack(ctx context.Context, dir string, say Say) error
}

// Walk runs the whole job without a screen on the harbour kiosk and says what
// it does in sentences. It returns an error unless everything holds.
func Walk(ctx context.Context, dir, tool string, out io.Writer, by Hands) error {
	say := func(format string, args ...any) { fmt.Fprintf(out, format+"\n", args...) }
	b, s, err := start(ctx, dir)
	if err != nil {
		return err
	}
	defer s.Close()
	kiosk, heron := machines[1], others[0]
	root := kiosk.disks[0].parts[1]

	say("The harbour kiosk's disk (%s, serial %s) lies on the bench.", kiosk.disks[0].label.Model,
		kiosk.disks[0].label.Serial)
	if err := b.bring(ctx, kiosk.disks[0], 0); err != nil {
		return err
	}
	first, err := b.capture(ctx, s, kiosk, time.Now().Add(-24*time.Hour), tool)
	if err != nil {
		return err
	}
	say("First capture: %s read, %s added to the shelf. It is twin %s.", units.Bytes(first.Used),
		units.Bytes(first.Added), first.ID)
	source := filepath.Join(b.Disks, kiosk.disks[0].file)
	before, err := files(ctx, source, root.Span.Start, root.Span.Len())
	if err != nil {
		return err
	}

	say("A day later somebody has used the kiosk: files were deleted, added and changed.")
	if err := b.bring(ctx, kiosk.disks[0], 1); err != nil {
		return err
	}
	second, err := b.capture(ctx, s, kiosk, time.Now(), tool)
	if err != nil {
		return err
	}
	say("Second capture: %s read, only %s added.", units.Bytes(second.Used), units.Bytes(second.Added))
	after, err := files(ctx, source, root.Span.Start, root.Span.Len())
	if err != nil {
		return err
	}

	if err := b.bring(ctx, heron, 0); err != nil {
		return err
	}
	proof, plan, err := by.PutBack(ctx, b, s, first, heron.label.Serial, say)
	if err != nil {
		return err
	}
	for _, c := range proof.Claims {
		mark := "holds"
		if !c.Holds {
			mark = "FAILS"
		}
		evidence := ""
		if c.Evidence != "" {
			evidence = " (" + c.Evidence + ")"
		}
		say("  %s: %s: %s%s.", mark, c.About, c.Says, evidence)
	}
	if !proof.Holds() {
		return fmt.Errorf("%w: %s", prove.ErrFails, proof.Words())
	}
	grown := root.Span
	for _, x := range plan.Parts {
		if x.From == root.Span {
			grown = x.To
		}
	}
	now, err := files(ctx, filepath.Join(b.Disks, heron.file), grown.Start, grown.Len())
	if err != nil {
		return err
	}
	if err := settle(before, after, now, say); err != nil {
		return err
	}
	return by.HandBack(ctx, dir, say)
}

// settle compares three states of the files: at the first date, at the second, and on the target.
func settle(before, after, now map[string]string, say func(string, ...any)) error {
	var wrong []string
	names := map[string]bool{}
	for _, m := range []map[string]string{before, after, now} {
		for n := range m {
			names[n] = true
		}
	}
	for _, n := range slices.Sorted(func(yield func(string) bool) {
		for n := range names {
			if !yield(n) {
				return
			}
		}
	}) {
		b, a, t := before[n], after[n], now[n]
		switch {
		case t != b:
			wrong = append(wrong, n)
		case b != "" && a == "":
			say("  %s was deleted later and is back.", n)
		case b == "" && a != "":
			say("  %s was added later and is gone.", n)
		case b != a:
			say("  %s was changed later and is as it was.", n)
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%d files on the target are not as they were, the first is %s", len(wrong), wrong[0])
	}
	if len(before) == 0 || fmt.Sprint(before) == fmt.Sprint(after) {
		return errors.New("the two dates hold the same files, so nothing was shown")
	}
	say("All %d files on the target have the contents of the first date. Everything holds.", len(before))
	return nil
}

// files hashes every file on an ext file system in an image file.
func files(ctx context.Context, path string, off, size int64) (map[string]string, error) {
	dev, err := disk.Open(path, disk.Identity{})
	if err != nil {
		return nil, err
	}
	defer dev.Close()
	v, err := families.Identify(ctx, disk.Section(dev, off, size), size, dev.SectorSize())
	if err != nil {
		return nil, err
	}
	files, err := fsys.TreeOf(v)
	if err != nil {
		return nil, fmt.Errorf("%s at byte %d: %w", path, off, err)
	}
	out := map[string]string{}
	err = everyFile(files, func(name string, it fsys.Item) error {
		c, err := files.Open(it, "")
		if err != nil {
			return err
		}
		out[name], err = hashed(c)
		return err
	})
	return out, err
}

// everyFile visits all files of a tree.
func everyFile(t fsys.Tree, visit func(name string, it fsys.Item) error) error {
	root, err := t.Root()
	if err != nil {
		return err
	}
	return fsys.Walk(t, root, ".", func(folder string, _ fsys.Item, entries []fsys.Entry, err error) error {
		if err != nil {
			return err
		}
		for _, e := range entries {
			if e.Err != nil {
				return e.Err
			}
			if !e.Mode.IsRegular() {
				continue
			}
			if err := visit(fsys.Join(folder, e.Name), e.Item); err != nil {
				return err
			}
		}
		return nil
	})
}

// hashed is the hash of a file's size and of what was ever written of it.
func hashed(c fsys.Contents) (string, error) {
	h := sha256.New()
	fmt.Fprintln(h, c.Size())
	for sp := range c.Data().All() {
		fmt.Fprintln(h, sp)
		if _, err := io.Copy(h, io.NewSectionReader(c, sp.Start, sp.Len())); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
