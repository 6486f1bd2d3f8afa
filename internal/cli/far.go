package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"twinshelf/internal/store/far"
)

// farAsks are how the person at the terminal is asked while a server is opened; nobody is asked where there is none.
func farAsks(o *options) far.Asks {
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		return far.Asks{}
	}
	return far.Asks{
		Trust: func(_ context.Context, host, fingerprint string) bool {
			fmt.Fprintf(o.err, "%s was never seen here. Its key is %s.\nCompare it with what the server's "+
				"administrator says. Is it the right one? Type yes: ", host, fingerprint)
			line, err := o.in.ReadString('\n')
			return err == nil && strings.TrimSpace(line) == "yes"
		},
		Secret: func(ctx context.Context, question string) (string, error) {
			if ctx.Err() != nil {
				return "", ctx.Err()
			}
			fmt.Fprint(o.err, question+": ")
			b, err := term.ReadPassword(fd)
			fmt.Fprintln(o.err)
			if err != nil {
				return "", errors.New("nothing was typed")
			}
			return string(b), nil
		}}
}
