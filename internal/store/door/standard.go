package door

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// standard is standard input and output as a connection.
type standard struct{}

// Standard gives that connection, as OpenSSH starts a command with.
func Standard() io.ReadWriteCloser { return standard{} }

func (standard) Read(p []byte) (int, error)  { return os.Stdin.Read(p) }
func (standard) Write(p []byte) (int, error) { return os.Stdout.Write(p) }
func (standard) Close() error                { return errors.Join(os.Stdin.Close(), os.Stdout.Close()) }

// From is where a visit comes from, by what OpenSSH says (ssh(1), SSH_CONNECTION).
func From(connection string) string {
	f := strings.Fields(connection)
	if len(f) < 2 {
		return ""
	}
	return f[0] + ":" + f[1]
}

// mostPublic bounds a public key's file, in bytes.
const mostPublic = 64 << 10

// PublicKey reads a public key's file.
func PublicKey(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostPublic))
	return strings.TrimSpace(string(b)), err
}

// NameIn is the name that a public key goes by: its comment, or that of its file.
func NameIn(public, file string) string {
	if f := strings.Fields(public); len(f) > 2 {
		return strings.Join(f[2:], "-")
	}
	return strings.Join(strings.Fields(strings.TrimSuffix(filepath.Base(file), ".pub")), "-")
}
