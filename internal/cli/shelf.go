package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/keeping"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func shelfCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "shelf", Short: "Make a shelf, describe it, thin, check and mend it, carry it to another one",
		Example: "  twinshelf shelf new /media/oak --name Oak --sealed\n" +
			"  twinshelf shelf show --shelf /media/oak\n" +
			"  twinshelf shelf check --full --mend",
		Args: cobra.NoArgs,
	}
	c.AddCommand(newShelfCommand(o), showShelfCommand(o), reindexCommand(o), parityCommand(o), passphraseCommand(o),
		ruleCommand(o), thinCommand(o), keepCommand(o), unlockingCommand(o), discardCommand(o), roomCommand(o),
		journalCommand(o),
		checkCommand(o), carryCommand(o), shelvesCommand(o), protectionCommand(o), retainCommand(o), lineCommand(o),
		bringBackCommand(o), retireCommand(o), knownCommand(o), shelfListCommand(o))
	return c
}

func newShelfCommand(o *options) *cobra.Command {
	var name string
	var sealed, open bool
	var parity int
	c := &cobra.Command{
		Use: "new FOLDER", Short: "Make a shelf in an empty folder, here or far away", Args: exactly("the folder"),
		Long: "A sealed shelf is encrypted: without a passphrase nothing can be read from it, not even the\n" +
			"names of its machines. Nobody can recover a lost passphrase. FOLDER may be the address of a\n" +
			"folder on a server (sftp://tam@backroom/srv/oak) or in object storage\n" +
			"(s3://quay/oak?endpoint=https://store.ferry.example): such a shelf is sealed unless --open\n" +
			"says otherwise.",
		Example: "  twinshelf shelf new /media/oak --name Oak\n  twinshelf shelf new /media/elm --name Elm --sealed",
		RunE: func(cmd *cobra.Command, args []string) error {
			if name == "" {
				name = filepath.Base(args[0])
				if far.Is(args[0]) {
					name = far.Name(args[0])
				}
			}
			if far.Is(args[0]) {
				if err := far.Check(args[0]); err != nil {
					return usageError{err}
				}
				sealed = !open
			}
			return o.makeShelf(cmd.Context(), args[0], name, parity, sealed)
		},
	}
	c.Flags().BoolVar(&sealed, "sealed", false, "encrypt everything on it under a passphrase")
	c.Flags().BoolVar(&open, "open", false, "of a far shelf: don't encrypt it")
	c.MarkFlagsMutuallyExclusive("sealed", "open")
	c.Flags().StringVar(&name, "name", "", "its name (default: the folder's name)")
	c.Flags().IntVar(&parity, "parity", store.DefaultParity, "how much of its size each pack gets as parity, in "+
		"percent: the share of it that can be lost and mended")
	return c
}

func (o *options) makeShelf(ctx context.Context, folder, name string, parity int, sealed bool) error {
	if parity < 1 || parity > store.MostParity {
		return usageError{fmt.Errorf("--parity %d: choose from 1 to %d", parity, store.MostParity)}
	}
	var p []byte
	if sealed {
		var err error
		if p, err = o.newPassphrase(name); err != nil {
			return err
		}
	}
	s, err := workshop.NewShelf(ctx, folder, name, parity, p, farAsks(o))
	if err != nil {
		return err
	}
	defer s.Close()
	if w, err := workshop.New(settings.Dir(), nil, true); err == nil {
		_ = w.Remember(ctx, s) // a comfort, not a need
	}
	if o.json {
		return o.print(shelfHead(s))
	}
	o.say("The shelf %q is ready in %s.", name, folder)
	return nil
}

// shelfHead says what shelf it is.
func shelfHead(s *shelf.Shelf) map[string]any {
	h := s.Head()
	return map[string]any{"id": h.ID, "name": h.Name, "created": h.Created, "block_size": h.BlockSize,
		"sealed": s.Sealed()}
}

func showShelfCommand(o *options) *cobra.Command {
	var accept bool
	c := &cobra.Command{
		Use: "show", Short: "Describe a shelf, and what is wrong with it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if accept {
				if err := w.AcceptMissing(); err != nil {
					return err
				}
			}
			a, err := accountOf(cmd.Context(), w)
			if err != nil {
				return err
			}
			if o.json {
				return o.print(a)
			}
			o.showAccount(w.Shelf, a)
			return nil
		},
	}
	c.Flags().BoolVar(&accept, "accept", false, "stop pointing out twins, marks and rules that this machine once saw "+
		"and that are gone")
	return c
}

// shelfAccount is what is known of a shelf.
type shelfAccount struct {
	Shelf     map[string]any    `json:"shelf"`
	Foresight keeping.Foresight `json:"foresight"`
	Locks     []store.Holder    `json:"locks"`
	Retired   bool              `json:"retired"`
	Note      string            `json:"note,omitempty"` // why it is retired
	Parity    int               `json:"parity"`         // percent
	Stats     store.Stats       `json:"stats"`
	TwinCount int               `json:"twin_count"`
	Free      store.Room        `json:"free"` // bytes
	// What is wrong or worth knowing, in words.
	Vanished []string `json:"vanished"`
	Concerns []string `json:"concerns"`
	Damage   []string `json:"damage"`
	Notes    []string `json:"notes"`
	Problems []string `json:"problems"`
}

func accountOf(ctx context.Context, w *workshop.Workshop) (*shelfAccount, error) {
	s := w.Shelf
	twins, problems := s.Twins(ctx)
	a := &shelfAccount{Shelf: shelfHead(s), Parity: s.ParityShare(), TwinCount: len(twins), Vanished: w.Missing(),
		Concerns: s.Concerns(ctx), Damage: keeping.KnownDamage(ctx, s), Notes: s.Notes(), Problems: texts(problems)}
	var err error
	if a.Note, a.Retired, err = s.Retired(ctx); err != nil {
		a.Problems = append(a.Problems, err.Error())
	}
	if a.Stats, err = s.Stats(ctx); err != nil {
		return nil, err
	}
	if a.Free, err = s.Free(ctx); err != nil {
		return nil, err
	}
	if a.Foresight, err = w.Foresee(ctx, twins); err != nil {
		return nil, err
	}
	a.Locks, err = s.Holders(ctx)
	return a, err
}

func (o *options) showAccount(s *shelf.Shelf, a *shelfAccount) {
	o.say("%s in %s: %s, %s in %s, %s stored, %s.", s.Head().Name, s.Place(), units.Plural(a.TwinCount, "twin"),
		units.Plural(a.Stats.Blocks, "block"), units.Plural(a.Stats.Packs, "pack"), units.Bytes(a.Stats.Bytes),
		a.Free.Words())
	o.say("  %s", a.Foresight.Words())
	o.say("  new packs get %d %% parity", a.Parity)
	for _, g := range a.Foresight.Machines {
		o.say("    %s: %s, %s stored, %s a week", g.Machine, units.Plural(g.Twins, "twin"), units.Bytes(g.Stored),
			units.Bytes(int64(g.PerWeek)))
	}
	if s.Sealed() {
		o.say("  sealed, opened by the passphrase %q", s.Key())
	}
	if a.Retired {
		o.say("  retired: %s", a.Note)
	}
	for _, h := range a.Locks {
		if h.Here() {
			o.say("  in use now: %s", h)
		} else {
			o.say("  locked: %s; whether that is still at work can't be told from here", h)
		}
	}
	for _, n := range slices.Concat(a.Vanished, a.Concerns, a.Damage, a.Notes, a.Problems) {
		o.say("  %s", n)
	}
}

func reindexCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "reindex", Short: "Rebuild the index from the packs", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			n, err := w.Shelf.Reindex(cmd.Context())
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"blocks": n, "notes": w.Shelf.Notes()})
			}
			o.say("The index names %s.", units.Plural(n, "block"))
			for _, n := range w.Shelf.Notes() {
				o.say("  %s", n)
			}
			return nil
		},
	}
}

func parityCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "parity [PERCENT]", Short: "Show or choose the share of parity that packs get from now on",
		Args: cobra.MaximumNArgs(1),
		Long: "Parity mends packs that have lost bits, sectors or their end. Packs that are already there keep what " +
			"they have.",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			if len(args) > 0 {
				n, err := strconv.Atoi(strings.TrimSuffix(args[0], "%"))
				if err != nil {
					return usageError{fmt.Errorf("%q is no number of percent", args[0])}
				}
				if err := w.Shelf.SetParity(cmd.Context(), n); err != nil {
					return usageError{err}
				}
			}
			if o.json {
				return o.print(map[string]any{"parity": w.Shelf.ParityShare()})
			}
			o.say("New packs get %d %% parity.", w.Shelf.ParityShare())
			return nil
		},
	}
}

// texts are errors in words.
func texts(errs []error) []string {
	out := []string{}
	for _, e := range errs {
		out = append(out, e.Error())
	}
	return out
}
