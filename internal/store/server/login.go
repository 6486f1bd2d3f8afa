package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"twinshelf/internal/store/pace"
)

// Asks are how a person is asked while a server is opened; where nobody is there they are nil.
type Asks struct {
	// Trust shows the fingerprint of a server that was never seen, and hears whether it is the right one.
	Trust func(ctx context.Context, host, fingerprint string) bool
	// Secret asks for a password, or for the answer to a question of the server.
	Secret func(ctx context.Context, question string) (string, error)
}

// Bounds of the waiting and asking.
const (
	dialWithin    = 20 * time.Second
	mostQuestions = 10
	mostKeyFile   = 64 << 10
)

// LoginError means that a server is there and doesn't let the person in.
type LoginError struct {
	Host, User string
	Tried      []string
	Err        error
}

func (e *LoginError) Error() string {
	return fmt.Sprintf("%s doesn't let %s in (tried: %v): lay your key there, load it into your agent, or name the "+
		"right user: %v", e.Host, e.User, e.Tried, e.Err)
}

func (e *LoginError) Unwrap() error { return e.Err }

// login is one attempt to open a server.
type login struct {
	s     *server
	asks  Asks
	tried []string
	agent net.Conn
}

// session is a connection to a server, and the line that it goes over.
type session struct {
	*ssh.Client
	line *pace.Watched
}

// dial opens a connection to a server.
func dial(ctx context.Context, s *server, asks Asks, pacer *pace.Pacer) (*session, error) {
	patience := newPatience()
	asks = patience.spare(asks)
	known, err := newHosts(s, asks.Trust)
	if err != nil {
		return nil, err
	}
	l := &login{s: s, asks: asks}
	defer l.close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	way, err := reach(ctx, s, asks, pacer)
	if err != nil {
		return nil, err
	}
	conn := pace.Watch(way)
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	patience.begin(conn)
	defer patience.end()
	refused := error(nil)
	config := &ssh.ClientConfig{User: s.user, Auth: l.methods(ctx), HostKeyAlgorithms: known.algorithms(),
		HostKeyCallback: func(_ string, remote net.Addr, key ssh.PublicKey) error {
			refused = known.check(ctx, remote, key)
			return refused
		}}
	c, channels, requests, err := ssh.NewClientConn(conn, s.address(), config)
	if !stop() && err == nil {
		err = ctx.Err()
	}
	switch {
	case refused != nil:
		conn.Close()
		return nil, refused
	case err != nil && len(l.tried) > 0 && !lost(err) && !errors.Is(err, io.EOF):
		conn.Close()
		return nil, &LoginError{s.host, s.user, l.tried, err}
	case err != nil:
		conn.Close()
		return nil, fmt.Errorf("%s answers, but no connection comes about: %w", s.host, err)
	}
	return &session{ssh.NewClient(c, channels, requests), conn}, nil
}

// reach connects to a server, through those on the way to it.
func reach(ctx context.Context, s *server, asks Asks, pacer *pace.Pacer) (net.Conn, error) {
	if s.jump == nil {
		if err := pacer.May(); err != nil {
			return nil, err
		}
		conn, err := pace.Dialer(dialWithin).DialContext(ctx, "tcp", s.address())
		if err != nil {
			return nil, fmt.Errorf("%s can't be reached: %w", s.host, err)
		}
		return pacer.Conn(conn), nil
	}
	way, err := dial(ctx, s.jump, asks, pacer)
	if err != nil {
		return nil, fmt.Errorf("on the way to %s: %w", s.host, err)
	}
	conn, err := way.DialContext(ctx, "tcp", s.address())
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s can't be reached from %s: %w", s.host, s.jump.host, err), way.Close())
	}
	return &tunnel{conn, way}, nil
}

// tunnel is a connection through another server; both end together.
type tunnel struct {
	net.Conn
	way *session
}

func (t *tunnel) Close() error { return errors.Join(t.Conn.Close(), t.way.Close()) }

func (l *login) close() {
	if l.agent != nil {
		l.agent.Close()
	}
}

// methods are the ways in, the quiet ones first.
func (l *login) methods(ctx context.Context) []ssh.AuthMethod {
	out := []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { return l.signers(ctx), nil })}
	if l.asks.Secret == nil {
		return out
	}
	questions := func(_, instruction string, questions []string, _ []bool) ([]string, error) {
		if len(questions) > mostQuestions {
			return nil, errors.New("it asks too many questions")
		}
		l.tried = append(l.tried, "its questions")
		var answers []string
		for _, q := range questions {
			a, err := l.asks.Secret(ctx, fmt.Sprintf("%s asks: %s", l.s.host, q))
			if err != nil {
				return nil, err
			}
			answers = append(answers, a)
		}
		return answers, nil
	}
	return append(out, ssh.PasswordCallback(func() (string, error) {
		l.tried = append(l.tried, "a password")
		return l.asks.Secret(ctx, fmt.Sprintf("Password of %s on %s", l.s.user, l.s.host))
	}), ssh.KeyboardInteractive(questions))
}

// signers are the keys of the agent, and those in files.
func (l *login) signers(ctx context.Context) (out []ssh.Signer) {
	if l.s.agent != "" {
		if conn, err := net.Dial("unix", l.s.agent); err == nil {
			l.agent = conn
			if keys, err := agent.NewClient(conn).Signers(); err == nil && len(keys) > 0 {
				out = append(out, keys...)
				l.tried = append(l.tried, "the agent")
			}
		}
	}
	for _, name := range l.s.keys {
		key, err := l.signer(ctx, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			l.tried = append(l.tried, fmt.Sprintf("%s, which can't be used: %v", name, err))
			continue
		}
		out = append(out, key)
		l.tried = append(l.tried, name)
	}
	return out
}

// signer reads a key from a file; its passphrase is asked for where it has one.
func (l *login) signer(ctx context.Context, name string) (ssh.Signer, error) {
	st, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() || st.Size() > mostKeyFile {
		return nil, errors.New("it is no key")
	}
	if st.Mode()&0o077 != 0 {
		return nil, errors.New("others can read it (chmod 600)")
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	key, err := ssh.ParsePrivateKey(b)
	if !errors.As(err, new(*ssh.PassphraseMissingError)) {
		return key, err
	}
	if l.asks.Secret == nil {
		return nil, errors.New("it has a passphrase, and nobody can be asked: load it into an agent")
	}
	p, err := l.asks.Secret(ctx, "Passphrase of the key "+name)
	if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKeyWithPassphrase(b, []byte(p))
}
