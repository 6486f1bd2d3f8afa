package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"twinshelf/internal/keeping"
	"twinshelf/internal/settings"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

func shelfCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "shelf", Short: "Make a shelf, describe it, thin, check and mend it, carry it to another one",
		Example: "  twinshelf shelf new /media/oak --name Oak --sealed\n  twinshelf shelf show --shelf /media/oak\n  " +
			"twinshelf shelf check --full --mend",
		Args: cobra.NoArgs,
	}
	var name string
	var sealed bool
	var parity int
	create := &cobra.Command{
		Use: "new FOLDER", Short: "Make a shelf in an empty folder", Args: exactly("the folder"),
		Long: "A sealed shelf is encrypted: without a passphrase nothing can be read from it, not even the\n" +
			"names of its machines. Nobody can recover a lost passphrase.",
		Example: "  twinshelf shelf new /media/oak --name Oak\n  twinshelf shelf new /media/elm --name Elm --sealed",
		RunE: func(cmd *cobra.Command, args []string) error {
			if name == "" {
				name = filepath.Base(args[0])
			}
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
			s, err := workshop.NewShelf(cmd.Context(), args[0], name, parity, p)
			if err != nil {
				return err
			}
			defer s.Close()
			if w, err := workshop.New(settings.Dir(), nil, true); err == nil {
				_ = w.Remember(cmd.Context(), s) // a comfort, not a need
			}
			if o.json {
				h := s.Head()
				return o.print(map[string]any{"id": h.ID, "name": h.Name, "created": h.Created,
					"block_size": h.BlockSize, "sealed": s.Sealed()})
			}
			o.say("The shelf %q is ready in %s.", name, args[0])
			return nil
		},
	}
	create.Flags().BoolVar(&sealed, "sealed", false, "encrypt everything on it under a passphrase")
	create.Flags().StringVar(&name, "name", "", "its name (default: the folder's name)")
	create.Flags().IntVar(&parity, "parity", store.DefaultParity, "how much of its size each pack gets as parity, in "+
		"percent: the share of it that can be lost and mended")
	var accept bool
	show := &cobra.Command{
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
			st, err := w.Shelf.Stats(cmd.Context())
			if err != nil {
				return err
			}
			twins, problems := w.Shelf.Twins(cmd.Context())
			free, err := w.Shelf.Free(cmd.Context())
			if err != nil {
				return err
			}
			ahead, err := w.Foresee(cmd.Context(), twins)
			if err != nil {
				return err
			}
			holders, err := w.Shelf.Holders(cmd.Context())
			if err != nil {
				return err
			}
			retired, isRetired := w.Shelf.Retired(cmd.Context())
			if o.json {
				h := w.Shelf.Head()
				head := map[string]any{"id": h.ID, "name": h.Name, "created": h.Created, "block_size": h.BlockSize,
					"sealed": w.Shelf.Sealed()}
				return o.print(map[string]any{"shelf": head, "foresight": ahead, "locks": holders, "retired": isRetired,
					"concerns": w.Shelf.Concerns(), "damage": keeping.KnownDamage(cmd.Context(), w.Shelf),
					"vanished": w.Missing(), "parity": w.Shelf.ParityShare(), "stats": st, "twin_count": len(twins),
					"free": free, "notes": w.Shelf.Notes(), "problems": problems})
			}
			o.say("%s in %s: %s, %s in %s, %s stored, %s free.", w.Shelf.Head().Name, w.Shelf.Place(),
				units.Plural(len(twins), "twin"),
				units.Plural(st.Blocks, "block"), units.Plural(st.Packs, "pack"), units.Bytes(st.Bytes),
				units.Bytes(free))
			o.say("  %s", ahead.Words())
			o.say("  new packs get %d %% parity", w.Shelf.ParityShare())
			for _, g := range ahead.Machines {
				o.say("    %s: %s, %s stored, %s a week", g.Machine, units.Plural(g.Twins, "twin"),
					units.Bytes(g.Stored), units.Bytes(int64(g.PerWeek)))
			}
			if w.Shelf.Sealed() {
				o.say("  sealed, opened by the passphrase %q", w.Shelf.Key())
			}
			if isRetired {
				o.say("  retired: %s", retired)
			}
			for _, h := range holders {
				o.say("  in use now: %s", h)
			}
			for _, n := range slices.Concat(w.Missing(), w.Shelf.Concerns(),
				keeping.KnownDamage(cmd.Context(), w.Shelf), w.Shelf.Notes(), texts(problems)) {
				o.say("  %s", n)
			}
			return nil
		},
	}
	show.Flags().BoolVar(&accept, "accept", false, "stop pointing out twins, marks and rules that this machine "+
		"once saw "+
		"and that are gone")
	reindex := &cobra.Command{
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
	share := &cobra.Command{
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
	c.AddCommand(create, show, reindex, share, passphraseCommand(o), ruleCommand(o), thinCommand(o), keepCommand(o),
		discardCommand(o), roomCommand(o), journalCommand(o),
		checkCommand(o), carryCommand(o), shelvesCommand(o), retireCommand(o), knownCommand(o), chartCommand(o))
	return c
}

// texts are errors in words.
func texts(errs []error) []string {
	out := []string{}
	for _, e := range errs {
		out = append(out, e.Error())
	}
	return out
}
