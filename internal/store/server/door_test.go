package server

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/store/door"
	"twinshelf/internal/testkit"
)

// served is a door that listens.
type served struct {
	dir, keys string
	at        Address
	log       *lines
}

// lines take a log.
type lines struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// atDoor starts a door without keys.
func atDoor(t *testing.T) *served {
	t.Helper()
	return atDoorOn(t, "127.0.0.1")
}

// atDoorOn starts one on an address of this machine, or of the other end of a cable.
func atDoorOn(t *testing.T, at string) *served {
	t.Helper()
	testkit.Need(t, "ssh-keygen")
	s := &served{dir: filepath.Join(t.TempDir(), "srv"), keys: filepath.Join(t.TempDir(), "keys"), log: new(lines)}
	if err := errors.Join(os.Mkdir(s.dir, 0o700), os.WriteFile(s.keys, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	host, err := door.HostKey(filepath.Join(filepath.Dir(s.keys), "host"))
	if err != nil {
		t.Fatal(err)
	}
	d, err := door.New(s.dir, door.NewLog(s.log))
	if err != nil {
		t.Fatal(err)
	}
	on, err := net.Listen("tcp", at+":0")
	if err != nil {
		t.Fatal(err)
	}
	s.at = Address{User: "tam", Host: at, Port: on.Addr().(*net.TCPAddr).Port, Path: "/oak"}
	ctx, end := context.WithCancel(context.Background())
	over := make(chan error)
	go func() { over <- (&door.Listener{Door: d, Keys: s.keys, Host: host}).Serve(ctx, on) }()
	t.Cleanup(func() {
		end()
		if err := <-over; err != nil {
			t.Error(err)
		}
	})
	return s
}

// person makes a person's folder with a key that the door knows.
func (s *served) person(t *testing.T, k door.Key) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), ".ssh")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "id_ed25519"))
	public, err := os.ReadFile(filepath.Join(dir, "id_ed25519.pub"))
	if err != nil {
		t.Fatal(err)
	}
	line, err := k.Line(string(public))
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(s.keys, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteString(line + "\n")
	}
	if err = errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	return dir
}

// trusting says yes to every server.
var trusting = Asks{Trust: func(context.Context, string, string) bool { return true }}

func (s *served) open(t *testing.T, person string) *Folder {
	t.Helper()
	f, err := Open(s.at, person, trusting, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func TestDoorConforms(t *testing.T) { doorConforms(t, atDoor(t)) }

// TestDoorConformsOverBadLine: so does one over a line that is cut again and again.
func TestDoorConformsOverBadLine(t *testing.T) {
	s := atDoor(t)
	line := testkit.NewLine(t, net.JoinHostPort(s.at.Host, strconv.Itoa(s.at.Port)),
		testkit.LineWeather{Delay: time.Millisecond, CutEvery: 3_000_000})
	host, port, err := net.SplitHostPort(line.Addr)
	if err != nil {
		t.Fatal(err)
	}
	s.at.Host = host
	if s.at.Port, err = strconv.Atoi(port); err != nil {
		t.Fatal(err)
	}
	doorConforms(t, s)
}

func doorConforms(t *testing.T, s *served) {
	t.Helper()
	person := s.person(t, door.Key{Name: "desk", Right: door.Keep})
	n := 0
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		n++
		at := s.at
		at.Path = fmt.Sprint("/oak", n)
		return func() backend.Backend {
			f, err := Open(at, person, trusting, nil)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			return f
		}
	})
}

// puts puts an object, and gives what became of it.
func puts(t *testing.T, b backend.Backend, name, content string) error {
	t.Helper()
	return backend.Put(t.Context(), b, name, []byte(content), backend.Options{Owner: "a"}, nil)
}

// TestRights: a key that adds puts what is new, keeps its own locks, and takes nothing away; one that reads changes
// nothing; one that keeps does everything; one that isn't known doesn't come in. The log tells of all of it.
func TestRights(t *testing.T) {
	s := atDoor(t)
	keep := s.open(t, s.person(t, door.Key{Name: "office", Right: door.Keep}))
	add := s.open(t, s.person(t, door.Key{Name: "desk", Right: door.Add}))
	read := s.open(t, s.person(t, door.Key{Name: "kiosk", Right: door.Read}))
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	mustNot := func(what string, err error) {
		t.Helper()
		if !errors.Is(err, fs.ErrPermission) {
			t.Errorf("%s: %v", what, err)
		}
	}
	must("keep: head", puts(t, keep, "head", "the shelf"))
	must("keep: rules", puts(t, keep, "rules.note", "rules"))
	must("keep: lock", puts(t, keep, "locks/1.lock", `{"of":"office"}`))
	must("add: pack", puts(t, add, "packs/1.pack", "a pack"))
	must("add: lock", puts(t, add, "locks/2.lock", "{}"))
	must("add: lock again", puts(t, add, "locks/2.lock", `{"beat":2}`))
	must("add: lock given up", add.Delete(t.Context(), "locks/2.lock"))
	mustNot("add: over its own pack", puts(t, add, "packs/1.pack", "another"))
	mustNot("add: over the head", puts(t, add, "head", "another"))
	mustNot("add: rules", puts(t, add, "retired.note", "retired"))
	mustNot("add: a copy of rules", puts(t, add, "copies/retired.note", "retired"))
	mustNot("add: another's lock", puts(t, add, "locks/1.lock", "{}"))
	mustNot("add: a lock alone", puts(t, add, "locks/3.lock", `{"alone":true}`))
	mustNot("add: a lock that isn't one", puts(t, add, "locks/4.lock", `{"alone":`))
	for _, name := range []string{"packs/1.pack", "head", "rules.note", "locks/1.lock"} {
		mustNot("add: delete "+name, add.Delete(t.Context(), name))
		mustNot("read: delete "+name, read.Delete(t.Context(), name))
	}
	mustNot("read: put", puts(t, read, "packs/2.pack", "x"))
	got, err := backend.Get(t.Context(), read, "packs/1.pack", 100)
	if err != nil || string(got) != "a pack" {
		t.Errorf("read: %q, %v", got, err)
	}
	must("keep: over a pack", puts(t, keep, "packs/1.pack", "another"))
	must("keep: delete", keep.Delete(t.Context(), "packs/1.pack"))
	stranger := filepath.Join(t.TempDir(), ".ssh")
	if err := os.Mkdir(stranger, 0o700); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(stranger, "id_ed25519"))
	var login *LoginError
	if _, err := s.open(t, stranger).List(t.Context(), ""); !errors.As(err, &login) {
		t.Errorf("a key that isn't known: %v", err)
	}
	for _, want := range []string{`"key":"desk"`, `"op":"put","name":"oak/packs/1.pack","bytes":6`,
		`"refused":"this key may only add"`, `"refused":"the key isn't known"`, `"key":"office"`} {
		if !strings.Contains(s.log.String(), want) {
			t.Errorf("the log has no %s", want)
		}
	}
}

// TestThief: whoever has a key that adds, and tries everything that SFTP has, leaves what is there as it is.
func TestThief(t *testing.T) {
	s := atDoor(t)
	keep := s.open(t, s.person(t, door.Key{Name: "office", Right: door.Keep}))
	for _, name := range []string{"head", "packs/1.pack", "twins/desk/1.twin", "locks/9.lock"} {
		if err := puts(t, keep, name, "the only copy of "+name); err != nil {
			t.Fatal(err)
		}
	}
	half, err := keep.Create(t.Context(), "packs/2.pack", backend.Options{Owner: "office"})
	if err == nil {
		_, err = half.Write(bytes.Repeat([]byte("x"), 2*pieceSize))
	}
	if err == nil {
		err = half.Sync(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	thief := s.open(t, s.person(t, door.Key{Name: "desk", Right: door.Add}))
	if _, err := thief.List(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	temps, err := thief.List(t.Context(), backend.TempFolder)
	if err != nil || len(temps) != 1 {
		t.Fatalf("%q, %v", temps, err)
	}
	before := testkit.Do(t, "find", s.dir, "-type", "f", "-printf", "%p %s %m\n")
	c, err := thief.link.get(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	outside := filepath.Join(filepath.Dir(s.dir), "secret")
	if err := os.WriteFile(outside, []byte("not served"), 0o600); err != nil {
		t.Fatal(err)
	}
	tried := steal(c, "/oak/tmp/"+temps[0])
	for what, err := range tried {
		if err == nil {
			t.Errorf("%s: it went through", what)
		}
	}
	if after := testkit.Do(t, "find", s.dir, "-type", "f", "-printf", "%p %s %m\n"); after != before {
		t.Errorf("it isn't as it was:\n%s\n%s", before, after)
	}
	if got, err := backend.Get(t.Context(), keep, "packs/1.pack", 100); err != nil ||
		string(got) != "the only copy of packs/1.pack" {
		t.Errorf("%q, %v", got, err)
	}
	if err := half.Commit(t.Context()); err != nil {
		t.Errorf("the other one's work: %v", err)
	}
}

// steal tries everything, and gives what became of it.
func steal(c *sftp.Client, temp string) map[string]error {
	const pack, twin = "/oak/packs/1.pack", "/oak/twins/desk/1.twin"
	out := map[string]error{
		"remove a pack": c.Remove(pack), "remove a twin": c.Remove(twin), "remove the head": c.Remove("/oak/head"),
		"remove a lock": c.Remove("/oak/locks/9.lock"), "remove another's work": c.Remove(temp),
		"truncate": c.Truncate(pack, 0), "rename a pack": c.Rename(pack, "/oak/packs/0.pack"),
		"rename into tmp":   c.Rename(pack, "/oak/tmp/mine"),
		"replace by a pack": c.PosixRename(pack, twin), "take another's work": c.Rename(temp, "/oak/packs/7.pack"),
		"replace by another's work": c.PosixRename(temp, pack), "link a pack into tmp": c.Link(pack, "/oak/tmp/link"),
		"symbolic link": c.Symlink("../../secret", "/oak/tmp/s"), "remove a folder": c.RemoveDirectory("/oak/packs"),
		"rename a folder": c.Rename("/oak/packs", "/oak/lost"), "empty a folder": c.RemoveAll("/oak/packs"),
		"a folder where rules would be": c.Mkdir("/oak/rules.note"), "a folder of its own": c.Mkdir("/oak/mine"),
	}
	for what, flags := range map[string]int{"write": os.O_WRONLY, "append": os.O_WRONLY | os.O_APPEND,
		"truncate by opening": os.O_WRONLY | os.O_TRUNC, "create": os.O_RDWR | os.O_CREATE | os.O_TRUNC} {
		for _, name := range []string{pack, twin, "/oak/head", temp, "/oak/new", "/oak/packs/new.pack"} {
			f, err := c.OpenFile(name, flags)
			if err == nil {
				_, err = f.WriteAt([]byte("gone"), 0)
				err = errors.Join(err, f.Close())
			}
			out[what+" "+name] = err
		}
	}
	for _, name := range []string{"/../secret", "/oak/../../secret", "../secret"} {
		f, err := c.Open(name)
		if err == nil {
			_, err = io.ReadAll(f)
		}
		out["read "+name] = err
	}
	// What it puts in place it can't change afterwards, by what it has open.
	f, err := c.OpenFile("/oak/tmp/mine", os.O_RDWR|os.O_CREATE)
	if err == nil {
		_, err = f.WriteAt([]byte("as put"), 0)
	}
	out["put in place, and write on"] = func() error {
		if err != nil {
			return nil // then it is this test that fails
		}
		if err := c.Rename("/oak/tmp/mine", "/oak/locks/mine.lock"); err == nil {
			return nil // no lock
		}
		_, err = f.WriteAt([]byte("changed"), 0)
		return errors.Join(err, c.Remove("/oak/tmp/mine"))
	}()
	return out
}

// TestQuota: a key puts no more than it may, others go on, and what it gives up counts no more.
func TestQuota(t *testing.T) {
	s := atDoor(t)
	person := s.person(t, door.Key{Name: "desk", Right: door.Add, Quota: 8 << 20})
	add := s.open(t, person)
	if err := puts(t, add, "packs/1.pack", strings.Repeat("x", 5<<20)); err != nil {
		t.Fatal(err)
	}
	if err := puts(t, add, "packs/2.pack", strings.Repeat("x", 5<<20)); !backend.IsFull(err) {
		t.Errorf("beyond the quota: %v", err)
	}
	again := s.open(t, person) // what was put is counted anew
	if free, err := again.Free(t.Context()); err != nil || free > 3<<20 || free < 2<<20 {
		t.Errorf("%d bytes are free, %v", free, err)
	}
	if err := puts(t, again, "packs/2.pack", strings.Repeat("x", 2<<20)); err != nil {
		t.Errorf("within what is left: %v", err)
	}
	other := s.open(t, s.person(t, door.Key{Name: "office", Right: door.Add}))
	if err := puts(t, other, "packs/3.pack", strings.Repeat("x", 9<<20)); err != nil {
		t.Errorf("another key: %v", err)
	}
}

// TestQuotaTogether: many visits of a key at once put no more than it may.
func TestQuotaTogether(t *testing.T) {
	s := atDoor(t)
	person := s.person(t, door.Key{Name: "desk", Right: door.Add, Quota: 8 << 20})
	var all sync.WaitGroup
	for i := range 6 {
		f := s.open(t, person)
		if _, err := f.List(t.Context(), ""); err != nil { // all come in before any of them puts something
			t.Fatal(err)
		}
		all.Go(func() {
			_ = backend.Put(t.Context(), f, fmt.Sprintf("packs/%d.pack", i), make([]byte, 3<<20), backend.Options{},
				nil)
		})
	}
	all.Wait()
	packs, err := os.ReadDir(filepath.Join(s.dir, "oak", "packs"))
	if err != nil || len(packs) > 2 {
		t.Errorf("%d packs of 3 MiB are there, %v", len(packs), err)
	}
}

// TestLinked: a file that is in place already, and in tmp too since the server lost power in between, isn't written to.
func TestLinked(t *testing.T) {
	s := atDoor(t)
	add := s.open(t, s.person(t, door.Key{Name: "desk", Right: door.Add}))
	if err := puts(t, add, "packs/1.pack", "a pack"); err != nil {
		t.Fatal(err)
	}
	pack := filepath.Join(s.dir, "oak", "packs", "1.pack")
	if err := os.Link(pack, filepath.Join(s.dir, "oak", "tmp", "left")); err != nil {
		t.Fatal(err)
	}
	c, err := add.link.get(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	f, err := c.OpenFile("/oak/tmp/left", os.O_RDWR)
	if err == nil {
		_, err = f.WriteAt([]byte("gone"), 0)
	}
	if got, _ := os.ReadFile(pack); !errors.Is(err, fs.ErrPermission) || string(got) != "a pack" {
		t.Errorf("it holds %q, %v", got, err)
	}
	if err := c.Remove("/oak/tmp/left"); err != nil {
		t.Errorf("what is left can't be cleared away: %v", err)
	}
}

// TestDoorOfOpenSSH: as the command of a key, OpenSSH serves the same.
func TestDoorOfOpenSSH(t *testing.T) {
	program := filepath.Join(t.TempDir(), "twinshelf")
	testkit.Do(t, "go", "build", "-o", program, "twinshelf/cmd/twinshelf")
	s := testkit.OpenSSH(t)
	dir := t.TempDir()
	public := filepath.Join(s.Person, "id_ed25519.pub")
	line := testkit.Do(t, program, "door", "line", public, "--right", "add", "--name", "desk", "--openssh", dir)
	if err := os.WriteFile(public, []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := Open(Address{User: s.User, Host: s.Host, Port: s.Port, Path: "/oak"}, s.Person, Asks{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := puts(t, f, "packs/1.pack", "a pack"); err != nil {
		t.Fatal(err)
	}
	if err := f.Delete(t.Context(), "packs/1.pack"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("delete: %v", err)
	}
	if c := f.Concerns(t.Context(), true); len(c) > 0 {
		t.Errorf("concerns: %q", c)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "oak", "packs", "1.pack")); err != nil || string(b) != "a pack" {
		t.Errorf("%q, %v", b, err)
	}
}

// TestKeyLines: what is wrong with a line of a file of keys is said with the line; nobody comes in by a guess.
func TestKeyLines(t *testing.T) {
	public, err := ssh.NewPublicKey(ed25519.PublicKey(make([]byte, 32)))
	if err != nil {
		t.Fatal(err)
	}
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	for line, says := range map[string]string{
		key + " desk":                          "needs a right",
		"add,keep " + key + " desk":            "one right",
		"add " + key:                           "needs a name",
		"add,command=\"sh\" " + key + " desk":  "isn't known",
		"add,quota=\"lots\" " + key + " desk":  "not a size",
		"add,folder=\"../x\" " + key + " desk": "isn't a folder below",
		"add desk":                             "no key",
	} {
		file := filepath.Join(t.TempDir(), "keys")
		if err := os.WriteFile(file, []byte("# the keys\n\n"+line+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		var at *door.LineError
		if err := door.CheckKeys(file); !errors.As(err, &at) || at.Line != 3 || !strings.Contains(at.Says, says) {
			t.Errorf("%s: %v", strconv.Quote(line), err)
		}
	}
}
