package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

const (
	envPassphrase    = "TWINSHELF_PASSPHRASE"
	envNewPassphrase = "TWINSHELF_NEW_PASSPHRASE"
)

// passphrase takes a passphrase from a file, the environment, or the person at the terminal.
func (o *options) passphrase(file, env, prompt string, twice bool) ([]byte, error) {
	if file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("the passphrase can't be read: %w", err)
		}
		return bytes.TrimRight(b, "\r\n"), nil
	}
	if v := os.Getenv(env); v != "" {
		return []byte(v), nil
	}
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		return nil, fmt.Errorf("%w: there is nobody to ask; give it in a file, or in %s", store.ErrSealed, env)
	}
	ask := func(text string) ([]byte, error) {
		fmt.Fprint(o.err, text)
		b, err := term.ReadPassword(fd)
		fmt.Fprintln(o.err)
		return b, err
	}
	p, err := ask(prompt + ": ")
	if err != nil || !twice {
		return p, err
	}
	again, err := ask("Once more: ")
	if err == nil && !bytes.Equal(p, again) {
		err = errors.New("the two are different; nothing was changed")
	}
	return p, err
}

// openPassphrase is asked for when a sealed shelf is opened.
func (o *options) openPassphrase(dir string) ([]byte, error) {
	return o.passphrase(o.passFile, envPassphrase, "Passphrase of the shelf in "+dir, false)
}

func passphraseCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "passphrase", Short: "List, add, change or withdraw the passphrases of a sealed shelf",
		Long: "The passphrase that opens the shelf comes from --passphrase-file, from " + envPassphrase + " or from\n" +
			"the terminal; a new one from --new-passphrase-file, from " + envNewPassphrase +
			" or from the terminal.\n" +
			"No data is rewritten.",
		Args: cobra.NoArgs,
	}
	c.AddCommand(listPassphrases(o),
		keyChange{"add", "Add a passphrase under a name",
			"  twinshelf shelf passphrase add purser --shelf /media/oak", true,
			func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error {
				return s.AddKey(ctx, one, fresh, name, store.Cost{})
			}}.command(o),
		keyChange{"change", "Replace a passphrase", "  twinshelf shelf passphrase change first", true,
			func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error {
				return s.ChangeKey(ctx, one, fresh, name, store.Cost{})
			}}.command(o),
		keyChange{"withdraw", "Withdraw a passphrase; never the last one",
			"  twinshelf shelf passphrase withdraw purser", false,
			func(ctx context.Context, s *shelf.Shelf, one, _ []byte, name string) error {
				return s.WithdrawKey(ctx, one, name)
			}}.command(o))
	return c
}

func listPassphrases(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the names of the passphrases", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), true)
			if err != nil {
				return err
			}
			type line struct {
				Name    string    `json:"name"`
				Created time.Time `json:"created"`
				Opened  bool      `json:"opened"` // this one opened the shelf now
				KDF     string    `json:"kdf"`
				Passes  uint32    `json:"passes"`
				Memory  int64     `json:"memory"` // bytes
				Threads uint8     `json:"threads"`
			}
			out := []line{}
			for _, k := range w.Shelf.Head().Keys {
				out = append(out, line{k.Name, k.Created, k.Name == w.Shelf.Key(), k.KDF, k.Cost.Passes,
					int64(k.Cost.Memory) * units.KiB, k.Cost.Threads})
			}
			if o.json {
				return o.print(map[string]any{"passphrases": out})
			}
			if !w.Shelf.Sealed() {
				o.say("The shelf is open: it has no passphrases.")
			}
			for _, k := range out {
				mark := ""
				if k.Opened {
					mark = ", opened the shelf now"
				}
				o.say("%s  since %s, %s, %d MiB and %d passes%s", k.Name, units.Moment(k.Created.Local()), k.KDF,
					k.Memory/units.MiB,
					k.Passes, mark)
			}
			return nil
		},
	}
}

// keyChange is a command that changes the passphrases of a shelf.
type keyChange struct {
	use, short, example string
	fresh               bool // a new passphrase is asked for
	// do does it: one is a passphrase that the shelf has.
	do func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error
}

func (k keyChange) command(o *options) *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: k.use + " NAME", Short: k.short, Example: k.example, Args: exactly("the name of the passphrase"),
		RunE: func(cmd *cobra.Command, args []string) error { return k.run(cmd.Context(), o, file, args[0]) },
	}
	if k.fresh {
		c.Flags().StringVar(&file, "new-passphrase-file", "", "file with the new passphrase")
	}
	return c
}

func (k keyChange) run(ctx context.Context, o *options, file, name string) error {
	var one []byte
	ask := o.openPassphrase
	o.ask = func(dir string) (p []byte, err error) { // it is needed twice and asked for once
		one, err = ask(dir)
		return one, err
	}
	w, err := o.workshop(ctx, true)
	if err != nil {
		return err
	}
	var p []byte
	if k.fresh && w.Shelf.Sealed() {
		if p, err = o.passphrase(file, envNewPassphrase, "New passphrase "+name, true); err != nil {
			return err
		}
	}
	if err := k.do(ctx, w.Shelf, one, p, name); err != nil {
		return err
	}
	n := len(w.Shelf.Head().Keys)
	if o.json {
		return o.print(map[string]any{"passphrase_count": n})
	}
	o.say("Done: the shelf has %s.", units.Plural(n, "passphrase"))
	return nil
}

// newPassphrase asks for the passphrase of a shelf that is being made.
func (o *options) newPassphrase(name string) ([]byte, error) {
	p, err := o.passphrase(o.passFile, envPassphrase, "Passphrase for the new shelf "+name, true)
	if err != nil {
		return nil, errors.New(strings.ReplaceAll(err.Error(), store.ErrSealed.Error()+": ",
			"a sealed shelf needs a passphrase: "))
	}
	return p, nil
}
