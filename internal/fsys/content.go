package fsys

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
)

// Edge is how much of the start and the end of every part is always kept, in
// bytes: old signatures live there, and a restore must overwrite them.
const Edge = 64 << 10

// Content is what Examine found on a part: what it is, and which of its bytes
// have to be captured.
type Content struct {
	Volume Volume // nil when unknown
	Info   Info   // zero when unknown
	// Maps says that the volume's own maps tell what is used. Otherwise all
	// of it is read and every non-zero block kept.
	Maps bool
	// Why says in words why the maps aren't used; empty when they are.
	Why string
	// Sound says that the maps were found to agree with everything that records name, whether they are used or not.
	Sound bool
	// Doubt says in words what of it isn't believed although its maps are used; empty when all of it is.
	Doubt string
	// Used is the number of bytes to read; the size of the part without maps.
	Used int64
	// Omit is what is left out of Used.
	Omit []Omission

	size int64
	omit span.Set
	all  bool // nothing is left out, by wish
	used bool // somebody uses it now
	cut  *Cut // see AsCut
}

// Examine recognises what a part of size bytes holds, and compares its maps with everything that its structures and
// records name: maps that call something free which a file has are not used. It reads only structures, never contents.
// The error is only for a cancelled context.
func (f Families) Examine(ctx context.Context, r io.ReaderAt, size int64, sector int) (Content, error) {
	v, err := f.Identify(r, size, sector)
	if err != nil {
		return Content{size: size, Used: size, Why: "its structures don't add up (" + err.Error() + ")"}, ctx.Err()
	}
	if v == nil {
		return Content{size: size, Used: size, Why: unknown(r, size)}, ctx.Err()
	}
	return Judge(ctx, v, size)
}

// Judge says which bytes of a part matter that holds a volume; see Examine.
func Judge(ctx context.Context, v Volume, size int64) (Content, error) {
	return judge(ctx, v, size, true)
}

// JudgeChecked is Judge of a volume whose maps were compared with its records when it was as it is now, which somebody
// has on record: that isn't done again, so Sound isn't said.
func JudgeChecked(ctx context.Context, v Volume, size int64) (Content, error) {
	return judge(ctx, v, size, false)
}

func judge(ctx context.Context, v Volume, size int64, check bool) (Content, error) {
	c := Content{size: size, Used: size, Volume: v, Info: v.Info()}
	if c.Why = c.Info.Opaque; c.Why == "" {
		c.Why = c.Info.Unclean
	}
	if c.Why != "" {
		return c, ctx.Err()
	}
	var err error
	if o, ok := v.(Omitter); ok {
		// What can't be named isn't left out.
		if c.Omit, err = o.Omissions(); err != nil {
			c.Omit = nil
		}
		for _, om := range c.Omit {
			c.omit = c.omit.Union(om.Spans)
		}
	}
	used, err := c.count(ctx)
	if a, ok := v.(Accountable); ok && check && err == nil {
		err = CheckKept(ctx, a, v.Used())
	}
	if ctx.Err() != nil {
		return c, ctx.Err()
	}
	if err != nil {
		c.Why = "its own accounts contradict each other (" + err.Error() + ")"
		c.Omit, c.omit = nil, span.Set{}
		return c, nil
	}
	c.Maps, c.Sound, c.Used = true, check, used
	return c, nil
}

// unknown says what can be said of an area without any signature.
func unknown(r io.ReaderAt, size int64) string {
	if LooksRandom(r, size) {
		return "no known file system; its bytes look random: encrypted, packed or wiped, which can't be told"
	}
	return "no known file system"
}

// LooksRandom says that the first bytes of an area bear no order at all, as those of encrypted volumes without a head
// of their own do.
func LooksRandom(r io.ReaderAt, size int64) bool {
	b := make([]byte, randomLook)
	for _, at := range []int64{0, randomLook} {
		if size < at+randomLook || disk.ReadFull(r, b, at) != nil || signature.LookAt(b) != signature.Random {
			return false
		}
	}
	return true
}

// KeepAll makes c capture what would be left out.
func (c *Content) KeepAll(ctx context.Context) error {
	c.all = true
	if len(c.Omit) == 0 {
		return nil
	}
	c.Omit, c.omit = nil, span.Set{}
	used, err := c.count(ctx)
	if err != nil {
		c.Used, c.Why = c.size, "its maps can't be read any more ("+err.Error()+")"
		return err
	}
	c.Maps, c.Used = true, used
	return nil
}

// KeepsAll says whether KeepAll was called.
func (c *Content) KeepsAll() bool { return c.all }

func (c *Content) count(ctx context.Context) (int64, error) {
	c.Maps = true
	defer func() { c.Maps = false }()
	var used, last int64
	for sp, err := range c.Spans() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return 0, err
		}
		if sp.Start < last || sp.End > c.size || sp.Empty() {
			return 0, fmt.Errorf("used area %s is out of order or beyond the end", sp)
		}
		last = sp.End
		used += sp.Len()
	}
	return used, nil
}

// Spans yields the bytes of the part to capture, ascending and not
// overlapping, relative to the part: what the maps name less what is left out,
// both edges, and whatever lies after the end of the volume.
func (c *Content) Spans() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		whole := span.Span{End: c.size}
		if !c.Maps {
			yield(whole, nil)
			return
		}
		end := min(c.Info.Size, c.size)
		always := span.Of(span.Span{End: min(Edge, c.size)}, span.Span{Start: max(0, c.size-Edge), End: c.size},
			span.Span{Start: end, End: c.size})
		pending := span.Span{}
		emit := func(sp span.Span) bool { // joins neighbours
			if sp.Empty() {
				return true
			}
			if sp.Start == pending.End {
				pending.End = sp.End
				return true
			}
			ok := pending.Empty() || yield(pending, nil)
			pending = sp
			return ok
		}
		at := int64(0) // everything before is settled
		settle := func(upTo int64, used span.Set) bool {
			area := span.Span{Start: at, End: upTo}
			for sp := range used.Subtract(c.omit.Clip(area)).Union(always.Clip(area)).All() {
				if !emit(sp) {
					return false
				}
			}
			at = upTo
			return true
		}
		for sp, err := range c.named() {
			if err != nil {
				yield(span.Span{}, err)
				return
			}
			if sp.Start < at || sp.End > end {
				yield(sp, fmt.Errorf("used area %s is out of order or beyond the end", sp))
				return
			}
			if !settle(sp.End, span.Of(sp)) {
				return
			}
		}
		if settle(c.size, span.Set{}) && !pending.Empty() {
			yield(pending, nil)
		}
	}
}

// named are the bytes of the volume that matter.
func (c *Content) named() iter.Seq2[span.Span, error] {
	if c.cut != nil {
		return c.cut.Used
	}
	return c.Volume.Used()
}

// ErrNotAsCut means that a part can't be captured as if the power had been cut.
var ErrNotAsCut = errors.New("it can't be captured as if the power had been cut")

// AsCut makes c be captured as if the power had been cut: see Interrupted. An error says why that can't be; then c
// stays as it was.
func (c *Content) AsCut(ctx context.Context) error {
	i, ok := c.Volume.(Interrupted)
	switch {
	case c.used:
		return fmt.Errorf("%w: %s", ErrNotAsCut, c.Info.Unclean)
	case !ok:
		return fmt.Errorf("%w: that isn't known of %s", ErrNotAsCut, c.Info.Kind)
	case i.Rest().Quiet():
		return fmt.Errorf("%w: it was shut down", ErrNotAsCut)
	}
	cut, err := i.Cut(ctx, c.all)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotAsCut, err)
	}
	n := *c
	n.cut, n.Omit, n.omit = cut, cut.Omit, span.Set{}
	if n.Used, err = n.count(ctx); err != nil {
		return fmt.Errorf("%w: %w", ErrNotAsCut, err)
	}
	n.Maps, n.Sound, n.Why = true, true, ""
	*c = n
	return nil
}

// Cut is what is kept as if the power had been cut; nil where it isn't captured so.
func (c *Content) Cut() *Cut { return c.cut }

// Rest is how the part was left by its system; ok is false where that isn't told, or where somebody uses it now.
func (c *Content) Rest() (r Rest, ok bool) {
	if c.used {
		return Rest{}, false
	}
	return RestOf(c.Volume)
}

// Kept is what of a stretch isn't left out.
func (c *Content) Kept(sp span.Span) span.Set { return span.Of(sp).Subtract(c.omit.Clip(sp)) }

// Everything is the content of an area without a file system: all of it.
func Everything(size int64, why string) Content {
	return Content{size: size, Used: size, Why: why}
}

// TakeWhole makes c be captured whole because somebody wants it so: what was deleted may still be in it.
func (c *Content) TakeWhole(why string) {
	c.Why = why
	c.Maps, c.Used, c.Omit, c.omit = false, c.size, nil, span.Set{}
}

// Distrust makes c be captured whole because the volume isn't quiet.
func (c *Content) Distrust(why string) {
	c.Info.Unclean, c.Why, c.Sound, c.used = why, why, false, true
	c.Maps, c.Used, c.Omit, c.omit = false, c.size, nil, span.Set{}
}
