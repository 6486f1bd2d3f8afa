package server

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/kevinburke/ssh_config"
)

// server is what an address comes to with the person's SSH configuration.
type server struct {
	alias, host, user string
	port              int
	keys              []string // files
	known             []string // files with the keys of hosts; the first takes new ones
	agent             string   // socket; empty for none
	jump              *server  // the one that it is reached through; nil for none
}

// mostJumps bounds how many servers lie on the way to one.
const mostJumps = 4

// address is what is dialled.
func (s *server) address() string { return net.JoinHostPort(s.host, strconv.Itoa(s.port)) }

// usualKeys are the files of keys that are tried where the configuration names none.
var usualKeys = []string{"id_ed25519", "id_ecdsa", "id_rsa"}

// resolve reads the configuration in a folder such as ~/.ssh.
func resolve(a Address, dir string) (*server, error) { return resolveAt(a, dir, 0) }

// resolveAt is resolve of a server that so many others are reached through.
func resolveAt(a Address, dir string, depth int) (*server, error) {
	if depth > mostJumps {
		return nil, fmt.Errorf("more than %d servers lie on the way to one (ProxyJump in %s)", mostJumps,
			filepath.Join(dir, "config"))
	}
	var config *ssh_config.Config
	path := filepath.Join(dir, "config")
	f, err := os.Open(path)
	switch {
	case err == nil:
		defer f.Close()
		if config, err = ssh_config.Decode(f); err != nil {
			return nil, fmt.Errorf("%s can't be understood here: %w", path, err)
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	get := func(key string) string {
		if config == nil {
			return ""
		}
		v, _ := config.Get(a.Host, key)
		return v
	}
	if v := get("ProxyCommand"); v != "" && !strings.EqualFold(v, "none") {
		return nil, fmt.Errorf("%s wants ProxyCommand for %s, which isn't possible here: ProxyJump is", path, a.Host)
	}
	s := &server{alias: a.Host, host: a.Host, user: a.User, port: a.Port, agent: os.Getenv("SSH_AUTH_SOCK")}
	if v := get("HostName"); v != "" {
		s.host = strings.ReplaceAll(v, "%h", a.Host)
	}
	if s.user == "" {
		s.user = get("User")
	}
	if s.user == "" {
		if u, err := user.Current(); err == nil {
			s.user = u.Username
		}
	}
	if s.port == 0 {
		s.port, _ = strconv.Atoi(get("Port"))
	}
	if s.port == 0 {
		s.port = 22
	}
	if config != nil {
		names, _ := config.GetAll(a.Host, "IdentityFile")
		for _, name := range names {
			s.keys = append(s.keys, inHome(name, dir))
		}
		if v := get("UserKnownHostsFile"); v != "" {
			for _, name := range strings.Fields(v) {
				s.known = append(s.known, inHome(name, dir))
			}
		}
	}
	if len(s.keys) == 0 {
		for _, name := range usualKeys {
			s.keys = append(s.keys, filepath.Join(dir, name))
		}
	}
	if len(s.known) == 0 {
		s.known = []string{filepath.Join(dir, "known_hosts")}
	}
	err = s.through(get("ProxyJump"), dir, depth)
	return s, err
}

// through has a server be reached through others, as ProxyJump lists them: the first one first (ssh_config(5)).
func (s *server) through(jumps, dir string, depth int) error {
	if jumps == "" || strings.EqualFold(jumps, "none") {
		return nil
	}
	list := strings.Split(jumps, ",")
	if depth+len(list) > mostJumps {
		return fmt.Errorf("more than %d servers lie on the way to %s", mostJumps, s.host)
	}
	at := s
	for _, text := range slices.Backward(list) {
		a, err := Parse(scheme + strings.TrimPrefix(strings.TrimSpace(text), "ssh://") + "/-")
		if err != nil {
			return fmt.Errorf("ProxyJump %q can't be understood: %w", text, err)
		}
		if at.jump, err = resolveAt(a, dir, depth+1); err != nil {
			return err
		}
		at = at.jump
		if at.jump != nil && len(list) > 1 {
			return fmt.Errorf("%s, which lies on the way to %s, wants others on its own way: list all of "+
				"them", at.alias,
				s.host)
		}
	}
	return nil
}

// inHome is a file as the configuration names it; dir lies in the home folder.
func inHome(name, dir string) string {
	name = strings.Trim(name, `"`)
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		return filepath.Join(filepath.Dir(dir), rest)
	}
	return name
}
