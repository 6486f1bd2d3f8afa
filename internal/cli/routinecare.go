package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"twinshelf/internal/routine"
	"twinshelf/internal/settings"
	"twinshelf/internal/workshop"
)

func stopRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "stop NAME", Short: "Have the process that runs a routine stop it", Args: exactly("the routine"),
		Long: "The run ends at a point where the shelf is whole, and counts as stopped: it isn't made up for.\n" +
			"\"routine run\" takes it over from there.",
		Example: "  twinshelf routine stop \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			if err := w.StopRoutine(cmd.Context(), r.Name); err != nil {
				if errors.As(err, new(*routine.IdleError)) {
					err = refusal{err}
				}
				return err
			}
			return paced(o, w, r, nil, "was stopped")
		},
	}
}

func confirmRoutineCommand(o *options) *cobra.Command {
	var confirm []string
	c := &cobra.Command{
		Use: "confirm NAME", Short: "Confirm once what a routine erases", Args: exactly("the routine"),
		Long: "Asked when it is made or changed, too. It is asked for again when its disks or spares change.",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			if !r.Erases() {
				return usageError{fmt.Errorf("%s erases nothing: there is nothing to confirm", r.Name)}
			}
			if err := confirmRoutine(o, r, confirm); err != nil {
				return err
			}
			return paced(o, w, r, w.ConfirmRoutine(r), "is confirmed")
		},
	}
	confirmFlag(c, &confirm)
	return c
}

func routinePassphraseCommand(o *options) *cobra.Command {
	var forget bool
	c := &cobra.Command{
		Use: "passphrase NAME", Short: "Keep the passphrase of a sealed shelf with a routine, or forget it",
		Args: exactly("the routine"),
		Long: "For routines that say passphrase: kept. It lies in a file that only you can read, on the disk of\n" +
			"this machine: whoever has that disk has the passphrase. Safer are a credential of systemd, or a\n" +
			"file on an encrypted disk. It comes from --passphrase-file, " + envPassphrase + " or the terminal.",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			var p []byte
			if !forget {
				if p, err = o.passphrase(o.passFile, envPassphrase, "Passphrase for "+r.Name, true); err != nil {
					return err
				}
				if len(p) == 0 {
					return usageError{errors.New("an empty passphrase opens nothing")}
				}
			}
			if err := w.Routines().KeepPassphrase(r.Name, p); err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"name": r.Name, "passphrase_kept": !forget})
			}
			o.say("%s: %s.", r.Name, map[bool]string{false: "the passphrase is kept with it",
				true: "its passphrase is forgotten"}[forget])
			return nil
		},
	}
	c.Flags().BoolVar(&forget, "forget", false, "forget the one that is kept")
	return c
}

func mailCommand(o *options) *cobra.Command {
	var m settings.Mail
	var forget bool
	var try string
	c := &cobra.Command{
		Use: "mail", Short: "Say which server sends the mail of routines; without flags it is shown",
		Args: cobra.NoArgs,
		Long: "Port 465 begins with TLS, others by STARTTLS; without a certificate that can be trusted nothing is\n" +
			"sent. The password is in a file that only you can read, in a credential of systemd, or kept here.\n" +
			"Without a server mail goes by /usr/sbin/sendmail.",
		Example: "  twinshelf routine mail\n" +
			"  twinshelf routine mail --server mail.ferry.example:587 --from shelf@ferry.example --user shelf " +
			"--password \"file /etc/twinshelf/mail.pass\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := o.workshop(cmd.Context(), false)
			if err != nil {
				return err
			}
			if forget {
				m = settings.Mail{}
				err = w.KeepMailPassword(nil)
			}
			if err == nil && (forget || m.Server != "" || m.From != "" || m.User != "" || m.Password != "") {
				err = setMail(o, w, m)
			}
			if err != nil {
				return err
			}
			if try != "" {
				if err := w.TryMail(cmd.Context(), try); err != nil {
					return err
				}
			}
			if m = w.State.Mail; o.json {
				return o.print(map[string]any{"mail_server": m, "tried": try != ""})
			}
			if m.Server == "" {
				o.say("No server is set: mail goes by /usr/sbin/sendmail.")
			} else {
				o.say("Mail goes by %s, from %s.", m.Server, m.From)
			}
			if try != "" {
				o.say("A message to %s is on its way.", try)
			}
			return nil
		},
	}
	fs := c.Flags()
	fs.StringVar(&m.Server, "server", "", "the server, such as mail.ferry.example:587")
	fs.StringVar(&m.From, "from", "", "address that mail comes from")
	fs.StringVar(&m.User, "user", "", "user that the server knows")
	fs.StringVar(&m.Password, "password", "", "where the password is: \"file PATH\", \"credential NAME\" or kept")
	fs.StringVar(&try, "try", "", "send a message to this address, to see whether it works")
	fs.BoolVar(&forget, "forget", false, "forget the server and a kept password")
	c.MarkFlagsMutuallyExclusive("server", "forget")
	return c
}

// setMail remembers a mail server, and a password that is kept.
func setMail(o *options, w *workshop.Workshop, m settings.Mail) error {
	if m != (settings.Mail{}) {
		if _, err := workshop.CheckMail(m); err != nil {
			return usageError{err}
		}
	}
	if m.Password == string(routine.InRoutine) {
		p, err := o.passphrase(o.passFile, envPassphrase, "Password of "+m.User, true)
		if err == nil {
			err = w.KeepMailPassword(p)
		}
		if err != nil {
			return err
		}
	}
	return w.UseMail(m)
}

// foreseen says how the shelf fills by a routine, where that can be told.
func foreseen(ctx context.Context, o *options, w *workshop.Workshop, r *routine.Routine) {
	now := time.Now()
	if room, err := w.RoutineRoom(ctx, r, now); err == nil {
		o.say("# room: %s", room.Words(now))
	}
}

func foreseeRoutineCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use: "foresee NAME", Short: "Say how long the room of the shelf lasts with a routine",
		Args: exactly("the routine"),
		Long: "By how often it runs, by what each run brought so far, and by the rule that drops dates: its own\n" +
			"(keep), or that of the shelf.",
		Example: "  twinshelf routine foresee \"Ticket desk\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, r, err := theRoutine(cmd.Context(), o, args[0])
			if err != nil {
				return err
			}
			now := time.Now()
			room, err := w.RoutineRoom(cmd.Context(), r, now)
			if errors.Is(err, workshop.ErrNoOutlook) {
				err = refusal{err}
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.print(map[string]any{"outlook": room, "words": room.Words(now)})
			}
			o.say("%s: %s.", r.Name, room.Words(now))
			return nil
		},
	}
}
