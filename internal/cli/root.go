// Package cli holds the commands. It formats; the work is done below.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/answer"
	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/lock"
	"twinshelf/internal/prove"
	"twinshelf/internal/ready"
	"twinshelf/internal/run"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/workshop"
)

// Exit statuses.
const (
	statusDone      = 0
	statusFailed    = 1
	statusUsage     = 2
	statusRefused   = 3
	statusDoubtful  = 4
	statusCancelled = 130
)

// Screen opens the full screen on a workshop, drawn with one of glyphSets, and returns when it is left.
type Screen func(ctx context.Context, w *workshop.Workshop, glyphs string) error

// glyphSets are the characters that the screen can be drawn with: as the terminal's name says, all, or those of console
// fonts.
var glyphSets = []string{"auto", "full", "few"}

// usageError is a wrong call.
type usageError struct{ error }

// refusal is a refusal for safety that comes from the commands themselves.
type refusal struct{ error }

// doubtful is an end with a result that isn't good.
type doubtful struct{ error }

// options are the flags that every command has.
type options struct {
	disks    []string
	attached bool
	shelf    string
	passFile string
	keys     unlocking
	glyphs   string
	screen   bool // the full screen is being opened
	json     bool
	answered bool // something was written as JSON
	quiet    bool
	args     []string
	log      *os.File // nil while nothing is logged
	begun    time.Time
	// ask gets the passphrase of a sealed shelf; nil for the usual way.
	ask      func(dir string) ([]byte, error)
	out, err io.Writer // for people
	raw      io.Writer // for streams and JSON
	term     io.Writer // for a line that is written over
	in       *bufio.Reader

	readyWork  *readyWork
	insideLook *insideLook
	work       *workshop.Workshop // the one that was opened; nil for none
}

// letGo closes the shelf that is open: of one that lies far away, what went over the line is counted to its last byte
// then.
func letGo(o *options) {
	if o.work != nil && o.work.Shelf != nil {
		o.work.Shelf.Close()
	}
}

// readyWork is what the commands under ready share, insideLook what those share that look inside.
type (
	readyWork  struct{ *options }
	insideLook struct{ *options }
)

// Main runs the command line and returns the exit status.
func Main(ctx context.Context, args []string, screen Screen) int {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	ring := &lock.Keyring{}
	defer ring.Wipe()
	ctx = lock.With(ctx, ring)
	o := &options{out: shown{os.Stdout}, err: shown{os.Stderr}, raw: os.Stdout, term: os.Stderr, args: args,
		in: bufio.NewReader(os.Stdin)}
	o.readyWork, o.insideLook = &readyWork{o}, &insideLook{o}
	slog.SetDefault(slog.New(slog.DiscardHandler)) // until there is a file for it
	root := newRoot(o, screen)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	letGo(o)
	if err != nil && !o.answered && (o.json || slices.Contains(args, "--json")) {
		_ = o.print(answer.Error{Error: answer.Problem{Message: words(err), Kind: kinds[status(err)],
			Status: status(err)}})
	}
	if err != nil {
		fmt.Fprintln(o.err, "twinshelf: "+words(err))
	}
	o.logEnd(ctx, status(err), err)
	return status(err)
}

// words is an error as it is told: a cancelled command says what it leaves, not how Go calls that.
func words(err error) string {
	var left *run.CutOff
	switch {
	case errors.As(err, &left):
		return left.Error()
	case errors.Is(err, context.Canceled):
		return "cancelled; nothing was changed"
	}
	return err.Error()
}

// afterCancel says what a run leaves when it ended by being cancelled.
func afterCancel(err error, what string) error {
	if errors.Is(err, context.Canceled) {
		return &run.CutOff{Leaves: what, Err: err}
	}
	return err
}

func status(err error) int {
	var refused *disk.Refusal
	switch {
	case err == nil:
		return statusDone
	case errors.Is(err, context.Canceled):
		return statusCancelled
	case errors.As(err, new(usageError)):
		return statusUsage
	case errors.As(err, &refused), errors.As(err, new(refusal)), errors.Is(err, fs.ErrPermission):
		return statusRefused
	case errors.Is(err, prove.ErrFails), errors.Is(err, prove.ErrNotARestore), errors.Is(err, ready.ErrNotErased),
		errors.Is(err, workshop.ErrDifferent), errors.As(err, new(doubtful)):
		return statusDoubtful
	}
	return statusFailed
}

// kinds name the statuses in JSON.
var kinds = map[int]string{statusFailed: "failed", statusUsage: "usage", statusRefused: "refused",
	statusDoubtful: "incomplete", statusCancelled: "cancelled"}

func newRoot(o *options, screen Screen) *cobra.Command {
	root := &cobra.Command{
		Use:   "twinshelf",
		Short: "Capture whole disks by date, put them back on other disks, and prove it",
		Long: "Twin Shelf captures the disks of a machine as dated twins on a shelf, puts a twin\n" +
			"back onto the same or a larger disk, and reads everything back to prove it.\n" +
			"Without a command it opens the full screen.",
		Example: "  twinshelf                                            the full screen\n" +
			"  twinshelf demo                                       the full screen on a bench of stand-ins\n" +
			"  twinshelf bench                                      what is attached\n" +
			"  twinshelf ready lay /dev/sdd --part \"rest:ext4:oak\"  make a drive ready for a shelf\n" +
			"  twinshelf shelf new /media/oak                       make a shelf\n" +
			"  twinshelf capture --shelf /media/oak --machine \"Ticket desk\" /dev/sdb",
		SilenceErrors: true, SilenceUsage: true,
		Args:    func(cmd *cobra.Command, args []string) error { return unknown(cmd, args) },
		Version: workshop.Version(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.screen = true
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			return o.show(cmd.Context(), screen, w)
		},
	}
	f := root.PersistentFlags()
	f.StringArrayVar(&o.disks, "disk", nil, "an image file, a folder of them, or a device; may be repeated; only "+
		"these are then on the bench")
	f.BoolVar(&o.attached, "attached", false, "with --disk: the attached disks as well")
	f.StringVar(&o.shelf, "shelf", os.Getenv("TWINSHELF_SHELF"), "folder of the shelf (default $TWINSHELF_SHELF, then "+
		"the one used last)")
	f.StringVar(&o.passFile, "passphrase-file", "", "file with the passphrase of a sealed shelf (or $"+envPassphrase+
		"; otherwise it is asked for)")
	f.StringArrayVar(&o.keys.files, "key-file", nil,
		"file that opens a locked volume: a start-up key file (.BEK), or a text with the recovery key or the "+
			"password; may be repeated")
	f.BoolVar(&o.keys.ask, "unlock", false, "ask for the keys of locked volumes")
	f.StringVar(&o.glyphs, "glyphs", "auto", "characters of the full screen: auto, full, or few for console fonts")
	f.BoolVar(&o.json, "json", false, "write the result as JSON")
	f.BoolVarP(&o.quiet, "quiet", "q", false, "print only results and errors: no progress, no notes")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(stickCommand(o), benchCommand(o), healthCommand(o), readyCommand(o), shelfCommand(o),
		captureCommand(o),
		rescueCommand(o),
		datesCommand(o),
		restoreCommand(o), copyCommand(o), rehearseCommand(o), proveCommand(o), listCommand(o), findCommand(o),
		takeCommand(o), compareCommand(o), jobCommand(o), routineCommand(o), doorCommand(o), labelsCommand(o),
		drawCommand(o),
		demoCommand(o, screen))
	root.AddCommand(manCommand(o, root))
	root.SetVersionTemplate("{{.Version}}\n")
	completions(o, root)
	root.SetOut(o.out)
	root.SetErr(o.err)
	strict(root)
	return root
}

// show opens the full screen.
func (o *options) show(ctx context.Context, screen Screen, w *workshop.Workshop) error {
	if !slices.Contains(glyphSets, o.glyphs) {
		return usageError{fmt.Errorf("--glyphs %s: it is one of %s", o.glyphs, strings.Join(glyphSets, ", "))}
	}
	return screen(ctx, w, o.glyphs)
}

// dated puts a date that lies after the name of a machine together with it: "Ticket desk" 2026-10-30.
func dated(args []string) []string {
	var out []string
	for _, a := range args {
		if k := len(out) - 1; k >= 0 && shelf.IsDate(a) {
			if _, err := os.Stat(a); err != nil {
				out[k] += " " + a
				continue
			}
		}
		out = append(out, a)
	}
	return out
}

// unknown refuses arguments where a command is expected, and says which one may be meant.
func unknown(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	hint := ""
	cmd.SuggestionsMinimumDistance = 2
	if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
		hint = fmt.Sprintf("; did you mean %s?", strings.Join(near, " or "))
	}
	return usageError{fmt.Errorf("there is no command %q%s \"%s --help\" lists them", cmd.CommandPath()+" "+args[0],
		orSemicolon(hint), cmd.CommandPath())}
}

func orSemicolon(hint string) string {
	if hint == "" {
		return ";"
	}
	return hint
}

// strict makes every wrong call of a command a wrong usage: groups need one of their commands, and arguments are
// counted.
func strict(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		strict(c)
	}
	if cmd.HasSubCommands() && cmd.HasParent() {
		cmd.Args = cobra.ArbitraryArgs
		cmd.RunE = func(c *cobra.Command, args []string) error {
			if err := unknown(c, args); err != nil {
				return err
			}
			return usageError{fmt.Errorf("what is to be done? \"%s --help\" lists it", c.CommandPath())}
		}
		return
	}
	if run := cmd.RunE; run != nil && cmd.HasParent() {
		cmd.RunE = func(c *cobra.Command, args []string) error { return run(c, dated(args)) }
	}
	if count := cmd.Args; count != nil {
		cmd.Args = func(c *cobra.Command, args []string) error {
			err := count(c, dated(args))
			if err != nil && !errors.As(err, new(usageError)) {
				err = usageError{fmt.Errorf("%s: %w; \"%s --help\" shows examples", c.CommandPath(), err,
					c.CommandPath())}
			}
			return err
		}
	}
}

// exactly wants n arguments and says which.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return usageError{fmt.Errorf("%s needs %s; \"%s --help\" shows examples", cmd.CommandPath(),
				strings.Join(names, " and "), cmd.CommandPath())}
		}
		return nil
	}
}

// workshop opens the bench and, when one is named or needed, the shelf.
func (o *options) workshop(ctx context.Context, needShelf bool) (*workshop.Workshop, error) {
	dir := settings.Dir()
	o.logTo(dir)
	w, err := workshop.New(dir, o.disks, len(o.disks) == 0 || o.attached)
	if err != nil {
		return nil, err
	}
	o.work = w
	name := o.shelf
	if name == "" {
		name = w.State.Shelf
	}
	if name == "" {
		if needShelf {
			return nil, usageError{workshop.ErrNoShelf}
		}
		return w, nil
	}
	w.FarAsks = farAsks(o)
	if far.Is(name) && !needShelf && o.shelf == "" && !o.screen {
		return w, nil // a command that can do without it needn't reach a server
	}
	w.Passphrase = o.ask
	if o.ask == nil {
		w.Passphrase = o.openPassphrase
	}
	given := os.Getenv(envPassphrase) != "" || o.passFile != ""
	if sealed, err := shelf.IsSealed(ctx, name); !needShelf && o.shelf == "" && err == nil && sealed && !given &&
		!o.screen {
		return w, nil // a command that can do without it doesn't ask
	}
	if err := w.OpenShelf(ctx, name); err != nil {
		if other := w.InReach(ctx, needShelf || o.screen || given); o.shelf == "" && other != "" &&
			errors.Is(err, store.ErrNoShelf) {
			fmt.Fprintf(o.err, "twinshelf: the shelf used last isn't attached; %s is used\n", other)
			if err := w.OpenShelf(ctx, other); err == nil {
				_ = w.Remember(ctx, w.Shelf)
				return w, nil
			}
		}
		if !needShelf && o.shelf == "" {
			slog.Warn("the shelf used last can't be opened", "shelf", name, "error", err)
			return w, nil
		}
		return nil, err
	}
	_ = w.Remember(ctx, w.Shelf) // a comfort, not a need
	return w, nil
}

// listed lists the bench, or those disks of it that are named; image files that aren't on it yet are put there.
func listed(w *workshop.Workshop, only []string) ([]*bench.Disk, error) {
	for _, p := range only {
		st, err := os.Stat(p)
		if err == nil && !st.Mode().IsRegular() && st.Mode()&os.ModeType != os.ModeDevice {
			return nil, refusal{&disk.NoDisk{Path: p}}
		}
		if err == nil {
			known := false
			for _, d := range w.Bench.List() {
				known = known || d.Path == p
			}
			if !known {
				w.Bench.Images = append(w.Bench.Images, p)
			}
		}
	}
	disks := w.Bench.List()
	if len(only) == 0 {
		return disks, nil
	}
	var out []*bench.Disk
	for _, ref := range only {
		d, err := bench.Find(disks, ref)
		if err != nil {
			return nil, usageError{err}
		}
		out = append(out, d)
	}
	return out, nil
}

// probed lists the bench and looks at every disk, or at those that are named.
func (o *options) probed(ctx context.Context, w *workshop.Workshop, only ...string) ([]*bench.Disk, error) {
	disks, err := listed(w, only)
	if err != nil {
		return nil, err
	}
	if len(only) == 0 {
		for _, d := range disks {
			w.Bench.Probe(ctx, d)
		}
		if err := o.keys.disks(ctx, o, w, disks); err != nil {
			return disks, err
		}
		return disks, ctx.Err()
	}
	if err := each(ctx, disks, w.Bench.Probe); err != nil {
		return nil, err
	}
	if err := o.keys.disks(ctx, o, w, disks); err != nil {
		return nil, err
	}
	return disks, ctx.Err()
}

// each looks at disks that were named: a problem of one is an error.
func each(ctx context.Context, disks []*bench.Disk, look func(context.Context, *bench.Disk)) error {
	for _, d := range disks {
		look(ctx, d)
		if err := ctx.Err(); err != nil {
			return err
		}
		if d.Problem != "" {
			return fmt.Errorf("%s: %s", d.Path, d.Problem)
		}
	}
	return nil
}

// openedOne opens a disk for looking into. With a key it is looked at whole, to find what the key opens.
func openedOne(ctx context.Context, o *options, w *workshop.Workshop, ref string) (*bench.Disk, error) {
	if o.keys.wanted() {
		return probedOne(ctx, o, w, ref)
	}
	disks, err := listed(w, []string{ref})
	if err != nil {
		return nil, err
	}
	return disks[0], each(ctx, disks, w.Bench.Open)
}

func probedOne(ctx context.Context, o *options, w *workshop.Workshop, ref string) (*bench.Disk, error) {
	disks, err := o.probed(ctx, w, ref)
	if err != nil {
		return nil, err
	}
	return disks[0], nil
}

func (o *options) print(v any) error {
	b, err := answer.Encode(v)
	if err != nil {
		return err
	}
	o.answered = true
	_, err = o.raw.Write(append(escaped(b), '\n'))
	return err
}

func (o *options) say(format string, args ...any) { fmt.Fprintf(o.out, format+"\n", args...) }
