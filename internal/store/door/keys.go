package door

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"twinshelf/internal/sizes"
)

// mostKeys bounds a file of keys, in bytes.
const mostKeys = 1 << 20

// LineError is a line of a file of keys that can't be understood.
type LineError struct {
	File string
	Line int
	Says string
}

func (e *LineError) Error() string { return fmt.Sprintf("%s, line %d: %s", e.File, e.Line, e.Says) }

// known is a key that is let in.
type known struct {
	public ssh.PublicKey
	key    Key
}

// readKeys reads a file of keys: lines as of authorized_keys(5), sshd(8), whose options are a right and, where wanted,
// quota="…" and folder="…", and whose comment is the key's name.
func readKeys(file string) ([]known, error) {
	st, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if st.Size() > mostKeys {
		return nil, fmt.Errorf("%s is larger than %d bytes", file, mostKeys)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var out []known
	for i, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		k, err := parseLine(line)
		if err != nil {
			return nil, &LineError{file, i + 1, err.Error()}
		}
		out = append(out, k)
	}
	return out, nil
}

func parseLine(line string) (k known, err error) {
	public, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil || len(bytes.TrimSpace(rest)) > 0 {
		return k, errors.New("it is no key as OpenSSH writes them, after the right and other options")
	}
	k = known{public, Key{Name: strings.Join(strings.Fields(comment), "-")}}
	for _, o := range options {
		name, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"`)
		switch name {
		case "read", "add", "keep":
			if k.key.Right != 0 {
				return k, errors.New("a key has one right")
			}
			k.key.Right, err = ParseRight(name)
		case "quota":
			k.key.Quota, err = ParseQuota(value)
		case "folder":
			k.key.Folder = value
		default:
			return k, fmt.Errorf("%q isn't known: read, add or keep, quota=\"50 GB\" and folder=\"oak\" can stand "+
				"there",
				name)
		}
		if err != nil {
			return k, err
		}
	}
	return k, k.key.check()
}

// ParseQuota reads a quota, in bytes.
func ParseQuota(text string) (int64, error) {
	size, err := sizes.Parse(text, sizes.Room{})
	return size.Bytes, err
}

// Line is the line of a file of keys that lets a key in; public is its line as OpenSSH writes it.
func (k Key) Line(public string) (string, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public))
	if err != nil {
		return "", errors.New("it is no public key as OpenSSH writes them")
	}
	if err := k.check(); err != nil {
		return "", err
	}
	options := k.Right.String()
	if k.Quota > 0 {
		options += fmt.Sprintf(",quota=\"%d B\"", k.Quota)
	}
	if k.Folder != "" {
		options += fmt.Sprintf(",folder=%q", k.Folder)
	}
	return options + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " " + k.Name, nil
}

// ForOpenSSH is the line of an authorized_keys of OpenSSH that has program serve a folder to a key, and nothing else.
func (k Key) ForOpenSSH(public, program, folder string) (string, error) {
	line, err := k.Line(public)
	if err != nil {
		return "", err
	}
	if strings.ContainsAny(program+folder+k.Folder, "\"'\\\n") {
		return "", errors.New("such a line can't hold quotes and backslashes")
	}
	command := fmt.Sprintf("'%s' door session '%s' --name %s --right %s", program, folder, k.Name, k.Right)
	if k.Quota > 0 {
		command += fmt.Sprintf(" --quota '%d B'", k.Quota)
	}
	if k.Folder != "" {
		command += fmt.Sprintf(" --folder '%s'", k.Folder)
	}
	_, public, _ = strings.Cut(line, " ")
	return fmt.Sprintf("restrict,command=\"%s\" %s", command, public), nil
}

// find gives the key that somebody shows.
func find(keys []known, shown ssh.PublicKey) (Key, bool) {
	for _, k := range keys {
		if k.public.Type() == shown.Type() && bytes.Equal(k.public.Marshal(), shown.Marshal()) {
			return k.key, true
		}
	}
	return Key{}, false
}
