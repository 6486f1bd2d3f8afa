package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"twinshelf/internal/store/door"
)

func doorCommand(o *options) *cobra.Command {
	c := &cobra.Command{
		Use: "door", Short: "Serve shelves to other machines by SFTP, with a right for each key",
		Long: "What a key may do: read looks at everything; add also puts new objects where none are, and never\n" +
			"replaces or removes what others put; keep does everything. A stolen key that may only add destroys\n" +
			"nothing, and reads nothing of a sealed shelf.",
		Example: "  twinshelf door line desk.pub --right add --quota \"200 GB\"\n" +
			"  twinshelf door serve /srv/shelves --keys keys --listen :2222",
		Args: cobra.NoArgs,
	}
	c.AddCommand(doorServeCommand(o), doorSessionCommand(o), doorLineCommand(o))
	return c
}

func doorServeCommand(o *options) *cobra.Command {
	var listen, keys, host, log string
	c := &cobra.Command{
		Use: "serve FOLDER", Short: "Listen, and serve a folder with shelves", Args: exactly("the folder"),
		Long: "Keys are lines as in authorized_keys of OpenSSH, which begin with the right (read, add or keep) and\n" +
			"may have quota=\"200 GB\" and folder=\"oak\" after it; \"door line\" makes them. The file is read anew\n" +
			"for everybody who comes. The host key is made where there is none. What keys did, and what was\n" +
			"refused, is written as lines of JSON.",
		Example: "  twinshelf door serve /srv/shelves --keys keys --listen :2222 --log door.log",
		RunE: func(cmd *cobra.Command, args []string) error {
			if keys == "" {
				return usageError{errors.New("--keys names the file of keys that are let in")}
			}
			if err := door.CheckKeys(keys); err != nil {
				return err
			}
			if host == "" {
				host = filepath.Join(filepath.Dir(keys), "door_host_ed25519")
			}
			return serveDoor(cmd.Context(), o, args[0], listen, keys, host, log)
		},
	}
	c.Flags().StringVar(&listen, "listen", ":2222", "address and port to listen on")
	c.Flags().StringVar(&keys, "keys", "", "file of keys that are let in")
	c.Flags().StringVar(&host, "host-key", "", "file of the host key (default: door_host_ed25519 beside the keys)")
	c.Flags().StringVar(&log, "log", "", "file for the log (default: standard error)")
	return c
}

func serveDoor(ctx context.Context, o *options, folder, listen, keys, host, log string) error {
	w, end, err := doorLog(o, log)
	if err != nil {
		return err
	}
	defer end()
	d, err := door.New(folder, door.NewLog(w))
	if err != nil {
		return err
	}
	key, err := door.HostKey(host)
	if err != nil {
		return err
	}
	on, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("the door can't listen: %w", err)
	}
	o.say("Serving %s at %s; host key %s.", folder, on.Addr(), door.Fingerprint(key))
	l := &door.Listener{Door: d, Keys: keys, Host: key}
	return l.Serve(ctx, on)
}

// doorLog opens the log, which is only ever appended to.
func doorLog(o *options, file string) (io.Writer, func(), error) {
	if file == "" {
		return o.err, func() {}, nil
	}
	f, err := door.OpenLog(file)
	if err != nil {
		return nil, nil, fmt.Errorf("the log can't be written: %w", err)
	}
	return f, func() { f.Close() }, nil
}

// keyFlags are those that say what a key may do.
func keyFlags(c *cobra.Command, k *door.Key) {
	c.Flags().String("right", "", "what the key may do: read, add or keep")
	c.Flags().String("quota", "", "how much the key may have put")
	c.Flags().StringVar(&k.Folder, "folder", "", "the folder below the door's that it is let into (default: all)")
	c.Flags().StringVar(&k.Name, "name", "", "whose key it is, for the log and to know again what it put")
}

// takeKey reads what these flags say.
func takeKey(c *cobra.Command, k *door.Key) (err error) {
	if k.Right, err = door.ParseRight(c.Flag("right").Value.String()); err == nil && c.Flag("quota").Changed {
		k.Quota, err = door.ParseQuota(c.Flag("quota").Value.String())
	}
	if err != nil {
		return usageError{err}
	}
	return nil
}

func doorSessionCommand(o *options) *cobra.Command {
	var k door.Key
	var log string
	c := &cobra.Command{
		Use: "session FOLDER", Short: "Serve one visit over standard input and output, for OpenSSH",
		Args: exactly("the folder"),
		Long: "OpenSSH starts it as the command of a key in authorized_keys; \"door line --openssh\" makes such a\n" +
			"line.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := takeKey(cmd, &k); err != nil {
				return err
			}
			w, end, err := doorLog(o, log)
			if err != nil {
				return err
			}
			defer end()
			d, err := door.New(args[0], door.NewLog(w))
			if err != nil {
				return err
			}
			return d.Serve(cmd.Context(), door.Standard(), k, door.From(os.Getenv("SSH_CONNECTION")))
		},
	}
	keyFlags(c, &k)
	c.Flags().StringVar(&log, "log", "", "file for the log (default: standard error)")
	return c
}

func doorLineCommand(o *options) *cobra.Command {
	var k door.Key
	var openssh string
	c := &cobra.Command{
		Use: "line KEY.pub", Short: "Print the line that lets a key in", Args: exactly("the public key's file"),
		Example: "  twinshelf door line desk.pub --right add --quota \"200 GB\"\n" +
			"  twinshelf door line desk.pub --right read --openssh /srv/shelves",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := takeKey(cmd, &k); err != nil {
				return err
			}
			public, err := door.PublicKey(args[0])
			if err != nil {
				return err
			}
			if k.Name == "" {
				k.Name = door.NameIn(public, args[0])
			}
			line, err := k.Line(public)
			if openssh != "" {
				var program string
				if program, err = os.Executable(); err == nil {
					line, err = k.ForOpenSSH(public, program, openssh)
				}
			}
			if err != nil {
				return usageError{err}
			}
			if o.json {
				return o.print(map[string]string{"line": line})
			}
			fmt.Fprintln(o.out, line)
			return nil
		},
	}
	keyFlags(c, &k)
	c.Flags().StringVar(&openssh, "openssh", "", "for authorized_keys of OpenSSH, with the folder that is served")
	return c
}
