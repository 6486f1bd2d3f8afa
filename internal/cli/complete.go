package cli

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/ready"
	"twinshelf/internal/settings"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// candidates are what may stand in a place of the command line, with words after a tab.
type candidates func(ctx context.Context, o *options, args []string) []string

var errNoQuestions = errors.New("a shell's completion asks nothing")

// quietly opens the bench and, where no passphrase is asked for, the shelf.
func (o *options) quietly(ctx context.Context, shelf bool) *workshop.Workshop {
	o.ask = func(string) ([]byte, error) { return nil, errNoQuestions }
	if !shelf {
		w, err := workshop.New(settings.Dir(), o.disks, len(o.disks) == 0 || o.attached)
		if err != nil {
			return nil
		}
		return w
	}
	w, err := o.workshop(ctx, true)
	if err != nil {
		return nil
	}
	return w
}

// diskNames are the disks on the bench, which aren't looked into.
func diskNames(ctx context.Context, o *options, _ []string) []string {
	w := o.quietly(ctx, false)
	if w == nil {
		return nil
	}
	var out []string
	for _, d := range w.Bench.List() {
		about := strings.TrimSpace(d.Identity.Model + " " + d.Identity.Serial)
		out = append(out, d.Path+"\t"+strings.TrimSpace(about+", "+units.Bytes(d.Identity.Size)))
	}
	return out
}

// twinNames are machines and the dates of each.
func twinNames(ctx context.Context, o *options, _ []string) []string {
	w := o.quietly(ctx, true)
	if w == nil || w.Shelf == nil {
		return nil
	}
	twins, _ := w.Shelf.Twins(ctx)
	var out []string
	for _, t := range twins {
		if name := t.Machine + "\tits newest twin"; !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, t := range twins {
		out = append(out, t.ID+"\t"+t.Machine+", "+units.Moment(t.Taken))
	}
	return out
}

func jobNames(ctx context.Context, o *options, _ []string) []string {
	w := o.quietly(ctx, true)
	if w == nil {
		return nil
	}
	jobs, _ := w.Jobs(ctx)
	var out []string
	for _, j := range jobs {
		out = append(out, j.Number+"\t"+j.Title())
	}
	return out
}

func machineNames(ctx context.Context, o *options, _ []string) []string {
	var out []string
	for _, t := range twinNames(ctx, o, nil) {
		if name, about, _ := strings.Cut(t, "\t"); about == "its newest twin" {
			out = append(out, name)
		}
	}
	return out
}

// shelfNames are the shelves that were open here.
func shelfNames(ctx context.Context, o *options, _ []string) []string {
	w := o.quietly(ctx, false)
	if w == nil {
		return nil
	}
	var out []string
	for _, k := range w.Known(ctx) {
		out = append(out, k.Path+"\t"+k.Name)
	}
	return out
}

// partNumbers are the parts of the disk that is named first, or of a twin's disks.
func partNumbers(ctx context.Context, o *options, args []string) []string {
	if len(args) == 0 {
		return nil
	}
	w := o.quietly(ctx, false)
	if w == nil {
		return nil
	}
	var out []string
	if disks, err := o.probed(ctx, w, args[0]); err == nil && disks[0].Survey != nil {
		for _, a := range disks[0].Survey.Parts() {
			out = append(out, strconv.Itoa(a.Number())+"\t"+a.Title()+", "+units.Bytes(a.Span.Len()))
		}
		return out
	}
	if w = o.quietly(ctx, true); w == nil || w.Shelf == nil {
		return nil
	}
	if t, err := w.Shelf.Find(ctx, args[0]); err == nil {
		for _, r := range t.Disks[0].Parts() {
			out = append(out, strconv.Itoa(r.Part)+"\t"+r.Title())
		}
	}
	return out
}

func either(a, b candidates) candidates {
	return func(ctx context.Context, o *options, args []string) []string {
		return append(a(ctx, o, args), b(ctx, o, args)...)
	}
}

// values are the fixed values of a flag.
func values(all ...string) candidates {
	return func(context.Context, *options, []string) []string { return all }
}

// arguments say what stands in which place, by command; the last is for all that follow.
var arguments = map[string][]candidates{
	"bench": {diskNames}, "capture": {diskNames}, "copy": {diskNames}, "restore": {twinNames, diskNames},
	"rehearse": {twinNames, nil}, "prove": {twinNames, nil},
	"draw": {either(twinNames, diskNames), nil}, "job show": {jobNames, nil}, "job change": {jobNames, nil},
	"job use": {jobNames, nil}, "job close": {jobNames, nil}, "job reopen": {jobNames, nil}, "job sheet": {jobNames,
		nil},
	"dates": {twinNames, nil}, "list": {either(twinNames, diskNames), nil}, "take": {either(twinNames, diskNames), nil},
	"compare":   {twinNames, either(twinNames, diskNames), nil},
	"ready lay": {diskNames, nil}, "ready add": {diskNames, nil}, "ready change": {diskNames, partNumbers, nil},
	"ready erase": {diskNames, nil}, "ready back": {diskNames, nil},
	"ready mount": {diskNames, partNumbers, nil}, "ready unmount": {diskNames, nil}, "shelf keep": {twinNames, nil},
	"shelf discard": {twinNames, nil}, "shelf carry": {shelfNames, twinNames}, "shelf compare": {shelfNames, nil},
}

// flagValues say what a flag takes, whatever the command.
func flagValues() map[string]candidates {
	kinds := append(kindNames(), "none")
	ways := values(string(ready.Quick), string(ready.Zeros), string(ready.Random), string(ready.Discard))
	return map[string]candidates{
		"glyphs": values(glyphSets...),
		"disk":   diskNames, "target": diskNames, "machine": machineNames, "twin": twinNames, "shelf": shelfNames,
		"from": shelfNames, "without": partNumbers, "grow": partNumbers,
		"how": ways, "for": values("storage", "shared", "system", "split"), "table": values("gpt", "mbr"),
		"format": values(kinds...), "fill": values(kindNames()...), "kinds": values(kindNames()...),
		"with": values("Windows", "macOS", "Linux"), "clash": values("skip", "keep", "replace"),
		"kind": values("file", "folder", "link"), "sort": values("name", "size", "changed"),
	}
}

// completions tell the shell what may stand where.
func completions(o *options, c *cobra.Command) {
	flags := flagValues()
	for _, sub := range c.Commands() {
		completions(o, sub)
	}
	name := strings.TrimPrefix(c.CommandPath(), "twinshelf ")
	if places, ok := arguments[name]; ok {
		c.ValidArgsFunction = func(cmd *cobra.Command, args []string,
			start string) ([]string, cobra.ShellCompDirective) {
			place := places[min(len(args), len(places)-1)]
			if place == nil {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return begin(place(cmd.Context(), o, args), start), cobra.ShellCompDirectiveDefault
		}
	}
	for flag, place := range flags {
		if c.LocalNonPersistentFlags().Lookup(flag) == nil && c.PersistentFlags().Lookup(flag) == nil {
			continue
		}
		_ = c.RegisterFlagCompletionFunc(flag,
			func(cmd *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
				return begin(place(cmd.Context(), o, args), start), cobra.ShellCompDirectiveDefault
			})
	}
}

// begin keeps those that begin like that, whatever their case.
func begin(all []string, start string) []string {
	var out []string
	for _, c := range all {
		if len(c) >= len(start) && strings.EqualFold(c[:len(start)], start) {
			value, about, _ := strings.Cut(c, "\t")
			out = append(out, units.Visible(value)+"\t"+units.Visible(about))
		}
	}
	return out
}
