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
	var file string
	list := &cobra.Command{
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
				o.say("%s  since %s, %s, %d MiB and %d passes%s", k.Name, units.Moment(k.Created.Local()), k.KDF, k.Memory/units.MiB,
					k.Passes, mark)
			}
			return nil
		},
	}
	change := func(use, short, example string,
		do func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error, fresh bool) *cobra.Command {
		return &cobra.Command{
			Use: use + " NAME", Short: short, Example: example, Args: exactly("the name of the passphrase"),
			RunE: func(cmd *cobra.Command, args []string) error {
				var one []byte
				ask := o.openPassphrase
				o.ask = func(dir string) (p []byte, err error) { // it is needed twice and asked for once
					one, err = ask(dir)
					return one, err
				}
				w, err := o.workshop(cmd.Context(), true)
				if err != nil {
					return err
				}
				var p []byte
				if fresh && w.Shelf.Sealed() {
					if p, err = o.passphrase(file, envNewPassphrase, "New passphrase "+args[0], true); err != nil {
						return err
					}
				}
				if err := do(cmd.Context(), w.Shelf, one, p, args[0]); err != nil {
					return err
				}
				if o.json {
					return o.print(map[string]any{"passphrase_count": len(w.Shelf.Head().Keys)})
				}
				o.say("Done: the shelf has %s.", units.Plural(len(w.Shelf.Head().Keys), "passphrase"))
				return nil
			},
		}
	}
	add := change("add", "Add a passphrase under a name", "  twinshelf shelf passphrase add purser --shelf /media/oak",
		func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error {
			return s.AddKey(ctx, one, fresh, name, store.Cost{})
		}, true)
	replace := change("change", "Replace a passphrase", "  twinshelf shelf passphrase change first",
		func(ctx context.Context, s *shelf.Shelf, one, fresh []byte, name string) error {
			return s.ChangeKey(ctx, one, fresh, name, store.Cost{})
		}, true)
	withdraw := change("withdraw", "Withdraw a passphrase; never the last one",
		"  twinshelf shelf passphrase withdraw purser",
		func(ctx context.Context, s *shelf.Shelf, one, _ []byte, name string) error {
			return s.WithdrawKey(ctx, one, name)
		}, false)
	for _, x := range []*cobra.Command{add, replace} {
		x.Flags().StringVar(&file, "new-passphrase-file", "", "file with the new passphrase")
	}
	c.AddCommand(list, add, replace, withdraw)
	return c
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
