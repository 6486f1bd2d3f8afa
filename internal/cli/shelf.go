package cli

import (
	"path/filepath"

	"github.com/spf13/cobra"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

func shelfCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "shelf", Short: "Make a shelf, describe it, or make its index anew",
		Example: "  twinshelf shelf new /media/oak --name Oak\n  twinshelf shelf show --shelf /media/oak\n  twinshelf shelf reindex --shelf /media/oak",
		Args:    cobra.NoArgs,
	}
	var name string
	create := &cobra.Command{
		Use: "new FOLDER", Short: "Make a shelf in an empty folder", Args: exactly("the folder"),
		Example: "  twinshelf shelf new /media/oak --name Oak",
		RunE: func(_ *cobra.Command, args []string) error {
			if name == "" {
				name = filepath.Base(args[0])
			}
			s, err := shelf.Create(args[0], name, 0)
			if err != nil {
				return err
			}
			defer s.Close()
			if o.json {
				return o.print(s.Head())
			}
			o.say("The shelf %q is ready in %s.", name, args[0])
			return nil
		},
	}
	create.Flags().StringVar(&name, "name", "", "what to call it (default: the folder's name)")
	show := &cobra.Command{
		Use: "show", Short: "Describe a shelf", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			w, err := o.workshop(true)
			if err != nil {
				return err
			}
			st, err := w.Shelf.Stats()
			if err != nil {
				return err
			}
			twins, problems := w.Shelf.Twins()
			free, err := w.Shelf.Free()
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"head": w.Shelf.Head(), "stats": st, "twins": len(twins), "free": free, "notes": w.Shelf.Notes(), "problems": texts(problems)})
			}
			o.say("%s in %s: %s, %s in %s, %s stored, %s free.", w.Shelf.Head().Name, w.Shelf.Place(), units.Plural(len(twins), "twin"),
				units.Plural(st.Blocks, "block"), units.Plural(st.Packs, "pack"), units.Bytes(st.Bytes), units.Bytes(free))
			for _, n := range append(w.Shelf.Notes(), texts(problems)...) {
				o.say("  %s", n)
			}
			return nil
		},
	}
	reindex := &cobra.Command{
		Use: "reindex", Short: "Make the index anew from the packs", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			w, err := o.workshop(true)
			if err != nil {
				return err
			}
			n, err := w.Shelf.Reindex()
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
	c.AddCommand(create, show, reindex)
	return c
}

func texts(errs []error) []string {
	out := []string{}
	for _, e := range errs {
		out = append(out, e.Error())
	}
	return out
}
