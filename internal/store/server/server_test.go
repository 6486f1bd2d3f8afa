package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/testkit"
)

// at is a folder of a server as an address.
func addressOf(s *testkit.SSHServer, dir string) Address {
	return Address{User: s.User, Host: s.Host, Port: s.Port, Path: dir}
}

func TestOpenSSHConforms(t *testing.T) { serverConforms(t, testkit.OpenSSH(t)) }

func serverConforms(t *testing.T, s *testkit.SSHServer) {
	t.Helper()
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		dir := filepath.Join(t.TempDir(), "srv", "oak") // made when it is missing
		return func() backend.Backend {
			f, err := Open(addressOf(s, dir), s.Person, Asks{}, nil)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			return f
		}
	})
}

// TestOnlyTheOwner: what is put on a server, and the folders that are made for it, are their owner's alone, whatever
// the server does by itself.
func TestOnlyTheOwner(t *testing.T) {
	s := testkit.OpenSSH(t)
	root := filepath.Join(t.TempDir(), "srv", "oak")
	f, err := Open(addressOf(s, root), s.Person, Asks{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, name := range []string{"copies/twins/kiosk/a", "copies/twins/kiosk/b", "copies/twins/till/c", "d"} {
		if err := backend.Put(t.Context(), f, name, []byte("fares"), backend.Options{}, nil); err != nil {
			t.Fatal(err)
		}
		for at := filepath.Join(root, name); at != filepath.Dir(filepath.Dir(root)); at = filepath.Dir(at) {
			st, err := os.Stat(at)
			if err != nil || st.Mode().Perm()&0o077 != 0 {
				t.Errorf("%s: %v, %v", at, st.Mode(), err)
			}
		}
	}
}

// TestAddress: addresses are read and written alike; secrets and what isn't one are refused, and never repeated.
func TestAddress(t *testing.T) {
	for text, want := range map[string]Address{
		"sftp://tam@store.ferry.example:2222/srv/oak": {"tam", "store.ferry.example", 2222, "/srv/oak"},
		"sftp://backroom/srv/oak":                     {"", "backroom", 0, "/srv/oak"},
		"sftp://backroom/~/oak":                       {"", "backroom", 0, "oak"},
		"sftp://[::1]:22/srv/oak":                     {"", "::1", 22, "/srv/oak"},
		"sftp://b/srv/a%20b":                          {"", "b", 0, "/srv/a b"},
	} {
		a, err := Parse(text)
		if err != nil || a != want {
			t.Errorf("%s: %+v %v", text, a, err)
		}
		if again, err := Parse(a.String()); err != nil || again != a {
			t.Errorf("%s became %s: %v", text, a, err)
		}
	}
	for text, says := range map[string]string{"sftp://tam:lowtide@b/srv": "passwords",
		"sftp://b/srv?key=lowtide": "passwords",
		"https://b/srv":            "sftp://", "sftp:///srv": "no host", "sftp://b": "no folder",
		"sftp://-oProxy/x": "no host",
		"sftp://b:99999/x": "no port", "sftp://b/\n": "can't be shown", "sftp://b:lowtide/x": "can't be read"} {
		_, err := Parse(text)
		if err == nil || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "lowtide") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("sftp://tam@store.ferry.example:2222/srv/oak")
	f.Add("sftp://b/~/x%2fy")
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Parse(text)
		if err != nil {
			return
		}
		if again, err := Parse(a.String()); err != nil || again != a {
			t.Errorf("%q is %+v, and %q is %+v: %v", text, a, a.String(), again, err)
		}
	})
}

// TestHostKeys: a server that was never seen is asked about once and known from then on; nobody asked is refused; one
// that shows another key is refused, whoever says what.
func TestHostKeys(t *testing.T) {
	s := testkit.OpenSSH(t)
	known := filepath.Join(s.Person, "known_hosts")
	right, err := os.ReadFile(known)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(known); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	list := func(asks Asks) error {
		f, err := Open(addressOf(s, dir), s.Person, asks, nil)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = f.List(t.Context(), "")
		return err
	}
	var unknown *UnknownHostError
	if err := list(Asks{}); !errors.As(err, &unknown) || !strings.HasPrefix(unknown.Fingerprint, "SHA256:") {
		t.Errorf("nobody to ask: %v", err)
	}
	asked := 0
	yes := Asks{Trust: func(_ context.Context, host, print string) bool {
		asked++
		return host == s.Host && print == unknown.Fingerprint
	}}
	if err := errors.Join(list(yes), list(yes), list(Asks{})); err != nil || asked != 1 {
		t.Errorf("asked %d times: %v", asked, err)
	}
	other := t.TempDir()
	testkit.Do(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(other, "host"))
	s.Known(other)
	var changed *ChangedHostError
	if err := list(yes); !errors.As(err, &changed) || len(changed.Known) != 1 || asked != 1 {
		t.Errorf("another key: %v", err)
	}
	if err := os.WriteFile(known, right, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := list(Asks{}); err != nil {
		t.Error(err)
	}
}

// TestLogin: an alias of the configuration leads to the server with its key; without a key that it takes the error says
// what was tried, and a key that others can read isn't used.
func TestLogin(t *testing.T) {
	s := testkit.OpenSSH(t)
	dir := t.TempDir()
	key := filepath.Join(s.Person, "backroom.key")
	if err := os.Rename(filepath.Join(s.Person, "id_ed25519"), key); err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(s.Person, "config")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("SSH_AUTH_SOCK", "")
	free := func(a Address) error {
		f, err := Open(a, s.Person, Asks{}, nil)
		if err != nil {
			return err
		}
		defer f.Close()
		n, err := f.Free(t.Context())
		if err == nil && n <= 0 {
			err = fmt.Errorf("%d bytes are free", n)
		}
		return err
	}
	var refused *LoginError
	if err := free(addressOf(s, dir)); err == nil {
		t.Error("it lets in who has no key")
	}
	write(fmt.Sprintf("Host backroom\n  HostName %s\n  Port %d\n  User %s\n  IdentityFile %s\n", s.Host, s.Port, s.User,
		key))
	if err := free(Address{Host: "backroom", Path: dir}); err != nil {
		t.Errorf("by its alias: %v", err)
	}
	if err := os.Chmod(key, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := free(Address{Host: "backroom", Path: dir}); !errors.As(err, &refused) ||
		!strings.Contains(err.Error(), "others can read it") {
		t.Errorf("a key that others can read: %v", err)
	}
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	way := fmt.Sprintf("Host *\n  HostName %s\n  User %s\n  IdentityFile %s\n", s.Host, s.User, key)
	for jumps, says := range map[string]string{"gate": "", "gate,gate": "", "none": "", "shut": "on the way to",
		"a,b,c,d,e": "more than 4", "back": "more than 4", "gate:lowtide": "can't be understood"} {
		write(fmt.Sprintf("Host back*\n  ProxyJump %s\n  Port %d\nHost gate\n  Port %d\nHost shut\n  Port 1\n%s", jumps,
			s.Port, s.Port, way))
		err := free(Address{Host: "backroom", Path: dir})
		if (err == nil) != (says == "") || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("through %s: %v", jumps, err)
		}
	}
	// A key with a passphrase is asked for.
	testkit.Do(t, "ssh-keygen", "-q", "-p", "-N", "low tide", "-f", key)
	write(fmt.Sprintf("Host *\n  IdentityFile %s\n", key))
	if err := free(addressOf(s, dir)); err == nil || !strings.Contains(err.Error(), "nobody can be asked") {
		t.Errorf("a passphrase and nobody to ask: %v", err)
	}
	f, err := Open(addressOf(s, dir), s.Person, Asks{Secret: func(context.Context, string) (string, error) {
		return "low tide", nil
	}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.Stat(t.Context(), "none"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("with its passphrase: %v", err)
	}
}

// TestLinkComesBack: where the server is killed in the middle, what is written goes on at its place, what is read is
// read, and what was committed is there once.
func TestLinkComesBack(t *testing.T) {
	s := testkit.OpenSSH(t)
	dir := t.TempDir()
	f, err := Open(addressOf(s, dir), s.Person, Asks{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	f.link.pause = 50 * time.Millisecond
	again := func() {
		s.Stop()
		s.Start()
	}
	content := testkit.Noise(5, 5<<20)
	u, err := f.Create(t.Context(), "packs/1", backend.Options{Owner: "test"})
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(content); i += 1 << 19 {
		if _, err := u.Write(content[i:min(len(content), i+1<<19)]); err != nil {
			t.Fatal(err)
		}
		if i == 1<<21 {
			again()
		}
	}
	again()
	if err := u.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	o, err := f.Open(t.Context(), "packs/1")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	got := make([]byte, len(content))
	if _, err := o.ReadAt(t.Context(), got[:1000], 0); err != nil {
		t.Fatal(err)
	}
	again()
	if n, err := o.ReadAt(t.Context(), got, 0); n != len(got) || string(got) != string(content) {
		t.Errorf("%d bytes, or wrong ones: %v", n, err)
	}
	again()
	if err := backend.Put(t.Context(), f, "locks/1", []byte("mine"), backend.Options{IfAbsent: true}, nil); err != nil {
		t.Error(err)
	}
	s.Stop()
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	if _, err := f.List(ctx, "packs"); err == nil {
		t.Error("a server that is gone answers")
	}
}

// lineTo is a line to a server, and the address of a folder at its end.
func lineTo(t *testing.T, s *testkit.SSHServer, w testkit.LineWeather) (*testkit.Line, Address) {
	t.Helper()
	line := testkit.NewLine(t, net.JoinHostPort(s.Host, strconv.Itoa(s.Port)), w)
	s.KnownAt(line.Addr)
	_, port, err := net.SplitHostPort(line.Addr)
	if err != nil {
		t.Fatal(err)
	}
	at := addressOf(s, t.TempDir())
	if at.Port, err = strconv.Atoi(port); err != nil {
		t.Fatal(err)
	}
	return line, at
}

// overLine is a folder of a server at the end of a line.
func overLine(t *testing.T, s *testkit.SSHServer, w testkit.LineWeather) (*testkit.Line, *Folder) {
	t.Helper()
	line, at := lineTo(t, s, w)
	f, err := Open(at, s.Person, Asks{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return line, f
}

// TestBadLineConforms: over a line that is cut again and again, and long, a folder on a server keeps all its promises.
func TestBadLineConforms(t *testing.T) {
	s := testkit.OpenSSH(t)
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		_, at := lineTo(t, s, testkit.LineWeather{Delay: time.Millisecond, CutEvery: 3_000_000})
		return func() backend.Backend {
			f, err := Open(at, s.Person, Asks{}, nil)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			return f
		}
	})
}

// TestSilentServer: a server that takes the connection and says nothing is given up; so is a connection that falls
// silent, and what was going on goes on over another one.
func TestSilentServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	f, err := Open(Address{User: "tam", Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Path: "/srv"},
		t.TempDir(), Asks{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.List(t.Context(), ""); err == nil || !strings.Contains(err.Error(), "no connection comes about") {
		t.Errorf("a silent server: %v", err)
	}
	s := testkit.OpenSSH(t)
	line, over := overLine(t, s, testkit.LineWeather{})
	content := bytes.Repeat([]byte("oak and elm "), 500_000)
	u, err := over.Create(t.Context(), "packs/1", backend.Options{Owner: "a"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := u.Write(content[:2_000_000]); err != nil {
		t.Fatal(err)
	}
	line.Silence()
	if _, err = u.Write(content[2_000_000:]); err == nil {
		err = u.Commit(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	got, err := backend.Get(t.Context(), over, "packs/1", int64(len(content)))
	if err != nil || !bytes.Equal(got, content) || line.Dialled() != 2 {
		t.Errorf("%d bytes over %d connections: %v", len(got), line.Dialled(), err)
	}
}

// TestSlowLine: a line on which what is on its way takes long isn't taken for a dead one.
func TestSlowLine(t *testing.T) {
	s := testkit.OpenSSH(t)
	line, f := overLine(t, s, testkit.LineWeather{Rate: 50_000})
	content := bytes.Repeat([]byte("oak and elm "), 140_000) // 34 s, of which 1 MiB, 21 s, is on its way
	if err := backend.Put(t.Context(), f, "packs/1", content, backend.Options{Owner: "a"}, nil); err != nil {
		t.Fatal(err)
	}
	if n := line.Dialled(); n != 1 {
		t.Errorf("%d connections were made", n)
	}
}
