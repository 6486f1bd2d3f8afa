package hfsplus

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Unchanging = (*Volume)(nil)

// Caveat says why these records prove less than those of other families.
func (v *Volume) Caveat() string {
	return "its times count whole seconds, and its system writes some files without touching their records"
}

// mostFiles bounds the files that are remembered of the date before; what is beyond that isn't proven.
const mostFiles = 1 << 23

// heldOpen are the beginnings of names of files that a system writes without touching their records: what it swaps to,
// and what it keeps of the volume for itself.
var heldOpen = []string{"swapfile", "sleepimage", ".journal", ".hotfiles.btree", ".quota"}

// Unchanged yields where the contents of files lie whose record in the catalog, which has their times, is the same but
// for the time of the last access, and whose further extents are the same. Both volumes must have been unmounted.
func (v *Volume) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	old, ok := before.(*Volume)
	if !ok || v.info.ID == "" || old.info.ID != v.info.ID || old.unit != v.unit || old.at != v.at ||
		v.info.Unclean != "" || old.info.Unclean != "" {
		return nil // not the same volume: nothing is proven
	}
	was := map[uint32][16]byte{}
	if err := eachFile(ctx, old, func(it item, print [16]byte) error {
		if len(was) < mostFiles {
			was[it.id] = print
		}
		return nil
	}); err != nil {
		return err
	}
	return eachFile(ctx, v, func(it item, print [16]byte) error {
		if there, ok := was[it.id]; !ok || there != print {
			return nil
		}
		for _, f := range []fork{it.data, it.res} {
			if err := provenOf(v, old, f, proven); err != nil {
				return err
			}
		}
		return nil
	})
}

// provenOf yields where a fork lies whose record is the same. One that can't be followed proves nothing.
func provenOf(v, old *Volume, f fork, proven func(span.Span) error) error {
	all, err := v.all(f)
	if err != nil {
		return nil
	}
	if len(all) > len(f.first) {
		if then, err := old.all(f); err != nil || !slices.Equal(all, then) {
			return nil
		}
	}
	spans, err := v.spans(all, f.owner())
	if err != nil {
		return nil
	}
	for _, sp := range spans {
		if err := proven(sp); err != nil {
			return err
		}
	}
	return nil
}

// eachFile calls do with the files of the catalog that count, and a hash of name and record without the time of the
// last access.
func eachFile(ctx context.Context, v *Volume, do func(it item, print [16]byte) error) error {
	for e, err := range v.catalog.records() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if kindOf(e.data) != recFile || len(e.data) < fileLen {
			continue
		}
		it, err := readItem(e.data)
		if err != nil {
			return err
		}
		key, err := readKey(e.key)
		if err != nil {
			return err
		}
		name := strings.ToLower(nameOf(key.name))
		if slices.ContainsFunc(heldOpen, func(begin string) bool { return strings.HasPrefix(name, begin) }) {
			continue
		}
		rec := bytes.Clone(e.data[:fileLen])
		clear(rec[itemRead : itemRead+4])
		h := sha256.New()
		binary.Write(h, binary.BigEndian, uint32(len(e.key)))
		h.Write(e.key)
		h.Write(rec)
		if err := do(it, [16]byte(h.Sum(nil))); err != nil {
			return err
		}
	}
	return nil
}
