package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/inside"
	"twinshelf/internal/takeout"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func takeCommand(o *options) *cobra.Command {
	var to workshop.Taking
	var folder, tarFile, zipFile, clash string
	c := &cobra.Command{
		Use:   "take REF PATH...",
		Short: "Take files and folders out of a twin or disk",
		Long: "Into a folder (times, owners, permissions, links, attributes and holes are kept where it can hold " +
			"them; everything is read back),\n" +
			"or as a tar or zip stream (- is standard output).\n" + refHelp + "Existing files are never overwritten " +
			"unless you say --clash replace.",
		Example: "  twinshelf take \"Harbour kiosk\" 2:srv/kiosk --to /media/stick\n  twinshelf take 20261116 " +
			"2:srv/kiosk/fares-2026.csv --to . --clash keep\n" +
			"  twinshelf take \"Harbour kiosk\" 2:srv --tar - | ssh desk tar -xp",
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			ways := map[string]takeout.Clash{"skip": takeout.Skip, "keep": takeout.KeepBoth, "replace": takeout.Replace}
			way, ok := ways[clash]
			if n := len(slices.DeleteFunc([]string{folder, tarFile, zipFile},
				func(s string) bool { return s == "" })); n != 1 || !ok {
				return usageError{fmt.Errorf("say where it goes with one of --to, --tar and --zip; --clash knows " +
					"skip, keep and replace")}
			}
			if (tarFile == "-" || zipFile == "-") && o.json {
				return usageError{fmt.Errorf("standard output can't take both the files and --json")}
			}
			w, in, err := o.insideLook.look(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var choices []takeout.Choice
			for _, text := range args[1:] {
				p, it, path, err := resolve(cmd.Context(), w, in, text)
				if err != nil {
					return err
				}
				choice, err := workshop.ChoiceOf(cmd.Context(), p, it, path)
				if err != nil {
					return err
				}
				choices = append(choices, choice)
			}
			to.Folder, to.Clash, to.Tag = folder, way, in.Tag()
			done, err := o.stream(&to, tarFile, zipFile)
			if err != nil {
				return err
			}
			r, report, err := w.StartTake(cmd.Context(), "Taking out of "+in.Title, choices, to)
			if err == nil {
				err = afterCancel(o.follow(r), "what was taken so far is there; started again, it goes on")
			}
			if err = errors.Join(err, done(err == nil)); err != nil {
				return err
			}
			return o.showTaken(report(), tarFile == "-" || zipFile == "-")
		},
	}
	f := c.Flags()
	f.StringVar(&folder, "to", "", "a folder, made when it is missing")
	f.StringVar(&tarFile, "tar", "", "a tar file to make; - is standard output")
	f.StringVar(&zipFile, "zip", "", "a zip file to make; - is standard output")
	f.StringVar(&clash, "clash", "skip", "when a name is taken by something else: skip, keep (both), or replace")
	f.BoolVar(&to.NoVerify, "no-verify", false, "don't read back what was written")
	f.BoolVar(&to.NoStreams, "no-streams", false, "leave alternate streams out")
	return c
}

// stream opens the file of a stream; done ends it, and removes it when the work failed.
func (o *options) stream(to *workshop.Taking, tarFile, zipFile string) (done func(ok bool) error, err error) {
	name := tarFile + zipFile
	w := o.raw
	done = func(bool) error { return nil }
	if name != "" && name != "-" {
		f, err := workshop.NewFile(name)
		if err != nil {
			return nil, err
		}
		w = f
		done = func(ok bool) error {
			err := errors.Join(f.Sync(), f.Close())
			if !ok {
				_ = os.Remove(name)
			}
			return err
		}
	}
	if tarFile != "" {
		to.Tar = w
	} else if zipFile != "" {
		to.Zip = w
	}
	return done, nil
}

func (o *options) showTaken(r *takeout.Report, streamed bool) error {
	if o.json {
		if err := o.print(r); err != nil {
			return err
		}
	} else {
		out := o.out
		if streamed {
			out = o.err
		}
		fmt.Fprintln(out, r.Words()+".")
		for _, x := range r.Renamed {
			fmt.Fprintf(out, "  %s is called %s: %s\n", inside.Visible(x.Path), inside.Visible(x.As), x.Why)
		}
		for _, x := range r.Gaps {
			fmt.Fprintf(out, "  has a gap: %s: %s\n", inside.Visible(x.Path), x.Why)
		}
		for _, x := range r.Left {
			fmt.Fprintf(out, "  left out: %s: %s\n", inside.Visible(x.Path), x.Why)
		}
		if len(r.Lost) > 0 {
			fmt.Fprintf(out, "  not kept there: %s\n", strings.Join(r.Lost, ", "))
		}
	}
	if r.GapCount > 0 && r.LeftOut == 0 {
		return doubtful{fmt.Errorf("with gaps: %s", units.Plural(r.GapCount, "file"))}
	}
	if r.LeftOut > 0 {
		return doubtful{fmt.Errorf("left out: %s", units.Plural(r.LeftOut, "item"))}
	}
	return nil
}
