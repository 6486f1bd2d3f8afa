package testkit

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// SSHServer is a real OpenSSH server of the test.
type SSHServer struct {
	Host string // 127.0.0.1 unless it was said otherwise
	Port int
	User string
	// Person is a folder like ~/.ssh with a key that the server takes and the server's own key.
	Person string
	config string
	t      testing.TB
	cmd    *exec.Cmd
}

// OpenSSH starts a server on this machine, which serves its files by SFTP.
func OpenSSH(t testing.TB, lines ...string) *SSHServer {
	t.Helper()
	return OpenSSHOn(t, "127.0.0.1", lines...)
}

// OpenSSHOn starts a server on one of the addresses of this machine, or of the other end of a Cable.
func OpenSSHOn(t testing.TB, host string, lines ...string) *SSHServer {
	t.Helper()
	Root(t)
	Need(t, "sshd", "ssh-keygen", "pgrep")
	dir := t.TempDir()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	s := &SSHServer{Host: host, User: me.Username, Person: filepath.Join(dir, "home", ".ssh"), t: t,
		config: filepath.Join(dir, "sshd_config")}
	if err := os.MkdirAll(s.Person, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{filepath.Join(dir, "host"), filepath.Join(s.Person, "id_ed25519")} {
		Do(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
	}
	l, err := net.Listen("tcp", s.Host+":0")
	if err != nil {
		t.Fatal(err)
	}
	s.Port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	s.Known(dir)
	text := fmt.Sprintf("Port %d\nListenAddress %s\nHostKey %s/host\nAuthorizedKeysFile %s/id_ed25519.pub\nUsePAM no\n"+
		"StrictModes no\nPidFile none\nPermitRootLogin yes\nMaxStartups 100\nSubsystem sftp "+
		"internal-sftp\n%s\n", s.Port,
		s.Host, dir, s.Person, strings.Join(lines, "\n"))
	if err := os.WriteFile(s.config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // which it wants to be there
		t.Fatal(err)
	}
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

// Known writes down the server's key, as one who was there before has it.
func (s *SSHServer) Known(dir string) {
	s.t.Helper()
	key, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	if err != nil {
		s.t.Fatal(err)
	}
	line := fmt.Sprintf("[%s]:%d %s", s.Host, s.Port, key)
	if err := os.WriteFile(filepath.Join(s.Person, "known_hosts"), []byte(line), 0o600); err != nil {
		s.t.Fatal(err)
	}
}

// KnownAt has the server known at another place too: that of a line to it.
func (s *SSHServer) KnownAt(place string) {
	s.t.Helper()
	_, port, err := net.SplitHostPort(place)
	if err != nil {
		s.t.Fatal(err)
	}
	known := filepath.Join(s.Person, "known_hosts")
	text, err := os.ReadFile(known)
	if err == nil {
		text = append(text, strings.ReplaceAll(string(text), "]:"+strconv.Itoa(s.Port)+" ", "]:"+port+" ")...)
		err = os.WriteFile(known, text, 0o600)
	}
	if err != nil {
		s.t.Fatal(err)
	}
}

// Start starts the server and returns once it answers.
func (s *SSHServer) Start() {
	s.t.Helper()
	program, err := Path("sshd")
	if err != nil {
		s.t.Fatal(err)
	}
	s.cmd = exec.Command(program, "-D", "-e", "-f", s.config)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
		if err == nil {
			c.Close()
			return
		}
		if time.Now().After(end) {
			s.t.Fatalf("sshd doesn't answer: %v", err)
		}
	}
}

// Stop kills the server with all its connections.
func (s *SSHServer) Stop() {
	if s.cmd == nil {
		return
	}
	_ = syscall.Kill(s.cmd.Process.Pid, syscall.SIGSTOP) // it begins no other session meanwhile
	killBelow(s.cmd.Process.Pid)
	_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
	_ = s.cmd.Wait()
	s.cmd = nil
}

// killBelow kills all that a process began: each connection has sessions of its own, in sessions of the system's.
func killBelow(pid int) {
	said, _ := Try("pgrep", "-P", strconv.Itoa(pid)) // it fails where there is none
	for _, text := range strings.Fields(said) {
		if child, err := strconv.Atoi(text); err == nil {
			killBelow(child)
			_ = syscall.Kill(child, syscall.SIGKILL)
		}
	}
}
