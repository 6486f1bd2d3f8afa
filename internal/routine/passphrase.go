package routine

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
)

// Keeper is where a passphrase is kept for work that nobody attends.
type Keeper string

// The keepers.
const (
	InFile       Keeper = "file"       // that only its owner can read
	InCredential Keeper = "credential" // of the service that systemd started, by its name
	InRoutine    Keeper = "kept"       // with the routine itself
)

// Source is where a passphrase comes from; of what it is, nothing is known before it is tried.
type Source struct {
	Keeper Keeper
	Name   string // InFile: whole path; InCredential: name
}

// String is as the text has it.
func (s Source) String() string { return strings.TrimSpace(string(s.Keeper) + " " + s.Name) }

const (
	secretFile = "passphrase"
	// mostSecret bounds a passphrase that is read.
	mostSecret = 4 << 10
	// credentials names the folder in which systemd gives a service its credentials (systemd.exec(5), "Credentials").
	credentials = "CREDENTIALS_DIRECTORY"
)

// ParseSource reads where a passphrase comes from.
func ParseSource(value string) (Source, error) {
	keeper, name, _ := strings.Cut(value, " ")
	s := Source{Keeper(strings.ToLower(keeper)), strings.TrimSpace(name)}
	switch {
	case s.Keeper == InFile && filepath.IsAbs(s.Name), s.Keeper == InRoutine && s.Name == "":
		return s, nil
	case s.Keeper == InCredential && s.Name != "" && !strings.ContainsAny(s.Name, "/ ") && s.Name[0] != '.':
		return s, nil
	}
	return s, fmt.Errorf("%q isn't known; possible are \"file /etc/oak.pass\", \"credential twinshelf.oak\" and "+
		"\"kept\"", value)
}

// passphrase takes where one comes from.
func (r *Routine) passphrase(value string) error {
	s, err := ParseSource(value)
	r.Passphrases = append(r.Passphrases, s)
	return err
}

// Passphrase reads a passphrase of a routine. Files that others can read are refused.
func (b *Book) Passphrase(r *Routine, s Source) ([]byte, error) {
	return ReadSecret(s, b.path(r.Name, secretFile))
}

// KeepPassphrase keeps a passphrase with a routine; an empty one forgets it.
func (b *Book) KeepPassphrase(name string, p []byte) error {
	return KeepSecret(b.path(name, secretFile), p)
}

// KeepSecret keeps a secret in a file for its owner alone; an empty one removes it.
func KeepSecret(path string, p []byte) error {
	if len(p) == 0 {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s can't be forgotten: %w", path, err)
		}
		return durable.SyncFolder(filepath.Dir(path))
	}
	if err := durable.Replace(path, append(bytes.Clone(p), '\n')); err != nil {
		return fmt.Errorf("%s can't be kept: %w", path, err)
	}
	return nil
}

// OpenToOthersError means that others than its owner can read, or change, a file with a secret.
type OpenToOthersError struct{ Path string }

func (e *OpenToOthersError) Error() string {
	return fmt.Sprintf("%s isn't used, since others than you and root can read it or put another one there: \"chmod "+
		"600\" and \"chown\" make it yours alone", e.Path)
}

// ReadSecret reads the first line of what a source names; kept is the file of a kept one. A file that others than its
// owner, who is this person or root, can read is an OpenToOthersError.
func ReadSecret(s Source, kept string) ([]byte, error) {
	path := s.Name
	switch s.Keeper {
	case InRoutine:
		path = kept
	case InCredential:
		dir := os.Getenv(credentials)
		if dir == "" {
			return nil, fmt.Errorf("the credential %s can't be had: systemd gives it only to what it starts, and "+
				"didn't start this", s.Name)
		}
		path = filepath.Join(dir, s.Name)
	}
	p, err := readSecret(path, s.Keeper == InCredential)
	switch {
	case errors.Is(err, fs.ErrNotExist) && s.Keeper == InRoutine:
		return nil, errors.New("no passphrase is kept: \"twinshelf routine passphrase NAME\" keeps one")
	case errors.Is(err, fs.ErrNotExist) && s.Keeper == InCredential:
		return nil, fmt.Errorf("systemd has no credential %s for this: lay it into /etc/credstore.encrypted "+
			"(systemd-creds encrypt)", s.Name)
	}
	return p, err
}

// readSecret reads a file; who may read a credential is systemd's own care.
func readSecret(path string, credential bool) ([]byte, error) {
	before, err := os.Stat(path)
	if err == nil && !before.Mode().IsRegular() { // opening another kind could wait for ever
		return nil, fmt.Errorf("the passphrase can't be read: %s is no file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("the passphrase can't be read: %w", err)
	}
	defer f.Close()
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return nil, fmt.Errorf("the passphrase can't be read: %s: %w", path, err)
	}
	if !credential && (st.Mode&0o077 != 0 || st.Uid != 0 && int(st.Uid) != os.Geteuid()) {
		return nil, &OpenToOthersError{path}
	}
	b, err := io.ReadAll(io.LimitReader(f, mostSecret))
	if err != nil {
		return nil, fmt.Errorf("the passphrase can't be read: %s: %w", path, err)
	}
	line, _, _ := bytes.Cut(b, []byte("\n"))
	if line = bytes.TrimRight(line, "\r"); len(line) == 0 {
		return nil, fmt.Errorf("the passphrase can't be read: %s begins with an empty line", path)
	}
	return line, nil
}
