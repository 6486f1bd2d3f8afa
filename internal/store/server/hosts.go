package server

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"twinshelf/internal/durable"
)

// UnknownHostError means that a server was never seen here, and that nobody said that it is the right one.
type UnknownHostError struct{ Host, Fingerprint string }

func (e *UnknownHostError) Error() string {
	return fmt.Sprintf("%s was never seen here, and nobody said that it is the right one; its key is %s: compare that "+
		"with what the server's administrator says", e.Host, e.Fingerprint)
}

// ChangedHostError means that a server shows another key than before.
type ChangedHostError struct {
	Host, Fingerprint string
	Known             []string // where the keys lie that are known
}

func (e *ChangedHostError) Error() string {
	return fmt.Sprintf("%s shows another key than before (%s): either the server was set up anew, or something else "+
		"answers "+
		"in its place. Nothing was sent. Ask its administrator; if it was set up anew, remove its line (%s)", e.Host,
		e.Fingerprint, e.Known)
}

// hosts knows the keys of hosts.
type hosts struct {
	s     *server
	known ssh.HostKeyCallback
	trust func(ctx context.Context, host, fingerprint string) bool // nil where nobody can be asked
}

func newHosts(s *server, trust func(ctx context.Context, host, fingerprint string) bool) (*hosts, error) {
	files := slices.DeleteFunc(slices.Clone(s.known), func(name string) bool {
		_, err := os.Stat(name)
		return errors.Is(err, fs.ErrNotExist)
	})
	known, err := knownhosts.New(files...)
	if err != nil {
		return nil, fmt.Errorf("the keys of known servers can't be read: %w", err)
	}
	return &hosts{s, known, trust}, nil
}

// name is how the server stands in the list: by its alias, as OpenSSH does where the alias is a name of its own.
func (h *hosts) name() string { return h.s.address() }

// algorithms are those of the keys that are known of the server, so that it shows one of them; nil for any.
func (h *hosts) algorithms() []string {
	var wrong *knownhosts.KeyError
	other, err := ssh.NewPublicKey(ed25519.PublicKey(make([]byte, ed25519.PublicKeySize)))
	if err != nil || !errors.As(h.known(h.name(), tcpAddr{h.name()}, other), &wrong) {
		return nil
	}
	var out []string
	for _, k := range wrong.Want {
		if t := k.Key.Type(); t == ssh.KeyAlgoRSA {
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			out = append(out, t)
		}
	}
	return out
}

// tcpAddr is an address that is no more than its text.
type tcpAddr struct{ text string }

func (tcpAddr) Network() string  { return "tcp" }
func (a tcpAddr) String() string { return a.text }

// check says whether the server is the right one; one that was never seen is asked about, and then known.
func (h *hosts) check(ctx context.Context, remote net.Addr, key ssh.PublicKey) error {
	err := h.known(h.name(), tcpAddr{h.name()}, key)
	var other *knownhosts.KeyError
	if !errors.As(err, &other) {
		return err // known, or revoked
	}
	print := ssh.FingerprintSHA256(key)
	if len(other.Want) > 0 {
		var at []string
		for _, k := range other.Want {
			at = append(at, fmt.Sprintf("%s, line %d", k.Filename, k.Line))
		}
		return &ChangedHostError{h.s.host, print, at}
	}
	if h.trust == nil || !h.trust(ctx, h.s.host, print) {
		return &UnknownHostError{h.s.host, print}
	}
	file := h.s.known[0]
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(h.name())}, key)
	return durable.Append(file, []byte(line+"\n"))
}
